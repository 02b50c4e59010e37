#include "library_path.h"

#include <cstdlib>
#include <filesystem>
#include <sstream>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/session/summary.h"

namespace isodyne::app {

namespace fs = std::filesystem;

std::vector<std::string> library_folders() {
  std::vector<std::string> folders;
  if (const char* own = std::getenv("ISODYNE_LIBRARY"); own != nullptr) {
    std::istringstream list(own);
    for (std::string folder; std::getline(list, folder, ':');) {
      if (!folder.empty()) folders.push_back(folder);
    }
  }
  std::error_code none;
  const fs::path program = fs::read_symlink("/proc/self/exe", none);
  folders.push_back((program.parent_path() / "../share/isodyne/library").lexically_normal().string());
  return folders;
}

Result<std::string> read_library_file(const std::string& name) {
  std::vector<std::string> known;
  for (const std::string& folder : library_folders()) {
    const fs::path file = fs::path(folder) / name;
    std::error_code none;
    if (fs::exists(file, none)) return read_file(file.string());
    for (const auto& entry : fs::directory_iterator(folder, none)) {
      if (entry.path().extension() == ".dyne") known.push_back(entry.path().filename().string());
    }
  }
  const auto meant = closest(name, known);
  return Failure{"the library has no file", name, meant ? fmt::format("did you mean \"{}\"?", *meant) : ""};
}

}  // namespace isodyne::app
