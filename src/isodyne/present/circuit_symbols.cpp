#include "isodyne/present/circuit_symbols.h"

#include <cmath>
#include <numbers>

namespace isodyne::present {

void Strokes::circle(Spot centre, double radius) {
  std::vector<Spot> all;
  for (int i = 0; i <= 36; ++i) {
    const double angle = i * std::numbers::pi / 18;
    all.push_back({centre.x + radius * std::cos(angle), centre.y + radius * std::sin(angle)});
  }
  line(std::move(all));
}

void Strokes::bump(Spot from, Spot to) {
  const double radius = (to.y - from.y) / 2, middle = (from.y + to.y) / 2;
  std::vector<Spot> all;
  for (int i = 0; i <= 12; ++i) {
    const double angle = -std::numbers::pi / 2 + i * std::numbers::pi / 12;
    all.push_back({from.x + radius * std::cos(angle), middle + radius * std::sin(angle)});
  }
  line(std::move(all));
}

namespace {

void leads(Strokes& s, double from) {
  s.line({{0, -kReach}, {0, -from}});
  s.line({{0, from}, {0, kReach}});
}

void box(Strokes& s, double width, double height) {
  const double x = width / 2, y = height / 2;
  s.line({{-x, -y}, {x, -y}, {x, y}, {-x, y}, {-x, -y}});
}

void coil(Strokes& s) {
  constexpr int kBumps = 4;
  for (int i = 0; i < kBumps; ++i)
    s.bump({0, -kReach + 2 * kReach * i / kBumps}, {0, -kReach + 2 * kReach * (i + 1) / kBumps});
}

/// Conducts downwards, or upwards.
void diode(Strokes& s, double x, double size, bool up) {
  const double sign = up ? -1 : 1;
  s.area({{x - size, -sign * size}, {x + size, -sign * size}, {x, sign * size}});
  s.line({{x - size, sign * size}, {x + size, sign * size}});
}

void contact(Strokes& s) {
  s.line({{0, -kReach}, {0, -11}});
  s.line({{-10, -9}, {0, 11}, {0, kReach}});
}

/// Closed until something opens it.
void break_contact(Strokes& s) {
  s.line({{0, -kReach}, {0, -10}, {8, -10}});
  s.line({{7, -14}, {0, 11}, {0, kReach}});
}

void transistor(Strokes& s) {
  s.line({{0, -kReach}, {0, -12}, {-7, -5}});
  s.line({{-7, -9}, {-7, 9}});
  s.line({{-7, 5}, {0, 12}, {0, kReach}});
  s.area({{0, 12}, {-5.5, 10.5}, {-1.5, 6.5}});
  s.line({{-10, -6}, {-10, 6}});
  s.line({{-18, 0}, {-10, 0}});
  s.line({{0, -18}, {12, -18}, {12, -5}});
  diode(s, 12, 5, true);
  s.line({{12, 5}, {12, 18}, {0, 18}});
}

}  // namespace

Strokes symbol_of(std::string_view model) {
  Strokes s;
  if (model == "Resistor") {
    leads(s, 13);
    box(s, 11, 26);
  } else if (model == "Inductor") {
    coil(s);
  } else if (model == "Ideal" || model == "Coupled") {
    coil(s);
    s.area({{-7, -20}, {-5, -18}, {-7, -16}, {-9, -18}});
  } else if (model == "Saturable" || model == "KneeCore") {
    coil(s);
    s.line({{-5, -kReach}, {-5, kReach}});
    s.line({{-14, 12}, {-10, 12}, {10, -12}, {15, -12}});
  } else if (model == "Capacitor") {
    leads(s, 3.5);
    s.line({{-11, -3.5}, {11, -3.5}});
    s.line({{-11, 3.5}, {11, 3.5}});
  } else if (model == "VoltageSource") {
    s.circle({}, 12);
    s.line({{0, -kReach}, {0, kReach}});
    s.line({{-12, -17}, {-6, -17}});
    s.line({{-9, -20}, {-9, -14}});
  } else if (model == "CurrentSource") {
    leads(s, 12);
    s.circle({}, 12);
    s.line({{-12, 0}, {12, 0}});
    s.line({{17, -12}, {17, 6}});
    s.area({{17, 12}, {13.5, 5}, {20, 5}});
  } else if (model == "Switch" || model == "FaultShort") {
    contact(s);
  } else if (model == "FaultOpen") {
    break_contact(s);
  } else if (model == "BreakerPole") {
    contact(s);
    s.line({{-3.5, -14.5}, {3.5, -7.5}});
    s.line({{3.5, -14.5}, {-3.5, -7.5}});
  } else if (model == "Diode" || model == "Thyristor") {
    s.line({{0, -kReach}, {0, kReach}});
    diode(s, 0, 9, false);
    if (model == "Thyristor") s.line({{0, 9}, {-8, 16}, {-16, 16}});
  } else if (model == "Transistor") {
    transistor(s);
  } else if (model == "Arrester") {
    leads(s, 14);
    box(s, 13, 28);
    s.line({{0, -14}, {0, 2}});
    s.area({{0, 10}, {-4, 1}, {4, 1}});
  } else {
    leads(s, 13);
    box(s, 22, 26);
  }
  return s;
}

Strokes earth() {
  Strokes s;
  s.line({{0, 0}, {0, 10}});
  for (int i = 0; i < 3; ++i) s.line({{-9 + 3.0 * i, 10 + 4.0 * i}, {9 - 3.0 * i, 10 + 4.0 * i}});
  return s;
}

}  // namespace isodyne::present
