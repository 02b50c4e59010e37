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
  /// What is changed beside bytes: of this file, which has the content when it is called.
  std::string file = {};
  std::function<void(const std::string& file, Mutator& mutator)> change = {};
  /// Each is read in a process of its own, which takes a tenth of a second under the sanitizers.
  bool forks = false;
};

/// `folder` is for what has to be a file.
std::vector<FileKind> file_kinds(const TemporaryFolder& folder);

/// `runs` mutations of it. Each is read within a minute (else the process is ended by SIGALRM), and what is refused
/// says why; returns what is not so, empty if nothing.
std::string mutate_and_read(const FileKind& kind, std::size_t runs, std::uint64_t seed);

}  // namespace isodyne::test
