#include "isodyne/session/search.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "isodyne/session/asked_optimizer.h"
#include "isodyne/session/case_views.h"

namespace isodyne::session {

using judge::Answer;
using program::Program;

namespace {

constexpr double kAsItIs = std::numeric_limits<double>::quiet_NaN();
constexpr std::size_t kAtOnce = 4;  // runs of a round, whatever the number of cores: so it is repeatable

/// A place to try.
struct Place {
  std::int32_t scenario = program::kNone;
  std::vector<std::int32_t> faults;       ///< ascending
  std::vector<double> at;                 ///< 0 to 1 in each range; not a number: as the bench has it
  std::map<std::size_t, double> exact{};  ///< numbers that are this and not nearly so, SI
};

/// A method that goes on from a place.
struct Course {
  Place from;
  std::vector<std::size_t> numbers;  ///< that it moves
  AskedOptimizer method;
  std::size_t most = 0;  ///< points
};

class Searcher {
 public:
  Searcher(SearchWish wish, const std::function<bool(const SearchNews&)>& heard)
      : wish_(std::move(wish)),
        p_(*wish_.bench->program),
        over_(wish_.factors().varied),
        heard_(heard),
        random_(wish_.seed, "search") {
    std::sort(wish_.faults.begin(), wish_.faults.end());
    for (const auto& v : over_) {
      fault_of_.push_back(program::fault_of_setting(p_, v.what));
    }
  }

  Result<SearchResult> run() {
    if (wish_.scenarios.empty()) return wrong("there is no scenario to look through");
    if (over_.empty() && (wish_.faults.empty() || wish_.faults_at_once == 0))
      return wrong("there is nothing to look through: --over 'NAME from A to B', or --faults");
    wish_.many = true;
    wish_.signals = {program::kTime};  // without a signal nobody would note which faults came
    if (!runs_beside(p_, wish_.setting)) wish_.jobs = 1;
    if (healthy()) return std::move(made_);
    spread();
    follow();
    if (made_.found && !made_.stopped) shrink();
    return std::move(made_);
  }

 private:
  Failure wrong(std::string why) const {
    return {fmt::format("requirement {}", at(p_.requirements, wish_.requirement).name), "", std::move(why),
            Failure::Kind::wrong_input};
  }

  // --- runs ---

  Case case_of(const Place& place) const {
    Case one;
    one.scenario = place.scenario, one.faults = place.faults, one.setting = wish_.setting;
    for (std::size_t i = 0; i < over_.size(); ++i) {
      const auto& [low, high] = *over_[i].range;
      one.values.push_back(std::isnan(place.at[i]) || !counts(place, i) ? kAsItIs : low + place.at[i] * (high - low));
      if (place.exact.contains(i) && !std::isnan(one.values.back())) one.values.back() = place.exact.at(i);
    }
    return one;
  }

  /// Whether a number is about something that this run has.
  bool counts(const Place& place, std::size_t number) const {
    const std::int32_t f = fault_of_[number];
    return f == program::kNone || std::binary_search(place.faults.begin(), place.faults.end(), f);
  }

  bool possible(const Place& place) const { return !bench::trouble_with(p_, request_of(wish_, case_of(place)).plan); }

  /// Runs them, those that are known already once. In their order.
  std::vector<SearchRun> tried(const std::vector<Place>& places) {
    std::vector<Case> cases;
    std::vector<SearchRun> all(places.size());
    for (std::size_t i = 0; i < places.size(); ++i) {
      cases.push_back(case_of(places[i]));
      cases.back().number = static_cast<std::int64_t>(made_.runs.size() + i + 1);
    }
    do_cases(wish_, cases, wish_.jobs, true, [&](std::size_t i, CaseResult& result, const CaseNews& news_of) {
      all[i].result = std::move(result);
      all[i].fault_missing = news_of.onset && !has_all(*news_of.onset, cases[i].faults);
      made_.stopped = made_.stopped || !heard_(news());
      return !made_.stopped;
    });
    for (std::size_t i = 0; i < all.size(); ++i) {
      all[i].of = cases[i];
      look(all[i]);
    }
    return all;
  }

  bool has_all(const Onset& onset, const std::vector<std::int32_t>& faults) const {
    return std::all_of(faults.begin(), faults.end(), [&](std::int32_t f) {
      return std::any_of(onset.began.begin(), onset.began.end(),
                         [&](const auto& b) { return b.first == at(p_.faults, f).name; });
    });
  }

  SearchNews news() const {
    return {made_.runs.size() + made_.shrinking_runs, wish_.runs + made_.shrinking_runs,
            made_.least ? made_.least->margin : std::nullopt, made_.found.has_value()};
  }

