#include "isodyne/present/tree_figure.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/page_text.h"

namespace isodyne::present {

using program::TreeGate;
using program::TreeInput;
using session::Proof;
using trees::FaultTree;

namespace {

constexpr std::size_t kMostDrawn = 300, kMostListed = 40;
constexpr double kLeaf = 138, kLevel = 148, kBox = 126, kBoxHigh = 50, kMargin = 24, kHead = 76;

/// One box: a gate, an event, or a gate that is drawn elsewhere or not at all.
struct TreeBox {
  TreeInput of;
  bool elsewhere = false;
  std::vector<std::size_t> below;
  double x = 0;
  int level = 0;
};

struct ProofLook {
  const char *fill, *ink, *sign;
};

/// A colour and a sign, so that it can be read without colours.
ProofLook look_of(Proof p) {
  if (p == Proof::reaches) return {"#f3cdb4", "#a33f00", "\xE2\x97\x8F"};
  if (p == Proof::does_not) return {"#cfe8dd", "#00694d", "\xE2\x97\x8B"};
  return {"#f1f3f4", "#5b6770", "?"};
}

class TreePicture {
 public:
  explicit TreePicture(const TreeDrawing& d) : d_(d), tree_(*d.tree) {}

  std::string run() {
    place();
    const double width = std::max(leaves_ * kLeaf + 2 * kMargin, 980.0);
    shift_ = (width - leaves_ * kLeaf) / 2;
    for (const TreeBox& b : boxes_) {
      for (const std::size_t c : b.below) line(b, boxes_[c]);
    }
    for (const TreeBox& b : boxes_) box(b);
    double y = kHead + (deepest_ + 1) * kLevel + 24;
    notes(y);
    y = cut_sets(y, width);
    const std::string title = tree_.name + (tree_.doc.empty() ? "" : ": " + one_line(tree_.doc));
    return fmt::format(
               "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {0:.0f} {1:.0f}\" width=\"{0:.0f}\" "
               "height=\"{1:.0f}\" font-family=\"DejaVu Sans,Verdana,sans-serif\" font-size=\"11\" fill=\"#1d2730\">\n"
               "<rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>\n"
               "<text x=\"{2}\" y=\"30\" font-size=\"17\" font-weight=\"bold\">{3}</text>\n"
               "<text x=\"{2}\" y=\"52\" font-size=\"12\" fill=\"#5b6770\">{4}</text>\n",
               width, y + kMargin, kMargin, fitting(title, static_cast<std::size_t>(width / 11)), escaped(summary())) +
           body_ + "</svg>\n";
  }

 private:
  static std::string fitting(const std::string& text, std::size_t columns) {
    if (display_width(text) <= columns) return escaped(text);
    return escaped(std::string(first_columns(text, columns - 1))) + "\xE2\x80\xA6";
  }

  std::string summary() const {
    std::string text =
        fmt::format("minimal cut sets: {}; events: {}", trees::count_text(d_.sets->count()), tree_.events.size());
    if (const auto p = d_.sets->probability())
      text += fmt::format("; probability {:.3g}{}", *p,
                          tree_.over_s ? fmt::format(" over {} h", format_number(*tree_.over_s / trees::kHour)) : "");
    return text;
  }

  /// Level by level, so that what is left out is the farthest from the top.
  void place() {
    boxes_.push_back({tree_.top, false, {}, 0, 0});
    std::set<std::int32_t> drawn;
    for (std::size_t i = 0; i < boxes_.size(); ++i) {
      const TreeInput of = boxes_[i].of;
      if (!of.gate) continue;
      const TreeGate& gate = tree_.gates[static_cast<std::size_t>(of.index)];
      if (drawn.contains(of.index) || boxes_.size() + gate.of.size() > kMostDrawn) {
        left_out_ += drawn.contains(of.index) ? 0 : 1;
        boxes_[i].elsewhere = true;
        continue;
      }
      drawn.insert(of.index);
      for (const TreeInput& in : gate.of) {
        boxes_[i].below.push_back(boxes_.size());
        boxes_.push_back({in, false, {}, 0, boxes_[i].level + 1});
      }
    }
    across(0);
    for (const TreeBox& b : boxes_) deepest_ = std::max(deepest_, b.level);
  }

