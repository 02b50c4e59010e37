#include <charconv>
#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/present/advice_figure.h"
#include "isodyne/session/advice.h"
#include "isodyne/session/summary.h"
#include "plans.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

std::optional<double> read_tolerance(const Arguments& arguments) {
  const std::string text = arguments.value(Option::tolerance).value_or("0.1");
  double percent = 0;
  const auto read = std::from_chars(text.data(), text.data() + text.size(), percent);
  const std::string_view rest(read.ptr, static_cast<std::size_t>(text.data() + text.size() - read.ptr));
  if (read.ec != std::errc{} || !(rest.empty() || rest == "%" || rest == " %") || !(percent > 0)) {
    say_error(fmt::format("--tolerance takes a number of percent above 0, such as 0.1, not `{}`", text));
    return std::nullopt;
  }
  return percent / 100;
}

std::optional<std::vector<program::VarId>> read_signals(const Arguments& arguments, const program::Program& p) {
  std::vector<program::VarId> chosen;
  for (const std::string& name : arguments.values(Option::signal)) {
    const program::VarId id = p.find(name);
    if (id != program::kNone && p.variable(id).type.kind == program::Type::Kind::real) {
      chosen.push_back(id);
      continue;
    }
    std::vector<std::string> names;
    for (const program::Variable& v : p.variables) {
      if (v.role != program::Role::hidden && v.type.kind == program::Type::Kind::real) names.push_back(v.name);
    }
    const auto meant = did_you_mean(name, names);
    say_error(fmt::format("bench {} has no real quantity `{}`{}", p.name, name, meant ? "; " + *meant : ""));
    return std::nullopt;
  }
  return chosen.empty() ? session::usual_signals(p) : chosen;
}

std::string percent(double share) {
  if (!(share <= 10)) return "> 1000 %";
  return share >= 0.1 ? fmt::format("{:.0f} %", 100 * share) : fmt::format("{:.2g} %", 100 * share);
}

/// The signal with the largest share of its range.
const session::SignalError* worst_of(const session::Trial& t) {
  const session::SignalError* worst = nullptr;
  for (const session::SignalError& e : t.errors) {
    if (worst == nullptr || e.share > worst->share) worst = &e;
  }
  return worst;
}

std::string amount(const program::Program& p, program::VarId id, double value) {
  Unit unit = p.variable(id).unit;
  unit.offset = 0;  // an error is a difference
  return fmt::format("{:.3g} {}", value / unit.factor, unit.text == "1" ? "" : unit.text);
}

