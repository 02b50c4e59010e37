#include "isodyne/present/report.h"

#include <algorithm>
#include <atomic>
#include <deque>
#include <filesystem>
#include <future>
#include <map>
#include <set>
#include <utility>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/process.h"
#include "isodyne/core/text.h"
#include "isodyne/present/figure.h"
#include "isodyne/present/moment_figure.h"
#include "isodyne/present/page_text.h"
#include "isodyne/present/report_plots.h"
#include "isodyne/present/timing_figure.h"
#include "isodyne/present/trace.h"

namespace isodyne::present {

namespace fs = std::filesystem;

namespace {

/// The figures of runs, drawn by other processes while this one goes on. What is drawn is collected at once, since
/// recordings are read by one thread.
class Drawings {
 public:
  /// Of one run more.
  void begin(const session::RunFolder& run) {
    const std::string folder = (fs::path(run.path) / "figures").string();
    std::error_code error, none;
    fs::create_directories(folder, error);
    if (error && all_) all_ = Failure{"cannot create the folder", folder, error.message()};
    // A run that is named twice is drawn once: two drawings at a time would write the same files.
    if (!all_ || !begun_.insert(fs::weakly_canonical(folder, none).string()).second) return;
    for (const program::Figure& figure : figures_of(*run.program))
      draw_into(folder, gather(*run.program, figure, *run.recording, run.summary));
    const auto broken = broken_rows(run.summary);
    for (std::size_t r = 0; r < std::min(broken.size(), kMostMoments); ++r) {
      if (auto moment = moment_figure(run, *broken[r])) {
        draw_into(folder, std::move(*moment));
      } else {  // a drawing of an earlier report would be of something else
        for (const char* kind : {".svg", ".png"})
          fs::remove(fs::path(folder) / (moment_name(*broken[r]) + kind), error);
      }
    }
    if (all_ && run.summary.timing)
      all_ =
          draw_timing(fmt::format("{}, {}: {}", run.summary.bench, run.summary.title(), run.summary.timing->verdict()),
                      *run.summary.timing, (fs::path(folder) / "timing").string());
  }

  /// Until all are there.
  Status wait() {
    wait_until_there_are(0);
    return all_;
  }

 private:
  static constexpr std::size_t kAtOnce = 4;

  void draw_into(const std::string& folder, FigureData data) {
    if (!all_) return;
    drawings_.push_back(
        std::async(std::launch::async, [data = std::move(data), folder] { return draw(data, folder); }));
    wait_until_there_are(kAtOnce);
  }
  void wait_until_there_are(std::size_t most) {
    for (; drawings_.size() > most; drawings_.pop_front()) {
      Status drawn = drawings_.front().get();
      if (!drawn && all_) all_ = std::move(drawn);
    }
  }

