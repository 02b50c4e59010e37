#pragma once
// What a run came to, in the words people read: the content of verdicts.json, from which the JUnit file,
// the terminal table and the report are made.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/bench/run_result.h"
#include "isodyne/core/result.h"
#include "isodyne/judge/judge.h"
#include "isodyne/record/identity.h"
#include "isodyne/session/timing.h"

namespace isodyne::session {

struct SummaryRow {
  std::string name, description, source, formula;
  bool expected = false;  ///< by the scenario, not a requirement of the bench
  judge::Answer answer = judge::Answer::not_tested;
  std::int64_t tests = 0;
  std::optional<double> first_breach_s;
  std::vector<std::pair<double, double>> breaches_s;
  std::optional<double> worst_margin;  ///< in `margin_unit`
  std::string margin_unit;
  std::optional<double> worst_at_s;

  /// "3.2 cm", or "–" where there is none.
  std::string margin_text() const;
};

/// A verdict as people read it.
SummaryRow row_of(const program::Program& program, const judge::Verdict& verdict);

/// What a measure came to: over the stretches that were over before the run was.
struct MeasureRow {
  std::string name, unit;
  std::int64_t stretches = 0, missed = 0;  ///< missed: what should have come did not
  std::optional<double> least, greatest;   ///< in `unit`; of those that did come
};

struct Summary {
  std::string bench, bench_file, scenario, setting, seed, version;
  std::string method;  ///< how the continuous parts were stepped
  std::vector<std::string> faults;
  std::vector<std::string> overrides;     ///< "chamber.area=500 m^2": what it began with in place of the bench's values
  std::vector<std::string> not_injected;  ///< chosen faults that never became active
  std::vector<std::string> disarmed;      ///< faults whose trigger was disarmed by hand at some time
  std::vector<std::string> lost;          ///< controllers that were lost, and no fault was to blame: why and when
  std::vector<std::string> remarks;       ///< what a reader of the verdicts has to know
  struct Saturated {
    std::string channel;
    double first_s = 0;
    std::int64_t samples = 0;
    bool pulses = false;
    /// "level left its range in 37 samples, first at 12.3 s"
    std::string text() const;
  };
  std::optional<TimingSummary> timing;  ///< of a run that kept to the wall clock
  std::vector<ControllerSummary> controllers;
  std::vector<Saturated> saturated;
  std::string started;  ///< wall clock, ISO 8601
  double wall_seconds = 0;
  std::string bench_folder;               ///< as it was named on the command line
  std::optional<observe::Ending> ending;  ///< nothing: nobody has said yet
  std::string explanation;
  std::vector<std::string> details;
  double ended_at_s = 0;
  std::vector<SummaryRow> rows;
  std::vector<MeasureRow> measures;

  std::size_t count(judge::Answer answer) const;
  /// "cut short"; empty where nobody has said yet.
  std::string ending_text() const { return ending ? observe::ending_word(*ending) : ""; }
  /// In one word: how it ended if that was not as asked, "controller lost", "broken", "undecided", "a fault never
  /// came", "not put to the test", "held", "nothing asked". What is further left takes precedence.
  std::string outcome() const;
  /// "14 of 22 held, 1 broken, 7 not put to the test"
  std::string counts_text() const;
  /// Of a fault that was not: "what triggers it never happened".
  std::string why_not_injected(const std::string& fault) const;
  /// "uplock with level_drift, chamber.area=500 m^2"
  std::string title() const;
  /// "isodyne run lock.dyne uplock --fault level_drift --seed 1"
  std::string command;
};

Summary summarize(const program::Program& program, const record::RunIdentity& identity, const bench::RunResult& result,
                  const std::vector<judge::Verdict>& verdicts);

/// The command that repeats a run, from inside the folder of the bench.
std::string repeat_command(const record::RunIdentity& identity);

std::string to_json(const Summary& summary);
Result<Summary> read_summary(const std::string& file);
/// `origin`: where the text is from, for messages.
Result<Summary> parse_summary(const std::string& text, const std::string& origin);

/// JUnit XML: one test suite, one case per requirement.
std::string to_junit(const Summary& summary);

}  // namespace isodyne::session
