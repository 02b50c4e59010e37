#pragma once
// Tables of a text, or of a file with comma-separated values, into the Program.
//
// The file has a header of titles with units, `time [s], power [kW]`, then rows of numbers in those units.
// With one argument the first column is the argument and the second (or the chosen one) the value. With two,
// the first two columns are the arguments, and every pair of them stands in one row.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

/// Reads every table that is declared; reports what is wrong with it. Those in order are then in
/// `check.tables`.
void load_tables(Check& check, Expressions& expressions);

/// A column of a file over time, linear between its points and held outside: index into Program::tables; kNone if
/// something is wrong with it (reported). `type` is that of what follows it.
std::int32_t load_column(Check& check, Expressions& expressions, const lang::FileColumn& file, const Type& type);

/// The same, where the file says which unit it is.
struct OwnColumn {
  std::int32_t table = kNone;
  Unit unit;
};
OwnColumn load_own_column(Check& check, Expressions& expressions, const lang::FileColumn& file);

}  // namespace isodyne::check