  std::deque<std::future<Status>> drawings_;
  std::set<std::string> begun_;
  Status all_ = Done{};
};

}  // namespace

namespace {

const char* look_of(judge::Answer answer) {
  if (answer == judge::Answer::held) return "held";
  if (answer == judge::Answer::broken) return "broken";
  return "open";
}

/// An instant that leads to the plots there.
std::string instant(std::size_t run, const std::optional<double>& t) {
  if (!t) return "–";
  return fmt::format("<a href=\"#plots{0}\" data-run=\"{0}\" data-at=\"{1:.9g}\">{2}</a>", run, *t, format_moment(*t));
}

std::string verdict_cell(const session::SummaryRow& row) {
  return fmt::format("<td class=\"v {}\">{}</td>", look_of(row.answer), judge::answer_word(row.answer));
}

/// A name that may go on in the next line behind a slash, or where it is very long.
std::string breakable(const std::string& name) {
  constexpr std::size_t kLong = 24;
  std::string html, piece;
  const auto end_piece = [&] { html += escaped(std::exchange(piece, "")) + "<wbr>"; };
  for (std::size_t i = 0; i < name.size(); ++i) {
    const bool begins = (static_cast<unsigned char>(name[i]) & 0xC0u) != 0x80u;  // of a character of UTF-8
    if (begins && piece.size() >= kLong) end_piece();
    piece += name[i];
    if (name[i] == '/') end_piece();
  }
  return html + escaped(piece);
}

/// What each run is called; those that would be called the same are told apart by their folders.
std::vector<std::string> titles_of(const std::vector<session::RunFolder>& runs) {
  std::map<std::string, int> times;
  for (const session::RunFolder& run : runs) ++times[run.summary.title()];
  std::vector<std::string> titles;
  for (const session::RunFolder& run : runs) {
    titles.push_back(run.summary.title());
    if (times[titles.back()] > 1) titles.back() += fmt::format(" ({})", run.path);
  }
  return titles;
}

/// Requirements down, runs across: the first thing a reviewer wants to see.
std::string overview(const std::vector<session::RunFolder>& runs, const std::vector<std::string>& titles) {
  constexpr std::size_t kMostBeside = 4;  // more of them stand upright, and say no margins
  const bool many = runs.size() > kMostBeside;
  std::string html = fmt::format(
      "<h2>Overview</h2>\n<div class=\"frame\"><table "
      "class=\"{}\"><tr><th>Requirement</th><th></th>",
      many ? "many" : "few");
  for (std::size_t i = 0; i < runs.size(); ++i)
    html += fmt::format("<th><a href=\"#run{}\">{}</a></th>", i + 1, escaped(titles[i]));
  html += "</tr>\n";
  std::vector<std::string> names;
  std::map<std::string, std::string> descriptions;
  for (const session::RunFolder& run : runs) {
    for (const session::SummaryRow& row : run.summary.rows) {
      if (descriptions.try_emplace(row.name, row.description).second) names.push_back(row.name);
    }
  }
  for (const std::string& name : names) {
    html += fmt::format("<tr><td><b>{}</b></td><td>{}</td>", breakable(name), escaped(descriptions[name]));
    for (const session::RunFolder& run : runs) {
      const auto row = std::find_if(run.summary.rows.begin(), run.summary.rows.end(),
                                    [&](const session::SummaryRow& r) { return r.name == name; });
      // In a narrow cell most of these words would be of what was not there to be judged.
      const bool bare = many && row != run.summary.rows.end() && row->answer == judge::Answer::not_tested;
      html += row == run.summary.rows.end() ? "<td></td>"
              : bare                        ? "<td><span class=\"soft\" title=\"not put to the test\">–</span></td>"
                     : fmt::format("<td><span class=\"v {}\">{}</span><br><span class=\"soft\">{}</span></td>",
                                   look_of(row->answer), judge::answer_word(row->answer),
                                   row->worst_margin && !many ? escaped("margin " + row->margin_text()) : "");
    }
    html += "</tr>\n";
  }
  html += "</table></div>\n";
  return html +
         (many ? "<p class=\"soft\">–: not put to the test in this run. An empty cell: not asked of it.</p>\n" : "");
}

std::string verdict_table(const session::Summary& s, std::size_t run) {
  if (s.rows.empty()) return "<h3>Verdicts</h3>\n<p class=\"soft\">The bench states no requirements.</p>\n";
  std::string html =
      "<h3>Verdicts</h3>\n<table class=\"verdicts\"><tr><th>Requirement</th><th>Verdict</th><th class=\"n\">Worst "
      "margin</th><th "
      "class=\"n\">at</th>"
      "<th class=\"n\">First broken</th><th class=\"n\">Tested</th><th>What it says</th></tr>\n";
  for (const session::SummaryRow& r : s.rows) {
    html += fmt::format(
        "<tr><td><b>{}</b></td>{}<td class=\"n\">{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td><td "
        "class=\"n\">{}×</td><td>{}<code>{}</code>{}</td></tr>\n",
        breakable(r.name), verdict_cell(r), escaped(r.margin_text()), instant(run, r.worst_at_s),
        instant(run, r.first_breach_s), r.tests, r.description.empty() ? "" : escaped(r.description) + "<br>",
        escaped(r.formula),
        r.source.empty() ? "" : fmt::format("<br><span class=\"soft\">{}</span>", escaped(r.source)));
  }
  return html +
         "</table>\n<p class=\"soft\">A margin is the distance to the limit at the worst instant, in the unit of the "
         "signal, or, where a formula compares several units, as a share of the limit; negative: beyond it. "
         "“–”: the formula compares no quantity, or was not put to the test.</p>\n";
}

/// Rows of the events that `wanted` takes, so many at most, and how many there were.
template <typename Wanted>
std::pair<std::string, std::size_t> event_rows(const record::Recording& recording, std::size_t run, std::size_t most,
                                               Wanted wanted) {
  std::string html = "<tr><th class=\"n\">Time</th><th>What</th><th>Where</th><th></th></tr>\n";
  std::size_t count = 0;
  for (const record::RecordedEvent& e : recording.events()) {
    if (!wanted(e) || ++count > most) continue;
    html += fmt::format("<tr><td class=\"n\">{}</td><td>{}</td><td>{}</td><td>{}</td></tr>\n",
                        instant(run, to_seconds(e.at)), escaped(e.kind), escaped(e.subject), escaped(e.text));
  }
  return {html, count};
}

std::string cut_off(std::size_t count, std::size_t most) {
  return count <= most
             ? ""
             : fmt::format("<p class=\"soft\">The first {} of {}; all are in the recording.</p>\n", most, count);
}

/// Who did what, when: between all that happens it would not be found.
std::string by_hand_table(const record::Recording& recording, std::size_t run) {
  constexpr std::size_t kMost = 1000;
  const auto [rows, count] = event_rows(recording, run, kMost, [](const record::RecordedEvent& e) {
    return e.is(observe::EventKind::change) || e.is(observe::EventKind::command);
  });
  if (count == 0) return "";
  return "<h3>Done while it ran</h3>\n<table>" + rows + "</table>\n" + cut_off(count, kMost);
}

std::string events_table(const record::Recording& recording, std::size_t run) {
  constexpr std::size_t kMostEvents = 400;
  const auto [rows, count] = event_rows(recording, run, kMostEvents, [](const record::RecordedEvent& e) {
    return !e.is(observe::EventKind::verdict);  // they have a table of their own
  });
  return by_hand_table(recording, run) +
         fmt::format("<h3>Events</h3>\n<details{}><summary>{} events in order</summary>\n<table>",
                     recording.events().size() <= 60 ? " open" : "", recording.events().size()) +
         rows + "</table></details>\n" + cut_off(count, kMostEvents);
}

/// RFC 2397, as the value of an attribute. A quarter shorter than base64, and read the more quickly.
std::string svg_address(const std::string& svg) {
  std::string address = "data:image/svg+xml;charset=utf-8,";
  for (const char c : svg) {
    switch (c) {
      case '%':
        address += "%25";
        break;
      case '#':
        address += "%23";
        break;
      case '"':
        address += "%22";
        break;
      case '&':
        address += "%26";
        break;
      case '\n':
      case '\t':
        address += ' ';
        break;
      default:
        address += c;
    }
  }
  return address;
}

/// A drawing of the run's folder for the page: as a picture, of which a browser makes nothing before it is seen.
Result<std::string> drawing_html(const session::RunFolder& run, const std::string& name) {
  const auto svg = read_file((fs::path(run.path) / "figures" / (name + ".svg")).string());
  if (!svg) return svg.failure();
  return fmt::format("<figure><img loading=\"lazy\" alt=\"{}\" src=\"{}\"></figure>\n", escaped(name),
                     svg_address(*svg));
}

Result<std::string> figures_html(const session::RunFolder& run) {
  std::string html;
  for (const program::Figure& figure : figures_of(*run.program)) {
    const auto drawing = drawing_html(run, figure.name);
    if (!drawing) return drawing.failure();
    html += *drawing;
  }
  return html;
}

/// Whether real time was kept, what of it was not, and what went over the ports.
Result<std::string> timing_html(const session::RunFolder& run) {
  std::string html;
  for (const session::ControllerSummary& c : run.summary.controllers) {
    if (run.summary.timing || c.traffic.any()) html += fmt::format("<p>{}</p>\n", escaped(c.text()));
  }
  if (!run.summary.timing) return html;
  const session::TimingSummary& t = *run.summary.timing;
  html = fmt::format("<h3>Real time</h3>\n<p class=\"v {}\">{}</p>\n<p>Steps {}.</p>\n{}",
                     t.overruns == 0 ? "held" : "broken", escaped(t.verdict()), escaped(t.rights()), html);
  for (const std::string& l : t.lacking) html += fmt::format("<div class=\"note\">Missing: {}.</div>\n", escaped(l));
  if (!t.whole())
    html += fmt::format(
        "<div class=\"note\"><b>The recording and the verdicts lack {} images and {} events</b>, the first at "
        "{:.6g} s.</div>\n",
        t.images_lost, t.events_lost, t.first_lost_s);
  html +=
      "<table><tr><th>Time</th><th class=\"n\">p50</th><th class=\"n\">p99</th><th class=\"n\">p99.9</th><th "
      "class=\"n\">most</th></tr>\n";
  for (const session::TimesRow& r : t.rows)
    html += fmt::format(
        "<tr><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td><td "
        "class=\"n\">{}</td></tr>\n",
        escaped(r.name), session::microseconds(r.p50), session::microseconds(r.p99), session::microseconds(r.p999),
        session::microseconds(r.longest));
  html += "</table>\n";
  const auto drawing = drawing_html(run, "timing");
  if (!drawing) return drawing.failure();
  return html + *drawing;
}

std::string facts(const session::RunFolder& run) {
  const session::Summary& s = run.summary;
  std::string faults;
  for (const std::string& name : s.faults) {
    const auto fault = std::find_if(run.program->faults.begin(), run.program->faults.end(),
                                    [&](const program::Fault& f) { return f.name == name; });
    const std::string doc = fault == run.program->faults.end() || fault->doc.empty() ? "" : ": " + fault->doc;
    faults += fmt::format("{}{}{}", faults.empty() ? "" : "; ", name, doc);
  }
  const auto row = [](const char* what, const std::string& text) {
    return text.empty() ? "" : fmt::format("<tr><th>{}</th><td>{}</td></tr>\n", what, escaped(text));
  };
  std::string scenario = s.scenario;
  for (const program::Scenario& sc : run.program->scenarios) {
    if (sc.name == s.scenario && !sc.doc.empty()) scenario += ": " + sc.doc;
  }
  return "<table>" + row("Scenario", scenario) + row("Faults", faults.empty() ? "none" : faults) +
         row("Values in place of the bench's", listed(s.overrides)) + row("Controller setting", s.setting) +
         row("Seed", s.seed) +
         row("Step", fmt::format("{} ({}), recorded every {}", format_span(run.program->step), s.method,
                                 format_span(run.program->record_period()))) +
         row("Simulated", fmt::format("{} in {} of wall time, started {}", format_seconds(s.ended_at_s),
                                      format_seconds(s.wall_seconds, 1), s.started)) +
         row("Ending", s.ending_text()) + row("Isodyne", s.version) + "</table>\n";
}

/// What was broken in a run, when, by how much, and how that moment looked.
std::string broken_html(const session::RunFolder& run, std::size_t number) {
  const auto rows = broken_rows(run.summary);
  if (rows.empty()) return "";
  std::string html;
  for (std::size_t i = 0; i < rows.size(); ++i) {
    const session::SummaryRow& r = *rows[i];
    html += fmt::format("<div class=\"moment\"><p><b class=\"v broken\">{}</b> first at {}", breakable(r.name),
                        instant(number, r.first_breach_s));
    if (r.worst_margin)
      html += fmt::format(", at worst {} ({})", escaped(r.margin_text()), instant(number, r.worst_at_s));
    html += fmt::format(". {}<br><code>{}</code></p>\n", escaped(r.description), escaped(r.formula));
    if (i < kMostMoments) {
      if (const auto drawing = drawing_html(run, moment_name(r))) html += *drawing;
    }
    html += "</div>\n";
  }
  return html;
}

/// Why verdicts of a run may say less than they seem to: it ended early, a controller was lost, a fault never came.
std::string trouble_html(const session::Summary& s) {
  std::string html;
  if (!s.explanation.empty()) {
    html += fmt::format("<div class=\"note\"><b>The run ended early ({}).</b> {}", escaped(s.ending_text()),
                        escaped(s.explanation));
    for (const std::string& d : s.details) html += "<br>" + escaped(d);
    html += "</div>\n";
  }
  for (const std::string& l : s.lost)
    html += fmt::format(
        "<div class=\"note\"><b>A controller was lost, though nothing asked for it:</b> {}. What comes after says "
        "nothing "
        "about it.</div>\n",
        escaped(l));
  for (const std::string& f : s.not_injected) {
    html += fmt::format("<div class=\"note\"><b>Fault {} was not injected:</b> {}.</div>\n", escaped(f),
                        s.why_not_injected(f));
  }
  return html;
}

/// What a reader has come for stands first; before it, that a run was not what was asked for.
std::string first_html(const std::vector<session::RunFolder>& runs, const std::vector<std::string>& titles) {
  std::string trouble, broken;
  for (std::size_t i = 0; i < runs.size(); ++i) {
    const std::string heading =
        runs.size() > 1 ? fmt::format("<h3><a href=\"#run{}\">{}</a></h3>\n", i + 1, escaped(titles[i])) : "";
    const std::string own = trouble_html(runs[i].summary), what = broken_html(runs[i], i + 1);
    if (!own.empty()) trouble += heading + own;
    if (!what.empty()) broken += heading + what;
  }
  if (!broken.empty()) return trouble + "<h2 class=\"run first\">What was broken</h2>\n" + broken;
  std::vector<std::string> counts;
  for (const judge::Answer a :
       {judge::Answer::held, judge::Answer::not_tested, judge::Answer::undecided, judge::Answer::interrupted}) {
    std::size_t all = 0;
    for (const session::RunFolder& run : runs) all += run.summary.count(a);
    if (all > 0) counts.push_back(fmt::format("{} {}", all, judge::answer_word(a)));
  }
  return fmt::format("{}<p>No requirement was broken{}{}.</p>\n", trouble, counts.empty() ? "" : ": ",
                     listed(counts, ""));
}

/// `title`: of the run among those of the report; empty if it is alone, and its trouble was told above.
Result<std::string> run_section(const session::RunFolder& run, std::size_t number, const std::string& title,
                                const PagePlots& plots) {
  const bool alone = title.empty();
  const session::Summary& s = run.summary;
  std::string html = fmt::format("<h2 class=\"run{}\" id=\"run{}\">{}</h2>\n<p>{}.</p>\n", alone ? " first" : "",
                                 number, escaped(alone ? s.title() : title), s.counts_text());
  if (!alone) html += trouble_html(s);
  for (const std::string& r : s.remarks) html += fmt::format("<div class=\"note\">{}</div>\n", escaped(r));
  for (const session::Summary::Saturated& c : s.saturated)
    html += fmt::format("<div class=\"note\"><b>Channel</b> {}.</div>\n", escaped(c.text()));
  const auto figures = figures_html(run);
  if (!figures) return figures.failure();
  const auto timing = timing_html(run);
  if (!timing) return timing.failure();
  html += facts(run) + verdict_table(s, number) + plots.before + *figures + plots.behind + *timing +
          events_table(*run.recording, number);
  html += fmt::format(
      "<h3>Repeat it</h3>\n<p>With the sources below in one folder and the controller built{}:</p>\n<pre>{}</pre>\n",
      s.timing ? ", this repeats the run; against the wall clock, answers may come at other instants"
               : ", this gives the same recording, bit for bit",
      escaped(s.command));
  return html;
}

/// Of each fault that acted: what names it, and what it broke.
std::string caught_html(const Trace& trace, const std::vector<std::string>& titles) {
  std::string rows;
  for (const TraceFault& f : trace.faults) {
    if (f.acted.empty()) continue;
    rows += fmt::format("<tr><td>{}</td><td>{}</td><td>{}</td></tr>\n", escaped(f.name),
                        escaped(listed(f.named_by, "nothing")),
                        escaped(f.caught_by.empty() ? "nothing" : caught_text(f, titles)));
  }
  if (rows.empty()) return {};
  std::string remarks = "Named by: requirements that read whether it acts.";
  for (const std::string& r : caught_remarks(trace, titles)) remarks += " " + escaped(r);
  return "<table>\n<thead><tr><th>Fault</th><th>Named by</th><th>Caught by</th></tr></thead>\n<tbody>" + rows +
         "</tbody></table>\n<p class=\"soft\">" + remarks + "</p>\n";
}

/// What all runs together leave open.
std::string trace_html(const std::vector<session::RunFolder>& runs, const std::vector<std::string>& titles) {
  const Trace trace = trace_of(runs);
  std::string html =
      fmt::format("<h2>What {} not cover</h2>\n<table>\n", runs.size() == 1 ? "this run does" : "these runs do");
  for (const auto& [what, names] : {std::pair{"Requirements not put to the test", &trace.untested},
                                    {"Faults never injected", &trace.uninjected},
                                    {"Scenarios not played", &trace.unplayed}}) {
    html += fmt::format("<tr><th>{}</th><td>{}</td></tr>\n", what, escaped(listed(*names, "none")));
  }
  return html + "</table>\n" + caught_html(trace, titles);
}

/// The sources of all runs; a file that is the same in several is shown once.
std::string sources_html(const std::vector<session::RunFolder>& runs) {
  std::string html = "<div class=\"screen\"><h2>Sources</h2>\n<p>The bench as it was run, out of the recording.</p>\n";
  std::set<std::pair<std::string, std::string>> shown;
  for (const session::RunFolder& run : runs) {
    for (const auto& [name, text] : run.recording->identity().sources) {
      if (!shown.insert({name, text}).second) continue;
      html += fmt::format("<details><summary>{}</summary><pre>{}</pre></details>\n", escaped(name), escaped(text));
    }
  }
  return html + "</div>\n";
}

}  // namespace

Result<std::string> report_html(const std::vector<session::RunFolder>& runs,
                                const std::function<void(std::size_t)>& begins) {
  Drawings drawings;
  std::vector<PagePlots> plots;
  for (std::size_t i = 0; i < runs.size(); ++i) {
    if (begins) begins(i);
    drawings.begin(runs[i]);
  }
  for (std::size_t i = 0; i < runs.size(); ++i) plots.push_back(plots_of(runs[i], i + 1));  // meanwhile
  const Status drawn = drawings.wait();
  if (!drawn) return drawn.failure();
  const session::Summary& first = runs.front().summary;
  const std::string title = runs.size() == 1 ? fmt::format("{}: {}", first.bench, first.title())
                                             : fmt::format("{}: {} runs", first.bench, runs.size());
  std::string html = fmt::format(
      "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" "
      "content=\"width=device-width\">\n<title>{}</title>\n<style>{}{}</style>\n{}</head><body>\n",
      escaped(title), plots_style(), page_style(), plots_script());
  html += fmt::format("<h1>{}</h1>\n<p class=\"soft\">{}</p>\n", escaped(title), escaped(runs.front().program->doc));
  const std::vector<std::string> titles = titles_of(runs);
  html += first_html(runs, titles);
  if (runs.size() > 1) html += overview(runs, titles);
  std::string finer;
  for (std::size_t i = 0; i < runs.size(); ++i) {
    const auto section = run_section(runs[i], i + 1, runs.size() == 1 ? "" : titles[i], plots[i]);
    if (!section) return section.failure();
    html += *section;
    finer += plots[i].finer;
  }
  return html + trace_html(runs, titles) + sources_html(runs) + finer + "</body></html>\n";
}

Result<std::string> print_pdf(const std::string& html_file) {
  const std::string browser = on_path("chromium");
  if (browser.empty()) return Failure{"cannot print", html_file, "chromium is not installed"};
  const fs::path pdf = fs::path(html_file).replace_extension(".pdf");
  const std::string messages = pdf.string() + ".log";
  std::error_code none;
  fs::remove(pdf, none);
  const std::atomic<bool> stop{false};
  // It prints what it is told to from files of ours; its own walls need rights that containers do not have.
  const auto ran =
      run_program("chromium",
                  {browser, "--headless=new", "--no-sandbox", "--disable-gpu", "--no-pdf-header-footer",
                   "--print-to-pdf=" + fs::absolute(pdf).string(), "file://" + fs::absolute(html_file).string()},
                  messages, std::chrono::minutes(2), stop);
  if (!ran) return ran.failure();
  if (!fs::exists(pdf, none)) return Failure{"cannot print", html_file, "see " + messages};
  fs::remove(messages, none);
  return pdf.string();
}

}  // namespace isodyne::present
