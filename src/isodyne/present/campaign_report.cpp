#include "isodyne/present/campaign_report.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/present/dot_chart.h"
#include "isodyne/present/page_text.h"
#include "isodyne/session/coverage.h"

namespace isodyne::present {

using session::CaseBookKey;
using session::CaseGroup;
using session::CaseList;
using session::CaseResult;
using session::SummaryRow;

namespace {

constexpr const char* kOwnStyle = R"(
.dots{flex:0 0 calc((100% - 28px)/3);min-width:300px}.dots text{font-size:11px;fill:#5b6770}.row{display:flex;flex-wrap:wrap;gap:14px}
.matrix{width:auto}.matrix td,.matrix th{border:1px solid #fff;padding:3px 6px;text-align:right;font-size:12px;white-space:nowrap}
.matrix th{text-align:left}.matrix th.t{writing-mode:vertical-rl;transform:rotate(180deg);padding:6px 3px}.matrix a{color:inherit;text-decoration:none;display:block}
.cases td{font-size:12.5px}.cases code{font-size:11.5px;white-space:pre-wrap}.cases details{margin:0}tr:target td{background:#fff3c4}
.bar{display:inline-block;height:9px;background:#0072B2}
)";
constexpr std::size_t kMostRows = 2000, kMostDots = 1500, kMostCharts = 6;

/// A colour for how near the edge something is: broken, then from near to far.
std::string shade(double share, bool broken) {
  if (broken) return share < -1 ? "background:#c05a1c;color:#fff" : "background:#e8a377";
  if (!std::isfinite(share)) return "background:#eef1f3";
  const double far = std::clamp(share / 2, 0.0, 1.0);  // two standard deviations away is far
  const auto mix = [&](int near, int away) { return static_cast<int>(near + (away - near) * far); };
  return fmt::format("background:rgb({},{},{})", mix(252, 205), mix(238, 232), mix(190, 220));
}

class Page {
 public:
  Page(const CaseBookKey& key, const std::vector<CaseResult>& all, const std::string& book)
      : key_(key),
        all_(all),
        list_(session::list_of(all)),
        book_(book),
        near_(session::nearness(all)),
        requirements_(session::requirements_of(list_)) {
    choose_rows();
    for (const CaseResult& r : all_) {
      if (session::is_answer(r)) answers_.push_back(&r);
    }
    for (const auto& [name, unit] : requirements_) {
      double n = 0, sum = 0, squares = 0;
      for (const CaseResult& r : all_) {
        const SummaryRow* row = session::row_of(r, name);
        if (row == nullptr || !row->worst_margin) continue;
        ++n, sum += *row->worst_margin;
      }
      for (const CaseResult& r : all_) {
        const SummaryRow* row = session::row_of(r, name);
        if (row != nullptr && row->worst_margin) squares += std::pow(*row->worst_margin - sum / n, 2);
      }
      spread_[name] = n > 0 ? std::sqrt(squares / n) : 0;
    }
  }

  std::string text() {
    head();
    requirements();
    explained();
    matrix();
    over_factors();
    two_factors();
    distributions();
    coverage();
    cases();
    return out_ + "</body></html>\n";
  }

 private:
  void add(const std::string& text) { out_ += text; }

  /// The cases that have a row of their own: all, or those nearest the edge.
  void choose_rows() {
    rows_ = list_;
    if (rows_.size() <= kMostRows) return;
    std::stable_sort(rows_.begin(), rows_.end(), [&](const CaseResult* a, const CaseResult* b) {
      return std::pair(a->whole, near_.at(a->number).share) < std::pair(b->whole, near_.at(b->number).share);
    });
    rows_.resize(kMostRows);
    std::sort(rows_.begin(), rows_.end(),
              [](const CaseResult* a, const CaseResult* b) { return a->number < b->number; });
    for (const CaseResult* r : rows_) shown_.insert(r->number);
  }
  std::string link(std::int64_t number) const {
    return shown_.empty() || shown_.contains(number) ? fmt::format("#case{}", number) : "";
  }
  std::string linked(std::int64_t number, const std::string& text) const {
    const std::string to = link(number);
    return to.empty() ? text : fmt::format("<a href=\"{}\">{}</a>", to, text);
  }
  std::string factors(const CaseResult& r) const {
    std::string text = r.scenario;
    if (!r.faults.empty()) list_on(text, r.faults);
    if (!r.setting.empty()) list_on(text, r.setting);
    for (std::size_t i = 0; i < key_.varied.size(); ++i)
      list_on(text, fmt::format("{} {}{}", key_.varied[i].first, format_number(r.values[i]),
                                key_.varied[i].second.empty() ? "" : " " + key_.varied[i].second));
    return text;
  }
  std::string title_of(std::size_t factor) const {
    const auto& [name, unit] = key_.varied[factor];
    return unit.empty() ? name : fmt::format("{} [{}]", name, unit);
  }

  void head() {
    const std::string title = fmt::format("{}: campaign {}", key_.bench, key_.campaign);
    add(fmt::format(
        "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">\n<meta name=\"viewport\" "
        "content=\"width=device-width\">\n<title>{}</title>\n<style>{}{}</style>\n</head><body>\n<h1>{}</h1>\n",
        escaped(title), page_style(), kOwnStyle, escaped(title)));
    std::map<std::string, std::size_t> outcomes;
    std::size_t broken = 0, not_whole = 0, odd = 0;
    for (const CaseResult& r : all_) {
      ++outcomes[r.outcome];
      broken += session::is_broken(r) ? 1 : 0;
      not_whole += r.whole ? 0 : 1;
      odd += r.whole && !r.why.empty() ? 1 : 0;
    }
    add(fmt::format("<p><b class=\"{}\">{} of {} cases are broken</b>; outcomes: {}</p>\n",
                    broken > 0 ? "v broken" : "v held", broken, all_.size(),
                    escaped(session::outcomes_text(outcomes))));
    if (static_cast<std::int64_t>(all_.size()) < key_.count)
      add(fmt::format("<p class=\"note\">The campaign has {} cases; of {} nothing is known.</p>\n", key_.count,
                      key_.count - static_cast<std::int64_t>(all_.size())));
    if (not_whole > 0)
      add(
          fmt::format("<p class=\"note\">{} did not come to the end: what is said of them is no answer, and where "
                      "nothing was broken before, they are in no picture below.</p>\n",
                      counted(not_whole, "case")));
    if (odd > 0)
      add(fmt::format("<p class=\"note\">{} were not what was asked for; their rows say why.</p>\n",
                      counted(odd, "case")));
    add(
        fmt::format("<p class=\"soft\">Bench {}, text {}, seed {}. Every case again: <code>isodyne cases {} repeat "
                    "N</code>, or the "
                    "command in its row, in the folder of the bench.</p>\n",
                    escaped(key_.file), escaped(key_.fingerprint), escaped(key_.seed), escaped(book_)));
  }

  void requirements() {
    add("<h2>Requirements</h2>\n<table><tr><th>Requirement</th><th class=\"n\">Held</th><th class=\"n\">Broken</th><th "
        "class=\"n\">Undecided</th><th class=\"n\">Not tested</th><th class=\"n\">Worst margin</th><th "
        "class=\"n\">In case</th><th>Meaning</th></tr>\n");
    for (const auto& [name, unit] : requirements_) {
      session::RequirementCounts c;
      for (const CaseResult& r : all_) {
        if (const SummaryRow* row = session::row_of(r, name)) c.add(r.number, *row);
      }
      add(fmt::format("<tr><td class=\"v {}\">{}</td>",
                      c.broken > 0 ? "broken"
                      : c.held > 0 ? "held"
                                   : "open",
                      escaped(name)));
      for (const std::size_t n : {c.held, c.broken, c.undecided, c.not_tested})
        add(fmt::format("<td class=\"n\">{}</td>", n));
      add(fmt::format("<td class=\"n\">{}</td><td class=\"n\">{}</td><td>{}</td></tr>\n",
                      escaped(c.worst.margin_text()),
                      c.worst_case > 0 ? linked(c.worst_case, std::to_string(c.worst_case)) : "–",
                      escaped(session::meaning_of(key_, name))));
    }
    add("</table>\n");
  }

  void explained() {
    const auto effects = session::effects(key_, list_, "");
    if (effects.empty() || effects.front().share <= 0) return;
    add("<h2>Which factors go with what is broken</h2>\n<table><tr><th>Factor</th><th "
        "class=\"n\">Explains</th><th></th><th>Most where "
        "it is</th><th class=\"n\">Broken then</th><th class=\"n\">Else</th><th class=\"n\">By chance</th></tr>\n");
    for (const session::Effect& e : effects) {
      if (e.share <= 0) continue;
      add(
          fmt::format("<tr><td>{}</td><td class=\"n\">{:.1f} %</td><td><span class=\"bar\" "
                      "style=\"width:{:.0f}px\"></span></td><td>{}"
                      "</td><td class=\"n\">{} of {}</td><td class=\"n\">{} of {}</td><td class=\"n\">{}</td></tr>\n",
                      escaped(e.factor), 100 * e.share, 200 * e.share, escaped(e.value), e.with, e.of_with, e.without,
                      e.of_without, e.chance < 1e-4 ? "&lt; 0.01 %" : fmt::format("{:.2g} %", 100 * e.chance)));
    }
    add("</table>\n<p class=\"soft\">How much of the difference between broken and not goes with the factor "
        "(correlation ratio less what "
        "chance gives), and how likely so much is where it does not matter. What goes together is not yet a "
        "cause.</p>\n");
  }

  /// Of these cases the worst row of a requirement.
  const CaseResult* worst_of(const CaseList& cases, const std::string& requirement) const {
    CaseList with;
    for (const CaseResult* r : cases) {
      if (session::row_of(*r, requirement) != nullptr) with.push_back(r);
    }
    if (with.empty()) return nullptr;
    session::worst_first(with, requirement);
    return with.front();
  }

  void matrix() {
    if (key_.factors[1].values.size() < 2) return;
    std::vector<CaseGroup> groups;
    std::map<std::string, std::size_t> place;
    for (const CaseResult* r : answers_) {
      const std::string name = r->faults.empty() ? "none" : r->faults;
      const auto [at, fresh] = place.emplace(name, groups.size());
      if (fresh) groups.push_back({name, {}});
      groups[at->second].cases.push_back(r);
    }
    std::stable_sort(groups.begin(), groups.end(), [&](const CaseGroup& a, const CaseGroup& b) {
      const auto& order = key_.factors[1].values;
      return std::find(order.begin(), order.end(), a.name) < std::find(order.begin(), order.end(), b.name);
    });
    add("<h2 id=\"faults\">Faults and requirements</h2>\n<p class=\"soft\">The worst margin of all cases with the "
        "fault. Orange: "
        "broken; yellow: near the "
        "edge, green: two standard deviations of that requirement's margins away; grey: held, without a margin; empty: "
        "never put to the "
        "test. A cell leads to its case.</p>\n<div class=\"frame\"><table class=\"matrix\"><tr><th></th>");
    for (const auto& [name, unit] : requirements_) add(fmt::format("<th class=\"t\">{}</th>", escaped(name)));
    add("</tr>\n");
    for (const CaseGroup& g : groups) {
      add(fmt::format("<tr><th>{}</th>", escaped(g.name)));
      for (const auto& [name, unit] : requirements_) {
        const CaseResult* worst = worst_of(g.cases, name);
        const SummaryRow* row = worst == nullptr ? nullptr : session::row_of(*worst, name);
        if (row == nullptr || (row->answer != judge::Answer::broken && row->answer != judge::Answer::held)) {
          add("<td></td>");
          continue;
        }
        const bool broken = row->answer == judge::Answer::broken;
        const double share =
            row->worst_margin && spread_.at(name) > 0 ? *row->worst_margin / spread_.at(name) : HUGE_VAL;
        add(fmt::format("<td style=\"{}\" title=\"{}, {}: case {}, {}\">{}</td>",
                        shade(broken && share > 0 ? 0 : share, broken), escaped(g.name), escaped(name), worst->number,
                        judge::answer_word(row->answer),
                        linked(worst->number, row->worst_margin ? escaped(row->margin_text())
                                              : broken          ? "broken"
                                                                : "held")));
      }
      add("</tr>\n");
    }
    add("</table></div>\n");
  }

  /// Requirements whose margins differ, the nearest to the edge first.
  std::vector<std::string> telling() const {
    std::vector<std::pair<double, std::string>> order;
    for (const auto& [name, unit] : requirements_) {
      const CaseResult* worst = worst_of(answers_, name);
      const SummaryRow* row = worst == nullptr ? nullptr : session::row_of(*worst, name);
      if (row == nullptr || !row->worst_margin || !(spread_.at(name) > 0)) continue;
      order.emplace_back(*row->worst_margin / spread_.at(name), name);
    }
    std::stable_sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<std::string> names;
    for (std::size_t i = 0; i < std::min(kMostCharts, order.size()); ++i) names.push_back(order[i].second);
    return names;
  }
  std::string unit_of(const std::string& requirement) const {
    for (const auto& [name, unit] : requirements_) {
      if (name == requirement) return unit.empty() ? "1" : unit;
    }
    return "1";
  }

  void over_factors() {
    const auto names = telling();
    if (names.empty() || key_.varied.empty()) return;
    add("<h2>Margins over what was varied</h2>\n<p class=\"soft\">Below the dashed line a requirement is broken "
        "(crosses). A point leads to "
        "its case.</p>\n");
    for (std::size_t f = 0; f < key_.varied.size(); ++f) {
      add(fmt::format("<h3>{}</h3>\n<div class=\"row\">", escaped(title_of(f))));
      std::size_t left_out = 0;
      for (const std::string& name : names) add(scatter(f, name, left_out));
      add("</div>\n");
      if (left_out > 0)
        add(fmt::format("<p class=\"note\">Of so many points {} are not drawn: those with the greatest margins.</p>\n",
                        left_out));
    }
  }

  std::string scatter(std::size_t factor, const std::string& name, std::size_t& left_out) const {
    DotChart chart{title_of(factor), fmt::format("margin of {} [{}]", name, unit_of(name)), {}, false, 0.0, {}, {}};
    CaseList with;
    for (const CaseResult* r : answers_) {
      const SummaryRow* row = session::row_of(*r, name);
      if (row != nullptr && row->worst_margin) with.push_back(r);
    }
    session::worst_first(with, name);
    if (with.size() > kMostDots) left_out += with.size() - kMostDots, with.resize(kMostDots);
    std::reverse(with.begin(), with.end());  // what is broken lies on top
    for (const CaseResult* r : with) {
      const SummaryRow* row = session::row_of(*r, name);
      chart.dots.push_back({r->values[factor], *row->worst_margin, row->answer == judge::Answer::broken,
                            fmt::format("case {}: {}; {}", r->number, factors(*r), row->margin_text()),
                            link(r->number)});
    }
    return svg_of(chart);
  }

  /// Of the two factors that go most with what is broken, else of the first two with several values.
  void two_factors() {
    std::vector<std::string> names;
    for (const session::Effect& e : session::effects(key_, list_, "")) {
      const std::string name = e.factor.starts_with("fault ") ? "fault" : e.factor;
      if (names.size() < 2 && !contains(names, name)) names.push_back(name);
    }
    for (const session::CaseFactor& f : key_.factors) {
      if (names.size() < 2 && f.values.size() != 1 && !contains(names, f.name)) names.push_back(f.name);
    }
    if (names.size() < 2) return;
    const auto rows = session::groups_by(key_, answers_, names[0]),
               columns = session::groups_by(key_, answers_, names[1]);
    if (!rows || !columns || rows->size() < 2 || columns->size() < 2) return;
    add(
        fmt::format("<h2>Broken by {} and {}</h2>\n<p class=\"soft\">How many cases are broken, of how many. The "
                    "colour is of the case nearest the edge.</p>\n"
                    "<div class=\"frame\"><table class=\"matrix\"><tr><th></th>",
                    escaped(names[0]), escaped(names[1])));
    for (const CaseGroup& c : *columns) add(fmt::format("<th class=\"t\">{}</th>", escaped(c.name)));
    add("</tr>\n");
    for (const CaseGroup& row : *rows) {
      add(fmt::format("<tr><th>{}</th>", escaped(row.name)));
      const std::set<const CaseResult*> of(row.cases.begin(), row.cases.end());
      for (const CaseGroup& c : *columns) {
        std::size_t count = 0, broken = 0;
        const CaseResult* worst = nullptr;
        for (const CaseResult* r : c.cases) {
          if (!of.contains(r)) continue;
          ++count;
          broken += session::is_broken(*r) ? 1 : 0;
          if (worst == nullptr || near_.at(r->number).share < near_.at(worst->number).share) worst = r;
        }
        if (worst == nullptr) {
          add("<td>–</td>");
          continue;
        }
        add(fmt::format("<td style=\"{}\">{}</td>", shade(near_.at(worst->number).share, broken > 0),
                        linked(worst->number, fmt::format("{} of {}", broken, count))));
      }
      add("</tr>\n");
    }
    add("</table></div>\n");
  }

  void distributions() {
    const auto names = telling();
    if (names.empty()) return;
    add("<h2>How margins are distributed</h2>\n<p class=\"soft\">The share of cases whose margin is not above a value; "
        "left of the dashed line "
        "they are broken.</p>\n<div class=\"row\">");
    for (const std::string& name : names) {
      std::vector<double> margins;
      for (const CaseResult* r : answers_) {
        const SummaryRow* row = session::row_of(*r, name);
        if (row != nullptr && row->worst_margin) margins.push_back(*row->worst_margin);
      }
      std::sort(margins.begin(), margins.end());
      DotChart chart{
          fmt::format("margin of {} [{}]", name, unit_of(name)), "share of cases [%]", {}, true, {}, 0.0, {}};
      chart.dots.push_back({margins.front(), 0, false, "", ""});
      const double n = static_cast<double>(margins.size());
      for (std::size_t i = 0; i < margins.size(); ++i) {
        // Of many equal or close ones the last is enough.
        const bool last = i + 1 == margins.size() || i % (margins.size() / 1000 + 1) == 0;
        if (last && (i + 1 == margins.size() || margins[i + 1] != margins[i]))
          chart.dots.push_back({margins[i], 100 * static_cast<double>(i + 1) / n, false, "", ""});
      }
      add(svg_of(chart));
    }
    add("</div>\n");
  }

  void coverage() {
    session::CoverageSum sum(key_);
    for (const CaseResult& r : all_) sum.add(r);
    const auto all = sum.all();
    if (all.empty()) return;
    add("<h2>Coverage: what no case came to</h2>\n<table><tr><th>Of</th><th class=\"n\">Met</th><th "
        "class=\"n\">All</th><th "
        "class=\"n\">Share</th><th>Not met</th></tr>\n");
    for (const session::Coverage& c : all) {
      constexpr std::size_t kNamed = 8, kMost = 500;
      std::string first, rest;
      for (std::size_t i = 0; i < c.missing.size(); ++i) {
        if (i < kNamed) list_on(first, c.missing[i], "; ");
        if (i >= kNamed && i < kMost) list_on(rest, c.missing[i], "; ");
      }
      const std::string kind = session::kind_text(c.kind);
      add(fmt::format(
          "<tr><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td><td class=\"n\">{:.1f} %</td><td>{}", kind,
          c.met, c.all, std::floor(1000 * c.share()) / 10, escaped(first)));
      if (!rest.empty())
        add(fmt::format("<details><summary>and {} more</summary>{}{}</details>", c.missing.size() - kNamed,
                        escaped(rest), c.missing.size() > kMost ? " …" : ""));
      add("</td></tr>\n");
    }
    add("</table>\n");
  }

  void cases() {
    add("<h2>Cases</h2>\n");
    if (rows_.size() < all_.size())
      add(fmt::format(
          "<p class=\"note\">The {} nearest the edge of {}; all of them: <code>isodyne cases {} --csv</code></p>\n",
          rows_.size(), all_.size(), escaped(book_)));
    add("<table class=\"cases\"><tr><th class=\"n\">Case</th><th>Outcome</th><th>Broken</th><th>Nearest the "
        "edge</th><th>Factors</th><th></th></tr>\n");
    for (const CaseResult* r : rows_) {
      std::string broken;
      for (const SummaryRow& row : r->rows) {
        if (row.answer == judge::Answer::broken) list_on(broken, row.name);
      }
      const session::Nearness& n = near_.at(r->number);
      add(fmt::format(
          "<tr id=\"case{0}\"><td class=\"n\">{0}</td><td class=\"v "
          "{1}\">{2}{3}</td><td>{4}</td><td>{5}</td><td>{6}</td><td><details>"
          "<summary class=\"soft\">again</summary><code>{7}</code></details></td></tr>\n",
          r->number,
          session::is_broken(*r) ? "broken"
          : r->outcome == "held" ? "held"
                                 : "open",
          escaped(r->outcome),
          r->why.empty()
              ? ""
              : "<br><span class=\"soft\" style=\"font-weight:400;white-space:normal\">" + escaped(r->why) + "</span>",
          escaped(broken), n.row == nullptr ? "–" : escaped(n.row->name + " " + n.row->margin_text()),
          escaped(factors(*r)), escaped(r->command)));
    }
    add("</table>\n");
  }

  const CaseBookKey& key_;
  const std::vector<CaseResult>& all_;
  const CaseList list_;
  CaseList answers_;  ///< without those that did not come to the end, where nothing was broken before
  const std::string book_;
  const std::map<std::int64_t, session::Nearness> near_;
  const std::vector<std::pair<std::string, std::string>> requirements_;
  std::map<std::string, double> spread_;
  CaseList rows_;
  std::set<std::int64_t> shown_;  ///< those of rows_; empty: all
  std::string out_;
};

}  // namespace

std::string campaign_html(const CaseBookKey& key, const std::vector<CaseResult>& all, const std::string& book) {
  return Page(key, all, book).text();
}

}  // namespace isodyne::present
