#pragma once
// Where output goes: results to standard output, everything else to standard error.

#include <chrono>
#include <cstdio>
#include <string>

namespace isodyne::app {

/// Colours only on a terminal, and not where NO_COLOR is set.
bool colours_on(FILE* stream);
/// Columns of a terminal; 0 if the stream is none.
std::size_t width_of(FILE* stream);

/// Writes text as it is. A reader that has gone away (`| head`) is no error here; main() looks at the end.
void put(FILE* stream, const std::string& text);
void say(const std::string& text);        ///< a line of result
void say_aside(const std::string& text);  ///< a line of progress or log
/// "isodyne: error: …" on standard error.
void say_error(const std::string& text);

/// One line that is drawn over and over; silent where standard error is no terminal.
class ProgressLine {
 public:
  ProgressLine();
  ~ProgressLine() { clear(); }
  ProgressLine(const ProgressLine&) = delete;
  ProgressLine& operator=(const ProgressLine&) = delete;

  /// True if the line should be drawn anew now (a few times a second).
  bool due();
  /// `share` from 0 to 1; negative: unknown. The text may go on in more lines.
  void draw(double share, const std::string& text);
  void clear();

 private:
  bool on_;
  std::size_t lines_ = 0;  ///< that are drawn
  std::chrono::steady_clock::time_point next_;
};

}  // namespace isodyne::app
