#include "isodyne/session/tree_proof.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <tuple>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/case_views.h"
#include "isodyne/session/failure_runs.h"

namespace isodyne::session {

using judge::Answer;
using Faults = std::vector<std::int32_t>;

const char* proof_word(Proof proof) {
  switch (proof) {
    case Proof::reaches:
      return "reaches it";
    case Proof::does_not:
      return "does not reach it";
    case Proof::not_together:
      return "not together";
    case Proof::no_fault:
      return "no fault for it";
    case Proof::never_came:
      return "never came";
    default:
      return "no answer";
  }
}

namespace {

constexpr double kMostRuns = 200'000;
constexpr std::size_t kMostCuts = 100'000;

/// What a combination of faults comes to in one scenario.
class Look {
 public:
  Look(const program::Program& p, const program::Hazard& h, const Faults& faults, const FailureRun& healthy,
       const FailureRun& run)
      : p_(p), h_(h), faults_(faults), healthy_(healthy), run_(run) {}

  ProofFinding look() {
    f_.scenario = run_.result.scenario, f_.command = run_.result.command;
    if (healthy_.result.outcome == kNotRun || !healthy_.result.whole || !healthy_.onset)
      return no_answer("the run without the faults gives no answer: " + text_of(healthy_.result));
    if (run_.result.outcome == kNotRun || !run_.onset) return no_answer(text_of(run_.result));
    if (!came()) return std::move(f_);
    requirements();
    if (f_.proof == Proof::reaches) return std::move(f_);
    if (!together()) return std::move(f_);
    if (!run_.result.whole) return no_answer("its run did not come to its end: " + text_of(run_.result));
    if (!open_.empty()) return no_answer(fmt::format("{} not decided when the run ended in {}", open_, f_.scenario));
    if (counted_ == 0)
      return no_answer(
          fmt::format("without the faults none of its requirements is put to the test and held in {}", f_.scenario));
    f_.proof = Proof::does_not;
    if (tested_ == 0) f_.why = "it does not come to that any more";
    return std::move(f_);
  }

 private:
  ProofFinding no_answer(std::string why) {
    f_.proof = Proof::no_answer, f_.why = std::move(why);
    return std::move(f_);
  }
  static std::string text_of(const CaseResult& r) { return r.why.empty() ? r.outcome : r.why; }
  std::string names() const {
    std::string all;
    for (const std::int32_t f : faults_) list_on(all, at(p_.faults, f).name);
    return all;
  }

  bool came() {
    std::string never;
    for (const std::int32_t f : faults_) {
      const auto& began = run_.onset->began;
      const std::string& name = at(p_.faults, f).name;
      if (std::none_of(began.begin(), began.end(), [&](const auto& b) { return b.first == name; }))
        list_on(never, name);
    }
    if (never.empty()) return true;
    f_.proof = Proof::never_came, f_.why = fmt::format("{} never came in {}", never, f_.scenario);
    return false;
  }

  /// The first instant at which all of them acted.
  std::optional<double> all_acted() const {
    for (const auto& together : run_.onset->together) {
      if (std::all_of(faults_.begin(), faults_.end(),
                      [&](std::int32_t f) { return contains(together.first, at(p_.faults, f).name); }))
        return together.second;
    }
    return std::nullopt;
  }

  bool together() {
    if (faults_.size() < 2 || all_acted()) return true;
    f_.proof = Proof::not_together;
    f_.why = fmt::format("{} were never there at the same time in {}", names(), f_.scenario);
    return false;
  }

  void requirements() {
    double least = HUGE_VAL;
    for (const std::int32_t r : h_.broken) {
      const std::string& name = at(p_.requirements, r).name;
      const SummaryRow *row = row_of(run_.result, name), *without = row_of(healthy_.result, name);
      if (row == nullptr || without == nullptr) {
        list_on(open_, name);
        continue;
      }
      if (without->answer == Answer::broken) continue;
      const bool broken = row->answer == Answer::broken;
      // What the scenario never comes to, or leaves open, is nothing that the faults keep from happening. Where it does
      // come to it without them, and with them not any more, the hazard is not reached all the same.
      counted_ += without->answer == Answer::held ? 1 : 0;
      tested_ += row->answer == Answer::held ? 1 : 0;
      // A later one tells more only if it was broken earlier.
      if (broken && (f_.proof != Proof::reaches || earlier(*row))) {
        f_.proof = Proof::reaches, f_.requirement = name, f_.margin = row->margin_text(), f_.at_s = row->first_breach_s;
      }
      const bool undecided = row->answer == Answer::undecided || row->answer == Answer::interrupted;
      if (undecided && row->answer != without->answer) list_on(open_, name);
      if (f_.proof == Proof::reaches || !row->worst_margin) continue;
      const double whole = without->worst_margin.value_or(0);
      const double left = whole > 0 ? *row->worst_margin / whole : HUGE_VAL;
      if (left >= least && !f_.requirement.empty()) continue;
      least = left, f_.requirement = name, f_.margin = row->margin_text();
    }
    const auto acted = all_acted();
    if (f_.proof == Proof::reaches && faults_.size() > 1 && f_.at_s && (!acted || *f_.at_s < *acted))
      f_.why = acted ? "before all of them acted" : "without all of them acting at the same time";
  }
  bool earlier(const SummaryRow& row) const { return row.first_breach_s && f_.at_s && *row.first_breach_s < *f_.at_s; }

