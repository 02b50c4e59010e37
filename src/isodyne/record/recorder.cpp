#include "isodyne/record/recorder.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <map>
#include <set>

#include <fcntl.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/record/h5.h"
#include "isodyne/record/rows.h"

namespace isodyne::record {

namespace {

constexpr hsize_t kChunkRows = 2048;

Handle text_type(std::size_t bytes) {
  Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
  H5Tset_size(type.get(), std::max<std::size_t>(1, bytes));
  H5Tset_cset(type.get(), H5T_CSET_UTF8);
  H5Tset_strpad(type.get(), H5T_STR_NULLPAD);
  return type;
}

bool attribute(hid_t object, const char* name, hid_t type, const void* value) {
  const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
  const Handle made(H5Acreate2(object, name, type, space.get(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
  return made.good() && H5Awrite(made.get(), type, value) >= 0;
}

bool attribute(hid_t object, const char* name, const std::string& value) {
  // HDF5 attributes end at 64 KiB; nothing that long is written here.
  const std::string kept = value.empty() ? std::string(1, '\0') : value.substr(0, 60000);
  return attribute(object, name, text_type(kept.size()).get(), kept.data());
}

bool attribute(hid_t object, const char* name, double value) {
  return attribute(object, name, H5T_NATIVE_DOUBLE, &value);
}
bool attribute(hid_t object, const char* name, std::int64_t value) {
  return attribute(object, name, H5T_NATIVE_INT64, &value);
}

Handle dataset_settings(bool chunked) {
  Handle settings(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
  H5Pset_obj_track_times(settings.get(), false);  // no wall-clock time in the file
  if (chunked) H5Pset_chunk(settings.get(), 1, &kChunkRows);
  return settings;
}

Handle group(hid_t where, const char* name) {
  const Handle settings(H5Pcreate(H5P_GROUP_CREATE), H5Pclose);
  H5Pset_obj_track_times(settings.get(), false);
  return {H5Gcreate2(where, name, H5P_DEFAULT, settings.get(), H5P_DEFAULT), H5Gclose};
}

/// A growing one-dimensional dataset.
Handle column(hid_t where, const char* name, hid_t type) {
  const hsize_t none = 0, any = H5S_UNLIMITED;
  const Handle space(H5Screate_simple(1, &none, &any), H5Sclose);
  const Handle settings = dataset_settings(true);
  return {H5Dcreate2(where, name, type, space.get(), H5P_DEFAULT, settings.get(), H5P_DEFAULT), H5Dclose};
}

bool append(const Handle& dataset, hid_t type, hsize_t before, hsize_t count, const void* rows) {
  const hsize_t after = before + count;
  if (H5Dset_extent(dataset.get(), &after) < 0) return false;
  const Handle file_space(H5Dget_space(dataset.get()), H5Sclose);
  H5Sselect_hyperslab(file_space.get(), H5S_SELECT_SET, &before, nullptr, &count, nullptr);
  const Handle memory(H5Screate_simple(1, &count, nullptr), H5Sclose);
  return H5Dwrite(dataset.get(), type, memory.get(), file_space.get(), H5P_DEFAULT, rows) >= 0;
}

bool write_source(hid_t where, const std::string& name, const std::string& text) {
  const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
  const Handle settings = dataset_settings(false);
  const Handle type = text_type(text.size());
  const Handle made(H5Dcreate2(where, name.c_str(), type.get(), space.get(), H5P_DEFAULT, settings.get(), H5P_DEFAULT),
                    H5Dclose);
  const std::string content = text.empty() ? std::string(1, '\0') : text;
  return made.good() && H5Dwrite(made.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, content.data()) >= 0;
}

template <std::size_t N>
void copy_text(char (&to)[N], const std::string& text) {
  std::size_t length = std::min(N, text.size());
  // Never end inside a character.
  while (length < text.size() && length > 0 && (static_cast<unsigned char>(text[length]) & 0xC0u) == 0x80u) --length;
  std::memset(to, 0, N);
  std::memcpy(to, text.data(), length);
}

}  // namespace

struct Recorder::Files {
  Handle file, time, events, event_type;
  std::vector<Handle> columns;
  hsize_t rows = 0, event_rows = 0;
  int space = -1;  ///< the same file, to reserve room in it

  Files() = default;
  Files(const Files&) = delete;
  Files& operator=(const Files&) = delete;
  ~Files() {
    if (space >= 0) ::close(space);
  }
};

std::vector<model::VarId> recorded_variables(const model::Program& program) {
  std::set<model::VarId> changed;  // parameters that a scenario or a fault may change
  for (const model::Tap& tap : program.taps) changed.insert(tap.target);
  for (const model::Scenario& s : program.scenarios) {
    for (const model::ScenarioStep& step : s.steps) changed.insert(step.target);
  }
  std::vector<model::VarId> ids;
  for (const model::VarId id : program.listed) {
    const model::Role role = program.variable(id).role;
    const bool constant = role == model::Role::param || role == model::Role::fixed_param;
    if (role == model::Role::time || role == model::Role::hidden || role == model::Role::measure ||
        (constant && !changed.contains(id)))
      continue;
    ids.push_back(id);
  }
  return ids;
}

Recorder::Recorder(std::string file, std::shared_ptr<const model::Program> program)
    : file_(std::move(file)),
      program_(std::move(program)),
      h5_(std::make_unique<Files>()),
      columns_(recorded_variables(*program_)) {
  times_.reserve(kRowsPerFlush + 1);
  values_.resize(columns_.size());
  for (auto& v : values_) v.reserve(kRowsPerFlush + 1);
}

Recorder::~Recorder() = default;

Result<std::unique_ptr<Recorder>> Recorder::create(const std::string& file,
                                                   std::shared_ptr<const model::Program> program,
                                                   const RunIdentity& identity) {
  quiet_hdf5();
  std::unique_ptr<Recorder> r(new Recorder(file, std::move(program)));
  errno = 0;
  // The form of HDF5 1.8: its object headers have check sums, so that a reader notices damage instead of following it
  // (the older form made the library read memory that was not its own). The form of 1.10 would have a flag that makes
  // plain readers refuse the file after a kill.
  const Handle form(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
  H5Pset_libver_bounds(form.get(), H5F_LIBVER_V18, H5F_LIBVER_V18);
  const Handle creation(H5Pcreate(H5P_FILE_CREATE), H5Pclose);
  H5Pset_obj_track_times(creation.get(), false);  // of the group that every file has
  r->h5_->file = Handle(H5Fcreate(file.c_str(), H5F_ACC_EXCL, creation.get(), form.get()), H5Fclose);
  if (!r->h5_->file.good()) return Failure{"cannot create the recording", file, std::strerror(errno)};
  r->h5_->space = ::open(file.c_str(), O_WRONLY | O_CLOEXEC);
  if (r->h5_->space < 0) return Failure{"cannot create the recording", file, std::strerror(errno)};
  if (!r->reserve()) return r->trouble_;
  const hid_t root = r->h5_->file.get();
  std::string faults;
  for (const std::string& f : identity.faults) faults += (faults.empty() ? "" : ",") + f;
  const model::Program& p = *r->program_;
  bool good =
      attribute(root, "format", std::string("isodyne recording")) &&
      attribute(root, "format_version", std::int64_t{1}) && attribute(root, "isodyne_version", identity.version) &&
      attribute(root, "bench", p.name) && attribute(root, "bench_file", identity.main) &&
      attribute(root, "scenario", identity.scenario) && attribute(root, "harness", identity.harness) &&
      attribute(root, "faults", faults) && attribute(root, "setting", identity.setting) &&
      attribute(root, "for", identity.longest) && attribute(root, "pace", identity.pace) &&
      attribute(root, "seed", std::to_string(identity.seed)) && attribute(root, "step_ns", p.step.count()) &&
      attribute(root, "record_period_ns", p.record_period.count()) && attribute(root, "method", identity.method);
  const Handle sources = group(root, "sources");
  for (std::size_t i = 0; good && i < identity.sources.size(); ++i) {
    // A slash would make groups of the name's folders.
    std::string name = identity.sources[i].first;
    std::replace(name.begin(), name.end(), '/', '|');
    good = write_source(sources.get(), name, identity.sources[i].second);
  }
  good = good && r->create_signals() && H5Fflush(root, H5F_SCOPE_GLOBAL) >= 0;
  if (!good) {
    r->fail(errno);
    return r->trouble_;
  }
  return r;
}

bool Recorder::create_signals() {
  const hid_t root = h5_->file.get();
  const Handle signals = group(root, "signals");
  h5_->time = column(root, "time_ns", H5T_NATIVE_INT64);
  bool good = h5_->time.good() && attribute(h5_->time.get(), "unit", std::string("ns"));
  for (const model::VarId id : columns_) {
    const model::Variable& v = program_->variable(id);
    Handle made = column(signals.get(), v.name.c_str(), H5T_NATIVE_DOUBLE);
    const bool real = v.type.kind == model::Type::Kind::real;
    good = good && made.good() &&
           attribute(made.get(), "unit", real ? si_text(v.type.dimension) : program_->type_text(v)) &&
           attribute(made.get(), "read_in", v.unit.text) && attribute(made.get(), "read_factor", v.unit.factor) &&
           attribute(made.get(), "read_offset", v.unit.offset) && attribute(made.get(), "description", v.doc) &&
           attribute(made.get(), "source", program_->sources->place(v.span));
    h5_->columns.push_back(std::move(made));
  }
  h5_->event_type = event_row_type();
  h5_->events = column(root, "events", h5_->event_type.get());
  return good && h5_->events.good();
}

void Recorder::image(const bench::Image& image) {
  if (image.at < next_ || image.at.count() % program_->record_period.count() != 0) return;
  next_ = image.at + program_->record_period;
  take(image.at, image.variables);
}

void Recorder::last_image(const bench::Image& image) {
  if (image.at > taken_at_) take(image.at, image.variables);
}

void Recorder::take(Time at, const double* variables) {
  taken_at_ = at;
  times_.push_back(at.count());
  for (std::size_t c = 0; c < columns_.size(); ++c) values_[c].push_back(variables[columns_[c]]);
  if (times_.size() >= kRowsPerFlush) flush();
}

void Recorder::event(const bench::Event& event) {
  events_.push_back(event);
  if (events_.size() >= kRowsPerFlush) flush();
}

void Recorder::fail(int reason) {
  if (good_) trouble_ = {"cannot write the recording", file_, reason != 0 ? std::strerror(reason) : "HDF5 refused"};
  good_ = false;
}

/// Makes sure that the disk has room for all that the next flush and the closing may write. HDF5 itself
/// would notice a full disk only after it has changed the head of the file.
bool Recorder::reserve() {
  constexpr hsize_t kForStructure = 512 * 1024;
  const hsize_t for_values = (columns_.size() + 1) * (kChunkRows + 2 * kRowsPerFlush) * sizeof(double);
  const hsize_t for_events = (kChunkRows + 2 * kRowsPerFlush) * sizeof(EventRow);
  haddr_t end = 0;
  if (H5Fget_eoa(h5_->file.get(), &end) < 0) return fail(0), false;
  const int reason = posix_fallocate(h5_->space, 0, static_cast<off_t>(end + for_values + for_events + kForStructure));
  if (reason != 0) fail(reason);
  return reason == 0;
}

std::vector<EventRow> Recorder::event_rows() const {
  std::vector<EventRow> rows;
  for (const bench::Event& e : events_) {
    EventRow row{};
    row.time_ns = e.at.count();
    copy_text(row.kind, bench::event_word(e.kind));
    copy_text(row.subject, bench::subject_text(*program_, e));
    copy_text(row.text, bench::event_text(*program_, e));
    rows.push_back(row);
  }
  return rows;
}

void Recorder::flush() {
  if (!good_ || !reserve()) return;
  errno = 0;
  bool good = true;
  const hsize_t rows = times_.size();
  // Values before times: a reader takes as many rows as there are times.
  for (std::size_t c = 0; good && rows > 0 && c < columns_.size(); ++c) {
    good = append(h5_->columns[c], H5T_NATIVE_DOUBLE, h5_->rows, rows, values_[c].data());
    values_[c].clear();
  }
  if (good && rows > 0) good = append(h5_->time, H5T_NATIVE_INT64, h5_->rows, rows, times_.data());
  times_.clear();
  h5_->rows += rows;
  const std::vector<EventRow> lines = event_rows();
  events_.clear();
  if (good && !lines.empty())
    good = append(h5_->events, h5_->event_type.get(), h5_->event_rows, lines.size(), lines.data());
  h5_->event_rows += lines.size();
  if (good && H5Fflush(h5_->file.get(), H5F_SCOPE_GLOBAL) >= 0) return;
  whole_ = false;
  fail(errno);
}

Status Recorder::close(bench::Ending ending) {
  flush();
  const bench::Ending told = good_ ? ending : bench::Ending::not_recorded;
  errno = 0;
  if (whole_ && (!attribute(h5_->file.get(), "ending", std::string(bench::ending_word(told))) ||
                 H5Fflush(h5_->file.get(), H5F_SCOPE_GLOBAL) < 0)) {
    whole_ = false;
    fail(errno);
  }
  if (!whole_) {
    // What was flushed before is whole; closing would write the structure for what was not.
    h5_->file.abandon();
    h5_->time.abandon();
    h5_->events.abandon();
    for (Handle& c : h5_->columns) c.abandon();
  } else {
    haddr_t end = 0;
    H5Fget_eoa(h5_->file.get(), &end);
    const int space = std::exchange(h5_->space, -1);
    h5_ = std::make_unique<Files>();
    if (ftruncate(space, static_cast<off_t>(end)) != 0) fail(errno);  // gives back what was reserved
    ::close(space);
  }
  h5_ = std::make_unique<Files>();
  if (!good_) return trouble_;
  return Done{};
}

}  // namespace isodyne::record
