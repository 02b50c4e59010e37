#include "verdicts.h"

#include <cmath>

#include <fmt/format.h>

#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

TextTable times_table(const std::vector<session::TimesRow>& rows) {
  TextTable table({{"Time", TextTable::Align::left},
                   {"p50", TextTable::Align::right},
                   {"p99", TextTable::Align::right},
                   {"p99.9", TextTable::Align::right},
                   {"most", TextTable::Align::right}});
  for (const session::TimesRow& r : rows) {
    table.row({r.name, session::microseconds(r.p50), session::microseconds(r.p99), session::microseconds(r.p999),
               session::microseconds(r.longest)});
  }
  return table;
}

namespace {

/// Whether real time was kept, and what went over the ports.
void print_timing(const session::Summary& s, bool colours) {
  for (const session::ControllerSummary& c : s.controllers) {
    if (s.timing || c.traffic.any()) say(c.text());
  }
  if (!s.timing) return;
  const session::TimingSummary& t = *s.timing;
  put(stdout, times_table(t.rows).text(width_of(stdout), colours));
  say(fmt::format("{} Steps {}.", t.verdict(), t.rights()));
  for (const std::string& l : t.lacking) say("Missing: " + l + ".");
  if (!t.whole())
    say(
        fmt::format("The recording and the verdicts lack {} images and {} events, the first at {}: they came quicker "
                    "than they could be written.",
                    t.images_lost, t.events_lost, format_seconds(t.first_lost_s)));
}

}  // namespace

void print_verdicts(const session::Summary& s, const std::string& closing) {
  const bool colours = colours_on(stdout);
  say(fmt::format("{}: {}, seed {}; {} simulated in {}", s.bench, s.title(), s.seed, format_seconds(s.ended_at_s),
                  format_seconds(s.wall_seconds, 1)));
  if (!s.rows.empty()) {
    TextTable table({{"Requirement", TextTable::Align::left},
                     {"Verdict", TextTable::Align::left},
                     {"Worst margin", TextTable::Align::right},
                     {"at", TextTable::Align::right},
                     {"First broken", TextTable::Align::right},
                     {"Meaning", TextTable::Align::left}});
    const auto seconds = [](const std::optional<double>& t) { return format_moment(t.value_or(NAN), 2); };
    for (const session::SummaryRow& r : s.rows) {
      const char* colour = r.answer == judge::Answer::held ? "32" : r.answer == judge::Answer::broken ? "1;31" : "33";
      table.row({r.name, judge::answer_word(r.answer), r.margin_text(), seconds(r.worst_at_s),
                 seconds(r.first_breach_s), r.description},
                colour, 1);
    }
    put(stdout, table.text(width_of(stdout), colours));
  }
  for (const std::string& f : s.not_injected)
    say(fmt::format("Fault {} was not injected: {}.", f, s.why_not_injected(f)));
  for (const std::string& r : s.remarks) say(r);
  for (const auto& c : s.saturated) say(fmt::format("Channel {}.", c.text()));
  print_timing(s, colours);
  say(fmt::format("{}. {}",
                  s.lost.empty() ? s.counts_text() : "Not completed, a controller was lost: " + s.counts_text(),
                  closing));
}

int status_of(const session::Summary& s, bool strict) {
  using judge::Answer;
  if (!s.lost.empty()) return kNotCompleted;
  if (s.count(Answer::broken) > 0) return kBroken;
  if (strict && !s.not_injected.empty()) return kBroken;
  return strict && s.count(Answer::held) != s.rows.size() ? kBroken : kHeld;
}

}  // namespace isodyne::app
