#include "isodyne/record/recording.h"

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cmath>
#include <csignal>
#include <cstring>
#include <filesystem>
#include <functional>
#include <thread>

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include "isodyne/record/blocks.h"
#include "isodyne/record/h5.h"
#include "isodyne/record/stored_rows.h"

namespace isodyne::record {

namespace {

constexpr hsize_t kMostNames = 1'000'000;
constexpr std::size_t kMostSourceBytes = 64u << 20;

constexpr std::size_t kMostAttributeBytes = 1u << 20;

// Files may come from anywhere. Whatever is read has the size and the kind that there is room for; only what lies in
// the file itself is opened: no link to another file, no data kept outside of it or made up of others.

bool single(hid_t space) {
  return H5Sget_simple_extent_npoints(space) == 1;
}

/// Text of a fixed length of at most so many bytes.
bool plain_text(hid_t type, std::size_t most) {
  return H5Tget_class(type) == H5T_STRING && H5Tis_variable_str(type) == 0 && H5Tget_size(type) <= most;
}

std::optional<std::string> text_attribute(hid_t object, const char* name) {
  const Handle attribute(H5Aopen(object, name, H5P_DEFAULT), H5Aclose);
  if (!attribute.good()) return std::nullopt;
  const Handle type(H5Aget_type(attribute.get()), H5Tclose), space(H5Aget_space(attribute.get()), H5Sclose);
  if (!plain_text(type.get(), kMostAttributeBytes) || !single(space.get())) return std::nullopt;
  std::string text(H5Tget_size(type.get()), '\0');
  if (H5Aread(attribute.get(), type.get(), text.data()) < 0) return std::nullopt;
  text.resize(std::min(text.size(), text.find('\0')));
  return text;
}

std::optional<double> number_attribute(hid_t object, const char* name) {
  const Handle attribute(H5Aopen(object, name, H5P_DEFAULT), H5Aclose);
  if (!attribute.good()) return std::nullopt;
  const Handle type(H5Aget_type(attribute.get()), H5Tclose), space(H5Aget_space(attribute.get()), H5Sclose);
  const H5T_class_t kind = H5Tget_class(type.get());
  double value = 0;
  if ((kind != H5T_INTEGER && kind != H5T_FLOAT) || !single(space.get()) ||
      H5Aread(attribute.get(), H5T_NATIVE_DOUBLE, &value) < 0)
    return std::nullopt;
  return value;
}

/// A whole number, as far as doubles have them; nothing if it is less than none, or no number.
std::optional<std::int64_t> whole_attribute(hid_t object, const char* name) {
  constexpr double kMostWhole = 9e15;
  const auto number = number_attribute(object, name);
  if (!number || !(*number >= 0 && *number <= kMostWhole)) return std::nullopt;
  return static_cast<std::int64_t>(*number);
}

/// Whether a column holds numbers of the kind that we write.
bool holds_numbers(hid_t dataset) {
  const Handle type(H5Dget_type(dataset), H5Tclose);
  const H5T_class_t kind = H5Tget_class(type.get());
  const std::size_t size = H5Tget_size(type.get());
  return (kind == H5T_INTEGER || kind == H5T_FLOAT) && (size == 4 || size == 8);
}

Handle dataset_at(hid_t where, const std::string& path) {
  H5L_info_t link{};
  if (H5Lget_info(where, path.c_str(), &link, H5P_DEFAULT) < 0 || link.type != H5L_TYPE_HARD) return {};
  H5O_info_t object{};
  if (H5Oget_info_by_name2(where, path.c_str(), &object, H5O_INFO_BASIC, H5P_DEFAULT) < 0 ||
      object.type != H5O_TYPE_DATASET)
    return {};
  Handle dataset(H5Dopen2(where, path.c_str(), H5P_DEFAULT), H5Dclose);
  if (!dataset.good()) return {};
  const Handle made_with(H5Dget_create_plist(dataset.get()), H5Pclose);
  const bool outside = H5Pget_external_count(made_with.get()) != 0 || H5Pget_layout(made_with.get()) == H5D_VIRTUAL;
  if (outside) return {};
  return dataset;
}

/// Names of what is in a group, in their order.
std::vector<std::string> names_in(hid_t file, const std::string& path) {
  std::vector<std::string> all;
  H5L_info_t link{};
  if (H5Lget_info(file, path.c_str(), &link, H5P_DEFAULT) < 0 || link.type != H5L_TYPE_HARD) return all;
  const Handle group(H5Gopen2(file, path.c_str(), H5P_DEFAULT), H5Gclose);
  H5G_info_t info{};
  if (!group.good() || H5Gget_info(group.get(), &info) < 0 || info.nlinks > kMostNames) return all;
  // In one pass: asked one by one each costs a search.
  const auto take = [](hid_t, const char* name, const H5L_info_t* of, void* to) -> herr_t {
    constexpr std::size_t kMostBytes = 511;
    auto& names = *static_cast<std::vector<std::string>*>(to);
    if (of->type == H5L_TYPE_HARD && std::strlen(name) <= kMostBytes) names.emplace_back(name);
    return names.size() > kMostNames ? 1 : 0;
  };
  hsize_t at = 0;
  H5Literate(group.get(), H5_INDEX_NAME, H5_ITER_INC, &at, take, &all);
  return all;
}

/// Instants are searched by halves and subtracted: each is later than the one before, all within half of what int64
/// has.
bool follow_each_other(const std::vector<std::int64_t>& times) {
  constexpr std::int64_t kFar = std::int64_t{1} << 62;
  if (times.empty()) return true;
  return times.front() >= -kFar && times.back() <= kFar &&
         std::adjacent_find(times.begin(), times.end(), std::greater_equal<>()) == times.end();
}

std::string text_of(const char* from, std::size_t most) {
  return std::string(from, strnlen(from, most));
}

}  // namespace

Recording::~Recording() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

/// Everything that depends on the structure of the file, in a process of its own: damage in the tables of links or
/// chunks can crash the HDF5 library, and then it is not ours that ends. What it reads there it can read here.
Status Recording::survives(const std::string& file) {
  const pid_t child = ::fork();
  if (child < 0) return Failure{"cannot read the recording", file, std::strerror(errno)};
  if (child == 0) {
    const int nowhere = ::open("/dev/null", O_WRONLY);
    ::dup2(nowhere, STDOUT_FILENO);
    ::dup2(nowhere, STDERR_FILENO);
    for (const int crash : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT}) std::signal(crash, SIG_DFL);
    ::alarm(120);
    Recording r;
    if (r.read_all(file)) r.touch();
    ::_exit(0);
  }
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  if (WIFEXITED(status) && WEXITSTATUS(status) == 0) return Done{};
  return Failure{"cannot open the recording", file,
                 "it is damaged, so badly that reading it ends the process that does"};
}

