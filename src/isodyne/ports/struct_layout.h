#pragma once
// The struct that a controller reads and the one it writes: members, C types, offsets, identity.

#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "isodyne/io/frame.h"
#include "isodyne/program/program.h"

namespace isodyne::ports {

/// A frame in a struct: its bytes as they go over a wire.
struct FrameMember {
  io::FrameCodec codec;
  std::vector<std::string> names;    ///< of its fields: "uplink.level"
  std::vector<std::int32_t> labels;  ///< per field: of a choice, how many; 0: any number
};

struct Field {
  /// A gate is an isodyne_gate of controller.h.
  enum class Kind { real, integer, boolean, choice, gate, frame };
  std::string name;  ///< C identifier
  program::VarId variable = program::kNone;
  Kind kind = Kind::real;
  std::size_t offset = 0;
  std::int32_t labels = 0;                    ///< of a choice: values 0 … labels − 1 are valid
  std::size_t first = 0;                      ///< which of the values; a frame has one for each of its fields
  std::size_t count = 0;                      ///< of a vector: how many, in a row from `first` on; 0: it is none
  std::size_t edges = 0;                      ///< of a gate: the place of its edges, behind the values
  Time period{};                              ///< of a gate: that of the controller
  std::shared_ptr<const FrameMember> frame;   ///< of a frame, whose fields count from `first` on
  std::int32_t frame_index = program::kNone;  ///< into Program::frames
};

struct Layout {
  std::vector<Field> reads, writes;
  std::size_t reads_bytes = 0, writes_bytes = 0;
  std::uint64_t identity = 0;  ///< FNV-1a over names, types, units and order
};

/// double, int32_t (whole numbers and choices), bool and isodyne_gate, or arrays of them, in declared order with
/// natural alignment.
Layout layout_of(const program::Program& program, const program::Controller& controller);

/// A comment of C in which nothing ends it early.
std::string c_comment(std::string text);

/// "upper.level" → "upper_level".
std::string c_name(const std::string& name);

/// Values in the order of the controller's reads or writes → bytes of the struct, and back.
void pack(const std::vector<Field>& fields, std::span<const double> values, std::byte* bytes);
/// Index of the first value that cannot be (a number that is not finite, no label, edges that are none), or −1.
int unpack(const std::vector<Field>& fields, const std::byte* bytes, std::span<double> values);

/// Why the value at an index that unpack() gave cannot be: "it wrote 7 to `gate`, which takes 0 to 2".
std::string why_wrong(const std::vector<Field>& fields, std::size_t index, double value);

/// The same layout as JSON, for controllers in other languages.
std::string layout_json(const program::Program& program, const program::Controller& controller);

/// The C header for one controller of a bench.
std::string header_text(const program::Program& program, const program::Controller& controller);

}  // namespace isodyne::ports
