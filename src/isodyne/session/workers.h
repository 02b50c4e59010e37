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
#include <string_view>
#include <vector>

namespace isodyne::session {

/// Says what became of pieces, from within the work on them: also from a copy of its process (worker.h).
class Teller {
 public:
  virtual ~Teller() = default;
  /// Once for each piece. False: there is nobody to hear it.
  virtual bool say(std::size_t piece, std::string_view text) = 0;
  /// Nothing further needs to be begun.
  virtual bool stopped() const = 0;
};

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

/// The same where one process does several pieces in one go: a task is which ones. Of a process that broke, what it had
/// said of pieces counts, and the other pieces of its task are not done.
using Task = std::vector<std::size_t>;
std::vector<Piece> in_workers(std::size_t pieces, const std::vector<Task>& tasks, std::size_t workers,
                              const std::function<void(const Task&, Teller&)>& work,
                              const std::function<bool(std::size_t, Piece&)>& heard = {});
/// How many processes are meant by `workers` of those above.
std::size_t workers_of(std::size_t workers);

}  // namespace isodyne::session
