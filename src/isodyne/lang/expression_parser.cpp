#include "isodyne/lang/expression_parser.h"

#include <algorithm>

#include <fmt/format.h>

namespace isodyne::lang {

namespace {
constexpr int kMostNesting = 200;

template <typename... Args>
std::vector<ExprPtr> list(Args... args) {
  std::vector<ExprPtr> all;
  (all.push_back(std::move(args)), ...);
  return all;
}
}  // namespace

/// Counts nesting, so that hostile text ends in a message and not in a full stack.
class ExpressionParser::Nested {
 public:
  explicit Nested(ExpressionParser& parser) : depth_(parser.depth_) {
    if (depth_ >= kMostNesting) {
      parser.tokens_.diagnostics().error(Code::too_deep, parser.tokens_.peek().span,
                                         fmt::format("expressions nest at most {} deep", kMostNesting),
                                         "name an inner part with `let`");
      throw Abandoned{};
    }
    ++depth_;
  }
  ~Nested() { --depth_; }
  Nested(const Nested&) = delete;
  Nested& operator=(const Nested&) = delete;

 private:
  int& depth_;
};

ExprPtr ExpressionParser::make(ExprKind kind, Span span, std::string word, std::vector<ExprPtr> args) {
  auto e = std::make_unique<Expr>();
  e->kind = kind;
  e->span = span;
  e->word = std::move(word);
  for (const ExprPtr& arg : args) e->height = std::max(e->height, arg->height + 1);
  e->args = std::move(args);
  if (e->height > Expr::kMostHeight) {
    tokens_.diagnostics().error(Code::too_deep, tokens_.last_span(),
                                fmt::format("an expression has at most {} levels", Expr::kMostHeight),
                                "name an inner part with `let`");
    throw Abandoned{};
  }
  return e;
}

ExprPtr ExpressionParser::binary(std::string word, ExprPtr left, ExprPtr right) {
  const Span span = join(left->span, right->span);
  return make(ExprKind::binary, span, std::move(word), list(std::move(left), std::move(right)));
}

ExprPtr ExpressionParser::expression() {
  const Nested nested(*this);
  ExprPtr left = connection();
  if (!tokens_.accept("implies")) return left;
  return binary("implies", std::move(left), expression());
}

ExprPtr ExpressionParser::formula() {
  struct Within {  // also when the formula is abandoned
    bool& formula;
    ~Within() { formula = false; }
  } const within{formula_};
  formula_ = true;
  return expression();
}

// connection = junction [ "until" junction [ "within" sum ] | "since" junction ]
ExprPtr ExpressionParser::connection() {
  ExprPtr left = junction();
  if (!formula_ || !(tokens_.at("until") || tokens_.at("since"))) return left;
  const std::string word = tokens_.take().text;
  auto args = list(std::move(left), junction());
  if (word == "until" && tokens_.accept("within")) args.push_back(sum());
  const Span span = join(args.front()->span, args.back()->span);
  return make(ExprKind::over_time, span, word, std::move(args));
}

// junction = inversion { "and" inversion } | inversion { "or" inversion }
ExprPtr ExpressionParser::junction() {
  ExprPtr left = inversion();
  std::string word;
  while (tokens_.at("and") || tokens_.at("or")) {
    const Token op = tokens_.take();
    if (!word.empty() && op.text != word) {
      tokens_.diagnostics().error(Code::needs_brackets, op.span, "`and` and `or` side by side can be read in two ways",
                                  "put brackets around the part that belongs together");
    }
    word = op.text;
    left = binary(word, std::move(left), inversion());
  }
  return left;
}

// inversion = "not" inversion | "within" sum inversion | comparison over time
ExprPtr ExpressionParser::inversion() {
  if (formula_ && tokens_.at("within")) {
    const Nested nested(*this);
    const Span begin = tokens_.take().span;
    ExprPtr time = sum();
    ExprPtr operand = inversion();
    const Span span = join(begin, operand->span);
    return make(ExprKind::over_time, span, "within", list(std::move(operand), std::move(time)));
  }
  if (!tokens_.at("not")) return over_time();
  const Nested nested(*this);
  const Span begin = tokens_.take().span;
  ExprPtr operand = inversion();
  const Span span = join(begin, operand->span);
  return make(ExprKind::invert, span, "not", list(std::move(operand)));
}

// comparison { "stays" "for" sum | "for" "at" "least" sum | "in" "the" "last" sum }
ExprPtr ExpressionParser::over_time() {
  ExprPtr e = comparison();
  while (formula_) {
    std::string word;
    if (tokens_.accept("stays")) {
      tokens_.expect("for", "and how long, such as `stays for 5 s`");
      word = "stays";
    } else if (tokens_.accept("for")) {
      tokens_.expect("at", "as in `for at least 5 s`");
      tokens_.expect("least", "as in `for at least 5 s`");
      word = "for";
    } else if (tokens_.accept("in")) {
      tokens_.expect("the", "as in `in the last 5 s`");
      tokens_.expect("last", "as in `in the last 5 s`");
      word = "last";
    } else {
      break;
    }
    ExprPtr time = sum();
    const Span span = join(e->span, time->span);
    e = make(ExprKind::over_time, span, word, list(std::move(e), std::move(time)));
  }
  return e;
}

/// `and 2 s of "file"`: the time of a band.
bool ExpressionParser::band_follows(std::size_t i) const {
  while (!tokens_.peek(i).is("of")) {
    const Token& token = tokens_.peek(i++);
    if (token.kind == TokenKind::newline || token.kind == TokenKind::end || token.is("within")) return false;
  }
  return tokens_.peek(i + 1).kind == TokenKind::text;
}

/// `x within 5 cm of y` has an `of` in its statement; `wait until x within 5 min` has none.
bool ExpressionParser::within_of_follows() const {
  if (!tokens_.at("within")) return false;
  int depth = 0;
  for (std::size_t i = 1;; ++i) {
    const Token& token = tokens_.peek(i);
    if (token.is("(")) ++depth;
    if (token.is(")") && depth-- == 0) return false;
    if (depth == 0 && token.is("of")) return true;
    if (depth == 0 && token.is("and") && band_follows(i)) return true;
    const bool ends = token.kind == TokenKind::newline || token.kind == TokenKind::end || token.is("{") ||
                      token.is("}") || token.is("and") || token.is("or") || token.is("implies") || token.is(",");
    if (ends && depth <= 0) return false;
    if (token.kind == TokenKind::end) return false;
  }
}

// band = sum "within" sum [ "and" sum ] "of" file
ExprPtr ExpressionParser::band(ExprPtr left, ExprPtr tolerance, ExprPtr time) {
  auto args = list(std::move(left), std::move(tolerance));
  if (time) args.push_back(std::move(time));
  const Span begin = args[0]->span;
  FileColumn file = file_column("a file with a column of values over time");
  ExprPtr e = make(ExprKind::band, join(begin, tokens_.last_span()), "within", std::move(args));
  e->column = std::make_shared<const FileColumn>(std::move(file));
  return e;
}

ExprPtr ExpressionParser::from_file() {
  const Span begin = tokens_.last_span();
  FileColumn file = file_column("a file, or a run, with values over time");
  ExprPtr e = make(ExprKind::from_file, join(begin, tokens_.last_span()), "from", {});
  e->column = std::make_shared<const FileColumn>(std::move(file));
  return e;
}

// file = text [ "column" text ]
FileColumn ExpressionParser::file_column(const char* what) {
  FileColumn f;
  f.file = tokens_.expect_text(what);
  f.span = tokens_.last_span();
  if (tokens_.accept("column"))
    f.column = Name{tokens_.expect_text("the title of the column, in quotes"), tokens_.last_span()};
  return f;
}

// comparison = sum [ ("<" | "<=" | ">" | ">=") sum | "is" ["not"] sum | "within" sum "of" sum ]
ExprPtr ExpressionParser::comparison() {
  ExprPtr left = sum();
  if (tokens_.at("<") || tokens_.at("<=") || tokens_.at(">") || tokens_.at(">=")) {
    const std::string word = tokens_.take().text;
    left = binary(word, std::move(left), sum());
  } else if (tokens_.accept("is")) {
    const ExprKind kind = tokens_.accept("not") ? ExprKind::is_not : ExprKind::is;
    ExprPtr right = sum();
    const Span span = join(left->span, right->span);
    left = make(kind, span, "is", list(std::move(left), std::move(right)));
  } else if (within_of_follows()) {
    tokens_.take();
    ExprPtr tolerance = sum();
    ExprPtr time = tokens_.accept("and") ? sum() : nullptr;
    tokens_.expect("of", "and the value to compare with");
    if (tokens_.at(TokenKind::text)) return band(std::move(left), std::move(tolerance), std::move(time));
    ExprPtr right = sum();
    const Span span = join(left->span, right->span);
    left = make(ExprKind::within, span, "within", list(std::move(left), std::move(tolerance), std::move(right)));
  } else {
    if (tokens_.at("=")) tokens_.fail("an operator", "two things are compared with `is`, or with `x within 5 cm of y`");
    return left;
  }
  if (tokens_.at("<") || tokens_.at("<=") || tokens_.at(">") || tokens_.at(">=") || tokens_.at("is")) {
    tokens_.diagnostics().error(Code::needs_brackets, tokens_.peek().span, "comparisons cannot be chained",
                                "write `a < b and b < c`");
    throw Abandoned{};
  }
  return left;
}

ExprPtr ExpressionParser::sum() {
  ExprPtr left = product();
  while (tokens_.at("+") || tokens_.at("-")) {
    const std::string word = tokens_.take().text;
    left = binary(word, std::move(left), product());
  }
  return left;
}

// product = unary { ("*" | "/") unary }
ExprPtr ExpressionParser::product() {
  ExprPtr left = unary();
  while (tokens_.at("*") || tokens_.at("/")) {
    const std::string word = tokens_.take().text;
    left = binary(word, std::move(left), unary());
  }
  return left;
}

// unary = "-" unary | power
ExprPtr ExpressionParser::unary() {
  if (!tokens_.at("-")) return power();
  const Nested nested(*this);
  const Span begin = tokens_.take().span;
  ExprPtr operand = unary();
  const Span span = join(begin, operand->span);
  return make(ExprKind::negate, span, "-", list(std::move(operand)));
}

// power = postfix [ "^" unary ]
ExprPtr ExpressionParser::power() {
  ExprPtr base = postfix();
  if (!tokens_.accept("^")) return base;
  const Nested nested(*this);
  return binary("^", std::move(base), unary());
}

// postfix = primary [ "at" "limit" | "becomes" "active" | "rises" | "falls" | "changes" ]
ExprPtr ExpressionParser::postfix() {
  ExprPtr e = primary();
  if (formula_ && (tokens_.at("rises") || tokens_.at("falls") || tokens_.at("changes"))) {
    const Token word = tokens_.take();
    const Span span = join(e->span, word.span);
    return make(ExprKind::over_time, span, word.text, list(std::move(e)));
  }
  if (tokens_.at("at") && tokens_.peek(1).is("limit")) {
    tokens_.take();
    const Span span = join(e->span, tokens_.take().span);
    return make(ExprKind::at_limit, span, "at limit", list(std::move(e)));
  }
  if (tokens_.at("becomes")) {
    tokens_.take();
    const Span span = join(e->span, tokens_.expect("active", "after `becomes`").span);
    return make(ExprKind::becomes_active, span, "becomes active", list(std::move(e)));
  }
  return e;
}

// primary = number [unit] | "true" | "false" | path [ "(" … ")" ] | "(" expression ")" | "[" … "]" | conditional
ExprPtr ExpressionParser::primary() {
  const Token token = tokens_.peek();
  if (token.kind == TokenKind::number) {
    tokens_.take();
    ExprPtr e = make(ExprKind::number, token.span, token.text, {});
    e->value = token.value;
    return e;
  }
  if (token.is("true") || token.is("false")) {
    tokens_.take();
    ExprPtr e = make(ExprKind::boolean, token.span, token.text, {});
    e->value = token.text == "true" ? 1 : 0;
    return e;
  }
  if (token.is("if")) return conditional();
  if (token.is("[")) return list_of_values();
  if (token.is("(")) {
    tokens_.take();
    ExprPtr e = expression();
    const Span close = tokens_.expect(")", "to close the bracket").span;
    e->span = join(token.span, close);
    return e;
  }
  if (token.kind == TokenKind::name && !is_reserved(token.text)) return name_or_call();
  tokens_.fail("a value", "for example a number with its unit, a name, or an expression in brackets");
}

// conditional = "if" expression "then" expression "else" expression
ExprPtr ExpressionParser::conditional() {
  const Nested nested(*this);
  const Span begin = tokens_.take().span;
  ExprPtr condition = expression();
  tokens_.expect("then", "after the condition");
  ExprPtr yes = expression();
  tokens_.expect("else", "because an `if` always has a value");
  ExprPtr no = expression();
  const Span span = join(begin, no->span);
  return make(ExprKind::conditional, span, "if", list(std::move(condition), std::move(yes), std::move(no)));
}

ExprPtr ExpressionParser::name_or_call() {
  Path path = this->path("a name");
  ExprKind kind = ExprKind::name;
  std::vector<ExprPtr> args;
  Span span = path.span;
  if (tokens_.accept("(")) {
    kind = ExprKind::call;
    if (!tokens_.at(")")) {
      do args.push_back(expression());
      while (tokens_.accept(","));
    }
    span = join(span, tokens_.expect(")", "after the arguments").span);
  }
  ExprPtr e = make(kind, span, path.text(), std::move(args));
  e->path = std::move(path);
  return e;
}

// list = "[" expression { "," expression } "]"
ExprPtr ExpressionParser::list_of_values() {
  const Nested nested(*this);
  const Span begin = tokens_.take().span;
  std::vector<ExprPtr> values;
  do values.push_back(expression());
  while (tokens_.accept(","));
  const Span end = tokens_.expect("]", "after the elements").span;
  return make(ExprKind::list, join(begin, end), "[]", std::move(values));
}

void ExpressionParser::index(PathStep& step) {
  if (!tokens_.at("[")) return;
  tokens_.take();
  if (tokens_.accept("*")) {
    step.all = true;
  } else {
    const Nested nested(*this);
    step.index = sum();
  }
  step.span = join(step.span, tokens_.expect("]", "after the number of the element").span);
}

Path ExpressionParser::path(const char* what) {
  Path path;
  const Name first = tokens_.expect_name(what);
  path.parts.push_back({first.text, first.span, nullptr, false});
  index(path.parts.back());
  while (tokens_.accept(".")) {
    // After a dot any word may stand: `level_tx.true` is the quantity before the sensor.
    if (!tokens_.at(TokenKind::name)) tokens_.fail("a name after the dot");
    const Token token = tokens_.take();
    path.parts.push_back({token.text, token.span, nullptr, false});
    index(path.parts.back());
  }
  path.span = join(path.parts.front().span, path.parts.back().span);
  return path;
}

TypeRef ExpressionParser::type() {
  TypeRef type = tokens_.expect_unit();
  if (!tokens_.accept("[")) return type;
  const Nested nested(*this);
  type.size = sum();
  type.span = join(type.span, tokens_.expect("]", "after the number of elements").span);
  return type;
}

}  // namespace isodyne::lang
