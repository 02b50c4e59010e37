#include "isodyne/core/file.h"

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>

namespace isodyne {

Status write_file(const std::string& file, const std::string& text) {
  const std::string partial = file + ".partial";
  errno = 0;
  std::ofstream out(partial, std::ios::binary | std::ios::trunc);
  out << text;
  out.close();
  std::error_code error;
  if (out.good()) {
    std::filesystem::rename(partial, file, error);
    if (!error) return Done{};
  }
  const std::string reason = error ? error.message() : errno != 0 ? std::strerror(errno) : "writing failed";
  std::filesystem::remove(partial, error);
  return Failure{"cannot write", file, reason};
}

Status write_new_file(const std::string& file, const std::string& text) {
  std::error_code none;
  if (std::filesystem::exists(file, none))
    return Failure{"cannot write", file, "it is there already, and is left alone"};
  return write_file(file, text);
}

Result<std::string> read_file(const std::string& file) {
  constexpr std::uintmax_t kMostBytes = 256u << 20;
  std::error_code error;
  if (std::filesystem::is_directory(file, error)) return Failure{"cannot read", file, "it is a folder"};
  const auto kind = std::filesystem::status(file, error).type();
  // A pipe would be waited for, perhaps for ever.
  if (kind != std::filesystem::file_type::regular && kind != std::filesystem::file_type::not_found &&
      kind != std::filesystem::file_type::none)
    return Failure{"cannot read", file, "it is no file with a content, but a pipe or a device"};
  errno = 0;
  std::ifstream in(file, std::ios::binary);
  if (!in) return Failure{"cannot read", file, errno != 0 ? std::strerror(errno) : "it cannot be opened"};
  const std::uintmax_t size = std::filesystem::file_size(file, error);
  if (!error && size > kMostBytes) return Failure{"cannot read", file, "it is larger than 256 MiB"};
  std::string text;
  char block[65536];
  while (in.read(block, sizeof block) || in.gcount() > 0) {
    text.append(block, static_cast<std::size_t>(in.gcount()));
    if (text.size() > kMostBytes) return Failure{"cannot read", file, "it is larger than 256 MiB"};
  }
  return text;
}

TemporaryFolder::TemporaryFolder(const std::string& place) {
  std::error_code error;
  place_ = place.empty() ? std::filesystem::temp_directory_path(error) : std::filesystem::path(place);
  std::string name = (place_ / "isodyne-XXXXXX").string();
  if (mkdtemp(name.data()) != nullptr)
    path_ = name;
  else
    error_ = errno;
}

TemporaryFolder::~TemporaryFolder() {
  std::error_code none;
  if (!path_.empty()) std::filesystem::remove_all(path_, none);
}

Failure TemporaryFolder::trouble() const {
  return {"cannot make a temporary folder in", place_.string(), std::strerror(error_)};
}

}  // namespace isodyne
