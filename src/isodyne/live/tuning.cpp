#include "isodyne/live/tuning.h"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/live/scope.h"

namespace isodyne::live {

namespace {

constexpr std::size_t kMostTrials = 200;
constexpr double kRest = 0.04;        // of the step
constexpr std::size_t kVerdict = 22;  // cells

/// In so many cells, the last of which is a blank.
std::string fit(const std::string& text, std::size_t cells) {
  return fmt::format("{:<{}}", text.size() < cells ? text : text.substr(0, cells - 2) + "…", cells);
}

/// A value in its own unit as it is said to a run: exactly.
Json said(const Signal& s, double si) {
  const double number = (si - s.offset) / s.factor;
  if (s.unit.empty() || s.unit == "1") return number;
  return format_exact(number) + " " + s.unit;
}

std::string said_text(const Signal& s, double si) {
  const Json j = said(s, si);
  return j.is_string() ? j.get<std::string>() : format_exact(j.get<double>());
}

Failure wrong(const std::string& text) {
  return {text, "", ""};
}

}  // namespace

Result<Tuning::Plan> Tuning::read(const std::vector<std::string>& words, const Mirror& run) {
  Plan plan;
  std::size_t i = 0;
  for (; i < words.size() && words[i] != "of"; ++i) plan.gains.push_back(words[i]);
  const auto next = [&](const char* word, std::string& to) {
    if (i + 1 >= words.size() || words[i] != word) return false;
    to = words[i + 1];
    i += 2;
    return true;
  };
  const bool read = next("of", plan.signal) && next("by", plan.setpoint) && i < words.size();
  if (read) plan.by = words[i++];
  const bool whole = read && next("within", plan.within) && !plan.gains.empty();
  if (whole && i + 1 < words.size() && words[i] == "judge") {
    for (++i; i < words.size(); ++i) plan.requirements.push_back(words[i]);
  }
  if (!whole || i != words.size())
    return wrong("tune takes: GAIN… of SIGNAL by SETPOINT \"0.1 m\" within \"20 s\" [judge REQUIREMENT…]");
  for (const std::string& name : plan.requirements) {
    const auto& all = run.requirements;
    if (std::find(all.begin(), all.end(), name) == all.end())
      return wrong(fmt::format("there is no requirement `{}`; there are: {}", name, listed(all, "none")));
  }
  std::vector<std::string> all = plan.gains;
  all.insert(all.end(), {plan.signal, plan.setpoint});
  for (const std::string& name : all) {
    const Signal* s = run.signal(name);
    if (s == nullptr || !s->number()) return wrong(fmt::format("`{}` is no number of this bench", name));
    if (name != plan.signal && !s->can_be_set) return wrong(fmt::format("`{}` cannot be set", name));
  }
  return plan;
}

void Tuning::begin(Plan plan, Mirror& run) {
  *this = Tuning();
  plan_ = std::move(plan);
  // The step as a number: what unit it is in is the setpoint's matter, whose offset is no part of a difference.
  const Signal& s = *run.signal(plan_.setpoint);
  double number = 0;
  const auto [rest, trouble] = std::from_chars(plan_.by.data(), plan_.by.data() + plan_.by.size(), number);
  std::string unit = plan_.by.substr(static_cast<std::size_t>(rest - plan_.by.data()));
  unit.erase(0, std::min(unit.find_first_not_of(' '), unit.size()));
  const auto known = parse_unit(unit.empty() ? "1" : unit);
  const auto own = parse_unit(s.unit.empty() ? "1" : s.unit);
  if (trouble != std::errc{} || !known || !own || known->dimension != own->dimension || number == 0) {
    run.say(fmt::format("`{}` is no step of {}, which is in {}", plan_.by, plan_.setpoint, s.unit), true);
    plan_.gains.clear();
    return;
  }
  step_ = number * known->factor;
  run.say("t tries the gains as they are");
}

std::vector<std::string> Tuning::names() const {
  std::vector<std::string> all = plan_.gains;
  if (on()) all.insert(all.end(), {plan_.signal, plan_.setpoint});
  return all;
}

void Tuning::set_gains(Mirror& run, const std::map<std::string, double>& to) {
  busy_ = true;
  Json values = Json::object();
  for (const auto& [name, si] : to) values[name] = said(*run.signal(name), si);
  run.ask("load", {{"values", values}, {"from", "tuning"}}, [this, &run](const Json& answer) {
    busy_ = false;
    if (answer.contains("error")) return run.say(answer["error"].value("message", "it was refused"), true);
    try_it(run);
  });
}

void Tuning::change(Mirror& run, double factor) {
  const std::string& name = plan_.gains[chosen_];
  const Value now = run.value(name);
  if (now.read.empty() || !std::isfinite(now.si)) return run.say(name + " is not known yet", true);
  if (now.si == 0) return run.say(name + " is 0: `set` it to something first", true);
  set_gains(run, {{name, now.si * factor}});
}

/// Over the tenth of a trial before it, as far as it was seen; what moves is measured as what it is not.
bool Tuning::at_rest(const Mirror& run) const {
  const auto within = read_span(plan_.within);
  if (!within) return true;
  const Stretch s = run.history(plan_.signal).fold(run.now - 0.1 * to_seconds(*within), run.now);
  return !s.any() || s.greatest - s.least <= kRest * std::abs(step_);
}

/// The capture is there before the step is made, and begins with it.
void Tuning::try_it(Mirror& run) {
  const Signal& setpoint = *run.signal(plan_.setpoint);
  std::vector<std::string> names{plan_.signal, plan_.setpoint};
  names.insert(names.end(), plan_.gains.begin(), plan_.gains.end());
  busy_ = true;
  rested_ = at_rest(run);
  const std::int64_t attempt = ++attempt_;
  run.ask("read", {{"names", {plan_.setpoint}}}, [this, &run, &setpoint, names, attempt](const Json& answer) {
    if (answer.contains("error")) return busy_ = false, run.say(answer["error"].value("message", ""), true);
    const double from = answer.at("result").at("values").at(plan_.setpoint).at("si").get<double>();
    const double to = from + (up_ ? step_ : -step_);
    up_ = !up_;
    const std::string half = said_text(setpoint, (from + to) / 2);
    const Json params{{"names", names},
                      {"judge", plan_.requirements},
                      {"when", fmt::format("{} {} {}", plan_.setpoint, to > from ? ">" : "<", half)},
                      {"before", "0 s"},
                      {"after", plan_.within}};
    run.capture_for(params, [this, &run, attempt](const Captured* rows) {
      if (attempt != attempt_) return;
      busy_ = false;
      if (rows != nullptr) tried(run, *rows);
    });
    run.ask("set", {{"name", plan_.setpoint}, {"value", said(setpoint, to)}}, [this, &run](const Json& set) {
      // In lockstep all of it may have come before this answer.
      if (!set.contains("error"))
        return busy_ ? run.say("it is tried: " + plan_.within + " of simulated time") : void();
      busy_ = false;
      ++attempt_;
      run.say(set["error"].value("message", "it was refused"), true);
    });
  });
}

void Tuning::tried(Mirror& run, const Captured& c) {
  Trial trial;
  trial.judged = c.judged;
  for (const std::string& gain : plan_.gains) {
    const auto& all = c.rows.at(gain).all();
    if (!all.empty()) trial.gains[gain] = all.front().last;
    const bool same = std::all_of(all.begin(), all.end(), [&](const Stretch& s) { return s.last == all.front().last; });
    if (!same) trial.trouble = gain + " was changed meanwhile";
  }
  const auto& setpoint = c.rows.at(plan_.setpoint).all();
  std::vector<Row> rows;
  for (const Stretch& s : c.rows.at(plan_.signal).all()) rows.push_back({s.to, s.last});
  if (!setpoint.empty()) {
    const double to = setpoint.front().last;
    for (const Stretch& s : setpoint) {
      if (s.last != to) trial.trouble = plan_.setpoint + " was moved meanwhile";
    }
    trial.answer = answer_of(rows, to - (up_ ? -step_ : step_), to);
  }
  if (!rested_) trial.trouble = "it was not at rest before";
  if (!c.whole) trial.trouble = c.lacks;
  if (!trial.answer && trial.trouble.empty()) trial.trouble = "there are no rows";
  trials_.push_back(std::move(trial));
  last_ = c;
  const Trial& last = trials_.back();
  const bool good = last.trouble.empty() && cost(last) < HUGE_VAL;
  if (good && (!best_ || better(last, trials_[*best_]))) best_ = trials_.size() - 1;
  if (trials_.size() > kMostTrials && best_ != 0) {
    trials_.erase(trials_.begin());
    if (best_) --*best_;
  }
  run.say("");
}

/// What settles sooner is better; what grows, does not settle, or breaks a requirement, is none that could be best.
double Tuning::cost(const Trial& t) {
  if (std::any_of(t.judged.begin(), t.judged.end(), [](const Captured::Judged& j) { return j.broken(); }))
    return HUGE_VAL;
  if (!t.answer || t.answer->swings.course == Swings::Course::growing || !t.answer->settles) return HUGE_VAL;
  return *t.answer->settles;
}

bool Tuning::better(const Trial& a, const Trial& b) {
  if (cost(a) != cost(b)) return cost(a) < cost(b);
  return a.answer && b.answer && a.answer->overshoot < b.answer->overshoot;
}

bool Tuning::key(const Key& key, Mirror& run, std::string& write) {
  if (!on()) return false;
  const bool acts = key.kind == Key::Kind::left || key.kind == Key::Kind::right ||
                    (key.kind == Key::Kind::letter && (key.letter == U't' || key.letter == U'b'));
  if (acts && busy_) return run.say("it is tried: wait until it is over", true), true;
  switch (key.kind) {
    case Key::Kind::up:
      return chosen_ = (chosen_ + plan_.gains.size() - 1) % plan_.gains.size(), true;
    case Key::Kind::down:
    case Key::Kind::tab:
      return chosen_ = (chosen_ + 1) % plan_.gains.size(), true;
    case Key::Kind::right:
      return change(run, factor_), true;
    case Key::Kind::left:
      return change(run, 1 / factor_), true;
    case Key::Kind::letter:
      break;
    default:
      return false;
  }
  switch (key.letter) {
    case U't':
      return try_it(run), true;
    case U'b':
      if (best_) set_gains(run, trials_[*best_].gains);
      return true;
    case U'f':
      return factor_ = std::max(1.01, 1 + (factor_ - 1) / 2), true;
    case U'g':
      return factor_ = std::min(4.0, 1 + (factor_ - 1) * 2), true;
    case U'v':
      return write = "set " + plan_.gains[chosen_] + " ", true;
    case U'w':
      return write = "write tuned.dyne", true;
    default:
      return false;
  }
}

std::optional<std::string> Tuning::best_as_values(const Mirror& run) const {
  if (!best_) return std::nullopt;
  const Trial& t = trials_[*best_];
  std::string text = fmt::format(
      "# The best of {}: settles in {}, overshoots by {:.1f} %.\nvalues tuned {{\n", counted(trials_.size(), "trial"),
      t.answer->settles ? format_number(*t.answer->settles) + " s" : "no time", 100 * t.answer->overshoot);
  for (const auto& [name, si] : t.gains) text += fmt::format("  {} = {}\n", name, said_text(*run.signal(name), si));
  return text + "}\n";
}

std::string Tuning::line_of(const Mirror& run, const Trial& t) const {
  std::string line;
  for (const std::string& g : plan_.gains) {
    const auto found = t.gains.find(g);
    line += fmt::format("{:<13}", found == t.gains.end() ? "?" : text_of(run, g, found->second));
  }
  if (t.answer)
    line += fmt::format("{:>7.1f} %  {:<10} {:>6.1f} %  ", 100 * t.answer->overshoot,
                        t.answer->settles ? format_number(std::round(*t.answer->settles * 1e4) / 1e4) + " s" : "not",
                        std::round(1000 * t.answer->off) / 10 + 0.0);
  for (const Captured::Judged& j : t.judged) line += fit(j.verdict + " " + j.margin, kVerdict);
  if (t.answer) line += swings_text(t.answer->swings);
  return t.trouble.empty() ? line : line + "  " + t.trouble;
}

std::string Tuning::text_of(const Mirror& run, const std::string& name, double si) const {
  const Signal* s = run.signal(name);
  return s == nullptr ? "?" : number_text(*s, si);
}

void Tuning::draw(Grid& grid, const Area& a, const Mirror& run) {
  grid.box(a, "tuning");
  Area in = a.inner();
  if (!on()) {
    grid.put(in.x, in.y,
             "`tune kp ki of level by setpoint \"0.1 m\" within \"20 s\"` begins: gains, what is looked at, the step",
             {Ink::dim}, in.width);
    return;
  }
  int y = in.y;
  for (std::size_t i = 0; i < plan_.gains.size() && y < in.y + in.height; ++i, ++y) {
    const bool here = i == chosen_;
    grid.put(in.x, y, plan_.gains[i], {here ? Ink::focus : Ink::plain}, 24);
    grid.put(in.x + 25, y,
             here ? fmt::format("◀ {} ▶  by {:.3g}", run.value(plan_.gains[i]).read, factor_)
                  : run.value(plan_.gains[i]).read,
             {Ink::strong}, in.width - 25);
  }
  const std::string does =
      busy_ ? "it is tried …" : fmt::format("{}: {} steps by {}", plan_.signal, plan_.setpoint, plan_.by);
  grid.put(in.x, y++, does, {busy_ ? Ink::warn : Ink::dim}, in.width);
  const int plot = std::max(0, (in.y + in.height - y) / 2), table = in.y + in.height - y - plot;
  std::string head = "  ";
  for (const std::string& g : plan_.gains) head += fmt::format("{:<13}", g);
  head += "overshoot  settles    ends off  ";
  for (const std::string& r : plan_.requirements) head += fit(r, kVerdict);
  if (table > 0) grid.put(in.x, y++, head + "swings", {Ink::dim}, in.width);
  const auto rows = static_cast<std::size_t>(std::max(0, table - 1));
  for (std::size_t i = trials_.size() > rows ? trials_.size() - rows : 0; i < trials_.size(); ++i, ++y) {
    const Trial& t = trials_[i];
    const std::string line = (best_ == i ? "● " : "  ") + line_of(run, t);
    const Ink ink = !t.trouble.empty()    ? Ink::warn
                    : cost(t) == HUGE_VAL ? Ink::bad
                    : best_ == i          ? Ink::good
                                          : Ink::plain;
    grid.put(in.x, y, line, {ink}, in.width);
  }
  if (!last_ || plot < 3) return;
  std::vector<Trace> traces;
  std::vector<std::string> texts;
  for (const std::string& name : {plan_.signal, plan_.setpoint}) {
    const auto found = last_->rows.find(name);
    if (found == last_->rows.end() || run.signal(name)->axis() != run.signal(plan_.signal)->axis()) continue;
    traces.push_back({name, &found->second, static_cast<int>(traces.size())});
    texts.push_back(name);
  }
  const int at = in.y + in.height - plot;
  put_names(grid, {in.x, at, in.width, 1}, texts, 0);
  draw_lane(grid, {in.x, at + 1, in.width, plot - 1}, *run.signal(plan_.signal), traces, last_->from, last_->to, 1);
}

}  // namespace isodyne::live
