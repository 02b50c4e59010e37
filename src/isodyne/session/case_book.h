#pragma once
// What the cases of a campaign came to, in one file (SQLite): a row a case, a row for each of its verdicts. Each case
// is there as soon as it is known, and whole or not at all, whatever ends the process.

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/campaign.h"
#include "isodyne/session/summary.h"

namespace isodyne::session {

/// What can be come to, and how people call it: "gate: shut → moving".
struct CoverageItem {
  program::CoverageKind kind = program::CoverageKind::modes;
  std::string text;
};

/// What differs between cases: listed values, or a range.
struct CaseFactor {
  std::string name;
  std::vector<std::string> values;  ///< as they are in the columns; empty: a range
  double low = 0, high = 0;         ///< of a range
  /// What the quantity may be, where the bench says so.
  std::optional<std::pair<double, double>> limits;
};

/// Of what a file has cases: another bench, campaign, or seed has others.
struct CaseBookKey {
  std::string bench, campaign, fingerprint, seed;
  std::string file;        ///< of the bench, when the cases were begun; it may be elsewhere now
  std::string code;        ///< a number for the code of its controllers: it is no text of the bench
  std::int64_t count = 0;  ///< of all its cases
  std::vector<std::pair<std::string, std::string>> varied;    ///< names, and the units of their columns
  std::vector<CaseFactor> factors;                            ///< scenario, fault, setting, and those
  std::vector<std::pair<std::string, std::string>> meanings;  ///< of requirements, as the bench describes them
  std::vector<CoverageItem> items;                            ///< of a run; see coverage.h
};

struct CaseResult {
  std::int64_t number = 0;
  std::string scenario, faults, setting;
  std::vector<double> values;  ///< in the units of the columns
  std::string outcome;         ///< as Summary::outcome(); kNotRun: it could not be
  std::string why;             ///< where it did not come to its end, or was not what was asked for
  bool whole = false;          ///< it went as far as was asked, with its controllers; else its verdicts are no answer
  std::string met;             ///< items of coverage, as CoverageWatch says them
  std::string command;         ///< that runs it again, from inside the folder of the bench
  double simulated_s = 0, wall_s = 0;
  std::vector<SummaryRow> rows;
  std::vector<MeasureRow> measures;
};

inline constexpr const char* kNotRun = "not run";

/// Whether a file begins as one of these does.
bool is_case_book(const std::string& file);

class CaseBook {
 public:
  /// Makes the file, or goes on with one that has the same key. One process at a time. `resume`: it may be there.
  static Result<std::unique_ptr<CaseBook>> open(const std::string& file, const CaseBookKey& key, bool resume);
  /// To look into it.
  static Result<std::unique_ptr<CaseBook>> read(const std::string& file);
  ~CaseBook();

  const CaseBookKey& key() const { return key_; }
  /// Those that could not be run are not among them: what was in the way may have gone.
  std::set<std::int64_t> done();
  Status add(const CaseResult& result);
  /// One after the other, in the order of their numbers; as they are together at one moment.
  Status each(const std::function<void(CaseResult&)>& take);
  Result<std::vector<CaseResult>> all();

 private:
  struct File;
  CaseBook();
  Status prepare(bool resume);
  std::unique_ptr<File> file_;
  CaseBookKey key_;
};

}  // namespace isodyne::session
