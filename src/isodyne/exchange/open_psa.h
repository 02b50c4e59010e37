#pragma once
// Fault trees as the Open-PSA Model Exchange Format 2.0d (Open-PSA Initiative, 2017), and back.
//
// Of a file the fault trees are read, with basic events, house events and parameters. What would make a result that
// looks right and is none is refused, or said: gates that more events can switch off again, common-cause groups,
// probabilities that are themselves uncertain, files that it names.
// The format has no units. Where a parameter names none, times are hours and rates are per hour, as is usual there.

#include <map>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/trees/fault_tree.h"

namespace isodyne::exchange {

struct ExchangedTrees {
  trees::FaultTree all;                             ///< every gate of the file; no top
  std::map<std::string, program::TreeInput> gates;  ///< by their names
  std::vector<std::string> tops;                    ///< gates that no other takes, in the order of the file
  std::map<std::string, std::string> faults;        ///< of events, where the file says it (attribute "fault")
  std::vector<std::string> remarks;                 ///< what was not read, or not as it is written
};

/// `over_s`: the mission time, which is not in the file; events with a rate have no probability without it.
Result<ExchangedTrees> from_open_psa(const std::string& file, const std::string& text, std::optional<double> over_s);
/// The part of it below one of its gates.
trees::FaultTree part_of(const ExchangedTrees& trees, const std::string& gate);

/// `faults`: of each event of the tree; may be empty.
std::string to_open_psa(const trees::FaultTree& tree, const std::vector<std::string>& faults);

/// As a text of the language. Names that it cannot have are changed.
std::string tree_text(const trees::FaultTree& tree, const std::vector<std::string>& faults, const std::string& from);

}  // namespace isodyne::exchange
