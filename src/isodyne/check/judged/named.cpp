#include "isodyne/check/judged/named.h"

#include <algorithm>

#include <fmt/format.h>

namespace isodyne::check {

namespace {

template <typename Things>
std::vector<std::string> names_of(const Things& all) {
  std::vector<std::string> known;
  for (const auto& one : all) known.push_back(one.name);
  return known;
}

}  // namespace

void Named::said_twice(const lang::Name& name, const lang::Name& first, const char* what) {
  check_.error(Code::duplicate, name.span, fmt::format("{} `{}` is defined twice", what, name.text))
      .notes.push_back({first.span, "the first is here"});
}

std::optional<std::int32_t> Named::fault(const lang::Name& name) {
  const auto& all = check_.program.faults;
  const auto found = std::find_if(all.begin(), all.end(), [&](const auto& f) { return f.name == name.text; });
  if (found != all.end()) return static_cast<std::int32_t>(found - all.begin());
  report_unknown_word(check_, name, "fault", names_of(all));
  return std::nullopt;
}

std::optional<std::int32_t> Named::scenario(const lang::Name& name) {
  const auto& all = check_.program.scenarios;
  const auto found = std::find_if(all.begin(), all.end(), [&](const auto& s) { return s.name == name.text; });
  if (found == all.end()) return report_unknown_word(check_, name, "scenario", names_of(all)), std::nullopt;
  if (found->needs.empty()) return static_cast<std::int32_t>(found - all.begin());
  check_.error(Code::missing, name.span, fmt::format("scenario `{}` needs a value for `{}`", name.text, found->needs),
               "give the parameter a default, or do it from another scenario");
  return std::nullopt;
}

std::vector<std::int32_t> Named::requirement(const lang::Name& name) {
  std::vector<std::int32_t> found;
  const auto& all = check_.program.requirements;
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (all[i].name == name.text || all[i].name.starts_with(name.text + "/"))
      found.push_back(static_cast<std::int32_t>(i));
  }
  if (found.empty()) report_unknown_word(check_, name, "requirement", names_of(all));
  return found;
}

std::vector<std::int32_t> Named::requirements(const std::vector<lang::Name>& names) {
  std::vector<std::int32_t> all;
  for (const lang::Name& name : names) {
    for (const std::int32_t r : requirement(name)) {
      if (std::find(all.begin(), all.end(), r) == all.end()) all.push_back(r);
    }
  }
  return all;
}

}  // namespace isodyne::check