  void across(std::size_t i) {
    if (boxes_[i].below.empty()) {
      boxes_[i].x = (leaves_ + 0.5) * kLeaf;
      leaves_ += 1;
      return;
    }
    for (const std::size_t c : boxes_[i].below) across(c);
    boxes_[i].x = (boxes_[boxes_[i].below.front()].x + boxes_[boxes_[i].below.back()].x) / 2;
  }

  double left(const TreeBox& b) const { return b.x + shift_; }
  static double top_of(const TreeBox& b) { return kHead + b.level * kLevel; }

  void line(const TreeBox& from, const TreeBox& to) {
    const double y = top_of(from) + kBoxHigh + 44, middle = top_of(to) - 14;
    body_ += fmt::format("<path d=\"M{0:.1f} {1:.1f} V{2:.1f} H{3:.1f} V{4:.1f}\" fill=\"none\" stroke=\"#6b7780\"/>\n",
                         left(from), y, middle, left(to), top_of(to));
  }

  void box(const TreeBox& b) {
    const auto i = static_cast<std::size_t>(b.of.index);
    const std::string name = b.of.gate ? tree_.gates[i].name : tree_.events[i].name;
    const std::string doc = b.level == 0 ? "" : b.of.gate ? tree_.gates[i].doc : tree_.events[i].doc;
    const double x = left(b), y = top_of(b);
    const std::string shown = b.level == 0 ? tree_.name : name;
    if (!shown.empty()) {
      body_ += fmt::format(
          "<rect x=\"{:.1f}\" y=\"{:.1f}\" width=\"{}\" height=\"{}\" fill=\"#f7f9fa\" stroke=\"#3a4750\"/>"
          "<text x=\"{:.1f}\" y=\"{:.1f}\" text-anchor=\"middle\" font-weight=\"bold\">{}</text>\n",
          x - kBox / 2, y, kBox, kBoxHigh, x, y + 16, fitting(shown, 17));
      const auto lines = two_lines(one_line(doc), 21);
      for (std::size_t k = 0; k < lines.size(); ++k)
        body_ += fmt::format(
            "<text x=\"{:.1f}\" y=\"{:.1f}\" text-anchor=\"middle\" font-size=\"9.5\" fill=\"#5b6770\">{}</text>\n", x,
            y + 29 + 12 * static_cast<double>(k), escaped(lines[k]));
    } else {
      body_ += fmt::format("<path d=\"M{0:.1f} {1:.1f} V{2:.1f}\" stroke=\"#6b7780\"/>\n", x, y, y + kBoxHigh + 8);
    }
    b.of.gate ? b.elsewhere ? transfer(x, y + kBoxHigh) : symbol(tree_.gates[i], x, y + kBoxHigh)
              : event(tree_.events[i], static_cast<std::int32_t>(i), x, y + kBoxHigh);
  }

  static std::vector<std::string> two_lines(const std::string& text, std::size_t columns) {
    std::vector<std::string> lines;
    std::string line;
    std::size_t from = 0;
    while (from < text.size() && lines.size() < 2) {
      const std::size_t end = std::min(text.find(' ', from), text.size());
      const std::string word = text.substr(from, end - from);
      if (!line.empty() && display_width(line) + 1 + display_width(word) > columns) {
        lines.push_back(line);
        line.clear();
      }
      if (lines.size() == 2) break;
      line += (line.empty() ? "" : " ") + word;
      from = end + 1;
    }
    if (!line.empty() && lines.size() < 2) lines.push_back(line);
    if (from < text.size() && !lines.empty()) lines.back() += "\xE2\x80\xA6";
    for (std::string& l : lines) {
      if (display_width(l) > columns + 1) l = std::string(first_columns(l, columns)) + "\xE2\x80\xA6";
    }
    return lines;
  }

