#include "isodyne/session/case_runs.h"

#include <algorithm>
#include <cmath>
#include <csignal>
#include <map>
#include <numeric>
#include <set>
#include <tuple>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/run_folder.h"
#include "isodyne/session/worker.h"

namespace isodyne::session {

using program::Campaign;

namespace {

bool is_among(std::int32_t fault, const std::vector<std::int32_t>& all) {
  return std::find(all.begin(), all.end(), fault) != all.end();
}

// What is said begins with a letter: why there was no run; or that one by itself is wanted; or a line of remarks, one
// of what was met, one of the onset, and the outcome, of a run by itself or of one that went on from a beginning of
// others.
constexpr char kNoRun = '!', kAlone = '?', kItself = '=', kCopied = '>';

/// Looks whether the first instant has what was asked for: a scenario may set something else at once, and the factor
/// would have no effect. What a fault changes then is as it should be.
class FirstInstant : public RunWatcher {
 public:
  explicit FirstInstant(const RunRequest& request) : request_(request), program_(*request.bench->program) {}
  void event(const observe::Event& event) override {
    if (event.kind != observe::EventKind::fault_on || seen_) return;
    for (const std::int32_t tap : program::at(program_.faults, event.subject).taps())
      faulty_.insert(program::at(program_.taps, tap).target);
  }
  void image(const observe::Image& image) override {
    if (seen_) return;
    seen_ = true;
    for (const auto& [id, value] : request_.plan.overrides) {
      if (faulty_.contains(id) || image.variables[id] == value) continue;
      list_on(other_, fmt::format("{} begins with {}, not with {}", program_.variable(id).name,
                                  program_.format(id, image.variables[id]), program_.format(id, value)));
    }
  }
  /// In a line; empty: it has.
  const std::string& other() const { return other_; }

 private:
  const RunRequest& request_;
  const program::Program& program_;
  std::set<program::VarId> faulty_;
  bool seen_ = false;
  std::string other_;
};

/// Keeps some faults from acting, whatever the scenario does.
class Without : public bench::FaultChoice {
 public:
  explicit Without(const std::vector<std::int32_t>& faults) : faults_(faults) {}
  bool has(std::int32_t fault) override { return !is_among(fault, faults_); }
  bool may_have(std::int32_t fault) const override { return !is_among(fault, faults_); }

 private:
  const std::vector<std::int32_t>& faults_;
};

/// Who looks at the run of a case.
class Lookers {
 public:
  Lookers(const CaseSource& source, const RunRequest& request) : first_(request) {
    if (source.items) coverage_.emplace(*source.items, request);
    if (!source.signals.empty()) onset_.emplace(*source.bench->program, source.signals);
  }
  std::vector<RunWatcher*> all(RunWatcher* more = nullptr) {
    std::vector<RunWatcher*> list{&first_};
    if (coverage_) list.push_back(&*coverage_);
    if (onset_) list.push_back(&*onset_);
    if (more != nullptr) list.push_back(more);
    return list;
  }
  std::string said(char how, const RunOutcome& outcome) const {
    return how + one_line(first_.other()) + "\n" + (coverage_ ? coverage_->met() : "") + "\n" +
           (onset_ ? onset_->text() : "") + "\n" + to_json(outcome);
  }

 private:
  FirstInstant first_;
  std::optional<CoverageWatch> coverage_;
  std::optional<OnsetWatch> onset_;
};

/// The cases that this process has in hand, and is at the same time; fewer and fewer.
class Together : public bench::FaultChoice, public RunWatcher {
  using Clock = std::chrono::steady_clock;

 public:
  struct One {
    std::size_t piece = 0;
    const Case* of = nullptr;
    RunRequest request;
    bool has(std::int32_t fault) const { return is_among(fault, request.plan.faults); }
  };
  Together(std::vector<One> cases, Teller& teller) : left_(std::move(cases)), teller_(teller) {}

  void begins(bench::Run& run) override { run_ = &run; }
  bool good() const override { return !left_.empty(); }

