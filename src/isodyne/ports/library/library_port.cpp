#include "isodyne/ports/library/library_port.h"
#include "isodyne/core/text.h"

#include <cstring>
#include <filesystem>

#include <dlfcn.h>

#include <fmt/format.h>

#include "isodyne/ports/make_port.h"

namespace isodyne::ports {

namespace {
/// A plain function pointer out of a symbol's address; POSIX guarantees that this works.
template <typename Function>
void to_function(void* address, Function& function) {
  static_assert(sizeof(address) == sizeof(function));
  std::memcpy(&function, &address, sizeof function);
}
}  // namespace

LibraryPort::LibraryPort(std::string name, Layout layout, std::string folder, std::string library, ForeignCalls& calls)
    : name_(std::move(name)),
      layout_(std::move(layout)),
      folder_(std::move(folder)),
      library_(std::move(library)),
      calls_(calls),
      reads_(layout_.reads_bytes),
      writes_(layout_.writes_bytes) {}

LibraryPort::~LibraryPort() = default;  // if it was not closed it stays loaded: nothing of it may run again

Result<std::string> LibraryPort::find_file() const {
  namespace fs = std::filesystem;
  const fs::path given = fs::path(folder_) / library_;
  const fs::path with_prefix = given.parent_path() / ("lib" + given.filename().string());
  std::string tried;
  for (const fs::path& path : {given, fs::path(given.string() + ".so"), fs::path(with_prefix.string() + ".so")}) {
    std::error_code none;
    if (fs::is_regular_file(path, none)) return fs::absolute(path).string();
    list_on(tried, path.string());
  }
  return Failure{fmt::format("cannot find the library of controller `{}`", name_), "",
                 fmt::format("tried {}; has it been built?", tried)};
}

Status LibraryPort::open(Time period) {
  const auto file = find_file();
  if (!file) return file.failure();
  file_ = *file;
  who_ = calls_.enter(name_, library_, file_);
  handle_ =
      calls_.run(who_, ForeignFunction::load, Time{}, [&] { return dlopen(file_.c_str(), RTLD_NOW | RTLD_LOCAL); });
  if (handle_ == nullptr)
    return Failure{fmt::format("cannot load the library of controller `{}`", name_), "", dlerror()};
  if (const Status symbols = find_symbols(); !symbols) return symbols;
  const int result = calls_.run(who_, ForeignFunction::init, Time{}, [&] { return init_(&self_, period.count()); });
  if (result == 0) return Done{};
  close_ = nullptr;
  return Failure{fmt::format("controller `{}`", name_), "", fmt::format("isodyne_init gave up with code {}", result)};
}

Status LibraryPort::find_symbols() {
  const std::string trouble = fmt::format("controller `{}`", name_);
  const char* const names[] = {"isodyne_info", "isodyne_init", "isodyne_step", "isodyne_close"};
  void* found[4] = {};
  std::string missing;
  for (std::size_t i = 0; i < 4; ++i) {
    found[i] = dlsym(handle_, names[i]);
    if (found[i] == nullptr) missing += (missing.empty() ? "`" : ", `") + std::string(names[i]) + "`";
  }
  if (!missing.empty()) {
    return Failure{
        trouble, "",
        fmt::format(
            "{} does not define {}; a controller needs all of isodyne_info, isodyne_init, isodyne_step, isodyne_close",
            library_, missing)};
  }
  isodyne_controller_info info{};
  std::memcpy(&info, found[0], sizeof info);
  if (info.interface_version != ISODYNE_CONTROLLER_VERSION) {
    return Failure{
        trouble, "",
        fmt::format("{} was built for version {} of isodyne/controller.h; this is version {}. Build it again", library_,
                    info.interface_version, ISODYNE_CONTROLLER_VERSION)};
  }
  if (info.layout != layout_.identity || info.reads_bytes != layout_.reads_bytes ||
      info.writes_bytes != layout_.writes_bytes) {
    return Failure{
        trouble, "",
        fmt::format("{} was built for other channels or parameters than this bench has. Write the header again with "
                    "`isodyne export header` and rebuild",
                    library_)};
  }
  to_function(found[1], init_);
  to_function(found[2], step_);
  to_function(found[3], close_);
  if (void* const copied = dlsym(handle_, "isodyne_copied")) to_function(copied, copied_);
  return Done{};
}

Status LibraryPort::exchange(Time now, std::span<const double> reads, std::span<double> writes) {
  const Status stepped = step(now, reads, writes);
  if (!stepped) close_ = nullptr;  // after it gave up nothing of it may run again
  return stepped;
}

Status LibraryPort::step(Time now, std::span<const double> reads, std::span<double> writes) {
  pack(layout_.reads, reads, reads_.data());
  calls_.show_reads(reads);
  const int result = calls_.run(who_, ForeignFunction::step, now,
                                [&] { return step_(self_, now.count(), reads_.data(), writes_.data()); });
  if (result != 0)
    return Failure{fmt::format("controller `{}`", name_), "", fmt::format("isodyne_step gave up with code {}", result)};
  const int wrong = unpack(layout_.writes, writes_.data(), writes);
  if (wrong >= 0) {
    const auto index = static_cast<std::size_t>(wrong);
    return Failure{fmt::format("controller `{}`", name_), "", why_wrong(layout_.writes, index, writes[index])};
  }
  return Done{};
}

Status LibraryPort::copied() {
  const Time at{call_board().at_ns.load(std::memory_order_relaxed)};
  const int result = calls_.run(who_, ForeignFunction::copied, at, [&] { return copied_(self_); });
  if (result == 0) return Done{};
  close_ = nullptr;
  return Failure{fmt::format("controller `{}`", name_), "", fmt::format("isodyne_copied gave up with code {}", result)};
}

void LibraryPort::close() {
  if (close_ == nullptr) return;
  const Time at{call_board().at_ns.load(std::memory_order_relaxed)};
  calls_.run(who_, ForeignFunction::close, at, [&] { close_(self_); });
  calls_.run(who_, ForeignFunction::unload, at, [&] { dlclose(handle_); });
  close_ = nullptr;
}

std::unique_ptr<ControllerPort> make_library(const PortOrder& o) {
  return std::make_unique<LibraryPort>(o.controller.name, layout_of(o.program, o.controller), o.place.folder,
                                       o.setting.address, *o.place.calls);
}

}  // namespace isodyne::ports
