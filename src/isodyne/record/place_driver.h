#pragma once
// How HDF5 reaches the file that a run is recorded into: plain reads and writes, with three things seen from outside.
//
// Large pieces of raw data go past the page cache, if their stream was begun: they are on the disk after drain().
// The place of the last block of raw data is known, so that the blocks can be found even if a kill came while HDF5 was
// writing down where they are. And room is reserved before it is needed: a full disk is noticed while the file is still
// whole, because HDF5 itself would notice only after it has changed the head of the file.

#include <cstdint>
#include <memory>
#include <string>

#include "isodyne/record/disk_stream.h"
#include "isodyne/record/h5.h"

namespace isodyne::record {

/// What the file has told. Used by the thread that writes.
struct FilePlaces {
  int descriptor = -1;         ///< while the file is open
  std::uint64_t raw_at = 0;    ///< where the last block of raw data begins
  std::uint64_t end = 0;       ///< of what HDF5 has taken
  std::uint64_t reserved = 0;  ///< up to here there is room on the disk
  DiskStream stream;

  /// Makes sure of so many bytes beyond the end; else 0 is not returned but the reason (errno).
  int reserve(std::uint64_t bytes);
};

/// Settings for creating a file that tells `places`, which must outlive it.
Handle access_with_places(FilePlaces& places);

}  // namespace isodyne::record
