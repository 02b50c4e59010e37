#include "isodyne/ports/make_port.h"

#include <filesystem>

namespace isodyne::ports {

namespace {

class UselessPort : public ControllerPort {
 public:
  explicit UselessPort(Failure why) : why_(std::move(why)) {}
  Status open(Time) override { return why_; }
  Status exchange(Time, std::span<const double>, std::span<double>) override { return why_; }
  void close() override {}

 private:
  Failure why_;
};

}  // namespace

std::unique_ptr<ControllerPort> useless_port(Failure why) {
  return std::make_unique<UselessPort>(std::move(why));
}

Result<io::RegisterMap> map_of(const program::Program& program, const program::Controller& c, const program::Setting& s,
                               const PortPlace& place) {
  const std::string file = (std::filesystem::path(place.folder) / s.map).string();
  const auto text = place.read_file(file);
  if (!text) return text.failure();
  return io::read_registers(*text, file, program, c);
}

std::unique_ptr<ControllerPort> make_port(const program::Program& program, const program::Controller& c,
                                          const program::Setting& s, const PortPlace& place) {
  const PortOrder order{program, c, s, place};
  switch (s.kind) {
#define PORT(id, words, at, pace, clauses) \
  case program::Setting::Kind::id:         \
    return make_##id(order);
#include "isodyne/program/port_kinds.def"
#undef PORT
  }
  return useless_port({"there is no port of this kind", c.name, ""});
}

}  // namespace isodyne::ports
