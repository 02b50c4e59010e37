// figure: chosen signals of a run, or of several over each other; over time, over each other, as spectra or histograms.

#include <algorithm>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/lang/parser.h"
#include "isodyne/present/axes_figure.h"
#include "isodyne/present/response.h"
#include "isodyne/present/signal_figure.h"
#include "isodyne/record/differences.h"
#include "isodyne/session/run_folder.h"
#include "library_path.h"
#include "named_runs.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "time_range.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using record::Recording;

namespace {

/// The words that are runs, opened; those behind them are signals.
struct Wanted {
  std::vector<std::string> paths, signals;
  std::vector<std::unique_ptr<Recording>> runs;
  bool named = false;  ///< the signals were
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
  w.named = !w.signals.empty();
  const auto names = w.signals.empty() ? Result(present::usual_signals(w.paths[0], *w.runs[0], 12))
                                       : present::chosen_signals(*w.runs[0], w.signals);
  if (!names) return say_error(names.failure().text()), std::nullopt;
  w.signals = *names;
  if (!w.signals.empty()) return w;
  say_error("there is no signal in " + w.paths[0]);
  return std::nullopt;
}

// ---- the stretch ----------------------------------------------------------------------------------------

std::optional<double> seconds_of(const Arguments& arguments, Option option, const char* name, double usual) {
  const auto text = arguments.value(option);
  if (!text) return usual;
  const auto span = read_span(*text);
  if (!span) return say_error(fmt::format("--{} takes a time such as \"5 s\", not `{}`", name, *text)), std::nullopt;
  return to_seconds(*span);
}

/// As --from and --to say, or --around, which gives a mark for what is there.
std::optional<present::TimeRange> time_range_of(const Arguments& arguments, const Recording& recording,
                                                std::optional<present::Mark>& mark) {
  const auto what = arguments.value(Option::around);
  if (!what) return time_range_of(arguments);
  const auto at = record::first_time_of(recording, *what);
  if (!at)
    return say_error(fmt::format("`{}` never comes: --around takes a truth, what an event is about, or a level such as "
                                 "\"chamber.level > 3 m\"",
                                 *what)),
           std::nullopt;
  const double run = to_seconds(Time{recording.times().back() - recording.times().front()});
  const auto before = seconds_of(arguments, Option::before, "before", run / 20),
             after = seconds_of(arguments, Option::after, "after", run / 20);
  if (!before || !after) return std::nullopt;
  mark = present::Mark{to_seconds(*at), *what};
  return present::TimeRange{std::max(0.0, to_seconds(*at) - *before), to_seconds(*at) + *after};
}

/// "A .. B" of --closer.
std::optional<present::TimeRange> closer_of(const std::string& text) {
  const std::size_t dots = text.find("..");
  const auto begin = read_span(one_line(text.substr(0, dots == std::string::npos ? 0 : dots))),
             end = dots == std::string::npos ? std::nullopt : read_span(one_line(text.substr(dots + 2)));
  if (begin && end && *end > *begin) return present::TimeRange{to_seconds(*begin), to_seconds(*end)};
  say_error(fmt::format("--closer takes a stretch of time such as \"5 s .. 6 s\", not `{}`", text));
  return std::nullopt;
}

// ---- what is drawn --------------------------------------------------------------------------------------

struct Place {
  std::string folder, name;
};

Place place_of(const Arguments& arguments) {
  const fs::path out(arguments.value(Option::out).value_or("figure"));
  Place p{out.has_parent_path() ? out.parent_path().string() : ".", out.filename().string()};
  for (const char* known : {".png", ".svg", ".pdf"}) {
    if (p.name.ends_with(known)) p.name.resize(p.name.size() - 4);
  }
  std::error_code error;
  fs::create_directories(p.folder, error);
  return p;
}

int told(const Status& drawn, const Place& place) {
  if (!drawn) return say_error(drawn.failure().text()), kNotCompleted;
  const std::string base = (fs::path(place.folder) / place.name).lexically_normal().string();
  say(fmt::format("{0}.png, {0}.svg, {0}.pdf", base));
  return kHeld;
}

std::string title_of(const Wanted& w, const std::string& kind = "time") {
  std::string all;
  for (std::size_t i = kind == "xy" ? 1 : 0; i < w.signals.size(); ++i) list_on(all, w.signals[i]);
  if (kind == "xy") return all + " over " + w.signals[0];
  if (kind != "time") return (kind == "spectrum" ? "Spectrum of " : "Histogram of ") + all;
  std::string runs;
  for (std::size_t i = 0; i < w.paths.size(); ++i) {
    const std::string run = fs::path(w.paths[i] + "/.").parent_path().filename().string();
    runs += (i == 0 ? "" : i + 1 == w.paths.size() ? " and " : ", ") + run;
  }
  if (w.signals.size() != 1) return runs;
  return w.paths.size() == 1 ? all : fmt::format("{}: {}", all, runs);
}

int over_time(const Arguments& arguments, const Wanted& w, const present::TimeRange& stretch,
              const std::optional<present::Mark>& mark) {
  std::vector<present::FigureRun> runs;
  std::string numbers;
  for (std::size_t i = 0; i < w.runs.size(); ++i) {
    const bool several = w.runs.size() > 1;
    runs.push_back({w.runs[i].get(), several ? std::to_string(i + 1) : "", 0});
    numbers += fmt::format("{}{}{}", i == 0 ? "" : ", ", several ? std::to_string(i + 1) + ": " : "", w.paths[i]);
  }
  auto figure = present::signal_figure(runs, w.signals, stretch);
  if (!figure) return say_error(figure.failure().text()), kWrongInput;
  if (figure->end <= figure->begin) return say_error("there is nothing at that time"), kWrongInput;
  constexpr std::size_t kMostPanels = 12;
  if (figure->panels.size() > kMostPanels)
    return say_error(fmt::format("{} need {}; a figure holds {}: name fewer", counted(w.signals.size(), "signal"),
                                 counted(figure->panels.size(), "panel"), kMostPanels)),
           kWrongInput;
  if (const auto text = arguments.value(Option::closer)) {
    const auto closer = closer_of(*text);
    if (!closer) return kWrongInput;
    auto inner = present::signal_figure(runs, w.signals, *closer);
    if (!inner || inner->end <= inner->begin) return say_error("there is nothing in " + *text), kWrongInput;
    figure->closer = std::make_shared<present::FigureData>(std::move(*inner));
  }
  if (arguments.has(Option::response)) {
    for (std::size_t i = 0; i < w.paths.size(); ++i) {
      const auto all = present::responses(w.paths[i], w.signals, stretch);
      if (!all) return say_error(all.failure().text()), kWrongInput;
      for (const present::Response& r : *all) {
        const std::string label = runs[i].label.empty() ? r.signal : runs[i].label + ": " + r.signal;
        for (present::Panel& p : figure->panels) {
          for (const present::Curve& c : p.curves) {
            if (c.label != label) continue;
            p.notes.push_back(label + " " + r.text());
            p.points.insert(p.points.end(), r.marks.begin(), r.marks.end());
          }
        }
      }
    }
  }
  const Place place = place_of(arguments);
  figure->name = place.name;
  figure->title = title_of(w);
  figure->subtitle = numbers;
  if (mark) figure->marks.push_back(*mark);
  const auto opened = session::open_recording(w.paths[0]);
  const program::Program* program = opened ? opened->loaded.program.get() : nullptr;
  if (program != nullptr) present::add_limits(*figure, *program, *w.runs[0]);
  if (w.runs.size() == 1) {  // what happened, and what was broken
    const auto summary = session::read_summary((fs::path(w.paths[0]) / "verdicts.json").string());
    present::add_story(*figure, program, *w.runs[0], summary ? *summary : session::Summary{});
    if (summary) figure->subtitle = fmt::format("{}, seed {}", summary->title(), summary->seed);
    present::clip(*figure);
  }
  return told(present::draw(*figure, place.folder, true), place);
}

int over_other_axes(const Arguments& arguments, const Wanted& w, const present::TimeRange& stretch,
                    const std::string& kind) {
  for (const auto& [option, name] : {std::pair{Option::closer, "closer"}, std::pair{Option::response, "response"}}) {
    if (arguments.has(option)) return say_error(fmt::format("--{} is about figures over time", name)), kWrongInput;
  }
  if (w.runs.size() > 1) return say_error("such a figure is of one run"), kWrongInput;
  const Recording& run = *w.runs[0];
  auto figure = kind == "xy"         ? present::figure_over(run, w.signals, stretch)
                : kind == "spectrum" ? present::spectrum_figure(run, w.signals, stretch)
                                     : present::histogram_figure(run, w.signals, stretch);
  if (!figure) return say_error(figure.failure().text()), kWrongInput;
  const Place place = place_of(arguments);
  figure->name = place.name;
  figure->title = title_of(w, kind);
  figure->subtitle = w.paths[0];
  if (std::isfinite(stretch.end) || stretch.begin > 0)
    figure->subtitle += fmt::format(", from {}{}", format_seconds(stretch.begin),
                                    std::isfinite(stretch.end) ? " to " + format_seconds(stretch.end) : "");
  return told(present::draw(*figure, place.folder), place);
}

/// Whether a text has figures, if it can be read at all: its mistakes are told later.
bool declares_figures(const std::string& file, const std::string& text) {
  Sources sources;
  Diagnostics diagnostics;
  lang::Document document;
  lang::parse(sources, sources.add(file, text), diagnostics, document);
  return !document.figures.empty() || diagnostics.has_errors();
}

/// The figures of a text, each in its own file: NAME, or BASE-NAME.
int of_layout(const Arguments& arguments, const Wanted& w, const std::string& file) {
  const auto text = read_file(file);
  if (!text) return say_error(text.failure().text()), kWrongInput;
  if (!declares_figures(file, *text)) return say_error(file + " declares no figure"), kWrongInput;
  const check::Rules rules{file, *text, false, read_library_file};
  auto opened = session::open_recording(w.paths[0], rules);
  if (!opened) return say_error(opened.failure().text()), kWrongInput;
  print_diagnostics(opened->loaded, file);
  if (opened->loaded.program == nullptr) return kWrongInput;
  const program::Program& p = *opened->loaded.program;
  const auto read = session::read_summary((fs::path(w.paths[0]) / "verdicts.json").string());
  session::Summary summary = read ? *read : session::Summary{};
  if (!read) summary.bench = p.name;
  Place place = place_of(arguments);
  const std::string base = arguments.has(Option::out) ? place.name + "-" : "";
  for (const program::Figure& f : p.figures) {
    present::FigureData figure = present::gather(p, f, *opened->recording, summary);
    figure.name = place.name = base + f.name;
    if (const int status = told(present::draw(figure, place.folder, true), place); status != kHeld) return status;
  }
  return kHeld;
}

/// Options that say nothing without another, or beside it.
bool options_fit(const Arguments& arguments) {
  struct Rule {
    Option option;
    const char* name;
    Option other;
    bool needed;
    const char* advice;
  };
  const auto beside_layout = [](Option o, const char* name) {
    return Rule{o, name, Option::layout, false,
                "a layout says what is drawn, over the whole run: leave one of them out"};
  };
  for (const Rule& r : {Rule{Option::before, "before", Option::around, true, "it is about --around"},
                        Rule{Option::after, "after", Option::around, true, "it is about --around"},
                        Rule{Option::from, "from", Option::around, false, "--around says which stretch it is"},
                        Rule{Option::to, "to", Option::around, false, "--around says which stretch it is"},
                        beside_layout(Option::as, "as"), beside_layout(Option::from, "from"),
                        beside_layout(Option::to, "to"), beside_layout(Option::around, "around"),
                        beside_layout(Option::closer, "closer"), beside_layout(Option::response, "response")}) {
    if (!arguments.has(r.option) || arguments.has(r.other) == r.needed) continue;
    return say_error(fmt::format("--{}: {}", r.name, r.advice)), false;
  }
  return true;
}

}  // namespace

int run_figure(const Arguments& arguments) {
  if (!options_fit(arguments)) return kWrongInput;
  const std::string kind = arguments.value(Option::as).value_or("time");
  if (kind != "time" && kind != "xy" && kind != "spectrum" && kind != "histogram") {
    say_error(fmt::format("--as takes time, xy, spectrum or histogram, not `{}`", kind));
    return kWrongInput;
  }
  auto w = wanted(arguments);
  if (!w) return kWrongInput;
  if (w->runs[0]->times().empty()) return say_error("there is nothing in " + w->paths[0]), kWrongInput;
  if (const auto file = arguments.value(Option::layout)) return of_layout(arguments, *w, *file);
  std::optional<present::Mark> mark;
  const auto stretch = time_range_of(arguments, *w->runs[0], mark);
  if (!stretch) return kWrongInput;
  if (kind == "time") return over_time(arguments, *w, *stretch, mark);
  if (!w->named && w->signals.size() > 6) w->signals.resize(6);
  return over_other_axes(arguments, *w, *stretch, kind);
}

}  // namespace isodyne::app
