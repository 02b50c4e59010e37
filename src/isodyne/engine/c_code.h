#pragma once
// A plant as portable C11: the same order of events and of operations as the interpreter.
//
// The code works on an iso_memory that the host hands in; nothing in it is allocated or kept between calls.

#include <cstdint>
#include <string>
#include <vector>

#include "isodyne/engine/plan.h"

namespace isodyne::engine {

struct CStyle {
  bool comments = false;  ///< every equation with its place in the text
  bool taps = true;       ///< faults may act; without, the code needs no host
};

struct CCode {
  std::string text;       ///< one translation unit: iso_solve, iso_settle, iso_step, iso_layout
  std::size_t known = 0;  ///< doubles that iso_memory::known needs
  std::size_t work = 0;   ///< doubles that iso_memory::work needs
  bool small = true;      ///< every group has so few states that they are written out one by one
};

/// Raised when what is handed between host and code changes its form.
constexpr int kCLayout = 6;

CCode c_code(const program::Plant& program, const Plan& plan, const CStyle& style);

/// The texts of core/numerics.h and engine/memory.h, which the code needs before it.
extern const char* const kNumericsText;
extern const char* const kMemoryText;

}  // namespace isodyne::engine
