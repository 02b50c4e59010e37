#include "isodyne/lang/format.h"

#include <algorithm>
#include <unordered_set>
#include <vector>

#include "isodyne/lang/parser.h"
#include "isodyne/lang/syntax.h"
#include "isodyne/lang/token.h"

namespace isodyne::lang {

namespace {

/// A word that keeps its inside: a token, or a unit after a colon.
struct Atom {
  std::string_view text;
  std::size_t begin = 0, end = 0;
  Token token;
  bool is_unit = false;

  bool is(std::string_view word) const { return !is_unit && token.is(word); }
};

struct Line {
  std::size_t begin = 0, end = 0;
  std::vector<Atom> atoms;
  std::string_view comment;  ///< with its marks
  std::size_t comment_at = 0;
};

class Formatter {
 public:
  explicit Formatter(std::string_view text, std::vector<Token> tokens) : text_(text), tokens_(std::move(tokens)) {}

  std::string run() {
    cut_into_lines();
    for (Line& line : lines_) write(line);
    while (out_.ends_with("\n\n")) out_.pop_back();
    return std::move(out_);
  }

 private:
  void cut_into_lines() {
    std::size_t next = 0;
    for (std::size_t at = 0; at < text_.size();) {
      Line line;
      line.begin = at;
      line.end = std::min(text_.find('\n', at), text_.size());
      while (next < tokens_.size() && tokens_[next].span.begin < line.end) next = take(line, next);
      find_comment(line);
      at = line.end + 1;
      lines_.push_back(std::move(line));
    }
  }

  /// One atom from the token at `i`; returns the number of the token after it.
  std::size_t take(Line& line, std::size_t i) {
    const Token& token = tokens_[i];
    const bool skip = token.kind == TokenKind::newline || token.kind == TokenKind::end ||
                      token.kind == TokenKind::doc || token.span.end <= token.span.begin ||
                      token.span.begin < line.begin;
    if (skip) return i + 1;
    Atom atom{{}, token.span.begin, token.span.end, token, false};
    const bool after_colon = !line.atoms.empty() && (line.atoms.back().is(":") || line.atoms.back().is("->"));
    const bool plain_number = token.kind == TokenKind::number && token.text.empty();
    if (after_colon && (token.kind == TokenKind::name || token.is("%") || plain_number)) {
      const std::size_t length = unit_length(text_, token.span.begin);
      if (length > 0 && token.span.begin + length >= token.span.end) {
        atom.end = token.span.begin + length;
        atom.is_unit = true;
      }
    }
    // The name of a requirement is everything up to a blank: R-1, 4.2.
    if (line.atoms.size() == 1 && line.atoms.back().is("requirement")) {
      while (i + 1 < tokens_.size() && tokens_[i + 1].span.begin == atom.end && !tokens_[i + 1].is("{") &&
             tokens_[i + 1].span.end > atom.end)
        atom.end = tokens_[++i].span.end;
      atom.is_unit = true;
    }
    atom.text = text_.substr(atom.begin, atom.end - atom.begin);
    line.atoms.push_back(atom);
    while (i < tokens_.size() && tokens_[i].span.begin < atom.end) ++i;
    return i;
  }

  void find_comment(Line& line) const {
    const std::size_t from = line.atoms.empty() ? line.begin : line.atoms.back().end;
    const std::size_t at = std::min(text_.find('#', from), line.end);
    if (at == line.end) return;
    std::size_t end = line.end;
    while (end > at && (text_[end - 1] == ' ' || text_[end - 1] == '\t' || text_[end - 1] == '\r')) --end;
    line.comment = text_.substr(at, end - at);
    line.comment_at = at;
  }

  // ---- one line
  void write(const Line& line) {
    if (line.atoms.empty() && line.comment.empty()) {
      const bool wanted = !out_.empty() && !out_.ends_with("\n\n") && !opened_;
      if (wanted) out_ += '\n';
      return;
    }
    const bool closing = !line.atoms.empty() && line.atoms.front().is("}");
    if (closing && out_.ends_with("\n\n")) out_.pop_back();
    out_ += std::string(indentation(line, closing), ' ');
    for (std::size_t i = 0; i < line.atoms.size(); ++i) {
      if (i > 0) out_ += std::string(gap(line.atoms, i), ' ');
      out_ += line.atoms[i].text;
    }
    if (!line.comment.empty()) {
      if (!line.atoms.empty())
        out_ += std::string(std::max<std::size_t>(2, written_gap(line.atoms.back().end, line.comment_at)), ' ');
      out_ += line.comment;
    }
    out_ += '\n';
    follow(line);
  }

  std::size_t written_gap(std::size_t end, std::size_t begin) const {
    return std::string_view(text_.substr(end, begin - end)).find('\t') == std::string_view::npos ? begin - end : 1;
  }

