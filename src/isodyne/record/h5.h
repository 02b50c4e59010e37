#pragma once
// Owning handles for HDF5 objects, and its error reports switched off (we make our own).

#include <utility>

#include <hdf5.h>

namespace isodyne::record {

/// Closes an HDF5 identifier with the function that fits its kind.
class Handle {
 public:
  Handle() = default;
  Handle(hid_t id, herr_t (*close)(hid_t)) : id_(id), close_(close) {}
  Handle(Handle&& other) noexcept : id_(std::exchange(other.id_, -1)), close_(other.close_) {}
  Handle& operator=(Handle&& other) noexcept {
    std::swap(id_, other.id_);
    std::swap(close_, other.close_);
    return *this;
  }
  Handle(const Handle&) = delete;
  Handle& operator=(const Handle&) = delete;
  ~Handle() { reset(); }

  void reset() {
    if (id_ >= 0) close_(id_);
    id_ = -1;
  }
  /// Gives the identifier up without closing it.
  void abandon() { id_ = -1; }
  hid_t get() const { return id_; }
  bool good() const { return id_ >= 0; }

 private:
  hid_t id_ = -1;
  herr_t (*close_)(hid_t) = nullptr;
};

/// Call before the first HDF5 call of a thread that reads or writes recordings.
inline void quiet_hdf5() {
  H5dont_atexit();  // after a full disk, HDF5's own last flush would make a torn file of a whole one
  H5open();
  H5PLset_loading_state(0);  // a file must not bring code along as a filter
  H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
}

}  // namespace isodyne::record
