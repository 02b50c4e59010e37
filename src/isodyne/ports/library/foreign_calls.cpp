#include "isodyne/ports/library/foreign_calls.h"

#include <algorithm>
#include <cstring>

#include <dlfcn.h>
#include <unistd.h>

#include <fmt/format.h>

namespace isodyne::ports {

namespace {
CallBoard g_own;
CallBoard* g_board = &g_own;
std::atomic<int> g_left{0};
}  // namespace

void CallBoard::take_over(const CallBoard& other) {
  const auto take = [](auto& to, const auto& from) { to.store(from.load()); };
  take(calls, other.calls), take(limit_ms, other.limit_ms), take(thread, other.thread), take(who, other.who);
  take(function, other.function), take(at_ns, other.at_ns), take(known, other.known);
  take(read_count, other.read_count);
  std::memcpy(names, other.names, sizeof names);
  std::memcpy(controllers, other.controllers, sizeof controllers);
  std::memcpy(reads, other.reads, sizeof reads);
}

CallBoard& call_board() {
  return *g_board;
}

void use_call_board(CallBoard* board) {
  g_board = board;
}

int libraries_left() {
  return g_left.load();
}

const char* foreign_word(ForeignFunction function) {
  switch (function) {
    case ForeignFunction::load:
      return "loading its library";
    case ForeignFunction::init:
      return "isodyne_init";
    case ForeignFunction::step:
      return "isodyne_step";
    case ForeignFunction::copied:
      return "isodyne_copied";
    case ForeignFunction::close:
      return "isodyne_close";
    case ForeignFunction::unload:
      return "unloading its library";
  }
  return "?";
}

ForeignCalls::ForeignCalls(std::chrono::milliseconds limit) {
  call_board().limit_ms.store(limit.count(), std::memory_order_relaxed);  // nothing else is published with it
  call_board().known.store(0);
  call_board().at_ns.store(-1);
  call_board().thread.store(static_cast<std::int32_t>(gettid()), std::memory_order_relaxed);
}

ForeignCalls::~ForeignCalls() {
  for (const std::string& file : files_) {
    void* const still = dlopen(file.c_str(), RTLD_NOW | RTLD_NOLOAD);
    if (still == nullptr) continue;
    dlclose(still);
    g_left.fetch_add(1);
  }
}

namespace {
void put_text(char (&to)[CallBoard::kNameBytes], const std::string& text) {
  const std::size_t bytes = std::min(text.size(), CallBoard::kNameBytes - 1);
  std::memcpy(to, text.data(), bytes);
  to[bytes] = '\0';
}
}  // namespace

std::int32_t ForeignCalls::enter(const std::string& controller, const std::string& library, const std::string& file) {
  files_.push_back(file);
  CallBoard& b = call_board();
  const std::int32_t index = std::min<std::int32_t>(b.known.load(), CallBoard::kMostNames - 1);
  put_text(b.names[index], fmt::format("controller `{}` ({})", controller, library));
  put_text(b.controllers[index], controller);
  b.known.store(index + 1);
  return index;
}

void ForeignCalls::show_reads(std::span<const double> reads) {
  CallBoard& b = call_board();
  const std::size_t count = std::min(reads.size(), CallBoard::kMostReads);
  std::copy_n(reads.begin(), count, b.reads);
  b.read_count.store(static_cast<std::int32_t>(count), std::memory_order_relaxed);  // published with the call
}

}  // namespace isodyne::ports
