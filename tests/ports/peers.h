#pragma once
// Other ends for ports: programs, a Modbus client and server of libmodbus, an MQTT broker and a client.

#include <functional>
#include <string>
#include <vector>

#include "isodyne/ports/controller_port.h"
#include "isodyne/program/program.h"
#include "support.h"

namespace isodyne::test {

/// Starts a program; the function that is returned ends it.
std::function<void()> run_peer(const std::vector<std::string>& words);
/// Process number of the program that run_peer started last.
int last_peer();

/// Where a server port listens.
std::string bound_address(const ports::ControllerPort& port);

/// echo.so, echo_link, echo.py and their layout, and the maps: a controller that sends back what it reads.
void make_echo(TestFolder& folder, const program::Program& program, const program::Controller& controller);
/// registers.csv for a bench that is the server, client.csv for one that is the client.
void make_maps(TestFolder& folder, const program::Program& program, const program::Controller& controller);
/// Compiles `file` in the folder; `options` go to the C compiler.
void compile_c(TestFolder& folder, const std::string& file, const std::string& options);

std::function<void()> modbus_echo_client(const std::string& address);
std::function<void()> modbus_echo_server(const std::string& host, int port);
std::function<void()> mqtt_echo(int port, const std::string& topic, bool grouped);

/// A mosquitto of its own on this port; port 0: none.
class Broker {
 public:
  explicit Broker(int port);
  ~Broker() { stop(); }
  Broker(const Broker&) = delete;
  Broker& operator=(const Broker&) = delete;
  void stop();
  void start();

 private:
  int port_;
  int child_ = -1;
  TestFolder folder_;
};

}  // namespace isodyne::test
