#include "terminal.h"

#include <cstdlib>
#include <sstream>

#include <sys/ioctl.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/text.h"

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
  clear();
  const std::size_t width = width_of(stderr);
  std::istringstream all(bar + text);
  for (std::string line; std::getline(all, line); ++lines_)
    put(stderr, (lines_ > 0 ? "\n" : "") + std::string(width > 4 ? first_columns(line, width - 1) : line));
  std::fflush(stderr);
}

void ProgressLine::clear() {
  if (lines_ == 0) return;
  std::string text = "\r\x1b[K";
  for (; lines_ > 1; --lines_) text += "\x1b[A\x1b[K";
  put(stderr, text);
  lines_ = 0;
}

}  // namespace isodyne::app
