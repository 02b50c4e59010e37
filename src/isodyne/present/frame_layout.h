#pragma once
// A frame as people look at it: what each bit is, and which bytes some values give.

#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::present {

struct FieldRow {
  char key = ' ';           ///< stands for the field in the drawing
  std::string name, bits;   ///< "level", "bits 16 .. 31 of word 1"
  std::string kind, holds;  ///< "unsigned", "sensor: LT-1"
  std::string value;        ///< of the example, as people read it
  double raw = 0;           ///< the number that stands for it
  program::BitRange range;
  bool is_port = false;
};

/// What the fields of a frame hold, with values made up so that every byte and sign can be told apart.
struct FrameExample {
  std::vector<FieldRow> rows;   ///< fields in the order of the text, then ports
  std::vector<unsigned> bytes;  ///< as they go over the wire
};

FrameExample frame_example(const program::Program& program, const program::Frame& frame);

/// "4 words of 64 bits from controller plc; 211 of 256 bits used".
std::string frame_title(const program::Program& program, const program::Frame& frame);

/// The bits, one character each, most significant first, with a ruler in the frame's own numbers.
std::string frame_drawing(const program::Frame& frame, const FrameExample& example);

/// The same as a picture, BASE.svg and BASE.png.
Status draw_frame(const program::Program& program, const program::Frame& frame, const std::string& base);

}  // namespace isodyne::present
