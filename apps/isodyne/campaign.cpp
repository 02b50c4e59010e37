// campaign: the cases of a campaign are run.

#include <chrono>
#include <filesystem>
#include <sstream>

#include <fmt/format.h>

#include "case_tables.h"
#include "interruption.h"
#include "isodyne/core/text.h"
#include "isodyne/session/campaign.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

using session::CaseResult;
using std::chrono::steady_clock;

std::optional<std::size_t> campaign_named(const program::Program& p, const std::string& name) {
  std::vector<std::string> known;
  for (std::size_t i = 0; i < p.campaigns.size(); ++i) {
    if (p.campaigns[i].name == name) return i;
    known.push_back(p.campaigns[i].name);
  }
  const auto meant = did_you_mean(name, known);
  say_error(fmt::format("there is no campaign `{}`; {}", name, meant ? *meant : "there are: " + listed(known, "none")));
  return std::nullopt;
}

bool read_cluster(const Arguments& arguments, session::CampaignWish& wish) {
  const auto on = arguments.value(Option::on);
  for (const Option option : {Option::tasks, Option::slurm}) {
    if (!on && arguments.has(option)) return say_error(fmt::format("{} is about --on slurm", spelled(option))), false;
  }
  if (!on) return true;
  if (*on != "slurm") return say_error(fmt::format("--on takes slurm, not `{}`", *on)), false;
  session::ClusterWish cluster;
  std::error_code none;
  cluster.program = std::filesystem::read_symlink("/proc/self/exe", none).string();
  if (!read_whole(arguments, Option::tasks, 1000, cluster.tasks)) return false;
  std::istringstream words(arguments.value(Option::slurm).value_or(""));
  for (std::string word; words >> word;) cluster.options.push_back(word.starts_with("-") ? word : "--" + word);
  wish.cluster = cluster;
  return true;
}

std::optional<session::CampaignWish> read_wish(const Arguments& arguments, const check::Loaded& loaded) {
  session::CampaignWish wish;
  const std::string &file = arguments.words[0], &name = arguments.words[1];
  const auto campaign = campaign_named(*loaded.program, name);
  if (!campaign) return std::nullopt;
  wish.campaign = *campaign;
  wish.bench = session::bench_of(loaded, folder_of(file));
  wish.book = arguments.value(Option::out).value_or("campaigns/" + name + ".sqlite");
  wish.kept = std::filesystem::path(wish.book).replace_extension("").string();
  if (wish.kept == wish.book) wish.kept += ".kept";
  if (!read_seed(arguments, wish.seed)) return std::nullopt;
  wish.resume = arguments.has(Option::resume);
  wish.fail_fast = arguments.has(Option::fail_fast);
  wish.each_alone = arguments.has(Option::each_alone);
  wish.recordings = !arguments.has(Option::no_recordings);
  if (!read_cluster(arguments, wish)) return std::nullopt;
  if (const auto only = arguments.value(Option::only)) {
    const auto numbers = read_numbers(*only);
    if (!numbers) return std::nullopt;
    wish.only = *numbers;
  }
  if (!read_whole(arguments, Option::jobs, 64, wish.jobs)) return std::nullopt;
  if (!read_answer_within(arguments, wish.answer_within)) return std::nullopt;
  if (const auto text = arguments.value(Option::budget)) {
    wish.budget = read_span(*text);
    if (!wish.budget || wish.budget->count() <= 0)
      return say_error(fmt::format("`{}` is not a time; write for example \"20 min\"", *text)), std::nullopt;
  }
  return wish;
}

std::string course_text(const session::CampaignCourse& c, steady_clock::time_point begin) {
  if (c.to_keep > 0) return fmt::format("{} of {} recordings", c.kept, c.to_keep);
  const double seconds = std::chrono::duration<double>(steady_clock::now() - begin).count();
  std::string text = fmt::format("{} of {} cases, {} broken", c.done, c.wanted, c.broken);
  if (c.not_run > 0) text += fmt::format(", {} not run", c.not_run);
  if (c.done > 0 && seconds > 0.5) {
    const double rate = static_cast<double>(c.done) / seconds;
    text += fmt::format(", {:.3g} a second, {} left", rate,
                        format_span(std::chrono::seconds(
                            static_cast<std::int64_t>(std::ceil(static_cast<double>(c.wanted - c.done) / rate)))));
  }
  return text;
}

}  // namespace

int run_campaign(const Arguments& arguments) {
  const check::Loaded loaded = load_file(arguments.words[0]);
  print_diagnostics(loaded, arguments.words[0]);
  if (loaded.program == nullptr) return kWrongInput;
  const auto wish = read_wish(arguments, loaded);
  if (!wish) return kWrongInput;
  note_interruptions();
  ProgressLine progress;
  const auto begin = steady_clock::now();
  const auto course = session::run_campaign(*wish, [&](const session::CampaignCourse& c) {
    const auto whole = static_cast<double>(c.to_keep > 0 ? c.to_keep : c.wanted);
    if (progress.due())
      progress.draw(static_cast<double>(c.to_keep > 0 ? c.kept : c.done) / whole, course_text(c, begin));
    return !interrupted();
  });
  progress.clear();
  if (!course) {
    say_error(course.failure().text());
    return course.failure().kind == Failure::Kind::wrong_input ? kWrongInput : kNotCompleted;
  }
  const auto book = session::CaseBook::read(wish->book);
  if (!book) return say_error(book.failure().text()), kNotCompleted;
  CaseCounts counts;
  const Status read = (*book)->each([&](CaseResult& r) { counts.add(r); });
  if (!read) return say_error(read.failure().text()), kNotCompleted;
  counts.say_summary((*book)->key());
  counts.say_doubts();
  if (course->left_out > 0) {
    const auto& [kind, share] = *wish->factors().until;
    say(fmt::format("{} left out: {:.4g} % of {} are covered",
                    counted(static_cast<std::size_t>(course->left_out), "case"), 100 * share,
                    program::coverage_word(kind)));
  }
  if (course->copied > 0)
    say(fmt::format("{} went on from a beginning that another had come to",
                    counted(static_cast<std::size_t>(course->copied), "case")));
  if (!course->alone.empty()) say_aside("No beginnings were shared: " + course->alone);
  if (course->kept > 0)
    say(fmt::format("{} kept in {}", counted(static_cast<std::size_t>(course->kept), "recording"), wish->kept));
  if (!course->unlike.empty())
    say_error(
        fmt::format("cases came to something else when they were run again for their recordings, which are of that "
                    "second run: {}; a controller that does not answer the same is no basis for a campaign",
                    course->unlike));
  say(fmt::format("All of it is in {0}: isodyne cases {0}", wish->book));
  if (!course->unfinished.empty()) say_error(course->unfinished);
  const bool rest = course->stopped;
  if (rest) say_aside("Not all were run: the same with --resume goes on.");
  if (rest || !course->unlike.empty() || counts.not_whole > 0) return kNotCompleted;
  return counts.broken ? kBroken : kHeld;
}

}  // namespace isodyne::app