  /// Below the box at (x, y): 36 wide, 36 high.
  void symbol(const TreeGate& g, double x, double y) {
    const char* style = "fill=\"#e6e9f5\" stroke=\"#3a4750\"";
    body_ += fmt::format("<path d=\"M{0:.1f} {1:.1f} v8\" stroke=\"#6b7780\"/>\n", x, y);
    const double t = y + 8, b = y + 44;
    std::string inside;
    if (g.kind == TreeGate::Kind::all) {
      body_ += fmt::format("<path d=\"M{0:.1f} {3:.1f} V{2:.1f} A18 18 0 0 1 {1:.1f} {2:.1f} V{3:.1f} Z\" {4}/>\n",
                           x - 18, x + 18, t + 18, b, style);
      inside = "and";
    } else if (g.kind == TreeGate::Kind::inhibit) {
      body_ += fmt::format("<path d=\"M{0:.1f} {2:.1f} h18 l10 18 l-10 18 h-18 l-10 -18 Z\" {1}/>\n", x - 9, style, t);
      inside = "given";
    } else {
      body_ += fmt::format(
          "<path d=\"M{0:.1f} {4:.1f} Q{0:.1f} {3:.1f} {2:.1f} {5:.1f} Q{1:.1f} {3:.1f} {1:.1f} {4:.1f} Q{2:.1f} "
          "{6:.1f} "
          "{0:.1f} {4:.1f} Z\" {7}/>\n",
          x - 18, x + 18, x, t + 10, b, t, b - 12, style);
      inside = g.kind == TreeGate::Kind::at_least ? fmt::format("{}/{}", g.least, g.of.size())
               : g.of.size() > 1                  ? "or"
                                                  : "";
    }
    body_ += fmt::format("<text x=\"{:.1f}\" y=\"{:.1f}\" text-anchor=\"middle\" font-size=\"9\">{}</text>\n", x,
                         t + 22, inside);
  }

  void transfer(double x, double y) {
    body_ += fmt::format("<path d=\"M{0:.1f} {1:.1f} v8 l15 26 h-30 l15 -26\" fill=\"#ffffff\" stroke=\"#3a4750\"/>\n",
                         x, y);
  }

  void event(const FaultTree::Event& e, std::int32_t id, double x, double y) {
    const auto proof = alone(id);
    const ProofLook look = proof ? look_of(*proof) : ProofLook{"#ffffff", "#1d2730", ""};
    body_ += fmt::format(
        "<path d=\"M{0:.1f} {1:.1f} v8\" stroke=\"#6b7780\"/><circle cx=\"{0:.1f}\" cy=\"{2:.1f}\" r=\"18\" "
        "fill=\"{3}\" stroke=\"#3a4750\"/><text x=\"{0:.1f}\" y=\"{4:.1f}\" text-anchor=\"middle\" "
        "font-size=\"{6}\" fill=\"{7}\">{5}</text>\n",
        x, y, y + 26, look.fill, y + 30,
        proof           ? look.sign
        : e.probability ? fmt::format("{:.0e}", *e.probability)
                        : "",
        proof ? 13 : 8, look.ink);
    const std::int32_t fault =
        d_.program != nullptr && e.of != program::kNone ? at(d_.program->basic_events, e.of).fault : program::kNone;
    std::string under = fault != program::kNone ? at(d_.program->faults, fault).name
                        : d_.program != nullptr ? "no fault"
                                                : "";
    if (!under.empty())
      body_ += fmt::format(
          "<text x=\"{:.1f}\" y=\"{:.1f}\" text-anchor=\"middle\" font-size=\"9.5\" fill=\"#5b6770\">{}</text>\n", x,
          y + 56, fitting(under, 20));
    if (proof && e.probability)
      body_ += fmt::format("<text x=\"{:.1f}\" y=\"{:.1f}\" font-size=\"8.5\" fill=\"#5b6770\">{:.0e}</text>\n", x + 22,
                           y + 22, *e.probability);
  }

  /// What runs said to the event by itself, where it is a cut set.
  std::optional<Proof> alone(std::int32_t event) const {
    if (d_.proof == nullptr) return std::nullopt;
    for (const auto& c : d_.proof->cuts) {
      if (c.set.events.size() == 1 && c.set.events[0] == event) return c.finding.proof;
    }
    return std::nullopt;
  }

  void text_line(double y, const std::string& text, const char* ink) {
    body_ += fmt::format("<text x=\"{}\" y=\"{:.1f}\" font-size=\"12\" fill=\"{}\">{}</text>\n", kMargin, y, ink,
                         escaped(text));
  }

