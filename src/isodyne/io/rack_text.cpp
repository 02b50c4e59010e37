#include "isodyne/io/rack_text.h"

#include <algorithm>
#include <charconv>
#include <sstream>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"

namespace isodyne::io {

using program::Program;
using program::Rack;
using program::RackChannel;
using program::RackSlot;

namespace {

Binding binding_of(const Rack& rack, const RackSlot& slot, const RackChannel& c) {
  return {rack.name, slot.number, c.number, c.name, c.value, c.range, c.on, c.groups};
}

std::string joined(const std::vector<std::string>& words, const char* between) {
  std::string text;
  for (const std::string& w : words) text += (text.empty() ? "" : between) + w;
  return text;
}

/// "a b, c" → a, b, c
std::vector<std::string> split_words(std::string text) {
  std::replace(text.begin(), text.end(), ',', ' ');
  std::istringstream in(text);
  std::vector<std::string> words;
  for (std::string w; in >> w;) words.push_back(w);
  return words;
}

std::optional<int> whole(const std::string& text) {
  int value = 0;
  const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
  if (read.ec != std::errc{} || read.ptr != text.data() + text.size()) return std::nullopt;
  return value;
}

constexpr const char* kColumns[] = {"rack", "slot",  "channel", "module", "direction", "form",
                                    "name", "value", "range",   "on",     "groups"};
enum Column { kRack, kSlot, kChannel, kModule, kDirection, kForm, kName, kValue, kRange, kOn, kGroups };

const char* direction(const RackChannel& c) {
  return c.input ? "input" : "output";
}

const RackChannel* find(const Program& p, const Binding& b, const RackSlot** slot = nullptr) {
  for (const Rack& r : p.racks) {
    if (r.name != b.rack) continue;
    for (const RackSlot& s : r.slots) {
      if (s.number != b.slot || b.channel < 1 || static_cast<std::size_t>(b.channel) > s.channels.size()) continue;
      if (slot != nullptr) *slot = &s;
      return &s.channels[static_cast<std::size_t>(b.channel) - 1];
    }
  }
  return nullptr;
}

}  // namespace

std::string Binding::address() const {
  return fmt::format("{}.{}.{}", rack, slot, channel);
}

std::string Binding::statement() const {
  std::string text = fmt::format("channel {} : {}", channel, name);
  if (!value.empty()) text += " = " + value;
  if (!value.empty() && !range.empty()) text += " range " + range;
  if (!on) text += " off";
  if (!groups.empty()) text += " in " + joined(groups, ", ");
  return text;
}

std::vector<Binding> bindings_of(const Program& program) {
  std::vector<Binding> all;
  for (const Rack& r : program.racks) {
    for (const RackSlot& s : r.slots) {
      for (const RackChannel& c : s.channels) all.push_back(binding_of(r, s, c));
    }
  }
  return all;
}

std::string table_text(const Program& program) {
  std::string text = csv_line({std::begin(kColumns), std::end(kColumns)});
  for (const Rack& r : program.racks) {
    for (const RackSlot& s : r.slots) {
      for (const RackChannel& c : s.channels)
        text += csv_line({r.name, std::to_string(s.number), std::to_string(c.number), s.module, direction(c), c.form,
                          c.name, c.value, c.range,
                          c.name.empty() ? ""
                          : c.on         ? "yes"
                                         : "no",
                          joined(c.groups, " ")});
    }
  }
  return text;
}

namespace {

/// Reads the rows of a table; the first thing that is wrong ends it.
class TableReader {
 public:
  TableReader(const std::string& text, std::string file, const Program& program)
      : csv_(read_csv(text)), file_(std::move(file)), p_(program) {}

  Result<std::vector<Binding>> run() {
    if (!csv_.trouble.empty()) return at(csv_.trouble_line, csv_.trouble);
    if (csv_.rows.empty()) return Failure{"there is nothing in", file_, ""};
    if (const auto failure = header()) return *failure;
    std::map<std::string, int> seen;
    for (std::size_t i = 1; i < csv_.rows.size(); ++i) {
      auto binding = row(csv_.rows[i]);
      if (!binding) return binding.failure();
      const auto [first, fresh] = seen.try_emplace(binding->address(), csv_.rows[i].line);
      if (!fresh)
        return at(csv_.rows[i].line,
                  fmt::format("channel {} stands in line {} already", binding->address(), first->second));
      bindings_.push_back(std::move(*binding));
    }
    return std::move(bindings_);
  }

 private:
  Failure at(int line, const std::string& what) const { return {fmt::format("{}:{}", file_, line), "", what}; }

