#pragma once
// Rows of one-dimensional datasets of a file that may come from anywhere.
//
// The HDF5 library trusts what a file says of its chunks: of one that is shorter than it should be it reads on into
// whatever lies behind it in memory, and that would be values. So chunks are taken as they are and unpacked here, each
// only if it is as long as its rows are.

#include <optional>

#include "isodyne/record/h5.h"

namespace isodyne::record {

constexpr hsize_t kMostRows = 4'000'000'000;

/// Number of rows; nothing if it has other dimensions, or says more than what is stored could hold.
std::optional<hsize_t> rows_of(hid_t dataset);

/// Rows [first, first + count) as `memory_type`; false if one of them is damaged, missing, or packed in another way
/// than recordings are.
bool read_rows(hid_t dataset, hid_t memory_type, hsize_t first, hsize_t count, void* to);

}  // namespace isodyne::record
