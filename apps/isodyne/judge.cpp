// judge: the requirements of a bench, or others, asked of a recording. measure: what was measured in it.

#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/judge/judge.h"
#include "isodyne/program/quick.h"
#include "isodyne/record/playback.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/rejudge.h"
#include "isodyne/session/run_folder.h"
#include "library_path.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"
#include "verdicts.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

/// How a recorded run came to its end; a recording that was never closed breaks off.
observe::Ending ending_of(const record::Recording& recording) {
  const auto ending = observe::ending_named(recording.ending());
  return ending && *ending < observe::Ending::not_recorded ? *ending : observe::Ending::not_recorded;
}

std::optional<session::OpenRecording> open(const std::string& path, const std::optional<check::Rules>& rules,
                                           int& status) {
  auto run = session::open_recording(path, rules);
  if (!run) {
    say_error(run.failure().text());
    status = kNotCompleted;
    return std::nullopt;
  }
  if (run->loaded.program == nullptr) {
    print_diagnostics(run->loaded, rules ? rules->name : path);
    status = kWrongInput;
    return std::nullopt;
  }
  if (run->recording->times().empty()) {
    say_error(fmt::format("{} is empty: nothing was recorded before it broke off", path));
    status = kNotCompleted;
    return std::nullopt;
  }
  say_if_unfinished(*run->recording, path);
  return std::move(*run);
}

/// What the recording cannot answer: quantities that are not in it (an error), times longer than it (a warning).
void check_against(const record::Playback& playback, session::OpenRecording& run) {
  const program::Program& p = *run.loaded.program;
  const Time length{run.recording->times().back()};
  const auto reads_missing = [&](Span span, const std::string& what, std::initializer_list<program::NodeId> nodes) {
    for (const program::NodeId node : nodes) {
      if (node == program::kNone) continue;
      for (const program::VarId id : p.reads(node)) {
        const program::VarId missing = playback.missing_for(id);
        if (missing == program::kNone) continue;
        const std::string& name = p.variable(missing).name;
        const bool itself = missing == id || p.variable(id).role == program::Role::hidden;
        run.loaded.diagnostics.error(
            Code::not_recorded, span,
            itself ? fmt::format("{} reads `{}`, which was not recorded", what, name)
                   : fmt::format("{} reads `{}`, which is made of `{}`, and that was not recorded", what,
                                 p.variable(id).name, name),
            "run it again with a bench that has this quantity");
      }
    }
  };
  const auto too_long = [&](Span span, const std::string& what, Time time) {
    if (time <= length) return;
    run.loaded.diagnostics.warning(
        Code::window_too_long, span,
        fmt::format("{} speaks of {}, but the recording is {} long", what, format_span(time), format_span(length)),
        "what it says of that time stays undecided");
  };
  for (const program::Requirement& r : p.requirements) {
    const std::string what = "requirement " + r.name;
    reads_missing(r.span, what, {r.trigger, r.check});
    if (r.within) too_long(r.span, what, *r.within);
    for (const program::FormulaNode& n : r.nodes) {
      reads_missing(r.span, what, {n.value});
      too_long(r.span, what, n.time);
    }
  }
  for (const program::Measure& m : p.measures) {
    const std::string what = fmt::format("measure `{}`", m.name);
    reads_missing(m.span, what, {m.of, m.to, m.within, m.against, m.event, m.until});
    too_long(m.span, what, m.end);
  }
}

/// Looks at every image and gives the time between two; nothing, and says why, if something that is read is not there.
std::optional<Time> play(session::OpenRecording& run, const std::string& rules, judge::Judge& judge,
                         const std::function<void()>& seen) {
  record::Playback playback(run.loaded.program, *run.recording, record::judged_variables(*run.loaded.program));
  check_against(playback, run);
  print_diagnostics(run.loaded, rules);
  if (!playback.missing().empty()) return std::nullopt;
  ProgressLine progress;
  const double end = to_seconds(Time{run.recording->times().back()});
  std::size_t images = 0;
  playback.run([&](const observe::Image& image) {
    judge.image(image);
    seen();
    if (++images % 1024 == 0 && progress.due())
      progress.draw(end > 0 ? to_seconds(image.at) / end : -1, "judging, " + format_seconds(to_seconds(image.at), 0));
  });
  progress.clear();
  return playback.period();
}

}  // namespace

