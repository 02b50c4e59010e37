// import: requirements out of an exchange file, as a text of the language.

#include <fmt/format.h>

#include "command.h"
#include "isodyne/core/text.h"
#include "isodyne/present/reqif.h"
#include "isodyne/present/summary.h"
#include "terminal.h"

namespace isodyne::app {

int run_import(const Arguments& arguments) {
  const std::string& what = arguments.words[0];
  if (what != "reqif") {
    say_error(fmt::format("cannot import `{}`; what can be imported: reqif", what));
    return kWrongInput;
  }
  const std::string& file = arguments.words[1];
  const auto text = present::read_file(file);
  if (!text) {
    say_error(text.failure().text());
    return kWrongInput;
  }
  const auto requirements = present::from_reqif(file, *text);
  if (!requirements) {
    say_error(requirements.failure().text());
    return kWrongInput;
  }
  const std::string rules = present::rules_text(*requirements, file.substr(file.rfind('/') + 1));
  std::size_t without = 0;
  for (const auto& r : *requirements) without += r.formula.empty() ? 1 : 0;
  const auto out = arguments.value(Option::out);
  if (!out) {
    put(stdout, rules);
  } else {
    const Status written = present::write_new_file(*out, rules);
    if (!written) {
      say_error(written.failure().text());
      return kNotCompleted;
    }
  }
  say_aside(fmt::format("{}{}{}", counted(requirements->size(), "requirement"), out ? " in " + *out : "",
                        without > 0 ? fmt::format("; {} without a formula, which are `by review`", without) : ""));
  return kHeld;
}

}  // namespace isodyne::app
