// figure: chosen signals of a run, or of several over each other.

#include <filesystem>

#include <fmt/format.h>

#include "command.h"
#include "isodyne/core/text.h"
#include "isodyne/present/run_folder.h"
#include "isodyne/present/signal_figure.h"
#include "runs.h"
#include "stretch.h"
#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using record::Recording;

namespace {

/// The words that are runs, opened; those behind them are signals.
struct Wanted {
  std::vector<std::string> paths, signals;
  std::vector<std::unique_ptr<Recording>> runs;
};

std::optional<Wanted> wanted(const Arguments& arguments) {
  Wanted w;
  for (const std::string& word : arguments.words) {
    std::error_code none;
    const bool run = w.signals.empty() && (w.paths.empty() || fs::exists(word, none));
    (run ? w.paths : w.signals).push_back(word);
  }
  for (const std::string& path : w.paths) {
    auto run = open_recording(path);
    if (!run) return say_error(run.failure().text()), std::nullopt;
    w.runs.push_back(std::move(*run));
  }
  const auto names = w.signals.empty() ? Result(present::usual_signals(w.paths[0], *w.runs[0], 12))
                                       : present::chosen_signals(*w.runs[0], w.signals);
  if (!names) return say_error(names.failure().text()), std::nullopt;
  w.signals = *names;
  if (!w.signals.empty()) return w;
  say_error("there is no signal in " + w.paths[0]);
  return std::nullopt;
}

}  // namespace

int run_figure(const Arguments& arguments) {
  const auto stretch = stretch_of(arguments);
  const auto w = stretch ? wanted(arguments) : std::nullopt;
  if (!w) return kWrongInput;
  std::vector<present::FigureRun> runs;
  std::string numbers;
  for (std::size_t i = 0; i < w->runs.size(); ++i) {
    const bool several = w->runs.size() > 1;
    runs.push_back({w->runs[i].get(), several ? std::to_string(i + 1) : "", 0});
    numbers += fmt::format("{}{}{}", i == 0 ? "" : ", ", several ? std::to_string(i + 1) + ": " : "", w->paths[i]);
  }
  auto figure = present::signal_figure(runs, w->signals, *stretch);
  if (!figure) return say_error(figure.failure().text()), kWrongInput;
  if (figure->end <= figure->begin) return say_error("there is nothing at that time"), kWrongInput;
  constexpr std::size_t kMostPanels = 12;
  if (figure->panels.size() > kMostPanels)
    return say_error(fmt::format("{} need {}; a figure holds {}: name fewer", counted(w->signals.size(), "signal"),
                                 counted(figure->panels.size(), "panel"), kMostPanels)),
           kWrongInput;
  const fs::path out(arguments.value(Option::out).value_or("figure"));
  figure->name = out.filename().string();
  for (const char* known : {".png", ".svg", ".pdf"}) {
    if (figure->name.ends_with(known)) figure->name.resize(figure->name.size() - 4);
  }
  figure->title = w->signals.size() == 1 ? w->signals[0] : fs::path(w->paths[0]).filename().string();
  figure->subtitle = numbers;
  if (w->runs.size() == 1) {  // what happened, and what was broken
    const auto summary = present::read_summary((fs::path(w->paths[0]) / "verdicts.json").string());
    present::add_story(*figure, *w->runs[0], summary ? *summary : present::Summary{});
    if (summary) figure->subtitle = fmt::format("{}, seed {}", summary->title(), summary->seed);
    present::clip(*figure);
  }
  const std::string folder = out.has_parent_path() ? out.parent_path().string() : ".";
  std::error_code error;
  fs::create_directories(folder, error);
  const Status drawn = present::draw(*figure, folder, true);
  if (!drawn) return say_error(drawn.failure().text()), kNotCompleted;
  const std::string base = (fs::path(folder) / figure->name).lexically_normal().string();
  say(fmt::format("{0}.png, {0}.svg, {0}.pdf", base));
  return kHeld;
}

}  // namespace isodyne::app
