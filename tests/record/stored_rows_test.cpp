// Rows of files that others made, or that are damaged: the same as the HDF5 library reads, or none; never what lies
// behind a chunk in memory.

#include <cmath>
#include <cstring>
#include <functional>
#include <limits>
#include <vector>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/record/byte_planes.h"
#include "isodyne/record/recording.h"
#include "isodyne/record/stored_rows.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using record::Handle;

namespace {

constexpr std::size_t kRows = 1000, kRoom = 64;

struct Form {
  const char* name;
  hid_t type;
  bool chunked, shuffled;
  int deflate;
  bool checked = false;
  bool read = true;  ///< in a way that recordings are packed
};

Handle new_file(const std::string& name) {
  return {H5Fcreate(name.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose};
}

Handle new_rows(hid_t file, const Form& f, hsize_t rows = kRows) {
  const hsize_t any = H5S_UNLIMITED, room = kRoom;
  const Handle space(H5Screate_simple(1, &rows, f.chunked ? &any : nullptr), H5Sclose);
  const Handle settings(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
  if (f.chunked) H5Pset_chunk(settings.get(), 1, &room);
  if (f.shuffled) H5Pset_shuffle(settings.get());
  if (f.deflate > 0) H5Pset_deflate(settings.get(), static_cast<unsigned>(f.deflate));
  if (f.checked) H5Pset_fletcher32(settings.get());
  return {H5Dcreate2(file, "rows", f.type, space.get(), H5P_DEFAULT, settings.get(), H5P_DEFAULT), H5Dclose};
}

std::vector<double> some_values(std::size_t rows) {
  std::vector<double> values(rows);
  for (std::size_t i = 0; i < rows; ++i) values[i] = std::floor(1000 * std::sin(0.01 * static_cast<double>(i)));
  return values;
}

void write_all(hid_t dataset, const std::vector<double>& values) {
  REQUIRE(H5Dwrite(dataset, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, values.data()) >= 0);
}

/// A chunk as these bytes, whatever it should have.
void write_chunk(hid_t dataset, hsize_t first, const std::vector<std::uint8_t>& bytes, std::uint32_t without = 0) {
  REQUIRE(H5Dwrite_chunk(dataset, H5P_DEFAULT, without, &first, bytes.size(), bytes.data()) >= 0);
}

bool reads(hid_t dataset, hsize_t first, hsize_t count, std::vector<double>* to = nullptr) {
  std::vector<double> values(count);
  const bool good = record::read_rows(dataset, H5T_NATIVE_DOUBLE, first, count, values.data());
  if (to != nullptr) *to = values;
  return good;
}

std::vector<std::uint8_t> bytes_of(const std::vector<double>& values) {
  std::vector<std::uint8_t> bytes(values.size() * sizeof(double));
  std::memcpy(bytes.data(), values.data(), bytes.size());
  return bytes;
}

}  // namespace

TEST_CASE("Rows of every form that HDF5 tools write are those that the library reads, from any row to any other") {
  record::quiet_hdf5();
  const TestFolder folder;
  const Form kForms[] = {{"plain", H5T_IEEE_F64LE, true, false, 0},
                         {"in one piece", H5T_IEEE_F64LE, false, false, 0},
                         {"packed", H5T_IEEE_F64LE, true, true, 1},
                         {"packed well", H5T_IEEE_F64LE, true, true, 9},
                         {"packed without shuffling", H5T_IEEE_F64LE, true, false, 6},
                         {"single", H5T_IEEE_F32LE, true, true, 1},
                         {"of a machine of the other kind", H5T_IEEE_F64BE, true, true, 1},
                         {"small numbers", H5T_STD_I16LE, true, false, 0},
                         {"whole numbers", H5T_STD_I64BE, true, true, 4},
                         {"shuffled only", H5T_IEEE_F64LE, true, true, 0, false, false},
                         {"with check sums", H5T_IEEE_F64LE, true, true, 1, true, false}};
  const std::vector<double> values = some_values(kRows);
  RandomStream random(5, "rows");
  for (const Form& f : kForms) {
    INFO(f.name);
    const Handle file = new_file(folder / "f.h5"), rows = new_rows(file.get(), f);
    write_all(rows.get(), values);
    REQUIRE(H5Fflush(file.get(), H5F_SCOPE_GLOBAL) >= 0);
    CHECK(record::rows_of(rows.get()) == kRows);
    if (!f.read) {
      CHECK_FALSE(reads(rows.get(), 0, kRows));
      continue;
    }
    std::vector<double> got;
    REQUIRE(reads(rows.get(), 0, kRows, &got));
    CHECK(got == values);
    for (int turn = 0; turn < 200; ++turn) {
      const auto first = static_cast<hsize_t>(random.uniform() * kRows);
      const auto count = static_cast<hsize_t>(random.uniform() * static_cast<double>(kRows - first));
      REQUIRE(reads(rows.get(), first, count, &got));
      const auto from = values.begin() + static_cast<std::ptrdiff_t>(first);
      CHECK(std::equal(got.begin(), got.end(), from));
    }
    // First and last row of a chunk, and of all.
    for (const hsize_t at : {std::size_t{0}, kRoom - 1, kRoom, kRows - 1}) {
      REQUIRE(reads(rows.get(), at, 1, &got));
      CHECK(got[0] == values[at]);
    }
    CHECK(reads(rows.get(), kRows, 0));
  }
}

TEST_CASE("A chunk that is shorter or longer than its rows is refused, not filled with what lies in memory") {
  record::quiet_hdf5();
  const TestFolder folder;
  const Form plain{"plain", H5T_IEEE_F64LE, true, false, 0}, packed{"packed", H5T_IEEE_F64LE, true, true, 1};
  const std::vector<double> values = some_values(kRoom);
  for (const std::size_t bytes : {std::size_t{1}, std::size_t{8}, kRoom * 8 - 1, kRoom * 8 + 1, std::size_t{100'000}}) {
    INFO(bytes);
    const Handle file = new_file(folder / "f.h5"), rows = new_rows(file.get(), plain, 2 * kRoom);
    std::vector<std::uint8_t> odd = bytes_of(values);
    odd.resize(bytes, 7);
    write_chunk(rows.get(), 0, odd);
    write_chunk(rows.get(), kRoom, bytes_of(values));
    REQUIRE(H5Fflush(file.get(), H5F_SCOPE_GLOBAL) >= 0);
    CHECK_FALSE(reads(rows.get(), 0, kRoom));
    CHECK_FALSE(reads(rows.get(), kRoom, kRoom));  // nobody can say which of the chunks is the wrong one
  }
  record::BytePlanes planes;
  for (const std::size_t of : {std::size_t{1}, kRoom - 1, kRoom, kRoom + 1}) {
    INFO(of);
    const Handle file = new_file(folder / "f.h5"), rows = new_rows(file.get(), packed, kRoom);
    const std::vector<double> some = some_values(of);
    const auto stream = planes.compress(some.data(), of, 8);
    write_chunk(rows.get(), 0, {stream.begin(), stream.end()});
    REQUIRE(H5Fflush(file.get(), H5F_SCOPE_GLOBAL) >= 0);
    std::vector<double> got;
    REQUIRE(reads(rows.get(), 0, kRoom, &got) == (of == kRoom));
    if (of == kRoom) CHECK(got == values);
  }
}

TEST_CASE("Chunks that are missing, cut off, no stream, or packed otherwise than the file says are refused") {
  record::quiet_hdf5();
  const TestFolder folder;
  const Form plain{"plain", H5T_IEEE_F64LE, true, false, 0}, packed{"packed", H5T_IEEE_F64LE, true, true, 1};
  const std::vector<double> values = some_values(kRoom);
  record::BytePlanes planes;
  const auto compressed = planes.compress(values.data(), kRoom, 8);
  const std::vector<std::uint8_t> stream(compressed.begin(), compressed.end());
  const auto with = [&](const Form& form, hsize_t rows, const std::function<void(hid_t)>& write) {
    const Handle file = new_file(folder / "f.h5"), dataset = new_rows(file.get(), form, rows);
    write(dataset.get());
    H5Fflush(file.get(), H5F_SCOPE_GLOBAL);
    return reads(dataset.get(), 0, rows);
  };
  CHECK(with(packed, kRoom, [&](hid_t d) { write_chunk(d, 0, stream); }));
  CHECK_FALSE(with(packed, 2 * kRoom, [&](hid_t d) { write_chunk(d, 0, stream); }));
  CHECK_FALSE(with(plain, 2 * kRoom, [&](hid_t d) { write_chunk(d, kRoom, bytes_of(values)); }));
  CHECK_FALSE(with(packed, kRoom, [](hid_t) {}));
  auto cut = stream, damaged = stream;
  cut.resize(cut.size() - 5);
  damaged[damaged.size() / 2] ^= 0x10;
  CHECK_FALSE(with(packed, kRoom, [&](hid_t d) { write_chunk(d, 0, cut); }));
  CHECK_FALSE(with(packed, kRoom, [&](hid_t d) { write_chunk(d, 0, damaged); }));
  CHECK_FALSE(with(packed, kRoom, [&](hid_t d) { write_chunk(d, 0, bytes_of(values)); }));
  // Not packed, and said so: recordings are one or the other.
  CHECK_FALSE(with(packed, kRoom, [&](hid_t d) { write_chunk(d, 0, bytes_of(values), 3); }));
}

namespace {

/// A recording of one signal, of which something is changed afterwards.
std::string recorded(const TestFolder& folder, const std::function<void(hid_t)>& change) {
  static int number = 0;
  const std::string out = fmt::format("r{}", ++number);
  folder.write("b.dyne", "bench B {\n  step 10 ms\n  output state x : m = 1 m\n  x' = -x / 1 s\n}\n");
  const Output ran = run_isodyne("run b.dyne --for '1 s' --no-report --interpret --out " + out, folder.path());
  INFO(ran.err);
  REQUIRE(ran.status == 0);
  const std::string name = folder / (out + "/recording.h5");
  const Handle file(H5Fopen(name.c_str(), H5F_ACC_RDWR, H5P_DEFAULT), H5Fclose);
  change(file.get());
  return name;
}

void set_number(hid_t file, const char* object, const char* name, double value) {
  const Handle where(H5Oopen(file, object, H5P_DEFAULT), H5Oclose), space(H5Screate(H5S_SCALAR), H5Sclose);
  H5Adelete(where.get(), name);
  const Handle made(H5Acreate2(where.get(), name, H5T_NATIVE_DOUBLE, space.get(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
  REQUIRE(H5Awrite(made.get(), H5T_NATIVE_DOUBLE, &value) >= 0);
}

void set_times(hid_t file, const std::function<void(std::vector<std::int64_t>&)>& change) {
  const Handle dataset(H5Dopen2(file, "/time_ns", H5P_DEFAULT), H5Dclose);
  std::vector<std::int64_t> times(*record::rows_of(dataset.get()));
  REQUIRE(H5Dread(dataset.get(), H5T_NATIVE_INT64, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) >= 0);
  change(times);
  REQUIRE(H5Dwrite(dataset.get(), H5T_NATIVE_INT64, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) >= 0);
}

}  // namespace

TEST_CASE("Instants that do not follow each other, or that nobody can count, are no recording") {
  record::quiet_hdf5();
  const TestFolder folder;
  const auto with = [&](const std::function<void(std::vector<std::int64_t>&)>& change) {
    return static_cast<bool>(record::Recording::open(recorded(folder, [&](hid_t file) { set_times(file, change); })));
  };
  // As regular as a clock from the first to the last, they are not read one by one.
  const auto irregular = [](auto& t) { --t[t.size() - 2]; };
  constexpr std::int64_t kFarthest = std::numeric_limits<std::int64_t>::max();
  CHECK(with([](auto&) {}));
  CHECK(with(irregular));
  CHECK_FALSE(with([&](auto& t) { irregular(t), std::swap(t[3], t[4]); }));
  CHECK_FALSE(with([&](auto& t) { irregular(t), t[5] = t[4]; }));
  CHECK_FALSE(with([](auto& t) { t.front() = -kFarthest; }));
  CHECK_FALSE(with([](auto& t) { t.back() = kFarthest; }));
  CHECK_FALSE(with([](auto& t) { t.back() = 0; }));
  // Still in order, only not regular: each row keeps the instant that it has.
  const auto r = record::Recording::open(recorded(folder, [&](hid_t file) { set_times(file, irregular); }));
  REQUIRE(r);
  const auto& times = (*r)->times();
  CHECK(times[times.size() - 2] % 10'000'000 == 9'999'999);
  CHECK(times.back() % 10'000'000 == 0);
}

TEST_CASE("Numbers beside the rows that are none, too large or negative lead nowhere") {
  record::quiet_hdf5();
  const TestFolder folder;
  for (const double odd : {std::nan(""), -1.0, 1e300, -1e300, std::numeric_limits<double>::infinity(), 1.8e19}) {
    INFO(odd);
    const auto r = record::Recording::open(recorded(folder, [&](hid_t file) {
      set_number(file, "/", "record_period_ns", odd);
      set_number(file, "/", "step_ns", odd);
      set_number(file, "/signals/x", "column", odd);
    }));
    if (!r) continue;  // refused is as good
    CHECK((*r)->head().step.count() == 0);
    CHECK((*r)->period_of("x").count() == 0);
    const auto x = (*r)->signal("x");
    REQUIRE(x);
    CHECK(x->front() == 1);
    CHECK((*r)->times().size() == x->size());
  }
}
