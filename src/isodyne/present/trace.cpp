#include "isodyne/present/trace.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/present/page_text.h"

namespace isodyne::present {

using judge::Answer;
using judge::answer_word;

namespace {

bool healthy_twin(const session::RunFolder& run, const session::RunFolder& other) {
  return other.summary.faults.empty() && other.summary.scenario == run.summary.scenario &&
         other.summary.setting == run.summary.setting && other.summary.overrides == run.summary.overrides;
}

/// What counts for a requirement that several runs asked.
Answer overall_of(const std::vector<std::optional<Answer>>& answers) {
  for (const Answer a : {Answer::broken, Answer::held, Answer::undecided, Answer::interrupted}) {
    if (std::find(answers.begin(), answers.end(), a) != answers.end()) return a;
  }
  return Answer::not_tested;
}

void fill_row(TraceRow& row, const std::vector<session::RunFolder>& runs) {
  for (const session::RunFolder& run : runs) {
    const auto found =
        std::find_if(run.summary.rows.begin(), run.summary.rows.end(),
                     [&](const session::SummaryRow& r) { return r.name == row.requirement && !r.expected; });
    const bool asked = found != run.summary.rows.end();
    row.answers.push_back(asked ? std::optional(found->answer) : std::nullopt);
    row.margins.push_back(asked && found->worst_margin ? found->margin_text() : "");
    if (asked) {
      row.description = found->description;
      row.source = found->source;
    }
  }
  row.overall = overall_of(row.answers);
}

}  // namespace

std::vector<std::string> naming(const program::Program& p, const program::Fault& f) {
  const auto reads = [&](program::NodeId node) {
    if (node == program::kNone) return false;
    const auto all = p.reads(node);
    return std::find(all.begin(), all.end(), f.active) != all.end();
  };
  std::vector<std::string> names;
  for (const program::Requirement& r : p.requirements) {
    const bool over_time = std::any_of(r.nodes.begin(), r.nodes.end(), [&](const auto& n) { return reads(n.value); });
    if (over_time || reads(r.trigger) || reads(r.check)) names.push_back(r.name);
  }
  return names;
}

namespace {

bool broken_in(const std::vector<TraceRow>& rows, std::size_t row, std::size_t run) {
  return rows[row].answers[run] == Answer::broken;
}

/// What was broken before a fault acted is not its doing.
bool broken_before(const session::RunFolder& run, const std::string& requirement, const std::string& fault) {
  const auto row = std::find_if(run.summary.rows.begin(), run.summary.rows.end(),
                                [&](const session::SummaryRow& r) { return r.name == requirement && !r.expected; });
  if (row == run.summary.rows.end() || !row->first_breach_s) return false;
  for (const record::RecordedEvent& e : run.recording->events()) {
    if (e.is(observe::EventKind::fault_on) && e.subject == fault) return *row->first_breach_s < to_seconds(e.at);
  }
  return false;
}

TraceFault trace_fault(const program::Program& p, const program::Fault& f, const std::vector<session::RunFolder>& runs,
                       const Trace& t) {
  TraceFault traced;
  traced.name = f.name;
  traced.named_by = naming(p, f);
  for (std::size_t r = 0; r < runs.size(); ++r) {
    if (contains(t.runs[r].faults, f.name)) traced.acted.push_back(r);
  }
  for (std::size_t row = 0; row < t.rows.size(); ++row) {
    TraceFault::Caught caught{t.rows[row].requirement, {}};
    for (const std::size_t r : traced.acted) {
      if (!broken_in(t.rows, row, r) || broken_before(runs[r], t.rows[row].requirement, f.name)) continue;
      bool anyway = false;  // it was broken without a fault too
      for (std::size_t other = 0; other < runs.size(); ++other)
        anyway = anyway || (healthy_twin(runs[r], runs[other]) && broken_in(t.rows, row, other));
      if (!anyway) caught.runs.push_back(r);
    }
    if (!caught.runs.empty()) traced.caught_by.push_back(std::move(caught));
  }
  return traced;
}

}  // namespace

std::vector<std::string> caught_remarks(const Trace& t, const std::vector<std::string>& called) {
  std::vector<std::string> remarks{
      "Caught by: broken where it acted, not before, and not in a run of the same scenario and values without a "
      "fault."};
  std::vector<std::string> alone, several;
  for (std::size_t r = 0; r < t.runs.size(); ++r) {
    if (t.runs[r].faults.empty()) continue;
    if (!t.runs[r].has_twin) alone.push_back(called[r]);
    if (t.runs[r].faults.size() > 1) several.push_back(called[r]);
  }
  if (!alone.empty())
    remarks.push_back(fmt::format(
        "No run of the same scenario and values without a fault is here for {}: what was broken there may not be the "
        "fault's doing.",
        listed(alone, "")));
  if (!several.empty())
    remarks.push_back(fmt::format("Several faults acted in {}: what was broken there may be the work of any of them.",
                                  listed(several, "")));
  return remarks;
}

std::string caught_text(const TraceFault& fault, const std::vector<std::string>& called) {
  std::string text;
  for (const TraceFault::Caught& c : fault.caught_by) {
    std::string in;
    for (const std::size_t r : c.runs) list_on(in, called[r]);
    text += fmt::format("{}{} in {}", text.empty() ? "" : "; ", c.requirement, in);
  }
  return text;
}

namespace {

std::vector<TraceHazard> hazards_of(const program::Program& p, const std::vector<TraceRow>& rows) {
  std::vector<TraceHazard> all;
  for (const program::Hazard& h : p.hazards) {
    TraceHazard traced{h.name, h.doc, h.level, h.source, {}};
    for (const auto* list : {&h.broken, &h.requirements}) {
      for (const std::int32_t r : *list) {
        const program::Requirement& q = at(p.requirements, r);
        const auto row =
            std::find_if(rows.begin(), rows.end(), [&](const TraceRow& t) { return t.requirement == q.name; });
        traced.requirements.push_back({q.name, q.level, listed(q.allocated, ""),
                                       row == rows.end() ? Answer::not_tested : row->overall, q.by_review});
      }
    }
    all.push_back(std::move(traced));
  }
  return all;
}

}  // namespace

std::vector<std::pair<const char*, std::vector<std::string>>> gaps_of(const Trace& t) {
  std::vector<std::string> unkept, without_level, nobody, by_review, untested;
  const auto once = [](std::vector<std::string>& to, const std::string& name) {
    if (!contains(to, name)) to.push_back(name);
  };
  for (const TraceHazard& h : t.hazards) {
    if (h.requirements.empty()) unkept.push_back(h.name);
    for (const TraceHazard::Requirement& r : h.requirements) {
      if (r.level.empty() && !h.level.empty()) once(without_level, r.name);
      if (r.allocated.empty()) once(nobody, r.name);
      if (r.by_review)
        once(by_review, r.name);
      else if (r.overall == Answer::not_tested)
        once(untested, r.name);
    }
  }
  return {{"Not put to the test by any run", t.untested},
          {"Faults that no run injected", t.uninjected},
          {"Scenarios that no run played", t.unplayed},
          {"Injected faults that broke no requirement", t.uncaught},
          {"Injected faults that no requirement names", t.unnamed},
          {"Hazards that no requirement keeps away", unkept},
          {"Requirements of hazards without a level", without_level},
          {"Requirements of hazards that are allocated to nobody", nobody},
          {"Requirements of hazards that people alone judge", by_review},
          {"Requirements of hazards that no run put to the test", untested}};
}

Trace trace_of(const std::vector<session::RunFolder>& runs) {
  Trace t;
  const program::Program& p = *runs.back().program;
  t.bench = p.name;
  std::vector<std::string> names;
  for (const program::Requirement& r : p.requirements) names.push_back(r.name);
  std::set<std::string> injected, played;
  for (const session::RunFolder& run : runs) {
    const session::Summary& s = run.summary;
    TraceRun r{run.path, s.scenario, s.title(), {}, s.not_injected, !s.lost.empty(), false};
    r.has_twin = std::any_of(runs.begin(), runs.end(),
                             [&](const session::RunFolder& other) { return healthy_twin(run, other); });
    if (r.lost) r.title += " (controller lost)";
    for (const std::string& f : s.faults) {
      if (!contains(s.not_injected, f)) r.faults.push_back(f);
    }
    injected.insert(r.faults.begin(), r.faults.end());
    played.insert(s.scenario);
    t.runs.push_back(std::move(r));
    for (const session::SummaryRow& row : s.rows) {
      if (!row.expected && !contains(names, row.name)) names.push_back(row.name);
    }
  }
  for (const std::string& name : names) {
    TraceRow row;
    row.requirement = name;
    fill_row(row, runs);
    if (row.overall == Answer::not_tested) t.untested.push_back(name);
    t.rows.push_back(std::move(row));
  }
  t.hazards = hazards_of(p, t.rows);
  for (const program::Fault& f : p.faults) {
    t.faults.push_back(trace_fault(p, f, runs, t));
    const TraceFault& traced = t.faults.back();
    if (!injected.contains(f.name)) {
      t.uninjected.push_back(f.name);
      continue;
    }
    if (traced.named_by.empty()) t.unnamed.push_back(f.name);
    if (traced.caught_by.empty()) t.uncaught.push_back(f.name);
  }
  for (const program::Scenario& s : p.scenarios) {
    if (!played.contains(s.name) && s.needs.empty()) t.unplayed.push_back(s.name);
  }
  return t;
}

std::string trace_csv(const Trace& t) {
  std::string text = csv_line({"requirement", "source", "scenario", "faults", "faults not injected", "verdict",
                               "margin", "run", "hazards", "level", "allocated to"});
  const auto joined = [](const std::vector<std::string>& all) {
    std::string one;
    for (const std::string& x : all) one += (one.empty() ? "" : " ") + x;
    return one;
  };
  for (const TraceRow& row : t.rows) {
    std::string hazards, level, allocated;
    for (const TraceHazard& h : t.hazards) {
      for (const TraceHazard::Requirement& r : h.requirements) {
        if (r.name != row.requirement) continue;
        list_on(hazards, h.name, " ");
        level = r.level, allocated = r.allocated;
      }
    }
    for (std::size_t i = 0; i < t.runs.size(); ++i) {
      if (!row.answers[i]) continue;
      const TraceRun& r = t.runs[i];
      text += csv_line({row.requirement, row.source, r.scenario, joined(r.faults), joined(r.not_injected),
                        answer_word(*row.answers[i]), row.margins[i], r.folder, hazards, level, allocated});
    }
  }
  for (const std::string& f : t.uninjected) text += csv_line({"", "", "", f, "", "never injected", "", "", "", "", ""});
  for (const std::string& s : t.unplayed) text += csv_line({"", "", s, "", "", "never played", "", "", "", "", ""});
  return text;
}

namespace {

/// As much as fits, with a mark where something is left out.
std::string cut(const std::string& text, std::size_t columns) {
  if (display_width(text) <= columns) return escaped(text);
  return escaped(std::string(first_columns(text, columns - 1))) + "\xE2\x80\xA6";
}

struct Look {
  const char *fill, *ink, *sign;
};

/// A colour and a sign, so that it can be read without colours.
Look colours_of(const std::optional<Answer>& answer) {
  if (!answer) return {"#ffffff", "#5b6770", ""};
  if (answer == Answer::held) return {"#cfe8dd", "#00694d", "\xE2\x9C\x93"};
  if (answer == Answer::broken) return {"#f3cdb4", "#a33f00", "\xE2\x9C\x97"};
  if (answer == Answer::not_tested) return {"#f1f3f4", "#5b6770", "\xE2\x80\x93"};
  return {"#f5efc9", "#6b6000", "?"};
}

constexpr int kMatrixRow = 24, kMatrixCell = 34, kMatrixLeft = 460, kMatrixTop = 190;

/// What nothing covers, in lines of so many characters.
std::vector<std::string> gaps(const Trace& t, std::size_t most) {
  std::vector<std::string> notes;
  for (const auto& [what, names] : gaps_of(t)) {
    if (names.empty()) continue;
    std::string line = fmt::format("{}:", what);
    for (std::size_t i = 0; i < names.size(); ++i) {
      const std::string next = " " + names[i] + (i + 1 < names.size() ? "," : "");
      if (line.size() + next.size() > most) {
        notes.push_back(line);
        line = "   ";
      }
      line += next;
    }
    notes.push_back(line);
  }
  return notes;
}

/// Requirements down, runs across.
std::string matrix(const Trace& t) {
  std::string s;
  const int columns = static_cast<int>(t.runs.size()), rows = static_cast<int>(t.rows.size());
  std::vector<std::string> titles;
  for (const TraceRun& run : t.runs) titles.push_back(run.title);
  titles = shortened_apart(titles, 34);
  for (int c = 0; c < columns; ++c) {
    const int x = kMatrixLeft + c * kMatrixCell + kMatrixCell / 2 + 4;
    s += fmt::format("<text transform=\"translate({},{}) rotate(-50)\" fill=\"#1d2730\">{}</text>\n", x, kMatrixTop - 8,
                     escaped(titles[static_cast<std::size_t>(c)]));
  }
  for (int r = 0; r < rows; ++r) {
    const TraceRow& row = t.rows[static_cast<std::size_t>(r)];
    const int y = kMatrixTop + r * kMatrixRow;
    s += fmt::format(
        "<text x=\"16\" y=\"{0}\" font-weight=\"bold\" fill=\"#1d2730\">{1}</text>"
        "<text x=\"170\" y=\"{0}\" fill=\"#5b6770\" font-size=\"11\">{2}</text>\n",
        y + 16, cut(row.requirement, 21), cut(row.description, 45));
    for (int c = 0; c < columns; ++c) {
      const Look look = colours_of(row.answers[static_cast<std::size_t>(c)]);
      const int x = kMatrixLeft + c * kMatrixCell;
      s += fmt::format(
          "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" fill=\"{}\"/>"
          "<text x=\"{}\" y=\"{}\" text-anchor=\"middle\" fill=\"{}\">{}</text>\n",
          x + 1, y + 1, kMatrixCell - 2, kMatrixRow - 2, look.fill, x + kMatrixCell / 2, y + 16, look.ink, look.sign);
    }
  }
  return s;
}

}  // namespace

std::string trace_svg(const Trace& t) {
  constexpr int kFoot = 20;
  const int columns = static_cast<int>(t.runs.size()), rows = static_cast<int>(t.rows.size());
  const int width = std::max(kMatrixLeft + columns * kMatrixCell + 150, 900);
  const std::vector<std::string> notes = gaps(t, static_cast<std::size_t>(width) / 7);
  const int height = kMatrixTop + rows * kMatrixRow + 46 + kFoot * static_cast<int>(notes.size());
  std::string s = fmt::format(
      "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {0} {1}\" width=\"{0}\" height=\"{1}\" "
      "font-family=\"DejaVu Sans,Verdana,sans-serif\" font-size=\"12\">\n<rect width=\"{0}\" height=\"{1}\" "
      "fill=\"#ffffff\"/>\n"
      "<text x=\"16\" y=\"30\" font-size=\"17\" font-weight=\"bold\" fill=\"#1d2730\">{2}: requirements against "
      "runs</text>\n",
      width, height, escaped(t.bench));
  const Answer kinds[] = {Answer::held, Answer::broken, Answer::undecided, Answer::not_tested};
  for (int i = 0; i < 4; ++i) {
    const Look look = colours_of(kinds[i]);
    s += fmt::format(
        "<rect x=\"{}\" y=\"46\" width=\"20\" height=\"16\" fill=\"{}\"/><text x=\"{}\" y=\"59\" fill=\"{}\" "
        "text-anchor=\"middle\">{}</text><text x=\"{}\" y=\"59\" fill=\"#1d2730\">{}</text>\n",
        16 + i * 100, look.fill, 26 + i * 100, look.ink, look.sign, 42 + i * 100, answer_word(kinds[i]));
  }
  s += matrix(t);
  int y = kMatrixTop + rows * kMatrixRow + 30;
  for (const std::string& n : notes) {
    s += fmt::format("<text x=\"16\" y=\"{}\" fill=\"#a33f00\">{}</text>\n", y, escaped(n));
    y += kFoot;
  }
  return s + "</svg>\n";
}

}  // namespace isodyne::present
