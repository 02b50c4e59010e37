#pragma once
// What each diagnostic means, for people who meet it for the first time.

#include <string_view>

#include "isodyne/core/diagnostics.h"

namespace isodyne {

struct Explanation {
  Code code = Code::unexpected;
  std::string_view cause;    ///< why it is said
  std::string_view example;  ///< a text that gets it; empty where none can be short
  std::string_view cure;     ///< what to do, in words
  std::string_view cured;    ///< the example put right; empty if there is none
};

const Explanation& explanation(Code code);

}  // namespace isodyne
