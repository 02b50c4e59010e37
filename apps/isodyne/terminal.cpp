#include "terminal.h"

#include <cstdlib>

#include <sys/ioctl.h>
#include <unistd.h>

#include <fmt/format.h>

namespace isodyne::app {

bool colours_on(FILE* stream) {
  const char* no = std::getenv("NO_COLOR");
  return isatty(fileno(stream)) != 0 && (no == nullptr || *no == '\0');
}

std::size_t width_of(FILE* stream) {
  winsize size{};
  if (isatty(fileno(stream)) == 0 || ioctl(fileno(stream), TIOCGWINSZ, &size) != 0) return 0;
  return size.ws_col == 0 ? 80 : size.ws_col;
}

void put(FILE* stream, const std::string& text) {
  std::fwrite(text.data(), 1, text.size(), stream);
}

void say(const std::string& text) {
  put(stdout, text + "\n");
}
void say_aside(const std::string& text) {
  put(stderr, text + "\n");
}

void say_error(const std::string& text) {
  put(stderr, (colours_on(stderr) ? "isodyne: \x1b[1;31merror:\x1b[0m " : "isodyne: error: ") + text + "\n");
}

ProgressLine::ProgressLine()
    : on_(isatty(fileno(stderr)) != 0), next_(std::chrono::steady_clock::now() + std::chrono::milliseconds(150)) {}

bool ProgressLine::due() {
  if (!on_) return false;
  const auto now = std::chrono::steady_clock::now();
  if (now < next_) return false;
  next_ = now + std::chrono::milliseconds(100);
  return true;
}

void ProgressLine::draw(double share, const std::string& text) {
  if (!on_) return;
  constexpr int kBar = 24;
  std::string bar;
  if (share >= 0) {
    const int full = static_cast<int>(share * kBar);
    bar = fmt::format("[{}{}] ", std::string(static_cast<std::size_t>(full), '='),
                      std::string(static_cast<std::size_t>(kBar - full), ' '));
  }
  std::string line = bar + text;
  const std::size_t width = width_of(stderr);
  if (width > 4 && line.size() > width - 1) line.resize(width - 1);
  put(stderr, "\r\x1b[K" + line);
  std::fflush(stderr);
  drawn_ = true;
}

void ProgressLine::clear() {
  if (drawn_) put(stderr, "\r\x1b[K");
  drawn_ = false;
}

}  // namespace isodyne::app
