#pragma once
// Mistakes in the engineer's text. Every pass appends to one list and goes on, so that one look shows them
// all; a separate renderer draws the line and the caret.

#include <set>
#include <string>
#include <tuple>
#include <vector>

#include "isodyne/core/source.h"

namespace isodyne {

enum class Code {
#define DIAGNOSTIC(id, text) id,
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
};

/// The stable name of a code, such as "unknown-name".
const char* code_text(Code code);

enum class Severity { error, warning };

struct Note {
  Span span;  ///< may be unknown: the note then stands without a place
  std::string text;
};

struct Diagnostic {
  Severity severity = Severity::error;
  Code code = Code::unexpected;
  Span span;
  std::string message;      ///< what was found and what was expected
  std::string advice;       ///< what to do; may be empty
  std::vector<Note> notes;  ///< other places that matter
};

class Diagnostics {
 public:
  /// Lists beyond this many add nothing a person reads; the rest is only counted.
  static constexpr std::size_t kMost = 100;

  Diagnostic& error(Code code, Span span, std::string message, std::string advice = {});
  Diagnostic& warning(Code code, Span span, std::string message, std::string advice = {});

  bool has_errors() const { return errors_ > 0; }
  std::size_t errors() const { return errors_; }
  const std::vector<Diagnostic>& list() const { return list_; }

  /// All diagnostics in the order of their places, each with its line and caret.
  std::string render(const Sources& sources, bool colour) const;

 private:
  Diagnostic& add(Severity severity, Code code, Span span, std::string message, std::string advice);
  std::vector<Diagnostic> list_;
  std::set<std::tuple<std::int32_t, std::uint32_t, int>> seen_;  // one message for one cause
  Diagnostic dropped_;
  std::size_t errors_ = 0;
};

}  // namespace isodyne
