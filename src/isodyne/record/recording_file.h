#pragma once
// The HDF5 file of a recording while it is written; docs/recording.md says what is where.
//
// Chunks of rows go into the file when they are full, what is not there yet into its tail (tail.h). The same rows give
// the same bytes: no wall-clock time, no host name. Used by one thread.

#include <memory>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/core/time.h"
#include "isodyne/record/blocks.h"
#include "isodyne/record/byte_planes.h"
#include "isodyne/record/identity.h"
#include "isodyne/record/place_driver.h"
#include "isodyne/record/tail.h"

namespace isodyne::record {

struct ColumnHead {
  std::string name, unit, read_in, description, source;
  double factor = 1, offset = 0;
  bool held = false;  ///< between two rows the value of the first is there, not a line to the second
};

struct GroupHead {
  std::string name;  ///< empty: the first, whose place is /signals
  Time period{};
  bool single = false, compressed = false;
  std::string kept;     ///< "when trip rises with 20 ms before"; empty: throughout
  bool judged = false;  ///< see program::RecordGroup
  std::vector<ColumnHead> columns;

  /// Rows of a chunk: of one signal over all time there are few, and of all signals over a short time little.
  std::size_t chunk_rows() const;
};

/// What is known before there is a row.
struct RecordingHead {
  RunIdentity identity;
  std::string bench;
  Time step{};
  std::vector<GroupHead> groups;
};

/// The name of a recording that has nothing in it yet.
std::string begun_name(const std::string& file);

class RecordingFile {
 public:
  static constexpr std::size_t kEventsPerChunk = 64;

  static Result<std::unique_ptr<RecordingFile>> create(const std::string& file, RecordingHead head);
  ~RecordingFile();

  const RecordingHead& head() const { return head_; }

  /// A block that is full. After the next call of rows() or flush() it is in the file.
  void chunk(std::size_t group, const Block& block);
  /// Rows [from, to) of a block that is not full yet, to be found after a kill. False if the block before it is not in
  /// the file: they have to wait.
  bool rows(std::size_t group, const Block& block, std::size_t from, std::size_t to);
  void events(const std::vector<EventRow>& rows);
  /// Lets other tools see what is in the file so far.
  void flush();

  /// False once something could not be written: nothing is written from then on.
  bool good() const { return good_; }
  const Failure& trouble() const { return trouble_; }

  /// Writes the rest (of each group the block that is not full), how the run ended, and closes the file. An empty
  /// ending: it was never said.
  Status close(const std::string& ending, const std::vector<Block*>& rest);

 private:
  struct Group;
  RecordingFile(std::string file, RecordingHead head);
  bool create_all();
  bool create_group(std::size_t index);
  bool write_block(std::size_t group, const Block& block, std::vector<ChunkPlace>& places);
  bool write_events(std::size_t count);
  bool settle();
  bool reserve(std::uint64_t bytes);
  void fail(int reason);

  std::string file_;
  RecordingHead head_;
  FilePlaces places_;
  TailWriter tail_;
  Handle h5_, ending_, events_, event_type_;
  std::vector<std::unique_ptr<Group>> groups_;
  BytePlanes planes_;
  std::vector<float> singles_;
  struct Chunk {
    std::uint32_t group = 0, rows = 0;
    std::uint64_t first = 0;
    std::vector<ChunkPlace> places;
  };
  std::vector<Chunk> in_flight_;   ///< to the disk; the tail does not count on them yet
  std::vector<EventRow> waiting_;  ///< events that are not in the file yet
  std::uint64_t event_rows_ = 0, closing_bytes_ = 0;
  bool good_ = true, whole_ = true;  ///< whole: nothing was half written
  Failure trouble_;
};

}  // namespace isodyne::record
