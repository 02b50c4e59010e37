// Messages between controllers: what carries them, and which values go over it.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/io/channels.h"
#include "isodyne/check/io/settings.h"

namespace isodyne::check {

/// The value of a controller that a path such as `east.vote` names, if it does.
const lang::ControllerDecl::Write* ChannelCheck::written_elsewhere(const lang::Path& path) const {
  if (path.parts.size() != 2) return nullptr;
  for (const lang::ControllerDecl& c : bench_.controllers) {
    if (c.name.text != path.parts[0].text) continue;
    for (const lang::ControllerDecl::Write& w : c.writes) {
      if (w.type && w.name.text == path.parts[1].text) return &w;
    }
  }
  return nullptr;
}

void ChannelCheck::declare_message(const lang::ControllerDecl& c, const lang::ControllerDecl::Read& read,
                                   Instance& inside) {
  const lang::ControllerDecl::Write* const source = written_elsewhere(read.path);
  if (!read.over || source == nullptr || read.path.parts[0].text == c.name.text) return;  // told where it is defined
  Variable value;
  value.role = Role::controller_output;
  value.doc = fmt::format("{} as it arrives here", read.path.text());
  value.type = check_.type_of(*source->type, value.unit);
  const int size = std::max(1, value.type.size);
  const VarId id = check_.define(inside, {flat_name(read.path.text()), read.path.span}, value);
  for (int i = 0; i < size; ++i) check_.defined.try_emplace(id + i, read.path.span);
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
  const auto& controllers = check_.program.controllers;
  const auto from = std::find_if(controllers.begin(), controllers.end(),
                                 [&](const Controller& c) { return c.name == read.path.parts[0].text; });
  if (written_elsewhere(read.path) == nullptr || from == controllers.end() || from->name == controller.name) {
    check_.error(Code::wrong_kind, read.path.span,
                 fmt::format("`{}` is no value that another controller gives", read.path.text()),
                 "over messages go values that a controller writes with a type of its own: `writes vote : bool`");
    return;
  }
  const Instance& there = *check_.root.parts.at(from->name);
  const Instance& here = *check_.root.parts.at(controller.name);
  const std::string& given = read.path.parts[1].text;
  const std::string taken = flat_name(read.path.text());
  const auto vector = there.vectors.find(given);
  std::vector<std::pair<VarId, VarId>> values;
  if (vector == there.vectors.end()) {
    values.emplace_back(there.variables.at(given), here.variables.at(taken));
  } else {
    const VarId target = here.vectors.at(taken).first;
    for (int i = 0; i < vector->second.size; ++i) values.emplace_back(vector->second.first + i, target + i);
  }
  const auto index = [&](const Controller& c) { return static_cast<std::int32_t>(&c - controllers.data()); };
  const std::int32_t to = index(controller);
  auto line = std::find_if(carrier->lines.begin(), carrier->lines.end(),
                           [&](const Messages::Line& l) { return l.from == index(*from) && l.to == to; });
  if (line == carrier->lines.end()) line = carrier->lines.insert(carrier->lines.end(), {index(*from), to, {}});
  if (std::find(controller.reads.begin(), controller.reads.end(), values.front().second) != controller.reads.end()) {
    check_.error(Code::duplicate, read.path.span, fmt::format("`{}` is read twice", read.path.text()));
    return;
  }
  if (vector != there.vectors.end()) controller.read_vectors.push_back({taken, controller.reads.size(), values.size()});
  for (const auto& [source, target] : values) {
    line->values.emplace_back(source, target);
    controller.reads.push_back(target);
    controller.knows.push_back(target);
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
