#pragma once
// A table of failure modes with its rows: those of the bench, then those of a file, each understood or told what is
// wrong with it. What people wrote is kept as it is.
//
// A file has a title over each column. `row` (or `id`) is the name of a row, `fault`, `scenario`, `requirement` and
// `noticed by` link it with the bench (names with commas), columns that the bench declares have values, and every
// other one is text of people. Columns that begin with `run` are what the last run came to.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/csv.h"
#include "isodyne/core/result.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

enum class FailureResult {
  mitigated,    ///< it was noticed, and no requirement was broken
  detected,     ///< it was noticed, and one was broken all the same
  missed,       ///< one was broken, and nobody noticed
  harmless,     ///< none was broken, and nobody noticed
  not_reached,  ///< the fault never came in the scenario
  no_answer     ///< the run does not tell
};
const char* failure_word(FailureResult result);
std::optional<FailureResult> failure_named(const std::string& word);

struct FailureRow {
  static constexpr std::size_t kNowhere = static_cast<std::size_t>(-1);
  std::string name;
  std::vector<std::string> cells;     ///< as written, under FailureTable::titles
  std::vector<std::string> computed;  ///< under FailureTable::computed; empty: what it follows from is not all there
  std::vector<std::int32_t> faults;
  std::int32_t scenario = program::kNone;
  std::vector<std::int32_t> requirements;  ///< empty: every one
  std::vector<program::VarId> noticed;     ///< truths
  std::vector<std::string> wrong;
  std::string was;         ///< what the last run came to, as a word; empty: there was none
  std::string of, was_of;  ///< a number for the text of the bench and its links: now, and of that run
  bool outdated() const { return !was.empty() && was_of != of; }
  std::size_t at_record = kNowhere;  ///< of the file
};

struct FailureTable {
  std::string name;
  const program::FailureModes* of = nullptr;  ///< of the bench's program
  std::vector<std::string> titles, computed;
  std::vector<FailureRow> rows;

  /// What stands in a column of a row; empty: nothing.
  const std::string& cell(const FailureRow& row, const std::string& title) const;
};

/// `file`: what the file of the table says, whose name is in the table; null: there is none. A Failure: it is no table.
Result<FailureTable> read_failures(const Bench& bench, const program::FailureModes& of, const Csv* file);

/// Faults of the bench that no row of any of these tables is about.
std::vector<std::string> faults_without_row(const program::Program& program, const std::vector<FailureTable>& tables);

/// Takes over what earlier runs came to from a table that was written before: by the names of the rows.
void take_earlier(FailureTable& table, const Csv& written);

/// A title as it is looked for: "Noticed by" is noticed_by.
std::string plain_title(const std::string& title);

/// What is written into a table beside what people wrote, for each of its rows: column, and what stands there.
using WrittenCells = std::vector<std::pair<std::string, std::string>>;
/// `text` is the file as it is, `csv` what was read from it: only what is in `cells` changes, columns that are not
/// there yet come behind the others. `cells`: for records of the file, by their place.
std::string written_into(const std::string& text, const Csv& csv,
                         const std::vector<std::pair<std::size_t, WrittenCells>>& cells);

}  // namespace isodyne::session