  void look(SearchRun& run) const {
    const SummaryRow* row = row_of(run.result, at(p_.requirements, wish_.requirement).name);
    if (row == nullptr) return;
    run.broken = row->answer == Answer::broken;
    if (run.broken || (run.result.whole && row->answer == Answer::held))
      run.margin = row->worst_margin ? *row->worst_margin : run.broken ? -1 : 1;
  }

  /// False: it is over.
  bool note(std::vector<SearchRun> runs) {
    for (SearchRun& run : runs) {
      if (run.result.outcome.empty()) continue;  // it was not begun any more
      if (!run.margin) {
        ++made_.without_margin;
        if (made_.why_without.empty())
          made_.why_without = run.result.why.empty() ? "not put to the test" : run.result.why;
      } else if (!made_.least || *run.margin < *made_.least->margin) {
        made_.least = run;
      }
      made_.fault_missing += run.fault_missing ? 1 : 0;
      if (made_.not_as_asked.empty() && run.result.whole) made_.not_as_asked = run.result.why;
      made_.runs.push_back(run);
      if (run.broken && !made_.found) made_.found = run, made_.found_after = made_.runs.size();
    }
    made_.stopped = made_.stopped || !heard_(news());
    return !made_.stopped && !made_.found && made_.runs.size() < wish_.runs;
  }

  /// Each scenario as it is. True: there is nothing to look for any more.
  bool healthy() {
    std::vector<Place> places;
    for (const std::int32_t s : wish_.scenarios) places.push_back({s, {}, std::vector<double>(over_.size(), kAsItIs)});
    const std::vector<SearchRun> runs = tried(places);
    for (const SearchRun& run : runs) {
      if (run.broken && !made_.anyway) made_.anyway = run;
    }
    const bool on = note(runs);
    if (made_.anyway) made_.found.reset();
    return made_.anyway.has_value() || !on;
  }

  // --- where ---

  std::size_t below(std::size_t n) {
    return std::min(n - 1, static_cast<std::size_t>(random_.uniform() * static_cast<double>(n)));
  }

  std::vector<std::int32_t> some_faults() {
    std::vector<std::int32_t> pool = wish_.faults, taken;
    if (pool.empty() || wish_.faults_at_once == 0) return {};
    const std::size_t n = 1 + below(std::min(wish_.faults_at_once, pool.size()));
    while (taken.size() < n) {
      const std::size_t i = below(pool.size());
      taken.push_back(pool[i]);
      pool.erase(pool.begin() + static_cast<std::ptrdiff_t>(i));
    }
    std::sort(taken.begin(), taken.end());
    return taken;
  }

  Place somewhere() {
    Place place;
    place.scenario = wish_.scenarios[below(wish_.scenarios.size())];
    for (std::size_t i = 0; i < over_.size(); ++i) place.at.push_back(random_.uniform());
    constexpr int kTries = 20;
    for (int i = 0; i < kTries; ++i) {
      place.faults = some_faults();
      if (possible(place)) return place;
    }
    place.faults.clear();
    return place;
  }

  /// A fifth of the runs, each part of each range once.
  void spread() {
    const std::size_t left = wish_.runs - made_.runs.size();
    const std::size_t n = std::min(std::max<std::size_t>(wish_.runs / 5, 2 * kAtOnce), left);
    std::vector<Place> places;
    for (std::size_t i = 0; i < n; ++i) places.push_back(somewhere());
    for (std::size_t d = 0; d < over_.size(); ++d) {
      std::vector<std::size_t> part(n);
      for (std::size_t i = 0; i < n; ++i) part[i] = i;
      for (std::size_t i = n; i > 1; --i) std::swap(part[i - 1], part[below(i)]);
      for (std::size_t i = 0; i < n; ++i)
        places[i].at[d] = (static_cast<double>(part[i]) + random_.uniform()) / static_cast<double>(n);
    }
    // Together they could share their beginnings; in pieces, since the first that is broken ends it.
    for (std::size_t from = 0; from < n; from += kAtOnce) {
      const std::vector<Place> some(places.begin() + static_cast<std::ptrdiff_t>(from),
                                    places.begin() + static_cast<std::ptrdiff_t>(std::min(n, from + kAtOnce)));
      if (!learn(some)) return;
    }
  }

  /// Runs them and remembers where they were.
  bool learn(const std::vector<Place>& places) {
    std::vector<SearchRun> runs = tried(places);
    for (std::size_t i = 0; i < runs.size(); ++i) known_.push_back({places[i], runs[i].margin});
    return note(std::move(runs));
  }

