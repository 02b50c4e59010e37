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
  void declare_controller(const lang::ControllerDecl& c);
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
  void define_controller(const lang::ControllerDecl& c, Controller& controller);
  void define_reads(const lang::ControllerDecl& c, Controller& controller);
  /// A value that another controller gives, as it arrives here.
  void declare_message(const lang::ControllerDecl& c, const lang::ControllerDecl::Read& read, Instance& inside);
  void read_message(const lang::ControllerDecl::Read& read, Controller& controller);
  const lang::ControllerDecl::Write* written_elsewhere(const lang::Path& path) const;
  void define_messages();
  Target target_of(const lang::ControllerDecl::Write& w, Instance& inside);
  void define_writes(const lang::ControllerDecl& c, Controller& controller);
  bool read_value(const lang::Path& path, VarId id, Controller& controller);
  /// The frame of this name, if there is one and it goes this way and to nobody else.
  std::optional<std::int32_t> frame_named(const lang::Path& path, bool to_controller, bool& meant);
  void read_frame(std::int32_t frame, Controller& controller);
  void write_frame(std::int32_t frame, Controller& controller);
  std::int32_t actuator_of(VarId value) const;
  bool first_to_write(VarId value, Span span);

  std::optional<std::pair<double, double>> interval(const lang::Interval& i, const Type& type, const char* what);
  void fits(const Actuator& actuator, double value, Span span, const char* which);
  Instance& pseudo_part(const lang::Name& name);
  ExprScope scope() const { return {&check_.root, nullptr}; }

  Check& check_;
  Expressions& x_;
  const lang::BenchDecl& bench_;
  std::map<std::int32_t, Span> frames_used_;
};

}  // namespace isodyne::check