  bool has(std::int32_t fault) override {
    const auto without = std::stable_partition(left_.begin(), left_.end(), [&](const One& o) { return o.has(fault); });
    std::vector<One> others(std::make_move_iterator(without), std::make_move_iterator(left_.end()));
    left_.erase(without, left_.end());
    const bool all = others.empty(), none = left_.empty();
    if (none) left_ = std::move(others);
    if (none || all) return !none;
    Side side = Side::none;
    const auto asked = Clock::now();
    const std::string trouble = teller_.stopped() ? "" : not_to_copy();
    if (trouble.empty() && !teller_.stopped()) side = copy_process([](const Broke&) {});
    if (side == Side::copy) {
      copied_ = true;
      begin_ = Clock::now(), waited_ = {};
      if (!run_->copied()) end_copy();
      return true;
    }
    waited_ += Clock::now() - asked;
    for (const One& o : left_) {
      if (!trouble.empty()) teller_.say(o.piece, kAlone + trouble);
    }
    left_ = std::move(others);
    return false;
  }

  bool may_have(std::int32_t fault) const override {
    return std::any_of(left_.begin(), left_.end(), [&](const One& o) { return o.has(fault); });
  }

  const std::vector<One>& left() const { return left_; }
  bool copied() const { return copied_; }
  /// What this process did itself.
  double seconds() const { return std::chrono::duration<double>(Clock::now() - begin_ - waited_).count(); }

 private:
  std::string not_to_copy() const {
    const std::string who = run_->not_to_copy();
    if (!who.empty())
      return fmt::format("controller {} does not say that it can be copied (isodyne_copied in isodyne/controller.h)",
                         who);
    const std::size_t threads = threads_here();
    return threads == 1 ? "" : fmt::format("there are {} threads in its process, and one could be copied", threads);
  }

