#pragma once
// `recording.tail` lies beside a recording while it is written, and after a kill: what is not in the file yet, and
// where the chunks are that are. With it everything can be read up to the last tick, whatever HDF5 was doing then.
//
// A line of text, then entries, each with a check sum: one that a kill has cut off counts for nothing. Entries are only
// ever added; now and then a new file without what is out of date takes the place of the old one.

#include <cstddef>
#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/record/blocks.h"

namespace isodyne::record {

/// Where a chunk lies in the file.
struct ChunkPlace {
  std::uint64_t at = 0;
  std::uint32_t bytes = 0, packed = 0;  ///< packed: made by BytePlanes
};

class TailWriter {
 public:
  TailWriter() = default;
  TailWriter(const TailWriter&) = delete;
  TailWriter& operator=(const TailWriter&) = delete;
  ~TailWriter();

  Status create(const std::string& file);
  /// Rows [from, to) of a block that is not in the file yet.
  bool rows(std::uint32_t group, const Block& block, std::size_t from, std::size_t to);
  /// The block of which these rows were is in the file now; of each column, the times first, its place.
  bool chunk(std::uint32_t group, std::uint64_t first, std::uint32_t rows, const std::vector<ChunkPlace>& places);
  /// Events from the `first` on. They all stay, there are not that many.
  bool events(std::uint64_t first, const std::vector<EventRow>& rows);
  /// Removes the file: the recording is whole.
  void remove();

 private:
  bool entry(std::uint32_t kind, std::uint32_t group, std::uint64_t first, std::uint32_t rows,
             const std::vector<char>& content, std::vector<char>& kept);
  bool write(const char* from, std::size_t bytes);
  bool renew();

  std::string name_;
  int descriptor_ = -1;
  std::vector<char> chunks_;                         ///< entries of all chunks
  std::map<std::uint32_t, std::vector<char>> open_;  ///< entries of rows of open blocks, by group
  std::vector<char> events_;
  std::uint64_t written_ = 0;
};

/// What a tail says, as far as its entries are whole.
struct Tail {
  struct Chunk {
    std::uint64_t first = 0;
    std::uint32_t rows = 0;
    std::vector<ChunkPlace> places;
  };
  struct Rows {
    std::uint64_t first = 0;
    std::vector<std::int64_t> times;
    std::vector<double> values;  ///< one column after the other
  };
  std::map<std::uint32_t, std::vector<Chunk>> chunks;
  std::map<std::uint32_t, std::vector<Rows>> rows;  ///< behind the chunks, in order, each once
  std::vector<std::pair<std::uint64_t, EventRow>> events;

  static Result<Tail> read(const std::string& file);
};

/// Whether somebody still writes it.
bool tail_grows(const std::string& file);

/// Where the tail of a recording is.
std::string tail_of(const std::string& recording);

}  // namespace isodyne::record
