#include "isodyne/engine/native.h"

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>

#include <dlfcn.h>
#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/process.h"
#include "isodyne/core/text.h"
#include "isodyne/core/version.h"

extern char** environ;

namespace isodyne::engine {

namespace fs = std::filesystem;

namespace {

// ---- the cache --------------------------------------------------------------------------------------------

/// What stands behind the machine code in a file of the cache.
struct Trailer {
  char mark[8];
  std::uint64_t length, sum;
};
constexpr char kMark[8] = {'i', 's', 'o', 'n', 'a', 't', '1', '\n'};

std::string read_file(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

bool write_file(const std::string& file, std::string_view text) {
  std::ofstream out(file, std::ios::binary);
  out.write(text.data(), static_cast<std::streamsize>(text.size()));
  out.close();
  return !out.fail();
}

bool whole(const std::string& file) {
  const std::string content = read_file(file);
  Trailer t{};
  if (content.size() < sizeof t) return false;
  std::memcpy(&t, content.data() + content.size() - sizeof t, sizeof t);
  const std::size_t length = content.size() - sizeof t;
  return std::memcmp(t.mark, kMark, sizeof kMark) == 0 && t.length == length &&
         t.sum == fnv1a(std::string_view(content).substr(0, length));
}

bool seal(const std::string& file) {
  std::string content = read_file(file);
  Trailer t{};
  std::memcpy(t.mark, kMark, sizeof kMark);
  t.length = content.size();
  t.sum = fnv1a(content);
  content.append(reinterpret_cast<const char*>(&t), sizeof t);
  return write_file(file, content);
}

/// What this processor can do, as the system tells it: code for one may be unknown to another that shares the cache.
std::string processor() {
  std::ifstream in("/proc/cpuinfo");
  std::string line;
  while (std::getline(in, line)) {
    if (line.starts_with("flags") || line.starts_with("Features")) return line;
  }
  return {};
}

/// A name that only the same code, compiler, flags, processor and version give.
std::string key_of(const CCode& code, const NativeSettings& settings) {
  std::string all = fmt::format("{}\n{}\n{}\n", kVersion, kCLayout, settings.compiler);
  struct stat status {};
  if (stat(settings.compiler.c_str(), &status) == 0)
    all += fmt::format("{} {} {}\n", status.st_size, status.st_mtim.tv_sec, status.st_mtim.tv_nsec);
  for (const std::string& w : settings.words(code)) all += w + "\n";
  all += processor();
  const std::uint64_t first = fnv1a(all + code.text);
  return fmt::format("{:016x}{:016x}", first, fnv1a(fmt::format("{}{}", first, code.text) + all));
}

/// Removes the files longest unused until the rest is small enough. Others may do the same at once.
void shrink(const std::string& folder, std::uint64_t limit) {
  struct File {
    fs::file_time_type used;
    std::uint64_t size;
    fs::path path;
  };
  std::vector<File> files;
  std::uint64_t total = 0;
  std::error_code error;
  for (const auto& entry : fs::directory_iterator(folder, error)) {
    const std::uint64_t size = entry.file_size(error);
    if (error || entry.path().extension() != ".so") continue;
    files.push_back({entry.last_write_time(error), size, entry.path()});
    total += size;
  }
  std::sort(files.begin(), files.end(), [](const File& a, const File& b) { return a.used < b.used; });
  for (std::size_t i = 0; i + 1 < files.size() && total > limit; ++i) {
    fs::remove(files[i].path, error);
    total -= files[i].size;
  }
}

/// The line of a compiler's messages that says what is wrong.
std::string first_error(const std::string& text) {
  const std::size_t found = text.find("error");
  const std::size_t line = found == std::string::npos ? 0 : text.rfind('\n', found) + 1;
  return one_line(text.substr(line, std::min<std::size_t>(400, text.find('\n', line) - line)));
}

/// Compiles into `workshop`/model.so.
Status compile(const CCode& code, const std::string& folder, const NativeSettings& settings,
               const std::atomic<bool>& stop) {
  const std::string source = folder + "/model.c", object = folder + "/model.so", log = folder + "/messages";
  if (!write_file(source, code.text)) return Failure{"cannot write", source, std::strerror(errno)};
  std::vector<std::string> words{settings.compiler};
  for (std::string& w : settings.words(code)) words.push_back(std::move(w));
  words.insert(words.end(), {"-o", object, source, "-lm"});
  const Result<int> status = run_program("the compiler", words, log, settings.patience, stop);
  if (!status) return status.failure();
  if (*status != 0)
    return Failure{"the compiler failed", settings.compiler,
                   fmt::format("exit status {}: {}", *status, first_error(read_file(log)))};
  std::error_code none;
  if (!fs::exists(object, none) || fs::file_size(object, none) == 0)
    return Failure{"the compiler left nothing behind", settings.compiler, ""};
  if (!seal(object)) return Failure{"cannot write", object, std::strerror(errno)};
  return Done{};
}

}  // namespace

NativeSettings NativeSettings::usual() {
  NativeSettings s;
  if (const char* chosen = std::getenv("ISODYNE_CC"); chosen != nullptr && *chosen != '\0') {
    s.compiler = on_path(chosen);
  } else {
    for (const char* name : {"cc", "gcc", "clang"}) {
      if (s.compiler.empty()) s.compiler = on_path(name);
    }
  }
  const char* xdg = std::getenv("XDG_CACHE_HOME");
  const char* home = std::getenv("HOME");
  if (xdg != nullptr && *xdg == '/') {
    s.cache = std::string(xdg) + "/isodyne";
  } else if (home != nullptr && *home == '/') {
    s.cache = std::string(home) + "/.cache/isodyne";
  }
  return s;
}

std::vector<std::string> NativeSettings::words(const CCode& code) const {
  std::vector<std::string> all{"-std=c11", "-shared", "-fPIC", "-fvisibility=default", "-ffp-contract=off",
                               // Neither changes a value: nobody looks at errno or at the flags of exceptions.
                               "-fno-math-errno", "-fno-trapping-math", "-w"};
  if (!flags.empty()) {
    all.insert(all.end(), flags.begin(), flags.end());
    return all;
  }
#if defined(__x86_64__)
  // All that this processor can do but to multiply and add with one rounding: gcc 12 makes vectors of that
  // (vfmsubadd) in spite of -ffp-contract=off. AVX-512 brings these instructions along.
  all.insert(all.end(), {"-march=native", "-mno-fma", "-mno-fma4", "-mno-avx512f"});
#endif
  if (code.small) {
    // The few states stay in registers, where vectors would have to be packed and unpacked in between.
    all.insert(all.end(), {"-O3", "-fno-tree-vectorize", "-fno-tree-slp-vectorize"});
  } else {
    all.emplace_back("-O2");
  }
  return all;
}

NativeCode::~NativeCode() {
  if (library_ != nullptr) dlclose(library_);
}

Result<std::shared_ptr<const NativeCode>> NativeCode::load(const std::string& file, const CCode& code) {
  std::shared_ptr<NativeCode> made(new NativeCode);
  made->library_ = dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
  if (made->library_ == nullptr) return Failure{"cannot load", file, dlerror()};
  const auto find = [&](const char* name, auto& function) {
    void* found = dlsym(made->library_, name);
    std::memcpy(&function, &found, sizeof found);
    return found != nullptr;
  };
  int (*layout)() = nullptr;
  const bool complete = find("iso_plant_solve", made->solve) && find("iso_plant_settle", made->settle) &&
                        find("iso_plant_step", made->step) && find("iso_plant_layout", layout);
  if (!complete || layout() != kCLayout) return Failure{"cannot use", file, "it is not code of this version"};
  made->known = code.known;
  made->work = code.work;
  return std::shared_ptr<const NativeCode>(std::move(made));
}

namespace {
CCode whole_code(const program::Plant& program, const Plan& plan) {
  CCode code = c_code(program, plan, {});
  code.text = std::string(kNumericsText) + kMemoryText + code.text;
  return code;
}

std::string kept_file(const CCode& code, const NativeSettings& settings) {
  return settings.cache + "/" + key_of(code, settings) + ".so";
}
}  // namespace

bool NativeCode::in_cache(const program::Plant& program, const Plan& plan, const NativeSettings& settings) {
  std::error_code error;
  return !settings.cache.empty() && fs::exists(kept_file(whole_code(program, plan), settings), error);
}

/// Why nothing can be kept in this folder; empty if it can.
static std::string why_not_kept(const std::string& cache) {
  constexpr std::uintmax_t kEnough = 8 << 20;  // of a source, what compilers leave beside it, and an object
  const TemporaryFolder trial(cache);
  if (trial.path().empty()) return fmt::format("cannot write in {}: {}", cache, trial.trouble().reason);
  std::error_code error;
  const fs::space_info space = fs::space(cache, error);
  if (error || space.available >= kEnough) return {};
  return fmt::format("{} has only {} KiB left", cache, space.available / 1024);
}

Result<std::shared_ptr<const NativeCode>> NativeCode::make(const program::Plant& program, const Plan& plan,
                                                           const NativeSettings& settings, std::string& remark,
                                                           const std::atomic<bool>& stop) {
  if (settings.compiler.empty()) return Failure{"no C compiler was found", "", ""};
  const CCode code = whole_code(program, plan);
  std::error_code error;
  std::string cache = settings.cache;
  if (!cache.empty()) fs::create_directories(cache, error);
  const std::string kept = kept_file(code, settings);
  if (!cache.empty() && fs::exists(kept, error)) {
    if (whole(kept)) {
      utimensat(AT_FDCWD, kept.c_str(), nullptr, 0);  // used just now
      auto loaded = load(kept, code);
      if (loaded) {
        std::const_pointer_cast<NativeCode>(*loaded)->cached = true;
        return loaded;
      }
    }
    remark = fmt::format("{} was damaged and is made anew", kept);
    fs::remove(kept, error);
  }
  const std::string why_not = cache.empty() ? std::string{} : why_not_kept(cache);
  if (!why_not.empty()) {
    remark = fmt::format("native code is not kept: {}", why_not);
    cache.clear();
  }
  const TemporaryFolder workshop(cache);
  if (workshop.path().empty()) return workshop.trouble();
  const Status compiled = compile(code, workshop.path().string(), settings, stop);
  if (!compiled) return compiled.failure();
  const std::string made = (workshop.path() / "model.so").string();
  auto loaded = load(made, code);
  if (!loaded || cache.empty()) return loaded;
  // Loaded code stays what it is under its new name.
  if (std::rename(made.c_str(), kept.c_str()) == 0) shrink(cache, settings.cache_limit);
  return loaded;
}

// ---- executing it ---------------------------------------------------------------------------------------

namespace {
double tap_of_host(void* host, std::int32_t tap, double value, double now) {
  return through_tap(static_cast<TapState*>(host)[tap], value, now);
}
void sample_of_host(void* sensors, std::int32_t sensor) {
  static_cast<SensorSampling*>(sensors)->sample(sensor);
}
void instant_of_host(void* watcher) {
  const auto& w = *static_cast<const NativePlant::Watcher*>(watcher);
  w.quick->instant(w.core, *w.now, w.values.data());
}
std::int32_t network_step_of_host(void* watcher, std::int32_t group) {
  const auto& w = *static_cast<const NativePlant::Watcher*>(watcher);
  return w.networks->step(group, *w.now, w.values, *w.network);
}
void network_arrive_of_host(void* watcher, std::int32_t group) {
  const auto& w = *static_cast<const NativePlant::Watcher*>(watcher);
  w.networks->arrive(group, *w.now, w.values, *w.network);
}
}  // namespace

NativePlant::NativePlant(const program::Plant& program, std::shared_ptr<const NativeCode> code)
    : code_(std::move(code)), known_(code_->known), work_(code_->work), tapped_(program.taps.size()) {
  memory_.known = known_.data();
  memory_.work = work_.data();
  memory_.tapped = tapped_.data();
  memory_.tap = tap_of_host;
  quick_sensors_ = std::any_of(program.sensors.begin(), program.sensors.end(),
                               [&](const program::Sensor& s) { return s.period < program.step; });
}

iso_memory& NativePlant::memory(const StateView& state, ModeChanges& changes) {
  static_assert(sizeof(Time) == sizeof(std::int64_t));
  for (std::size_t i = 0; i < tapped_.size(); ++i) tapped_[i] = state.taps[i].any_on ? 1 : 0;
  memory_.sensing = state.sensors == nullptr || quick_sensors_ || state.sensors->due(*state.now) ? 1 : 0;
  // States of one program have sizes that never change, so the same first addresses mean all the same.
  const bool same = memory_.host == state.taps.data() && memory_.sensors == state.sensors &&
                    memory_.v == state.values.data() && memory_.next == state.next.data() &&
                    memory_.changes == changes.list.data() && watcher_.quick == state.quick &&
                    watcher_.network == state.network;
  if (same) return memory_;
  memory_.now = reinterpret_cast<std::int64_t*>(state.now);
  memory_.v = state.values.data();
  memory_.next = state.next.data();
  memory_.history = state.history.data();
  memory_.remembered = state.remembered.data();
  memory_.reversals = state.reversals.data();
  memory_.event_was = state.event_was.data();
  memory_.event_late = state.event_late.data();
  memory_.unsolved = state.unsolved;
  memory_.entered = state.entered;
  memory_.endless = state.endless;
  memory_.doubt = state.doubt;
  memory_.changes = changes.list.data();
  memory_.change_count = &changes.count;
  memory_.host = state.taps.data();
  memory_.sensors = state.sensors;
  memory_.sample = state.sensors == nullptr ? nullptr : sample_of_host;
  watcher_ = {state.quick, state.networks, state.network, state.core, state.now, state.values};
  memory_.watcher = memory_.networks = &watcher_;
  memory_.network_step = network_step_of_host;
  memory_.network_arrive = network_arrive_of_host;
  memory_.instant = state.quick == nullptr ? nullptr : instant_of_host;
  memory_.idle_wanted = state.computes_idle() ? 1 : 0;
  memory_.still = state.passes_over() ? 1 : 0;
  return memory_;
}

void NativePlant::solve(const StateView& state) {
  code_->solve(&memory(state, none_));
}

void NativePlant::settle(const StateView& state, ModeChanges& changes) {
  code_->settle(&memory(state, changes));
}

PlantTrouble NativePlant::step(const StateView& state, ModeChanges& changes) {
  const iso_trouble t = code_->step(&memory(state, changes));
  return {static_cast<PlantTrouble::Kind>(t.kind), t.index, t.last_good};
}

// ---- in the background ----------------------------------------------------------------------------------

NativeBuilder::NativeBuilder(RunningPlant& plant, NativeSettings settings)
    : plant_(plant), settings_(std::move(settings)), thread_([this] { build(); }) {}

NativeBuilder::~NativeBuilder() {
  stop_.store(true, std::memory_order_relaxed);  // relaxed: the flag publishes no other data
  wait();
}

void NativeBuilder::wait() {
  if (thread_.joinable()) thread_.join();
}

Status NativeBuilder::build(std::size_t core, const NativeSettings& settings) {
  auto code = NativeCode::make(plant_.program(), plant_.plan(core), settings, remark_, stop_);
  if (!code) return code.failure();
  if (!(*code)->cached) cached_ = false;
  native_.push_back(std::make_unique<NativePlant>(plant_.program(), *code));
  plant_.adopt(native_.back().get(), core);
  return Done{};
}

void NativeBuilder::build() {
  const auto kept = [&](std::size_t core) {
    return NativeCode::in_cache(plant_.program(), plant_.plan(core), settings_);
  };
  Status built = Done{};
  if (!settings_.first_flags.empty()) {
    NativeSettings first = settings_;
    first.flags = settings_.first_flags;
    for (std::size_t core = 0; built && core < plant_.cores(); ++core) {
      if (!kept(core)) built = build(core, first);
    }
  }
  for (std::size_t core = 0; built && core < plant_.cores(); ++core) built = build(core, settings_);
  if (!built && native_.empty()) remark_ = built.failure().text() + "; the interpreter runs";
  done_.store(true, std::memory_order_release);
}

}  // namespace isodyne::engine