  std::vector<One> left_;
  Teller& teller_;
  bench::Run* run_ = nullptr;
  bool copied_ = false;
  Clock::time_point begin_ = Clock::now();
  Clock::duration waited_{};
};

/// Whether nothing of a fault is there before it acts: formulas of it that have no value end a run at any time.
bool may_wait(const program::Program& p, std::int32_t fault) {
  return std::none_of(p.watches.begin(), p.watches.end(), [&](const program::Watch& w) { return w.fault == fault; });
}

}  // namespace

const Campaign& CaseSource::factors() const {
  static const Campaign kNone;
  return campaign != kNoCampaign ? bench->program->campaigns[campaign] : own ? *own : kNone;
}

RunRequest request_of(const CaseSource& source, const Case& one) {
  const program::Program& p = *source.bench->program;
  RunRequest r;
  r.bench = source.bench;
  r.answer_within = source.answer_within;
  r.evidence.in_catalogue = false;
  r.among_others = true;
  r.plan.scenario = one.scenario;
  r.plan.faults = one.faults;
  for (const std::int32_t f : bench::faults_of(p, one.scenario)) {
    if (!is_among(f, r.plan.faults)) r.plan.faults.push_back(f);
  }
  r.plan.setting = one.setting;
  r.plan.seed = source.seed;
  r.plan.native = engine::NativeSettings::usual();
  r.plan.wait_for_native = source.many;
  const Campaign& c = source.factors();
  for (std::size_t i = 0; i < one.values.size(); ++i) {
    // A setting of a fault that this case does not have is nothing that it begins with.
    const std::int32_t of = program::fault_of_setting(p, c.varied[i].what);
    if (std::isnan(one.values[i]) || (of != program::kNone && !is_among(of, r.plan.faults))) continue;
    r.plan.overrides.emplace_back(c.varied[i].what, one.values[i]);
  }
  return r;
}

CaseResult described(const CaseSource& source, const Case& one) {
  const program::Program& p = *source.bench->program;
  CaseResult r;
  r.number = one.number;
  r.scenario = program::at(p.scenarios, one.scenario).name;
  for (const std::int32_t f : one.faults) list_on(r.faults, program::at(p.faults, f).name);
  r.setting = one.setting;
  r.command = repeat_command(identity_of(request_of(source, one)));
  for (std::size_t i = 0; i < one.values.size(); ++i) {
    const program::Variable& v = p.variable(source.factors().varied[i].what);
    r.values.push_back(v.type.kind == program::Type::Kind::real ? v.unit.read(one.values[i]) : one.values[i]);
  }
  return r;
}

std::string do_case(const CaseSource& source, const Case& one, const std::string& folder) {
  std::signal(SIGINT, SIG_IGN);  // whoever watches over the whole is told, and lets this one come to its end
  RunRequest request = request_of(source, one);
  if (!folder.empty()) {
    const auto made = make_run_folder(folder, "");
    if (!made) return kNoRun + made.failure().text();
    request.evidence.folder = *made;
  }
  if (const auto trouble = bench::trouble_with(*source.bench->program, request.plan)) return kNoRun + trouble->text();
  Lookers lookers(source, request);
  Without without(one.without);
  if (!one.without.empty()) request.plan.choice = &without;
  const RunOutcome outcome = run_here(request, lookers.all());
  return lookers.said(kItself, outcome);
}

std::vector<Task> together(const CaseSource& source, const std::vector<Case>& cases, std::size_t workers) {
  const program::Program& p = *source.bench->program;
  // One has what all of them have in common: also the faults that are there from the beginning.
  std::map<std::tuple<std::int32_t, std::string, std::vector<double>, std::vector<std::int32_t>>, Task> same;
  std::vector<Task> tasks;
  for (std::size_t i = 0; i < cases.size(); ++i) {
    const Case& c = cases[i];
    if (!c.without.empty()) {
      tasks.push_back({i});
      continue;
    }
    std::vector<std::int32_t> fixed;
    for (const std::int32_t f : c.faults) {
      if (!may_wait(p, f)) fixed.push_back(f);
    }
    std::sort(fixed.begin(), fixed.end());
    std::vector<double> values = c.values;
    std::replace_if(values.begin(), values.end(), [](double v) { return std::isnan(v); }, HUGE_VAL);
    same[{c.scenario, c.setting, values, fixed}].push_back(i);
  }
  // Enough tasks for all workers, to the end; each begins anew, so not too small either.
  constexpr std::size_t kTasksEach = 4, kLeast = 8;
  const std::size_t most = std::max(kLeast, cases.size() / (kTasksEach * workers) + 1);
  for (const auto& [key, all] : same) {
    for (std::size_t at = 0; at < all.size(); at += most)
      tasks.emplace_back(all.begin() + static_cast<std::ptrdiff_t>(at),
                         all.begin() + static_cast<std::ptrdiff_t>(std::min(at + most, all.size())));
  }
  std::sort(tasks.begin(), tasks.end());
  return tasks;
}

void do_together(const CaseSource& source, const std::vector<Case>& cases, const Task& task, Teller& teller) {
  std::signal(SIGINT, SIG_IGN);
  if (task.size() == 1) return void(teller.say(task[0], do_case(source, cases[task[0]], "")));
  const program::Program& p = *source.bench->program;
  std::vector<Together::One> possible;
  for (const std::size_t i : task) {
    Together::One one{i, &cases[i], request_of(source, cases[i])};
    if (const auto trouble = bench::trouble_with(p, one.request.plan))
      teller.say(i, kNoRun + trouble->text());
    else
      possible.push_back(std::move(one));
  }
  if (possible.empty()) return;
  RunRequest request = possible[0].request;
  request.plan.faults.clear();
  for (const Together::One& one : possible) {
    // Settings of a fault are given by those that have it, and are nothing to the others.
    for (const auto& given : one.request.plan.overrides) {
      auto& all = request.plan.overrides;
      if (std::none_of(all.begin(), all.end(), [&](const auto& g) { return g.first == given.first; }))
        all.push_back(given);
    }
    for (const std::int32_t f : one.request.plan.faults) {
      if (!is_among(f, request.plan.faults)) request.plan.faults.push_back(f);
    }
  }
  Lookers lookers(source, request);
  Together choice(std::move(possible), teller);
  request.plan.choice = &choice;
  request.plan.wait_for_native = true;  // the compiler would be a thread beside it
  RunOutcome outcome = run_here(request, lookers.all(&choice));
  std::set<std::string> came;
  if (outcome.summary) {
    for (const std::int32_t f : request.plan.faults) came.insert(program::at(p.faults, f).name);
    for (const std::string& f : outcome.summary->not_injected) came.erase(f);
  }
  for (const Together::One& one : choice.left()) {
    if (outcome.summary) {
      outcome.summary->wall_seconds = choice.seconds() / static_cast<double>(choice.left().size());
      outcome.summary->not_injected.clear();
      for (const std::int32_t f : one.request.plan.faults) {
        const std::string& name = program::at(p.faults, f).name;
        if (!came.contains(name)) outcome.summary->not_injected.push_back(name);
      }
    }
    teller.say(one.piece, lookers.said(choice.copied() ? kCopied : kItself, outcome));
  }
  if (choice.copied()) end_copy();
}

void take_outcome(const RunOutcome& outcome, CaseResult& r) {
  if (!outcome.summary) return void(r.why = outcome.why());
  r.outcome = outcome.summary->outcome();
  r.whole = outcome.completed() && outcome.summary->lost.empty();
  if (!observe::as_asked(outcome.ending)) list_on(r.why, outcome.why(), "; ");
  r.simulated_s = outcome.summary->ended_at_s;
  r.wall_s = outcome.summary->wall_seconds;
  r.rows = outcome.summary->rows;
  r.measures = outcome.summary->measures;
}

CaseNews read_case(const Piece& piece, CaseResult& r) {
  r.outcome = kNotRun;
  r.why = piece.said;
  if (!piece.done || piece.said.empty()) return {};
  const char how = piece.said[0];
  const std::string rest = piece.said.substr(1);
  if (how == kAlone) return {true, false, rest, {}};
  r.why = rest;
  if (how == kNoRun) return {};
  const std::size_t line = std::min(rest.find('\n'), rest.size() - 1);
  const std::size_t second = std::min(rest.find('\n', line + 1), rest.size() - 1);
  const std::size_t third = std::min(rest.find('\n', second + 1), rest.size() - 1);
  r.met = rest.substr(line + 1, second - line - 1);
  const auto outcome = read_outcome(rest.substr(third + 1));
  if (!outcome) return r.why = outcome.failure().text(), CaseNews{};
  r.why = rest.substr(0, line);
  take_outcome(*outcome, r);
  if (!outcome->summary) return {};
  return {false, how == kCopied, "", read_onset(rest.substr(second + 1, third - second - 1))};
}

namespace {

/// Gives those of them that have to be run by themselves, and why.
std::pair<std::vector<std::size_t>, std::string> shared(
    const CaseSource& source, const std::vector<Case>& cases, std::size_t jobs,
    const std::function<bool(std::size_t, CaseResult&, const CaseNews&)>& take) {
  std::vector<std::size_t> left(cases.size());
  std::iota(left.begin(), left.end(), std::size_t{0});
  const std::vector<Task> tasks = together(source, cases, workers_of(jobs));
  if (tasks.size() == cases.size()) return {left, ""};
  std::set<std::size_t> done, alone;
  for (const Task& t : tasks) {
    if (t.size() == 1) alone.insert(t[0]);
  }
  std::string why;
  in_workers(
      cases.size(), tasks, jobs, [&](const Task& task, Teller& teller) { do_together(source, cases, task, teller); },
      [&](std::size_t i, Piece& piece) {
        CaseResult result = described(source, cases[i]);
        const CaseNews news = read_case(piece, result);
        if (news.alone) why = news.why;
        if (news.alone) return false;                        // nor could others
        if (!piece.done && !alone.contains(i)) return true;  // its turn comes again
        done.insert(i);
        piece.said = {};
        return take(i, result, news);
      });
  std::erase_if(left, [&](std::size_t i) { return done.contains(i); });
  return {left, why};
}

}  // namespace

std::string do_cases(const CaseSource& source, const std::vector<Case>& cases, std::size_t jobs, bool each_alone,
                     const std::function<bool(std::size_t, CaseResult&, const CaseNews&)>& take) {
  bool more = true;
  const auto taken = [&](std::size_t i, CaseResult& result, const CaseNews& news) {
    return more = take(i, result, news) && more;
  };
  std::vector<std::size_t> left(cases.size());
  std::iota(left.begin(), left.end(), std::size_t{0});
  std::string why;
  if (!each_alone) std::tie(left, why) = shared(source, cases, jobs, taken);
  if (left.empty() || !more) return why;
  in_workers(
      left.size(), jobs, [&](std::size_t i) { return do_case(source, cases[left[i]], ""); },
      [&](std::size_t i, Piece& piece) {
        CaseResult result = described(source, cases[left[i]]);
        const CaseNews news = read_case(piece, result);
        piece.said = {};
        return taken(left[i], result, news);
      });
  return why;
}

}  // namespace isodyne::session
