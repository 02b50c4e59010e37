#include <fmt/format.h>

#include "isodyne/core/explanations.h"
#include "isodyne/core/text.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace {

constexpr Code kCodes[] = {
#define DIAGNOSTIC(id, text) Code::id,
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
};

std::string indented(std::string_view text) {
  std::string out = "    ";
  for (const char c : text) {
    out += c;
    if (c == '\n') out += "    ";
  }
  return out + "\n";
}

}  // namespace

int run_explain(const Arguments& arguments) {
  if (arguments.words.empty()) {
    TextTable table({{"Code"}, {"Cause"}});
    for (const Code code : kCodes) table.row({code_text(code), one_line(explanation(code).cause)});
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
    say("\nOne of them in full: isodyne explain algebraic-loop");
    return kHeld;
  }
  std::vector<std::string> known;
  for (const Code code : kCodes) {
    known.emplace_back(code_text(code));
    if (arguments.words[0] != known.back()) continue;
    const Explanation& e = explanation(code);
    say(fmt::format("{}\n\nCause\n{}", known.back(), indented(e.cause)));
    if (!e.example.empty()) say(fmt::format("Example\n{}", indented(e.example)));
    put(stdout, fmt::format("Cure\n{}", indented(e.cure)));
    if (!e.cured.empty()) put(stdout, fmt::format("\n{}", indented(e.cured)));
    return kHeld;
  }
  const auto meant = did_you_mean(arguments.words[0], known);
  say_error(fmt::format("there is no code `{}`; {}", arguments.words[0],
                        meant.value_or("see `isodyne explain` for all of them")));
  return kWrongInput;
}

}  // namespace isodyne::app
