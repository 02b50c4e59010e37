#pragma once
// The bench as a Modbus server: the controller asks and writes when it wants to, over TCP or a serial line.
//
// A thread for each connection answers out of an image of the registers, so that a slow or hostile client delays
// nobody. The stepping thread hands over and takes, and never waits. Functions 1 to 6, 15 and 16 are answered; places
// that the map does not have, half numbers and values that cannot be are refused with the exception of the standard.

#include <atomic>
#include <list>
#include <mutex>
#include <thread>

#include "isodyne/ports/async_port.h"
#include "isodyne/ports/controller_port.h"
#include "isodyne/ports/modbus/image.h"
#include "isodyne/ports/modbus/line.h"

namespace isodyne::ports {

class ModbusServerPort : public ControllerPort {
 public:
  static constexpr std::size_t kMostConnections = 32;

  /// `silent_after`: a controller that asks nothing for so long is lost.
  ModbusServerPort(std::string name, io::RegisterMap map, std::size_t reads, std::size_t writes, modbus::Line line,
                   std::chrono::nanoseconds silent_after);
  ~ModbusServerPort() override;

  Pace pace() const override { return Pace::free; }
  Status open(Time period) override;
  Result<Standing> look(std::span<const double> reads, std::span<const double> writes) override;
  std::string missing() const override;
  Status begin() override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  Wall::time_point heard() const override;
  Traffic traffic() const override;
  void close() override;

  /// Where it listens: with port 0, the one that was free.
  const std::string& bound() const { return bound_; }

 private:
  struct Connection {
    int socket = -1;
    std::thread thread;
    std::atomic<bool> done{false};
    std::atomic<std::int64_t> heard_ns{0};  ///< when it last asked for something, or came
  };
  using Values = std::vector<double>;
  void accept();
  bool make_room();
  void serve_connection(Connection& connection);
  void serve_line();
  /// Answers one request of `count` bytes; false ends the connection.
  bool answer(modbus_t* context, const std::uint8_t* request, int count);
  bool answer_all(modbus_t* context, std::vector<std::uint8_t>& buffer, std::size_t& have);
  void tidy();

  std::string name_;
  modbus::Line line_;
  std::chrono::nanoseconds silent_after_;
  std::string bound_;

  std::mutex image_mutex_;  ///< never taken by the stepping thread
  modbus::RegisterImage image_;
  Newest<Values> reads_, writes_;
  Values written_;  ///< by the controller, as of its last write

  std::atomic<bool> stopping_{false}, line_open_{false};
  std::atomic<std::int64_t> heard_ns_{0};
  std::atomic<std::int64_t> answered_{0}, refused_{0}, connections_{0};
  std::int64_t begun_ns_ = 0;
  Values taken_;
  int listening_ = -1;
  std::thread thread_;
  std::list<Connection> open_;
};

}  // namespace isodyne::ports
