// Signals over time as COMTRADE: a configuration and the data, IEEE C37.111.

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstring>
#include <limits>
#include <numeric>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/exchange/signal_table.h"

namespace isodyne::exchange {

namespace {

using Kind = SignalColumn::Kind;
constexpr int kMissingText = 99999, kMissingBinary = -32768;

/// Commas and line ends separate in this format.
std::string plain(const std::string& text) {
  std::string kept;
  for (const char c : text) kept += c == ',' || c == '\r' || c == '\n' ? ' ' : c;
  return kept;
}

/// How the numbers of a channel are scaled: value = a · count + b.
struct Scale {
  double a = 1, b = 0;
};
Scale scale_of(const SignalColumn& c, int most) {
  double low = INFINITY, high = -INFINITY;
  bool whole = true;
  for (const double v : c.values) {
    if (!std::isfinite(v)) continue;
    low = std::min(low, v);
    high = std::max(high, v);
    whole = whole && v == std::round(v);
  }
  if (low > high || (whole && low >= -most && high <= most)) return {};
  const double a = (high / 2 - low / 2) / most;
  return a > 0 ? Scale{a, low / 2 + high / 2} : Scale{1, low};
}
int count_of(double v, const Scale& s, int missing) {
  return std::isfinite(v) ? static_cast<int>(std::lround((v - s.b) / s.a)) : missing;
}

/// The unit of time stamps, ns, in which all of them are whole numbers below 2^32, if there is one.
std::int64_t stamp_unit(const std::vector<std::int64_t>& times, bool& exact) {
  constexpr std::int64_t kMost = 4'294'967'294;
  const std::int64_t span = times.empty() ? 0 : times.back() - times.front();
  std::int64_t common = 0;
  for (const std::int64_t t : times) common = std::gcd(common, t - times.front());
  std::int64_t unit = 1;
  for (; unit < 1'000'000'000'000 && span / unit > kMost; unit *= 10) {
  }
  if (common > 0 && span / common <= kMost) unit = common;
  exact = common == 0 || common % unit == 0;
  return unit;
}

template <typename T>
void put(std::string& to, T value) {
  to.append(reinterpret_cast<const char*>(&value), sizeof value);  // little-endian, like every processor we run on
}

using Columns = std::vector<const SignalColumn*>;

void put_binary_row(std::string& to, std::size_t r, std::int64_t stamp, const Columns& numbers,
                    const std::vector<Scale>& scales, const Columns& truths) {
  put(to, static_cast<std::uint32_t>(r + 1));
  put(to, static_cast<std::uint32_t>(stamp));
  for (std::size_t i = 0; i < numbers.size(); ++i)
    put(to, static_cast<std::int16_t>(count_of(numbers[i]->values[r], scales[i], kMissingBinary)));
  for (std::size_t i = 0; i < truths.size(); i += 16) {
    std::uint16_t word = 0;
    for (std::size_t k = i; k < std::min(i + 16, truths.size()); ++k)
      if (truths[k]->values[r] != 0) word = static_cast<std::uint16_t>(word | 1u << (k - i));
    put(to, word);
  }
}

void put_text_row(std::string& to, std::size_t r, std::int64_t stamp, const Columns& numbers,
                  const std::vector<Scale>& scales, const Columns& truths) {
  to += fmt::format("{},{}", r + 1, stamp);
  for (std::size_t i = 0; i < numbers.size(); ++i)
    to += fmt::format(",{}", count_of(numbers[i]->values[r], scales[i], kMissingText));
  for (const SignalColumn* c : truths) to += c->values[r] != 0 ? ",1" : ",0";
  to += "\r\n";
}

}  // namespace

Result<Comtrade> to_comtrade(const SignalTable& t, bool binary) {
  Columns numbers, truths;
  for (const SignalColumn& c : t.columns) (c.kind == Kind::truth ? truths : numbers).push_back(&c);
  constexpr std::size_t kMostChannels = 999'999;
  if (t.columns.size() > kMostChannels) return Failure{"cannot write COMTRADE", "", "it has room for 999999 channels"};
  const int most = binary ? 32767 : 99998;
  Comtrade files;
  files.cfg =
      fmt::format("{},isodyne,1999\r\n{},{}A,{}D\r\n", plain(t.title), t.columns.size(), numbers.size(), truths.size());
  std::vector<Scale> scales;
  for (std::size_t i = 0; i < numbers.size(); ++i) {
    const Scale s = scales.emplace_back(scale_of(*numbers[i], most));
    files.cfg += fmt::format("{},{},,,{},{},{},0,{},{},1,1,P\r\n", i + 1, plain(numbers[i]->name),
                             plain(numbers[i]->unit.empty() ? "1" : numbers[i]->unit), format_exact(s.a),
                             format_exact(s.b), -most, most);
  }
  for (std::size_t i = 0; i < truths.size(); ++i)
    files.cfg += fmt::format("{},{},,,0\r\n", i + 1, plain(truths[i]->name));
  bool exact = true;
  const std::int64_t unit = stamp_unit(t.times_ns, exact);
  const std::int64_t first = t.times_ns.empty() ? 0 : t.times_ns.front();
  const std::size_t rows = t.times_ns.size();
  bool steady = rows > 1;
  for (std::size_t i = 2; i < rows; ++i)
    steady = steady && t.times_ns[i] - t.times_ns[i - 1] == t.times_ns[1] - t.times_ns[0];
  files.cfg += "50\r\n";
  if (steady) {
    files.cfg +=
        fmt::format("1\r\n{},{}\r\n", format_exact(1e9 / static_cast<double>(t.times_ns[1] - t.times_ns[0])), rows);
  } else {
    files.cfg += fmt::format("0\r\n0,{}\r\n", rows);
  }
  // No day is known: runs begin at a fixed one, so that the same run gives the same file.
  const auto instant = [](std::int64_t ns) {
    const std::int64_t us = std::max<std::int64_t>(0, ns) / 1000;
    return fmt::format("01/01/2000,{:02}:{:02}:{:02}.{:06}\r\n", us / 3'600'000'000 % 24, us / 60'000'000 % 60,
                       us / 1'000'000 % 60, us % 1'000'000);
  };
  files.cfg += instant(first) + instant(first);
  files.cfg += fmt::format("{}\r\n{}\r\n", binary ? "BINARY" : "ASCII", format_exact(static_cast<double>(unit) / 1000));
  for (std::size_t r = 0; r < rows; ++r) {
    const std::int64_t stamp = (t.times_ns[r] - first + unit / 2) / unit;
    (binary ? put_binary_row : put_text_row)(files.dat, r, stamp, numbers, scales, truths);
  }
  return files;
}

namespace {

/// Fields of the lines of a text, without blanks around them.
class Lines {
 public:
  explicit Lines(std::string_view text) : text_(text) {}
  bool next(std::vector<std::string>& fields) {
    if (at_ >= text_.size()) return false;
    const std::size_t end = std::min(text_.find('\n', at_), text_.size());
    std::string_view line = text_.substr(at_, end - at_);
    at_ = end + 1;
    ++number_;
    fields.clear();
    for (std::size_t begin = 0; begin <= line.size();) {
      const std::size_t comma = std::min(line.find(',', begin), line.size());
      std::string_view f = line.substr(begin, comma - begin);
      while (!f.empty() && (f.front() == ' ' || f.front() == '\t')) f.remove_prefix(1);
      while (!f.empty() && (f.back() == ' ' || f.back() == '\t' || f.back() == '\r')) f.remove_suffix(1);
      fields.emplace_back(f);
      begin = comma + 1;
    }
    return true;
  }
  int number() const { return number_; }

