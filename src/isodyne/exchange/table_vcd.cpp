// Signals over time as value changes: IEEE 1364-2005, 18.

#include <charconv>
#include <cmath>
#include <limits>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/exchange/signal_table.h"

namespace isodyne::exchange {

namespace {

using Kind = SignalColumn::Kind;
constexpr double kUnknown = std::numeric_limits<double>::quiet_NaN();

/// Short names out of the printable characters: "!", "\"", … "!!".
std::string code_of(std::size_t i) {
  std::string code;
  do {
    code += static_cast<char>('!' + i % 94);
    i /= 94;
  } while (i-- > 0);
  return code;
}

std::string binary(double v) {
  if (!std::isfinite(v)) return "x";
  auto bits = static_cast<std::uint64_t>(static_cast<std::int64_t>(v));
  std::string text;
  for (int k = 63; k >= 0; --k)
    if (!text.empty() || (bits >> k & 1) != 0 || k == 0) text += (bits >> k & 1) != 0 ? '1' : '0';
  return text;
}

std::string name_of(const std::string& text) {
  std::string name;
  for (const char c : text) name += static_cast<unsigned char>(c) > ' ' ? c : '_';
  return name.empty() ? "_" : name;
}

}  // namespace

std::string to_vcd(const SignalTable& t) {
  std::string text = "$version isodyne $end\n$timescale 1 ns $end\n";
  text += fmt::format("$scope module {} $end\n", name_of(t.title));
  for (std::size_t i = 0; i < t.columns.size(); ++i) {
    const SignalColumn& c = t.columns[i];
    const char* type = c.kind == Kind::truth ? "wire 1" : c.kind == Kind::count ? "integer 64" : "real 64";
    text += fmt::format("$var {} {} {} $end\n", type, code_of(i), name_of(c.name));
  }
  text += "$upscope $end\n$enddefinitions $end\n";
  for (std::size_t r = 0; r < t.times_ns.size(); ++r) {
    std::string changes;
    for (std::size_t i = 0; i < t.columns.size(); ++i) {
      const SignalColumn& c = t.columns[i];
      const double v = c.values[r];
      const bool same = r > 0 && (v == c.values[r - 1] || (std::isnan(v) && std::isnan(c.values[r - 1])));
      if (same) continue;
      if (c.kind == Kind::truth) {
        changes += fmt::format("{}{}\n", v != 0 ? 1 : 0, code_of(i));
      } else if (c.kind == Kind::count) {
        changes += fmt::format("b{} {}\n", binary(v), code_of(i));
      } else {
        changes += fmt::format("r{} {}\n", std::isnan(v) ? "NaN" : format_exact(v), code_of(i));
      }
    }
    // The last instant is told even if nothing changes at it: the file ends there.
    if (!changes.empty() || r + 1 == t.times_ns.size()) text += fmt::format("#{}\n{}", t.times_ns[r], changes);
  }
  return text;
}

namespace {

class Words {
 public:
  explicit Words(std::string_view text) : text_(text) {}
  std::string_view next() {
    while (at_ < text_.size() && static_cast<unsigned char>(text_[at_]) <= ' ') ++at_;
    const std::size_t begin = at_;
    while (at_ < text_.size() && static_cast<unsigned char>(text_[at_]) > ' ') ++at_;
    return text_.substr(begin, at_ - begin);
  }

