#include "isodyne/present/network_drawing.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <numeric>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/present/circuit_symbols.h"
#include "isodyne/present/inquiry.h"
#include "isodyne/present/plot.h"
#include "isodyne/session/summary.h"

namespace isodyne::present {

using program::Network;
using program::Program;

namespace {

/// A way through an element from one node to another; of windings each has its own.
struct Branch {
  const Network::Element* element = nullptr;
  std::size_t winding = 0, windings = 1;
  std::size_t a = 0, b = 0;  ///< places of its nodes among those that are drawn
  std::vector<std::string> words;
  double width = 0;
};

constexpr double kLevelHeight = 78, kBorder = 24, kHead = 66, kLetter = 6.0, kLineHeight = 12;

std::size_t letters(const std::string& text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

/// 0.0006 H as "600 uH": three digits before the point at most, six in all.
std::string with_prefix(double value, const char* unit) {
  static const std::pair<double, const char*> kPrefixes[] = {{1e9, "G"},  {1e6, "M"},  {1e3, "k"},  {1, ""},
                                                             {1e-3, "m"}, {1e-6, "u"}, {1e-9, "n"}, {1e-12, "p"}};
  for (const auto& [size, prefix] : kPrefixes) {
    if (std::abs(value) >= size * (1 - 1e-9)) return fmt::format("{:.6g} {}{}", value / size, prefix, unit);
  }
  return fmt::format("{:.6g} {}", value, unit);
}

class Drawing {
 public:
  Drawing(const Program& p, const Network& network, std::string prefix)
      : p_(p), network_(network), prefix_(std::move(prefix)) {
    for (const Network::Element& e : network.elements) {
      if (!e.path.starts_with(prefix_)) continue;
      const std::size_t half = e.nodes.size() / 2;
      for (std::size_t k = 0; k < half; ++k) add(e, k, half);
    }
    order_levels();
    order_columns();
  }

  std::size_t count() const { return branches_.size(); }

  std::string script(double& width, double& height) {
    place();
    for (std::size_t i = 0; i < branches_.size(); ++i) stand(i);
    for (std::size_t n = 0; n < nodes_.size(); ++n) lie(n);
    constexpr double kSaid = 700;  // what stands below the title
    width = std::max(right_ + kBorder, kSaid);
    height = level(nodes_.size() - 1) + 46;
    const std::string part = prefix_.empty() ? "" : prefix_.substr(0, prefix_.size() - 1) + " of ";
    text(kBorder, 24, part + p_.name, 14, "#000000");
    text(kBorder, 42,
         fmt::format(
             "{}, {}; a dot is a connection, a circle goes on in other parts, + is the first terminal of a source",
             counted(branches_.size(), "element"), counted(nodes_.size(), "node")),
         9, "#5a6570");
    return commands(width, height);
  }

 private:
  void add(const Network::Element& e, std::size_t k, std::size_t half) {
    Branch b;
    b.element = &e;
    b.winding = k;
    b.windings = half;
    b.a = node(e.nodes[k]);
    b.b = node(e.nodes[half + k]);
    const std::string name = e.path.substr(prefix_.size());
    b.words.push_back(half > 1 ? fmt::format("{} {}", name, k + 1) : name);
    for (const std::string& value : values(e, k, half)) b.words.push_back(value);
    std::size_t longest = 0;
    for (const std::string& w : b.words) longest = std::max(longest, letters(w));
    b.width = kLeft + kRight + 6 + kLetter * static_cast<double>(longest);
    branches_.push_back(std::move(b));
  }

  std::size_t node(std::int32_t id) {
    const auto [known, fresh] = place_of_.try_emplace(id, nodes_.size());
    if (fresh) nodes_.push_back(id);
    return known->second;
  }

  /// What it is made of, as far as it says something.
  std::vector<std::string> values(const Network::Element& e, std::size_t k, std::size_t half) const {
    static const std::map<std::string, std::vector<std::pair<std::string, const char*>>> kShown{
        {"Resistor", {{"resistance", "ohm"}}},
        {"Inductor", {{"inductance", "H"}, {"resistance", "ohm"}}},
        {"Capacitor", {{"capacitance", "F"}, {"resistance", "ohm"}}},
        {"KneeCore", {{"inductance", "H"}, {"knee", "Wb"}}},
        {"Arrester", {{"voltage", "V"}}}};
    std::vector<std::string> found;
    const auto shown = kShown.find(e.model);
    for (const Network::Quantity& q : e.parameters) {
      const auto value = start_value(p_, q.id);
      if (!value) continue;
      if (half > 1 && q.name == fmt::format("turns[{}]", k + 1)) found.push_back(format_number(*value) + " turns");
      if (shown == kShown.end()) continue;
      for (const auto& [name, unit] : shown->second) {
        if (q.name == name && *value != 0) found.push_back(with_prefix(*value, unit));
      }
    }
    if (e.model == "Saturable" && e.curve >= 0) found.push_back(program::at(p_.tables, e.curve).name);
    if (e.model.ends_with("Source")) {
      for (const program::Assignment& a : p_.equations) {
        if (a.target != e.inputs.front().id) continue;
        const std::string written = one_line(p_.sources->covered(a.span));
        if (!written.empty() && letters(written) <= 16) found.push_back(written);
      }
    }
    return found;
  }

  // ---- who stands where

  bool is_ground(std::size_t place) const { return nodes_[place] == 0; }

  /// Levels, so that elements are short; ground lies at the bottom.
  void order_levels() {
    order_.resize(nodes_.size());
    std::iota(order_.begin(), order_.end(), 0);
    std::stable_partition(order_.begin(), order_.end(), [&](std::size_t n) { return !is_ground(n); });
    level_.resize(nodes_.size());
    const auto number = [&] {
      for (std::size_t i = 0; i < order_.size(); ++i) level_[order_[i]] = i;
    };
    const auto cost = [&] {
      number();
      double sum = 0;
      for (const Branch& b : branches_) {
        const double span = std::abs(static_cast<double>(level_[b.a]) - static_cast<double>(level_[b.b]));
        // A bit more where the first terminal lies below the second: current is read downwards.
        const bool upright = b.element->model == "Transistor" || b.element->model == "VoltageSource";
        sum += span + (level_[b.a] < level_[b.b] ? 0 : upright ? 1 : 0.2);
      }
      return sum;
    };
    const std::size_t movable = !order_.empty() && is_ground(order_.back()) ? order_.size() - 1 : order_.size();
    improve(order_, movable, cost);
    number();
  }

  /// Columns, so that the lines of nodes are short.
  void order_columns() {
    columns_.resize(branches_.size());
    std::iota(columns_.begin(), columns_.end(), 0);
    const auto cost = [&] {
      std::map<std::size_t, std::pair<std::size_t, std::size_t>> ends;
      for (std::size_t i = 0; i < columns_.size(); ++i) {
        const Branch& b = branches_[columns_[i]];
        for (const std::size_t n : {b.a, b.b}) {
          const auto [known, fresh] = ends.try_emplace(n, i, i);
          if (!fresh) known->second.second = i;
        }
      }
      double sum = 0;
      for (const auto& [n, end] : ends) sum += static_cast<double>(end.second - end.first) * (is_ground(n) ? 0.1 : 1);
      return sum;
    };
    improve(columns_, columns_.size(), cost);
  }

  /// Takes one from its place to another as long as that helps; the order of the text is where it begins.
  template <typename Cost>
  static void improve(std::vector<std::size_t>& order, std::size_t movable, Cost cost) {
    constexpr std::size_t kMost = 90;  // beyond that nobody could read it anyway
    if (movable > kMost) return;
    double best = cost();
    for (bool better = true; better;) {
      better = false;
      for (std::size_t from = 0; from < movable; ++from) {
        for (std::size_t to = 0; to < movable; ++to) {
          if (from == to) continue;
          const auto move = [&](std::size_t x, std::size_t y) {
            const auto at = [&](std::size_t i) { return order.begin() + static_cast<std::ptrdiff_t>(i); };
            if (x < y) std::rotate(at(x), at(x) + 1, at(y) + 1);
            if (x > y) std::rotate(at(y), at(x), at(x) + 1);
          };
          move(from, to);
          if (const double now = cost(); now < best - 1e-9) {
            best = now;
            better = true;
          } else {
            move(to, from);
          }
        }
      }
    }
  }

  /// Elements one beside the other; one whose levels are free in one of the columns before stands there.
  void place() {
    struct Column {
      std::vector<std::pair<std::size_t, std::size_t>> taken;  ///< levels
      double width = 0;
    };
    constexpr std::size_t kBack = 5;
    std::vector<Column> all;
    std::vector<std::size_t> column_of(branches_.size());
    for (const std::size_t i : columns_) {
      const Branch& b = branches_[i];
      const std::size_t top = std::min(level_[b.a], level_[b.b]), bottom = std::max(level_[b.a], level_[b.b]);
      std::size_t at = all.size() > kBack ? all.size() - kBack : 0;
      const auto free = [&](const Column& c) {
        return std::none_of(c.taken.begin(), c.taken.end(),
                            [&](const auto& t) { return top < t.second && t.first < bottom; });
      };
      while (at < all.size() && !free(all[at])) ++at;
      if (at == all.size()) all.emplace_back();
      all[at].taken.emplace_back(top, bottom);
      all[at].width = std::max(all[at].width, b.width + 8);
      column_of[i] = at;
    }
    std::size_t longest = 0;
    for (std::size_t n = 0; n < nodes_.size(); ++n) longest = std::max(longest, letters(name_of(n)));
    std::vector<double> begins{kBorder + kLetter * static_cast<double>(longest) + 16};
    for (const Column& c : all) begins.push_back(begins.back() + c.width);
    x_.assign(branches_.size(), 0);
    for (std::size_t i = 0; i < branches_.size(); ++i) x_[i] = begins[column_of[i]] + kLeft;
    right_ = begins.back();
  }

  double level(std::size_t i) const { return kHead + kLevelHeight * static_cast<double>(i) + 20; }

  std::string name_of(std::size_t n) const {
    const std::string& path = network_.nodes[static_cast<std::size_t>(nodes_[n])];
    return !prefix_.empty() && path.starts_with(prefix_) ? path.substr(prefix_.size()) : path;
  }

  // ---- strokes

  void stand(std::size_t i) {
    const Branch& b = branches_[i];
    const bool down = level_[b.a] <= level_[b.b];
    const auto [top, bottom] = std::minmax(level_[b.a], level_[b.b]);
    // The symbol stands in the gap that is nearest to the middle.
    const std::size_t gap = top + (bottom - top - 1) / 2;
    const double x = x_[i], middle = (level(gap) + level(gap + 1)) / 2, sign = down ? 1 : -1;
    const auto put = [&](const std::vector<Spot>& from) {
      std::vector<Spot> to;
      for (const Spot& s : from) to.push_back({x + s.x, middle + sign * s.y});
      return to;
    };
    const Strokes s = symbol_of(b.element->model);
    for (const auto& line : s.lines) all_.lines.push_back(put(line));
    for (const auto& area : s.areas) all_.areas.push_back(put(area));
    all_.line({{x, level(top)}, {x, middle - kReach}});
    all_.line({{x, middle + kReach}, {x, level(bottom)}});
    dots_.push_back({x, level(top)});
    dots_.push_back({x, level(bottom)});
    const double first = middle - kLineHeight * (static_cast<double>(b.words.size()) - 1) / 2;
    for (std::size_t k = 0; k < b.words.size(); ++k) {
      const char* const colour = b.element->model.starts_with("Fault") ? "#D55E00" : k == 0 ? "#000000" : "#0060A0";
      text(x + kRight + 4, first + kLineHeight * static_cast<double>(k), b.words[k], 9, colour);
    }
  }

  /// A node from its first element to its last one; one that others lie at who are not drawn has an open end.
  void lie(std::size_t n) {
    double from = 1e9, to = 0;
    for (std::size_t i = 0; i < branches_.size(); ++i) {
      if (branches_[i].a != n && branches_[i].b != n) continue;
      from = std::min(from, x_[i]);
      to = std::max(to, x_[i]);
    }
    const double y = level(level_[n]);
    const double begin = from - 14;
    all_.line({{begin, y}, {to, y}});
    if (goes_on(n)) all_.circle({begin - 3, y}, 3);
    if (is_ground(n)) {
      for (const auto& line : earth().lines) {
        std::vector<Spot> moved;
        for (const Spot& s : line) moved.push_back({begin + s.x, y + s.y});
        all_.lines.push_back(std::move(moved));
      }
    }
    label_end(begin - (goes_on(n) ? 9 : 3), y, name_of(n));
  }

  bool goes_on(std::size_t n) const {
    if (is_ground(n)) return false;
    return std::any_of(network_.elements.begin(), network_.elements.end(), [&](const Network::Element& e) {
      return !e.path.starts_with(prefix_) && std::find(e.nodes.begin(), e.nodes.end(), nodes_[n]) != e.nodes.end();
    });
  }

  void text(double x, double y, const std::string& words, double size, const char* colour) {
    labels_ +=
        fmt::format("set label {} at {},{} left front font \",{}\" tc rgb \"{}\"\n", quoted(words), x, y, size, colour);
  }
  void label_end(double x, double y, const std::string& words) {
    labels_ += fmt::format("set label {} at {},{} right front font \",9\" tc rgb \"#005a3c\"\n", quoted(words), x, y);
  }

  std::string commands(double width, double height) const {
    std::string out =
        fmt::format("set margins 0,0,0,0\nunset border\nunset tics\nunset key\nset xrange [0:{}]\nset yrange [{}:0]\n",
                    width, height);
    out += labels_;
    const auto block = [&](const char* name, const std::vector<std::vector<Spot>>& all) {
      out += fmt::format("${} << EOD\n", name);
      for (const auto& line : all) {
        for (const Spot& s : line) out += fmt::format("{:.2f} {:.2f}\n", s.x, s.y);
        out += "\n";
      }
      out += "EOD\n";
    };
    block("lines", all_.lines);
    block("areas", all_.areas.empty() ? std::vector<std::vector<Spot>>{{{-9, -9}, {-8, -9}, {-8, -8}}} : all_.areas);
    block("dots", {dots_});
    return out +
           "plot $lines with lines lc rgb \"#26323a\" lw 1.2, $areas with filledcurves closed fc rgb \"#26323a\", "
           "$dots "
           "with points pt 7 ps 0.45 lc rgb \"#26323a\"\n";
  }

  const Program& p_;
  const Network& network_;
  std::string prefix_;
  std::vector<Branch> branches_;
  std::vector<std::int32_t> nodes_;               ///< those that are drawn
  std::map<std::int32_t, std::size_t> place_of_;  ///< of a node: its place among them
  std::vector<std::size_t> order_, level_;        ///< nodes from the top; of each its level
  std::vector<std::size_t> columns_;              ///< branches from the left
  std::vector<double> x_;
  double right_ = 0;
  Strokes all_;
  std::vector<Spot> dots_;
  std::string labels_;
};

/// The network that was meant, and the beginning of the paths of what is drawn of it.
Result<std::pair<const Network*, std::string>> meant(const Program& p, const std::string& part) {
  std::vector<const Network*> all;
  for (const Network& n : p.networks) {
    if (n.kind != "electric") continue;
    const std::string prefix = part.empty() ? "" : part + ".";
    const bool has = std::any_of(n.elements.begin(), n.elements.end(), [&](const Network::Element& e) {
      return e.path.starts_with(prefix) || e.path == part;
    });
    if (has) all.push_back(&n);
  }
  if (all.size() == 1) return std::pair{all.front(), part.empty() ? "" : part + "."};
  std::set<std::string> parts;
  for (const Network& n : p.networks) {
    if (n.kind != "electric") continue;
    for (const Network::Element& e : n.elements) {
      const std::size_t dot = e.path.find('.');
      if (dot != std::string::npos) parts.insert(e.path.substr(0, dot));
    }
  }
  std::string known;
  for (const std::string& name : parts) list_on(known, "`" + name + "`");
  if (all.empty() && !part.empty())
    return Failure{"cannot draw", part,
                   known.empty() ? "there is no circuit in this bench" : "circuits are in " + known};
  if (all.empty()) return Failure{"cannot draw", p.name, "there is no circuit in this bench"};
  return Failure{"cannot draw", p.name,
                 fmt::format("it has {} circuits; say which by a part of it: {}", all.size(), known)};
}

}  // namespace

Status draw_network(const Program& program, const std::string& part, const std::string& file) {
  namespace fs = std::filesystem;
  std::string ending = fs::path(file).extension().string();
  if (ending.empty()) ending = ".svg";
  if (ending != ".svg" && ending != ".png" && ending != ".pdf")
    return Failure{"cannot draw", file, "pictures are .svg, .png or .pdf"};
  const auto which = meant(program, part);
  if (!which) return which.failure();
  Drawing drawing(program, *which->first, which->second);
  constexpr std::size_t kMost = 120;
  if (drawing.count() == 0) return Failure{"cannot draw", part, "it is an element, not a part that has some"};
  if (drawing.count() > kMost)
    return Failure{"cannot draw", file,
                   fmt::format("{} elements are too many to be read; name a part of it", drawing.count())};
  double width = 0, height = 0;
  const std::string script = drawing.script(width, height);
  const TemporaryFolder folder;
  if (folder.path().empty()) return folder.trouble();
  const std::string base = (folder.path() / "network").string();
  const Status drawn = plot(script, {static_cast<int>(width), static_cast<int>(height)}, base, ending == ".pdf");
  if (!drawn) return drawn;
  const Result<std::string> picture = read_file(base + ending);
  if (!picture) return picture.failure();
  return write_file(file, *picture);
}

}  // namespace isodyne::present
