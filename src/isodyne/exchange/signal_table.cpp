#include "isodyne/exchange/signal_table.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <numeric>
#include <set>

#include <fmt/format.h>

#include "isodyne/check/load.h"
#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/core/version.h"
#include "isodyne/record/recorder.h"

namespace isodyne::exchange {

using Kind = SignalColumn::Kind;

namespace {

/// The instants of the signal that has most of them; without signals those of the run.
const record::Instants& most_instants(const record::Recording& recording, const std::vector<std::string>& names) {
  const record::Instants* most = names.empty() ? &recording.times() : &recording.times_of(names.front());
  for (const std::string& name : names) {
    if (recording.times_of(name).size() > most->size()) most = &recording.times_of(name);
  }
  return *most;
}

/// Values at other instants: the one before, or if it is not held none between its own.
std::vector<double> at_instants(const record::Instants& wanted, const record::Instants& own,
                                const std::vector<double>& values, bool held) {
  std::vector<double> at(wanted.size(), NAN);
  std::size_t next = 0;
  for (std::size_t i = 0; i < wanted.size(); ++i) {
    while (next < own.size() && own[next] <= wanted[i]) ++next;
    if (next > 0 && (held || own[next - 1] == wanted[i])) at[i] = values[next - 1];
  }
  return at;
}

}  // namespace

Result<SignalTable> table_of(const record::Recording& recording, const std::vector<std::string>& names) {
  SignalTable t;
  const record::Instants& times = most_instants(recording, names);
  for (std::size_t i = 0; i < times.size(); ++i) t.times_ns.push_back(times[i]);
  for (const std::string& name : names) {
    auto values = recording.signal(name);
    if (!values) return Failure{"cannot read the signal", name, "the recording is damaged there"};
    if (!(recording.times_of(name) == times)) {
      const bool held = recording.throughout(name);
      *values = at_instants(times, recording.times_of(name), *values, held);
      t.remarks.push_back(held ? fmt::format("{} is recorded every {}, and held in between", name,
                                             format_span(recording.period_of(name)))
                               : fmt::format("{} is recorded only around some instants", name));
    }
    const record::SignalUnit unit = recording.unit(name);
    SignalColumn c{name, "", Kind::number, std::move(*values)};
    const bool choice = unit.si.find('|') != std::string::npos;
    if (unit.si == "bool") {
      c.kind = Kind::truth;
    } else if (unit.si == "int" || choice) {
      c.kind = Kind::count;
    } else {
      c.unit = unit.read_in == "1" ? "" : unit.read_in;
      for (double& v : c.values) v = (v - unit.offset) / unit.factor;
    }
    t.columns.push_back(std::move(c));
  }
  return t;
}

namespace {

/// A name of the language, as near to the given one as that goes.
std::string identifier(const std::string& name, std::set<std::string>& taken) {
  std::string id;
  for (const char c : name) {
    const auto byte = static_cast<unsigned char>(c);
    if ((byte & 0xC0u) == 0x80u) continue;  // the rest of a character
    id += byte < 0x80 && std::isalnum(byte) != 0 ? c : '_';
  }
  if (id.size() > 100) id.resize(100);
  if (id.empty() || std::isalpha(static_cast<unsigned char>(id[0])) == 0) id = "s_" + id;
  std::string unique = id;
  for (int i = 2; !taken.insert(unique).second; ++i) unique = fmt::format("{}_{}", id, i);
  return unique;
}

std::string text_literal(const std::string& text) {
  std::string safe;
  for (const char c : text) safe += c == '"' || c == '\\' || static_cast<unsigned char>(c) < ' ' ? ' ' : c;
  return safe;
}

/// The step of a bench that these instants would be of: their common measure, at least 1 µs.
Time step_of(const std::vector<std::int64_t>& times) {
  std::int64_t common = 0;
  for (std::size_t i = 1; i < times.size(); ++i) common = std::gcd(common, times[i] - times[i - 1]);
  return Time{std::clamp<std::int64_t>(common, 1000, 1'000'000'000)};
}

/// A bench that declares the columns as inputs, one a line.
std::string bench_text(SignalTable& t, const std::string& origin) {
  std::string text =
      fmt::format("# Made of {}: its columns are inputs, which rules can speak of.\n", text_literal(origin));
  text += fmt::format("bench Imported {{\n  step {} ns\n", step_of(t.times_ns).count());
  std::set<std::string> taken{
#define RESERVED(word) word,
#define CLAUSE(word)
#include "isodyne/lang/keywords.def"
#undef RESERVED
#undef CLAUSE
      "time"};
  for (SignalColumn& c : t.columns) {
    const std::string name = identifier(c.name, taken);
    if (name != c.name) t.remarks.push_back(fmt::format("`{}` is called {}", c.name, name));
    std::string unit = c.unit;
    if (c.kind == Kind::number && !unit.empty() && !parse_unit(unit)) {
      t.remarks.push_back(fmt::format("the unit `{}` of {} is not known: its values have no unit", unit, name));
      unit.clear();
    }
    if (unit.empty()) unit = "1";
    if (name != c.name) text += fmt::format("  ## {}\n", text_literal(c.name));
    if (c.kind == Kind::truth) {
      text += fmt::format("  input {} : bool = false\n", name);
    } else if (c.kind == Kind::count) {
      text += fmt::format("  input {} : int = 0\n", name);
    } else {
      text += fmt::format("  input {} : {} = 0 {}\n", name, unit, unit == "1" ? "" : unit);
    }
    c.name = name;
  }
  return text + "}\n";
}

}  // namespace

Status write_table(const std::string& file, const std::string& origin, SignalTable& table) {
  const std::string text = bench_text(table, origin);
  const check::Loaded loaded =
      check::load_bench("", "imported.dyne", [&](const std::string& name) -> Result<std::string> {
        if (name == "imported.dyne") return text;
        return Failure{"cannot read", name, "no such file"};
      });
  if (loaded.program == nullptr)
    return Failure{"cannot make a bench of", origin, loaded.diagnostics.render(*loaded.sources, false)};
  const program::Program& p = *loaded.program;
  record::RunIdentity identity;
  identity.version = kVersion;
  identity.main = "imported.dyne";
  identity.made_by = record::MadeBy::others;
  identity.method = record::kImportedMethod + origin;
  identity.sources = {{"imported.dyne", text}};
  auto recorder = record::Recorder::create(file, loaded.program, identity, 0);
  if (!recorder) return recorder.failure();
  std::vector<std::pair<program::VarId, const SignalColumn*>> columns;
  std::vector<Unit> units;
  for (const SignalColumn& c : table.columns) {
    columns.emplace_back(p.find(c.name), &c);
    units.push_back(p.variable(columns.back().first).unit);
  }
  std::vector<double> image(p.variables.size());
  for (std::size_t r = 0; r < table.times_ns.size(); ++r) {
    for (std::size_t c = 0; c < columns.size(); ++c) {
      const double v = columns[c].second->values[r];
      const bool number = columns[c].second->kind == Kind::number;
      image[static_cast<std::size_t>(columns[c].first)] = number ? v * units[c].factor + units[c].offset : v;
    }
    (*recorder)->last_image({Time{table.times_ns[r]}, image.data()});
  }
  return (*recorder)->close(observe::Ending::completed);
}

}  // namespace isodyne::exchange
