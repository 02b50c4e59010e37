#include "isodyne/present/plot.h"

#include <atomic>
#include <chrono>
#include <filesystem>
#include <future>
#include <string_view>
#include <vector>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/process.h"
#include "isodyne/core/text.h"
#include "isodyne/session/summary.h"

namespace isodyne::present {

std::string quoted(const std::string& text) {
  std::string out;
  for (const char c : printable(text)) {
    if (c == '\'') out += '\'';
    // At the end of a line gnuplot takes a backslash for "goes on", whatever is quoted.
    out += c == '\n' || c == '\t' ? " " : c == '\\' ? "\xE2\x88\x96" : std::string(1, c);
  }
  return "'" + out + "'";
}

namespace {
/// A file's name has to be the very bytes, so in another form of quotes, where a backslash stands before what is odd.
std::string file_text(const std::string& name) {
  std::string out;
  for (const char c : name) {
    const auto byte = static_cast<unsigned char>(c);
    const bool plain = byte >= 0x20 && c != '"' && c != '\\' && c != '`' && c != '@' && c != '$';
    out += plain ? std::string(1, c) : fmt::format("\\{:03o}", byte);
  }
  return "\"" + out + "\"";
}

std::string terminal(std::string_view kind, PictureSize size) {
  if (kind == "svg") return fmt::format("svg size {},{} font \"DejaVu Sans,11\"", size.width, size.height);
  if (kind == "png") return fmt::format("pngcairo size {},{} font \"DejaVu Sans,9.5\"", size.width, size.height);
  return fmt::format("pdfcairo size {:.3f}in,{:.3f}in font \"DejaVu Sans,9.5\"", size.width / 96.0, size.height / 96.0);
}
Status plot_kind(const std::string& gnuplot, const std::string& script, PictureSize size, const std::string& base,
                 const char* kind) {
  namespace fs = std::filesystem;
  const std::string file = base + "." + kind;
  std::string text = fmt::format("set terminal {} background \"#FFFFFF\" noenhanced\n", terminal(kind, size));
  text += fmt::format("set output {}\n", file_text(file));
  text += script;
  const std::string commands = file + ".commands", messages = file + ".messages";
  const Status written = write_file(commands, text);
  if (!written) return written.failure();
  const std::atomic<bool> stop{false};
  // Without what the user has set up for it at home.
  const auto drawn = run_program("gnuplot", {gnuplot, "-d", commands}, messages, std::chrono::minutes(5), stop);
  std::error_code none;
  fs::remove(commands, none);
  fs::remove(messages, none);
  if (!drawn) return drawn.failure();
  if (*drawn != 0 || !fs::exists(file, none) || fs::file_size(file, none) == 0)
    return Failure{"cannot draw", file, "gnuplot failed"};
  return Done{};
}

}  // namespace

Status plot(const std::string& script, int height, const std::string& base, bool pdf) {
  return plot(script, {1280, height}, base, pdf);
}

Status plot(const std::string& script, PictureSize size, const std::string& base, bool pdf) {
  const std::string gnuplot = on_path("gnuplot");
  if (gnuplot.empty()) return Failure{"cannot draw", base, "gnuplot is not installed"};
  std::vector<const char*> kinds{"svg", "png"};
  if (pdf) kinds.push_back("pdf");
  // Beside each other: they are processes of their own.
  std::vector<std::future<Status>> drawn;
  for (const char* kind : kinds)
    drawn.push_back(std::async(std::launch::async, [&gnuplot, &script, &base, size, kind] {
      return plot_kind(gnuplot, script, size, base, kind);
    }));
  Status all = Done{};
  for (auto& one : drawn) {
    Status status = one.get();
    if (!status && all) all = std::move(status);
  }
  return all;
}

}  // namespace isodyne::present