 private:
  std::string_view text_;
  std::size_t at_ = 0;
};

/// "1ns", "10 us".
std::optional<double> scale_ns(const std::string& text) {
  double v = 0;
  const auto read = std::from_chars(text.data(), text.data() + text.size(), v);
  if (read.ec != std::errc{}) return std::nullopt;
  const std::string unit(read.ptr, text.data() + text.size());
  const std::pair<const char*, double> units[] = {{"s", 1e9}, {"ms", 1e6},  {"us", 1e3},
                                                  {"ns", 1},  {"ps", 1e-3}, {"fs", 1e-6}};
  for (const auto& [name, ns] : units) {
    if (unit == name) return v * ns;
  }
  return std::nullopt;
}

}  // namespace

Result<SignalTable> from_vcd(const std::string& name, std::string_view text) {
  constexpr std::size_t kMostSignals = 10'000, kMostCells = 50'000'000;
  const auto wrong = [&](const std::string& what) { return Failure{"cannot read value changes", name, what}; };
  SignalTable t;
  t.title = name;
  Words words(text);
  double ns = 1;
  std::unordered_map<std::string, std::vector<std::size_t>> columns;
  std::vector<std::string> scopes;
  std::vector<double> now;
  const auto write = [&] {
    for (std::size_t i = 0; i < now.size(); ++i) t.columns[i].values.push_back(now[i]);
  };
  const auto set = [&](std::string_view code, double v) {
    const auto found = columns.find(std::string(code));
    if (found == columns.end()) return false;
    for (const std::size_t c : found->second) now[c] = v;
    return true;
  };
  for (std::string_view w = words.next(); !w.empty(); w = words.next()) {
    if (w == "$timescale") {
      std::string all;
      for (w = words.next(); !w.empty() && w != "$end"; w = words.next()) all += w;
      const auto read = scale_ns(all);
      if (!read) return wrong(fmt::format("`{}` is no time scale", all));
      ns = *read;
    } else if (w == "$scope") {
      words.next();
      scopes.emplace_back(words.next());
    } else if (w == "$upscope") {
      if (!scopes.empty()) scopes.pop_back();
    } else if (w == "$var") {
      const std::string type(words.next()), bits(words.next()), code(words.next()), own(words.next());
      if (!t.times_ns.empty()) return wrong("a signal is declared after values have begun");
      if (t.columns.size() == kMostSignals) return wrong("more than 10000 signals");
      columns[code].push_back(t.columns.size());
      const bool real = type == "real" || type == "realtime";
      std::string full;
      for (std::size_t i = 1; i < scopes.size(); ++i) full += scopes[i] + ".";
      t.columns.push_back({full + own, "", real ? Kind::number : bits == "1" ? Kind::truth : Kind::count, {}});
      now.push_back(real ? kUnknown : 0);
      while (!w.empty() && w != "$end") w = words.next();  // which bits, of a part of a word
    } else if (w[0] == '#') {
      std::uint64_t stamp = 0;
      const auto read = std::from_chars(w.data() + 1, w.data() + w.size(), stamp);
      const double at = static_cast<double>(stamp) * ns;
      if (read.ec != std::errc{} || !(at < 9e18)) return wrong(fmt::format("`{}` is no time", w));
      const auto time = static_cast<std::int64_t>(std::llround(at));
      if (!t.times_ns.empty() && time == t.times_ns.back()) continue;
      if (!t.times_ns.empty() && time < t.times_ns.back()) return wrong(fmt::format("the time {} goes backwards", w));
      if (!t.times_ns.empty()) write();
      if ((t.times_ns.size() + 1) * std::max<std::size_t>(1, now.size()) > kMostCells) return wrong("it is too large");
      t.times_ns.push_back(time);
    } else if (w[0] == '0' || w[0] == '1' || w[0] == 'x' || w[0] == 'X' || w[0] == 'z' || w[0] == 'Z') {
      // Unknown and not driven are no value, and no 0.
      if (!set(w.substr(1), w[0] == '1' ? 1 : w[0] == '0' ? 0 : kUnknown))
        return wrong(fmt::format("nobody declared `{}`", w.substr(1)));
    } else if (w[0] == 'b' || w[0] == 'B') {
      double v = 0;
      const bool negative = w.size() == 65 && w[1] == '1';
      std::uint64_t bits = 0;
      bool known = true;
      for (const char c : w.substr(1)) {
        known = known && (c == '0' || c == '1');
        v = 2 * v + (c == '1' ? 1 : 0);
        bits = 2 * bits + (c == '1' ? 1 : 0);
      }
      if (!set(words.next(), !known ? kUnknown : negative ? static_cast<double>(static_cast<std::int64_t>(bits)) : v))
        return wrong("nobody declared what changes");
    } else if (w[0] == 'r' || w[0] == 'R') {
      double v = kUnknown;
      std::from_chars(w.data() + 1, w.data() + w.size(), v);
      if (!set(words.next(), v)) return wrong("nobody declared what changes");
    } else if (w[0] == '$' && w != "$end" && w != "$dumpvars" && w != "$dumpall" && w != "$dumpon" && w != "$dumpoff") {
      while (!w.empty() && w != "$end") w = words.next();  // comments, dates
    } else if (w[0] != '$') {
      return wrong(fmt::format("`{}` is nothing that belongs here", first_columns(w, 30)));
    }
  }
  if (t.times_ns.empty()) return wrong("nothing happens in it");
  write();
  t.remarks.push_back("values change at instants of their own: between them they are held");
  return t;
}

}  // namespace isodyne::exchange
