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

namespace {
void put_bytes(FILE* stream, const std::string& text) {
  std::fwrite(text.data(), 1, text.size(), stream);
}

/// The escapes that we write ourselves: colours, bold, and back.
std::size_t own_escape(std::string_view text) {
  for (const std::string_view own :
       {"\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[31m", "\x1b[32m", "\x1b[33m", "\x1b[35m", "\x1b[36m", "\x1b[1;31m",
        "\x1b[1;32m", "\x1b[1;33m", "\x1b[1;35m", "\x1b[1;36m"}) {
    if (text.starts_with(own)) return own.size();
  }
  return 0;
}
}  // namespace

/// Names and texts of others must not move the cursor or write over what was said.
void put(FILE* stream, const std::string& text) {
  std::string out;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t escape = std::min(text.find('\x1b', at), text.size());
    out += printable(std::string_view(text).substr(at, escape - at));
    if (escape == text.size()) break;
    const std::size_t own = own_escape(std::string_view(text).substr(escape));
    out += own > 0 ? text.substr(escape, own) : "\xEF\xBF\xBD";
    at = escape + std::max<std::size_t>(1, own);
  }
  put_bytes(stream, out);
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
  put_bytes(stderr, text);
  lines_ = 0;
}

}  // namespace isodyne::app
