// Reads mutations one after another. What may end its reader is read by a child that notes how far it has come: when it
// ends, the next one goes on behind the mutation that it ended of, and what the sanitizers wrote decides whose fault it
// was. Only the HDF5 library itself may be, and what ended it the program has to refuse.

#include <algorithm>
#include <csignal>
#include <fstream>
#include <sstream>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "fuzz/file_kinds.h"
#include "fuzz/mutator.h"
#include "isodyne/record/recording.h"

namespace isodyne::test {

namespace {

constexpr unsigned kHang = 60;  // s
constexpr long kMostKilobytes = 1 << 20;

long kilobytes() {
  rusage used{};
  getrusage(RUSAGE_SELF, &used);
  return used.ru_maxrss;
}

/// What is wrong with how mutation `i` was read, if something is. `read` counts those that were not refused.
std::string read_one(const FileKind& kind, std::size_t i, std::uint64_t seed, long most, std::size_t& read) {
  Mutator mutator(seed + i, kind.name);
  const std::string content = kind.change ? kind.seeds.front() : mutator.mutated(kind.seeds);
  if (kind.change) {
    std::ofstream(kind.file, std::ios::binary) << content;
    kind.change(kind.file, mutator);
  }
  const auto refused = kind.read(content);
  if (!refused) ++read;
  if (refused && (refused->operation.empty() || refused->text().size() < 10))
    return fmt::format("{}: mutation {} is refused without a reason", kind.name, i);
  if (!kSanitized && kilobytes() > most) return fmt::format("{}: mutation {} takes more than 1 GiB", kind.name, i);
  return "";
}

/// Whether a reader ended inside the library: by a signal in what no sanitizer looks into, or by its report, if none of
/// the first frames below the sanitizer's own, of the place and of the memory, is ours.
bool of_the_library(const std::string& report) {
  if (report.find("runtime error") != std::string::npos) return false;
  std::istringstream lines(report);
  bool ours = false;
  for (std::string line; std::getline(lines, line);) {
    const std::size_t frame = line.find("    #");
    if (frame == std::string::npos) continue;
    const bool sanitizers =
        line.find("libasan") != std::string::npos || line.find("libsanitizer") != std::string::npos ||
        line.find("operator new") != std::string::npos || line.find("/libc.so") != std::string::npos;
    if (sanitizers) continue;
    ours = ours || line.find("libhdf5") == std::string::npos;
    // The rest of this stack says only who called.
    while (std::getline(lines, line) && line.find("    #") != std::string::npos) {
    }
  }
  return !ours;
}

struct Reader {
  std::size_t next = 0;  ///< mutation that it is reading
  std::size_t read = 0;
  char wrong[400] = "";
};

/// Reads mutations from `note.next` on, in a child; how that ended.
int read_in_child(const FileKind& kind, std::size_t runs, std::uint64_t seed, Reader& note, const std::string& report) {
  const pid_t child = ::fork();
  if (child == 0) {
    const int to = ::open(report.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    ::dup2(to, STDERR_FILENO);
    for (const int crash : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT})
      if (!kSanitized) std::signal(crash, SIG_DFL);
    const long most = std::max(kilobytes(), kMostKilobytes);
    for (; note.next < runs && note.wrong[0] == 0; ++note.next) {
      ::alarm(kHang);
      const std::string wrong = read_one(kind, note.next, seed, most, note.read);
      wrong.copy(note.wrong, sizeof note.wrong - 1);
    }
    ::_exit(0);
  }
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  return status;
}

Mutations read_in_children(const FileKind& kind, std::size_t runs, std::uint64_t seed) {
  Mutations done;
  void* shared = ::mmap(nullptr, sizeof(Reader), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  Reader& note = *new (shared) Reader;
  const std::string report = kind.file + ".report";
  while (note.next < runs && done.wrong.empty()) {
    const int status = read_in_child(kind, runs, seed, note, report);
    done.wrong = note.wrong;
    if (WIFEXITED(status) && WEXITSTATUS(status) == 0) continue;
    const std::string said = slurp(report);
    if (WIFSIGNALED(status) && WTERMSIG(status) == SIGALRM)
      done.wrong = fmt::format("{}: mutation {} hangs", kind.name, note.next);
    else if (!of_the_library(said))
      done.wrong = fmt::format("{}: mutation {}:\n{}", kind.name, note.next, said);
    else if (record::Recording::open(kind.file))
      done.wrong = fmt::format("{}: mutation {} ends its reader, and the program opens it", kind.name, note.next);
    ++done.ended;
    ++note.next;
  }
  done.read = note.read;
  ::munmap(shared, sizeof(Reader));
  return done;
}

}  // namespace

Mutations mutate_and_read(const FileKind& kind, std::size_t runs, std::uint64_t seed) {
  for (const std::string& s : kind.seeds)
    if (s.empty()) return {kind.name + ": a seed is empty"};
  // Mutations of what nobody reads say nothing.
  const std::string& good = kind.seeds.front();
  if (kind.change) std::ofstream(kind.file, std::ios::binary) << good;
  if (const auto refused = kind.read(good)) return {kind.name + ": the seed is refused: " + refused->text()};
  if (kind.may_end) return read_in_children(kind, runs, seed);
  const long most = std::max(kilobytes(), kMostKilobytes);
  Mutations done;
  for (std::size_t i = 0; i < runs && done.wrong.empty(); ++i) {
    ::alarm(kHang);
    done.wrong = read_one(kind, i, seed, most, done.read);
  }
  ::alarm(0);
  return done;
}

}  // namespace isodyne::test
