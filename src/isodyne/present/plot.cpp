#include "isodyne/present/plot.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <string_view>
#include <vector>

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

namespace {
std::string terminal(std::string_view kind, int height) {
  if (kind == "svg") return fmt::format("svg size 1280,{} font \"DejaVu Sans,11\"", height);
  if (kind == "png") return fmt::format("pngcairo size 1280,{} font \"DejaVu Sans,9.5\"", height);
  return fmt::format("pdfcairo size {:.3f}in,{:.3f}in font \"DejaVu Sans,9.5\"", 1280 / 96.0, height / 96.0);
}
}  // namespace

Status plot(const std::string& script, int height, const std::string& base, bool pdf) {
  namespace fs = std::filesystem;
  std::vector<const char*> kinds{"svg", "png"};
  if (pdf) kinds.push_back("pdf");
  for (const char* kind : kinds) {
    const std::string file = base + "." + kind;
    errno = 0;
    FILE* pipe = popen("gnuplot >/dev/null 2>&1", "w");
    if (pipe == nullptr) return Failure{"cannot start gnuplot for", file, std::strerror(errno)};
    std::string text = fmt::format("set terminal {} background \"#FFFFFF\" noenhanced\n", terminal(kind, height));
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