  std::optional<Failure> header() {
    column_.assign(std::size(kColumns), -1);
    const CsvRow& first = csv_.rows[0];
    for (std::size_t i = 0; i < first.fields.size(); ++i) {
      std::string title = first.fields[i].text;
      std::transform(title.begin(), title.end(), title.begin(),
                     [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c; });
      for (std::size_t c = 0; c < std::size(kColumns); ++c) {
        if (title == kColumns[c]) column_[c] = static_cast<int>(i);
      }
    }
    for (const Column c : {kRack, kSlot, kChannel, kName}) {
      if (column_[c] < 0)
        return at(first.line, fmt::format("there is no column `{}`; `isodyne io table` writes a table with all of them",
                                          kColumns[c]));
    }
    return std::nullopt;
  }

  std::string text(const CsvRow& r, Column c) const {
    return column_[c] < 0 ? std::string() : one_line(r.text(static_cast<std::size_t>(column_[c])));
  }

  Result<Binding> row(const CsvRow& r) const {
    Binding b;
    b.rack = text(r, kRack);
    const auto slot = whole(text(r, kSlot)), channel = whole(text(r, kChannel));
    if (!slot || !channel) return at(r.line, "slot and channel are whole numbers");
    b.slot = *slot;
    b.channel = *channel;
    const RackSlot* found_slot = nullptr;
    const RackChannel* found = find(p_, b, &found_slot);
    if (found == nullptr) return at(r.line, fmt::format("the bench has no channel {}", b.address()));
    const auto same = [&](Column c, const std::string& is) { return text(r, c).empty() || text(r, c) == is; };
    if (!same(kModule, found_slot->module))
      return at(r.line, fmt::format("slot {} has module {}, not {}: modules are changed in the text", b.slot,
                                    found_slot->module, text(r, kModule)));
    if (!same(kDirection, direction(*found)))
      return at(r.line, fmt::format("channel {} is an {}", b.address(), direction(*found)));
    b.name = text(r, kName);
    b.value = text(r, kValue);
    b.range = text(r, kRange);
    b.groups = split_words(text(r, kGroups));
    const std::string on = text(r, kOn);
    if (on != "" && on != "yes" && on != "no") return at(r.line, fmt::format("`on` is yes or no, not `{}`", on));
    b.on = on != "no";
    const auto is_name = [](const std::string& s) {
      return s.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") ==
                 std::string::npos &&
             !(s.front() >= '0' && s.front() <= '9');
    };
    std::vector<std::string> names = b.groups;
    const std::string vector = b.name.substr(0, b.name.find('['));
    if (!b.name.empty()) names.push_back(is_element_of(b.name, vector) ? vector : b.name);
    for (const std::string& n : names) {
      if (!is_name(n)) return at(r.line, fmt::format("`{}` is no name: names are letters, digits and _", n));
    }
    if (b.name.empty() && !b.value.empty()) return at(r.line, "a value without a name");
    return b;
  }

  Csv csv_;
  std::string file_;
  const Program& p_;
  std::vector<int> column_;
  std::vector<Binding> bindings_;
};

}  // namespace

Result<std::vector<Binding>> read_table(const std::string& text, const std::string& file, const Program& program) {
  return TableReader(text, file, program).run();
}

// ---- back into the text
namespace {

struct Edit {
  std::size_t begin = 0, end = 0;
  std::string text;
};

std::size_t line_begin(const std::string& text, std::size_t at) {
  const std::size_t newline = at == 0 ? std::string::npos : text.rfind('\n', at - 1);
  return newline == std::string::npos ? 0 : newline + 1;
}

std::string indentation(const std::string& text, std::size_t at) {
  const std::size_t begin = line_begin(text, at), word = text.find_first_not_of(" \t", begin);
  return text.substr(begin, std::min(word, text.size()) - begin);
}

bool blank(const std::string& text, std::size_t begin, std::size_t end) {
  const std::size_t word = text.find_first_not_of(" \t\r", begin);
  return word == std::string::npos || word >= end;
}

/// Takes a statement away: its whole line, unless something else stands there.
Edit removal(const std::string& text, Span span) {
  const std::size_t begin = line_begin(text, span.begin);
  const std::size_t end = std::min(text.find('\n', span.end), text.size());
  if (blank(text, begin, span.begin) && blank(text, span.end, end)) return {begin, std::min(end + 1, text.size()), ""};
  return {span.begin, span.end, ""};
}

/// What changes in one slot.
class SlotEditor {
 public:
  SlotEditor(const std::string& text, const RackSlot& slot) : text_(text), slot_(slot) {}

