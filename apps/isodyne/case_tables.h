#pragma once
// What several commands print of the cases of a campaign.

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/session/case_views.h"

namespace isodyne::app {

/// "17,40..60": numbers, in order; says what is wrong.
std::optional<std::vector<std::int64_t>> read_numbers(const std::string& text);
/// What is different from other cases, in a line.
std::string factors_text(const session::CaseBookKey& key, const session::CaseResult& result);
/// Adds cases up, one after the other.
class CaseCounts {
 public:
  void add(const session::CaseResult& result);
  /// Of each requirement how often it held, and its worst case.
  void say_summary(const session::CaseBookKey& key) const;
  /// What is no answer, and what was not as it was asked for.
  void say_doubts() const;
  std::size_t cases = 0, not_whole = 0;
  bool broken = false;

 private:
  std::vector<std::string> order_;
  std::map<std::string, session::RequirementCounts> of_;
  std::map<std::string, std::size_t> outcomes_;
  std::size_t odd_ = 0;
  std::string first_not_whole_, first_odd_;
};
void say_case(const session::CaseBookKey& key, const session::CaseResult& result);
/// As a table, with a title for each column.
void say_csv(const session::CaseBookKey& key, const session::CaseList& cases);

/// As a list, each with all that is known of it.
void say_json(const session::CaseBookKey& key, const session::CaseList& cases);

}  // namespace isodyne::app