 private:
  std::string_view text_;
  std::size_t at_ = 0;
  int number_ = 0;
};

std::optional<double> number(const std::string& text) {
  double v = 0;
  const char* begin = text.data() + (text.starts_with("+") ? 1 : 0);
  const auto read = std::from_chars(begin, text.data() + text.size(), v);
  if (read.ec != std::errc{} || read.ptr != text.data() + text.size()) return std::nullopt;
  return v;
}

struct Channel {
  std::string name, unit;
  Scale scale;
};

/// The configuration, read line after line; the first mistake ends it.
class Configuration {
 public:
  Configuration(std::string name, std::string_view text) : name_(std::move(name)), lines_(text) {}

  bool read() { return head() && channels() && rates() && rest(); }
  Failure failure() const { return {"cannot read COMTRADE", fmt::format("{}:{}", name_, lines_.number()), trouble_}; }

  std::string station, format;
  std::vector<Channel> numbers;
  std::vector<std::string> truths;
  struct Rate {
    double per_second = 0;
    std::int64_t last = 0;
  };
  std::vector<Rate> rate;
  double stamp_ns = 1000;

 private:
  bool fail(const std::string& what) { return trouble_ = what, false; }
  bool line(std::size_t least) {
    if (!lines_.next(f_)) return fail("the file ends too early");
    return f_.size() >= least || fail(fmt::format("{} where {} are needed", counted(f_.size(), "field"), least));
  }
  bool count(const std::string& text, char sign, std::size_t& to) {
    std::string digits = text;
    if (!digits.empty() && std::toupper(static_cast<unsigned char>(digits.back())) == sign) digits.pop_back();
    const auto v = number(digits);
    constexpr double kMost = 10'000;
    if (!v || *v < 0 || *v > kMost || *v != std::floor(*v))
      return fail(fmt::format("`{}` is no number of channels", text));
    to = static_cast<std::size_t>(*v);
    return true;
  }
  bool head() {
    if (!line(1)) return false;
    station = f_[0];
    return line(3) && count(f_[1], 'A', analogue_) && count(f_[2], 'D', digital_);
  }
  bool channels() {
    for (std::size_t i = 0; i < analogue_; ++i) {
      if (!line(7)) return false;
      const auto a = number(f_[5]), b = number(f_[6]);
      if (!a || !b) return fail("the factors of the channel are no numbers");
      numbers.push_back({f_[1] + (f_[2].empty() ? "" : "_" + f_[2]), f_[4], {*a, *b}});
    }
    for (std::size_t i = 0; i < digital_; ++i) {
      if (!line(2)) return false;
      truths.push_back(f_[1]);
    }
    return true;
  }
  bool rates() {
    if (!line(1) || !line(1)) return false;  // the frequency of the grid; how many rates
    const auto many = number(f_[0]);
    if (!many || *many < 0 || *many > 1000) return fail(fmt::format("`{}` is no number of rates", f_[0]));
    for (int i = 0; i < std::max(1, static_cast<int>(*many)); ++i) {
      if (!line(2)) return false;
      const auto per_second = number(f_[0]), last = number(f_[1]);
      if (!per_second || !last || *per_second < 0 || *last < 0 || *last > 1e9) return fail("this is no rate");
      rate.push_back({*per_second, static_cast<std::int64_t>(*last)});
    }
    return true;
  }
  bool rest() {
    if (!line(1) || !line(1) || !line(1)) return false;  // first instant, trigger, form of the data
    format = lower_case(f_[0]);
    if (format != "ascii" && format != "binary" && format != "binary32" && format != "float32")
      return fail(fmt::format("`{}` is no form of data: ASCII, BINARY, BINARY32 or FLOAT32", f_[0]));
    if (!lines_.next(f_) || f_[0].empty()) return true;
    const auto multiplier = number(f_[0]);
    if (!multiplier || !(*multiplier > 0) || *multiplier > 1e12)
      return fail(fmt::format("`{}` is no multiplier of time", f_[0]));
    stamp_ns = *multiplier * 1000;
    return true;
  }