  void follow() {
    while (!made_.found && !made_.stopped && made_.runs.size() < wish_.runs) {
      std::vector<Place> places;
      std::vector<std::size_t> of;  // which course asked
      for (std::size_t c = 0; c + 1 < kAtOnce; ++c) {
        if (courses_.size() <= c) courses_.push_back(begin_course());
        auto point = courses_[c] ? courses_[c]->method.next() : std::nullopt;
        if (!point || courses_[c]->method.told() >= courses_[c]->most) {
          courses_[c] = begin_course();
          point = courses_[c] ? courses_[c]->method.next() : std::nullopt;
        }
        Place place = point ? courses_[c]->from : somewhere();
        for (std::size_t i = 0; point && i < point->size(); ++i) place.at[courses_[c]->numbers[i]] = (*point)[i];
        places.push_back(std::move(place));
        of.push_back(point ? c : kAtOnce);
      }
      places.push_back(changed());
      of.push_back(kAtOnce);
      const std::size_t left = std::min(places.size(), wish_.runs - made_.runs.size());
      places.resize(left), of.resize(left);
      const std::size_t before = known_.size();
      const bool on = learn(places);
      for (std::size_t i = 0; i < of.size(); ++i) {
        if (of[i] < kAtOnce) courses_[of[i]]->method.tell(known_[before + i].margin.value_or(worst()));
      }
      if (!on) return;
    }
  }

  /// Where nothing came of it, it is no better than anywhere.
  double worst() const {
    double worst = 0;
    for (const auto& k : known_) worst = k.margin ? std::max(worst, *k.margin) : worst;
    return worst;
  }

  /// From the best place from which none has begun yet.
  std::optional<Course> begin_course() {
    const Known* best = nullptr;
    for (const Known& k : known_) {
      if (!k.margin || (best != nullptr && *k.margin >= *best->margin) || is_begun(k.place)) continue;
      best = &k;
    }
    if (best == nullptr) return std::nullopt;
    Place from = best->place;
    std::vector<std::size_t> numbers;
    std::vector<double> start;
    for (std::size_t i = 0; i < over_.size(); ++i) {
      if (!counts(from, i) || std::isnan(from.at[i])) continue;
      numbers.push_back(i), start.push_back(from.at[i]);
    }
    begun_.push_back(from);
    if (numbers.empty()) return std::nullopt;
    using Method = AskedOptimizer::Method;
    constexpr double kStep = 0.1;
    const std::size_t n = begun_.size();
    const Method method = n % 5 == 0 ? Method::everywhere : n % 2 == 1 ? Method::quadratic : Method::simplex;
    const std::size_t most = (method == Method::everywhere ? 30 : 10) * (numbers.size() + 1);
    return Course{std::move(from), numbers, AskedOptimizer(method, start, kStep), most};
  }

  bool is_begun(const Place& place) const {
    constexpr double kFar = 0.1;
    return std::any_of(begun_.begin(), begun_.end(), [&](const Place& other) {
      if (other.scenario != place.scenario || other.faults != place.faults) return false;
      double far = 0;
      for (std::size_t i = 0; i < place.at.size(); ++i) {
        if (counts(place, i)) far = std::max(far, std::abs(place.at[i] - other.at[i]));
      }
      return far < kFar;
    });
  }

  /// One of the best with a fault more, less or another one; where there are no faults to choose, somewhere.
  Place changed() {
    std::vector<const Known*> best;
    for (const Known& k : known_) {
      if (k.margin) best.push_back(&k);
    }
    if (best.empty() || wish_.faults.empty() || random_.uniform() < 0.3) return somewhere();
    const std::size_t some = std::min<std::size_t>(5, best.size());
    std::partial_sort(best.begin(), best.begin() + static_cast<std::ptrdiff_t>(some), best.end(),
                      [](const Known* a, const Known* b) { return *a->margin < *b->margin; });
    Place place = best[below(some)]->place;
    for (double& x : place.at) {
      if (std::isnan(x)) x = random_.uniform();
    }
    const std::int32_t other = wish_.faults[below(wish_.faults.size())];
    auto& faults = place.faults;
    const bool has = std::binary_search(faults.begin(), faults.end(), other);
    if (has && faults.size() > 1) {
      std::erase(faults, other);
    } else if (!has) {
      if (faults.size() >= wish_.faults_at_once)
        faults.erase(faults.begin() + static_cast<std::ptrdiff_t>(below(faults.size())));
      faults.push_back(other);
      std::sort(faults.begin(), faults.end());
    }
    return possible(place) ? place : somewhere();
  }

  // --- what was found, as plain as it can be ---

