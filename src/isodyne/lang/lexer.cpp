#include <array>
#include <charconv>
#include <unordered_set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/lang/token.h"

namespace isodyne::lang {

namespace {

const std::unordered_set<std::string_view> kReserved = {
#define RESERVED(word) word,
#define CLAUSE(word)
#include "isodyne/lang/keywords.def"
#undef RESERVED
#undef CLAUSE
};

const std::unordered_set<std::string_view> kClause = {
#define RESERVED(word)
#define CLAUSE(word) word,
#include "isodyne/lang/keywords.def"
#undef RESERVED
#undef CLAUSE
};

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}
bool is_letter(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
bool is_high(char c) {
  return static_cast<unsigned char>(c) >= 0x80;
}

constexpr std::array<std::string_view, 27> kSymbols = {":=", "->", "<=", ">=", "..", "+", "-", "*", "/",
                                                       "^",  "=",  "<",  ">",  "(",  ")", "[", "]", "{",
                                                       "}",  ",",  ":",  ".",  "'",  ";", "!", "?", "%"};

class Lexer {
 public:
  Lexer(const Sources& sources, std::int32_t source, Diagnostics& diagnostics)
      : text_(sources.text(source)), source_(source), diagnostics_(diagnostics) {}

  std::vector<Token> run() {
    if (text_.size() > kMostBytes) {
      diagnostics_.error(Code::too_large, here(0, 0),
                         fmt::format("this text has {} bytes; at most {} are read", text_.size(), kMostBytes));
      text_ = text_.substr(0, 0);
    }
    if (const std::size_t zero = text_.find('\0'); zero != std::string_view::npos) {
      diagnostics_.error(Code::bad_character, here(zero, zero + 1), "this is no text: it has a zero byte in it",
                         "is it the right file?");
      text_ = text_.substr(0, 0);
    }
    if (const auto odd = odd_character()) {
      diagnostics_.error(
          Code::bad_character, here(*odd, *odd + 1),
          "this byte is no UTF-8, or a character that nobody sees: a control character, or one that turns "
          "the direction of writing",
          "save the file as UTF-8, and take the character out");
      text_ = text_.substr(0, 0);
    }
    if (text_.starts_with("\xEF\xBB\xBF")) at_ = 3;  // a byte-order mark says nothing here
    while (at_ < text_.size()) next();
    push(TokenKind::newline, at_, at_);
    push(TokenKind::end, at_, at_);
    return std::move(tokens_);
  }

 private:
  static constexpr std::size_t kMostBytes = 64u << 20;

  /// What would look like another text than it is, wherever it is shown. Carriage returns are line ends of others.
  std::optional<std::size_t> odd_character() const {
    for (std::size_t begin = 0;;) {
      const auto odd = not_printable(text_.substr(begin));
      if (!odd || text_[begin + *odd] != '\r') return odd ? std::optional(begin + *odd) : std::nullopt;
      begin += *odd + 1;
    }
  }

  Span here(std::size_t begin, std::size_t end) const {
    return {source_, static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)};
  }
  char peek(std::size_t ahead = 0) const { return at_ + ahead < text_.size() ? text_[at_ + ahead] : '\0'; }

  Token& push(TokenKind kind, std::size_t begin, std::size_t end, std::string text = {}) {
    Token token{kind, here(begin, end), std::move(text), 0};
    const bool last_newline = !tokens_.empty() && tokens_.back().kind == TokenKind::newline;
    if (kind == TokenKind::newline && (tokens_.empty() || last_newline)) {
      scratch_ = token;
      return scratch_;
    }
    if (last_newline && continues_before(token)) tokens_.pop_back();
    tokens_.push_back(std::move(token));
    return tokens_.back();
  }

  void next() {
    const char c = peek();
    if (c == ' ' || c == '\t' || c == '\r') {
      ++at_;
    } else if (c == '\n') {
      newline();
    } else if (c == '#') {
      comment();
    } else if (is_digit(c)) {
      number();
    } else if (is_letter(c)) {
      name();
    } else if (c == '"') {
      quoted();
    } else {
      symbol();
    }
  }

  void newline() {
    const bool go_on = depth_ > 0 || (!tokens_.empty() && continues_after(tokens_.back()));
    if (!go_on) push(TokenKind::newline, at_, at_ + 1);
    ++at_;
  }

  void comment() {
    const std::size_t begin = at_;
    const std::size_t end = std::min(text_.find('\n', at_), text_.size());
    const bool at_line_start = tokens_.empty() || tokens_.back().kind == TokenKind::newline ||
                               tokens_.back().kind == TokenKind::doc || tokens_.back().is("{");
    if (peek(1) == '#' && at_line_start && depth_ == 0) {
      std::size_t from = begin + 2;
      while (from < end && text_[from] == ' ') ++from;
      std::size_t to = end;
      while (to > from && (text_[to - 1] == '\r' || text_[to - 1] == ' ')) --to;
      push(TokenKind::doc, begin, end, std::string(text_.substr(from, to - from)));
    }
    at_ = end;
  }

  void name() {
    const std::size_t begin = at_;
    while (is_letter(peek()) || is_digit(peek())) ++at_;
    push(TokenKind::name, begin, at_, std::string(text_.substr(begin, at_ - begin)));
  }

  void quoted() {
    const std::size_t begin = at_++;
    while (at_ < text_.size() && peek() != '"' && peek() != '\n') ++at_;
    const std::string content(text_.substr(begin + 1, at_ - begin - 1));
    if (peek() == '"') {
      ++at_;
    } else {
      diagnostics_.error(Code::unfinished_text, here(begin, at_), "this text has no closing quote on its line",
                         "close it with \"");
    }
    push(TokenKind::text, begin, at_, content);
  }

  void symbol() {
    for (const std::string_view s : kSymbols) {
      if (text_.substr(at_, s.size()) != s) continue;
      if (s == "(" || s == "[") ++depth_;
      if ((s == ")" || s == "]") && depth_ > 0) --depth_;
      if (s == "{" || s == "}") depth_ = 0;  // a forgotten bracket must not swallow the rest of the text
      push(TokenKind::symbol, at_, at_ + s.size(), std::string(s));
      at_ += s.size();
      return;
    }
    const std::size_t begin = at_;
    const std::size_t unit = unit_length(text_, at_);  // `: µm` begins with no letter
    if (unit > 0 && parse_unit(text_.substr(at_, unit))) {
      at_ += unit;
      push(TokenKind::name, begin, at_, std::string(text_.substr(begin, unit)));
      return;
    }
    ++at_;
    while (is_high(text_[begin]) && at_ < text_.size() && is_high(peek())) ++at_;
    diagnostics_.error(Code::bad_character, here(begin, at_), "this character has no meaning here",
                       "names are made of the letters a to z, digits and _; anything else belongs into a comment");
  }

  void number() {
    const std::size_t begin = at_;
    while (is_digit(peek())) ++at_;
    if (peek() == '.' && is_digit(peek(1))) {
      ++at_;
      while (is_digit(peek())) ++at_;
    }
    const char e = peek();
    const std::size_t sign = (peek(1) == '+' || peek(1) == '-') ? 1 : 0;
    if ((e == 'e' || e == 'E') && is_digit(peek(1 + sign))) {
      at_ += 1 + sign;
      while (is_digit(peek())) ++at_;
    }
    double value = 0;
    const auto read = std::from_chars(text_.data() + begin, text_.data() + at_, value);
    if (read.ec != std::errc{} || read.ptr != text_.data() + at_) {
      diagnostics_.error(Code::bad_number, here(begin, at_), "this number is beyond what a double can hold");
    }
    if (is_letter(peek()) || is_high(peek()) || peek() == '%') {
      const std::size_t stuck = at_;
      const std::size_t length = std::max<std::size_t>(1, unit_length(text_, at_));
      at_ += length;
      diagnostics_.error(Code::bad_number, here(begin, at_), "a number and its unit need a blank between them",
                         fmt::format("write `{} {}`", text_.substr(begin, stuck - begin), text_.substr(stuck, length)));
      push(TokenKind::number, begin, at_).value = value;
      return;
    }
    push_number(begin, value);
  }

  /// The unit, if one blank-separated word after the number has the form of one.
  void push_number(std::size_t begin, double value) {
    const std::size_t number_end = at_;
    std::size_t unit = at_;
    while (unit < text_.size() && (text_[unit] == ' ' || text_[unit] == '\t')) ++unit;
    const std::size_t length = unit > at_ ? unit_length(text_, unit) : 0;
    const std::string_view word = text_.substr(unit, length);
    const bool is_unit = length > 0 && (parse_unit(word).has_value() || !(is_reserved(word) || is_clause_word(word)));
    Token& token = push(TokenKind::number, begin, is_unit ? unit + length : number_end);
    token.value = value;
    if (!is_unit) return;
    token.text = std::string(word);
    at_ = unit + length;
    if (peek() == '-' || peek() == '+') {
      diagnostics_.error(Code::needs_brackets, here(at_, at_ + 1), "an operator after a unit needs blanks around it",
                         fmt::format("write `{} {} {} …`; an exponent is written `m^-2`",
                                     text_.substr(begin, number_end - begin), word, peek()));
    }
  }

  std::string_view text_;
  std::int32_t source_;
  Diagnostics& diagnostics_;
  std::vector<Token> tokens_;
  Token scratch_;
  std::size_t at_ = 0;
  int depth_ = 0;  // of ( and [
};

}  // namespace

