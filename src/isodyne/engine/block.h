#pragma once
// Expressions over many images at once: what an operation costs beside its arithmetic is paid once for a block.
//
// The values are those of Evaluator to the bit. It has its own memory, so it may be used beside a running plant. For
// whoever can wait for a block of images; who needs a value at once takes Evaluator.

#include <vector>

#include "isodyne/core/numerics.h"
#include "isodyne/model/program.h"

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
  static constexpr std::size_t kRows = 64;

  BlockEvaluator(const model::Program& program, const std::vector<model::NodeId>& roots);

  /// How many values of an image the expressions read.
  std::size_t row_size() const { return reads_.size(); }
  /// Puts them into a row.
  void gather(const double* variables, double* row) const {
    for (const model::VarId id : reads_) *row++ = variables[id];
  }
  /// Computes all expressions for so many rows, one after another (at most kRows; beyond, columns have no meaning).
  void compute(const double* rows, std::size_t count);
  /// Values of the i-th expression, one a row; kNone as root gives zeros.
  const double* column(std::size_t i) const { return at(results_[i]); }

 private:
  struct Step {
    model::Op op{};
    std::int32_t to = 0, a = 0, b = 0, c = 0;  ///< columns; of a look-up, c is the number of the table
  };
  const double* at(std::int32_t column) const { return columns_.data() + static_cast<std::size_t>(column) * kRows; }
  double* at(std::int32_t column) { return columns_.data() + static_cast<std::size_t>(column) * kRows; }
  void turn(const double* rows, std::size_t count);
  void run(const Step& s);

  std::vector<iso_table> tables_;
  std::vector<model::VarId> reads_;
  std::vector<double> columns_;  ///< first those of reads_, then constants and results
  std::vector<Step> steps_;
  std::vector<std::int32_t> results_;
};

}  // namespace isodyne::engine
