#pragma once
// Packing four words of a frame at a time and unpacking four fields at a time, on processors that can shift four
// numbers by four different amounts at once (AVX2). Private to frame.cpp, which does by itself what this cannot.

#include <cstddef>
#include <cstdint>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::io {

class WideWords {
 public:
  /// Nothing for a frame whose fields are not declared in the order of its words.
  explicit WideWords(const program::Frame& frame, bool swap);

  /// Words that pack() takes, from the first on; and fields that unpack() takes.
  std::size_t words() const { return 4 * groups_.size(); }
  std::size_t fields() const { return 4 * quads_.size(); }

  void pack(const double* values, std::byte* bytes) const;
  void unpack(const std::byte* bytes, double* values) const;

 private:
  /// Four words. Their fields are taken four at a time: `vectors` times for each of the words.
  struct Group {
    std::uint32_t first[4];  ///< the first value of each word
    std::uint32_t vectors = 0;
  };
  /// Four fields of one word; those that it has not have a mask of 0.
  struct Lanes {
    std::uint64_t mask[4] = {}, shift[4] = {};
  };
  /// Four fields in a row, which lie in at most four words in a row.
  struct Quad {
    std::uint64_t mask[4] = {}, shift[4] = {}, sign[4] = {};
    std::uint64_t less_sign[4] = {};  ///< what makes a double of the number, less the sign
    std::int32_t word[8] = {};        ///< of each field, as halves of words behind `first_word`
    std::size_t first_word = 0;
  };
  void plan_packing(const program::Frame& frame);
  void plan_unpacking(const program::Frame& frame);

  std::vector<Group> groups_;
  std::vector<Lanes> lanes_;  ///< per group: for each vector the four words
  std::vector<Quad> quads_;
  bool swap_;
};

}  // namespace isodyne::io
