#include "screen.h"

#include <clocale>
#include <cstdlib>
#include <cstring>
#include <string>
#include <utility>

#include <langinfo.h>
#include <unistd.h>

#define NCURSES_NOMACROS 1
#include <ncurses.h>

namespace isodyne::app {

namespace {

using live::Ink;
using live::Key;

enum Pair : short { kGood = 1, kWarn, kBad, kGrey, kFocus, kWarnBar, kBadBar, kFirstTrace };

void define_colours() {
  start_color();
  use_default_colors();
  init_pair(kGood, COLOR_GREEN, -1);
  init_pair(kWarn, COLOR_YELLOW, -1);
  init_pair(kBad, COLOR_RED, -1);
  if (COLORS > 8) init_pair(kGrey, 8, -1);
  init_pair(kWarnBar, COLOR_BLACK, COLOR_YELLOW);
  init_pair(kBadBar, COLOR_WHITE, COLOR_RED);
  init_pair(kFocus, COLOR_CYAN, -1);
  constexpr short kTraces[] = {COLOR_CYAN, COLOR_YELLOW, COLOR_GREEN, COLOR_MAGENTA, COLOR_RED, COLOR_BLUE};
  for (short i = 0; i < live::kTraceInks; ++i) init_pair(static_cast<short>(kFirstTrace + i), kTraces[i], -1);
}

struct Look {
  attr_t attributes = A_NORMAL;
  short pair = 0;
};

Look look_of(const live::Style& s, bool colours) {
  Look look;
  if (s.ink == Ink::strong || s.ink == Ink::focus || s.ink == Ink::bad) look.attributes |= A_BOLD;
  if (s.ink == Ink::focus && !colours) look.attributes |= A_UNDERLINE;
  const bool quiet = s.ink == Ink::dim || s.ink == Ink::frame;
  if (quiet && !s.reverse && (!colours || COLORS <= 8)) look.attributes |= A_DIM;
  if (colours && s.reverse && (s.ink == Ink::warn || s.ink == Ink::bad)) {
    look.pair = s.ink == Ink::warn ? kWarnBar : kBadBar;
    return look;
  }
  if (s.reverse) look.attributes |= A_REVERSE;
  if (!colours) return look;
  switch (s.ink) {
    case Ink::good:
      look.pair = kGood;
      break;
    case Ink::warn:
      look.pair = kWarn;
      break;
    case Ink::bad:
      look.pair = kBad;
      break;
    case Ink::focus:
      look.pair = kFocus;
      break;
    case Ink::trace:
      look.pair = static_cast<short>(kFirstTrace + s.trace % live::kTraceInks);
      break;
    case Ink::dim:
    case Ink::frame:
      look.pair = COLORS > 8 && !s.reverse ? kGrey : 0;
      break;
    case Ink::plain:
    case Ink::strong:
      break;
  }
  return look;
}

}  // namespace

std::unique_ptr<Screen> Screen::open() {
  const char* kind = std::getenv("TERM");
  if (isatty(STDIN_FILENO) == 0 || isatty(STDOUT_FILENO) == 0 || kind == nullptr || std::strcmp(kind, "dumb") == 0)
    return nullptr;
  std::setlocale(LC_CTYPE, "");
  set_escdelay(50);
  SCREEN* made = newterm(nullptr, stdout, stdin);  // initscr() would end the process where TERM is not known
  if (made == nullptr) return nullptr;
  set_term(made);
  return std::unique_ptr<Screen>(new Screen(made));
}

Screen::Screen(void* terminal) : terminal_(terminal) {
  const char* no = std::getenv("NO_COLOR");
  colours_ = has_colors() && (no == nullptr || *no == '\0');
  ascii_ = std::strcmp(nl_langinfo(CODESET), "UTF-8") != 0;
  cbreak();
  noecho();
  nonl();
  keypad(stdscr, TRUE);
  nodelay(stdscr, TRUE);
  mouseinterval(0);
  mousemask(BUTTON1_PRESSED | BUTTON1_RELEASED | BUTTON4_PRESSED | BUTTON5_PRESSED, nullptr);
  if (colours_) define_colours();
}

Screen::~Screen() {
  endwin();
  delscreen(static_cast<SCREEN*>(terminal_));
}

live::Grid Screen::grid() const {
  return {getmaxx(stdscr), getmaxy(stdscr), ascii_};
}

bool Screen::resized() {
  return std::exchange(resized_, false);
}

void Screen::show(const live::Grid& grid, const std::optional<std::pair<int, int>>& cursor) {
  for (int y = 0; y < grid.height(); ++y) {
    for (int x = 0; x < grid.width(); ++x) {
      const live::Cell& cell = grid.at(x, y);
      if (cell.glyph == 0) continue;
      const Look look = look_of(cell.style, colours_);
      const wchar_t text[2] = {static_cast<wchar_t>(cell.glyph), 0};
      cchar_t complex;
      setcchar(&complex, text, look.attributes, look.pair, nullptr);
      mvadd_wch(y, x, &complex);
    }
  }
  curs_set(cursor ? 1 : 0);
  if (cursor) ::move(cursor->second, cursor->first);
  refresh();
}

std::optional<Key> Screen::key() {
  wint_t code = 0;
  const int kind = get_wch(&code);
  if (kind == ERR) return std::nullopt;
  Key key;
  if (kind == OK) {
    switch (code) {
      case L'\r':
      case L'\n':
        key.kind = Key::Kind::enter;
        break;
      case L'\t':
        key.kind = Key::Kind::tab;
        break;
      case 27:
        key.kind = Key::Kind::escape;
        break;
      case 8:
      case 127:
        key.kind = Key::Kind::backspace;
        break;
      case 12:  // ctrl-L
        clearok(curscr, TRUE);
        resized_ = true;
        return std::nullopt;
      default:
        key.letter = static_cast<char32_t>(code);
    }
    return key;
  }
  switch (code) {
    case KEY_RESIZE:
      resized_ = true;
      return std::nullopt;
    case KEY_UP:
      key.kind = Key::Kind::up;
      break;
    case KEY_DOWN:
      key.kind = Key::Kind::down;
      break;
    case KEY_LEFT:
      key.kind = Key::Kind::left;
      break;
    case KEY_RIGHT:
      key.kind = Key::Kind::right;
      break;
    case KEY_PPAGE:
      key.kind = Key::Kind::page_up;
      break;
    case KEY_NPAGE:
      key.kind = Key::Kind::page_down;
      break;
    case KEY_HOME:
      key.kind = Key::Kind::home;
      break;
    case KEY_END:
      key.kind = Key::Kind::end;
      break;
    case KEY_BACKSPACE:
      key.kind = Key::Kind::backspace;
      break;
    case KEY_DC:
      key.kind = Key::Kind::erase;
      break;
    case KEY_BTAB:
      key.kind = Key::Kind::back_tab;
      break;
    case KEY_ENTER:
      key.kind = Key::Kind::enter;
      break;
    case KEY_MOUSE: {
      MEVENT event;
      if (getmouse(&event) != OK) return std::nullopt;
      key.x = event.x, key.y = event.y;
      key.kind = (event.bstate & BUTTON1_PRESSED) != 0    ? Key::Kind::press
                 : (event.bstate & BUTTON1_RELEASED) != 0 ? Key::Kind::let_go
                 : (event.bstate & BUTTON4_PRESSED) != 0  ? Key::Kind::wheel_up
                                                          : Key::Kind::wheel_down;
      break;
    }
    default:
      key.kind = Key::Kind::letter;
      key.letter = 0;
  }
  return key;
}

}  // namespace isodyne::app
