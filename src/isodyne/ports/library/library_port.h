#pragma once
// A controller in a shared library in this process; see include/isodyne/controller.h.

#include <vector>

#include "isodyne/controller.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/library/foreign_calls.h"

namespace isodyne::ports {

class LibraryPort : public ControllerPort {
 public:
  /// `library` as in the bench, relative to `folder`: "controller/lockctl" finds controller/lockctl.so and
  /// controller/liblockctl.so too. `calls` must outlive the port.
  LibraryPort(std::string name, Layout layout, std::string folder, std::string library, ForeignCalls& calls);
  ~LibraryPort() override;

  Status open(Time period) override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  bool can_be_copied() const override { return copied_ != nullptr; }
  Status copied() override;
  void close() override;

 private:
  Status step(Time now, std::span<const double> reads, std::span<double> writes);
  Result<std::string> find_file() const;
  Status find_symbols();

  std::string name_;
  Layout layout_;
  std::string folder_, library_;
  std::string file_;
  ForeignCalls& calls_;
  std::int32_t who_ = 0;
  void* handle_ = nullptr;
  void* self_ = nullptr;
  int (*init_)(void**, std::int64_t) = nullptr;
  int (*step_)(void*, std::int64_t, const void*, void*) = nullptr;
  void (*close_)(void*) = nullptr;
  int (*copied_)(void*) = nullptr;  ///< not every controller has it
  std::vector<std::byte> reads_, writes_;
};

}  // namespace isodyne::ports
