#include "isodyne/core/source.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne {

std::int32_t Sources::add(std::string name, std::string text, bool library) {
  File file{std::move(name), std::move(text), {0}, library};
  for (std::size_t i = 0; i < file.text.size(); ++i) {
    if (file.text[i] == '\n') file.line_starts.push_back(static_cast<std::uint32_t>(i + 1));
  }
  files_.push_back(std::move(file));
  return static_cast<std::int32_t>(files_.size() - 1);
}

std::size_t Sources::line_index(const File& file, std::uint32_t offset) const {
  const auto after = std::upper_bound(file.line_starts.begin(), file.line_starts.end(), offset);
  return static_cast<std::size_t>(after - file.line_starts.begin()) - 1;
}

std::string_view Sources::line(Span span) const {
  if (!span.known()) return {};
  const File& file = files_[static_cast<std::size_t>(span.source)];
  const std::size_t begin = file.line_starts[line_index(file, span.begin)];
  std::size_t end = std::min(file.text.find('\n', begin), file.text.size());
  if (end > begin && file.text[end - 1] == '\r') --end;
  return std::string_view(file.text).substr(begin, end - begin);
}

Position Sources::position(Span span) const {
  if (!span.known()) return {};
  const File& file = files_[static_cast<std::size_t>(span.source)];
  const std::size_t index = line_index(file, span.begin);
  const std::size_t begin = file.line_starts[index];
  const std::size_t width = display_width(std::string_view(file.text).substr(begin, span.begin - begin));
  return {static_cast<int>(index) + 1, static_cast<int>(width) + 1};
}

std::string Sources::place(Span span) const {
  if (!span.known()) return {};
  const Position at = position(span);
  return fmt::format("{}:{}:{}", name(span.source), at.line, at.column);
}

std::string_view Sources::covered(Span span) const {
  if (!span.known()) return {};
  return std::string_view(text(span.source)).substr(span.begin, span.end - span.begin);
}

std::string Sources::in_one_line(Span span) const {
  const std::string_view written = covered(span);
  std::string kept;
  bool quoted = false;
  for (std::size_t i = 0; i < written.size(); ++i) {
    const char c = written[i];
    if (c == '"') quoted = !quoted;
    if (c == '\n') quoted = false;  // a text ends with its line
    if (c == '#' && !quoted) {
      i = std::min(written.find('\n', i), written.size()) - 1;
      continue;
    }
    kept += c;
  }
  return one_line(kept);
}

}  // namespace isodyne
