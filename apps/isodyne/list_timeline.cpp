// list SCENARIO --timeline: what is due when, without a run.

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/present/timeline.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

std::string indent(std::size_t depth) {
  std::string text;
  for (std::size_t i = 0; i < depth; ++i) text += "│ ";
  return text;
}

/// "scenarios.dyne:12": without the folder and the column.
std::string short_place(const std::string& place) {
  const std::string file = place.substr(place.rfind('/') == std::string::npos ? 0 : place.rfind('/') + 1);
  return file.substr(0, file.rfind(':'));
}

/// "5 s", or "5 s .. 6 min" where it depends on the run.
std::string when_text(const present::TimelineRow& r) {
  if (!r.latest) return format_span(r.earliest) + " ..";
  if (*r.latest == r.earliest) return format_span(r.earliest);
  return fmt::format("{} .. {}", format_span(r.earliest), format_span(*r.latest));
}

}  // namespace

int list_timeline(const Arguments& arguments, const program::Program& p) {
  const auto scenario = arguments.words.size() == 2 ? scenario_named(p, arguments.words[1]) : std::nullopt;
  if (arguments.words.size() != 2)
    say_error("--timeline is about one scenario: isodyne list BENCH SCENARIO --timeline");
  if (!scenario) return kWrongInput;
  const program::Scenario& s = p.scenarios[static_cast<std::size_t>(*scenario)];
  const present::Timeline t = present::timeline_of(p, s);
  if (arguments.has(Option::json)) {
    Json all{{"scenario", s.name}, {"earliest_end_s", to_seconds(t.earliest)}, {"rows", Json::array()}};
    all["latest_end_s"] = t.latest ? Json(to_seconds(*t.latest)) : Json(nullptr);
    for (const present::TimelineRow& r : t.rows) {
      Json row{{"depth", r.depth}, {"earliest_s", to_seconds(r.earliest)}, {"latest_s", nullptr}};
      if (r.latest) row["latest_s"] = to_seconds(*r.latest);
      row["lasts_s"] = to_seconds(r.lasts);
      row["text"] = r.text;
      row["place"] = r.place;
      all["rows"].push_back(std::move(row));
    }
    say(all.dump(2, ' ', false, Json::error_handler_t::replace));
    return kHeld;
  }
  Time whole = t.latest.value_or(t.earliest);
  for (const present::TimelineRow& r : t.rows) whole = std::max(whole, r.latest.value_or(r.earliest) + r.lasts);
  constexpr std::size_t kBar = 32;
  const std::string scale =
      "0" + std::string(kBar - 1 - std::min(kBar - 1, display_width(format_span(whole))), ' ') + format_span(whole);
  TextTable table({{"Begins"}, {scale}, {"Action"}, {"Where"}});
  for (const present::TimelineRow& r : t.rows)
    table.row({when_text(r), present::timeline_bar(r, whole, kBar), indent(r.depth) + r.text, short_place(r.place)});
  put(stdout, table.text(0, colours_on(stdout)));
  const std::string least = format_span(t.earliest);
  say(!t.latest ? fmt::format("Over after {} at the earliest; how long it can take there is no telling.", least)
      : *t.latest == t.earliest
          ? fmt::format("Over after {}.", least)
          : fmt::format("Over after {} at the earliest, {} at the latest.", least, format_span(*t.latest)));
  return kHeld;
}

}  // namespace isodyne::app
