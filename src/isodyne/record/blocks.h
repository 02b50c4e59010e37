#pragma once
// What passes between the recorder and the file: blocks of rows, and the rows of the events table.

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <string>
#include <vector>

#include "isodyne/record/h5.h"

namespace isodyne::record {

/// Rows of one group of signals, as many as a chunk of the file at most. One thread fills it while another may already
/// read the rows below `rows`.
struct Block {
  /// Without columns there is still a place that they could begin at.
  Block(std::size_t room, std::size_t columns) : times(room), stride_(room + kApart), values_(stride_ * columns + 1) {}

  std::uint64_t first = 0;  ///< number of its first row in the group
  std::vector<std::int64_t> times;
  std::atomic<std::size_t> rows{0};

  double* column(std::size_t c) { return values_.data() + c * stride_; }
  const double* column(std::size_t c) const { return values_.data() + c * stride_; }
  std::size_t columns() const { return values_.size() / stride_; }
  /// From a value of a column to that of the next column in the same row.
  std::size_t stride() const { return stride_; }

  /// Nothing beyond the rows: the same rows give the same bytes.
  void clear_rest() {
    const auto from = static_cast<std::ptrdiff_t>(rows.load());
    std::fill(times.begin() + from, times.end(), 0);
    for (std::size_t c = 0; c < columns(); ++c) std::fill(column(c) + from, column(c) + times.size(), 0.0);
  }

 private:
  /// Columns that lie a power of two apart would push each other out of the cache, row by row.
  static constexpr std::size_t kApart = 24;
  std::size_t stride_;
  std::vector<double> values_;
};

struct EventRow {
  std::int64_t time_ns;
  double value;  ///< what observe::Event::value says
  char kind[16];
  char subject[96];
  char text[200];
};

/// As much of a text as there is room for.
template <std::size_t N>
void copy_text(char (&to)[N], const std::string& text) {
  std::size_t length = std::min(N, text.size());
  // Never end inside a character.
  while (length < text.size() && length > 0 && (static_cast<unsigned char>(text[length]) & 0xC0u) == 0x80u) --length;
  std::memset(to, 0, N);
  std::memcpy(to, text.data(), length);
}

inline EventRow event_row(std::int64_t time_ns, double value, const std::string& kind, const std::string& subject,
                          const std::string& text) {
  EventRow row{};
  row.time_ns = time_ns;
  row.value = value;
  copy_text(row.kind, kind);
  copy_text(row.subject, subject);
  copy_text(row.text, text);
  return row;
}

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
  H5Tinsert(row.get(), "value", offsetof(EventRow, value), H5T_NATIVE_DOUBLE);
  text("kind", offsetof(EventRow, kind), sizeof(EventRow::kind));
  text("subject", offsetof(EventRow, subject), sizeof(EventRow::subject));
  text("text", offsetof(EventRow, text), sizeof(EventRow::text));
  return row;
}

}  // namespace isodyne::record
