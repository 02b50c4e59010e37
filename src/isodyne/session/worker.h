#pragma once
// A run is a process of its own, and its parent holds the evidence.
//
// What a controller's library does to its process it does to the run: it may crash, stand, end the process with status
// 0, or break the heap for everybody. So the work is done in a child. The parent sees on a shared board how far it
// came, ends it when it stands, and then writes what there is: the recording is crash-proof. Linux only (parent-death
// signal, subreaper).

#include <functional>
#include <string>
#include <vector>

#include "isodyne/core/time.h"

namespace isodyne::session {

/// What the child tells about itself, for the case that it cannot any more. In a process that is nobody's child it
/// tells nobody.
class WorkerBoard {
 public:
  /// Where the evidence is, once there is any.
  static void evidence_in(const std::string& folder, const std::string& started, const std::string& bench_folder);
  /// The run goes on: to be called again and again between begin() and end().
  static void alive();
  static void begin();
  static void end();
  /// Somebody is asked, and may take as long as they like.
  static void waits(bool so);
};

/// How the child came to its end without having come to the end of its work.
struct Broke {
  std::string why;  ///< "controller `plc` (lockctl): isodyne_step crashed: invalid memory access (SIGSEGV) at 3.2 s"
  bool controller = false;                    ///< a controller did it
  Time at{};                                  ///< simulated
  std::string who;                            ///< that controller, if it happened in a call of it
  std::vector<double> reads;                  ///< what it read in that step, SI
  std::string folder, started, bench_folder;  ///< folder empty: there is no evidence
};

/// Does the work in a child and gives its status; or what `afterwards` makes of it when the child broke. Where no child
/// can be made, here.
int in_own_process(const std::function<int()>& work, const std::function<int(const Broke&)>& afterwards);

/// Where copy_process() has come back.
enum class Side {
  copy,      ///< in a copy of this process, memory and all as it was: it has to come to end_copy()
  original,  ///< here, after the copy has come to its end
  none       ///< no copy could be made
};
/// Within in_own_process(): from here on the work is done twice, at first by a copy, which is held as a child is. Who
/// calls sees to it that nothing else (threads, other processes) belongs to the work. `broke`: the copy did not come to
/// end_copy().
Side copy_process(const std::function<void(const Broke&)>& broke);
[[noreturn]] void end_copy();
/// How many threads this process has.
std::size_t threads_here();

}  // namespace isodyne::session
