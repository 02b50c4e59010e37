#pragma once
// Looking into the cases of a campaign: which of them, in which order, in which groups, how near the edge, and which
// factors go with what was broken.
//
// A name is that of a column: `case`, `scenario`, `fault`, `setting`, `outcome`, a quantity that was varied, a
// requirement (its verdict), `R.margin`, and of a measure `M.least` and `M.greatest`. `fault` has a value for each
// fault of a case, `none` where there is none.

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "isodyne/session/case_book.h"

namespace isodyne::session {

using CaseList = std::vector<const CaseResult*>;

/// Whether a requirement was broken in it.
bool is_broken(const CaseResult& result);
/// The faults of a case, each by itself.
std::vector<std::string> faults_of(const CaseResult& result);
/// Its row of a requirement; null: there is none.
const SummaryRow* row_of(const CaseResult& result, const std::string& requirement);
/// Requirements in the order in which they come, and the unit of each one's margin.
std::vector<std::pair<std::string, std::string>> requirements_of(const CaseList& cases);
CaseList list_of(const std::vector<CaseResult>& all);

/// Whether it came to its end as it was asked for, or was broken before: else what is said of it is no answer.
bool is_answer(const CaseResult& result);
/// In what two results of one case differ, to the bit: requirements, measures, how it ended; empty: in nothing.
std::string unlike(const CaseResult& a, const CaseResult& b);

/// As the bench describes a requirement; empty: it does not.
std::string meaning_of(const CaseBookKey& key, const std::string& requirement);
/// What one requirement came to in several cases, added up one after the other.
struct RequirementCounts {
  std::size_t held = 0, broken = 0, undecided = 0, not_tested = 0;
  std::int64_t worst_case = 0;  ///< 0: none was worse than another. Broken is worse than any that is not.
  SummaryRow worst;             ///< of it
  void add(std::int64_t number, const SummaryRow& row);
};

/// "12 broken, 3 where a fault never came"
std::string outcomes_text(const std::map<std::string, std::size_t>& outcomes);

/// "scenario=uplock, chamber.area > 620 m^2, L-03=broken": those of which all of it is true. Numbers are in the units
/// of the columns where none is written.
Result<CaseList> cases_where(const CaseBookKey& key, const CaseList& all, const std::string& text);
/// Broken ones first, then by the margin of a requirement, the smallest first.
void worst_first(CaseList& cases, const std::string& requirement);
/// By a column; with ` down` behind its name from the greatest to the least. Cases without a value come last.
Status sort_cases(const CaseBookKey& key, CaseList& cases, const std::string& name);

/// How near the edge each case is: the smallest of its margins, each in the spread of that requirement's margins (its
/// standard deviation), and of which requirement. Not above zero: it is broken.
struct Nearness {
  double share = 0;  ///< infinite: it has no margin
  const SummaryRow* row = nullptr;
};
std::map<std::int64_t, Nearness> nearness(const std::vector<CaseResult>& all);

/// Cases with the same value of a column; numbers of many values in equal parts of their range.
struct CaseGroup {
  std::string name;
  CaseList cases;
};
Result<std::vector<CaseGroup>> groups_by(const CaseBookKey& key, const CaseList& cases, const std::string& name);

/// How much one factor goes with what is broken: correlation ratio, the share of the variance of "it is broken" that is
/// between the values of the factor, less what chance gives (epsilon squared, Kelley 1935). Ranges count in four parts.
struct Effect {
  std::string factor;
  double share = 0;   ///< 0 to 1
  double chance = 1;  ///< how probable so much would be if it did not matter (chi squared, Pearson 1900)
  std::string value;  ///< where it was broken most
  std::size_t with = 0, of_with = 0, without = 0, of_without = 0;  ///< broken with that value, and with others
};
/// Of all factors, the greatest share first. `requirement` empty: broken at all. Cases without an answer do not count.
std::vector<Effect> effects(const CaseBookKey& key, const CaseList& cases, const std::string& requirement);

}  // namespace isodyne::session
