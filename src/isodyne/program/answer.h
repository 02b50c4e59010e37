#pragma once
// What can come of a requirement, and its word.

#include <optional>
#include <string_view>

namespace isodyne::program {

enum class Answer { held, broken, not_tested, undecided, interrupted };

constexpr Answer kAnswers[] = {Answer::held, Answer::broken, Answer::not_tested, Answer::undecided,
                               Answer::interrupted};

inline const char* answer_word(Answer answer) {
  switch (answer) {
    case Answer::held:
      return "held";
    case Answer::broken:
      return "broken";
    case Answer::not_tested:
      return "not put to the test";
    case Answer::undecided:
      return "undecided";
    case Answer::interrupted:
      return "interrupted";
  }
  return "?";
}

inline std::optional<Answer> answer_named(std::string_view word) {
  for (const Answer a : kAnswers) {
    if (word == answer_word(a)) return a;
  }
  return std::nullopt;
}

}  // namespace isodyne::program