  /// The first of these that is broken too, if any.
  bool takes(std::vector<Place> places) {
    if (places.empty() || made_.stopped) return false;
    std::erase_if(places, [&](const Place& p) { return !possible(p); });
    const std::vector<SearchRun> runs = tried(places);
    made_.shrinking_runs += runs.size();
    for (std::size_t i = 0; i < runs.size(); ++i) {
      if (!runs[i].broken) continue;
      plain_ = places[i];
      made_.plain = runs[i];
      return true;
    }
    return false;
  }

  void shrink() {
    made_.plain = made_.found;
    plain_.scenario = made_.found->of.scenario, plain_.faults = made_.found->of.faults;
    for (std::size_t i = 0; i < over_.size(); ++i) {
      const auto& [low, high] = *over_[i].range;
      plain_.at.push_back((made_.found->of.values[i] - low) / (high - low));
    }
    fewer_faults();
    rounder_numbers();
    sooner();
  }

  void fewer_faults() {
    for (bool more = true; more && !plain_.faults.empty();) {
      std::vector<Place> without;
      for (const std::int32_t f : plain_.faults) {
        without.push_back(plain_);
        std::erase(without.back().faults, f);
      }
      more = takes(std::move(without));
    }
  }

  void rounder_numbers() {
    for (std::size_t i = 0; i < over_.size(); ++i) {
      if (!counts(plain_, i) || std::isnan(plain_.at[i])) continue;
      std::vector<Place> rounder;
      const auto& [low, high] = *over_[i].range;
      if (const auto own = as_it_is(over_[i].what); own && *own >= low && *own <= high) {
        rounder.push_back(plain_);
        rounder.back().at[i] = kAsItIs;
      }
      const Unit& unit = p_.variable(over_[i].what).unit;
      const double value = low + plain_.at[i] * (high - low);
      for (int digits = 1; digits <= 4; ++digits) {
        const double round = unit.coherent(rounded(unit.read(value), digits));
        if (round < low || round > high) continue;
        rounder.push_back(plain_);
        rounder.back().at[i] = (round - low) / (high - low);
        rounder.back().exact[i] = round;
      }
      takes(std::move(rounder));
    }
  }

  /// What the bench begins with; nothing: that follows from something else.
  std::optional<double> as_it_is(program::VarId what) const {
    for (const program::Assignment& a : p_.start) {
      if (a.target == what) return program::fold(p_, a.value, [](program::VarId) { return std::nullopt; });
    }
    return std::nullopt;
  }

  static double rounded(double value, int digits) { return std::stod(fmt::format("{:.{}e}", value, digits - 1)); }

  /// In the scenario in which it is broken soonest.
  void sooner() {
    const auto when = [&](const SearchRun& run) {
      const SummaryRow* row = row_of(run.result, at(p_.requirements, wish_.requirement).name);
      return row != nullptr && row->first_breach_s ? *row->first_breach_s : HUGE_VAL;
    };
    std::vector<Place> others;
    for (const std::int32_t s : wish_.scenarios) {
      if (s == plain_.scenario) continue;
      others.push_back(plain_);
      others.back().scenario = s;
    }
    std::erase_if(others, [&](const Place& p) { return !possible(p); });
    if (others.empty() || made_.stopped) return;
    const std::vector<SearchRun> runs = tried(others);
    made_.shrinking_runs += runs.size();
    for (std::size_t i = 0; i < runs.size(); ++i) {
      if (!runs[i].broken || when(runs[i]) >= when(*made_.plain)) continue;
      plain_ = others[i], made_.plain = runs[i];
    }
  }

  struct Known {
    Place place;
    std::optional<double> margin;
  };
  SearchWish wish_;
  const Program& p_;
  const std::vector<program::Campaign::Vary>& over_;
  const std::function<bool(const SearchNews&)>& heard_;
  RandomStream random_;
  std::vector<std::int32_t> fault_of_;  ///< of each number
  std::vector<Known> known_;
  std::vector<std::optional<Course>> courses_;
  std::vector<Place> begun_;
  Place plain_;
  SearchResult made_;
};

}  // namespace

Result<SearchResult> search(SearchWish wish, const std::function<bool(const SearchNews&)>& heard) {
  return Searcher(std::move(wish), heard).run();
}

std::string scenario_text(const SearchWish& wish, const Case& of, const std::string& name) {
  std::string text = fmt::format("scenario {} {{\n", name);
  for (const record::Override& o : identity_of(request_of(wish, of)).overrides) {
    const std::string given = o.text();
    text += fmt::format("  start {} = {}\n", o.name, given.substr(o.name.size() + 1));
  }
  return text + fmt::format("  do {}\n}}\n", at(wish.bench->program->scenarios, of.scenario).name);
}

}  // namespace isodyne::session
