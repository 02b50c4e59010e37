// Files of others with something wrong in them, of every kind: refused with a reason or read, and nothing else happens.
// 2,000 mutations each; scripts/fuzz asks for more by ISODYNE_MUTATIONS, and one kind by ISODYNE_MUTATED.

#include <cstdlib>

#include <catch2/catch.hpp>

#include "fuzz/file_kinds.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

TEST_CASE("Mutations of every kind of file end nobody") {
  const char* wanted = std::getenv("ISODYNE_MUTATIONS");
  const std::size_t runs = wanted == nullptr ? 2000 : std::strtoul(wanted, nullptr, 10);
  const char* chosen = std::getenv("ISODYNE_MUTATED");
  const TestFolder folder;
  for (const FileKind& kind : file_kinds(folder)) {
    if (chosen != nullptr && kind.name != chosen) continue;
    INFO(kind.name);
    const Mutations done = mutate_and_read(kind, runs, 20261129);
    CHECK(done.wrong == "");
    // Else they would be too wild to lead anywhere.
    CHECK(done.read > 0);
    if (wanted != nullptr)
      WARN(runs << " mutations of " << kind.name << ", " << done.read << " read, " << done.ended
                << " ended their reader");
  }
}
