#pragma once
// The words of one text with their places.

#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/diagnostics.h"
#include "isodyne/core/source.h"

namespace isodyne::lang {

enum class TokenKind {
  name,     ///< identifier or word of the language
  number,   ///< value, and the unit written after it
  text,     ///< "…", without the quotes
  symbol,   ///< operator or bracket, in `text`
  doc,      ///< ## line, without the marks
  newline,  ///< end of a statement
  end,      ///< end of the text
};

struct Token {
  TokenKind kind = TokenKind::end;
  Span span;
  std::string text;  ///< name, symbol, content of a text or doc; for a number: the unit as written, or empty
  double value = 0;  ///< of a number, as written (not yet in SI)

  bool is(std::string_view word) const {
    return (kind == TokenKind::name || kind == TokenKind::symbol) && text == word;
  }
};

bool is_reserved(std::string_view word);
bool is_clause_word(std::string_view word);

/// A statement goes on in the next line after such a token, or where the next line begins with such a token.
bool continues_after(const Token& token);
bool continues_before(const Token& token);

/// Cuts the text into tokens; the last is `end`. Never fails: what cannot be read is reported and skipped.
///
/// A newline token ends a statement. There is none inside ( ) or [ ], after a comma or a binary operator,
/// or before `then`, `and`, `or`, `else`, `implies`; several in a row count once.
std::vector<Token> tokenize(const Sources& sources, std::int32_t source, Diagnostics& diagnostics);

/// The longest stretch at `begin` that has the form of a unit: "m/s^2", "J/(kg*K)", "%".
std::size_t unit_length(std::string_view text, std::size_t begin);

}  // namespace isodyne::lang
