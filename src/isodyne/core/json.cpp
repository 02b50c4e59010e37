#include "isodyne/core/json.h"

namespace isodyne {

namespace {
/// How deep brackets are nested at most, outside of strings; whether the rest is JSON is for the parser to say.
bool too_deep(std::string_view text) {
  int depth = 0;
  bool quoted = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quoted) {
      if (c == '\\') ++i;
      quoted = c != '"';
    } else if (c == '"') {
      quoted = true;
    } else if (c == '[' || c == '{') {
      if (++depth > kMostJsonDepth) return true;
    } else if (c == ']' || c == '}') {
      --depth;
    }
  }
  return false;
}
}  // namespace

void throw_not_whole(const std::string& what) {
  throw nlohmann::json::other_error::create(501, "there must be a whole number that fits, not " + what, nullptr);
}

Result<CheckedJson> parse_json(std::string_view text) {
  if (too_deep(text)) return Failure{"this JSON is nested too deeply", "", ""};
  try {
    return CheckedJson::parse(text.begin(), text.end());
  } catch (const nlohmann::json::exception& e) {
    return Failure{"this is no JSON", "", e.what()};
  }
}

}  // namespace isodyne
