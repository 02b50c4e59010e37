#pragma once
// Programs as machine code: generated C, compiled by the system's compiler, loaded, and kept in a cache.
//
// The cache is keyed by content: the code, the compiler (path, size, time of change), the flags, the processor and
// this version.
// Its files carry a check sum, appear under their name only when whole, and the oldest go when there are too many;
// any number of processes may use it at once.

#include <atomic>
#include <chrono>
#include <cstdint>
#include <memory>
#include <string>
#include <thread>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/engine/c_code.h"
#include "isodyne/engine/running_plant.h"

namespace isodyne::engine {

struct NativeSettings {
  std::string compiler;            ///< path; empty: none was found
  std::vector<std::string> flags;  ///< of optimisation; empty: those that suit the code
  /// If not empty: flags that compile sooner, for code that runs until the better one is there. A background builder
  /// makes it first, unless the better one is in the cache.
  std::vector<std::string> first_flags;
  std::string cache;                                               ///< folder; empty: nothing is kept
  std::uint64_t cache_limit = 256ull << 20;                        ///< bytes
  std::chrono::milliseconds patience = std::chrono::seconds(120);  ///< a compiler that takes longer is stopped

  /// The compiler named by ISODYNE_CC, else the first of cc, gcc and clang on the PATH; the cache below
  /// XDG_CACHE_HOME or ~/.cache.
  static NativeSettings usual();

  /// The words for the compiler that turn such code into an object, without the names of files.
  std::vector<std::string> words(const CCode& code) const;
};

/// Code of one program in this process. Immutable and shared by threads; unloaded with the last user.
class NativeCode {
 public:
  ~NativeCode();
  NativeCode(const NativeCode&) = delete;
  NativeCode& operator=(const NativeCode&) = delete;

  /// Whether the cache has code of this program for these settings.
  static bool in_cache(const program::Plant& program, const Plan& plan, const NativeSettings& settings);

  /// Generates, compiles (or finds in the cache) and loads. Sets `remark` when something on the way is worth a line
  /// though it ended well. `stop` may be set from another thread to give up.
  static Result<std::shared_ptr<const NativeCode>> make(const program::Plant& program, const Plan& plan,
                                                        const NativeSettings& settings, std::string& remark,
                                                        const std::atomic<bool>& stop);

  void (*solve)(iso_memory*) = nullptr;
  void (*settle)(iso_memory*) = nullptr;
  iso_trouble (*step)(iso_memory*) = nullptr;
  std::size_t known = 0, work = 0;  ///< doubles that iso_memory must offer
  bool cached = false;

 private:
  NativeCode() = default;
  static Result<std::shared_ptr<const NativeCode>> load(const std::string& file, const CCode& code);
  void* library_ = nullptr;
};

/// Executes native code on a plant's state.
class NativePlant : public Execution {
 public:
  NativePlant(const program::Plant& program, std::shared_ptr<const NativeCode> code);

  void solve(const StateView& state) override;
  void settle(const StateView& state, ModeChanges& changes) override;
  PlantTrouble step(const StateView& state, ModeChanges& changes) override;

  /// Who is called from within a step, and with what.
  struct Watcher {
    QuickObserver* quick = nullptr;
    NetworkStepping* networks = nullptr;
    NetworkState* network = nullptr;
    std::int32_t core = 0;
    const Time* now = nullptr;
    std::span<double> values;
  };

 private:
  iso_memory& memory(const StateView& state, ModeChanges& changes);

  std::shared_ptr<const NativeCode> code_;
  std::vector<double> known_, work_;
  std::vector<char> tapped_;
  iso_memory memory_{};
  ModeChanges none_;
  Watcher watcher_;
  bool quick_sensors_ = false;  ///< some sample between two instants of the bench
};

/// Makes native code on a thread of its own while the plant already runs on the interpreter, and hands it over.
/// The plant must outlive the builder.
class NativeBuilder {
 public:
  NativeBuilder(RunningPlant& plant, NativeSettings settings);
  /// Gives up what is not ready.
  ~NativeBuilder();

  /// Waits until the best code is there or cannot be.
  void wait();
  bool done() const { return done_.load(std::memory_order_acquire); }
  /// Once done: why there is no native code, or what is worth saying though there is; else empty.
  const std::string& remark() const { return remark_; }
  bool ready() const { return done() && !native_.empty(); }
  bool cached() const { return ready() && cached_; }

 private:
  void build();
  Status build(std::size_t core, const NativeSettings& settings);

  RunningPlant& plant_;
  NativeSettings settings_;
  std::string remark_;
  std::vector<std::unique_ptr<NativePlant>> native_;  ///< the plant may be in any of them
  bool cached_ = true;                                ///< all of them were
  std::atomic<bool> stop_{false}, done_{false};
  std::thread thread_;
};

}  // namespace isodyne::engine
