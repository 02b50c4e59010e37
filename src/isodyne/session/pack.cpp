#include "isodyne/session/pack.h"

#include <algorithm>
#include <filesystem>
#include <map>

#include <fmt/format.h>
#include <unistd.h>
#include <zip.h>

#include "isodyne/check/load.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::session {

namespace fs = std::filesystem;

namespace {

constexpr std::uintmax_t kMostBytes = 4ULL << 30;
constexpr time_t kAnyTime = 946684800;  // of all entries: the start of the year 2000

/// What goes in, by its name in the archive: a file, or a text.
struct Content {
  std::string file, text;
};
using Contents = std::map<std::string, Content>;

void add_folder(Contents& all, const fs::path& folder, const std::string& below) {
  std::error_code error;
  for (const auto& entry :
       fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied, error)) {
    // A link leads to what is not of the folder.
    if (entry.is_symlink(error) || !entry.is_regular_file(error)) continue;
    all[below + fs::relative(entry.path(), folder, error).generic_string()] = {entry.path().string(), ""};
  }
}

/// The folders, below that of the bench, in which the files of the run's controllers are.
std::vector<fs::path> controller_folders(const std::string& run, const record::RunIdentity& identity) {
  std::vector<fs::path> folders;
  const auto opened = open_recording(run);
  if (!opened || opened->loaded.program == nullptr) return folders;
  for (const program::Controller& c : opened->loaded.program->controllers) {
    for (const program::Setting& s : c.settings) {
      const bool file = program::port_kind(s.kind).at == program::PortAt::file;
      if (!file || (!identity.setting.empty() && s.name != identity.setting)) continue;
      const fs::path path = fs::path(s.address.substr(0, s.address.find(' '))).lexically_normal();
      const bool inside = path.is_relative() && path.begin() != path.end() && *path.begin() != "..";
      if (inside && path.has_parent_path() &&
          std::find(folders.begin(), folders.end(), path.parent_path()) == folders.end())
        folders.push_back(path.parent_path());
    }
  }
  return folders;
}

/// A name that stays below the folder in which it is unpacked.
bool plain_relative(const std::string& name) {
  const fs::path path(name);
  return path.is_relative() && !name.empty() && name.find('\\') == std::string::npos &&
         std::none_of(path.begin(), path.end(), [](const fs::path& p) { return p == ".." || p == "." || p.empty(); });
}

std::string read_me(const std::string& run, const record::RunIdentity& i) {
  return fmt::format(
      "{}\n\nA recorded run of Isodyne {}. What is in this archive:\n\n"
      "  recording.h5    every signal over time, events, and the texts of the bench (HDF5)\n"
      "  verdicts.json   what was required, and whether it held; verdicts.xml is the same as JUnit XML\n"
      "  report.html     to be read in any browser, without a network; figures/ are its drawings\n"
      "  bench/          the texts as they were run, and the controllers\n\n"
      "To repeat it, unpack it and say in its folder:\n\n  isodyne repeat . --folder bench\n\nThe run was:\n\n  {}\n",
      run, i.version, repeat_command(i));
}

Status write_archive(const Contents& all, const std::string& archive) {
  int code = 0;
  zip_t* zip = zip_open(archive.c_str(), ZIP_CREATE | ZIP_EXCL, &code);
  if (zip == nullptr) {
    zip_error_t why;
    zip_error_init_with_code(&why, code);
    const std::string reason = zip_error_strerror(&why);
    zip_error_fini(&why);
    return Failure{"cannot write", archive, reason};
  }
  for (const auto& [name, content] : all) {
    zip_source_t* source = content.file.empty() ? zip_source_buffer(zip, content.text.data(), content.text.size(), 0)
                                                : zip_source_file(zip, content.file.c_str(), 0, -1);
    const zip_int64_t index = source == nullptr ? -1 : zip_file_add(zip, name.c_str(), source, ZIP_FL_ENC_UTF_8);
    if (index < 0) {
      const std::string reason = zip_strerror(zip);
      if (source != nullptr) zip_source_free(source);
      zip_discard(zip);
      return Failure{"cannot pack", name, reason};
    }
    // Programs stay programs where they are unpacked.
    const bool program = !content.file.empty() && ::access(content.file.c_str(), X_OK) == 0;
    zip_file_set_external_attributes(zip, static_cast<zip_uint64_t>(index), 0, ZIP_OPSYS_UNIX,
                                     (program ? 0100755u : 0100644u) << 16);
    zip_file_set_mtime(zip, static_cast<zip_uint64_t>(index), kAnyTime, 0);
  }
  if (zip_close(zip) == 0) return Done{};
  const std::string reason = zip_strerror(zip);
  zip_discard(zip);
  return Failure{"cannot write", archive, reason};
}

}  // namespace

Result<Packed> pack(const std::string& run, const record::Recording& recording, const std::string& bench_folder,
                    const std::string& archive) {
  const record::RunIdentity& identity = recording.identity();
  Packed packed;
  Contents all;
  add_folder(all, run, "");
  for (const fs::path& folder : controller_folders(run, identity)) {
    std::error_code none;
    if (!bench_folder.empty() && fs::is_directory(bench_folder / folder, none)) {
      add_folder(all, bench_folder / folder, "bench/" + folder.generic_string() + "/");
    } else {
      packed.missing.push_back(folder.string());
    }
  }
  for (const auto& [name, text] : identity.sources) {
    const bool own = name.starts_with(check::kLibraryMark);
    const std::string inside = own ? "library/" + name.substr(check::kLibraryMark.size()) : "bench/" + name;
    if (plain_relative(inside)) all[inside] = {"", text};
  }
  const fs::path folder = fs::absolute(run).lexically_normal();
  const std::string name =
      folder.has_filename() ? folder.filename().string() : folder.parent_path().filename().string();
  all["READ-ME.txt"] = {"", read_me(name, identity)};
  std::uintmax_t bytes = 0;
  for (const auto& [inside, content] : all) {
    std::error_code none;
    bytes += content.file.empty() ? content.text.size() : fs::file_size(content.file, none);
  }
  if (bytes > kMostBytes) return Failure{"cannot pack", run, "it is larger than 4 GB"};
  const Status written = write_archive(all, archive);
  if (!written) return written.failure();
  packed.files = all.size();
  return packed;
}

}  // namespace isodyne::session