  std::size_t indentation(const Line& line, bool closing) {
    std::size_t first = line.begin;
    while (first < line.end && (text_[first] == ' ' || text_[first] == '\t')) ++first;
    const auto written = static_cast<long>(first - line.begin);
    const long base = 2L * std::max(0, depth_ - (closing ? 1 : 0));
    const bool starts_else = !line.atoms.empty() && line.atoms.front().is("else") && after_block_;
    const bool continues =
        goes_on_ || brackets_ > 0 ||
        (!line.atoms.empty() && continues_before(line.atoms.front().token) && !starts_else && statement_open_);
    if (!continues || closing) {
      shift_ = base - written;
      return static_cast<std::size_t>(base);
    }
    // What goes on from the line above keeps its place relative to it.
    return static_cast<std::size_t>(std::max(base + 2, written + shift_));
  }

  void follow(const Line& line) {
    opened_ = false;
    if (line.atoms.empty()) return;
    for (const Atom& a : line.atoms) {
      if (a.is("{")) ++depth_;
      if (a.is("}")) depth_ = std::max(0, depth_ - 1);
      if (a.is("(") || a.is("[")) ++brackets_;
      if (a.is(")") || a.is("]")) brackets_ = std::max(0, brackets_ - 1);
      if (a.is("{") || a.is("}")) brackets_ = 0;
    }
    const Atom& last = line.atoms.back();
    opened_ = last.is("{");
    after_block_ = last.is("}");
    goes_on_ = !last.is_unit && continues_after(last.token);
    statement_open_ = !opened_ && !after_block_;
  }

  // ---- blanks between two words
  std::size_t gap(const std::vector<Atom>& atoms, std::size_t i) const {
    const Atom &left = atoms[i - 1], &right = atoms[i];
    const std::size_t written = written_gap(left.end, right.begin);
    const bool none = left.is("(") || left.is("[") || right.is(")") || right.is("]") || right.is(",") || left.is(".") ||
                      right.is(".") || right.is("'") || left.is("^") || right.is("^");
    if (none) return 0;
    if (is_sign(atoms, i - 1)) return 0;
    if (right.is("(") || right.is("[")) return is_operator(left) ? std::max<std::size_t>(1, written) : written;
    if (right.is(":")) return written;
    return std::max<std::size_t>(1, written);
  }

  static bool is_operator(const Atom& a) {
    static const std::unordered_set<std::string_view> words = {"+", "-",  "*",  "/",  "=", ":=", "->", "<",
                                                               ">", "<=", ">=", "..", ",", ":",  "{",  "}"};
    return !a.is_unit && a.token.kind == TokenKind::symbol && words.contains(a.token.text);
  }

  /// A minus that belongs to what follows: after an operator, an opening bracket, a reserved word, or where the
  /// writer set it apart from what stands before and not from what stands behind.
  bool is_sign(const std::vector<Atom>& atoms, std::size_t i) const {
    if (!atoms[i].is("-")) return false;
    if (i == 0) return true;
    const Atom& before = atoms[i - 1];
    if (before.is("(") || before.is("[") || is_operator(before)) return true;
    if (before.token.kind != TokenKind::name || before.is_unit) return false;
    if (is_reserved(before.token.text)) return true;
    const bool apart = written_gap(before.end, atoms[i].begin) > 0;
    const bool close = i + 1 < atoms.size() && written_gap(atoms[i].end, atoms[i + 1].begin) == 0;
    return is_clause_word(before.token.text) && apart && close;
  }

  std::string_view text_;
  std::vector<Token> tokens_;
  std::vector<Line> lines_;
  std::string out_;
  int depth_ = 0, brackets_ = 0;
  long shift_ = 0;
  bool goes_on_ = false, opened_ = false, after_block_ = false, statement_open_ = false;
};

bool same_words(const std::vector<Token>& a, const std::vector<Token>& b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const Token& x, const Token& y) {
    return x.kind == y.kind && x.text == y.text && x.value == y.value;
  });
}

}  // namespace

std::string format_text(const Sources& sources, std::int32_t source, Diagnostics& diagnostics) {
  const std::string& text = sources.text(source);
  Document document;
  parse(sources, source, diagnostics, document);
  if (diagnostics.has_errors()) return text;
  Diagnostics known;
  const std::vector<Token> tokens = tokenize(sources, source, known);
  std::string formatted = Formatter(text, tokens).run();
  // The promise is checked each time: the same words in the same order, or the text stays as it is.
  Sources again;
  const std::int32_t second = again.add(sources.name(source), formatted);
  const bool same = same_words(tokens, tokenize(again, second, known));
  Document reread;
  parse(again, second, known, reread);
  return same && !known.has_errors() ? formatted : text;
}

}  // namespace isodyne::lang
