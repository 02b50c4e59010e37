#include "isodyne/record/place_driver.h"

#include <algorithm>
#include <cerrno>
#include <cstdlib>

#include <fcntl.h>
#include <unistd.h>

namespace isodyne::record {

namespace {

/// HDF5 copies this with its settings.
struct Info {
  FilePlaces* places;
};

struct File {
  H5FD_t base;  ///< must be first
  FilePlaces* places;
  int descriptor;
  haddr_t end;
};

File* of(H5FD_t* file) {
  return reinterpret_cast<File*>(file);
}
const File* of(const H5FD_t* file) {
  return reinterpret_cast<const File*>(file);
}

hid_t driver();

H5FD_t* open_file(const char* name, unsigned flags, hid_t settings, haddr_t) {
  const auto* info = static_cast<const Info*>(H5Pget_driver_info(settings));
  if (info == nullptr) return nullptr;
  const int mode = O_RDWR | O_CLOEXEC | ((flags & H5F_ACC_CREAT) != 0 ? O_CREAT : 0) |
                   ((flags & H5F_ACC_EXCL) != 0 ? O_EXCL : 0) | ((flags & H5F_ACC_TRUNC) != 0 ? O_TRUNC : 0);
  const int descriptor = ::open(name, mode, 0666);
  if (descriptor < 0) return nullptr;
  auto* file = static_cast<File*>(std::calloc(1, sizeof(File)));
  if (file == nullptr) return ::close(descriptor), nullptr;
  file->places = info->places;
  file->descriptor = info->places->descriptor = descriptor;
  return &file->base;
}

herr_t close_file(H5FD_t* file) {
  of(file)->places->descriptor = -1;
  if (of(file)->places->stream.finish() != 0) return -1;
  const int closed = ::close(of(file)->descriptor);
  std::free(file);
  return closed == 0 ? 0 : -1;
}

int compare_files(const H5FD_t* a, const H5FD_t* b) {
  return of(a)->descriptor < of(b)->descriptor ? -1 : of(a)->descriptor > of(b)->descriptor ? 1 : 0;
}

herr_t features(const H5FD_t*, unsigned long* flags) {
  *flags = H5FD_FEAT_AGGREGATE_METADATA | H5FD_FEAT_ACCUMULATE_METADATA | H5FD_FEAT_AGGREGATE_SMALLDATA;
  return 0;
}

haddr_t allocated_end(const H5FD_t* file, H5FD_mem_t) {
  return of(file)->end;
}

herr_t set_allocated_end(H5FD_t* file, H5FD_mem_t, haddr_t end) {
  of(file)->end = of(file)->places->end = end;
  return 0;
}

haddr_t file_end(const H5FD_t* file, H5FD_mem_t) {
  const off_t end = ::lseek(of(file)->descriptor, 0, SEEK_END);
  return end < 0 ? HADDR_UNDEF : static_cast<haddr_t>(end);
}

herr_t read_bytes(H5FD_t* file, H5FD_mem_t, hid_t, haddr_t at, size_t bytes, void* to) {
  if (of(file)->places->stream.drain() != 0) return -1;
  auto* next = static_cast<char*>(to);
  while (bytes > 0) {
    const ssize_t got = ::pread(of(file)->descriptor, next, bytes, static_cast<off_t>(at));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) return -1;
    if (got == 0) return std::fill_n(next, bytes, '\0'), 0;  // what is allocated and not written yet
    next += got;
    at += static_cast<haddr_t>(got);
    bytes -= static_cast<size_t>(got);
  }
  return 0;
}

herr_t write_bytes(H5FD_t* file, H5FD_mem_t kind, hid_t, haddr_t at, size_t bytes, const void* from) {
  FilePlaces& places = *of(file)->places;
  if (kind == H5FD_MEM_DRAW) places.raw_at = at;
  const bool large = kind == H5FD_MEM_DRAW && bytes >= DiskStream::kWorthIt && places.stream.begun();
  errno = large ? places.stream.write(at, from, bytes) : write_at(of(file)->descriptor, from, bytes, at);
  return errno == 0 ? 0 : -1;
}

/// HDF5 does so at the end: what was reserved and not needed is given back.
herr_t cut_file(H5FD_t* file, hid_t, hbool_t closing) {
  if (!closing) return 0;
  return ::ftruncate(of(file)->descriptor, static_cast<off_t>(of(file)->end)) == 0 ? 0 : -1;
}

hid_t driver() {
  static const hid_t id = [] {
    static H5FD_class_t c{};
    constexpr H5FD_mem_t kinds[] = H5FD_FLMAP_DICHOTOMY;
    c.name = "isodyne_places";
    c.maxaddr = (haddr_t{1} << 62) - 1;
    c.fc_degree = H5F_CLOSE_WEAK;
    c.fapl_size = sizeof(Info);
    c.open = open_file;
    c.close = close_file;
    c.cmp = compare_files;
    c.query = features;
    c.get_eoa = allocated_end;
    c.set_eoa = set_allocated_end;
    c.get_eof = file_end;
    c.read = read_bytes;
    c.write = write_bytes;
    c.truncate = cut_file;
    std::copy(std::begin(kinds), std::end(kinds), c.fl_map);
    return H5FDregister(&c);
  }();
  return id;
}

}  // namespace

int FilePlaces::reserve(std::uint64_t bytes) {
  if (end + bytes <= reserved) return 0;
  // Ahead in great steps, which the file system likes; what is needed at least, where the disk is nearly full.
  const std::uint64_t ahead = std::clamp<std::uint64_t>(end / 4, 0, 64u << 20);
  for (const std::uint64_t more : {ahead, std::uint64_t{0}}) {
    const int reason = posix_fallocate(descriptor, 0, static_cast<off_t>(end + bytes + more));
    if (reason == 0) return reserved = end + bytes + more, 0;
    if (more == 0) return reason;
  }
  return 0;
}

Handle access_with_places(FilePlaces& places) {
  Handle settings(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
  const Info info{&places};
  H5Pset_driver(settings.get(), driver(), &info);
  return settings;
}

}  // namespace isodyne::record
