#include "isodyne/core/explanations.h"

#include <algorithm>
#include <iterator>

namespace isodyne {

namespace {

constexpr Explanation kExplanations[] = {
    {Code::bad_character, "A character stands where the language has no use for it.",
     "bench B { step 1 ms\n  let a = 3 m $ 2\n}",
     "Names are made of a to z, digits and _. Anything else belongs into a comment (#) or a text in quotes.",
     "bench B { step 1 ms\n  let a = 3 m * 2\n}"},
    {Code::bad_number, "A number cannot be read, or its unit touches it.", "bench B { step 1ms\n}",
     "Write a blank between number and unit. Numbers go up to about 1e308.", "bench B { step 1 ms\n}"},
    {Code::unfinished_text, "A text in quotes has no end on its line.", "use \"plant.dyne\nbench B { step 1 ms }",
     "Close it with a quote on the same line.", ""},
    {Code::unexpected, "The words are known, but not in this order.", "bench B { step 1 ms\n  state level : m 2 m\n}",
     "The message says what was found and what could stand there; docs/language.md shows the form of each statement.",
     "bench B { step 1 ms\n  state level : m = 2 m\n  level' = 0 m/s\n}"},
    {Code::too_deep,
     "Brackets, blocks or names are nested deeper than any person can read (and than the checker follows).", "",
     "Name an inner part with `let`, or move it into a function or a model.", ""},
    {Code::too_large,
     "The bench has more quantities, steps or operations than Isodyne handles: mostly parts that contain\n"
     "each other many times over, or a loop with a mistaken end.",
     "", "Look at the size of arrays and loops on the way to the place in the message.", ""},
    {Code::needs_brackets, "The text could be read in two ways, and Isodyne does not choose one for you.",
     "bench B { step 1 ms\n  let a : bool = true or false and true\n}", "Put brackets around what belongs together.",
     "bench B { step 1 ms\n  let a : bool = true or (false and true)\n}"},
    {Code::unknown_unit, "A unit is not in Isodyne's table, or is a scale that is not a unit (dB, pu).",
     "bench B { step 1 ms\n  let loss = 3 dB\n}",
     "Use the unit that is suggested. Decibels are written as ratios, per-unit values as shares of a parameter.",
     "bench B { step 1 ms\n  let loss = 0.7079\n}"},
    {Code::cannot_read, "A file in `use` or of a table cannot be read.", "use \"nowhere.dyne\"\nbench B { step 1 ms }",
     "Names are relative to the file that uses them. `use library \"tank.dyne\"` reads from the library.", ""},
    {Code::duplicate, "Two things have one name, so it would not be clear which is meant.",
     "bench B { step 1 ms\n  let a = 1\n  let a = 2\n}", "Rename one, or take it away.",
     "bench B { step 1 ms\n  let a = 1\n  let b = 2\n}"},
    {Code::unknown_name, "Nothing that can be seen from here has this name.",
     "bench B { step 1 ms\n  let speed = 3 m/s\n  let twice = 2 * sped\n}",
     "Look at the suggestion. A model sees its own names and those of the parts inside it; a bench sees `part.name`.",
     "bench B { step 1 ms\n  let speed = 3 m/s\n  let twice = 2 * speed\n}"},
    {Code::wrong_kind,
     "The name exists, but is not something that can stand here: a part instead of a quantity, a label\n"
     "outside a comparison, an input that cannot be connected from here.",
     "model Tank { output state level : m = 1 m\n  level' = 0 m/s }\nbench B { step 1 ms\n  part tank : Tank\n  let a "
     "= tank\n}",
     "The message says what the name is and what can be named instead.",
     "model Tank { output state level : m = 1 m\n  level' = 0 m/s }\nbench B { step 1 ms\n  part tank : Tank\n  let a "
     "= tank.level\n}"},
    {Code::unit_mismatch, "Two quantities of different dimensions meet, or a value does not fit what it is given to.",
     "bench B { step 1 ms\n  let a = 3 m + 2 s\n}",
     "Multiply or divide by what is missing. A plain number gets a unit: `5 cm`. Angles and plain numbers, W and VA,\n"
     "20 degC and 20 K are told apart on purpose.",
     "bench B { step 1 ms\n  let a = 3 m + 2 s * 1 m/s\n}"},
    {Code::type_mismatch, "Numbers, truth values, choices and vectors of different sizes do not mix.",
     "bench B { step 1 ms\n  let a = true + 1\n}",
     "Compare to get a truth value (`x > 3 m`), use `if` to get a number (`if a then 1 else 0`).",
     "bench B { step 1 ms\n  let a = (if true then 1 else 0) + 1\n}"},
    {Code::wrong_arguments, "A function is called with more or fewer arguments than it has.",
     "bench B { step 1 ms\n  let a = sqrt(4, 2)\n}", "The message says how many it takes.",
     "bench B { step 1 ms\n  let a = sqrt(4)\n}"},
    {Code::recursion,
     "A function calls itself or a model contains itself; both are expanded before the run, which would\n"
     "never end.",
     "function f(x: 1) -> 1 = f(x)\nbench B { step 1 ms\n  let a = f(1)\n}",
     "State the recursion as a part with a state or a memory, or write the levels out.",
     "function f(x: 1) -> 1 = 2 * x\nbench B { step 1 ms\n  let a = f(1)\n}"},
    {Code::undriven_input, "An input of a part has neither a connection nor a default, so it would have no value.",
     "model Tank { input inflow : m/s\n  output state level : m = 1 m\n  level' = inflow }\nbench B { step 1 ms\n  "
     "part tank : Tank\n}",
     "Connect it in the model around it, or give it a default where it is declared.",
     "model Tank { input inflow : m/s\n  output state level : m = 1 m\n  level' = inflow }\nbench B { step 1 ms\n  "
     "part tank : Tank\n  tank.inflow = 1 mm/s\n}"},
    {Code::driven_twice, "Two statements give a quantity its value.",
     "bench B { step 1 ms\n  output a : m\n  a = 1 m\n  a = 2 m\n}",
     "Keep one. Where one of two values is meant, choose between them: `if … then … else …`.",
     "bench B { step 1 ms\n  output a : m\n  a = 1 m\n}"},
    {Code::no_equation, "An output or a state is declared, but nothing says what it is.",
     "bench B { step 1 ms\n  state level : m = 1 m\n}", "Write `name = …` for an output, `name' = …` for a state.",
     "bench B { step 1 ms\n  state level : m = 1 m\n  level' = 0 m/s\n}"},
    {Code::algebraic_loop,
     "Quantities need each other's value at the same instant, so none can be computed first. The\n"
     "message prints the way round.",
     "bench B { step 1 ms\n  let a : 1 = 2 * b\n  let b : 1 = 1 - a\n}",
     "Something in the loop takes time in reality: make it a state, a memory or a `delay`. Or the equation is meant\n"
     "as it stands: say which quantity it is to be solved for.",
     "bench B { step 1 ms\n  let a : 1 = 2 * b\n  solve b : 1 from b = 1 - a\n}"},
    {Code::not_constant, "A value must be known before the run: a period, a size, a limit of a parameter.",
     "bench B { step 1 ms\n  param n : int = 3\n  let x : m[n] = 1 m\n}", "Use numbers and `fixed param`s only.",
     "bench B { step 1 ms\n  fixed param n : int = 3\n  let x : m[n] = 1 m\n}"},
    {Code::out_of_limits, "A value lies outside what its declaration allows, or an element is not there.",
     "bench B { step 1 ms\n  param area : m^2 = 20 m^2  from 1 m^2 to 10 m^2\n}", "Change the value or the limits.",
     "bench B { step 1 ms\n  param area : m^2 = 5 m^2  from 1 m^2 to 10 m^2\n}"},
    {Code::not_settable,
     "A scenario sets something that the bench computes, or begins with another value of a fixed parameter that has "
     "decided something before the run.",
     "bench B { step 1 ms\n  let a = 1 m * time / 1 s\n}\nscenario s { set a = 2 m }",
     "Set a free input or a parameter; to change a computed quantity, declare a fault on it.",
     "bench B { step 1 ms\n  input a : m = 1 m\n}\nscenario s { set a = 2 m }"},
    {Code::bad_period, "A period or delay does not fit the step of the bench, or is none.",
     "bench B { step 3 ms\n  memory n : int = 0\n  every 10 ms { n := n + 1 }\n}",
     "Periods are whole multiples of the step; a delay is at least one step. What is recorded or sampled of a part "
     "with a "
     "shorter step may come at whole multiples of that, if they divide the step of the bench.",
     "bench B { step 2 ms\n  memory n : int = 0\n  every 10 ms { n := n + 1 }\n}"},
    {Code::missing, "Something that has to be said is not said.", "bench B {\n  let a = 1\n}",
     "Add what the message names.", "bench B { step 1 ms\n  let a = 1\n}"},
    {Code::private_name, "A model keeps this name to itself, so that it can change it without breaking others.",
     "model M { private let inner = 1 }\nbench B { step 1 ms\n  part m : M\n  let a = m.inner\n}",
     "Use one of the model's outputs, or make the name public.",
     "model M { let inner = 1 }\nbench B { step 1 ms\n  part m : M\n  let a = m.inner\n}"},
    {Code::bad_table, "The points or values of a table cannot be used.",
     "table t(x: m) -> s = [2 m: 1 s, 1 m: 2 s] linear\nbench B { step 1 ms }",
     "Points rise from one to the next; with two arguments every pair is given once; a file has a header with units.",
     "table t(x: m) -> s = [1 m: 2 s, 2 m: 1 s] linear\nbench B { step 1 ms }"},
    {Code::overlap, "Bits of a frame are claimed twice, or a port shows half of a field.",
     "bench B { step 1 ms\n  input a : bool = false\n  input b : bool = false\n  frame f { words 1  bits from low  "
     "bytes from low\n"
     "    field a  bit 3 of word 0\n    field b  bit 3 of word 0\n  }\n}",
     "Give every field bits of its own; `isodyne io layout` shows which are free.",
     "bench B { step 1 ms\n  input a : bool = false\n  input b : bool = false\n  frame f { words 1  bits from low  "
     "bytes from low\n"
     "    field a  bit 3 of word 0\n    field b  bit 4 of word 0\n    spare  bits 0 .. 2 of word 0\n"
     "    spare  bits 5 .. 63 of word 0\n  }\n}"},
    {Code::gap, "Bits of a frame are neither a field nor declared as spare, so nobody knows whether one was forgotten.",
     "bench B { step 1 ms\n  input a : bool = false\n  frame f { words 1  bits from low  bytes from low\n"
     "    field a  bit 0 of word 0\n  }\n}",
     "Say what they hold, or that they are `spare`.",
     "bench B { step 1 ms\n  input a : bool = false\n  frame f { words 1  bits from low  bytes from low\n"
     "    field a  bit 0 of word 0\n    spare  bits 1 .. 63 of word 0\n  }\n}"},
    {Code::does_not_fit, "A field of a frame is too narrow for what it should hold, or has the wrong sign.",
     "bench B { step 1 ms\n  sensor a { of 4 m  counts 100 per m  word 12 bit signed  every 1 ms }\n"
     "  frame f { words 1  bits from low  bytes from low\n    field a  bits 0 .. 11 of word 0\n"
     "    spare  bits 12 .. 63 of word 0\n  }\n}",
     "Make the field as wide as the word of its channel, and `signed` where the channel is.",
     "bench B { step 1 ms\n  sensor a { of 4 m  counts 100 per m  word 12 bit signed  every 1 ms }\n"
     "  frame f { words 1  bits from low  bytes from low\n    field a  bits 0 .. 11 of word 0  signed\n"
     "    spare  bits 12 .. 63 of word 0\n  }\n}"},
    {Code::unused, "A parameter changes nothing, or nothing reads an output. Often an equation was forgotten.",
     "model M { param a : m = 1 m }\nbench B { step 1 ms\n  part m : M\n}", "Use it, or take it away.",
     "bench B { step 1 ms }"},
    {Code::unconnected, "An input keeps its default because nothing is connected to it. That may be meant.",
     "model M { input a : m = 1 m\n  output b : m\n  b = a }\nbench B { step 1 ms\n  part m : M\n  let c = m.b\n}",
     "Connect it. If the default is meant, write it as a connection: then everyone sees that it was.",
     "model M { input a : m = 1 m\n  output b : m\n  b = a }\nbench B { step 1 ms\n  part m : M\n  m.a = 1 m\n  let c "
     "= m.b\n}"},
    {Code::frozen,
     "A parameter has its value from another one, at the start. Who changes the other one does not change it.",
     "model M { param a : m = 1 m\n  output state x : m = 0 m\n  x' = (a - x) / 1 s\n}\nbench B { step 1 ms\n  param "
     "b : m = 1 m\n  part m : M(a = 2 * b)\n}\nscenario s { set b = 3 m\n  hold 1 s }",
     "Make it an `input`, which has its value at every instant.",
     "model M { input a : m\n  output state x : m = 0 m\n  x' = (a - x) / 1 s\n}\nbench B { step 1 ms\n  param "
     "b : m = 1 m\n  part m : M\n  m.a = 2 * b\n}\nscenario s { set b = 3 m\n  hold 1 s }"},
    {Code::constant_condition, "A condition names nothing that could change, so it is always true or always false.",
     "bench B { step 1 ms\n  let a = if 1 > 2 then 3 else 4\n}", "Name the quantity it depends on.",
     "bench B { step 1 ms\n  let a = if time > 2 s then 3 else 4\n}"},
    {Code::may_divide_by_zero,
     "Something is divided by a state that has no limits, so it may become zero during a run; the run\n"
     "would stop there.",
     "bench B { step 1 ms\n  state level : m = 1 m\n  level' = -1 m^2/s / level\n}",
     "Give the state limits, or divide by `max(state, smallest)`.",
     "bench B { step 1 ms\n  state level : m = 1 m  limited 1 cm .. 2 m\n  level' = -1 m^2/s / level\n}"},
    {Code::not_recorded,
     "A recording is judged or measured by rules that read a quantity which is not in it, and which cannot be "
     "computed\n"
     "from what is.",
     "",
     "Run the bench again with this quantity in it, or ask for one that was recorded (`isodyne list BENCH signals`).",
     ""},
    {Code::window_too_long,
     "A requirement or a measure speaks of a longer time than the recording has. What it says of that time stays "
     "undecided.",
     "", "Record a longer run, or shorten the time.", ""},
    {Code::open_terminal, "A part has a terminal at which nothing lies.",
     "use library \"circuits.dyne\"\nmodel Load { terminal a, b : electric\n  part r : Resistor between a, b }\n"
     "bench B { step 1 ms\n  part load : Load\n}",
     "Say where it lies: `at` a place, or `between` two. A terminal that is free on purpose is declared `= open`.",
     "use library \"circuits.dyne\"\nmodel Load { terminal a, b : electric\n  part r : Resistor between a, b }\n"
     "bench B { step 1 ms\n  node top : electric\n  part load : Load between top, ground\n"
     "  part c : Capacitor between top, ground\n}"},
    {Code::does_nothing, "An element, a node or a fault is there and can have no effect.",
     "use library \"circuits.dyne\"\nbench B { step 1 ms\n  node top : electric\n  part r : Resistor between top, "
     "top\n}",
     "Look at the places it lies at.",
     "use library \"circuits.dyne\"\nbench B { step 1 ms\n  node top : electric\n  part r : Resistor between top, "
     "ground\n"
     "  part c : Capacitor between top, ground\n}"},
    {Code::floating, "A part of a network has no voltage against ground, because nothing ties it there.",
     "use library \"circuits.dyne\"\nbench B { step 1 ms\n  node a, b : electric\n  part c : Capacitor between a, b\n"
     "  part r : Resistor between a, b\n}",
     "Let one of its nodes lie at `ground`, or tie it there by a resistor. Windings of a transformer tie nothing to "
     "each\n"
     "other, and a current source says nothing of voltages.",
     "use library \"circuits.dyne\"\nbench B { step 1 ms\n  node a : electric\n  part c : Capacitor between a, ground\n"
     "  part r : Resistor between a, ground\n}"},
    {Code::source_loop,
     "Sources contradict each other: two voltages between the same nodes, or two currents through one way.",
     "use library \"circuits.dyne\"\nbench B { step 1 ms\n  node a : electric\n  part one : VoltageSource between a, "
     "ground\n"
     "  part two : VoltageSource between a, ground\n  one.voltage = 3 V\n  two.voltage = 4 V\n}",
     "Real sources have a resistance: put it between them.",
     "use library \"circuits.dyne\"\nbench B { step 1 ms\n  node a, b : electric\n  part one : VoltageSource between "
     "a, ground\n"
     "  part inner : Resistor between a, b\n  part two : VoltageSource between b, ground\n"
     "  one.voltage = 3 V\n  two.voltage = 4 V\n}"},
};

}  // namespace

const Explanation& explanation(Code code) {
  return *std::find_if(std::begin(kExplanations), std::end(kExplanations),
                       [&](const Explanation& e) { return e.code == code; });
}

static_assert(std::size(kExplanations) == 0
#define DIAGNOSTIC(id, text) +1
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
              ,
              "every code has its explanation");

}  // namespace isodyne