bool continues_after(const Token& t) {
  static const std::unordered_set<std::string_view> words = {"and", "or", "not", "implies", "is", "if", "then", "else",
                                                             "+",   "-",  "*",   "/",       "^",  "=",  ":=",   "<",
                                                             ">",   "<=", ">=",  ",",       "->", "..", ":",    "."};
  return (t.kind == TokenKind::name || t.kind == TokenKind::symbol) && words.contains(t.text);
}

bool continues_before(const Token& t) {
  static const std::unordered_set<std::string_view> words = {"then", "and", "or", "else", "implies"};
  return t.kind == TokenKind::name && words.contains(t.text);
}

bool is_reserved(std::string_view word) {
  return kReserved.contains(word);
}
bool is_clause_word(std::string_view word) {
  return kClause.contains(word);
}

std::size_t unit_length(std::string_view text, std::size_t begin) {
  const auto at = [&](std::size_t i) { return i < text.size() ? text[i] : '\0'; };
  std::size_t i = begin;
  if (!is_letter(at(i)) && !is_high(at(i)) && at(i) != '%' && !(at(i) == '1')) return 0;
  int depth = 0;
  for (; i < text.size(); ++i) {
    const char c = text[i];
    if (is_letter(c) || is_digit(c) || is_high(c) || c == '%' || c == '^') continue;
    if ((c == '*' || c == '/') && (is_letter(at(i + 1)) || is_high(at(i + 1)) || at(i + 1) == '(')) continue;
    if (c == '(' && i > begin && (text[i - 1] == '*' || text[i - 1] == '/')) {
      ++depth;
      continue;
    }
    if (c == ')' && depth > 0) {
      --depth;
      continue;
    }
    if (c == '-' && i > begin && text[i - 1] == '^') continue;
    break;
  }
  return i - begin;
}

std::vector<Token> tokenize(const Sources& sources, std::int32_t source, Diagnostics& diagnostics) {
  return Lexer(sources, source, diagnostics).run();
}

}  // namespace isodyne::lang
