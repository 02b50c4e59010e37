#pragma once
// The row of the events table, as it lies in memory and in the file.

#include <cstddef>
#include <cstdint>

#include "isodyne/record/h5.h"

namespace isodyne::record {

struct EventRow {
  std::int64_t time_ns;
  char kind[16];
  char subject[96];
  char text[200];
};

inline Handle event_row_type() {
  Handle row(H5Tcreate(H5T_COMPOUND, sizeof(EventRow)), H5Tclose);
  const auto text = [&](const char* name, std::size_t offset, std::size_t bytes) {
    const Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(type.get(), bytes);
    H5Tset_cset(type.get(), H5T_CSET_UTF8);
    H5Tset_strpad(type.get(), H5T_STR_NULLPAD);
    H5Tinsert(row.get(), name, offset, type.get());
  };
  H5Tinsert(row.get(), "time_ns", offsetof(EventRow, time_ns), H5T_NATIVE_INT64);
  text("kind", offsetof(EventRow, kind), sizeof(EventRow::kind));
  text("subject", offsetof(EventRow, subject), sizeof(EventRow::subject));
  text("text", offsetof(EventRow, text), sizeof(EventRow::text));
  return row;
}

}  // namespace isodyne::record
