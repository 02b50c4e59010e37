#include "isodyne/session/campaign.h"

#include <algorithm>
#include <cmath>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <map>
#include <numeric>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/workers.h"

namespace isodyne::session {

namespace fs = std::filesystem;
using program::Campaign;

namespace {

const Campaign& campaign_of(const CampaignWish& wish) {
  return wish.bench->program->campaigns[wish.campaign];
}

/// Of the files of controllers, as far as they are there: a run says what is missing.
std::string code_of(const CampaignWish& wish) {
  std::uint64_t hash = fnv1a("");
  for (const program::Controller& c : wish.bench->program->controllers) {
    for (const std::string& setting : campaign_of(wish).settings) {
      const program::Setting* s = bench::setting_of(c, setting);
      if (s == nullptr || program::port_kind(s->kind).at != program::PortAt::file) continue;
      const fs::path given = fs::path(wish.bench->folder) / s->address.substr(0, s->address.find(' '));
      const fs::path prefixed = given.parent_path() / ("lib" + given.filename().string());
      for (const std::string& file : {given.string(), given.string() + ".so", prefixed.string() + ".so"}) {
        std::error_code none;
        if (!fs::is_regular_file(file, none)) continue;
        std::ifstream in(file, std::ios::binary);
        const std::string bytes{std::istreambuf_iterator<char>(in), {}};
        hash = fnv1a(bytes, fnv1a(s->address, hash));
      }
    }
  }
  return fmt::format("{:016x}", hash);
}

CaseBookKey key_of(const CampaignWish& wish, const Cases& cases) {
  const program::Program& p = *wish.bench->program;
  const Campaign& c = campaign_of(wish);
  RunRequest any;
  any.bench = wish.bench;
  CaseBookKey key{
      p.name,        c.name, record::fingerprint(identity_of(any)), std::to_string(wish.seed), code_of(wish),
      cases.count(), {}};
  for (const Campaign::Vary& v : c.varied) {
    const program::Variable& variable = p.variable(v.what);
    const bool real = variable.type.kind == program::Type::Kind::real;
    key.varied.emplace_back(variable.name, real && variable.unit.text != "1" ? variable.unit.text : "");
  }
  return key;
}

CaseResult described(const CampaignWish& wish, const Case& one) {
  const program::Program& p = *wish.bench->program;
  CaseResult r;
  r.number = one.number;
  r.scenario = program::at(p.scenarios, one.scenario).name;
  for (const std::int32_t f : one.faults) list_on(r.faults, program::at(p.faults, f).name);
  r.setting = one.setting;
  r.command = repeat_command(identity_of(request_of(wish, one)));
  for (std::size_t i = 0; i < one.values.size(); ++i) {
    const program::Variable& v = p.variable(campaign_of(wish).varied[i].what);
    r.values.push_back(v.type.kind == program::Type::Kind::real ? v.unit.read(one.values[i]) : one.values[i]);
  }
  return r;
}

bool may_be_beside(const program::Program& p, const Campaign& campaign) {
  return std::all_of(campaign.settings.begin(), campaign.settings.end(),
                     [&](const std::string& setting) { return runs_beside(p, setting); });
}

/// Looks whether the first instant has what was asked for: a scenario may set something else at once, and the factor
/// would have no effect.
class FirstInstant : public RunWatcher {
 public:
  explicit FirstInstant(const RunRequest& request) : request_(request), program_(*request.bench->program) {
    for (const std::int32_t f : request.plan.faults) {
      for (const std::int32_t tap : program::at(program_.faults, f).taps())
        faulty_.insert(program::at(program_.taps, tap).target);
    }
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

/// In the worker: what was not as asked, a line; then how it went. Or `!` and why it could not be run.
std::string do_case(const CampaignWish& wish, const Case& one, const std::string& folder) {
  std::signal(SIGINT, SIG_IGN);  // whoever watches over the whole is told, and lets this one come to its end
  RunRequest request = request_of(wish, one);
  if (!folder.empty()) {
    const auto made = make_run_folder(folder, "");
    if (!made) return "!" + made.failure().text();
    request.evidence.folder = *made;
  }
  if (const auto trouble = bench::trouble_with(*wish.bench->program, request.plan)) return "!" + trouble->text();
  FirstInstant first(request);
  const RunOutcome outcome = run_here(request, {&first});
  return one_line(first.other()) + "\n" + to_json(outcome);
}

void take(const Piece& piece, CaseResult& r) {
  r.outcome = kNotRun;
  r.why = piece.said;
  if (!piece.done) return;
  if (piece.said.starts_with("!")) return void(r.why = piece.said.substr(1));
  const std::size_t line = std::min(piece.said.find('\n'), piece.said.size() - 1);
  const auto outcome = read_outcome(piece.said.substr(line + 1));
  if (!outcome) return void(r.why = outcome.failure().text());
  r.why = piece.said.substr(0, line);
  if (!outcome->summary) return void(r.why = outcome->why());
  r.outcome = outcome->summary->outcome();
  r.whole = outcome->completed() && outcome->summary->lost.empty();
  if (!observe::as_asked(outcome->ending)) list_on(r.why, outcome->why(), "; ");
  r.simulated_s = outcome->summary->ended_at_s;
  r.wall_s = outcome->summary->wall_seconds;
  r.rows = outcome->summary->rows;
}

bool same_verdicts(const CaseResult& a, const CaseResult& b) {
  const auto by_name = [](const CaseResult& r) {
    std::map<std::string, std::pair<judge::Answer, std::optional<double>>> all;
    for (const SummaryRow& row : r.rows) all[row.name] = {row.answer, row.worst_margin};
    return all;
  };
  return a.outcome == b.outcome && by_name(a) == by_name(b);
}

/// How near the edge each case is: the smallest of its margins, each in the spread of that requirement's margins.
std::map<std::int64_t, double> nearness(const std::vector<CaseResult>& all) {
  std::map<std::string, std::vector<double>> margins;
  for (const CaseResult& r : all) {
    for (const SummaryRow& row : r.rows) {
      if (row.worst_margin) margins[row.name].push_back(*row.worst_margin);
    }
  }
  std::map<std::string, double> spread;
  for (const auto& [name, of] : margins) {
    const double n = static_cast<double>(of.size()), mean = std::accumulate(of.begin(), of.end(), 0.0) / n;
    double squares = 0;
    for (const double m : of) squares += (m - mean) * (m - mean);
    spread[name] = std::sqrt(squares / n);
  }
  std::map<std::int64_t, double> near;
  for (const CaseResult& r : all) {
    double least = HUGE_VAL;
    for (const SummaryRow& row : r.rows) {
      if (!row.worst_margin) continue;
      const double s = spread[row.name];
      least = std::min(least, s > 0 ? *row.worst_margin / s : *row.worst_margin < 0 ? -HUGE_VAL : HUGE_VAL);
    }
    near[r.number] = is_broken(r) ? std::min(least, 0.0) : least;
  }
  return near;
}

std::vector<std::int64_t> to_keep(const Campaign& campaign, const std::vector<CaseResult>& all) {
  std::vector<std::int64_t> kept;
  for (const CaseResult& r : all) {
    const bool good = r.outcome != kNotRun;
    if (good && (campaign.keep == Campaign::Keep::all || (campaign.keep == Campaign::Keep::broken && is_broken(r))))
      kept.push_back(r.number);
  }
  if (campaign.keep != Campaign::Keep::worst) return kept;
  const auto near = nearness(all);
  for (const auto& [number, how] : near) kept.push_back(number);
  std::stable_sort(kept.begin(), kept.end(), [&](std::int64_t a, std::int64_t b) { return near.at(a) < near.at(b); });
  kept.resize(std::min(kept.size(), static_cast<std::size_t>(campaign.kept)));
  return kept;
}

}  // namespace

bool is_broken(const CaseResult& r) {
  return std::any_of(r.rows.begin(), r.rows.end(),
                     [](const SummaryRow& row) { return row.answer == judge::Answer::broken; });
}

RunRequest request_of(const CampaignWish& wish, const Case& one) {
  const program::Program& p = *wish.bench->program;
  RunRequest r;
  r.bench = wish.bench;
  r.answer_within = wish.answer_within;
  r.evidence.in_catalogue = false;
  r.among_others = true;
  r.plan.scenario = one.scenario;
  r.plan.faults = one.faults;
  for (const std::int32_t f : bench::faults_of(p, one.scenario)) {
    if (std::find(r.plan.faults.begin(), r.plan.faults.end(), f) == r.plan.faults.end()) r.plan.faults.push_back(f);
  }
  r.plan.setting = one.setting;
  r.plan.seed = wish.seed;
  r.plan.native = engine::NativeSettings::usual();
  const Campaign& c = campaign_of(wish);
  for (std::size_t i = 0; i < one.values.size(); ++i) r.plan.overrides.emplace_back(c.varied[i].what, one.values[i]);
  return r;
}

Result<CampaignCourse> run_campaign(const CampaignWish& wish, const std::function<bool(const CampaignCourse&)>& heard) {
  const Campaign& campaign = campaign_of(wish);
  const auto cases = Cases::of(*wish.bench->program, campaign, wish.seed);
  if (!cases) return cases.failure();
  std::vector<std::int64_t> wanted = wish.only;
  for (const std::int64_t number : wanted) {
    if (number < 1 || number > cases->count())
      return Failure{fmt::format("there is no case {}", number), "", fmt::format("there are 1 to {}", cases->count()),
                     Failure::Kind::wrong_input};
  }
  auto book = CaseBook::open(wish.book, key_of(wish, *cases), wish.resume || !wish.only.empty());
  if (!book) return book.failure();
  const std::set<std::int64_t> there = (*book)->done();
  CampaignCourse course;
  course.before = static_cast<std::int64_t>(there.size());
  for (std::int64_t n = 1; n <= cases->count() && wish.only.empty(); ++n) {
    if (!there.contains(n)) wanted.push_back(n);
  }
  course.wanted = static_cast<std::int64_t>(wanted.size());
  const std::size_t jobs = may_be_beside(*wish.bench->program, campaign) ? wish.jobs : 1;
  const auto begin = std::chrono::steady_clock::now();
  Status stored = Done{};
  in_workers(
      wanted.size(), jobs, [&](std::size_t i) { return do_case(wish, cases->at(wanted[i]), ""); },
      [&](std::size_t i, Piece& piece) {
        CaseResult result = described(wish, cases->at(wanted[i]));
        take(piece, result);
        piece.said.clear();
        if (stored) stored = (*book)->add(result);
        ++course.done;
        if (is_broken(result)) ++course.broken;
        if (result.outcome == kNotRun) ++course.not_run;
        const bool in_time = !wish.budget || std::chrono::steady_clock::now() - begin < *wish.budget;
        const bool more = heard(course) && stored && in_time && !(wish.fail_fast && course.broken > 0);
        course.stopped = course.stopped || (!more && course.done < course.wanted);
        return more;
      });
  if (!stored) return stored.failure();
  if (course.stopped || campaign.keep == Campaign::Keep::none) return course;
  const auto all = (*book)->all();
  if (!all) return all.failure();
  // They are run a second time for it, and compared: a controller may not be repeatable.
  std::vector<std::int64_t> kept = to_keep(campaign, *all);
  const auto folder = [&](std::int64_t number) {
    return (fs::path(wish.kept) / fmt::format("{:06}", number)).string();
  };
  std::error_code none;
  std::erase_if(kept, [&](std::int64_t n) { return fs::exists(fs::path(folder(n)) / "verdicts.json", none); });
  course.to_keep = static_cast<std::int64_t>(kept.size());
  in_workers(
      kept.size(), jobs, [&](std::size_t i) { return do_case(wish, cases->at(kept[i]), folder(kept[i])); },
      [&](std::size_t i, Piece& piece) {
        CaseResult again = described(wish, cases->at(kept[i]));
        take(piece, again);
        if (again.outcome != kNotRun) ++course.kept;
        const auto first = std::find_if(all->begin(), all->end(), [&](const auto& r) { return r.number == kept[i]; });
        if (!same_verdicts(*first, again)) list_on(course.unlike, std::to_string(kept[i]));
        piece.said.clear();
        const bool more = heard(course);
        course.stopped = course.stopped || !more;
        return more;
      });
  return course;
}

}  // namespace isodyne::session
