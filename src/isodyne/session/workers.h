#pragma once
// Many pieces of work beside each other: processes that begin as copies of this one, with everything that it has
// prepared (the bench checked, its code compiled), and do one piece after another.
//
// What a piece leaves behind in its process, the next one would find. So a process that is not as it was before
// (a controller's library that does not leave) is replaced by a fresh copy, and one that breaks costs its piece only.

#include <cstddef>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

namespace isodyne::session {

struct Piece {
  bool done = false;
  std::string said;          ///< done: what the work gave; else why there is nothing
  std::int64_t process = 0;  ///< that did it
};

/// Does `work(i)` for i from 0 to `pieces` − 1 in `workers` processes (0: as many as there are cores), and gives what
/// each said, in order. `heard` gets each piece as soon as it is there, on this thread, and may take what it said;
/// where it says false, no further piece is begun.
std::vector<Piece> in_workers(std::size_t pieces, std::size_t workers,
                              const std::function<std::string(std::size_t)>& work,
                              const std::function<bool(std::size_t, Piece&)>& heard = {});

}  // namespace isodyne::session
