// compare: what differs between recordings, signal by signal, and beside them.

#include "compare.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/present/signal_figure.h"
#include "isodyne/record/differences.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using record::Recording;
using record::SignalDifference;
using Verdict = SignalDifference::Verdict;

namespace {

/// --allow: how far signals may be apart.
struct Allowance {
  std::string pattern;
  double value = 0;
  std::string unit;  ///< "%": of the range of the signal
  Time time{};
};

/// "chamber.level=5 cm within 0.2 s", "*=0.1 %", "gate.open=within 20 ms".
std::optional<Allowance> read_allowance(const std::string& text) {
  const std::size_t equals = text.find('=');
  Allowance a;
  bool good = equals != std::string::npos && equals > 0;
  if (good) {
    a.pattern = one_line(std::string_view(text).substr(0, equals));
    std::string amount = one_line(std::string_view(text).substr(equals + 1));
    const std::size_t within = amount.find("within ");
    if (within != std::string::npos) {
      const auto time = read_span(one_line(std::string_view(amount).substr(within + 7)));
      good = time.has_value();
      a.time = time.value_or(Time{});
      amount = one_line(std::string_view(amount).substr(0, within));
    }
    if (!amount.empty()) {
      const auto read = std::from_chars(amount.data(), amount.data() + amount.size(), a.value);
      good = good && read.ec == std::errc{} && a.value >= 0;
      if (good)
        a.unit =
            one_line(std::string_view(read.ptr, static_cast<std::size_t>(amount.data() + amount.size() - read.ptr)));
    } else {
      good = good && within != std::string::npos;
    }
  }
  if (good) return a;
  say_error(
      fmt::format("--allow takes a signal and how far it may be off, such as \"level=5 cm within 0.2 s\" or "
                  "\"*=0.1 %\", not `{}`",
                  text));
  return std::nullopt;
}

/// In SI; nothing, and said why, if the unit is not one of the signal.
std::optional<double> in_si(const Allowance& a, const Recording& recording, const std::string& name) {
  if (a.value == 0) return 0;
  if (a.unit == "%") {
    const auto values = recording.signal(name);
    double low = INFINITY, high = -INFINITY;
    for (const double v : values.value_or(std::vector<double>{})) {
      if (std::isfinite(v)) low = std::min(low, v), high = std::max(high, v);
    }
    return high > low ? a.value / 100 * (high - low) : 0;
  }
  const record::SignalUnit own = recording.unit(name);
  const auto given = parse_unit(a.unit.empty() ? "1" : a.unit);
  const auto expected = parse_unit(own.read_in.empty() ? "1" : own.read_in);
  if (given && expected && given->dimension == expected->dimension) return a.value * difference_unit(*given).factor;
  say_error(fmt::format("`{}` is no unit for {}, which is in {}", a.unit, name, own.read_in));
  return std::nullopt;
}

const char* word_of(Verdict v) {
  switch (v) {
    case Verdict::equal:
      return "equal";
    case Verdict::within:
      return "within";
    case Verdict::differs:
      return "differs";
    case Verdict::only_a:
      return "only in the first";
    case Verdict::only_b:
      return "only in the second";
    case Verdict::other_kind:
      return "cannot be compared";
  }
  return "?";
}
bool fine(Verdict v) {
  return v == Verdict::equal || v == Verdict::within;
}

/// One run against the first.
struct Comparison {
  std::string a, b;
  record::Alignment how;
  std::vector<SignalDifference> signals;
  std::vector<std::string> lacks;  ///< what one has and the other has not
  std::vector<std::string> others;
};

std::string in_unit(double si, const Recording& recording, const std::string& name, bool gap) {
  const record::SignalUnit u = recording.unit(name);
  const std::vector<std::string> labels = present::labels_of(u);
  if (!gap && !labels.empty() && si >= 0 && si < static_cast<double>(labels.size()))
    return labels[static_cast<std::size_t>(si)];
  if (u.si == "bool" && !gap) return si != 0 ? "true" : "false";
  if (gap && (u.si == "bool" || !labels.empty())) return "–";  // it is another one, not further away
  const double shown = gap ? si / u.factor : (si - u.offset) / u.factor;
  const bool named = !u.read_in.empty() && u.read_in != "1" && u.si != "bool" && u.si != "int";
  return format_number(shown) + (named ? " " + u.read_in : "");
}

Json to_json(const Comparison& c, const Recording& a) {
  Json j{{"first", c.a},
         {"second", c.b},
         {"shift_s", to_seconds(c.how.shift)},
         {"from_s", to_seconds(c.how.begin)},
         {"to_s", to_seconds(c.how.end)},
         {"same_instants", c.how.same_instants},
         {"instants_compared", c.how.compared},
         {"signals", Json::array()}};
  for (const SignalDifference& d : c.signals) {
    Json s{{"name", d.name}, {"verdict", word_of(d.verdict)}};
    if (d.verdict == Verdict::within || d.verdict == Verdict::differs) {
      s["unit"] = a.unit(d.name).si;
      s["largest"] = std::isfinite(d.largest) ? Json(d.largest) : Json(nullptr);
      s["largest_at_s"] = to_seconds(d.largest_at);
    }
    if (d.from) s["from_s"] = to_seconds(*d.from);
    j["signals"].push_back(std::move(s));
  }
  j["extent_differences"] = c.lacks;
  j["other_differences"] = c.others;
  return j;
}

void print(const Comparison& c, const Recording& a, const Recording& b) {
  say(fmt::format("{} against {}: {} instants from {} to {}{}", c.b, c.a, c.how.compared, format_instant(c.how.begin),
                  format_instant(c.how.end),
                  c.how.shift == Time{} ? "" : fmt::format(", {} later there", format_instant(c.how.shift))));
  for (const std::string& l : c.lacks) say("They differ in their " + l + ".");
  if (!c.how.same_instants && c.how.compared > 0)
    say(fmt::format("Their instants are not the same: those of {} are compared, with {} read between its own.",
                    c.how.by_a ? "the first" : "the second", c.how.by_a ? "the second" : "the first"));
  std::size_t equal = 0;
  TextTable table({{"Signal"},
                   {"Verdict"},
                   {"from", TextTable::Align::right},
                   {"in the first", TextTable::Align::right},
                   {"in the second", TextTable::Align::right},
                   {"Largest difference", TextTable::Align::right},
                   {"at", TextTable::Align::right}});
  for (const SignalDifference& d : c.signals) {
    if (d.verdict == Verdict::equal) {
      ++equal;
      continue;
    }
    const bool numbers = d.verdict == Verdict::within || d.verdict == Verdict::differs;
    const auto seconds = [](Time t) { return format_instant(t); };
    table.row({d.name, word_of(d.verdict), d.from ? seconds(*d.from) : "–",
               d.from ? in_unit(d.a_there, a, d.name, false) : "–", d.from ? in_unit(d.b_there, b, d.name, false) : "–",
               numbers ? in_unit(d.largest, a, d.name, true) : "–", numbers ? seconds(d.largest_at) : "–"},
              fine(d.verdict) ? "" : "31", 1);
  }
  if (!table.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say(fmt::format("{} of {} signals are equal to the bit.", equal, c.signals.size()));
  if (!c.others.empty()) say("Beside the signals they differ in");
  for (const std::string& o : c.others) say("  " + o);
}

/// What differs first, around where it does: both runs over each other.
Status draw_first(const Comparison& c, const Recording& a, const Recording& b, const std::string& folder) {
  std::vector<const SignalDifference*> first;
  for (const SignalDifference& d : c.signals) {
    if (d.from) first.push_back(&d);
  }
  if (first.empty()) return Done{};
  constexpr std::size_t kMostPanels = 5;
  if (first.size() > kMostPanels) first.resize(kMostPanels);
  const double at = to_seconds(*first.front()->from), all = to_seconds(c.how.end - c.how.begin);
  const present::TimeRange around{std::max(to_seconds(c.how.begin), at - all / 20),
                                  std::min(to_seconds(c.how.end), at + all / 8)};
  std::vector<std::string> names;
  for (const SignalDifference* d : first) {
    if (to_seconds(*d->from) <= around.end) names.push_back(d->name);
  }
  auto drawn = present::signal_figure({{&a, "1", 0}, {&b, "2", to_seconds(c.how.shift)}}, names, around, true);
  if (!drawn) return drawn.failure();
  present::FigureData& figure = *drawn;
  figure.name = "difference";
  figure.title =
      fmt::format("What differs first: {}, at {}", first.front()->name, format_instant(*first.front()->from));
  figure.subtitle = fmt::format("1: {}, 2: {}; {}", c.a, c.b,
                                c.others.empty() ? "the same bench, scenario and seed" : c.others.front());
  figure.marks.push_back({at, "differs from here on: " + first.front()->name});
  std::error_code error;
  fs::create_directories(folder, error);
  return present::draw(figure, folder);
}

/// How much later the second run is, by what happens in both.
std::optional<Time> shift_by(const std::string& what, const Recording& a, const Recording& b) {
  const auto in_a = record::first_time_of(a, what), in_b = record::first_time_of(b, what);
  if (in_a && in_b) return *in_b - *in_a;
  say_error(
      fmt::format("`{}` never comes in {}: --align takes what an event is about, a truth, or a level such as "
                  "\"chamber.level > 3 m\"",
                  what, in_a ? "the second run" : "the first run"));
  return std::nullopt;
}

std::optional<Comparison> compared(const std::string& first, const std::string& path, const Recording& a,
                                   const Recording& b, const Arguments& arguments,
                                   const std::vector<Allowance>& allowances) {
  Comparison c;
  c.a = first;
  c.b = path;
  Time shift{};
  if (const auto what = arguments.value(Option::align)) {
    const auto found = shift_by(*what, a, b);
    if (!found) return std::nullopt;
    shift = *found;
  }
  c.how = record::align(a, b, shift);
  if (!arguments.has(Option::common)) c.lacks = record::extent_differences(a, b, shift);
  c.others = record::other_differences(a, b);
  ProgressLine progress;
  const auto names = record::names_of_both(a, b);
  for (const Allowance& given : allowances) {
    if (std::any_of(names.begin(), names.end(), [&](const std::string& n) { return matches(given.pattern, n); }))
      continue;
    const auto meant = did_you_mean(given.pattern, names);
    say_error(fmt::format("--allow: no signal is called {}{}", given.pattern, meant ? "; " + *meant : ""));
    return std::nullopt;
  }
  for (std::size_t i = 0; i < names.size(); ++i) {
    if (progress.due()) progress.draw(static_cast<double>(i) / static_cast<double>(names.size()), names[i]);
    record::Allowed allowed;
    for (const Allowance& given : allowances) {  // the last that fits
      if (!matches(given.pattern, names[i]) || !a.has(names[i])) continue;
      const auto value = in_si(given, a, names[i]);
      if (!value) return std::nullopt;
      allowed = {*value, given.time};
    }
    c.signals.push_back(record::difference(a, b, names[i], shift, allowed));
  }
  // What differs first comes first: the rest may follow from it.
  std::stable_sort(c.signals.begin(), c.signals.end(), [](const SignalDifference& x, const SignalDifference& y) {
    return x.from.value_or(Time::max()) < y.from.value_or(Time::max());
  });
  return c;
}

}  // namespace

int compare_runs(const std::string& first, const std::vector<std::string>& others,
                 const std::vector<std::string>& allow, const Arguments& options, Json* told) {
  std::vector<Allowance> allowances;
  for (const std::string& text : allow) {
    auto read = read_allowance(text);
    if (!read) return kWrongInput;
    allowances.push_back(std::move(*read));
  }
  const auto a = open_recording(first);
  if (!a) return say_error(a.failure().text()), kWrongInput;
  bool all_fine = true;
  for (std::size_t i = 0; i < others.size(); ++i) {
    const auto b = open_recording(others[i]);
    if (!b) return say_error(b.failure().text()), kWrongInput;
    const auto c = compared(first, others[i], **a, **b, options, allowances);
    if (!c) return kWrongInput;
    if (c->how.compared == 0)
      return say_error(fmt::format("{} and {} have no time in common", c->a, c->b)), kWrongInput;
    all_fine = all_fine && c->lacks.empty();
    for (const SignalDifference& d : c->signals) all_fine = all_fine && fine(d.verdict);
    if (told != nullptr) {
      told->push_back(to_json(*c, **a));
    } else {
      if (i > 0) say("");
      print(*c, **a, **b);
    }
    if (const auto out = options.value(Option::out)) {
      const std::string folder = others.size() == 1 ? *out : (fs::path(*out) / std::to_string(i + 1)).string();
      const Status drawn = draw_first(*c, **a, **b, folder);
      if (!drawn) return say_error(drawn.failure().text()), kNotCompleted;
    }
  }
  return all_fine ? kHeld : kBroken;
}

int run_compare(const Arguments& arguments) {
  const bool json = arguments.has(Option::json);
  Json all = Json::array();
  const int status = compare_runs(arguments.words[0], {arguments.words.begin() + 1, arguments.words.end()},
                                  arguments.values(Option::allow), arguments, json ? &all : nullptr);
  if (json && status <= kBroken) say(all.dump(2, ' ', false, Json::error_handler_t::replace));
  return status;
}

}  // namespace isodyne::app
