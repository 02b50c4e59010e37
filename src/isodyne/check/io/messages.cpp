// Messages between controllers: what carries them, and which values go over it.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/io/channels.h"
#include "isodyne/check/io/settings.h"

namespace isodyne::check {

namespace {
/// What arrives over messages is called after the controller and its value, without the numbers of elements.
std::string name_of(const lang::Path& path) {
  std::string name;
  for (const lang::PathStep& step : path.parts) name += (name.empty() ? "" : "_") + step.text;
  return name;
}
}  // namespace

void ChannelCheck::declare_message(std::size_t controller, const lang::ControllerDecl::Read& read) {
  const One& one = controllers_[controller];
  const auto number = static_cast<std::int32_t>(controller);
  if (!read.over || read.path.parts.size() != 2) return;  // told where it is defined
  const std::string& from = read.path.parts[0].text;
  const bool known = std::any_of(bench_.controllers.begin(), bench_.controllers.end(),
                                 [&](const lang::ControllerDecl& c) { return c.name.text == from; });
  if (!known) return;
  Target target = check_.resolve(check_.root, read.path, one.env);
  Heard& heard = heard_[{&read, number}];
  for (const VarId id : target.ids) {
    const auto owner = own_value_of_.find(id);
    if (owner == own_value_of_.end() || owner->second == number) return;
  }
  heard.reported = !target.found();
  if (!target.found()) return;
  Variable value;
  value.role = Role::controller_output;
  value.doc = fmt::format("{} as it arrives here",
                          target.vector ? read.path.text() : check_.program.variable(target.ids.front()).name);
  value.type = check_.program.variable(target.ids.front()).type;
  value.unit = check_.program.variable(target.ids.front()).unit;
  value.type.size = target.vector ? static_cast<int>(target.ids.size()) : 0;
  Instance& inside = *check_.root.parts.at(one.name);
  const VarId id = check_.define(inside, {name_of(read.path), read.path.span}, value);
  for (std::size_t i = 0; i < target.ids.size(); ++i) {
    heard.here.push_back(id + static_cast<VarId>(i));
    check_.defined.try_emplace(heard.here.back(), read.path.span);
  }
  heard.from = std::move(target.ids);
  heard.vector = target.vector;
}

void ChannelCheck::read_message(const lang::ControllerDecl::Read& read, Controller& controller) {
  auto& all = check_.program.messages;
  const auto carrier =
      std::find_if(all.begin(), all.end(), [&](const Messages& m) { return m.name == read.over->text; });
  if (carrier == all.end()) {
    check_.error(Code::unknown_name, read.over->span, fmt::format("there are no messages `{}`", read.over->text),
                 fmt::format("declare what carries them: `messages {} {{ latency 5 ms  loss 1 % }}`", read.over->text));
    return;
  }
  const auto to = static_cast<std::int32_t>(&controller - check_.program.controllers.data());
  const auto found = heard_.find({&read, to});
  if (found != heard_.end() && found->second.reported) return;
  if (found == heard_.end() || found->second.here.empty()) {
    check_.error(Code::wrong_kind, read.path.span,
                 fmt::format("`{}` is no value that another controller gives", read.path.text()),
                 "over messages go values that a controller writes with a type of its own: `writes vote : bool`");
    return;
  }
  const Heard& heard = found->second;
  if (std::find(controller.reads.begin(), controller.reads.end(), heard.here.front()) != controller.reads.end()) {
    check_.error(Code::duplicate, read.path.span, fmt::format("`{}` is read twice", read.path.text()));
    return;
  }
  if (heard.vector) controller.read_vectors.push_back({name_of(read.path), controller.reads.size(), heard.here.size()});
  for (std::size_t i = 0; i < heard.here.size(); ++i) {
    const std::int32_t from = own_value_of_.at(heard.from[i]);
    auto line = std::find_if(carrier->lines.begin(), carrier->lines.end(),
                             [&](const Messages::Line& l) { return l.from == from && l.to == to; });
    if (line == carrier->lines.end()) line = carrier->lines.insert(carrier->lines.end(), {from, to, {}});
    line->values.emplace_back(heard.from[i], heard.here[i]);
    controller.reads.push_back(heard.here[i]);
    controller.knows.push_back(heard.here[i]);
  }
}

void ChannelCheck::define_messages() {
  for (const lang::MessagesDecl& m : bench_.messages) {
    auto& all = check_.program.messages;
    if (std::any_of(all.begin(), all.end(), [&](const Messages& other) { return other.name == m.name.text; })) {
      check_.error(Code::duplicate, m.name.span, fmt::format("messages `{}` are defined twice", m.name.text),
                   "rename one of them");
      continue;
    }
    Messages messages;
    messages.name = m.name.text;
    messages.doc = m.doc;
    messages.span = m.name.span;
    if (m.latency) messages.latency = x_.check_span(*m.latency, scope(), "the latency").value_or(Time{});
    if (m.jitter) messages.jitter = x_.check_span(*m.jitter, scope(), "the jitter").value_or(Time{});
    if (m.loss) {
      const Type share{Type::Kind::real, {}, kNone};
      const auto loss = check_.constant(x_.check_as(*m.loss, scope(), share, "the loss"), m.loss->span, "the loss");
      if (loss && (*loss < 0 || *loss > 1))
        check_.error(Code::out_of_limits, m.loss->span, "the loss is a share from 0 % to 100 %");
      messages.loss = loss.value_or(0);
    }
    if (m.cut) {
      messages.cut = check_.resolve_one(check_.root, *m.cut);
      if (messages.cut != kNone && check_.program.variable(messages.cut).type.kind != Type::Kind::boolean)
        check_.error(Code::type_mismatch, m.cut->span, fmt::format("`{}` is neither true nor false", m.cut->text()));
    }
    all.push_back(std::move(messages));
  }
}

}  // namespace isodyne::check