  std::vector<Edit> run(const std::vector<Binding>& wanted) {
    const std::string inside = text_.substr(slot_.inside.begin, slot_.inside.end - slot_.inside.begin);
    if (inside.find('\n') == std::string::npos) return {written_anew(wanted)};
    for (const Binding& b : wanted) {
      const RackChannel& now = slot_.channels[static_cast<std::size_t>(b.channel) - 1];
      if (now.name.empty()) {
        if (!b.name.empty()) insert(b);
      } else if (b.name.empty()) {
        edits_.push_back(removal(text_, now.span));
      } else {
        edits_.push_back({now.span.begin, now.span.end, b.statement()});
      }
    }
    return std::move(edits_);
  }

 private:
  /// A slot on one line has no comments to keep.
  Edit written_anew(const std::vector<Binding>& wanted) const {
    const std::string margin = indentation(text_, slot_.span.begin);
    std::string body = "{\n";
    for (const RackChannel& c : slot_.channels) {
      const auto changed =
          std::find_if(wanted.begin(), wanted.end(), [&](const Binding& b) { return b.channel == c.number; });
      const std::string statement = changed != wanted.end() ? (changed->name.empty() ? "" : changed->statement())
                                    : c.name.empty()        ? ""
                                                            : text_.substr(c.span.begin, c.span.end - c.span.begin);
      if (!statement.empty()) body += margin + "  " + statement + "\n";
    }
    return {slot_.inside.begin, slot_.inside.end, body + margin + "}"};
  }

  /// Behind the channel before it, or first in the slot.
  void insert(const Binding& b) {
    std::size_t at = text_.find('\n', slot_.inside.begin) + 1;
    std::string margin = indentation(text_, slot_.span.begin) + "  ";
    for (const RackChannel& c : slot_.channels) {
      if (c.name.empty()) continue;
      margin = indentation(text_, c.span.begin);
      if (c.number < b.channel) at = std::max(at, std::min(text_.find('\n', c.span.end), text_.size() - 1) + 1);
    }
    edits_.push_back({at, at, margin + b.statement() + "\n"});
  }

  const std::string& text_;
  const RackSlot& slot_;
  std::vector<Edit> edits_;
};

}  // namespace

std::map<std::int32_t, std::string> rewritten(const Program& program, const std::vector<Binding>& wanted) {
  std::map<std::int32_t, std::vector<Edit>> edits;
  for (const Rack& r : program.racks) {
    for (const RackSlot& s : r.slots) {
      std::vector<Binding> changed;
      for (const Binding& b : wanted) {
        if (b.rack != r.name || b.slot != s.number) continue;
        if (b != binding_of(r, s, s.channels[static_cast<std::size_t>(b.channel) - 1])) changed.push_back(b);
      }
      if (changed.empty()) continue;
      std::sort(changed.begin(), changed.end(),
                [](const Binding& a, const Binding& b) { return a.channel < b.channel; });
      auto& list = edits[s.span.source];
      for (Edit& e : SlotEditor(program.sources->text(s.span.source), s).run(changed)) list.push_back(std::move(e));
    }
  }
  std::map<std::int32_t, std::string> texts;
  for (auto& [source, list] : edits) {
    std::string text = program.sources->text(source);
    // From the back, so that places stay; of several at one place the later goes first.
    std::stable_sort(list.begin(), list.end(), [](const Edit& a, const Edit& b) { return a.begin < b.begin; });
    for (auto e = list.rbegin(); e != list.rend(); ++e) text.replace(e->begin, e->end - e->begin, e->text);
    texts[source] = std::move(text);
  }
  return texts;
}

Result<Binding> channel_at(const Program& program, const std::string& address) {
  if (program.racks.empty())
    return Failure{fmt::format("bench {} has no rack", program.name), "",
                   "declare one: `rack name { slot 1 : CurrentIn8 { } }`"};
  std::vector<std::string> parts;
  std::istringstream in(address);
  for (std::string part; std::getline(in, part, '.');) parts.push_back(part);
  if (parts.size() == 2 && program.racks.size() == 1) parts.insert(parts.begin(), program.racks.front().name);
  const auto slot = parts.size() == 3 ? whole(parts[1]) : std::nullopt;
  const auto channel = parts.size() == 3 ? whole(parts[2]) : std::nullopt;
  if (!slot || !channel)
    return Failure{fmt::format("`{}` is no channel", address), "",
                   fmt::format("say rack, slot and channel: `{}.1.1`", program.racks.front().name)};
  for (const Binding& b : bindings_of(program)) {
    if (b.rack == parts[0] && b.slot == *slot && b.channel == *channel) return b;
  }
  return Failure{fmt::format("bench {} has no channel {}", program.name, address), "", "`isodyne io list` shows them"};
}

}  // namespace isodyne::io
