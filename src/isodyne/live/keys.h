#pragma once
// What a hand does: keys and the mouse, whatever the terminal calls them.

#include <cstdint>

namespace isodyne::live {

struct Key {
  enum class Kind : std::uint8_t {
    letter,
    enter,
    tab,
    back_tab,
    up,
    down,
    left,
    right,
    page_up,
    page_down,
    home,
    end,
    backspace,
    erase,
    escape,
    press,   ///< of the mouse's left button, at x, y
    let_go,  ///< the same
    wheel_up,
    wheel_down
  };
  Kind kind = Kind::letter;
  char32_t letter = 0;
  int x = 0, y = 0;
};

}  // namespace isodyne::live
