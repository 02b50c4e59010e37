#pragma once
// Racks as a table, and a table back into the text of the bench: only the statements that differ are touched, so that
// comments, order and everything else in the text survive.

#include <map>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::io {

/// What one channel of a rack carries.
struct Binding {
  std::string rack;
  int slot = 0, channel = 0;
  std::string name;          ///< empty: the channel is free
  std::string value, range;  ///< of a sensor that the rack makes, as in the text
  bool on = true;
  std::vector<std::string> groups;

  bool operator==(const Binding&) const = default;
  /// "cabinet.1.4"
  std::string address() const;
  /// "channel 4 : level = 12 mA off in spare"
  std::string statement() const;
};

/// All channels of all racks, free ones too.
std::vector<Binding> bindings_of(const program::Program& program);

/// "rack,slot,channel,module,direction,form,name,value,range,on,groups", a line per channel.
std::string table_text(const program::Program& program);

/// The bindings in a table with the columns of table_text(), in any order; further columns are ignored. `file` is for
/// messages.
Result<std::vector<Binding>> read_table(const std::string& text, const std::string& file,
                                        const program::Program& program);

/// Texts that change, by number of source, so that the channels in `wanted` are bound as it says; others stay.
std::map<std::int32_t, std::string> rewritten(const program::Program& program, const std::vector<Binding>& wanted);

/// The channel that "cabinet.1.4" means, or "1.4" where there is only one rack.
Result<Binding> channel_at(const program::Program& program, const std::string& address);

}  // namespace isodyne::io
