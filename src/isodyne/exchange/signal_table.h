#pragma once
// Signals over time without a bench: what recordings are exchanged as. One file here for each open format.
//
// CSV: RFC 4180, the first column in seconds, units in the header: "level [m]". COMTRADE: IEEE C37.111-1999 (read also
// 1991, and 2013 in two files), ASCII and binary. VCD: IEEE 1364-2005, 18.

#include <cstdint>
#include <limits>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/record/recording.h"

namespace isodyne::exchange {

/// A value that is not there.
inline constexpr double kMissing = std::numeric_limits<double>::quiet_NaN();

struct SignalColumn {
  enum class Kind { number, count, truth };
  std::string name, unit;  ///< the unit that the values are in; empty: none
  Kind kind = Kind::number;
  std::vector<double> values;  ///< kMissing among them
};

struct SignalTable {
  std::string title;
  std::vector<std::int64_t> times_ns;  ///< increasing
  std::vector<SignalColumn> columns;
  std::vector<std::string> remarks;  ///< what a reader has to know: what was left out, or is not exact
};

/// Of a recording, in the units that people read; choices are counts.
Result<SignalTable> table_of(const record::Recording& recording, const std::vector<std::string>& names);

std::string to_csv(const SignalTable& table);
/// `name` stands in messages.
Result<SignalTable> from_csv(const std::string& name, std::string_view text);

struct Comtrade {
  std::string cfg, dat;
};
/// Numbers become whole numbers between the least and the greatest of each: of 16 bits in binary files.
Result<Comtrade> to_comtrade(const SignalTable& table, bool binary);
Result<SignalTable> from_comtrade(const std::string& name, const Comtrade& files);

std::string to_vcd(const SignalTable& table);
Result<SignalTable> from_vcd(const std::string& name, std::string_view text);

/// Writes a recording with a bench that declares the columns as inputs, so that rules can be asked of it. Names that
/// the language does not know as such, and units, are made to fit; remarks say so.
Status write_table(const std::string& file, const std::string& origin, SignalTable& table);

}  // namespace isodyne::exchange
