#pragma once
// Quick compression that every HDF5 tool reads: the shuffle filter followed by the deflate filter.
//
// Of the numbers that a simulation makes, the high bytes hardly change from one row to the next and the low ones are
// noise. So each plane of bytes is either written down as runs or taken as it is: nearly as small as a search for
// repetitions would make it, and some ten times as quick. The form is that of RFC 1950 and RFC 1951.

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace isodyne::record {

class BytePlanes {
 public:
  /// A zlib stream of `rows` elements of `size` bytes (4 or 8), good until the next call. What grew is still whole.
  std::span<const std::uint8_t> compress(const void* elements, std::size_t rows, std::size_t size);

 private:
  void shuffle(const std::uint8_t* from, std::size_t rows, std::size_t size);
  void stored(const std::uint8_t* from, std::size_t bytes, bool last);
  void runs(const std::uint8_t* from, std::size_t bytes, bool last);
  void put(std::uint64_t bits, unsigned count);
  void pad();
  void bytes_out(const void* from, std::size_t bytes);

  std::vector<std::uint8_t> planes_, out_;
  std::size_t used_ = 0;
  std::uint64_t bits_ = 0;
  unsigned held_ = 0;
};

/// Elements of a stream made by compress(), or by the filters of the HDF5 library; false if it is not such a stream.
bool expand_planes(std::span<const std::uint8_t> stream, std::size_t rows, std::size_t size, void* elements);

}  // namespace isodyne::record
