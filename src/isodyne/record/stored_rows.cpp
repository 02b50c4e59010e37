#include "isodyne/record/stored_rows.h"

#include <algorithm>
#include <cstring>
#include <vector>

#include <sys/mman.h>

#include "isodyne/record/byte_planes.h"

namespace isodyne::record {

namespace {

constexpr hsize_t kMostPacked = 1100;  // deflate packs that much at best
constexpr hsize_t kMostChunkBytes = hsize_t{1} << 28;

enum class Packing { none, stream, planes, other };

Packing packing_of(hid_t made_with) {
  const int filters = H5Pget_nfilters(made_with);
  const auto filter = [&](unsigned number) {
    unsigned flags = 0;
    std::size_t none = 0;
    return H5Pget_filter2(made_with, number, &flags, &none, nullptr, 0, nullptr, nullptr);
  };
  if (filters == 0) return Packing::none;
  if (filters == 1 && filter(0) == H5Z_FILTER_DEFLATE) return Packing::stream;
  return filters == 2 && filter(0) == H5Z_FILTER_SHUFFLE && filter(1) == H5Z_FILTER_DEFLATE ? Packing::planes
                                                                                            : Packing::other;
}

/// As many bytes as the file has; those that nobody writes to take no memory.
class Area {
 public:
  explicit Area(std::size_t bytes) : bytes_(bytes) {
    void* at = ::mmap(nullptr, bytes_, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    if (at != MAP_FAILED) at_ = static_cast<std::uint8_t*>(at);
  }
  Area(const Area&) = delete;
  Area& operator=(const Area&) = delete;
  ~Area() {
    if (at_ != nullptr) ::munmap(at_, bytes_);
  }
  std::uint8_t* get() const { return at_; }
  std::size_t size() const { return bytes_; }

 private:
  std::size_t bytes_;
  std::uint8_t* at_ = nullptr;
};

struct Chunks {
  hid_t dataset;
  hsize_t room;      ///< rows of each
  std::size_t size;  ///< bytes of a row
  Packing packing;
  /// Takes any chunk, however long the file says that it is: its end is checked against that of the file.
  Area area;
  std::vector<std::uint8_t> rows = {};

  static std::size_t bytes_of_file(hid_t dataset) {
    const Handle file(H5Iget_file_id(dataset), H5Fclose);
    hsize_t bytes = 0;
    return H5Fget_filesize(file.get(), &bytes) < 0 ? 1 : static_cast<std::size_t>(std::max<hsize_t>(bytes, 1));
  }

  /// How long a chunk is that is not packed can only be asked of all at once.
  bool are_whole(hsize_t rows_in_all) const {
    const hsize_t chunks = (rows_in_all + room - 1) / room;
    return packing != Packing::none || H5Dget_storage_size(dataset) == chunks * room * size;
  }

  /// The rows of the chunk that begins at row `first`, good until the next call; null if it is not whole.
  std::uint8_t* read(hsize_t first) {
    hsize_t bytes = 0;
    if (H5Dget_chunk_storage_size(dataset, &first, &bytes) < 0 || bytes == 0) return nullptr;
    const hsize_t whole = room * size;
    if (whole > kMostChunkBytes || whole > bytes * kMostPacked) return nullptr;
    std::uint32_t without = 0;
    if (H5Dread_chunk(dataset, H5P_DEFAULT, &first, &without, area.get()) < 0 || without != 0) return nullptr;
    if (packing == Packing::none) return whole <= area.size() ? area.get() : nullptr;
    rows.resize(whole);
    const std::size_t planes = packing == Packing::planes ? size : 1;
    return expand_planes({area.get(), bytes}, whole / planes, planes, rows.data()) ? rows.data() : nullptr;
  }
};

bool read_chunks(Chunks& from, hid_t file_type, hid_t memory_type, hsize_t first, hsize_t count, void* to) {
  const std::size_t made = H5Tget_size(memory_type);
  const bool same = H5Tequal(file_type, memory_type) > 0;
  std::vector<std::uint8_t> converted;
  auto* out = static_cast<std::uint8_t*>(to);
  for (hsize_t next = first; next < first + count;) {
    const hsize_t begin = next / from.room * from.room;
    const hsize_t end = std::min(begin + from.room, first + count), many = end - next;
    const std::uint8_t* wanted = from.read(begin);
    if (wanted == nullptr) return false;
    wanted += (next - begin) * from.size;
    if (!same) {
      converted.assign(many * std::max(made, from.size), 0);
      std::memcpy(converted.data(), wanted, many * from.size);
      if (H5Tconvert(file_type, memory_type, many, converted.data(), nullptr, H5P_DEFAULT) < 0) return false;
      wanted = converted.data();
    }
    std::memcpy(out, wanted, many * made);
    out += many * made;
    next = end;
  }
  return true;
}

}  // namespace

std::optional<hsize_t> rows_of(hid_t dataset) {
  const Handle space(H5Dget_space(dataset), H5Sclose), type(H5Dget_type(dataset), H5Tclose);
  hsize_t rows = 0;
  if (H5Sget_simple_extent_ndims(space.get()) != 1 || H5Sget_simple_extent_dims(space.get(), &rows, nullptr) < 0)
    return std::nullopt;
  const hsize_t bytes = std::min<hsize_t>(H5Dget_storage_size(dataset), hsize_t{1} << 50),
                each = H5Tget_size(type.get());
  if (rows > kMostRows || each == 0 || rows > (bytes + 1) * kMostPacked / each) return std::nullopt;
  return rows;
}

bool read_rows(hid_t dataset, hid_t memory_type, hsize_t first, hsize_t count, void* to) {
  if (count == 0) return true;
  const Handle made_with(H5Dget_create_plist(dataset), H5Pclose), type(H5Dget_type(dataset), H5Tclose);
  if (H5Pget_layout(made_with.get()) == H5D_CHUNKED) {
    hsize_t room = 0;
    const Packing packing = packing_of(made_with.get());
    if (H5Pget_chunk(made_with.get(), 1, &room) != 1 || room == 0 || packing == Packing::other) return false;
    const auto rows = rows_of(dataset);
    Chunks chunks{dataset, room, H5Tget_size(type.get()), packing, Area(Chunks::bytes_of_file(dataset))};
    return chunks.area.get() != nullptr && rows && chunks.are_whole(*rows) &&
           read_chunks(chunks, type.get(), memory_type, first, count, to);
  }
  const Handle space(H5Dget_space(dataset), H5Sclose), memory(H5Screate_simple(1, &count, nullptr), H5Sclose);
  H5Sselect_hyperslab(space.get(), H5S_SELECT_SET, &first, nullptr, &count, nullptr);
  return H5Dread(dataset, memory_type, memory.get(), space.get(), H5P_DEFAULT, to) >= 0;
}

}  // namespace isodyne::record
