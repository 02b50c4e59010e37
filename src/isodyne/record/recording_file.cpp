#include "isodyne/record/recording_file.h"

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include <fmt/format.h>

namespace isodyne::record {

namespace {

constexpr std::uint64_t kForStructure = 512 * 1024;
constexpr std::size_t kEndingBytes = 24;

Handle text_type(std::size_t bytes) {
  Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
  H5Tset_size(type.get(), std::max<std::size_t>(1, bytes));
  H5Tset_cset(type.get(), H5T_CSET_UTF8);
  H5Tset_strpad(type.get(), H5T_STR_NULLPAD);
  return type;
}

Handle new_attribute(hid_t object, const char* name, hid_t type) {
  const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
  return {H5Acreate2(object, name, type, space.get(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose};
}

bool attribute(hid_t object, const char* name, hid_t type, const void* value) {
  const Handle made = new_attribute(object, name, type);
  return made.good() && H5Awrite(made.get(), type, value) >= 0;
}

constexpr std::size_t kLongestText = 60'000;  // HDF5 attributes end at 64 KiB

bool attribute(hid_t object, const char* name, const std::string& value) {
  const std::string kept = value.empty() ? std::string(1, '\0') : value.substr(0, kLongestText);
  return attribute(object, name, text_type(kept.size()).get(), kept.data());
}

bool attribute(hid_t object, const char* name, double value) {
  return attribute(object, name, H5T_NATIVE_DOUBLE, &value);
}
bool attribute(hid_t object, const char* name, std::int64_t value) {
  return attribute(object, name, H5T_NATIVE_INT64, &value);
}

Handle dataset_settings() {
  Handle settings(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
  H5Pset_obj_track_times(settings.get(), false);  // no wall-clock time in the file
  return settings;
}

Handle group_at(hid_t where, const char* name) {
  const Handle settings(H5Pcreate(H5P_GROUP_CREATE), H5Pclose);
  H5Pset_obj_track_times(settings.get(), false);
  return {H5Gcreate2(where, name, H5P_DEFAULT, settings.get(), H5P_DEFAULT), H5Gclose};
}

/// A growing one-dimensional dataset.
Handle column(hid_t where, const std::string& name, hid_t type, hsize_t chunk, bool shuffled, bool deflated) {
  const hsize_t none = 0, any = H5S_UNLIMITED;
  const Handle space(H5Screate_simple(1, &none, &any), H5Sclose);
  const Handle settings = dataset_settings();
  H5Pset_chunk(settings.get(), 1, &chunk);
  H5Pset_fill_time(settings.get(), H5D_FILL_TIME_NEVER);
  if (shuffled) H5Pset_shuffle(settings.get());
  if (deflated) H5Pset_deflate(settings.get(), 1);
  return {H5Dcreate2(where, name.c_str(), type, space.get(), H5P_DEFAULT, settings.get(), H5P_DEFAULT), H5Dclose};
}

bool write_text(hid_t where, const std::string& name, const std::string& text) {
  const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
  const Handle settings = dataset_settings();
  const Handle type = text_type(text.size());
  const Handle made(H5Dcreate2(where, name.c_str(), type.get(), space.get(), H5P_DEFAULT, settings.get(), H5P_DEFAULT),
                    H5Dclose);
  const std::string content = text.empty() ? std::string(1, '\0') : text;
  return made.good() && H5Dwrite(made.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, content.data()) >= 0;
}

}  // namespace

struct RecordingFile::Group {
  std::vector<Handle> columns;  ///< the times first
  std::size_t value_bytes = 8;
  std::uint64_t rows = 0, chunk_bytes = 0;
};

std::size_t GroupHead::chunk_rows() const {
  if (judged) return 512;
  return period >= std::chrono::milliseconds(10) ? 256 : period >= std::chrono::microseconds(100) ? 2048 : 8192;
}

std::string begun_name(const std::string& file) {
  return file + ".begun";
}

RecordingFile::RecordingFile(std::string file, RecordingHead head) : file_(std::move(file)), head_(std::move(head)) {}

RecordingFile::~RecordingFile() {
  if (!h5_.good()) return;
  // Never closed, as after an exception: what was written before is whole, and the tail, which stays, says the rest.
  groups_.clear();
  for (Handle* h : {&events_, &ending_, &h5_}) h->reset();
}

Result<std::unique_ptr<RecordingFile>> RecordingFile::create(const std::string& file, RecordingHead head) {
  quiet_hdf5();
  std::unique_ptr<RecordingFile> r(new RecordingFile(file, std::move(head)));
  // The form of HDF5 1.8: its object headers have check sums, so that a reader notices damage instead of following it
  // (the older form made the library read memory that was not its own). The form of 1.10 would have a flag that makes
  // plain readers refuse the file after a kill.
  const Handle access = access_with_places(r->places_);
  H5Pset_libver_bounds(access.get(), H5F_LIBVER_V18, H5F_LIBVER_V18);
  H5Pset_meta_block_size(access.get(), 64 * 1024);
  const Handle creation(H5Pcreate(H5P_FILE_CREATE), H5Pclose);
  H5Pset_obj_track_times(creation.get(), false);  // of the group that every file has
  std::error_code none;
  if (std::filesystem::exists(file, none)) return Failure{"cannot create the recording", file, std::strerror(EEXIST)};
  // Under another name until there is something that can be read: a kill leaves a recording, or none.
  const std::string begun = begun_name(file);
  errno = 0;
  r->h5_ = Handle(H5Fcreate(begun.c_str(), H5F_ACC_TRUNC, creation.get(), access.get()), H5Fclose);
  if (!r->h5_.good()) return Failure{"cannot create the recording", file, std::strerror(errno)};
  if (!r->create_all() || H5Fflush(r->h5_.get(), H5F_SCOPE_GLOBAL) < 0) {
    r->fail(errno);
    std::filesystem::remove(begun, none);
    return r->trouble_;
  }
  const Status tail = r->tail_.create(tail_of(file));
  if (!tail) return tail.failure();
  if (std::rename(begun.c_str(), file.c_str()) != 0)
    return Failure{"cannot create the recording", file, std::strerror(errno)};
  const auto& groups = r->head_.groups;
  const bool large = std::any_of(groups.begin(), groups.end(), [](const GroupHead& g) {
    return g.chunk_rows() * (g.single ? 4 : 8) >= DiskStream::kWorthIt;
  });
  if (large) r->places_.stream.begin(file, r->places_.descriptor);
  return r;
}

bool RecordingFile::create_all() {
  const RunIdentity& i = head_.identity;
  std::uint64_t texts = i.state.size();
  for (const auto& [name, text] : i.sources) texts += text.size() + 4096;
  for (const GroupHead& g : head_.groups) {
    texts += (g.columns.size() + 1) * 2048;  // their heads
    closing_bytes_ += (g.columns.size() + 1) * g.chunk_rows() * 8;
  }
  closing_bytes_ += kForStructure + kEventsPerChunk * sizeof(EventRow);
  if (!reserve(texts)) return false;
  const hid_t root = h5_.get();
  bool good = attribute(root, "format", std::string("isodyne recording")) &&
              attribute(root, "format_version", std::int64_t{2}) && attribute(root, "bench", head_.bench) &&
              attribute(root, "step_ns", head_.step.count()) &&
              attribute(root, "record_period_ns", head_.groups.front().period.count());
  for (const IdentityField& f : identity_fields()) {
    const std::string text = f.text(i);
    if (text.size() > kLongestText) return false;  // cut, it would be another run's
    if (!f.rare || !text.empty()) good = good && attribute(root, f.key, text);
  }
  // There from the beginning, so that the head of the file keeps its size.
  const std::string unknown(kEndingBytes, '\0');
  ending_ = new_attribute(root, "ending", text_type(kEndingBytes).get());
  good = good && ending_.good() && H5Awrite(ending_.get(), text_type(kEndingBytes).get(), unknown.data()) >= 0;
  const Handle sources = group_at(root, "sources");
  for (std::size_t k = 0; good && k < i.sources.size(); ++k) {
    // A slash would make groups of the name's folders.
    std::string name = i.sources[k].first;
    std::replace(name.begin(), name.end(), '/', '|');
    good = write_text(sources.get(), name, i.sources[k].second);
  }
  if (good && !i.state.empty()) good = write_text(root, "state", i.state);
  for (std::size_t g = 0; good && g < head_.groups.size(); ++g) good = create_group(g);
  event_type_ = event_row_type();
  events_ = column(root, "events", event_type_.get(), kEventsPerChunk, false, true);
  return good && events_.good();
}

bool RecordingFile::create_group(std::size_t index) {
  const GroupHead& head = head_.groups[index];
  const auto made = std::make_unique<Group>().release();
  groups_.emplace_back(made);
  const hsize_t chunk = head.chunk_rows();
  made->value_bytes = head.single ? 4 : 8;
  made->chunk_bytes = chunk * (8 + made->value_bytes * head.columns.size());
  const std::string path = index == 0 ? "/" : "/rates/" + head.name;
  if (index == 1 && !group_at(h5_.get(), "rates").good()) return false;
  const Handle where =
      index == 0 ? Handle(H5Gopen2(h5_.get(), "/", H5P_DEFAULT), H5Gclose) : group_at(h5_.get(), path.c_str());
  const Handle signals = index == 0 ? group_at(where.get(), "signals") : Handle();
  const hid_t place = index == 0 ? signals.get() : where.get();
  const std::string time_path = (index == 0 ? "" : path) + "/time_ns";
  made->columns.push_back(column(where.get(), "time_ns", H5T_STD_I64LE, chunk, head.compressed, head.compressed));
  bool good = made->columns.back().good() && attribute(made->columns.back().get(), "unit", std::string("ns"));
  if (index > 0) {
    good = good && attribute(where.get(), "period_ns", head.period.count()) &&
           attribute(where.get(), "kept", head.kept) &&
           attribute(where.get(), "judged", static_cast<std::int64_t>(head.judged)) &&
           attribute(where.get(), "number", static_cast<std::int64_t>(index));
  }
  for (const ColumnHead& c : head.columns) {
    Handle dataset =
        column(place, c.name, head.single ? H5T_IEEE_F32LE : H5T_IEEE_F64LE, chunk, head.compressed, head.compressed);
    good = good && dataset.good() && attribute(dataset.get(), "unit", c.unit) &&
           attribute(dataset.get(), "read_in", c.read_in) && attribute(dataset.get(), "read_factor", c.factor) &&
           attribute(dataset.get(), "read_offset", c.offset) &&
           attribute(dataset.get(), "description", c.description) && attribute(dataset.get(), "source", c.source) &&
           attribute(dataset.get(), "between", std::string(c.held ? "held" : "line")) &&
           attribute(dataset.get(), "time", time_path) &&
           attribute(dataset.get(), "column", static_cast<std::int64_t>(made->columns.size()) - 1);
    made->columns.push_back(std::move(dataset));
  }
  return good;
}

void RecordingFile::fail(int reason) {
  if (good_) trouble_ = {"cannot write the recording", file_, reason != 0 ? std::strerror(reason) : "HDF5 refused"};
  good_ = false;
}

/// So many bytes, and whatever closing the file would need at any time.
bool RecordingFile::reserve(std::uint64_t bytes) {
  const int reason = places_.reserve(bytes + closing_bytes_);
  if (reason != 0) fail(reason);
  return reason == 0;
}

bool RecordingFile::write_block(std::size_t group, const Block& block, std::vector<ChunkPlace>& places) {
  Group& g = *groups_[group];
  const std::size_t room = block.times.size();
  const hsize_t first = g.rows, after = first + block.rows.load(std::memory_order_relaxed);
  const bool packed = head_.groups[group].compressed;
  const auto write = [&](Handle& dataset, const void* from, std::size_t size) {
    std::size_t bytes = room * size;
    if (packed) {
      const auto stream = planes_.compress(from, room, size);
      from = stream.data();
      bytes = stream.size();
    }
    if (H5Dset_extent(dataset.get(), &after) < 0 ||
        H5Dwrite_chunk(dataset.get(), H5P_DEFAULT, 0, &first, bytes, from) < 0)
      return false;
    places.push_back({places_.raw_at, static_cast<std::uint32_t>(bytes), packed ? 1u : 0u});
    return true;
  };
  errno = 0;
  if (!write(g.columns[0], block.times.data(), 8)) return false;
  for (std::size_t c = 1; c < g.columns.size(); ++c) {
    const void* from = block.column(c - 1);
    if (g.value_bytes == 4) {
      singles_.resize(room);
      std::transform(block.column(c - 1), block.column(c - 1) + room, singles_.begin(),
                     [](double x) { return static_cast<float>(x); });
      from = singles_.data();
    }
    if (!write(g.columns[c], from, g.value_bytes)) return false;
  }
  g.rows = after;
  return true;
}

void RecordingFile::chunk(std::size_t group, const Block& block) {
  if (!good_ || !reserve(groups_[group]->chunk_bytes + groups_[group]->columns.size() * 256)) return;
  Chunk made{static_cast<std::uint32_t>(group),
             static_cast<std::uint32_t>(block.rows.load(std::memory_order_relaxed)),
             groups_[group]->rows,
             {}};
  whole_ = write_block(group, block, made.places);
  if (!whole_) return fail(errno);
  in_flight_.push_back(std::move(made));
}

/// What is under way is on the disk then.
bool RecordingFile::settle() {
  if (in_flight_.empty()) return true;
  errno = places_.stream.drain();
  whole_ = errno == 0;
  if (!whole_) return fail(errno), false;
  for (const Chunk& c : in_flight_) {
    if (!tail_.chunk(c.group, c.first, c.rows, c.places)) return fail(errno), false;
  }
  in_flight_.clear();
  return true;
}

bool RecordingFile::rows(std::size_t group, const Block& block, std::size_t from, std::size_t to) {
  if (!good_ || block.first != groups_[group]->rows || !settle()) return false;
  if (!tail_.rows(static_cast<std::uint32_t>(group), block, from, to)) fail(errno);
  return good_;
}

bool RecordingFile::write_events(std::size_t count) {
  const hsize_t before = event_rows_, rows = count, after = before + rows;
  errno = 0;
  if (H5Dset_extent(events_.get(), &after) < 0) return false;
  const Handle file_space(H5Dget_space(events_.get()), H5Sclose);
  H5Sselect_hyperslab(file_space.get(), H5S_SELECT_SET, &before, nullptr, &rows, nullptr);
  const Handle memory(H5Screate_simple(1, &rows, nullptr), H5Sclose);
  if (H5Dwrite(events_.get(), event_type_.get(), memory.get(), file_space.get(), H5P_DEFAULT, waiting_.data()) < 0)
    return false;
  waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(count));
  event_rows_ = after;
  return true;
}

void RecordingFile::events(const std::vector<EventRow>& rows) {
  if (!good_ || rows.empty()) return;
  const std::uint64_t first = event_rows_ + waiting_.size();
  if (!tail_.events(first, rows)) return fail(errno);
  waiting_.insert(waiting_.end(), rows.begin(), rows.end());
  while (good_ && waiting_.size() >= kEventsPerChunk && reserve(kEventsPerChunk * sizeof(EventRow))) {
    if (write_events(kEventsPerChunk)) continue;
    whole_ = false;
    fail(errno);
  }
}

void RecordingFile::flush() {
  if (good_ && settle() && H5Fflush(h5_.get(), H5F_SCOPE_GLOBAL) < 0) {
    whole_ = false;
    fail(errno);
  }
}

Status RecordingFile::close(const std::string& ending, const std::vector<Block*>& rest) {
  // Room for it was reserved from the beginning: it is written even when the disk is full.
  for (std::size_t g = 0; whole_ && g < rest.size(); ++g) {
    std::vector<ChunkPlace> places;
    if (rest[g] == nullptr || rest[g]->rows.load() == 0) continue;
    rest[g]->clear_rest();
    whole_ = write_block(g, *rest[g], places);
  }
  if (whole_ && !waiting_.empty()) whole_ = write_events(waiting_.size());
  if (whole_) {
    errno = places_.stream.drain();
    whole_ = errno == 0;
  }
  std::string text = ending;
  text.resize(kEndingBytes, '\0');
  whole_ = whole_ && H5Awrite(ending_.get(), text_type(kEndingBytes).get(), text.data()) >= 0 &&
           H5Fflush(h5_.get(), H5F_SCOPE_GLOBAL) >= 0;
  if (!whole_) {
    fail(errno);
    // What was flushed before is whole; closing would write the structure for what was not. The tail stays.
    for (const auto& g : groups_) {
      for (Handle& c : g->columns) c.abandon();
    }
    for (Handle* h : {&events_, &ending_, &h5_}) h->abandon();
    return trouble_;
  }
  groups_.clear();
  events_.reset();
  ending_.reset();
  errno = 0;
  const bool closed = H5Fclose(h5_.get()) >= 0;
  h5_.abandon();
  if (!closed) fail(errno);
  if (closed) tail_.remove();
  if (!good_) return trouble_;
  return Done{};
}

}  // namespace isodyne::record
