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

/// The line under the message: a very long line is cut to a window around the caret.
void draw_line(std::string& out, const Sources& sources, Span span, const Paint& paint) {
  constexpr std::size_t kWidth = 110;
  std::string line(sources.line(span));
  for (char& c : line) {
    if (c == '\t') c = ' ';
    if (static_cast<unsigned char>(c) < 0x20 || c == 0x7f) c = '?';
  }
  const Position at = sources.position(span);
  std::size_t column = static_cast<std::size_t>(at.column) - 1;
  if (display_width(line) > kWidth) {
    // Cut on bytes only where the text is plain; otherwise show no window rather than half a character.
    const bool plain = display_width(line) == line.size();
    const std::size_t from = plain && column > kWidth / 2 ? column - kWidth / 2 : 0;
    if (!plain && column > kWidth) return;
    line = plain ? line.substr(from, kWidth) + " …" : line;
    column -= from;
  }
  const std::size_t width = std::max<std::size_t>(1, display_width(sources.covered(span)));
  const std::size_t rest = display_width(line) > column ? display_width(line) - column : 1;
  const std::string number = fmt::format("{:>5}", at.line);
  out += fmt::format("{} | {}\n", number, line);
  out += fmt::format("      | {}{}\n", std::string(column, ' '),
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
