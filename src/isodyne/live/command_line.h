#pragma once
// A line that is typed: editing, history, and what might come next.

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/live/keys.h"
#include "isodyne/live/mirror.h"
#include "isodyne/live/spoken.h"

namespace isodyne::live {

/// As a shell does: blanks separate, quotes keep together. A quote that is not closed reaches to the end.
std::vector<std::string> words_of(const std::string& line);

/// What the word at the end of the line may become, with what is before it left as it is; sorted as one would look.
std::vector<std::string> completions(const std::string& line, const Phrases& phrases, const Mirror& run);

class CommandLine {
 public:
  bool open = false;
  void begin(const std::string& text);
  /// The line, when it was given.
  std::optional<std::string> key(const Key& key,
                                 const std::function<std::vector<std::string>(const std::string&)>& complete);
  const std::string& text() const { return text_; }
  std::size_t cursor() const { return cursor_; }  ///< in bytes
  /// What it may become, where that is not one thing.
  const std::vector<std::string>& choices() const { return choices_; }

 private:
  void insert(const std::string& utf8);
  void recall(int by);
  std::string text_, kept_;
  std::size_t cursor_ = 0, place_ = 0;
  std::vector<std::string> history_, choices_;
};

}  // namespace isodyne::live
