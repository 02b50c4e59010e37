#include "isodyne/session/rejudge.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/quick.h"
#include "isodyne/record/playback.h"

namespace isodyne::session {

using judge::Answer;
using judge::Verdict;

std::set<program::VarId> read_by(const program::Program& p, const program::Requirement& r) {
  std::set<program::VarId> all;
  const auto note = [&](program::NodeId node) {
    if (node == program::kNone) return;
    for (const program::VarId id : p.reads(node)) all.insert(id);
  };
  for (const program::NodeId n : {r.trigger, r.check, r.margin}) note(n);
  for (const program::FormulaNode& n : r.nodes) note(n.value);
  for (const std::int32_t m : r.measures) {
    const program::Measure& measure = program::at(p.measures, m);
    for (const program::NodeId n :
         {measure.of, measure.to, measure.within, measure.against, measure.event, measure.until})
      note(n);
  }
  for (const program::Edge& e : p.edges) {
    if (all.contains(e.previous)) note(e.now);
  }
  for (const program::Delay& d : p.delays) {
    if (!all.contains(d.out)) continue;
    note(d.input);
    note(d.lag);
  }
  return all;
}

namespace {

constexpr Time kAtEdges{1};  ///< asked at each edge of gates: it may be any nanosecond

/// How often it was asked in the run.
Time asked(const program::QuickParts& quick, const program::Program& p, const program::Measure& m) {
  return program::asked_at_edges(p, m) ? kAtEdges : quick.asked_every(m);
}
Time asked(const program::QuickParts& quick, const program::Program& p, const program::Requirement& r) {
  Time every = program::asked_at_edges(p, r) ? kAtEdges : quick.asked_every(r);
  for (const std::int32_t i : r.measures) every = std::min(every, asked(quick, p, program::at(p.measures, i)));
  return every;
}

/// "every 50 us", "at each edge of gates".
std::string asked_text(Time every) {
  return every == kAtEdges ? "at each edge of gates" : "every " + format_span(every);
}
/// What a recording has to say to keep everything.
std::string to_record(Time every) {
  return fmt::format("`record … every {}`", every == kAtEdges ? "edge" : format_span(every));
}

/// Whether the rows of a quantity show all that it was: at every instant at which it was asked about, or at all those
/// at which a sensor samples.
bool shown_whole(const program::Program& p, const record::Recording& recording, program::VarId id, Time every,
                 int depth = 0) {
  const program::Variable& v = p.variable(id);
  if (recording.at_edges(v.name)) return true;
  if (every == kAtEdges && p.gate_of(id) == program::kNone) every = p.step;
  if (!recording.throughout(v.name) && depth < 100) {  // computed from what is there, at all instants
    for (const program::Assignment& e : p.equations) {
      if (e.target != id) continue;
      const auto reads = p.reads(e.value);
      return std::all_of(reads.begin(), reads.end(),
                         [&](program::VarId read) { return shown_whole(p, recording, read, every, depth + 1); });
    }
  }
  if (id == program::kTime || id == program::kSeed || v.role == program::Role::measure ||
      v.role == program::Role::hidden || v.role == program::Role::fixed_param)
    return true;
  if (!recording.throughout(v.name)) return v.role == program::Role::param;
  const Time rows = recording.period_of(v.name);
  if (rows <= every) return true;
  return std::any_of(p.sensors.begin(), p.sensors.end(), [&](const program::Sensor& s) {
    const bool of_it = s.value == id || s.counts == id || s.signal == id;
    return of_it && s.tap == program::kNone && s.period.count() % rows.count() == 0 &&
           s.offset.count() % rows.count() == 0;
  });
}

/// The same question as in the run: what it said of it counts here.
bool same_question(const program::Program* run, const program::Requirement& r) {
  if (run == nullptr) return false;
  return std::any_of(run->requirements.begin(), run->requirements.end(),
                     [&](const program::Requirement& own) { return own.name == r.name && own.formula == r.formula; });
}

struct Said {
  std::optional<Time> broken;
  std::string verdict;  ///< empty: the run was not judged to its end
};

Said said_by_run(const record::Recording& recording, const std::string& name) {
  Said said;
  for (const record::RecordedEvent& e : recording.events()) {
    if (e.subject != name) continue;
    if (e.is(observe::EventKind::broken) && !said.broken) said.broken = e.at;
    if (e.is(observe::EventKind::verdict)) said.verdict = e.text;
  }
  return said;
}

/// The program that the recording was made of.
std::shared_ptr<const program::Program> program_of(const record::Recording& recording) {
  const record::RunIdentity& identity = recording.identity();
  check::Wish wish;
  wish.harness = identity.harness;
  const auto reader = [&](const std::string& relative) -> Result<std::string> {
    for (const auto& [name, text] : identity.sources) {
      if (name == relative) return text;
    }
    return Failure{"the recording has no source called", relative, ""};
  };
  return check::load_bench("", identity.main, reader, wish).program;
}

}  // namespace

SetRight set_right(const program::Program& p, const record::Recording& recording, std::vector<Verdict> verdicts,
                   Time period) {
  SetRight made;
  const auto run = program_of(recording);
  std::vector<std::string> by_run, open, doubtful;
  Time judged_every = p.step;
  const program::QuickParts quick(p);
  for (Verdict& v : verdicts) {
    const program::Requirement& r = program::at(p.requirements, v.requirement);
    const bool same = same_question(run.get(), r);
    const Said said = same ? said_by_run(recording, r.name) : Said{};
    if (said.broken && v.answer != Answer::broken) {
      v.answer = Answer::broken;
      v.first_breach = said.broken;
      v.breaches = {{*said.broken, *said.broken}};
      v.worst_margin.reset();  // it lies between two rows
      v.worst_at.reset();
      by_run.push_back(r.name);
      continue;
    }
    if (said.broken && v.first_breach && *said.broken < *v.first_breach) v.first_breach = said.broken;
    // What holds at each instant by itself is broken wherever an image breaks it; what is made of several may only seem
    // so.
    const bool of_several = !r.measures.empty() || r.within || !r.nodes.empty();
    const bool seeming = v.answer == Answer::broken && of_several && !said.broken;
    if (!seeming && v.answer != Answer::held && v.answer != Answer::not_tested) continue;
    bool whole = !recording.identity().piece_from;  // what held in a piece of it may not have held before
    const Time every = asked(quick, p, r);
    for (const program::VarId id : read_by(p, r)) {
      if (shown_whole(p, recording, id, every)) continue;
      whole = false;
      judged_every = std::min(judged_every, every);
      if (recording.has(p.variable(id).name)) period = std::max(period, recording.period_of(p.variable(id).name));
    }
    if (whole) continue;
    v.worst_margin.reset();  // that of the run may be worse, or lie elsewhere
    v.worst_at.reset();
    if (said.verdict == judge::answer_word(Answer::held) || said.verdict == judge::answer_word(Answer::not_tested)) {
      v.answer = said.verdict == judge::answer_word(Answer::held) ? Answer::held : Answer::not_tested;
      v.first_breach.reset();
      v.breaches.clear();
      by_run.push_back(r.name);
    } else if (v.answer == Answer::broken) {
      doubtful.push_back(r.name);
    } else {
      v.answer = Answer::undecided;
      open.push_back(r.name);
    }
  }
  const auto listed = [](const std::vector<std::string>& names) {
    constexpr std::size_t kMostNamed = 6;
    if (names.size() > kMostNamed) return counted(names.size(), "requirement");
    std::string all;
    for (const std::string& n : names) list_on(all, n);
    return all;
  };
  const std::string thin =
      fmt::format("an image every {}, where the run was judged {}", format_span(period), asked_text(judged_every));
  if (!open.empty())
    made.remarks.push_back(
        fmt::format("The recording has {}. Undecided for that reason, since it shows no breach and cannot "
                    "show that there was none: {} ({} keeps everything).",
                    thin, listed(open), to_record(judged_every)));
  if (!doubtful.empty())
    made.remarks.push_back(
        fmt::format("The recording has {}. With all instants this may not be broken: {} ({} keeps everything).", thin,
                    listed(doubtful), to_record(judged_every)));
  if (!by_run.empty())
    made.remarks.push_back(fmt::format(
        "The recording has {}. What the run itself found at its own instants counts for {}.", thin, listed(by_run)));
  made.verdicts = std::move(verdicts);
  return made;
}

std::string seen_less(const program::Program& p, const record::Recording& recording,
                      const std::vector<std::int32_t>& measures) {
  const program::QuickParts quick(p);
  std::string names;
  Time every = p.step, rows{};
  for (const std::int32_t i : measures) {
    const program::Measure& m = program::at(p.measures, i);
    bool less = false;
    for (const program::NodeId node : {m.of, m.to, m.within, m.against, m.event, m.until}) {
      if (node == program::kNone) continue;
      for (const program::VarId id : p.reads(node)) {
        const Time own = asked(quick, p, m);
        if (shown_whole(p, recording, id, own)) continue;
        less = true;
        every = std::min(every, own);
        const std::string& name = p.variable(id).name;
        rows = std::max(rows, recording.has(name) ? recording.period_of(name) : p.record_period());
      }
    }
    if (less) list_on(names, "`" + m.name + "`");
  }
  if (names.empty()) return {};
  return fmt::format(
      "The recording has an image every {} of something that {} read{}; the run looked {}, and may have come to other "
      "values ({} keeps everything).",
      format_span(rows), names, names.find(", ") == std::string::npos ? "s" : "", asked_text(every), to_record(every));
}

SetRight judged_again(const OpenRecording& run, observe::Ending ending) {
  const auto& program = run.loaded.program;
  judge::Judge judge(program);
  record::Playback playback(program, *run.recording, record::judged_variables(*program));
  if (playback.missing().empty()) playback.run([&](const observe::Image& image) { judge.image(image); });
  return set_right(*program, *run.recording, judge.verdicts(ending), playback.period());
}

}  // namespace isodyne::session