  std::string name_, trouble_;
  Lines lines_;
  std::vector<std::string> f_;
  std::size_t analogue_ = 0, digital_ = 0;
};

/// Rows as they come, with or without time stamps.
class Rows {
 public:
  Rows(const Configuration& c, SignalTable& to) : c_(c), to_(to) {
    for (const Channel& n : c.numbers) to_.columns.push_back({n.name, n.unit == "1" ? "" : n.unit, Kind::number, {}});
    for (const std::string& n : c.truths) to_.columns.push_back({n, "", Kind::truth, {}});
  }
  /// The time of the next row; false if it does not come after the one before.
  bool begin(std::optional<double> stamp) {
    double ns = 0;
    if (c_.rate[0].per_second > 0) {
      while (c_.rate.size() > at_rate_ + 1 && row_ >= c_.rate[at_rate_].last) ++at_rate_;
      ns = row_ == 0 ? 0 : before_ + 1e9 / c_.rate[at_rate_].per_second;
    } else if (stamp) {
      ns = *stamp * c_.stamp_ns;
    } else {
      return false;
    }
    const auto at = static_cast<std::int64_t>(std::llround(ns));
    if (!(ns < 9e18) || (row_ > 0 && at <= to_.times_ns.back())) return false;
    before_ = ns;
    to_.times_ns.push_back(at);
    ++row_;
    column_ = 0;
    return true;
  }
  void count(std::optional<double> v) {
    const Scale& s = c_.numbers[column_].scale;
    to_.columns[column_++].values.push_back(v ? s.a * *v + s.b : kMissing);
  }
  void truth(bool v) { to_.columns[column_++].values.push_back(v ? 1 : 0); }
  std::int64_t row() const { return row_; }

