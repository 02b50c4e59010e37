#pragma once
// Expressions over many images at once: what an operation costs beside its arithmetic is paid once for a block.
//
// The values are those of Evaluator to the bit. It has its own memory, so it may be used beside a running plant. For
// whoever can wait for a block of images; who needs a value at once takes Evaluator.

#include <vector>

#include "isodyne/core/numerics.h"
#include "isodyne/program/interval.h"
#include "isodyne/program/plant.h"

/// For loops over columns: compiled also for processors with wide registers, chosen when the program begins. Nothing is
/// contracted or reordered, so the results are the same. Not under sanitizers, which such a choice comes too early for.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) && \
    !defined(__SANITIZE_THREAD__)
#define ISODYNE_WIDE __attribute__((target_clones("arch=x86-64-v3", "default")))
#else
#define ISODYNE_WIDE
#endif

namespace isodyne::engine {

class BlockEvaluator {
 public:
  static constexpr std::size_t kRows = 256;

  /// Expressions in groups, each looked at by itself: roughly, or exactly where that is asked for.
  BlockEvaluator(const program::Plant& program, const std::vector<std::vector<program::NodeId>>& groups);

  /// How many values of an image the expressions read: a row.
  std::size_t row_size() const { return reads_.size(); }
  void gather(const double* variables, double* row) const {
    for (const program::VarId id : reads_) *row++ = variables[id];
  }

  /// What a row has, in order, and which places of it a group reads.
  const std::vector<program::VarId>& reads() const { return reads_; }
  const std::vector<std::int32_t>& read_by(std::size_t group) const { return groups_[group].reads; }

  /// The next images (at most kRows), a row each. They have to stay until the next.
  void load(const double* rows, std::size_t count);
  /// Computes between which numbers the expressions of a group lie in these images.
  void outline(std::size_t group);
  /// Of the i-th expression of all groups, until another group is outlined; kNone gives zero.
  const program::Interval& range(std::size_t i) const { return ranges_[static_cast<std::size_t>(results_[i])]; }
  /// Computes the expressions of a group.
  void compute(std::size_t group);
  /// Values of the i-th expression of all groups, one an image, until another group is computed; kNone gives zeros.
  const double* column(std::size_t i) const { return at(results_[i]); }

  /// What a group reads, to be computed later: kept() values for each image.
  std::size_t kept(std::size_t group) const { return groups_[group].reads.size(); }
  void keep(std::size_t group, double* to);
  void compute_kept(std::size_t group, const double* from, std::size_t count);

 private:
  struct Step {
    program::Op op{};
    std::int32_t to = 0, a = 0, b = 0, c = 0;  ///< columns; of a look-up, c is the number of the table
  };
  struct Group {
    std::size_t begin = 0, end = 0;   ///< in steps_
    std::vector<std::int32_t> reads;  ///< columns
  };
  const double* at(std::int32_t column) const { return columns_.data() + static_cast<std::size_t>(column) * kRows; }
  double* at(std::int32_t column) { return columns_.data() + static_cast<std::size_t>(column) * kRows; }
  void outline_reads();
  void fetch(const Group& g);
  void run(const Step& s);
  void run(const Group& g);

  std::vector<iso_table> tables_;
  std::vector<program::VarId> reads_;
  std::vector<double> lows_, highs_, sums_;  ///< of each of them; a sum that is not finite: one of its values is not
  std::vector<double> columns_;              ///< first those of reads_, then constants, then results
  std::vector<program::Interval> ranges_;
  std::vector<Step> steps_;
  std::vector<Group> groups_;
  std::vector<std::int32_t> results_;
  const double* rows_ = nullptr;
  std::size_t count_ = 0;
  std::int64_t loads_ = 0;
  std::vector<std::int64_t> fetched_;  ///< of each column of reads_: at which load
};

}  // namespace isodyne::engine
