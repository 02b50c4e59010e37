#pragma once
// Every kind of file that somebody may hand over: what a good one looks like, and who reads it.

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "support.h"

namespace isodyne::test {

class Mutator;

struct FileKind {
  std::string name;
  std::vector<std::string> seeds;
  /// Reads it as the program would; why it was refused, if it was.
  std::function<std::optional<Failure>(const std::string& content)> read;
  /// Where its content is, if it is read from a file.
  std::string file = {};
  /// What is changed in the file instead of bytes; it has the content when this is called.
  std::function<void(const std::string& file, Mutator& mutator)> change = {};
  /// Reading it may end the process that does, inside the HDF5 library: then the program itself refuses `file`.
  bool may_end = false;
};

/// `folder` is for what has to be a file.
std::vector<FileKind> file_kinds(const TestFolder& folder);

struct Mutations {
  std::string wrong = "";  ///< what one of them did that none may do; empty if nothing
  std::size_t read = 0;    ///< those that were not refused
  std::size_t ended = 0;   ///< readers that ended inside the HDF5 library, each of a file that the program refuses
};

/// `runs` mutations of it, the same for the same seed. Each is read within a minute, in less than 1 GiB, and what is
/// refused says why. Kinds that may end their reader are read in processes of their own, many in each.
Mutations mutate_and_read(const FileKind& kind, std::size_t runs, std::uint64_t seed);

}  // namespace isodyne::test