void say_trials(const program::Program& p, const session::Advice& advice) {
  TextTable table({{"Method", TextTable::Align::left},
                   {"Step", TextTable::Align::right},
                   {"Largest error", TextTable::Align::right},
                   {"of range", TextTable::Align::right},
                   {"RMS", TextTable::Align::right},
                   {"Order", TextTable::Align::right},
                   {"Cost", TextTable::Align::right},
                   {"of step", TextTable::Align::right},
                   {"Worst signal", TextTable::Align::left}});
  for (std::size_t i = 0; i < advice.trials.size(); ++i) {
    const session::Trial& t = advice.trials[i];
    const session::SignalError* worst = worst_of(t);
    if (!t.trouble.empty() || worst == nullptr) {
      table.row({program::method_word(t.method), format_span(t.step), "–", "–", "–", "–", "–", "–", t.trouble}, "33",
                8);
      continue;
    }
    const bool chosen = advice.recommended == i;
    table.row({program::method_word(t.method), format_span(t.step), amount(p, worst->signal, worst->largest),
               percent(t.worst), amount(p, worst->signal, worst->rms), t.order ? fmt::format("{:.1f}", *t.order) : "–",
               fmt::format("{:.2f} µs", t.cost_ns / 1e3),
               fmt::format("{:.2g} %", 100 * t.cost_ns / static_cast<double>(t.step.count())),
               p.variable(worst->signal).name + (chosen ? "  <- recommended" : "")},
              chosen   ? "1;32"
              : t.good ? "32"
                       : "",
              3);
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

void say_paces(const session::Advice& advice) {
  if (advice.paces.empty()) return;
  say("");
  say("Time constants of the parts' own states, from the eigenvalues of their linearisation along the run:");
  TextTable table({{"Part", TextTable::Align::left},
                   {"Shortest", TextTable::Align::right},
                   {"at", TextTable::Align::right},
                   {"Longest", TextTable::Align::right},
                   {"", TextTable::Align::left}});
  constexpr std::size_t kMost = 8;
  for (std::size_t i = 0; i < std::min(kMost, advice.paces.size()); ++i) {
    const bench::PartPace& pace = advice.paces[i];
    table.row({pace.part, fmt::format("{:.3g} s", pace.shortest), format_instant(pace.at),
               fmt::format("{:.3g} s", pace.longest), pace.oscillates ? "oscillates" : ""});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

void say_verdict(const session::Advice& advice, double tolerance) {
  say("");
  if (advice.recommended) {
    const session::Trial& t = advice.trials[*advice.recommended];
    say(fmt::format(
        "Recommended: step {}  method {}: the largest error is {} of a signal's range (tolerance {}), and a "
        "step takes {:.2g} % of its time.",
        format_span(t.step), program::method_word(t.method), percent(t.worst), percent(tolerance),
        100 * t.cost_ns / static_cast<double>(t.step.count())));
    return;
  }
  std::string text = fmt::format("No step and method of the ladder stays within {}.", percent(tolerance));
  if (!advice.paces.empty()) {
    const bench::PartPace& stiff = advice.paces.front();
    text += fmt::format(
        " The quickest part is `{}`, with a time constant down to {:.3g} s: give it a step or a method of its "
        "own (`part … step 10 us  method implicit`), or allow more with --tolerance.",
        stiff.part, stiff.shortest);
  }
  say(text);
}

Json to_json(const program::Program& p, const session::Advice& advice, double tolerance) {
  Json j;
  j["tolerance"] = tolerance;
  j["compared_every_s"] = to_seconds(advice.compared_every);
  for (const session::Trial& t : advice.trials) {
    Json row{{"method", program::method_word(t.method)}, {"step_s", to_seconds(t.step)}};
    if (t.trouble.empty()) {
      row["worst_share"] = t.worst;
      row["within_tolerance"] = t.good;
      row["order"] = t.order ? Json(*t.order) : Json();
      row["cost_s"] = t.cost_ns / 1e9;
      for (const session::SignalError& e : t.errors)
        row["signals"][p.variable(e.signal).name] = {{"largest", e.largest}, {"rms", e.rms}, {"share", e.share}};
    } else {
      row["trouble"] = t.trouble;
    }
    j["trials"].push_back(row);
  }
  for (const bench::PartPace& pace : advice.paces)
    j["time_constants"].push_back({{"part", pace.part}, {"shortest_s", pace.shortest}, {"longest_s", pace.longest}});
  if (advice.recommended) j["recommended"] = *advice.recommended;
  return j;
}

}  // namespace

int run_advise(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const program::Program& p = *loaded.program;
  const auto wanted = read_plan(arguments, p);
  const auto tolerance = read_tolerance(arguments);
  const auto signals = read_signals(arguments, p);
  if (!wanted || !tolerance || !signals) return kWrongInput;
  session::AdviceWish wish;
  wish.request.bench = session::bench_of(loaded, folder_of(file));
  wish.request.plan = wanted->plan;
  wish.request.answer_within = wanted->answer_within;
  wish.request.evidence.judged = false;
  wish.signals = *signals;
  wish.tolerance = *tolerance;
  ProgressLine line;
  wish.progress = [&](const std::string& what, double share) {
    line.draw(share, what);
    return true;
  };
  const session::Advice advice = session::advise(wish);
  line.clear();
  if (!advice.trouble.empty()) {
    say_error(advice.trouble);
    return kNotCompleted;
  }
  if (arguments.has(Option::json)) {
    say(to_json(p, advice, *tolerance).dump(2));
  } else {
    say(fmt::format("{}: against a reference of {} evaluations in {:.1f} s, compared every {}", p.name,
                    advice.reference_evaluations, advice.reference_seconds, format_span(advice.compared_every)));
    say_trials(p, advice);
    say_paces(advice);
    say_verdict(advice, *tolerance);
  }
  if (const auto out = arguments.value(Option::out)) {
    std::error_code error;
    std::filesystem::create_directories(*out, error);
    const std::string title = arguments.words.size() > 1 ? p.name + ", " + arguments.words[1] : p.name;
    const Status drawn = present::draw_advice(title, advice, *tolerance, *out);
    if (!drawn) {
      say_error(drawn.failure().text());
      return kNotCompleted;
    }
    say_aside(fmt::format("wrote {0}/advice.png and {0}/advice.svg", *out));
  }
  return advice.recommended ? kHeld : kBroken;
}

}  // namespace isodyne::app
