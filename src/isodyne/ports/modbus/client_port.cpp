#include "isodyne/ports/modbus/client_port.h"

#include <algorithm>
#include <cerrno>
#include <thread>

#include <fmt/format.h>

#include "isodyne/ports/make_port.h"

namespace isodyne::ports {

using io::RegisterTable;
using io::RegisterTag;

ModbusClientPort::ModbusClientPort(std::string name, io::RegisterMap map, modbus::Line line,
                                   std::chrono::nanoseconds answer_within)
    : name_(std::move(name)),
      line_(std::move(line)),
      answer_within_(answer_within),
      image_(std::move(map)),
      context_(nullptr, [](modbus_t*) {}) {
  plan_blocks();
}

/// The standard's longest messages: 123 registers or 1968 bits to write, 125 and 2000 to read; the smaller of both.
void ModbusClientPort::plan_blocks() {
  std::vector<RegisterTag> tags = image_.map().tags;
  std::sort(tags.begin(), tags.end(), [](const RegisterTag& a, const RegisterTag& b) {
    return std::tuple(!a.into_controller, a.table, a.address) < std::tuple(!b.into_controller, b.table, b.address);
  });
  for (const RegisterTag& t : tags) {
    const int most = io::of_bits(t.table) ? 1968 : 123;
    Block* const last = blocks_.empty() ? nullptr : &blocks_.back();
    const bool goes_on = last != nullptr && last->table == t.table && last->into_controller == t.into_controller &&
                         last->first + last->count == t.address && last->count + t.words <= most;
    if (goes_on)
      last->count += t.words;
    else
      blocks_.push_back({t.table, t.address, t.words, t.into_controller});
  }
}

Status ModbusClientPort::open(Time) {
  for (const Block& b : blocks_) {
    if (b.into_controller && io::read_only(b.table))
      return Failure{
          fmt::format("controller `{}`", name_), "",
          fmt::format("{} {} can only be read, and the bench, as the client, has to write there: use coil or "
                      "holding for what goes to the controller",
                      io::table_word(b.table), b.first)};
  }
  missing_ = "no server answers at " + line_.address;
  return Done{};
}

bool ModbusClientPort::connect() {
  if (connected_) return true;
  context_ = modbus::context_of(line_);
  if (context_ == nullptr) return false;
  const auto us = std::chrono::duration_cast<std::chrono::microseconds>(answer_within_).count();
  modbus_set_response_timeout(context_.get(), static_cast<std::uint32_t>(us / 1'000'000),
                              static_cast<std::uint32_t>(us % 1'000'000));
  connected_ = modbus_connect(context_.get()) == 0;
  return connected_;
}

bool ModbusClientPort::carry(const Block& b) {
  modbus_t* const m = context_.get();
  modbus_mapping_t* const image = image_.mapping();
  ++traffic_.sent;
  int done = -1;
  switch (b.table) {
    case RegisterTable::coil:
      done = b.into_controller ? modbus_write_bits(m, b.first, b.count, image->tab_bits + b.first)
                               : modbus_read_bits(m, b.first, b.count, image->tab_bits + b.first);
      break;
    case RegisterTable::discrete:
      done = modbus_read_input_bits(m, b.first, b.count, image->tab_input_bits + b.first);
      break;
    case RegisterTable::holding:
      done = b.into_controller ? modbus_write_registers(m, b.first, b.count, image->tab_registers + b.first)
                               : modbus_read_registers(m, b.first, b.count, image->tab_registers + b.first);
      break;
    case RegisterTable::input:
      done = modbus_read_input_registers(m, b.first, b.count, image->tab_input_registers + b.first);
      break;
  }
  if (done == b.count) {
    ++traffic_.received;
    return true;
  }
  const int why = errno;
  missing_ = fmt::format("{} {} to {} at {}: {}", io::table_word(b.table), b.first, b.first + b.count - 1,
                         line_.address, modbus_strerror(why));
  const bool refused = why >= EMBXILFUN && why <= EMBXGTAR;
  ++(refused ? traffic_.refused : why == ETIMEDOUT ? traffic_.lost : traffic_.corrupted);
  if (!refused) {
    modbus_close(m);
    connected_ = false;
  }
  return false;
}

bool ModbusClientPort::all() {
  return connect() && std::all_of(blocks_.begin(), blocks_.end(), [&](const Block& b) { return carry(b); });
}

Result<Standing> ModbusClientPort::look(std::span<const double> reads, std::span<const double>) {
  image_.put_reads(reads);
  if (all()) return Standing::ready;
  std::this_thread::sleep_for(std::chrono::milliseconds(5));
  return connected_ ? Standing::answering : Standing::offline;
}

Status ModbusClientPort::exchange(Time, std::span<const double> reads, std::span<double> writes) {
  image_.put_reads(reads);
  const auto until = Wall::now() + answer_within_;
  while (!all()) {  // a connection that is gone may come back
    if (Wall::now() >= until) return Failure{fmt::format("controller `{}`", name_), "", missing_};
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
  }
  if (image_.get_writes(writes)) return Done{};
  return Failure{fmt::format("controller `{}`", name_), "", "one of its registers holds no value that can be"};
}

void ModbusClientPort::close() {
  if (connected_) modbus_close(context_.get());
  connected_ = false;
}

std::unique_ptr<ControllerPort> make_modbus_client(const PortOrder& o) {
  auto map = map_of(o.program, o.controller, o.setting, o.place);
  if (!map) return useless_port(map.failure());
  const modbus::Line line{o.setting.address, o.setting.unit, o.setting.rate, o.setting.parity};
  return std::make_unique<ModbusClientPort>(o.controller.name, std::move(*map), line, o.place.answer_within);
}

}  // namespace isodyne::ports