 private:
  const Configuration& c_;
  SignalTable& to_;
  std::size_t at_rate_ = 0, column_ = 0;
  std::int64_t row_ = 0;
  double before_ = 0;
};

std::string read_text(const Configuration& c, std::string_view dat, Rows& rows) {
  Lines lines(dat);
  std::vector<std::string> f;
  const std::size_t fields = 2 + c.numbers.size() + c.truths.size();
  while (lines.next(f)) {
    if (f.size() == 1 && (f[0].empty() || f[0] == "\x1a")) continue;
    if (f.size() != fields)
      return fmt::format("line {}: {} where the configuration needs {}", lines.number(), counted(f.size(), "field"),
                         fields);
    if (!rows.begin(number(f[1])))
      return fmt::format("line {}: the time does not come after the one before", lines.number());
    for (std::size_t i = 0; i < c.numbers.size(); ++i) {
      const auto v = number(f[2 + i]);
      if (!v && !f[2 + i].empty()) return fmt::format("line {}: `{}` is no number", lines.number(), f[2 + i]);
      rows.count(v && *v != kMissingText ? v : std::nullopt);
    }
    for (std::size_t i = 0; i < c.truths.size(); ++i) {
      const std::string& v = f[2 + c.numbers.size() + i];
      if (v != "0" && v != "1") return fmt::format("line {}: `{}` is neither 0 nor 1", lines.number(), v);
      rows.truth(v == "1");
    }
  }
  return {};
}

template <typename T>
T get(const char*& from) {
  T value;
  std::memcpy(&value, from, sizeof value);
  from += sizeof value;
  return value;
}

std::string read_binary(const Configuration& c, std::string_view dat, Rows& rows, SignalTable& table) {
  const std::size_t each = c.format == "binary" ? 2 : 4, words = (c.truths.size() + 15) / 16;
  const std::size_t bytes = 8 + each * c.numbers.size() + 2 * words;
  for (std::size_t at = 0; at + bytes <= dat.size(); at += bytes) {
    const char* from = dat.data() + at + 4;
    const auto stamp = get<std::uint32_t>(from);
    if (!rows.begin(stamp == 0xffffffff ? std::nullopt : std::optional<double>(stamp)))
      return fmt::format("row {}: the time does not come after the one before", rows.row() + 1);
    for (std::size_t i = 0; i < c.numbers.size(); ++i) {
      std::optional<double> v;
      if (c.format == "binary") {
        const auto n = get<std::int16_t>(from);
        if (n != kMissingBinary) v = n;
      } else if (c.format == "binary32") {
        const auto n = get<std::int32_t>(from);
        if (n != std::numeric_limits<std::int32_t>::min()) v = n;
      } else {
        v = get<float>(from);
      }
      rows.count(v);
    }
    for (std::size_t w = 0; w < words; ++w) {
      const auto word = get<std::uint16_t>(from);
      for (std::size_t k = 0; k < 16 && 16 * w + k < c.truths.size(); ++k) rows.truth((word >> k & 1u) != 0);
    }
  }
  if (dat.size() % bytes != 0)
    table.remarks.push_back(fmt::format("the data end within a row: {} bytes are left out", dat.size() % bytes));
  return {};
}

}  // namespace

Result<SignalTable> from_comtrade(const std::string& name, const Comtrade& files) {
  Configuration c(name, files.cfg);
  if (!c.read()) return c.failure();
  SignalTable table;
  table.title = c.station.empty() ? name : c.station;
  Rows rows(c, table);
  const std::string trouble =
      c.format == "ascii" ? read_text(c, files.dat, rows) : read_binary(c, files.dat, rows, table);
  if (!trouble.empty()) return Failure{"cannot read the data of", name, trouble};
  if (table.times_ns.empty()) return Failure{"cannot read the data of", name, "there is no row in them"};
  if (rows.row() < c.rate.back().last)
    table.remarks.push_back(
        fmt::format("{} rows, where the configuration speaks of {}", rows.row(), c.rate.back().last));
  return table;
}

}  // namespace isodyne::exchange
