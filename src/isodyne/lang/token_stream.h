#pragma once
// The parser's hands: looking at tokens, demanding them, and getting back on its feet after a mistake.

#include <string>
#include <vector>

#include "isodyne/core/diagnostics.h"
#include "isodyne/lang/syntax.h"
#include "isodyne/lang/token.h"

namespace isodyne::lang {

/// Thrown (and caught) inside the parser only: the current statement is given up; it has been reported.
struct Abandoned {};

class TokenStream {
 public:
  TokenStream(const Sources& sources, std::int32_t source, Diagnostics& diagnostics);

  const Token& peek(std::size_t ahead = 0) const;
  const Token& take();
  bool at(std::string_view word) const { return peek().is(word); }
  bool at(TokenKind kind) const { return peek().kind == kind; }
  bool at_end() const { return at(TokenKind::end); }
  /// Takes the word if it is next.
  bool accept(std::string_view word);
  void skip_newlines();

  /// Takes `word` or reports what stands there instead.
  const Token& expect(std::string_view word, const char* why);
  Name expect_name(const char* what);
  std::string expect_text(const char* what);
  /// A unit or the name of a type, without a size.
  TypeRef expect_unit();
  /// A newline, or the closing brace or end that also ends a statement.
  void expect_statement_end();

  /// Reports an error at the next token and gives the statement up.
  [[noreturn]] void fail(std::string expected, std::string advice = {});

  /// Skips to the start of the next statement of the block that is open here.
  void recover();

  Span last_span() const { return last_; }
  Diagnostics& diagnostics() { return diagnostics_; }

  /// "`=`", "the end of the line", "the number 3".
  std::string found() const;

 private:
  Diagnostics& diagnostics_;
  std::string_view text_;
  std::vector<Token> tokens_;
  std::size_t at_ = 0;
  Span last_;
};

}  // namespace isodyne::lang