/// Looks at every signal, and at where its values lie.
void Recording::touch() const {
  for (const auto* columns : {&columns_, &judged_}) {
    for (const auto& [name, column] : *columns) {
      (void)unit(name);
      const Handle dataset = dataset_at(h5_.get(), groups_[column.group].path + "/" + name);
      if (!dataset.good() || !rows_of(dataset.get())) continue;  // walks through all chunks
      double value = 0;
      const std::size_t rows = groups_[column.group].times.size();
      if (rows > 0) (void)(read_column(name, column, 0, 1, &value) && read_column(name, column, rows - 1, 1, &value));
    }
  }
}

Result<std::unique_ptr<Recording>> Recording::open(const std::string& file) {
  quiet_hdf5();
  std::error_code none;
  if (!std::filesystem::exists(file, none)) {
    const bool begun = std::filesystem::exists(begun_name(file), none);
    return Failure{"cannot open the recording", file,
                   begun ? "it is empty: the run was killed before anything was recorded" : "no such file"};
  }
  if (const Status lives = survives(file); !lives) return lives.failure();
  return open_untried(file);
}

Result<std::unique_ptr<Recording>> Recording::open_untried(const std::string& file) {
  quiet_hdf5();
  std::error_code none;
  // While a run goes on, the head of its file may change under our hands: then it is looked at once more.
  for (int attempt = 0;; ++attempt) {
    std::unique_ptr<Recording> r(new Recording);
    const Status read = r->read_all(file);
    if (read) return r;
    if (attempt == 3 || !std::filesystem::exists(tail_of(file), none)) return read.failure();
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
}

Result<std::unique_ptr<Recording>> Recording::open_run(const std::string& path) {
  namespace fs = std::filesystem;
  std::error_code none;
  if (!fs::exists(path, none)) return Failure{"cannot open the run", path, "there is no such folder"};
  return open(fs::is_directory(path, none) ? (fs::path(path) / "recording.h5").string() : path);
}

Status Recording::read_all(const std::string& file) {
  // The tail first: if the writer closes the file meanwhile, what the tail says is still true.
  std::error_code none;
  if (std::filesystem::exists(tail_of(file), none)) {
    growing_ = tail_grows(tail_of(file));
    auto tail = Tail::read(tail_of(file));
    if (tail) tail_ = std::move(*tail);
    descriptor_ = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
  }
  const Handle access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
  H5Pset_file_locking(access.get(), false, true);
  h5_ = Handle(H5Fopen(file.c_str(), H5F_ACC_RDONLY, access.get()), H5Fclose);
  if (!h5_.good()) return Failure{"cannot open the recording", file, "it is not an HDF5 file, or it is damaged"};
  if (text_attribute(h5_.get(), "format").value_or("") != "isodyne recording")
    return Failure{"cannot open the recording", file, "it is an HDF5 file, but not a recording of Isodyne"};
  if (!read_identity() || !read_sources() || !read_groups() || !read_events())
    return Failure{"cannot read the recording", file, "parts of it are missing or damaged"};
  return Done{};
}

bool Recording::read_identity() {
  const hid_t root = h5_.get();
  bench_ = text_attribute(root, "bench").value_or("");
  ending_ = text_attribute(root, "ending").value_or("");
  for (const IdentityField& f : identity_fields()) {
    if (!f.read(identity_, text_attribute(root, f.key).value_or(""))) return false;  // files of earlier versions
  }
  return !identity_.main.empty();
}

std::optional<std::string> Recording::stored_text(const std::string& path) const {
  const Handle dataset = dataset_at(h5_.get(), path);
  if (!dataset.good()) return std::nullopt;
  const Handle type(H5Dget_type(dataset.get()), H5Tclose);
  const Handle space(H5Dget_space(dataset.get()), H5Sclose);
  if (!plain_text(type.get(), kMostSourceBytes) || !single(space.get())) return std::nullopt;
  std::string text(H5Tget_size(type.get()), '\0');
  if (H5Dread(dataset.get(), type.get(), H5S_ALL, H5S_ALL, H5P_DEFAULT, text.data()) < 0) return std::nullopt;
  if (text.size() == 1 && text[0] == '\0') text.clear();
  return text;
}

bool Recording::read_sources() {
  for (const std::string& name : names_in(h5_.get(), "/sources")) {
    auto text = stored_text("/sources/" + name);
    if (!text) return false;
    std::string relative(name);
    std::replace(relative.begin(), relative.end(), '|', '/');
    identity_.sources.emplace_back(relative, std::move(*text));
  }
  if (H5Lexists(h5_.get(), "/state", H5P_DEFAULT) <= 0) return true;
  auto state = stored_text("/state");
  if (state) identity_.state = std::move(*state);
  return state.has_value();
}

bool Recording::read_groups() {
  const hid_t root = h5_.get();
  const std::int64_t period = whole_attribute(root, "record_period_ns").value_or(0);
  if (!read_group({"/signals", period, "", false, {}, {}}, "/time_ns")) return false;
  if (H5Lexists(root, "/rates", H5P_DEFAULT) <= 0) return true;
  // In the order in which the writer knows them.
  std::map<std::int64_t, Group> groups;
  for (const std::string& name : names_in(root, "/rates")) {
    const std::string path = "/rates/" + name;
    const Handle group(H5Gopen2(root, path.c_str(), H5P_DEFAULT), H5Gclose);
    if (!group.good()) return false;
    groups[whole_attribute(group.get(), "number").value_or(0)] = {
        path,
        whole_attribute(group.get(), "period_ns").value_or(0),
        text_attribute(group.get(), "kept").value_or(""),
        whole_attribute(group.get(), "judged").value_or(0) != 0,
        {},
        {}};
  }
  for (auto& [number, group] : groups) {
    const std::string time_path = group.path + "/time_ns";
    if (number != static_cast<std::int64_t>(groups_.size()) || !read_group(std::move(group), time_path)) return false;
  }
  return true;
}

bool Recording::read_group(Group group, const std::string& time_path) {
  const std::size_t index = groups_.size();
  auto& columns = group.judged ? judged_ : columns_;
  for (const std::string& name : names_in(h5_.get(), group.path)) {
    if (name == "time_ns" && index > 0) continue;
    const Handle dataset = dataset_at(h5_.get(), group.path + "/" + name);
    if (!dataset.good() || !holds_numbers(dataset.get())) continue;  // the others can still be read
    columns[name] = {index, static_cast<std::size_t>(whole_attribute(dataset.get(), "column").value_or(0))};
    group.columns.push_back(name);
  }
  std::sort(group.columns.begin(), group.columns.end(),
            [&](const auto& a, const auto& b) { return columns[a].place < columns[b].place; });
  groups_.push_back(std::move(group));
  return read_times(groups_.back(), index, time_path);
}

std::size_t Recording::rows_in_tail(std::size_t group) const {
  const auto key = static_cast<std::uint32_t>(group);
  std::size_t rows = 0;
  if (const auto chunks = tail_->chunks.find(key); chunks != tail_->chunks.end() && !chunks->second.empty())
    rows = chunks->second.back().first + chunks->second.back().rows;
  if (const auto open = tail_->rows.find(key); open != tail_->rows.end() && !open->second.empty())
    rows = open->second.back().first + open->second.back().times.size();
  return rows;
}

/// As a clock, if the first and the last ones prove it: each row is at a later multiple of the period than the one
/// before, so that n rows over n - 1 periods leave none out.
bool Recording::read_times(Group& group, std::size_t index, const std::string& path) {
  const Handle dataset = dataset_at(h5_.get(), path);
  const auto written = dataset.good() ? rows_of(dataset.get()) : std::nullopt;
  if ((!written && !tail_) || (dataset.good() && !holds_numbers(dataset.get()))) return false;
  const std::size_t rows = tail_ ? rows_in_tail(index) : *written;
  if (rows > kMostRows) return false;
  const auto read = [&](std::size_t first, std::size_t count, std::int64_t* to) {
    return tail_ ? read_tail(index, 0, 8, first, count, to)
                 : read_rows(dataset.get(), H5T_NATIVE_INT64, first, count, to);
  };
  if (group.kept.empty() && group.period_ns > 0 && rows > 3) {
    std::int64_t first = 0, last[2] = {}, length = 0;
    if (!read(0, 1, &first) || !read(rows - 2, 2, last) || !follow_each_other({first, last[0], last[1]})) return false;
    if (!__builtin_mul_overflow(static_cast<std::int64_t>(rows - 2), group.period_ns, &length) &&
        last[0] - first == length) {
      group.times = Instants(first, group.period_ns, rows - 1);
      group.times.add_last(last[1]);
      return true;
    }
  }
  std::vector<std::int64_t> all(rows);
  // Those around what was judged come as they were found.
  if (!read(0, rows, all.data()) || (!group.judged && !follow_each_other(all))) return false;
  group.times = Instants(std::move(all));
  return true;
}

bool Recording::read_events() {
  const auto keep = [&](const EventRow& e) {
    events_.push_back({Time{e.time_ns}, text_of(e.kind, sizeof e.kind), text_of(e.subject, sizeof e.subject),
                       text_of(e.text, sizeof e.text), e.value});
  };
  if (tail_) {
    for (const auto& [number, row] : tail_->events) keep(row);
    return true;
  }
  const Handle dataset = dataset_at(h5_.get(), "/events");
  const Handle type(dataset.good() ? H5Dget_type(dataset.get()) : -1, H5Tclose);
  if (!dataset.good() || H5Tget_class(type.get()) != H5T_COMPOUND || H5Tdetect_class(type.get(), H5T_VLEN) > 0)
    return false;
  for (int i = 0; i < H5Tget_nmembers(type.get()); ++i) {
    const Handle member(H5Tget_member_type(type.get(), static_cast<unsigned>(i)), H5Tclose);
    if (H5Tget_class(member.get()) == H5T_STRING && H5Tis_variable_str(member.get()) != 0) return false;
  }
  const auto rows = dataset.good() ? rows_of(dataset.get()) : std::nullopt;
  if (!rows) return false;
  std::vector<EventRow> lines(*rows);
  if (!read_rows(dataset.get(), event_row_type().get(), 0, *rows, lines.data())) return false;
  for (const EventRow& e : lines) keep(e);
  return true;
}

const Instants& Recording::times_of(const std::string& name) const {
  const auto found = columns_.find(name);
  return groups_[found == columns_.end() ? 0 : found->second.group].times;
}

Time Recording::period_of(const std::string& name) const {
  const auto found = columns_.find(name);
  return Time{groups_[found == columns_.end() ? 0 : found->second.group].period_ns};
}

bool Recording::at_edges(const std::string& name) const {
  const auto found = columns_.find(name);
  return found != columns_.end() && groups_[found->second.group].path.starts_with("/rates/edges");
}

bool Recording::throughout(const std::string& name) const {
  const auto found = columns_.find(name);
  return found != columns_.end() && groups_[found->second.group].kept.empty();
}

std::optional<std::vector<double>> Recording::signal(const std::string& name) const {
  if (!has(name)) return std::nullopt;
  std::vector<double> values(times_of(name).size());
  if (!read(name, 0, values.size(), values.data())) return std::nullopt;
  return values;
}

bool Recording::read(const std::string& name, std::size_t first, std::size_t count, double* to) const {
  const auto found = columns_.find(name);
  return found != columns_.end() && read_column(name, found->second, first, count, to);
}

std::vector<std::pair<std::int64_t, double>> Recording::judged_rows(const std::string& name) const {
  constexpr std::size_t kMostJudged = 10'000'000;
  std::vector<std::pair<std::int64_t, double>> rows;
  const auto found = judged_.find(name);
  if (found == judged_.end()) return rows;
  const Instants& times = groups_[found->second.group].times;
  std::vector<double> values(times.size());
  if (times.size() > kMostJudged || !read_column(name, found->second, 0, values.size(), values.data())) return rows;
  for (std::size_t i = 0; i < values.size(); ++i) {
    const bool later = rows.empty() || times[i] > rows.back().first;
    if (std::isfinite(values[i]) && later) rows.emplace_back(times[i], values[i]);
  }
  return rows;
}

bool Recording::read_column(const std::string& name, const Column& column, std::size_t first, std::size_t count,
                            double* to) const {
  const Handle dataset = dataset_at(h5_.get(), groups_[column.group].path + "/" + name);
  if (!dataset.good()) return false;
  if (!tail_) {
    const auto rows = rows_of(dataset.get());
    return rows && first + count <= *rows && read_rows(dataset.get(), H5T_NATIVE_DOUBLE, first, count, to);
  }
  const Handle type(H5Dget_type(dataset.get()), H5Tclose);
  return read_tail(column.group, column.place + 1, H5Tget_size(type.get()), first, count, to);
}

/// What the tail knows of a column: chunks in the file, and rows of its own. `place` 0: the times, of 8 bytes.
bool Recording::read_tail(std::size_t group, std::size_t place, std::size_t size, std::size_t first, std::size_t count,
                          void* to) const {
  if (size != 4 && size != 8) return false;
  const auto key = static_cast<std::uint32_t>(group);
  auto* out = static_cast<double*>(to);  // instants are as wide
  std::size_t next = first;
  const std::size_t end = first + count;
  if (const auto chunks = tail_->chunks.find(key); chunks != tail_->chunks.end() && !chunks->second.empty()) {
    const std::size_t room = chunks->second.front().rows;
    std::vector<std::uint8_t> bytes, elements(room * size);
    for (std::size_t i = room == 0 ? 0 : next / room; i < chunks->second.size() && next < end; ++i) {
      const Tail::Chunk& chunk = chunks->second[i];
      if (place >= chunk.places.size() || chunk.rows != room || next < chunk.first) return false;
      const ChunkPlace& at = chunk.places[place];
      if (at.bytes > 2 * elements.size() + 1024) return false;
      bytes.resize(at.bytes);
      if (::pread(descriptor_, bytes.data(), at.bytes, static_cast<off_t>(at.at)) != static_cast<ssize_t>(at.bytes))
        return false;
      const bool good =
          at.packed != 0 ? expand_planes(bytes, room, size, elements.data()) : at.bytes == elements.size();
      if (!good) return false;
      if (at.packed == 0) elements = bytes;
      for (; next < std::min<std::size_t>(end, chunk.first + room); ++next, ++out) {
        const std::uint8_t* from = elements.data() + (next - chunk.first) * size;
        float single = 0;
        if (size == 4) std::memcpy(&single, from, 4);
        if (size == 4) *out = static_cast<double>(single);
        if (size == 8) std::memcpy(out, from, 8);
      }
    }
  }
  if (const auto open = tail_->rows.find(key); open != tail_->rows.end()) {
    for (const Tail::Rows& rows : open->second) {
      const std::size_t length = rows.times.size();
      if (next >= rows.first + length || next >= end) continue;
      if (next < rows.first || (place > 0 && place > rows.values.size() / length)) return false;
      for (; next < std::min<std::size_t>(end, rows.first + length); ++next, ++out) {
        const std::size_t row = next - rows.first;
        if (place == 0) std::memcpy(out, &rows.times[row], 8);
        if (place > 0) *out = rows.values[(place - 1) * length + row];
        if (place > 0 && size == 4) *out = static_cast<double>(static_cast<float>(*out));
      }
    }
  }
  return next == end;
}

SignalUnit Recording::unit(const std::string& name) const {
  SignalUnit u;
  const auto found = columns_.find(name);
  if (found == columns_.end()) return u;
  const Handle dataset = dataset_at(h5_.get(), groups_[found->second.group].path + "/" + name);
  if (!dataset.good()) return u;
  u.si = text_attribute(dataset.get(), "unit").value_or("1");
  u.read_in = text_attribute(dataset.get(), "read_in").value_or("");
  u.factor = number_attribute(dataset.get(), "read_factor").value_or(1);
  u.offset = number_attribute(dataset.get(), "read_offset").value_or(0);
  // Recordings of 0.1 do not say it.
  const auto between = text_attribute(dataset.get(), "between");
  u.held = between ? *between == "held" : u.si == "bool" || u.si == "int" || u.si.find('|') != std::string::npos;
  return u;
}

std::vector<std::string> Recording::names() const {
  std::vector<std::string> all;
  for (const auto& [name, column] : columns_) all.push_back(name);
  return all;
}

RecordingHead Recording::head() const {
  RecordingHead head{identity_, bench_, Time{whole_attribute(h5_.get(), "step_ns").value_or(0)}, {}};
  for (const Group& g : groups_) {
    GroupHead& made = head.groups.emplace_back();
    if (head.groups.size() > 1) made.name = g.path.substr(std::strlen("/rates/"));
    made.period = Time{g.period_ns};
    made.kept = g.kept;
    made.judged = g.judged;
    for (const std::string& name : g.columns) {
      const Handle dataset = dataset_at(h5_.get(), g.path + "/" + name);
      const Handle type(H5Dget_type(dataset.get()), H5Tclose), made_with(H5Dget_create_plist(dataset.get()), H5Pclose);
      made.single = H5Tget_size(type.get()) == 4;
      made.compressed = H5Pget_nfilters(made_with.get()) > 0;
      const SignalUnit u = unit(name);
      made.columns.push_back({name, u.si, u.read_in, text_attribute(dataset.get(), "description").value_or(""),
                              text_attribute(dataset.get(), "source").value_or(""), u.factor, u.offset, u.held});
    }
  }
  return head;
}

}  // namespace isodyne::record
