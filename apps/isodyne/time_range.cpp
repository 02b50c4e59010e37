#include "time_range.h"

#include <fmt/format.h>

#include "terminal.h"

namespace isodyne::app {

std::optional<present::TimeRange> time_range_of(const Arguments& arguments) {
  present::TimeRange stretch;
  for (const auto& [option, name, seconds] :
       {std::tuple{Option::from, "from", &stretch.begin}, std::tuple{Option::to, "to", &stretch.end}}) {
    const auto text = arguments.value(option);
    if (!text) continue;
    const auto span = read_span(*text);
    if (!span) return say_error(fmt::format("--{} takes a time such as \"5 s\", not `{}`", name, *text)), std::nullopt;
    *seconds = to_seconds(*span);
  }
  if (stretch.end >= stretch.begin) return stretch;
  say_error("--to comes before --from");
  return std::nullopt;
}

}  // namespace isodyne::app
