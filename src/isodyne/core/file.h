#pragma once
// Files as wholes, and folders that are there for a while.

#include <filesystem>
#include <string>

#include "isodyne/core/result.h"

namespace isodyne {

/// Writes `text` to a file that did not exist or is replaced as a whole: never half of it.
Status write_file(const std::string& file, const std::string& text);
/// The same, but a file that is there is left alone, and that is a Failure.
Status write_new_file(const std::string& file, const std::string& text);
/// Of files of up to 256 MiB; a folder, a pipe or a device is a Failure.
Result<std::string> read_file(const std::string& file);

/// A folder of its own, which goes with its owner, and all that is in it.
class TemporaryFolder {
 public:
  /// Below `place`; without one, where the system keeps such.
  explicit TemporaryFolder(const std::string& place = {});
  ~TemporaryFolder();
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;

  /// Empty where none could be made.
  const std::filesystem::path& path() const { return path_; }
  /// Why there is none.
  Failure trouble() const;

 private:
  std::filesystem::path place_, path_;
  int error_ = 0;
};

}  // namespace isodyne
