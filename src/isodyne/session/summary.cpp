#include "isodyne/session/summary.h"

#include <algorithm>
#include <cmath>
#include <sstream>
#include <stdexcept>

#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <pugixml.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/program/quick.h"

namespace isodyne::session {

using Json = CheckedJson;

namespace {
/// A recorded instant, as exactly as it is known.
std::string moment(double seconds) {
  const auto at = time_from_seconds(seconds);
  return at ? format_instant(*at) : format_seconds(seconds);
}
}  // namespace

std::string SummaryRow::margin_text() const {
  if (!worst_margin) return "–";
  constexpr double kHour = 3600;
  const bool hours = margin_unit == "s" && std::abs(*worst_margin) >= kHour;
  const double shown = hours ? *worst_margin / kHour : *worst_margin;
  const std::string unit = hours ? "h" : margin_unit;
  const std::string number = std::abs(shown) >= 1e4 ? format_number(shown) : fmt::format("{:.4g}", shown);
  return number + (unit == "1" ? "" : " " + unit);
}

SummaryRow row_of(const program::Program& program, const judge::Verdict& v) {
  const program::Requirement& r = program.requirements[static_cast<std::size_t>(v.requirement)];
  SummaryRow row;
  row.name = r.name;
  row.description = r.doc;
  row.source = r.source;
  row.formula = r.formula;
  row.answer = v.answer;
  row.tests = v.tests;
  if (v.first_breach) row.first_breach_s = to_seconds(*v.first_breach);
  for (const judge::Breach& b : v.breaches) row.breaches_s.emplace_back(to_seconds(b.begin), to_seconds(b.end));
  row.margin_unit = r.margin_unit.text;
  if (v.worst_margin) row.worst_margin = *v.worst_margin / r.margin_unit.factor;
  if (v.worst_at) row.worst_at_s = to_seconds(*v.worst_at);
  return row;
}

std::size_t Summary::count(judge::Answer answer) const {
  return static_cast<std::size_t>(
      std::count_if(rows.begin(), rows.end(), [&](const SummaryRow& r) { return r.answer == answer; }));
}

std::string Summary::outcome() const {
  using judge::Answer;
  if (!ending || !observe::as_asked(*ending)) return ending_text();
  if (!lost.empty()) return "controller lost";
  if (count(Answer::broken) > 0) return judge::answer_word(Answer::broken);
  if (count(Answer::undecided) > 0) return judge::answer_word(Answer::undecided);
  if (!not_injected.empty()) return "a fault never came";
  if (count(Answer::not_tested) > 0) return judge::answer_word(Answer::not_tested);
  return count(Answer::held) > 0 ? judge::answer_word(Answer::held) : "nothing asked";
}

std::string Summary::why_not_injected(const std::string& fault) const {
  return contains(disarmed, fault) ? "what triggers it did not happen while it was armed; it was disarmed by hand"
                                   : "what triggers it never happened";
}

std::string Summary::counts_text() const {
  using judge::Answer;
  if (rows.empty()) return "nothing asked";
  std::string text = fmt::format("{} of {} held", count(Answer::held), rows.size());
  for (const Answer a : {Answer::broken, Answer::not_tested, Answer::undecided, Answer::interrupted}) {
    if (count(a) > 0) text += fmt::format(", {} {}", count(a), judge::answer_word(a));
  }
  return text;
}

std::string Summary::title() const {
  std::string text = scenario.empty() ? "no scenario" : scenario;
  for (std::size_t i = 0; i < faults.size(); ++i) text += (i == 0 ? " with " : " and ") + faults[i];
  constexpr std::size_t kMostNamed = 3;
  for (std::size_t i = 0; i < std::min(overrides.size(), kMostNamed); ++i) text += ", " + overrides[i];
  if (overrides.size() > kMostNamed) text += fmt::format(" and {} values more", overrides.size() - kMostNamed);
  return text;
}

std::string repeat_command(const record::RunIdentity& identity) {
  std::string text = "isodyne";
  for (const std::string& word : record::command_words(identity))
    text += word.find(' ') == std::string::npos ? " " + word : fmt::format(" \"{}\"", word);
  return text;
}

namespace {
/// An `expect` of the scenario, as one more thing that had to hold.
SummaryRow expected_row(const program::Program& program, const std::string& scenario, const bench::Expected& e) {
  const auto found = std::find_if(program.scenarios.begin(), program.scenarios.end(),
                                  [&](const program::Scenario& s) { return s.name == scenario; });
  const program::ScenarioStep& step = found->steps[static_cast<std::size_t>(e.step)];
  SummaryRow row;
  row.expected = true;
  row.name = fmt::format("{}:{}", scenario, program.sources->position(step.span).line);
  row.source = program.sources->place(step.span);
  row.formula = program.sources->in_one_line(step.span);
  row.description = "expected by the scenario: " + row.formula;
  row.tests = e.met + e.missed + (e.open ? 1 : 0);
  row.answer = (e.missed > 0 ? judge::Answer::broken
                : e.open     ? judge::Answer::undecided
                : e.met > 0  ? judge::Answer::held
                             : judge::Answer::not_tested);
  if (e.first_missed) {
    row.first_breach_s = to_seconds(*e.first_missed);
    row.breaches_s.emplace_back(*row.first_breach_s, *row.first_breach_s);
  }
  row.margin_unit = step.margin_unit.text;
  if (std::isfinite(e.worst)) row.worst_margin = e.worst / step.margin_unit.factor;
  if (row.worst_margin && e.worst_at) row.worst_at_s = to_seconds(*e.worst_at);
  return row;
}
}  // namespace

namespace {
/// What of a distortion instants this far apart cannot show, or nothing.
std::string harmonics_not_shown(const program::Program& p, const program::Measure& m) {
  if (m.kind != program::MeasureKind::thd) return "";
  int shown = judge::kHarmonics;
  const Time every = program::QuickParts(p).asked_every(m);
  while (shown > 0 && !judge::shows_harmonic(shown, m.at, to_seconds(every))) --shown;
  if (shown == judge::kHarmonics) return "";
  return fmt::format("Measure {} is without the harmonics above {}: a step of {} is too long to show them.", m.name,
                     shown, format_span(every));
}
}  // namespace

Summary summarize(const program::Program& program, const record::RunIdentity& identity, const bench::RunResult& result,
                  const std::vector<judge::Verdict>& verdicts) {
  Summary s;
  s.bench = program.name;
  s.bench_file = identity.main;
  s.scenario = identity.scenario;
  s.setting = identity.setting;
  s.seed = std::to_string(identity.seed);
  s.method = identity.method;
  s.version = identity.version;
  s.faults = identity.faults;
  for (const record::Override& o : identity.overrides) s.overrides.push_back(o.text());
  s.ending = result.ending;
  s.explanation = result.explanation;
  s.details = result.details;
  s.ended_at_s = to_seconds(result.ended_at);
  s.command = repeat_command(identity);
  for (const judge::Verdict& v : verdicts) s.rows.push_back(row_of(program, v));
  for (const bench::Expected& e : result.expected) s.rows.push_back(expected_row(program, identity.scenario, e));
  s.remarks = result.remarks;
  for (const program::Measure& m : program.measures) {
    if (auto blind = harmonics_not_shown(program, m); !blind.empty()) s.remarks.push_back(std::move(blind));
  }
  for (const bench::RunResult::Lost& l : result.lost) s.lost.push_back(l.text);
  if (result.timing) s.timing = timing_of(program, *result.timing);
  for (const bench::ControllerReport& c : result.controllers) s.controllers.push_back(controller_of(c));
  for (const bench::RunResult::Saturated& c : result.saturated)
    s.saturated.push_back({c.channel, to_seconds(c.first), c.samples, c.pulses});
  return s;
}

namespace {
template <typename T>
Json maybe(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

template <typename T>
std::optional<T> maybe(const Json& json, const char* key) {
  return json.contains(key) && !json.at(key).is_null() ? std::optional<T>(json.at(key).get<T>()) : std::nullopt;
}

Json row_json(const SummaryRow& r) {
  Json j;
  j["name"] = r.name;
  j["description"] = r.description;
  j["source"] = r.source;
  j["formula"] = r.formula;
  if (r.expected) j["expected_by_scenario"] = true;
  j["verdict"] = judge::answer_word(r.answer);
  j["tests"] = r.tests;
  j["first_breach_s"] = maybe(r.first_breach_s);
  j["breaches_s"] = r.breaches_s;
  j["worst_margin"] = maybe(r.worst_margin);
  j["margin_unit"] = r.margin_unit;
  j["worst_at_s"] = maybe(r.worst_at_s);
  return j;
}

SummaryRow row_from(const Json& j) {
  SummaryRow r;
  r.name = j.at("name");
  r.description = j.at("description");
  r.source = j.at("source");
  r.formula = j.at("formula");
  r.expected = j.value("expected_by_scenario", false);
  const std::string verdict = j.at("verdict");
  const auto answer = program::answer_named(verdict);
  if (!answer) throw std::runtime_error("`" + verdict + "` is no verdict");
  r.answer = *answer;
  r.tests = j.at("tests");
  r.first_breach_s = maybe<double>(j, "first_breach_s");
  r.breaches_s = j.at("breaches_s").get<std::vector<std::pair<double, double>>>();
  r.worst_margin = maybe<double>(j, "worst_margin");
  r.margin_unit = j.at("margin_unit");
  r.worst_at_s = maybe<double>(j, "worst_at_s");
  return r;
}
}  // namespace

std::string Summary::Saturated::text() const {
  if (pulses)
    return fmt::format("{} lost {} that {} too short for its clock, first at {}", channel,
                       counted(static_cast<std::size_t>(samples), "pulse"), samples == 1 ? "was" : "were",
                       format_seconds(first_s));
  return fmt::format("{} left its range in {} sample{}, first at {}", channel, samples, samples == 1 ? "" : "s",
                     format_seconds(first_s));
}

std::string to_json(const Summary& s) {
  Json j;
  j["format"] = "isodyne verdicts";
  j["format_version"] = 1;
  j["bench"] = s.bench;
  j["bench_file"] = s.bench_file;
  j["scenario"] = s.scenario;
  j["faults"] = s.faults;
  if (!s.overrides.empty()) j["overrides"] = s.overrides;
  j["faults_not_injected"] = s.not_injected;
  if (!s.disarmed.empty()) j["faults_disarmed"] = s.disarmed;
  j["setting"] = s.setting;
  j["seed"] = s.seed;
  j["method"] = s.method;
  j["isodyne_version"] = s.version;
  j["started"] = s.started;
  j["bench_folder"] = s.bench_folder;
  j["wall_seconds"] = s.wall_seconds;
  j["ending"] = s.ending_text();
  j["ended_at_s"] = s.ended_at_s;
  j["explanation"] = s.explanation;
  j["details"] = s.details;
  j["command"] = s.command;
  j["outcome"] = s.outcome();
  j["controllers_lost"] = s.lost;
  j["remarks"] = s.remarks;
  j["saturated"] = Json::array();
  for (const Summary::Saturated& c : s.saturated) {
    j["saturated"].push_back({{"channel", c.channel}, {"first_s", c.first_s}, {"samples", c.samples}});
    if (c.pulses) j["saturated"].back()["pulses"] = true;
  }
  if (s.timing) j["timing"] = *s.timing;
  j["controllers"] = s.controllers;
  j["requirements"] = Json::array();
  for (const SummaryRow& r : s.rows) j["requirements"].push_back(row_json(r));
  for (const MeasureRow& m : s.measures) {
    Json row{{"name", m.name}, {"unit", m.unit}, {"stretches", m.stretches}, {"missed", m.missed}};
    row["least"] = m.least ? Json(*m.least) : Json(nullptr);
    row["greatest"] = m.greatest ? Json(*m.greatest) : Json(nullptr);
    j["measures"].push_back(std::move(row));
  }
  return j.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

Result<Summary> read_summary(const std::string& file) {
  const Result<std::string> text = read_file(file);
  if (!text) return text.failure();
  return parse_summary(*text, file);
}

Result<Summary> parse_summary(const std::string& text, const std::string& file) {
  try {
    const auto parsed = parse_json(text);
    if (!parsed) return Failure{"cannot read the verdicts", file, parsed.failure().text()};
    const Json& j = *parsed;
    if (j.at("format") != "isodyne verdicts")
      return Failure{"cannot read the verdicts", file, "this is another kind of file"};
    Summary s;
    s.bench = j.at("bench");
    s.bench_file = j.at("bench_file");
    s.scenario = j.at("scenario");
    s.faults = j.at("faults").get<std::vector<std::string>>();
    s.overrides = j.value("overrides", std::vector<std::string>{});
    s.not_injected = j.at("faults_not_injected").get<std::vector<std::string>>();
    s.disarmed = j.value("faults_disarmed", std::vector<std::string>{});
    s.setting = j.at("setting");
    s.seed = j.at("seed");
    s.method = j.value("method", "rk4");
    s.version = j.at("isodyne_version");
    s.started = j.at("started");
    s.bench_folder = j.value("bench_folder", "");
    s.wall_seconds = j.at("wall_seconds");
    const std::string ending = j.at("ending");
    s.ending = observe::ending_named(ending);
    if (!s.ending && !ending.empty()) throw std::runtime_error("`" + ending + "` is no way for a run to end");
    s.ended_at_s = j.at("ended_at_s");
    s.explanation = j.at("explanation");
    s.details = j.at("details").get<std::vector<std::string>>();
    s.command = j.at("command");
    s.remarks = j.value("remarks", std::vector<std::string>{});
    s.lost = j.value("controllers_lost", std::vector<std::string>{});
    for (const Json& c : j.value("saturated", Json::array()))
      s.saturated.push_back({c.at("channel"), c.at("first_s"), c.at("samples"), c.value("pulses", false)});
    if (j.contains("timing")) s.timing = j.at("timing").get<TimingSummary>();
    if (j.contains("controllers")) s.controllers = j.at("controllers").get<std::vector<ControllerSummary>>();
    for (const Json& row : j.at("requirements")) s.rows.push_back(row_from(row));
    for (const Json& row : j.value("measures", Json::array())) {
      MeasureRow m{row.at("name"), row.at("unit"), row.at("stretches"), row.at("missed"), {}, {}};
      if (row.at("least").is_number()) m.least = row.at("least").get<double>();
      if (row.at("greatest").is_number()) m.greatest = row.at("greatest").get<double>();
      s.measures.push_back(std::move(m));
    }
    return s;
  } catch (const std::exception& e) {
    return Failure{"cannot read the verdicts", file, e.what()};
  }
}

std::string to_junit(const Summary& s) {
  using judge::Answer;
  pugi::xml_document document;
  pugi::xml_node suite = document.append_child("testsuites").append_child("testsuite");
  const std::string name = fmt::format("{} {}", s.bench, s.title());
  suite.append_attribute("name") = printable(name).c_str();
  const bool early = !s.explanation.empty() && s.ending != observe::Ending::cut_short;
  suite.append_attribute("tests") = s.rows.size() + s.lost.size() + s.not_injected.size() + (early ? 1 : 0);
  suite.append_attribute("failures") = s.count(Answer::broken);
  suite.append_attribute("errors") =
      s.count(Answer::undecided) + s.count(Answer::interrupted) + s.lost.size() + (early ? 1 : 0);
  suite.append_attribute("skipped") = s.count(Answer::not_tested) + s.not_injected.size();
  suite.append_attribute("time") = fmt::format("{:.3f}", s.wall_seconds).c_str();
  const auto test_case = [&](const std::string& title) {
    pugi::xml_node test = suite.append_child("testcase");
    test.append_attribute("classname") = printable(fmt::format("{}.{}", s.bench, s.scenario)).c_str();
    test.append_attribute("name") = printable(title).c_str();
    return test;
  };
  if (early) test_case("the run").append_child("error").append_attribute("message") = printable(s.explanation).c_str();
  for (const std::string& text : s.lost)
    test_case("controllers answer").append_child("error").append_attribute("message") =
        printable("lost " + text).c_str();
  for (const std::string& f : s.not_injected)
    test_case("fault " + f).append_child("skipped").append_attribute("message") = s.why_not_injected(f).c_str();
  for (const SummaryRow& r : s.rows) {
    pugi::xml_node test = test_case(fmt::format("{} {}", r.name, r.description));
    const std::string margin = fmt::format("{}; worst margin {}", r.formula, r.margin_text());
    if (r.answer == Answer::held) continue;
    const bool broken = r.answer == Answer::broken;
    const bool skipped = r.answer == Answer::not_tested;
    pugi::xml_node outcome = test.append_child(broken ? "failure" : skipped ? "skipped" : "error");
    const std::string when =
        r.first_breach_s ? fmt::format("broken first at {}", moment(*r.first_breach_s)) : judge::answer_word(r.answer);
    outcome.append_attribute("message") = when.c_str();
    outcome.text().set(printable(margin).c_str());
  }
  std::ostringstream out;
  document.save(out, "  ");
  return out.str();
}

}  // namespace isodyne::session