  const program::Program& p_;
  const program::Hazard& h_;
  const Faults& faults_;
  const FailureRun &healthy_, &run_;
  ProofFinding f_;
  std::size_t counted_ = 0, tested_ = 0;
  std::string open_;
};

bool has_all(const Faults& faults, const Faults& of) {
  return std::includes(faults.begin(), faults.end(), of.begin(), of.end());
}

class Prover {
 public:
  Prover(ProofWish wish, const trees::FaultTree& tree, const trees::CutSets& sets,
         const std::function<bool(const ProofNews&)>& heard)
      : wish_(std::move(wish)),
        p_(*wish_.bench->program),
        h_(at(p_.hazards, wish_.hazard)),
        tree_(tree),
        sets_(sets),
        heard_(heard) {
    scenarios_ = h_.scenarios;
    if (scenarios_.empty() && p_.scenarios.empty()) scenarios_ = {program::kNone};
  }

  Result<TreeProof> run() {
    if (const auto refused = cannot()) return *refused;
    take_cuts();
    if (proof_.cuts.size() == kMostCuts)
      return wrong(fmt::format("its tree has {} cut sets or more with up to {} events: a smaller --order", kMostCuts,
                               wish_.order));
    wish_.signals = {program::kTime};  // without a signal nobody would note when faults came
    wish_.many = true;
    wish_.jobs = runs_beside(p_, wish_.setting) ? wish_.jobs : 1;
    healthy();
    for (std::size_t n = 1; n <= wish_.order && !proof_.stopped; ++n) round(n);
    for (TreeProof::Cut& c : proof_.cuts) {
      const auto i = static_cast<std::size_t>(&c - proof_.cuts.data());
      if (faults_of_[i].empty())
        c.finding = {Proof::no_fault, "", "", "", {}, "no fault stands for " + without_[i], ""};
      if (c.finding.proof == Proof::reaches) smaller(c);
    }
    return std::move(proof_);
  }

 private:
  Failure wrong(std::string why) const { return {"hazard " + h_.name, "", std::move(why), Failure::Kind::wrong_input}; }

  std::optional<Failure> cannot() const {
    if (h_.broken.empty()) return wrong("it does not say when it is reached: `broken` and a requirement");
    if (scenarios_.empty()) return wrong("it does not say where its causes are tried: `scenario` and names");
    double runs = 1, ways = 1;
    for (std::size_t k = 1; k <= wish_.order; ++k) {
      ways = ways * (static_cast<double>(p_.faults.size()) - static_cast<double>(k) + 1) / static_cast<double>(k);
      runs += std::max(ways, 0.0);
    }
    runs *= static_cast<double>(scenarios_.size());
    if (runs <= kMostRuns) return std::nullopt;
    return wrong(
        fmt::format("{} faults up to {} at a time in {} are {:.0f} runs, and at most {:.0f} are begun: a "
                    "smaller --order",
                    p_.faults.size(), wish_.order, counted(scenarios_.size(), "scenario"), runs, kMostRuns));
  }

  void take_cuts() {
    for (trees::CutSet& set : sets_.up_to(wish_.order, kMostCuts)) proof_.cuts.push_back({std::move(set), {}});
    proof_.beyond = sets_.count() - static_cast<double>(proof_.cuts.size());
    for (TreeProof::Cut& c : proof_.cuts) {
      Faults faults;
      std::string none;
      for (const std::int32_t e : c.set.events) {
        const trees::FaultTree::Event& event = tree_.events[static_cast<std::size_t>(e)];
        const std::int32_t fault = at(p_.basic_events, event.of).fault;
        if (fault == program::kNone)
          list_on(none, event.name);
        else
          faults.push_back(fault);
      }
      std::sort(faults.begin(), faults.end());
      faults.erase(std::unique(faults.begin(), faults.end()), faults.end());
      faults_of_.push_back(std::move(faults));
      without_.push_back(none);
    }
  }

