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

/// Reads a file word by word. Each function gives what is wrong; empty: nothing.
class VcdReader {
 public:
  VcdReader(const std::string& name, std::string_view text) : words_(text) { table_.title = name; }

  std::string read() {
    for (std::string_view w = words_.next(); !w.empty(); w = words_.next()) {
      if (std::string wrong = word(w); !wrong.empty()) return wrong;
    }
    if (table_.times_ns.empty()) return "nothing happens in it";
    write();
    table_.remarks.push_back("values change at instants of their own: between them they are held");
    return {};
  }
  SignalTable& table() { return table_; }

 private:
  static constexpr std::size_t kMostSignals = 10'000, kMostCells = 50'000'000;

  std::string word(std::string_view w) {
    if (w == "$timescale") return timescale();
    if (w == "$scope") {
      words_.next();
      scopes_.emplace_back(words_.next());
    } else if (w == "$upscope") {
      if (!scopes_.empty()) scopes_.pop_back();
    } else if (w == "$var") {
      return variable();
    } else if (w[0] == '#') {
      return instant(w);
    } else if (w[0] == 'b' || w[0] == 'B' || w[0] == 'r' || w[0] == 'R') {
      const double value = w[0] == 'b' || w[0] == 'B' ? whole(w) : real(w);
      if (!set(words_.next(), value)) return "nobody declared what changes";
    } else if (std::string_view("01xXzZ").find(w[0]) != std::string_view::npos) {
      // Unknown and not driven are no value, and no 0.
      if (!set(w.substr(1), w[0] == '1' ? 1 : w[0] == '0' ? 0 : kUnknown))
        return fmt::format("nobody declared `{}`", w.substr(1));
    } else if (w[0] == '$' && w != "$end" && w != "$dumpvars" && w != "$dumpall" && w != "$dumpon" && w != "$dumpoff") {
      skip(w);  // comments, dates
    } else if (w[0] != '$') {
      return fmt::format("`{}` is nothing that belongs here", first_columns(w, 30));
    }
    return {};
  }

  void skip(std::string_view w) {
    while (!w.empty() && w != "$end") w = words_.next();
  }

  std::string timescale() {
    std::string all;
    for (std::string_view w = words_.next(); !w.empty() && w != "$end"; w = words_.next()) all += w;
    const auto read = scale_ns(all);
    if (!read) return fmt::format("`{}` is no time scale", all);
    ns_ = *read;
    return {};
  }

  std::string variable() {
    const std::string type(words_.next()), bits(words_.next()), code(words_.next()), own(words_.next());
    if (!table_.times_ns.empty()) return "a signal is declared after values have begun";
    if (table_.columns.size() == kMostSignals) return "more than 10000 signals";
    columns_[code].push_back(table_.columns.size());
    const bool real = type == "real" || type == "realtime";
    std::string full;
    for (std::size_t i = 1; i < scopes_.size(); ++i) full += scopes_[i] + ".";
    table_.columns.push_back({full + own, "", real ? Kind::number : bits == "1" ? Kind::truth : Kind::count, {}});
    now_.push_back(real ? kUnknown : 0);
    skip("$var");  // which bits, of a part of a word
    return {};
  }

  std::string instant(std::string_view w) {
    std::uint64_t stamp = 0;
    const auto read = std::from_chars(w.data() + 1, w.data() + w.size(), stamp);
    const double at = static_cast<double>(stamp) * ns_;
    if (read.ec != std::errc{} || !(at < 9e18)) return fmt::format("`{}` is no time", w);
    const auto time = static_cast<std::int64_t>(std::llround(at));
    std::vector<std::int64_t>& times = table_.times_ns;
    if (!times.empty() && time == times.back()) return {};
    if (!times.empty() && time < times.back()) return fmt::format("the time {} goes backwards", w);
    if (!times.empty()) write();
    if ((times.size() + 1) * std::max<std::size_t>(1, now_.size()) > kMostCells) return "it is too large";
    times.push_back(time);
    return {};
  }

  static double whole(std::string_view w) {
    double v = 0;
    const bool negative = w.size() == 65 && w[1] == '1';
    std::uint64_t bits = 0;
    for (const char c : w.substr(1)) {
      if (c != '0' && c != '1') return kUnknown;
      v = 2 * v + (c == '1' ? 1 : 0);
      bits = 2 * bits + (c == '1' ? 1 : 0);
    }
    return negative ? static_cast<double>(static_cast<std::int64_t>(bits)) : v;
  }
  static double real(std::string_view w) {
    double v = kUnknown;
    std::from_chars(w.data() + 1, w.data() + w.size(), v);
    return v;
  }

  bool set(std::string_view code, double v) {
    const auto found = columns_.find(std::string(code));
    if (found == columns_.end()) return false;
    for (const std::size_t c : found->second) now_[c] = v;
    return true;
  }
  void write() {
    for (std::size_t i = 0; i < now_.size(); ++i) table_.columns[i].values.push_back(now_[i]);
  }

  SignalTable table_;
  Words words_;
  double ns_ = 1;
  std::unordered_map<std::string, std::vector<std::size_t>> columns_;
  std::vector<std::string> scopes_;
  std::vector<double> now_;
};

}  // namespace

Result<SignalTable> from_vcd(const std::string& name, std::string_view text) {
  VcdReader reader(name, text);
  if (const std::string wrong = reader.read(); !wrong.empty()) return Failure{"cannot read value changes", name, wrong};
  return std::move(reader.table());
}

}  // namespace isodyne::exchange
