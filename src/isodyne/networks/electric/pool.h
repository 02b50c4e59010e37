#pragma once
// Memory in blocks of one size, all of it there before the run.

#include <cstddef>
#include <memory>
#include <vector>

namespace isodyne::networks::electric {

/// Blocks of so many numbers. Not touched by the machine until they are first handed out.
class Pool {
 public:
  /// All blocks are free from now on.
  void begin(std::size_t block, std::size_t count) {
    if (block_ * count_ != block * count) numbers_.reset(new double[block * count]);
    block_ = block;
    count_ = count;
    clear();
  }
  void clear() {
    fresh_ = 0;
    given_back_.clear();
    given_back_.reserve(count_);
  }
  bool empty() const { return given_back_.empty() && fresh_ == count_; }
  /// There has to be one.
  double* take() {
    if (given_back_.empty()) return numbers_.get() + block_ * fresh_++;
    double* const at = given_back_.back();
    given_back_.pop_back();
    return at;
  }
  void give_back(double* at) { given_back_.push_back(at); }
  std::size_t block() const { return block_; }
  /// Has the machine give all of the memory now, and not while a plant is stepped.
  void touch() {
    constexpr std::size_t kPage = 4096 / sizeof(double);
    for (std::size_t at = block_ * fresh_; at < block_ * count_; at += kPage) numbers_[at] = 0;
  }

 private:
  std::unique_ptr<double[]> numbers_;
  std::size_t block_ = 0, count_ = 0, fresh_ = 0;
  std::vector<double*> given_back_;
};

}  // namespace isodyne::networks::electric
