#pragma once
// Expressions over many images at once: what an operation costs beside its arithmetic is paid once for a block.
//
// The values are those of Evaluator to the bit. It has its own memory, so it may be used beside a running plant. For
// whoever can wait for a block of images; who needs a value at once takes Evaluator.

#include <vector>

#include "isodyne/core/numerics.h"
#include "isodyne/model/program.h"

namespace isodyne::engine {

class BlockEvaluator {
 public:
  static constexpr std::size_t kRows = 64;

  BlockEvaluator(const model::Program& program, const std::vector<model::NodeId>& roots);

  /// Keeps what the expressions read of an image, as row `row` of the block.
  void put(std::size_t row, const double* variables) {
    double* to = rows_.data() + row * reads_.size();
    for (const model::VarId id : reads_) *to++ = variables[id];
  }
  /// Computes all expressions for the rows that were put (the first `rows`; the others have no meaning).
  void compute(std::size_t rows);
  /// Values of the i-th expression, one a row; kNone as root gives zeros.
  const double* column(std::size_t i) const { return at(results_[i]); }

 private:
  struct Step {
    model::Op op{};
    std::int32_t to = 0, a = 0, b = 0, c = 0;  ///< columns; of a look-up, c is the number of the table
  };
  const double* at(std::int32_t column) const { return columns_.data() + static_cast<std::size_t>(column) * kRows; }
  double* at(std::int32_t column) { return columns_.data() + static_cast<std::size_t>(column) * kRows; }
  void turn(std::size_t rows);
  void run(const Step& s);

  std::vector<iso_table> tables_;
  std::vector<model::VarId> reads_;
  std::vector<double> rows_;     ///< of the images: one row after another
  std::vector<double> columns_;  ///< first those of reads_, then constants and results
  std::vector<Step> steps_;
  std::vector<std::int32_t> results_;
};

}  // namespace isodyne::engine
