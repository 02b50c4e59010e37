#include "isodyne/session/evidence.h"

#include <cerrno>
#include <charconv>
#include <cstring>
#include <ctime>
#include <filesystem>

#include <sys/stat.h>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/session/catalogue.h"

namespace isodyne::session {

namespace fs = std::filesystem;

Result<std::string> make_run_folder(const std::string& wanted, const std::string& name, const std::string& among) {
  std::error_code error;
  if (!wanted.empty()) {
    if (fs::exists(wanted, error) && (!fs::is_directory(wanted, error) || !fs::is_empty(wanted, error))) {
      return Failure{"cannot use", wanted, "it exists and is not an empty folder; earlier runs are not written over",
                     Failure::Kind::wrong_input};
    }
    fs::create_directories(wanted, error);
    if (error) return Failure{"cannot create the folder", wanted, error.message()};
    return wanted;
  }
  fs::create_directories(among, error);
  if (error) return Failure{"cannot create the folder", among, error.message() + "; choose another with --out"};
  int number = 1;
  for (const auto& entry : fs::directory_iterator(among, error)) {
    int taken = 0;
    const std::string taken_name = entry.path().filename().string();
    if (std::from_chars(taken_name.data(), taken_name.data() + taken_name.size(), taken).ec == std::errc{})
      number = std::max(number, taken + 1);
  }
  for (; number < 1'000'000; ++number) {  // mkdir decides between two runs that start together
    const std::string folder = fmt::format("{}/{:03}-{}", among, number, name);
    if (mkdir(folder.c_str(), 0777) == 0) return folder;
    if (errno != EEXIST)
      return Failure{"cannot create the folder", folder,
                     std::string(std::strerror(errno)) + "; choose another with --out"};
  }
  return Failure{"cannot find a free name in", among, ""};
}

Status write_verdicts(const Summary& summary, const std::string& folder) {
  for (const auto& [name, text] :
       {std::pair{"verdicts.json", to_json(summary)}, std::pair{"verdicts.xml", to_junit(summary)}}) {
    const Status written = write_file((fs::path(folder) / name).string(), text);
    if (!written) return written.failure();
  }
  return Done{};
}

Status enter_into_catalogue(const std::string& folder, const Summary& summary, const record::RunIdentity& identity) {
  const auto catalogue = Catalogue::open(usual_catalogue());
  if (!catalogue) return catalogue.failure();
  return (*catalogue)->enter(entry_of(folder, summary, identity));
}

std::string now_text() {
  const std::time_t now = std::time(nullptr);
  std::tm utc{};
  gmtime_r(&now, &utc);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%d %H:%M:%S UTC", &utc);
  return text;
}

}  // namespace isodyne::session
