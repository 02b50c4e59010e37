#pragma once
// Values of quantities as clients write and read them: with a unit, as a label, as a truth.

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"
#include "isodyne/remote/rpc.h"

namespace isodyne::remote {

/// "80 degC", "open", true, 3: SI, or what is wrong with it. A number alone is for quantities without a unit.
Result<double> read_value(const program::Program& program, program::VarId id, const Json& value);

/// {"si": 353.15, "read": "80 degC"}; si is null where it is no finite number.
Json value_of(const program::Program& program, program::VarId id, double value);

/// Those that fit: a name, or a pattern in which * stands for anything. Only what has a name for people.
Result<std::vector<program::VarId>> named(const program::Program& program, const Json& names);

}  // namespace isodyne::remote
