#include "isodyne/session/case_rounds.h"

#include <algorithm>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/session/case_views.h"
#include "isodyne/session/workers.h"

namespace isodyne::session {

namespace fs = std::filesystem;

Status CaseRounds::count_in() {
  if (!wish_.factors().until) return Done{};
  return book_.each([&](CaseResult& r) { covered_.add(r); });
}

Status CaseRounds::run(const std::vector<std::int64_t>& numbers) {
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
    const std::string alone =
        do_cases(wish_, some, jobs_, wish_.each_alone || !course_.alone.empty(),
                 [&](std::size_t, CaseResult& result, const CaseNews& news) {
                   if (news.copied) ++course_.copied;
                   return take(result);
                 });
    if (!alone.empty()) course_.alone = alone;
  }
  return stored_;
}

Status CaseRounds::run_on_cluster(const std::vector<std::int64_t>& numbers) {
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

ClusterPlan CaseRounds::plan_for(const std::vector<std::int64_t>& numbers, const std::string& folder) const {
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

Status CaseRounds::wait(const std::string& folder, std::size_t tasks, std::set<std::int64_t>& left) {
  Status merged = Done{};
  const Status waited = wait_for_job(
      folder, tasks,
      [&](std::size_t task) {
        if (merged) merged = merge((fs::path(folder) / fmt::format("{}.sqlite", task)).string(), left);
      },
      [&] {
        const bool go_on = heard_(course_) && merged && stored_ && may_begin();
        course_.stopped = course_.stopped || !go_on;
        return go_on;
      });
  return waited ? merged : waited;
}

std::string CaseRounds::why_unfinished(const std::string& folder, std::size_t tasks, std::size_t cases) const {
  std::string text = fmt::format("tasks left {} undone", counted(cases, "case"));
  for (std::size_t t = 1; t <= tasks; ++t) {
    const auto said = read_file((fs::path(folder) / fmt::format("{}.txt", t)).string());
    if (said && said->find("error") != std::string::npos)
      return text + fmt::format("; task {}: {}", t, one_line(said->substr(said->find("error"), 300)));
  }
  return text + fmt::format("; what they said is in {}", folder);
}

Status CaseRounds::merge(const std::string& part, std::set<std::int64_t>& left) {
  std::error_code none;
  if (!fs::exists(part, none)) return Done{};
  auto book = CaseBook::open(part, book_.key(), true);
  if (!book) return book.failure();
  const auto all = (*book)->all();
  if (!all) return all.failure();
  for (const CaseResult& r : *all) {
    if (left.erase(r.number) == 0) continue;
    (void)take(r);
  }
  return stored_;
}

bool CaseRounds::take(const CaseResult& result) {
  if (stored_) stored_ = book_.add(result);
  if (wish_.factors().until) covered_.add(result);
  ++course_.done;
  if (is_broken(result)) ++course_.broken;
  if (result.outcome == kNotRun) ++course_.not_run;
  const bool more = heard_(course_) && stored_ && may_begin();
  course_.stopped = course_.stopped || (!more && course_.done < course_.wanted);
  return more;
}

bool CaseRounds::may_begin() const {
  const bool in_time = !wish_.budget || std::chrono::steady_clock::now() - begin_ < *wish_.budget;
  return in_time && !(wish_.fail_fast && course_.broken > 0);
}

}  // namespace isodyne::session
