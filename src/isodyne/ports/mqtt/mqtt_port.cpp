#include "isodyne/ports/mqtt/mqtt_port.h"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <mosquitto.h>
#include <unistd.h>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/ports/make_port.h"
#include "isodyne/ports/peer.h"

namespace isodyne::ports {

namespace {

struct Library {
  Library() { mosquitto_lib_init(); }
  ~Library() { mosquitto_lib_cleanup(); }
};

}  // namespace

std::string MqttPort::text_of(const Value& v, double si) {
  if (v.boolean) return si != 0 ? "true" : "false";
  if (!v.labels.empty()) {
    const auto index = static_cast<std::size_t>(std::max(0.0, si));
    return index < v.labels.size() ? v.labels[index] : fmt::format("{:.0f}", si);
  }
  return format_exact(v.unit.read(si));
}

std::optional<double> MqttPort::value_of(const Value& v, std::string_view text) {
  if (text == "true") return v.boolean ? std::optional(1.0) : std::nullopt;
  if (text == "false") return v.boolean ? std::optional(0.0) : std::nullopt;
  for (std::size_t i = 0; i < v.labels.size(); ++i) {
    if (text == v.labels[i]) return static_cast<double>(i);
  }
  double number = 0;
  const auto read = std::from_chars(text.data(), text.data() + text.size(), number);
  if (read.ec != std::errc{} || read.ptr != text.data() + text.size() || !std::isfinite(number)) return std::nullopt;
  const bool whole = number == std::floor(number);
  if (v.boolean) return number == 0 || number == 1 ? std::optional(number) : std::nullopt;
  if (!v.labels.empty())
    return whole && number >= 0 && number < static_cast<double>(v.labels.size()) ? std::optional(number) : std::nullopt;
  if (v.whole) return whole && std::abs(number) < 2147483648.0 ? std::optional(number) : std::nullopt;
  const double si = number * v.unit.factor + v.unit.offset;
  return std::isfinite(si) ? std::optional(si) : std::nullopt;
}

MqttPort::MqttPort(std::string name, Plan plan)
    : name_(std::move(name)),
      plan_(std::move(plan)),
      reads_(Reads{{}, std::vector<double>(plan_.reads.size())}),
      writes_(std::vector<double>(plan_.writes.size())),
      taken_(plan_.writes.size()),
      written_(plan_.writes.size()),
      told_(plan_.reads.size()) {
  static const Library library;
  for (std::size_t i = 0; i < plan_.writes.size(); ++i) index_.emplace(plan_.writes[i].name, i);
}

MqttPort::~MqttPort() {
  close();
}

Status MqttPort::open(Time) {
  const std::string id = fmt::format("isodyne-{}-{}", getpid(), ControllerPort::now_ns() & 0xFFFFFF);
  client_ = mosquitto_new(id.c_str(), true, this);
  if (client_ == nullptr) return Failure{"cannot make an MQTT client", "", ""};
  const std::string bench = plan_.topic + "/bench";
  mosquitto_will_set(client_, bench.c_str(), 4, "lost", 1, true);
  mosquitto_reconnect_delay_set(client_, 1, 1, false);
  mosquitto_connect_callback_set(client_, [](mosquitto*, void* self, int refused) {
    if (refused == 0) static_cast<MqttPort*>(self)->connected();
  });
  mosquitto_disconnect_callback_set(client_, [](mosquitto*, void* p, int) {
    auto& self = *static_cast<MqttPort*>(p);
    if (self.broker_.exchange(false) && !self.stopping_.load(std::memory_order_relaxed))
      self.away_.fetch_add(1, std::memory_order_relaxed);
    self.broker_gone_ns_.store(now_ns(), std::memory_order_relaxed);
  });
  mosquitto_message_callback_set(client_, [](mosquitto*, void* self, const mosquitto_message* message) {
    static_cast<MqttPort*>(self)->take(*message);
  });
  return Done{};
}

/// On the port's thread, after every connection: what was subscribed and retained may be gone with the broker.
void MqttPort::connected() {
  for (const char* const topic : {"/controller", "/from", "/from/#"}) {
    const std::string all = plan_.topic + topic;
    mosquitto_subscribe(client_, nullptr, all.c_str(), 1);
  }
  say("bench", running_.load(std::memory_order_relaxed) ? "running" : "ready", true);
  std::fill(told_.begin(), told_.end(), std::string());
  all_to_tell_ = true;
  broker_.store(true, std::memory_order_relaxed);
}

void MqttPort::say(const std::string& topic, const std::string& text, bool retain) {
  const std::string all = plan_.topic + "/" + topic;
  if (mosquitto_publish(client_, nullptr, all.c_str(), static_cast<int>(text.size()), text.data(), 0, retain) ==
      MOSQ_ERR_SUCCESS)
    sent_.fetch_add(1, std::memory_order_relaxed);
}

void MqttPort::take(const mosquitto_message& m) {
  const auto refuse = [&] { refused_.fetch_add(1, std::memory_order_relaxed); };
  const std::string_view topic(m.topic);
  if (m.payloadlen < 0 || static_cast<std::size_t>(m.payloadlen) > kMostPayload) return refuse();
  const std::string_view text(static_cast<const char*>(m.payload), static_cast<std::size_t>(m.payloadlen));
  const std::string_view rest = topic.substr(std::min(topic.size(), plan_.topic.size() + 1));
  if (rest == "controller") {
    if (text == "ready") ready_.store(true, std::memory_order_relaxed);
    // A last will that was retained from an earlier time is no loss: only who was ready can be lost.
    if (text == "lost" && ready_.load(std::memory_order_relaxed)) lost_.store(true, std::memory_order_relaxed);
    if (text != "ready" && text != "lost") refuse();
    return;
  }
  if (rest == "from") {
    if (!plan_.grouped) return refuse();
    take_group(text);
  } else {
    const auto found =
        plan_.grouped ? index_.end() : index_.find(std::string(rest.substr(std::min<std::size_t>(5, rest.size()))));
    if (found == index_.end()) return refuse();
    const auto value = value_of(plan_.writes[found->second], text);
    if (!value) return refuse();
    written_[found->second] = *value;
    received_.fetch_add(1, std::memory_order_relaxed);
    heard_ns_.store(now_ns(), std::memory_order_relaxed);
  }
  writes_.mine() = written_;
  writes_.publish();
}

/// All of an object is taken, or nothing of it.
void MqttPort::take_group(std::string_view payload) {
  const auto object = parse_json(payload);
  std::vector<double> values = written_;
  bool good = object && object->is_object();
  if (good) {
    for (const auto& [name, value] : object->items()) {
      if (name == "time_s") continue;
      const auto found = index_.find(name);
      const std::string text = value.is_string() ? value.get<std::string>() : value.dump();
      const auto read = found == index_.end() ? std::nullopt : value_of(plan_.writes[found->second], text);
      good = good && read;
      if (read) values[found->second] = *read;
    }
  }
  if (!good) {
    refused_.fetch_add(1, std::memory_order_relaxed);
    return;
  }
  written_ = std::move(values);
  received_.fetch_add(1, std::memory_order_relaxed);
  heard_ns_.store(now_ns(), std::memory_order_relaxed);
}

void MqttPort::publish(const Reads& reads) {
  if (plan_.grouped) {
    std::string text = fmt::format("{{\"time_s\":{}", format_exact(to_seconds(reads.at)));
    for (std::size_t i = 0; i < reads.values.size(); ++i) {
      const Value& v = plan_.reads[i];
      const std::string value = text_of(v, reads.values[i]);
      text += fmt::format(",\"{}\":{}", v.name, v.labels.empty() ? value : "\"" + value + "\"");
    }
    return say("to", text + "}", true);
  }
  for (std::size_t i = 0; i < reads.values.size(); ++i) {
    std::string text = text_of(plan_.reads[i], reads.values[i]);
    if (text == told_[i]) continue;
    say("to/" + plan_.reads[i].name, text, true);
    told_[i] = std::move(text);
  }
}

void MqttPort::work() {
  const HostPort broker = host_and_port(plan_.address);
  bool reached = mosquitto_connect(client_, broker.host.c_str(), broker.port, 5) == MOSQ_ERR_SUCCESS;
  Reads last;
  while (!stopping_.load(std::memory_order_relaxed)) {
    if (!reached || mosquitto_loop(client_, 1, 100) != MOSQ_ERR_SUCCESS) {
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
      reached = mosquitto_reconnect(client_) == MOSQ_ERR_SUCCESS;
      continue;
    }
    const Reads* const news = reads_.fetch();
    if (news != nullptr) last = *news;
    if (!broker_.load(std::memory_order_relaxed) || last.values.empty()) continue;
    if (news != nullptr || all_to_tell_) publish(last);
    all_to_tell_ = false;
    if (running_.load(std::memory_order_relaxed) && !said_running_) {
      say("bench", "running", true);
      said_running_ = true;
    }
  }
  if (!broker_.load(std::memory_order_relaxed)) return;
  say("bench", "ended", true);
  for (int i = 0; i < 50 && mosquitto_want_write(client_); ++i) mosquitto_loop(client_, 1, 100);
  mosquitto_disconnect(client_);
}

Result<Standing> MqttPort::look(std::span<const double> reads, std::span<const double> writes) {
  if (!thread_.joinable()) {
    std::copy(writes.begin(), writes.end(), taken_.begin());
    std::copy(writes.begin(), writes.end(), written_.begin());
    std::copy(reads.begin(), reads.end(), reads_.mine().values.begin());
    reads_.publish();
    thread_ = std::thread([this] { work(); });
  }
  if (ready_.load(std::memory_order_relaxed)) return Standing::ready;
  return broker_.load(std::memory_order_relaxed) ? Standing::answering : Standing::offline;
}

std::string MqttPort::missing() const {
  return broker_.load(std::memory_order_relaxed) ? fmt::format("nobody has said `ready` on {}/controller", plan_.topic)
                                                 : fmt::format("no broker answers at {}", plan_.address);
}

Status MqttPort::begin() {
  running_.store(true, std::memory_order_relaxed);
  return Done{};
}

Status MqttPort::exchange(Time now, std::span<const double> reads, std::span<double> writes) {
  Reads& mine = reads_.mine();
  mine.at = now;
  std::copy(reads.begin(), reads.end(), mine.values.begin());
  reads_.publish();
  if (const auto* news = writes_.fetch()) std::copy(news->begin(), news->end(), taken_.begin());
  std::copy(taken_.begin(), taken_.end(), writes.begin());
  if (lost_.load(std::memory_order_relaxed))
    return Failure{fmt::format("controller `{}`", name_), "",
                   fmt::format("its last will came on {}/controller", plan_.topic)};
  if (broker_.load(std::memory_order_relaxed)) return Done{};
  const std::int64_t gone = now_ns() - broker_gone_ns_.load(std::memory_order_relaxed);
  if (gone < plan_.lost_after.count()) return Done{};
  return Failure{fmt::format("controller `{}`", name_), "",
                 fmt::format("the broker at {} is gone for {} ms", plan_.address, gone / 1'000'000)};
}

ControllerPort::Wall::time_point MqttPort::heard() const {
  return Wall::time_point(Wall::duration(heard_ns_.load(std::memory_order_relaxed)));
}

Traffic MqttPort::traffic() const {
  Traffic t;
  t.sent = sent_.load(std::memory_order_relaxed);
  t.received = received_.load(std::memory_order_relaxed);
  t.refused = refused_.load(std::memory_order_relaxed);
  t.away = away_.load(std::memory_order_relaxed);
  return t;
}

void MqttPort::close() {
  stopping_.store(true, std::memory_order_relaxed);
  if (thread_.joinable()) thread_.join();
  if (client_ != nullptr) mosquitto_destroy(client_);
  client_ = nullptr;
}

namespace {
std::vector<MqttPort::Value> mqtt_values(const program::Program& program, const std::vector<program::VarId>& ids) {
  std::vector<MqttPort::Value> values;
  for (const program::VarId id : ids) {
    const program::Variable& v = program.variable(id);
    MqttPort::Value value;
    value.name = v.name;
    value.unit = v.unit;
    value.boolean = v.type.kind == program::Type::Kind::boolean;
    value.whole = v.type.kind == program::Type::Kind::integer;
    if (v.type.kind == program::Type::Kind::choice)
      value.labels = program.choices[static_cast<std::size_t>(v.type.choice)].labels;
    values.push_back(std::move(value));
  }
  return values;
}
}  // namespace

std::unique_ptr<ControllerPort> make_mqtt(const PortOrder& o) {
  std::vector<program::VarId> written;
  for (const program::ControllerWrite& w : o.controller.writes) written.push_back(w.value);
  const program::Setting& s = o.setting;
  return std::make_unique<MqttPort>(
      o.controller.name, MqttPort::Plan{s.address, s.topic, s.grouped, o.place.answer_within,
                                        mqtt_values(o.program, o.controller.reads), mqtt_values(o.program, written)});
}

}  // namespace isodyne::ports
