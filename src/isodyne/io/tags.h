#pragma once
// A controller's own list of tags: names, addresses and data types (IEC 61131-3:2013, 6.4.2 and 6.5.5).

#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/core/units.h"
#include "isodyne/program/program.h"

namespace isodyne::io {

/// An elementary data type that a channel may have.
struct TagType {
  enum class Kind { boolean, bits, integer, natural, real };
  const char* name = "";
  Kind kind = Kind::boolean;
  int bits = 1;
  double lowest() const;
  double highest() const;
};

/// By its name, in any case; null for types that no channel has (STRING, TIME, structures).
const TagType* tag_type(const std::string& name);

/// Where a tag lies: %IW4, %QX0.3, %MD12.
struct TagAddress {
  char area = 'M';           ///< I into the controller, Q out of it, M its memory
  int bits = 1;              ///< 1 for X or none, 8 B, 16 W, 32 D, 64 L
  std::vector<int> numbers;  ///< from the largest part to the smallest
};

std::optional<TagAddress> tag_address(const std::string& text);

struct Tag {
  std::string name, address, type, unit, comment;  ///< as written
  int line = 0;
  const TagType* known_type = nullptr;
  std::optional<TagAddress> place;
  std::optional<Unit> known_unit;
  std::vector<std::string> troubles;  ///< what is wrong with the tag itself
};

struct TagList {
  std::vector<Tag> tags;
  std::vector<std::string> troubles;  ///< with their lines: names and addresses that appear twice
};

/// Reads a list; columns are those that the bench names, or name, address, type, unit, comment in any case.
/// Nothing is left out: a tag that cannot be used says why.
Result<TagList> read_tags(const std::string& text, const std::string& file, const program::TagColumns& columns);

}  // namespace isodyne::io
