#pragma once
// A controller in a shared library in this process; see include/isodyne/controller.h.

#include <vector>

#include "isodyne/controller.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/library/guard.h"

namespace isodyne::ports {

class LibraryPort : public ControllerPort {
 public:
  /// `library` as in the bench, relative to `folder`: "controller/lockctl" finds controller/lockctl.so and
  /// controller/liblockctl.so too. `guard` must outlive the port; its limit decides what counts as a hang.
  LibraryPort(std::string name, Layout layout, std::string folder, std::string library, CallGuard& guard);
  ~LibraryPort() override;

  Status open(Time period) override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  void close() override;

 private:
  Status step(Time now, std::span<const double> reads, std::span<double> writes);
  Result<std::string> find_file() const;
  Status find_symbols();
  Failure failed(const char* what, const CallOutcome& outcome) const;

  std::string name_;
  Layout layout_;
  std::string folder_, library_;
  std::string file_;
  CallGuard& guard_;
  void* handle_ = nullptr;
  void* self_ = nullptr;
  int (*init_)(void**, std::int64_t) = nullptr;
  int (*step_)(void*, std::int64_t, const void*, void*) = nullptr;
  void (*close_)(void*) = nullptr;
  std::vector<std::byte> reads_, writes_;
};

}  // namespace isodyne::ports