  /// Faults that the scenario brings itself, of these.
  Faults brought(std::int32_t scenario, const Faults& faults) const {
    Faults same;
    for (const std::int32_t f : bench::faults_of(p_, scenario)) {
      if (std::binary_search(faults.begin(), faults.end(), f)) same.push_back(f);
    }
    return same;
  }

  void healthy() {
    for (const std::int32_t s : scenarios_) want(s, {}, {});
    run_wanted(0);
    for (const std::int32_t s : scenarios_) {
      const FailureRun* run = known(s, {}, {});
      if (run == nullptr) continue;
      for (const std::int32_t r : h_.broken) {
        const SummaryRow* row = row_of(run->result, at(p_.requirements, r).name);
        if (row == nullptr || row->answer != Answer::broken) continue;
        proof_.anyway.push_back({Proof::reaches, run->result.scenario, row->name, row->margin_text(),
                                 row->first_breach_s, "", run->result.command});
      }
    }
  }

  /// All that has so many faults.
  void round(std::size_t n) {
    std::vector<Faults> outside;
    Faults one(n);
    combinations(one, 0, 0, outside);
    std::vector<std::size_t> cuts;
    for (std::size_t c = 0; c < proof_.cuts.size(); ++c) {
      if (faults_of_[c].size() == n) cuts.push_back(c);
    }
    for (const std::size_t c : cuts) want(faults_of_[c]);
    for (const Faults& f : outside) want(f);
    run_wanted(n);
    if (proof_.stopped) return;
    for (const std::size_t c : cuts) proof_.cuts[c].finding = without_one(looked(faults_of_[c]), without_[c]);
    for (Faults& f : outside) {
      ProofFinding finding = looked(f);
      ++proof_.outside_counts[finding.proof];
      if (is_inside(f, true) && !is_inside({}, true))
        list_on(finding.why, "in the tree only with an event that no fault stands for", "; ");
      if (finding.proof == Proof::reaches)
        proof_.outside.push_back({std::move(f), std::move(finding)});
      else if (finding.proof == Proof::no_answer)
        proof_.unanswered.push_back({std::move(f), std::move(finding)});
    }
  }

  /// Events without a fault may have happened or not: only where the others reach it alone is something shown.
  static ProofFinding without_one(ProofFinding f, const std::string& missing) {
    if (missing.empty()) return f;
    const bool reaches = f.proof == Proof::reaches;
    list_on(f.why,
            reaches ? fmt::format("without {}, for which no fault stands", missing)
                    : fmt::format("no fault stands for {}; without it: {}", missing, proof_word(f.proof)),
            "; ");
    if (!reaches) f.proof = Proof::no_fault;
    return f;
  }

  void combinations(Faults& one, std::size_t place, std::int32_t from, std::vector<Faults>& found) const {
    if (place == one.size()) {
      if (!is_inside(one) && !has_smaller(one)) found.push_back(one);
      return;
    }
    for (std::int32_t f = from; f < static_cast<std::int32_t>(p_.faults.size()); ++f) {
      one[place] = f;
      combinations(one, place + 1, f + 1, found);
    }
  }

  /// Whether the top is reached by these, and, if `unseen`, by the events that no fault stands for.
  bool is_inside(const Faults& faults, bool unseen = false) const {
    std::vector<bool> happened;
    for (const auto& e : tree_.events) {
      const std::int32_t fault = at(p_.basic_events, e.of).fault;
      happened.push_back(fault == program::kNone ? unseen : std::binary_search(faults.begin(), faults.end(), fault));
    }
    return trees::is_reached(tree_, happened);
  }

  bool has_smaller(const Faults& faults) const {
    return std::any_of(proof_.outside.begin(), proof_.outside.end(),
                       [&](const auto& o) { return has_all(faults, o.faults); });
  }

  // --- runs ---

  using Key = std::tuple<std::int32_t, Faults, Faults>;  // scenario, faults, those of the scenario that do not act

  void want(const Faults& faults) {
    for (const std::int32_t s : scenarios_) {
      if (clash(s, faults)) continue;
      want(s, faults, {});
      if (const Faults own = brought(s, faults); !own.empty()) want(s, {}, own);
    }
  }
  void want(std::int32_t scenario, const Faults& faults, const Faults& without) {
    const Key key{scenario, faults, without};
    if (runs_.contains(key)) return;
    runs_.emplace(key, std::nullopt);
    wanted_.push_back(key);
  }
  const FailureRun* known(std::int32_t scenario, const Faults& faults, const Faults& without) const {
    const auto it = runs_.find({scenario, faults, without});
    return it == runs_.end() || !it->second ? nullptr : &*it->second;
  }

