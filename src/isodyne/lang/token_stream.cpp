#include "isodyne/lang/token_stream.h"

#include <algorithm>

#include <fmt/format.h>

namespace isodyne::lang {

TokenStream::TokenStream(const Sources& sources, std::int32_t source, Diagnostics& diagnostics)
    : diagnostics_(diagnostics), text_(sources.text(source)), tokens_(tokenize(sources, source, diagnostics)) {}

const Token& TokenStream::peek(std::size_t ahead) const {
  return tokens_[std::min(at_ + ahead, tokens_.size() - 1)];
}

const Token& TokenStream::take() {
  const Token& token = peek();
  last_ = token.span;
  if (at_ + 1 < tokens_.size()) ++at_;
  return token;
}

bool TokenStream::accept(std::string_view word) {
  if (!at(word)) return false;
  take();
  return true;
}

void TokenStream::skip_newlines() {
  while (at(TokenKind::newline)) take();
}

std::string TokenStream::found() const {
  const Token& token = peek();
  switch (token.kind) {
    case TokenKind::end:
      return "the end of the text";
    case TokenKind::newline:
      return "the end of the line";
    case TokenKind::doc:
      return "a ## description";
    case TokenKind::text:
      return fmt::format("the text \"{}\"", token.text);
    case TokenKind::number:
      return fmt::format("the number {}", text_.substr(token.span.begin, token.span.end - token.span.begin));
    case TokenKind::name:
    case TokenKind::symbol:
      break;
  }
  return fmt::format("`{}`", token.text);
}

void TokenStream::fail(std::string expected, std::string advice) {
  if (at(";")) advice = "statements end with the line; no `;` is needed";
  diagnostics_.error(Code::unexpected, peek().span, fmt::format("found {}, expected {}", found(), expected),
                     std::move(advice));
  throw Abandoned{};
}

const Token& TokenStream::expect(std::string_view word, const char* why) {
  if (!at(word)) fail(fmt::format("`{}` {}", word, why));
  return take();
}

Name TokenStream::expect_name(const char* what) {
  if (!at(TokenKind::name)) fail(what);
  if (is_reserved(peek().text))
    fail(what, fmt::format("`{}` is a word of the language and cannot be a name", peek().text));
  const Token& token = take();
  return {token.text, token.span};
}

std::string TokenStream::expect_text(const char* what) {
  if (!at(TokenKind::text)) fail(what);
  return take().text;
}

TypeRef TokenStream::expect_unit() {
  const Token first = peek();
  const std::size_t length = unit_length(text_, first.span.begin);
  const bool possible =
      first.kind == TokenKind::name || first.kind == TokenKind::number || first.kind == TokenKind::symbol;
  if (!possible || length == 0 || is_reserved(first.text)) {
    fail("a unit, `bool`, `int` or the name of a choice", "for example `: m^2`, `: 1` for a plain number, `: bool`");
  }
  TypeRef type{std::string(text_.substr(first.span.begin, length)), first.span, nullptr};
  type.span.end = first.span.begin + static_cast<std::uint32_t>(length);
  while (!at_end() && peek().span.begin < type.span.end) take();
  last_ = type.span;
  return type;
}

void TokenStream::expect_statement_end() {
  if (at("}")) return;  // the block that it closes takes it
  if (at(TokenKind::newline)) {
    take();
    return;
  }
  if (!at_end())
    fail("the end of the statement", "one statement stands on one line; open a bracket to go on in the next");
}

void TokenStream::recover() {
  int depth = 0;
  while (!at_end()) {
    if (at("{")) ++depth;
    if (at("}") && depth-- == 0) return;
    if (at(TokenKind::newline) && depth == 0) {
      take();
      return;
    }
    take();
  }
}

}  // namespace isodyne::lang
