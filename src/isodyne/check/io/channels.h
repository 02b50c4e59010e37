#pragma once
// Sensors, actuators and controllers: what stands between the plant and its controller.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class ChannelCheck {
 public:
  ChannelCheck(Check& check, Expressions& expressions, const lang::BenchDecl& bench)
      : check_(check), x_(expressions), bench_(bench) {}

  void declare();
  void define();
  /// Frames must be defined.
  void define_controllers();

 private:
  void declare_sensor(const lang::SensorDecl& s);
  void declare_actuator(const lang::ActuatorDecl& a);
  /// A controller, or an element of an array.
  struct One {
    const lang::ControllerDecl* decl = nullptr;
    std::string name;
    const Env* env = nullptr;
  };
  void declare_controllers(const lang::ControllerDecl& c);
  void declare_controller(const One& one);
  /// The elements of a vector lie one behind another.
  void define_sensor(const lang::SensorDecl& s, std::size_t first, std::size_t count);
  void sampling(const lang::SensorDecl& s, Sensor& sensor);
  void define_element(const lang::SensorDecl& s, const Type& type, Sensor& sensor);
  void declare_form(const lang::ChannelDecl& c, bool has_counts, Instance& inside, const lang::Name& name,
                    const std::string& doc, ChannelForm& form);
  bool no_form(const lang::ChannelDecl& c, const Type& type, const std::string& who);
  void form(const lang::ChannelDecl& c, const Type& type, const lang::Name& name, const std::string& who,
            ChannelForm& form);
  void pulses(const lang::SensorDecl& s, const Type& type, Sensor& sensor);
  void electrical(const lang::ChannelDecl& c, const Type& type, const lang::Name& name, const std::string& who,
                  ChannelForm& form);
  void curve(const lang::ChannelDecl& c, const Type& type, ChannelForm& form);
  std::optional<Linear> by_factor(const lang::PerUnit& per, const Type& type, const Type& from_type);
  void word(const std::optional<lang::WordDecl>& declared, const lang::Name& name, const std::string& who,
            bool has_ends, const Linear& scale, Word& word);
  void define_actuator(const lang::ActuatorDecl& a, Actuator& actuator);
  void edges(const lang::ActuatorDecl& a, const std::string& who, Actuator& actuator);
  void define_controller(const One& one, Controller& controller);
  void define_reads(const One& one, Controller& controller);
  /// A value that another controller gives, as it arrives here.
  void declare_message(std::size_t controller, const lang::ControllerDecl::Read& read);
  void read_message(const lang::ControllerDecl::Read& read, Controller& controller);
  void define_messages();
  Target target_of(const lang::ControllerDecl::Write& w, const Env* env, Instance& inside);
  void define_writes(const One& one, Controller& controller);
  bool read_value(const lang::Path& path, VarId id, Controller& controller);
  /// An element of a vector that is exchanged by itself.
  void name_element(const lang::Path& path, VarId id, bool part, Controller& controller);
  /// The frame of this name, if there is one and it goes this way and to nobody else.
  std::optional<std::int32_t> frame_named(const lang::Path& path, bool to_controller, bool& meant);
  void read_frame(std::int32_t frame, Controller& controller);
  void write_frame(std::int32_t frame, Controller& controller);
  std::int32_t actuator_of(VarId value) const;
  bool first_to_write(VarId value, Span span);

  std::optional<std::pair<double, double>> interval(const lang::Interval& i, const Type& type, const char* what);
  void fits(const Actuator& actuator, double value, Span span, const char* which);
  Instance& pseudo_part(const lang::Name& name);
  ExprScope scope(const Env* env = nullptr) const { return {&check_.root, nullptr, env}; }

  Check& check_;
  Expressions& x_;
  const lang::BenchDecl& bench_;
  std::map<std::int32_t, Span> frames_used_;
  std::vector<One> controllers_;                ///< in the order of Program::controllers
  std::map<VarId, std::int32_t> own_value_of_;  ///< values of controllers, and whose they are
  /// What is read over messages: the values elsewhere, and as they arrive.
  struct Heard {
    std::vector<VarId> from, here;
    bool vector = false, reported = false;
  };
  std::map<std::pair<const lang::ControllerDecl::Read*, std::int32_t>, Heard> heard_;
};

}  // namespace isodyne::check