  std::optional<Failure> clash(std::int32_t scenario, const Faults& faults) const {
    return bench::trouble_with(p_, request_of(wish_, {1, scenario, faults, wish_.setting, {}, {}}).plan);
  }

  void run_wanted(std::size_t n) {
    std::vector<Case> cases;
    for (const auto& [scenario, faults, without] : wanted_)
      cases.push_back({static_cast<std::int64_t>(cases.size() + 1), scenario, faults, wish_.setting, {}, without});
    const std::vector<Key> keys = std::move(wanted_);
    wanted_.clear();
    std::size_t done = 0;
    const std::string alone = do_cases(wish_, cases, wish_.jobs, wish_.each_alone,
                                       [&](std::size_t i, CaseResult& result, const CaseNews& news) {
                                         runs_[keys[i]] = FailureRun{std::move(result), news.onset};
                                         ++proof_.runs;
                                         const bool more = heard_({n, ++done, cases.size()});
                                         proof_.stopped = proof_.stopped || (!more && done < cases.size());
                                         return more;
                                       });
    if (proof_.alone.empty()) proof_.alone = alone;
    if (!heard_({n, done, cases.size()})) proof_.stopped = true;
  }

  // --- what they come to ---

  ProofFinding looked(const Faults& faults) const {
    std::vector<ProofFinding> all;
    for (const std::int32_t s : scenarios_) {
      if (const auto trouble = clash(s, faults)) {
        const std::string name = s == program::kNone ? "" : at(p_.scenarios, s).name;
        all.push_back(
            {faults.size() > 1 ? Proof::not_together : Proof::no_answer, name, "", "", {}, trouble->text(), ""});
        continue;
      }
      const FailureRun *healthy = known(s, {}, brought(s, faults)), *run = known(s, faults, {});
      if (healthy != nullptr && run != nullptr) all.push_back(Look(p_, h_, faults, *healthy, *run).look());
    }
    for (const Proof p : {Proof::reaches, Proof::no_answer, Proof::does_not, Proof::not_together, Proof::never_came}) {
      const auto it = std::find_if(all.begin(), all.end(), [&](const ProofFinding& f) { return f.proof == p; });
      if (it == all.end()) continue;
      ProofFinding found = *it;
      // Where the others say less, that is part of the answer.
      for (const ProofFinding& f : all) {
        if (p != Proof::reaches && &f != &*it && f.proof != p) list_on(found.why, f.why, "; ");
      }
      if (p == Proof::does_not) found.why = with_scenarios(all, found.why);
      return found;
    }
    return {};
  }

  /// In how many scenarios it was tried to no effect: one alone is named in its own column.
  static std::string with_scenarios(const std::vector<ProofFinding>& all, std::string why) {
    std::string others;
    for (const ProofFinding& f : all) {
      if (f.proof == Proof::does_not && &f != &all.front()) list_on(others, f.scenario);
    }
    if (all.front().proof == Proof::does_not && !others.empty()) list_on(why, "nor in " + others, "; ");
    return why;
  }

  /// Where fewer of its faults reach the hazard too, it is not minimal.
  void smaller(TreeProof::Cut& c) const {
    const Faults& faults = faults_of_[static_cast<std::size_t>(&c - proof_.cuts.data())];
    for (const TreeProof::Combination& o : proof_.outside) {
      if (o.faults.size() >= faults.size() || !has_all(faults, o.faults)) continue;
      std::string names;
      for (const std::int32_t f : o.faults) list_on(names, at(p_.faults, f).name);
      list_on(c.finding.why, names + " alone reaches it", "; ");
    }
  }

  ProofWish wish_;
  const program::Program& p_;
  const program::Hazard& h_;
  const trees::FaultTree& tree_;
  const trees::CutSets& sets_;
  const std::function<bool(const ProofNews&)>& heard_;
  std::vector<std::int32_t> scenarios_;
  std::vector<Faults> faults_of_;     ///< of each cut set
  std::vector<std::string> without_;  ///< its events that have no fault
  std::map<Key, std::optional<FailureRun>> runs_;
  std::vector<Key> wanted_;
  TreeProof proof_;
};

}  // namespace

Result<TreeProof> prove(ProofWish wish, const trees::FaultTree& tree, const trees::CutSets& sets,
                        const std::function<bool(const ProofNews&)>& heard) {
  return Prover(std::move(wish), tree, sets, heard).run();
}

}  // namespace isodyne::session
