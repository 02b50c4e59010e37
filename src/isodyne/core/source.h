#pragma once
// The texts a bench was read from, and positions in them.
//
// core knows no files: whoever loads a text (from disk or out of a recording) adds it here under the name
// people should read in messages.

#include <cstdint>
#include <deque>
#include <string>
#include <string_view>
#include <vector>

namespace isodyne {

/// A stretch of one source: byte offsets [begin, end).
struct Span {
  std::int32_t source = -1;  ///< index into Sources; -1: no text (for example a command-line argument)
  std::uint32_t begin = 0;
  std::uint32_t end = 0;

  bool known() const { return source >= 0; }
};

/// From the first byte of `a` to the last of `b` (of the same source).
inline Span join(Span a, Span b) {
  return {a.source, a.begin, b.end > a.begin ? b.end : a.end};
}

struct Position {
  int line = 0;    ///< from 1
  int column = 0;  ///< from 1, in characters (UTF-8 code points)
};

class Sources {
 public:
  /// Adds a text and returns its index. `name` is what messages call it.
  std::int32_t add(std::string name, std::string text, bool library = false);
  /// Whether a span lies in a text of the shipped library.
  bool in_library(Span span) const { return span.known() && files_[static_cast<std::size_t>(span.source)].library; }

  std::size_t size() const { return files_.size(); }
  const std::string& name(std::int32_t source) const { return files_[static_cast<std::size_t>(source)].name; }
  const std::string& text(std::int32_t source) const { return files_[static_cast<std::size_t>(source)].text; }

  Position position(Span span) const;
  /// The line the span begins on, without its newline.
  std::string_view line(Span span) const;
  /// "plant.dyne:12:3", or an empty text for an unknown span.
  std::string place(Span span) const;
  /// The text the span covers.
  std::string_view covered(Span span) const;
  /// The same to be shown, or to be read again as one statement: comments left out, line ends and blanks as one blank.
  std::string in_one_line(Span span) const;

 private:
  struct File {
    std::string name;
    std::string text;
    std::vector<std::uint32_t> line_starts;
    bool library = false;
  };
  std::size_t line_index(const File& file, std::uint32_t offset) const;
  std::deque<File> files_;  // a deque, so that views into the texts stay valid
};

}  // namespace isodyne
