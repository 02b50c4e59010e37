#pragma once
// What can come of a requirement, and its word.

namespace isodyne::program {

enum class Answer { held, broken, not_tested, undecided, interrupted };

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

}  // namespace isodyne::program
