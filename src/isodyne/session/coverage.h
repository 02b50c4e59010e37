#pragma once
// What of a bench a case has come to, and what of it no case of a campaign ever did.
//
// Of the bench and of controllers that are logic in the language: modes and transitions of state machines, labels of
// other choices, truths seen both ways, faults that began while a machine was in each mode. Of the campaign: faults
// that began at all, requirements put to the test, pairs of values of two factors, ends of what parameters may be.
// Looked at are instants of the bench, and every transition. Of logic, what a machine did between two exchanges is seen
// as one transition.

#include <cstdint>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "isodyne/session/case_book.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

/// What can be come to in a run of a bench, in an order that its text decides.
class CoverageItems {
 public:
  /// With the faults and settings of a campaign.
  CoverageItems(const program::Program& program, const program::Campaign& campaign);
  const std::vector<CoverageItem>& all() const { return items_; }

 private:
  friend class CoverageWatch;
  /// A quantity of which each value is an item.
  struct Seen {
    std::int32_t logic = -1;  ///< of which controller; −1: of the bench
    std::string setting;      ///< under which that logic runs
    program::VarId id = program::kNone;
    std::size_t first = 0, count = 0;                 ///< items: one for each label, or false and true
    std::map<std::pair<int, int>, std::size_t> ways;  ///< of a machine: an item for each transition
    std::map<std::int32_t, std::size_t> faults;       ///< the first item for each fault that may begin in its modes
    std::int32_t machine = program::kNone;
    int inactive = program::kNone;
  };
  void add(const program::Program& program, const program::Campaign& campaign, const program::Program& bench,
           std::int32_t logic, const std::string& setting, const std::string& prefix);
  std::vector<CoverageItem> items_;
  std::vector<Seen> seen_;
};

/// Looks at a run, on its thread.
class CoverageWatch : public RunWatcher {
 public:
  CoverageWatch(const CoverageItems& items, const RunRequest& request);
  void begins(bench::Run& run) override { run_ = &run; }
  void image(const observe::Image& image) override;
  void event(const observe::Event& event) override;
  /// A hexadecimal digit for each four items, the first of them its lowest bit.
  std::string met() const;

 private:
  struct Looked {
    const CoverageItems::Seen* of = nullptr;
    int last = -1;
  };
  void note(std::size_t item) { met_[item] = 1; }
  void look(Looked& looked, double value);

  const CoverageItems& items_;
  const program::Program& program_;
  bench::Run* run_ = nullptr;
  std::vector<Looked> looked_;
  std::vector<char> met_;
  std::vector<std::int32_t> begun_;  ///< faults, since the last image
};

/// As it is called in a text of the language, with blanks: "faults in modes".
std::string kind_text(program::CoverageKind kind);

/// One kind of what there is: how much of it was met, and what was not.
struct Coverage {
  program::CoverageKind kind = program::CoverageKind::modes;
  std::size_t met = 0, all = 0;
  std::vector<std::string> missing;
  /// 0 to 1; 1 where there is nothing.
  double share() const { return all == 0 ? 1 : static_cast<double>(met) / static_cast<double>(all); }
};

/// Adds cases up.
class CoverageSum {
 public:
  explicit CoverageSum(const CaseBookKey& key);
  /// Cases that could not be run are none.
  void add(const CaseResult& result);
  /// Every kind of which there is something.
  std::vector<Coverage> all() const;
  double share(program::CoverageKind kind) const { return of(kind).share(); }

 private:
  Coverage of(program::CoverageKind kind) const;
  std::size_t level_of(std::size_t factor, const CaseResult& result) const;

  const CaseBookKey& key_;
  std::vector<char> met_;
  std::vector<std::pair<std::string, bool>> requirements_;
  std::set<std::vector<std::size_t>> pairs_;     ///< factor, level, factor, level
  std::vector<std::pair<double, double>> ends_;  ///< least and greatest value of each factor that has any
};

}  // namespace isodyne::session
