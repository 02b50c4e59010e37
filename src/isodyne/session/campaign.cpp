#include "isodyne/session/campaign.h"

#include <algorithm>
#include <cmath>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/session/case_views.h"
#include "isodyne/session/cluster.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/workers.h"

namespace isodyne::session {

namespace fs = std::filesystem;
using program::Campaign;

namespace {

/// Of the files of controllers, as far as they are there: a run says what is missing.
std::string code_of(const CampaignWish& wish) {
  std::uint64_t hash = fnv1a("");
  for (const program::Controller& c : wish.bench->program->controllers) {
    for (const std::string& setting : wish.factors().settings) {
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
  const Campaign& c = wish.factors();
  RunRequest any;
  any.bench = wish.bench;
  CaseBookKey key;
  key.bench = p.name, key.campaign = c.name, key.seed = std::to_string(wish.seed), key.count = cases.count();
  key.fingerprint = record::fingerprint(identity_of(any)), key.code = code_of(wish);
  key.file = fs::absolute(fs::path(wish.bench->folder) / wish.bench->sources.front().first).lexically_normal().string();
  key.factors = {{"scenario", {}, 0, 0, {}}, {"fault", {}, 0, 0, {}}, {"setting", c.settings, 0, 0, {}}};
  for (const std::int32_t s : c.scenarios) key.factors[0].values.push_back(program::at(p.scenarios, s).name);
  for (const auto& set : c.fault_sets) {
    std::string names;
    for (const std::int32_t f : set) list_on(names, program::at(p.faults, f).name);
    key.factors[1].values.push_back(names.empty() ? "none" : names);
  }
  for (const Campaign::Vary& v : c.varied) {
    const program::Variable& variable = p.variable(v.what);
    const bool real = variable.type.kind == program::Type::Kind::real;
    key.varied.emplace_back(variable.name, real && variable.unit.text != "1" ? variable.unit.text : "");
    const auto read = [&](double x) { return real ? variable.unit.read(x) : x; };
    CaseFactor factor{variable.name, {}, 0, 0, {}};
    for (const double x : v.values) factor.values.push_back(format_exact(read(x)));
    if (v.range) factor.low = read(v.range->first), factor.high = read(v.range->second);
    if (variable.limits) factor.limits.emplace(read(variable.limits->first), read(variable.limits->second));
    key.factors.push_back(std::move(factor));
  }
  return key;
}

bool may_be_beside(const program::Program& p, const Campaign& campaign) {
  return std::all_of(campaign.settings.begin(), campaign.settings.end(),
                     [&](const std::string& setting) { return runs_beside(p, setting); });
}

bool same_verdicts(const CaseResult& a, const CaseResult& b) {
  const auto by_name = [](const CaseResult& r) {
    std::map<std::string, std::pair<judge::Answer, std::optional<double>>> all;
    for (const SummaryRow& row : r.rows) all[row.name] = {row.answer, row.worst_margin};
    return all;
  };
  return a.outcome == b.outcome && by_name(a) == by_name(b);
}

/// Of which cases recordings are kept, with what they came to.
Result<std::vector<CaseResult>> to_keep(const Campaign& campaign, CaseBook& book) {
  std::vector<CaseResult> kept;
  if (campaign.keep == Campaign::Keep::worst) {
    auto all = book.all();
    if (!all) return all.failure();
    const auto near = nearness(*all);
    std::stable_sort(all->begin(), all->end(), [&](const CaseResult& a, const CaseResult& b) {
      return near.at(a.number).share < near.at(b.number).share;
    });
    all->resize(std::min(all->size(), static_cast<std::size_t>(campaign.kept)));
    return all;
  }
  const Status read = book.each([&](CaseResult& r) {
    const bool good = r.outcome != kNotRun;
    if (good && (campaign.keep == Campaign::Keep::all || (campaign.keep == Campaign::Keep::broken && is_broken(r))))
      kept.push_back(std::move(r));
  });
  if (!read) return read.failure();
  return kept;
}

/// Runs cases and puts them into the book: first those that may have a beginning in common, then those that are left.
class Rounds {
 public:
  using Heard = std::function<bool(const CampaignCourse&)>;
  Rounds(const CampaignWish& wish, const Cases& cases, CaseBook& book, std::size_t jobs, CampaignCourse& course,
         const Heard& heard)
      : wish_(wish), cases_(cases), book_(book), jobs_(jobs), course_(course), heard_(heard), covered_(book.key()) {}

  /// That were there already.
  Status count_in() {
    if (!wish_.factors().until) return Done{};
    return book_.each([&](CaseResult& r) { covered_.add(r); });
  }

  Status run(const std::vector<std::int64_t>& numbers) {
    // So many numbers at a time, so that it takes no more room for more of them. What is covered is looked at where one
    // lot ends and the next begins: neither workers nor an interruption have to do with where a campaign ends.
    const auto until = wish_.only.empty() ? wish_.factors().until : std::nullopt;
    const std::int64_t lot = until ? 50 : 10'000;
    for (std::size_t at = 0; at < numbers.size() && stored_ && !course_.stopped;) {
      const std::int64_t place = (numbers[at] - 1) / lot;
      if (until && (numbers[at] - 1) % lot == 0 && covered_.share(until->first) >= until->second) {
        course_.left_out = static_cast<std::int64_t>(numbers.size() - at);
        break;
      }
      std::vector<Case> some;
      for (; at < numbers.size() && (numbers[at] - 1) / lot == place; ++at) some.push_back(cases_.at(numbers[at]));
      some = shared(std::move(some));
      if (!some.empty() && stored_ && !course_.stopped) by_themselves(some);
    }
    return stored_;
  }

  /// By tasks on a cluster. One that is at work already, for somebody who is gone, is waited for first.
  Status run_on_cluster(const std::vector<std::int64_t>& numbers) {
    const std::string folder = wish_.book + ".tasks";
    std::set<std::int64_t> left(numbers.begin(), numbers.end());
    if (!job_in(folder).empty()) {
      const auto lines = read_file((fs::path(folder) / "tasks.txt").string());
      const auto tasks = lines ? static_cast<std::size_t>(std::count(lines->begin(), lines->end(), '\n')) : 0;
      if (const Status waited = wait(folder, tasks, left); !waited) return waited;
      if (course_.stopped) return stored_;
    }
    std::error_code none;
    fs::remove_all(folder, none);
    if (left.empty() || !stored_) return stored_;
    ClusterPlan plan = plan_for({left.begin(), left.end()}, folder);
    if (const Status submitted = submit(plan); !submitted) return submitted;
    if (const Status waited = wait(folder, plan.lines.size(), left); !waited) return waited;
    if (!left.empty()) course_.unfinished = why_unfinished(folder, plan.lines.size(), left.size());
    course_.stopped = course_.stopped || !left.empty();
    if (stored_ && left.empty()) fs::remove_all(folder, none);
    return stored_;
  }

 private:
  /// Cases that share a beginning are in one task.
  ClusterPlan plan_for(const std::vector<std::int64_t>& numbers, const std::string& folder) const {
    constexpr std::size_t kCasesEach = 50, kMostTasks = 1000, kLot = 10'000;
    const std::size_t wanted =
        wish_.cluster->tasks != 0 ? wish_.cluster->tasks : (numbers.size() + kCasesEach - 1) / kCasesEach;
    const std::size_t tasks = std::clamp<std::size_t>(wanted, 1, std::min(kMostTasks, numbers.size()));
    const std::size_t each = (numbers.size() + tasks - 1) / tasks;
    ClusterPlan plan;
    plan.folder = folder, plan.name = "isodyne-" + wish_.factors().name;
    plan.cores = std::max<std::size_t>(1, wish_.jobs);
    plan.options = wish_.cluster->options;
    std::string line;
    std::size_t in_line = 0;
    const auto end_line = [&] {
      if (in_line > 0) plan.lines.push_back(line);
      line.clear(), in_line = 0;
    };
    for (std::size_t at = 0; at < numbers.size(); at += kLot) {
      std::vector<Case> some;
      for (std::size_t i = at; i < std::min(at + kLot, numbers.size()); ++i) some.push_back(cases_.at(numbers[i]));
      for (const Task& group : together(wish_, some, tasks)) {
        for (const std::size_t i : group) {
          list_on(line, std::to_string(some[i].number), ",");
          if (++in_line == each) end_line();
        }
      }
    }
    end_line();
    const std::string bench = book_.key().file;
    plan.command = {wish_.cluster->program,
                    "campaign",
                    bench,
                    wish_.factors().name,
                    "--seed",
                    std::to_string(wish_.seed),
                    "--jobs",
                    std::to_string(plan.cores),
                    "--answer-within",
                    fmt::format("{} ms", wish_.answer_within.count()),
                    "--no-recordings",
                    "--resume",
                    "--only",
                    "$LINE",
                    "--out",
                    "$BOOK"};
    if (wish_.each_alone) plan.command.push_back("--each-alone");
    return plan;
  }

  Status wait(const std::string& folder, std::size_t tasks, std::set<std::int64_t>& left) {
    Status merged = Done{};
    const Status waited = wait_for_job(
        folder, tasks,
        [&](std::size_t task) {
          if (merged) merged = merge((fs::path(folder) / fmt::format("{}.sqlite", task)).string(), left);
        },
        [&] {
          const bool go_on = heard_(course_) && merged && stored_ && in_time();
          course_.stopped = course_.stopped || !go_on;
          return go_on;
        });
    return waited ? merged : waited;
  }

  /// What a task that failed or was cancelled said, if it said anything.
  std::string why_unfinished(const std::string& folder, std::size_t tasks, std::size_t cases) const {
    std::string text = fmt::format("tasks left {} undone", counted(cases, "case"));
    for (std::size_t t = 1; t <= tasks; ++t) {
      const auto said = read_file((fs::path(folder) / fmt::format("{}.txt", t)).string());
      if (said && said->find("error") != std::string::npos)
        return text + fmt::format("; task {}: {}", t, one_line(said->substr(said->find("error"), 300)));
    }
    return text + fmt::format("; what they said is in {}", folder);
  }

  /// What a task has left, which may be nothing or a part.
  Status merge(const std::string& part, std::set<std::int64_t>& left) {
    std::error_code none;
    if (!fs::exists(part, none)) return Done{};
    auto book = CaseBook::open(part, book_.key(), true);
    if (!book) return book.failure();
    const auto all = (*book)->all();
    if (!all) return all.failure();
    for (const CaseResult& r : *all) {
      if (left.erase(r.number) == 0) continue;
      Piece piece;
      (void)take(r, piece);
    }
    return stored_;
  }

  bool in_time() const { return !wish_.budget || std::chrono::steady_clock::now() - begin_ < *wish_.budget; }

  /// Gives those that have to be run by themselves.
  std::vector<Case> shared(std::vector<Case> some) {
    if (wish_.each_alone || !course_.alone.empty()) return some;
    const std::vector<Task> tasks = together(wish_, some, workers_of(jobs_));
    if (tasks.size() == some.size()) return some;
    std::set<std::size_t> done, alone;
    for (const Task& t : tasks) {
      if (t.size() == 1) alone.insert(t[0]);
    }
    in_workers(
        some.size(), tasks, jobs_, [&](const Task& task, Teller& teller) { do_together(wish_, some, task, teller); },
        [&](std::size_t i, Piece& piece) {
          CaseResult result = described(wish_, some[i]);
          const CaseNews news = read_case(piece, result);
          if (news.alone) course_.alone = news.why;
          if (news.alone) return false;                        // nor could others
          if (!piece.done && !alone.contains(i)) return true;  // its turn comes again
          done.insert(i);
          if (news.copied) ++course_.copied;
          return take(result, piece);
        });
    std::vector<Case> left;
    for (std::size_t i = 0; i < some.size(); ++i) {
      if (!done.contains(i)) left.push_back(std::move(some[i]));
    }
    return left;
  }

  void by_themselves(const std::vector<Case>& some) {
    in_workers(
        some.size(), jobs_, [&](std::size_t i) { return do_case(wish_, some[i], ""); },
        [&](std::size_t i, Piece& piece) {
          CaseResult result = described(wish_, some[i]);
          read_case(piece, result);
          return take(result, piece);
        });
  }

  /// Whether it goes on.
  bool take(const CaseResult& result, Piece& piece) {
    piece.said = {};
    if (stored_) stored_ = book_.add(result);
    if (wish_.factors().until) covered_.add(result);
    ++course_.done;
    if (is_broken(result)) ++course_.broken;
    if (result.outcome == kNotRun) ++course_.not_run;
    const bool more = heard_(course_) && stored_ && in_time() && !(wish_.fail_fast && course_.broken > 0);
    course_.stopped = course_.stopped || (!more && course_.done < course_.wanted);
    return more;
  }

  const CampaignWish& wish_;
  const Cases& cases_;
  CaseBook& book_;
  const std::size_t jobs_;
  CampaignCourse& course_;
  const Heard& heard_;
  const std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
  Status stored_ = Done{};
  CoverageSum covered_;
};

}  // namespace

Status find_source(const CaseBookKey& key, CaseSource& source) {
  RunRequest any;
  any.bench = source.bench;
  const auto& campaigns = source.bench->program->campaigns;
  const auto found =
      std::find_if(campaigns.begin(), campaigns.end(), [&](const Campaign& c) { return c.name == key.campaign; });
  if (record::fingerprint(identity_of(any)) != key.fingerprint || found == campaigns.end())
    return Failure{"the bench is not the text that the cases are of",
                   source.bench->folder + source.bench->sources.front().first, "it was changed since",
                   Failure::Kind::wrong_input};
  source.campaign = static_cast<std::size_t>(found - campaigns.begin());
  source.seed = std::strtoull(key.seed.c_str(), nullptr, 10);
  return Done{};
}

Result<CampaignCourse> run_campaign(CampaignWish wish, const std::function<bool(const CampaignCourse&)>& heard) {
  constexpr std::size_t kMany = 30;
  const Campaign& campaign = wish.factors();
  const auto cases = Cases::of(*wish.bench->program, campaign, wish.seed);
  if (!cases) return cases.failure();
  for (const std::int64_t number : wish.only) {
    if (number < 1 || number > cases->count())
      return Failure{fmt::format("there is no case {}", number), "", fmt::format("there are 1 to {}", cases->count()),
                     Failure::Kind::wrong_input};
  }
  if (wish.cluster && campaign.until)
    return Failure{"tasks on a cluster know nothing of each other, so they cannot end when enough is covered", "",
                   "leave out `until`, or run it on one machine", Failure::Kind::wrong_input};
  const auto items = std::make_shared<const CoverageItems>(*wish.bench->program, campaign);
  CaseBookKey key = key_of(wish, *cases);
  key.items = items->all();
  std::error_code none;
  const bool fresh = !fs::exists(wish.book, none);
  auto book = CaseBook::open(wish.book, key, wish.resume || !wish.only.empty());
  if (!book) return book.failure();
  const std::set<std::int64_t> there = (*book)->done();
  CampaignCourse course;
  course.before = static_cast<std::int64_t>(there.size());
  std::vector<std::int64_t> wanted;
  for (const std::int64_t n : wish.only) {
    if (!wish.resume || !there.contains(n)) wanted.push_back(n);
  }
  for (std::int64_t n = 1; n <= cases->count() && wish.only.empty(); ++n) {
    if (!there.contains(n)) wanted.push_back(n);
  }
  course.wanted = static_cast<std::int64_t>(wanted.size());
  wish.many = wanted.size() >= kMany;
  wish.items = items;
  const std::size_t jobs = may_be_beside(*wish.bench->program, campaign) ? wish.jobs : 1;
  Rounds rounds(wish, *cases, **book, jobs, course, heard);
  Status stored = rounds.count_in();
  if (stored) stored = wish.cluster ? rounds.run_on_cluster(wanted) : rounds.run(wanted);
  if (!stored && fresh && course.done == 0) {  // nothing of it is worth to be in the way of another try
    book->reset();
    fs::remove(wish.book, none);
  }
  if (!stored) return stored.failure();
  if (course.stopped || campaign.keep == Campaign::Keep::none || !wish.recordings) return course;
  // They are run a second time for it, and compared: a controller may not be repeatable.
  auto kept = to_keep(campaign, **book);
  if (!kept) return kept.failure();
  const auto folder = [&](const CaseResult& r) {
    return (fs::path(wish.kept) / fmt::format("{:06}", r.number)).string();
  };
  std::erase_if(*kept, [&](const CaseResult& r) { return fs::exists(fs::path(folder(r)) / "verdicts.json", none); });
  course.to_keep = static_cast<std::int64_t>(kept->size());
  in_workers(
      kept->size(), jobs,
      [&](std::size_t i) { return do_case(wish, cases->at((*kept)[i].number), folder((*kept)[i])); },
      [&](std::size_t i, Piece& piece) {
        const CaseResult& first = (*kept)[i];
        CaseResult again = described(wish, cases->at(first.number));
        read_case(piece, again);
        if (again.outcome != kNotRun) ++course.kept;
        if (!same_verdicts(first, again)) list_on(course.unlike, std::to_string(first.number));
        piece.said.clear();
        const bool more = heard(course);
        course.stopped = course.stopped || !more;
        return more;
      });
  return course;
}

}  // namespace isodyne::session
