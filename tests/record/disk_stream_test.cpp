// What goes past the page cache is in the file as if it had been written plainly, wherever pieces begin and end.

#include <cerrno>
#include <filesystem>

#include <fcntl.h>
#include <unistd.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/record/disk_stream.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// Pieces of 1 byte to 3 MB, most of them one behind the other, some with a gap; between them plain writes into the
/// gaps, as HDF5 makes them. Returns what must be in the file.
std::string write_pieces(record::DiskStream& stream, int descriptor, std::uint64_t seed) {
  RandomStream random(seed, "pieces");
  std::string expected;
  for (int piece = 0; piece < 60; ++piece) {
    if (random.next() % 4 == 0) {
      const std::string gap(1 + random.next() % 9000, static_cast<char>('a' + piece % 26));
      REQUIRE(record::write_at(descriptor, gap.data(), gap.size(), expected.size()) == 0);
      expected += gap;
    }
    std::string bytes(1 + random.next() % (piece % 7 == 0 ? 3'000'000 : 70'000), '\0');
    for (char& c : bytes) c = static_cast<char>(random.next());
    REQUIRE(stream.write(expected.size(), bytes.data(), bytes.size()) == 0);
    expected += bytes;
    if (piece % 13 == 0) {
      REQUIRE(stream.drain() == 0);  // what others see is complete now
    }
  }
  return expected;
}

}  // namespace

TEST_CASE("What goes past the page cache is in the file byte for byte, with plain writes between") {
  const TestFolder folder;
  // The second is a file system that has nothing but a cache.
  for (const std::string& name : {folder / "pieces", "/dev/shm/isodyne-pieces-" + std::to_string(::getpid())}) {
    for (const std::uint64_t seed : {1u, 2u, 3u}) {
      INFO(name << " seed " << seed);
      const int descriptor = ::open(name.c_str(), O_CREAT | O_RDWR | O_TRUNC, 0600);
      REQUIRE(descriptor >= 0);
      record::DiskStream stream;
      stream.begin(name, descriptor);
      const std::string expected = write_pieces(stream, descriptor, seed);
      CHECK(stream.finish() == 0);
      ::close(descriptor);
      CHECK(slurp(name) == expected);
      std::filesystem::remove(name);
    }
  }
}

TEST_CASE("A disk that refuses is noticed, and nothing hangs") {
  const TestFolder folder;
  const std::string name = folder.write("there", "abc");
  const int descriptor = ::open(name.c_str(), O_RDONLY);
  {
    record::DiskStream stream;
    stream.begin(folder / "missing", descriptor);  // not to be reached past the cache either
    const std::string bytes(5'000'000, 'x');
    (void)stream.write(0, bytes.data(), bytes.size());
    CHECK(stream.drain() == EBADF);
    CHECK(stream.write(0, bytes.data(), 10) == EBADF);
    CHECK(stream.finish() == EBADF);
  }
  ::close(descriptor);
  CHECK(slurp(name) == "abc");
}
