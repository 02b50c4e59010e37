#pragma once
// A controller behind an MQTT broker (MQTT 3.1.1).
//
// With the topic "lock/plc": the bench publishes lock/plc/to/NAME, retained and when it changes, and listens to
// lock/plc/from/NAME; as groups these are lock/plc/to and lock/plc/from with one JSON object. Values are text in the
// unit of the bench: 3.25, true, a label. lock/plc/bench says ready, running, ended, or lost (last will);
// lock/plc/controller is where the controller says ready, and its last will says lost.

#include <atomic>
#include <string>
#include <thread>
#include <unordered_map>

#include "isodyne/ports/async_port.h"
#include "isodyne/ports/controller_port.h"

struct mosquitto;
struct mosquitto_message;

namespace isodyne::ports {

class MqttPort : public ControllerPort {
 public:
  static constexpr std::size_t kMostPayload = 256 * 1024;

  struct Value {
    std::string name;  ///< in topics and objects
    Unit unit;
    bool boolean = false, whole = false;
    std::vector<std::string> labels;  ///< of a choice
  };
  struct Plan {
    std::string address, topic;
    bool grouped = false;
    /// A broker that is gone for so long takes the controller with it.
    std::chrono::nanoseconds lost_after = std::chrono::seconds(1);
    std::vector<Value> reads, writes;
  };
  MqttPort(std::string name, Plan plan);
  ~MqttPort() override;

  Pace pace() const override { return Pace::free; }
  Status open(Time period) override;
  Result<Standing> look(std::span<const double> reads, std::span<const double> writes) override;
  std::string missing() const override;
  Status begin() override;
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override;
  Wall::time_point heard() const override;
  Traffic traffic() const override;
  void close() override;

  /// Text of a value and back; nothing if it is none.
  static std::string text_of(const Value& value, double si);
  static std::optional<double> value_of(const Value& value, std::string_view text);

 private:
  struct Reads {
    Time at{};
    std::vector<double> values;
  };
  void work();
  void connected();
  void take(const mosquitto_message& message);
  void take_group(std::string_view payload);
  void publish(const Reads& reads);
  void say(const std::string& topic, const std::string& text, bool retain);

  std::string name_;
  Plan plan_;
  mosquitto* client_ = nullptr;
  std::thread thread_;
  std::atomic<bool> stopping_{false}, running_{false}, ended_{false};
  std::atomic<bool> broker_{false}, ready_{false}, lost_{false};
  std::atomic<std::int64_t> heard_ns_{0}, broker_gone_ns_{0};
  std::atomic<std::int64_t> sent_{0}, received_{0}, refused_{0}, away_{0};
  Newest<Reads> reads_;
  Newest<std::vector<double>> writes_;
  std::vector<double> taken_;                           ///< the stepping thread's
  std::vector<double> written_;                         ///< the port's
  std::vector<std::string> told_;                       ///< per read, what was published last
  std::unordered_map<std::string, std::size_t> index_;  ///< of writes, by name
  bool said_running_ = false, all_to_tell_ = false;
};

}  // namespace isodyne::ports
