#include "interruption.h"

#include <atomic>
#include <csignal>

namespace isodyne::app {

namespace {
std::atomic<bool> g_interrupted{false};
}  // namespace

void note_interruptions() {
  std::signal(SIGINT, [](int) { g_interrupted = true; });
  std::signal(SIGTERM, [](int) { g_interrupted = true; });
}

bool interrupted() {
  return g_interrupted;
}

}  // namespace isodyne::app
