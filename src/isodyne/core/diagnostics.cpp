#include "isodyne/core/diagnostics.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne {

const char* code_text(Code code) {
  switch (code) {
#define DIAGNOSTIC(id, text) \
  case Code::id:             \
    return text;
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
  }
  return "?";
}

Diagnostic& Diagnostics::add(Severity severity, Code code, Span span, std::string message, std::string advice) {
  const bool repeated = span.known() && !seen_.insert({span.source, span.begin, static_cast<int>(code)}).second;
  if (repeated || list_.size() >= kMost) {
    if (!repeated && severity == Severity::error) ++errors_;
    return dropped_ = Diagnostic{};
  }
  if (severity == Severity::error) ++errors_;
  list_.push_back({severity, code, span, std::move(message), std::move(advice), {}});
  return list_.back();
}

Diagnostic& Diagnostics::error(Code code, Span span, std::string message, std::string advice) {
  return add(Severity::error, code, span, std::move(message), std::move(advice));
}

Diagnostic& Diagnostics::warning(Code code, Span span, std::string message, std::string advice) {
  return add(Severity::warning, code, span, std::move(message), std::move(advice));
}

namespace {

struct Paint {
  bool on;
  std::string operator()(const char* sgr, std::string_view text) const {
    return on ? fmt::format("\x1b[{}m{}\x1b[0m", sgr, text) : std::string(text);
  }
};

/// A line as its characters, counted as positions count them: what a terminal must not get (control
/// characters, bytes that are no UTF-8) is a question mark.
std::vector<std::string> characters(std::string_view line) {
  std::vector<std::string> all;
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(line[i]); };
  for (std::size_t at = 0; at < line.size();) {
    std::size_t end = at + 1;
    while (end < line.size() && (byte(end) & 0xC0u) == 0x80u) ++end;
    const unsigned lead = byte(at);
    const std::size_t wanted = lead < 0x80 ? 1 : lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : lead >= 0xC2 ? 2 : 0;
    if (lead == '\t') {
      all.emplace_back(" ");
    } else if (end - at != wanted || lead < 0x20 || lead == 0x7f || lead > 0xF4) {
      all.emplace_back("?");
    } else {
      all.emplace_back(line.substr(at, end - at));
    }
    at = end;
  }
  return all;
}

/// The line under the message: a very long line is cut to a window around the caret.
void draw_line(std::string& out, const Sources& sources, Span span, const Paint& paint) {
  constexpr std::size_t kWidth = 110;
  const std::vector<std::string> line = characters(sources.line(span));
  const Position at = sources.position(span);
  const std::size_t column = static_cast<std::size_t>(at.column) - 1;
  const bool cut = line.size() > kWidth;
  const std::size_t from = cut && column > kWidth / 2 ? column - kWidth / 2 : 0;
  const std::size_t to = std::min(line.size(), from + (cut ? kWidth : line.size()));
  std::string shown;
  for (std::size_t i = from; i < to; ++i) shown += line[i];
  const std::size_t width = std::max<std::size_t>(1, display_width(sources.covered(span)));
  const std::size_t rest = to > column ? to - column : 1;
  out += fmt::format("{:>5} | {}{}\n", at.line, shown, to < line.size() ? " …" : "");
  out += fmt::format("      | {}{}\n", std::string(column - from, ' '),
                     paint("1;31", "^" + std::string(std::min(width, rest) - 1, '~')));
}

void draw(std::string& out, const Sources& sources, const Diagnostic& d, const Paint& paint) {
  const std::string place = sources.place(d.span);
  if (!place.empty()) out += paint("1", place + ": ");
  out += d.severity == Severity::error ? paint("1;31", "error: ") : paint("1;33", "warning: ");
  out += fmt::format("{} [{}]\n", d.message, code_text(d.code));
  if (d.span.known()) draw_line(out, sources, d.span, paint);
  if (!d.advice.empty()) out += fmt::format("        {}\n", d.advice);
  for (const Note& note : d.notes) {
    const std::string where = sources.place(note.span);
    out += where.empty() ? fmt::format("        {}\n", note.text) : fmt::format("        {}: {}\n", where, note.text);
  }
}

}  // namespace

std::string Diagnostics::render(const Sources& sources, bool colour) const {
  std::vector<const Diagnostic*> order;
  for (const Diagnostic& d : list_) order.push_back(&d);
  std::stable_sort(order.begin(), order.end(), [](const Diagnostic* a, const Diagnostic* b) {
    return std::tie(a->span.source, a->span.begin) < std::tie(b->span.source, b->span.begin);
  });
  std::string out;
  for (const Diagnostic* d : order) draw(out, sources, *d, Paint{colour});
  if (errors_ > list_.size()) out += fmt::format("… and {} more\n", errors_ - list_.size());
  return out;
}

}  // namespace isodyne