  void notes(double& y) {
    if (left_out_ == 0) return;
    text_line(y, fmt::format("Not drawn: what is below {}; a triangle stands for it.", counted(left_out_, "gate")),
              "#a33f00");
    y += 22;
  }

  std::string names_of(const trees::CutSet& set) const {
    std::string names;
    for (const std::int32_t e : set.events)
      names += (names.empty() ? "" : " and ") + tree_.events[static_cast<std::size_t>(e)].name;
    return names.empty() ? "(always)" : names;
  }

  double cut_sets(double y, double width) {
    text_line(y, d_.proof != nullptr ? "Minimal cut sets, and what runs said" : "Minimal cut sets", "#1d2730");
    y += 8;
    std::size_t shown = 0;
    if (d_.proof != nullptr) {
      for (const auto& c : d_.proof->cuts) {
        if (++shown > kMostListed) break;
        y = row(y, width, look_of(c.finding.proof), names_of(c.set), c.set.probability, said(c.finding));
      }
      for (const auto& o : d_.proof->outside) {
        if (++shown > kMostListed) break;
        std::string names;
        for (const std::int32_t f : o.faults) list_on(names, at(d_.program->faults, f).name, " and ");
        y = row(y, width, look_of(Proof::reaches), "not in the tree: fault " + names, {}, said(o.finding));
      }
      for (const auto& a : d_.proof->anyway)
        y = row(y, width, look_of(Proof::reaches), "without any fault", {}, said(a));
    } else {
      for (const trees::CutSet& c : d_.sets->first(kMostListed)) {
        ++shown;
        y = row(y, width, {"#f7f9fa", "#1d2730", ""}, names_of(c), c.probability, "");
      }
    }
    const double all =
        d_.proof != nullptr ? static_cast<double>(d_.proof->cuts.size() + d_.proof->outside.size()) : d_.sets->count();
    more(y, all - static_cast<double>(std::min(shown, kMostListed)), "are not shown here");
    if (d_.proof != nullptr) more(y, d_.proof->beyond, "were not tried: they have more events");
    return y + 8;
  }

  void more(double& y, double count, const char* what) {
    if (!(count > 0)) return;
    y += 22;
    text_line(y, fmt::format("and {} more that {}", trees::count_text(count), what), "#5b6770");
  }

  static std::string said(const session::ProofFinding& f) {
    std::string text = session::proof_word(f.proof);
    if (!f.scenario.empty()) text += " in " + f.scenario;
    if (!f.requirement.empty()) text += fmt::format(" ({} {})", f.requirement, f.margin);
    return text + (f.why.empty() ? "" : ": " + f.why);
  }

  double row(double y, double width, const ProofLook& look, const std::string& names,
             const std::optional<double>& probability, const std::string& text) {
    body_ += fmt::format(
        "<rect x=\"{0}\" y=\"{1:.1f}\" width=\"{2:.1f}\" height=\"20\" fill=\"{3}\"/><text x=\"{4}\" y=\"{5:.1f}\" "
        "fill=\"{6}\">{7}</text><text x=\"{8}\" y=\"{5:.1f}\">{9}</text><text x=\"430\" y=\"{5:.1f}\" "
        "text-anchor=\"end\" fill=\"#5b6770\">{10}</text><text x=\"450\" y=\"{5:.1f}\">{11}</text>\n",
        kMargin, y + 2, width - 2 * kMargin, look.fill, kMargin + 6, y + 16, look.ink, look.sign, kMargin + 24,
        fitting(names, 46), probability ? fmt::format("{:.2g}", *probability) : "",
        fitting(text, static_cast<std::size_t>((width - 480) / 6.6)));
    return y + 22;
  }

  const TreeDrawing& d_;
  const FaultTree& tree_;
  std::vector<TreeBox> boxes_;
  double leaves_ = 0, shift_ = 0;
  int deepest_ = 0;
  std::size_t left_out_ = 0;
  std::string body_;
};

}  // namespace

std::string tree_svg(const TreeDrawing& drawing) {
  return TreePicture(drawing).run();
}

}  // namespace isodyne::present