int run_judge(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  std::optional<check::Rules> rules;
  if (arguments.words.size() > 1) {
    const auto text = read_file(arguments.words[1]);
    if (!text) {
      say_error(text.failure().text());
      return kWrongInput;
    }
    rules = check::Rules{arguments.words[1], *text, true, read_library_file};
  }
  int status = kHeld;
  auto run = open(path, rules, status);
  if (!run) return status;
  const program::Program& p = *run->loaded.program;
  judge::Judge judge(run->loaded.program);
  const auto period = play(*run, rules ? rules->name : path, judge, [] {});
  if (!period) return kWrongInput;

  bench::RunResult result;
  result.ending = ending_of(*run->recording);
  result.ended_at = Time{run->recording->times().back()};
  session::SetRight right = session::set_right(p, *run->recording, judge.verdicts(result.ending), *period);
  session::Summary summary = session::summarize(p, run->recording->identity(), result, right.verdicts);
  summary.remarks = std::move(right.remarks);
  for (const std::string& file : run->of_today)
    summary.remarks.push_back(fmt::format("The rules use \"{}\" of the library as it is now: the run did not.", file));
  if (result.ending == observe::Ending::not_recorded) {
    summary.ending = observe::Ending::cut_off;
    summary.remarks.push_back(fmt::format("The recording breaks off at {}: the run was killed, or the disk was full.",
                                          format_seconds(summary.ended_at_s)));
  }
  if (!rules) {  // what the scenario expected was told while it ran
    if (const auto before = session::read_summary((fs::path(path) / "verdicts.json").string())) {
      for (const session::SummaryRow& r : before->rows) {
        if (r.expected) summary.rows.push_back(r);
      }
      summary.not_injected = before->not_injected;
      summary.disarmed = before->disarmed;
      summary.lost = before->lost;
    }
  }
  const auto out = arguments.value(Option::out);
  if (out) {
    std::error_code error;
    fs::create_directories(*out, error);
    const Status written = session::write_verdicts(summary, *out);
    if (!written) return say_error(written.failure().text()), kNotCompleted;
  }
  if (arguments.has(Option::json)) {
    put(stdout, to_json(summary));
  } else {
    print_verdicts(summary, out ? "Verdicts in " + *out : "Judged by " + (rules ? rules->name : "its own rules"));
  }
  if (!observe::as_asked(result.ending)) return kNotCompleted;
  return status_of(summary, arguments.has(Option::strict));
}

namespace {

/// Words with a blank are measures of their own: `of level  mean  over 1 s .. 2 s`. Others are names of the bench's.
std::optional<check::Rules> measures_in(const Arguments& arguments, std::vector<std::string>& names) {
  std::string text;
  for (std::size_t i = 1; i < arguments.words.size(); ++i) {
    const std::string& word = arguments.words[i];
    if (word.find(' ') == std::string::npos) {
      names.push_back(word);
      continue;
    }
    names.push_back(fmt::format("measure_{}", i));
    text += fmt::format("measure {} {{ {} }}\n", names.back(), word);
  }
  if (text.empty()) return std::nullopt;
  return check::Rules{"command line", text, false};
}

bool known(const program::Program& p, const std::vector<std::string>& names) {
  std::vector<std::string> all;
  for (const program::Measure& m : p.measures) all.push_back(m.name);
  for (const std::string& name : names) {
    if (std::find(all.begin(), all.end(), name) != all.end()) continue;
    const auto meant = did_you_mean(name, all);
    say_error(fmt::format("bench {} has no measure `{}`; {}", p.name, name,
                          meant.value_or("write one out, such as \"of chamber.level  mean  over 10 s .. 20 s\"")));
    return false;
  }
  if (all.empty())
    say_error(fmt::format("bench {} declares no measures; write one out, such as \"of chamber.level  mean\"", p.name));
  return !all.empty();
}

}  // namespace

int run_measure(const Arguments& arguments) {
  std::vector<std::string> names;
  const auto rules = measures_in(arguments, names);
  int status = kHeld;
  auto run = open(arguments.words[0], rules, status);
  if (!run) return status;
  const program::Program& p = *run->loaded.program;
  if (!known(p, names)) return kWrongInput;
  std::vector<judge::Measured> all;
  judge::Judge judge(run->loaded.program);
  const auto collect = [&] { all.insert(all.end(), judge.measured().begin(), judge.measured().end()); };
  if (!play(*run, arguments.words[0], judge, collect)) return kWrongInput;
  judge.verdicts(ending_of(*run->recording));
  collect();
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.measure < b.measure; });
  TextTable table({{"Measure", TextTable::Align::left},
                   {"No.", TextTable::Align::right},
                   {"From", TextTable::Align::right},
                   {"To", TextTable::Align::right},
                   {"Value", TextTable::Align::right},
                   {"What", TextTable::Align::left}});
  Json list = Json::array();
  std::size_t shown = 0;
  for (const judge::Measured& m : all) {
    const program::Measure& measure = p.measures[static_cast<std::size_t>(m.measure)];
    if (!names.empty() && std::find(names.begin(), names.end(), measure.name) == names.end()) continue;
    ++shown;
    const program::Variable& v = p.variable(measure.value);
    const bool number = std::isfinite(m.value);
    const double value = (m.value - v.unit.offset) / v.unit.factor;
    table.row({measure.name, std::to_string(m.occurrence), format_moment(to_seconds(m.begin)),
               format_moment(to_seconds(m.end)), number ? p.format(measure.value, m.value) : "did not happen",
               measure.text + (m.whole ? "" : " (the run ended before)")});
    Json row{{"measure", measure.name},
             {"occurrence", m.occurrence},
             {"from_s", to_seconds(m.begin)},
             {"to_s", to_seconds(m.end)}};
    row["value"] = number ? Json(value) : Json(nullptr);
    row["unit"] = v.unit.text;
    row["whole"] = m.whole;
    row["what"] = measure.text;
    list.push_back(std::move(row));
  }
  if (arguments.has(Option::json)) {
    say(list.dump(2, ' ', false, Json::error_handler_t::replace));
  } else if (shown == 0) {
    say("Nothing was measured: what the measures wait for never happened.");
  } else {
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  }
  std::vector<std::int32_t> asked;
  for (std::size_t i = 0; i < p.measures.size(); ++i) {
    if (names.empty() || std::find(names.begin(), names.end(), p.measures[i].name) != names.end())
      asked.push_back(static_cast<std::int32_t>(i));
  }
  if (const std::string less = session::seen_less(p, *run->recording, asked); shown > 0 && !less.empty())
    put(arguments.has(Option::json) ? stderr : stdout, less + "\n");
  return kHeld;
}

}  // namespace isodyne::app
