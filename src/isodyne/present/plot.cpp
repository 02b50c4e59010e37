#include "isodyne/present/plot.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include <fmt/format.h>

namespace isodyne::present {

std::string quoted(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\'') out += '\'';
    out += c == '\n' || c == '\r' ? ' ' : c;
  }
  return "'" + out + "'";
}

Status plot(const std::string& script, int height, const std::string& base) {
  namespace fs = std::filesystem;
  for (const char* kind : {"svg", "png"}) {
    const std::string file = base + "." + kind;
    const bool svg = std::string(kind) == "svg";
    errno = 0;
    FILE* pipe = popen("gnuplot >/dev/null 2>&1", "w");
    if (pipe == nullptr) return Failure{"cannot start gnuplot for", file, std::strerror(errno)};
    std::string text =
        svg ? fmt::format("set terminal svg size 1280,{} font \"DejaVu Sans,11\" background \"#FFFFFF\" noenhanced\n",
                          height)
            : fmt::format(
                  "set terminal pngcairo size 1280,{} font \"DejaVu Sans,9.5\" background \"#FFFFFF\" noenhanced\n",
                  height);
    text += fmt::format("set output {}\n", quoted(file));
    text += script;
    const bool written = std::fwrite(text.data(), 1, text.size(), pipe) == text.size();
    const int status = pclose(pipe);
    std::error_code none;
    if (!written || status != 0 || !fs::exists(file, none) || fs::file_size(file, none) == 0) {
      return Failure{"cannot draw", file, status == 127 * 256 ? "gnuplot is not installed" : "gnuplot failed"};
    }
  }
  return Done{};
}

}  // namespace isodyne::present
