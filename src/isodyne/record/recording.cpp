#include "isodyne/record/recording.h"

#include <algorithm>
#include <charconv>
#include <cstring>
#include <filesystem>

#include "isodyne/record/h5.h"
#include "isodyne/record/rows.h"

namespace isodyne::record {

namespace {

constexpr hsize_t kMostRows = 1'000'000'000;
constexpr std::size_t kMostSourceBytes = 64u << 20;

std::optional<std::string> text_attribute(hid_t object, const char* name) {
  const Handle attribute(H5Aopen(object, name, H5P_DEFAULT), H5Aclose);
  if (!attribute.good()) return std::nullopt;
  const Handle type(H5Aget_type(attribute.get()), H5Tclose);
  if (H5Tget_class(type.get()) != H5T_STRING || H5Tis_variable_str(type.get()) > 0) return std::nullopt;
  const Handle space(H5Aget_space(attribute.get()), H5Sclose);
  if (H5Sget_simple_extent_npoints(space.get()) != 1) return std::nullopt;
  std::string text(H5Tget_size(type.get()), '\0');
  if (H5Aread(attribute.get(), type.get(), text.data()) < 0) return std::nullopt;
  text.resize(std::min(text.size(), text.find('\0')));
  return text;
}

std::optional<double> number_attribute(hid_t object, const char* name) {
  const Handle attribute(H5Aopen(object, name, H5P_DEFAULT), H5Aclose);
  double value = 0;
  if (!attribute.good() || H5Aread(attribute.get(), H5T_NATIVE_DOUBLE, &value) < 0) return std::nullopt;
  return value;
}

/// Number of rows of a one-dimensional dataset; nothing if it is anything else.
std::optional<hsize_t> rows_of(hid_t dataset) {
  const Handle space(H5Dget_space(dataset), H5Sclose);
  hsize_t rows = 0;
  if (H5Sget_simple_extent_ndims(space.get()) != 1 || H5Sget_simple_extent_dims(space.get(), &rows, nullptr) < 0)
    return std::nullopt;
  return rows > kMostRows ? std::nullopt : std::optional(rows);
}

bool read_first(hid_t dataset, hid_t type, hsize_t count, void* to) {
  if (count == 0) return true;
  const Handle space(H5Dget_space(dataset), H5Sclose);
  const hsize_t zero = 0;
  H5Sselect_hyperslab(space.get(), H5S_SELECT_SET, &zero, nullptr, &count, nullptr);
  const Handle memory(H5Screate_simple(1, &count, nullptr), H5Sclose);
  return H5Dread(dataset, type, memory.get(), space.get(), H5P_DEFAULT, to) >= 0;
}

std::string text_of(const char* from, std::size_t most) {
  return std::string(from, strnlen(from, most));
}

}  // namespace

struct Recording::Files {
  Handle file;
};

Recording::Recording() : h5_(std::make_unique<Files>()) {}
Recording::~Recording() = default;

Result<std::unique_ptr<Recording>> Recording::open(const std::string& file) {
  quiet_hdf5();
  std::error_code none;
  if (!std::filesystem::exists(file, none)) return Failure{"cannot open the recording", file, "no such file"};
  std::unique_ptr<Recording> r(new Recording);
  r->h5_->file = Handle(H5Fopen(file.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
  if (!r->h5_->file.good())
    return Failure{"cannot open the recording", file, "it is not an HDF5 file, or it is damaged"};
  if (text_attribute(r->h5_->file.get(), "format").value_or("") != "isodyne recording") {
    return Failure{"cannot open the recording", file, "it is an HDF5 file, but not a recording of Isodyne"};
  }
  const Handle time(H5Dopen2(r->h5_->file.get(), "/time_ns", H5P_DEFAULT), H5Dclose);
  const auto rows = time.good() ? rows_of(time.get()) : std::nullopt;
  bool good = rows.has_value();
  if (good) {
    r->times_.resize(*rows);
    good = read_first(time.get(), H5T_NATIVE_INT64, *rows, r->times_.data());
  }
  if (!good || !r->read_identity() || !r->read_sources() || !r->read_events()) {
    return Failure{"cannot read the recording", file, "parts of it are missing or damaged"};
  }
  return r;
}

Result<std::unique_ptr<Recording>> Recording::open_run(const std::string& path) {
  namespace fs = std::filesystem;
  std::error_code none;
  if (!fs::exists(path, none)) return Failure{"cannot open the run", path, "there is no such folder"};
  return open(fs::is_directory(path, none) ? (fs::path(path) / "recording.h5").string() : path);
}

bool Recording::read_identity() {
  const hid_t root = h5_->file.get();
  identity_.version = text_attribute(root, "isodyne_version").value_or("");
  identity_.main = text_attribute(root, "bench_file").value_or("");
  identity_.scenario = text_attribute(root, "scenario").value_or("");
  identity_.harness = text_attribute(root, "harness").value_or("");
  identity_.setting = text_attribute(root, "setting").value_or("");
  identity_.method = text_attribute(root, "method").value_or("");
  identity_.longest = text_attribute(root, "for").value_or("");
  identity_.pace = text_attribute(root, "pace").value_or("");
  ending_ = text_attribute(root, "ending").value_or("");
  const std::string seed = text_attribute(root, "seed").value_or("");
  std::from_chars(seed.data(), seed.data() + seed.size(), identity_.seed);
  std::string faults = text_attribute(root, "faults").value_or("");
  while (!faults.empty()) {
    const std::size_t comma = std::min(faults.find(','), faults.size());
    identity_.faults.push_back(faults.substr(0, comma));
    faults.erase(0, comma + 1);
  }
  return !identity_.main.empty();
}

bool Recording::read_sources() {
  const Handle group(H5Gopen2(h5_->file.get(), "/sources", H5P_DEFAULT), H5Gclose);
  H5G_info_t info{};
  if (!group.good() || H5Gget_info(group.get(), &info) < 0 || info.nlinks > 1000) return false;
  for (hsize_t i = 0; i < info.nlinks; ++i) {
    char name[512] = {};
    if (H5Lget_name_by_idx(group.get(), ".", H5_INDEX_NAME, H5_ITER_INC, i, name, sizeof name, H5P_DEFAULT) < 0)
      return false;
    const Handle dataset(H5Dopen2(group.get(), name, H5P_DEFAULT), H5Dclose);
    if (!dataset.good()) return false;
    const Handle type(H5Dget_type(dataset.get()), H5Tclose);
    if (H5Tget_class(type.get()) != H5T_STRING || H5Tget_size(type.get()) > kMostSourceBytes) return false;
    std::string text(H5Tget_size(type.get()), '\0');
    if (H5Dread(dataset.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, text.data()) < 0) return false;
    if (text.size() == 1 && text[0] == '\0') text.clear();
    std::string relative(name);
    std::replace(relative.begin(), relative.end(), '|', '/');
    identity_.sources.emplace_back(relative, std::move(text));
  }
  return true;
}

bool Recording::read_events() {
  const Handle dataset(H5Dopen2(h5_->file.get(), "/events", H5P_DEFAULT), H5Dclose);
  const auto rows = dataset.good() ? rows_of(dataset.get()) : std::nullopt;
  if (!rows) return false;
  std::vector<EventRow> lines(*rows);
  const Handle type = event_row_type();
  if (!read_first(dataset.get(), type.get(), *rows, lines.data())) return false;
  for (const EventRow& e : lines) {
    events_.push_back({Time{e.time_ns}, text_of(e.kind, sizeof e.kind), text_of(e.subject, sizeof e.subject),
                       text_of(e.text, sizeof e.text)});
  }
  return true;
}

std::optional<std::vector<double>> Recording::signal(const std::string& name) const {
  const Handle dataset(H5Dopen2(h5_->file.get(), ("/signals/" + name).c_str(), H5P_DEFAULT), H5Dclose);
  const auto rows = dataset.good() ? rows_of(dataset.get()) : std::nullopt;
  if (!rows || *rows < times_.size()) return std::nullopt;
  std::vector<double> values(times_.size());
  if (!read_first(dataset.get(), H5T_NATIVE_DOUBLE, values.size(), values.data())) return std::nullopt;
  return values;
}

bool Recording::has(const std::string& name) const {
  return H5Lexists(h5_->file.get(), ("/signals/" + name).c_str(), H5P_DEFAULT) > 0;
}

SignalUnit Recording::unit(const std::string& name) const {
  const Handle dataset(H5Dopen2(h5_->file.get(), ("/signals/" + name).c_str(), H5P_DEFAULT), H5Dclose);
  SignalUnit u;
  if (!dataset.good()) return u;
  u.si = text_attribute(dataset.get(), "unit").value_or("1");
  u.read_in = text_attribute(dataset.get(), "read_in").value_or("");
  u.factor = number_attribute(dataset.get(), "read_factor").value_or(1);
  u.offset = number_attribute(dataset.get(), "read_offset").value_or(0);
  return u;
}

std::vector<std::string> Recording::names() const {
  const Handle group(H5Gopen2(h5_->file.get(), "/signals", H5P_DEFAULT), H5Gclose);
  H5G_info_t info{};
  std::vector<std::string> all;
  if (!group.good() || H5Gget_info(group.get(), &info) < 0) return all;
  for (hsize_t i = 0; i < info.nlinks; ++i) {
    char name[512] = {};
    if (H5Lget_name_by_idx(group.get(), ".", H5_INDEX_NAME, H5_ITER_INC, i, name, sizeof name, H5P_DEFAULT) < 0) break;
    all.emplace_back(name);
  }
  return all;
}

}  // namespace isodyne::record
