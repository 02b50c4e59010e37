#include <algorithm>
#include <array>
#include <map>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/session/run_service.h"
#include "isodyne/session/timing.h"
#include "plans.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

using bench::RunShare;

/// What a run knows of its times, and where it ended.
struct Costs : session::RunWatcher {
  void ended(const bench::Run& run, bench::RunResult& result) override {
    native = run.native() != nullptr && run.native()->ready();
    for (std::size_t s = 0; s < times.size(); ++s) times[s] = run.times(static_cast<RunShare>(s));
    steps = result.steps;
    for (std::size_t n = 0; n < networks.size(); ++n) networks[n] = run.account(n);
    if (const auto image = run.last_image()) last.assign(image->variables, image->variables + run.variables());
  }
  const StepTimes& of(RunShare share) const { return times[static_cast<std::size_t>(share)]; }

  bool native = false;
  std::int64_t steps = 0;
  std::array<StepTimes, static_cast<std::size_t>(RunShare::count)> times;
  std::vector<double> last;
  std::vector<engine::NetworkAccount> networks;
};

struct PartCost {
  std::string part;
  std::size_t equations = 0;
  double share = 0;
};

/// Each part's equations timed alone, many times at the last image, on the interpreter; as shares of their sum.
std::vector<PartCost> part_costs(const program::Program& p, const double* image) {
  std::map<std::string, std::vector<program::NodeId>> parts;
  std::set<std::string> own;
  for (const program::PartInfo& part : p.parts) own.insert(part.path.substr(0, part.path.find('.')));
  for (const program::Assignment& e : p.equations) {
    const std::string& name = p.variable(e.target).name;
    const std::string first = name.substr(0, name.find('.'));
    parts[own.contains(first) ? first : "the bench itself"].push_back(e.value);
  }
  std::vector<PartCost> costs;
  double sum = 0;
  for (const auto& [name, nodes] : parts) {
    engine::Evaluator evaluator(p, nodes);
    double best = 1e99;
    for (int turn = 0; turn < 5; ++turn) {
      const auto begin = Stopwatch::now();
      for (int i = 0; i < 400; ++i) evaluator.evaluate(image);
      best = std::min(best, std::chrono::duration<double>(Stopwatch::now() - begin).count());
    }
    costs.push_back({name, nodes.size(), best});
    sum += best;
  }
  for (PartCost& c : costs) c.share = sum > 0 ? c.share / sum : 0;
  std::sort(costs.begin(), costs.end(), [](const PartCost& a, const PartCost& b) { return a.share > b.share; });
  return costs;
}

struct Line {
  const char* name;
  RunShare share;
  Time period;
};

std::string duration(double ns) {
  return session::microseconds(ns / 1e3);
}

std::string headroom(const StepTimes& whole, Time step) {
  const double budget = static_cast<double>(step.count()), longest = static_cast<double>(whole.longest()),
               usual = whole.quantile(0.99);
  std::string text =
      usual <= budget ? fmt::format("Headroom in real time: {:.1f} % of each {} would be left at the 99th percentile",
                                    100 * (1 - usual / budget), format_span(step))
                      : fmt::format(
                            "No headroom in real time: at the 99th percentile an instant takes {}, {:.1f} times "
                            "the {} that there are",
                            duration(usual), usual / budget, format_span(step));
  if (longest <= budget) {
    text += fmt::format(", {:.1f} % at the longest instant seen.", 100 * (1 - longest / budget));
  } else {
    text += fmt::format(
        ". The longest instant seen ({}) would have been late: nothing keeps other work of this machine from coming "
        "between in a run that is not in real time.",
        duration(longest));
  }
  return text + " The clock is read five times an instant, about 25 ns each, within these figures.";
}

/// What an instant is made of, and how often each comes.
std::vector<Line> lines_of(const program::Program& p) {
  Time exchange = p.step;
  for (const program::Controller& c : p.controllers) exchange = c.period;
  return {{"plant", RunShare::plant, p.step},
          {"channels", RunShare::channels, p.step},
          {"controllers", RunShare::controllers, exchange},
          {"judge", RunShare::judge, p.step},
          {"all of an instant", RunShare::whole, p.step}};
}

std::string share_of(std::int64_t part, std::int64_t all) {
  return fmt::format("{:.2g} %", all > 0 ? 100 * static_cast<double>(part) / static_cast<double>(all) : 0.0);
}

/// "leg[1].first, .second": of the same part as the one before only the last name.
std::string in_short(const std::vector<std::string>& paths) {
  std::string all, before;
  for (const std::string& path : paths) {
    const std::size_t dot = path.rfind('.', path.find(' '));
    const std::string part = dot == std::string::npos ? "" : path.substr(0, dot);
    list_on(all, !part.empty() && part == before ? path.substr(dot) : path);
    before = part;
  }
  return all.empty() ? "nothing conducts" : all;
}

/// A network is called by its first element.
std::string name_of(const program::Network& n) {
  return n.elements.front().path;
}

Json to_json(const program::Program& p, const Costs& seen, const std::vector<PartCost>& costs) {
  Json j{{"bench", p.name}, {"steps", seen.steps}, {"step_s", to_seconds(p.step)}, {"native", seen.native}};
  for (const Line& l : lines_of(p)) {
    const StepTimes& t = seen.of(l.share);
    if (t.count() == 0) continue;
    j["times"][l.name] = {{"median_s", t.quantile(0.5) / 1e9},
                          {"p99_s", t.quantile(0.99) / 1e9},
                          {"longest_s", static_cast<double>(t.longest()) / 1e9},
                          {"share_of_period", t.quantile(0.5) / static_cast<double>(l.period.count())}};
  }
  for (const PartCost& c : costs)
    j["parts"].push_back({{"part", c.part}, {"equations", c.equations}, {"share", c.share}});
  for (std::size_t n = 0; n < p.networks.size(); ++n) {
    const engine::NetworkAccount& a = seen.networks[n];
    if (a.steps == 0) continue;
    Json one{{"network_of", name_of(p.networks[n])},
             {"steps", a.steps},
             {"mean_s", a.step_ns / 1e9},
             {"eventful", a.eventful},
             {"made", a.first_visits},
             {"forgotten", a.forgotten}};
    for (const auto& c : a.visited) one["combinations"].push_back({{"on", c.on}, {"steps", c.steps}});
    j["networks"].push_back(one);
  }
  j["share_of"] = p.networks.empty() ? "plant" : "equations";
  j["headroom"] = 1 - seen.of(RunShare::whole).quantile(0.99) / static_cast<double>(p.step.count());
  return j;
}

void print_times(const program::Program& p, const Costs& seen) {
  TextTable table({{"Work", TextTable::Align::left},
                   {"Period", TextTable::Align::right},
                   {"Median", TextTable::Align::right},
                   {"p99", TextTable::Align::right},
                   {"Longest", TextTable::Align::right},
                   {"of period", TextTable::Align::right}});
  for (const Line& l : lines_of(p)) {
    const StepTimes& t = seen.of(l.share);
    if (t.count() == 0) continue;
    table.row({l.name, format_span(l.period), duration(t.quantile(0.5)), duration(t.quantile(0.99)),
               duration(static_cast<double>(t.longest())),
               fmt::format("{:.2g} %", 100 * t.quantile(0.5) / static_cast<double>(l.period.count()))});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

/// Where networks are solved, most of a step is theirs, and what parts have of the equations says nothing of it.
void print_parts(const std::vector<PartCost>& costs, double step_ns, bool networks) {
  std::vector<TextTable::Column> columns = {
      {"Part", TextTable::Align::left},
      {"Equations", TextTable::Align::right},
      {networks ? "Share of the equations" : "Share of the plant", TextTable::Align::right}};
  if (!networks) columns.push_back({"of a step", TextTable::Align::right});
  TextTable parts(columns);
  for (const PartCost& c : costs) {
    std::vector<std::string> row = {c.part, std::to_string(c.equations), fmt::format("{:.1f} %", 100 * c.share)};
    if (!networks) row.push_back(duration(c.share * step_ns));
    parts.row(row);
  }
  put(stdout, parts.text(width_of(stdout), colours_on(stdout)));
}

/// What a step of each network costs, and in which combinations of its switches and diodes it was.
void print_networks(const program::Program& p, const Costs& seen) {
  constexpr std::size_t kMost = 8;
  TextTable table({{"Network of", TextTable::Align::left},
                   {"Step", TextTable::Align::right},
                   {"Steps", TextTable::Align::right},
                   {"takes", TextTable::Align::right},
                   {"Something happened in", TextTable::Align::right},
                   {"Combinations", TextTable::Align::right},
                   {"made while it ran", TextTable::Align::right}});
  TextTable visited({{"Combination", TextTable::Align::left}, {"Steps", TextTable::Align::right}});
  bool any = false;
  for (std::size_t n = 0; n < p.networks.size(); ++n) {
    const engine::NetworkAccount& a = seen.networks[n];
    if (a.steps == 0) continue;
    any = true;
    table.row({name_of(p.networks[n]), format_span(at(p.groups, p.networks[n].group).step), std::to_string(a.steps),
               duration(a.step_ns), share_of(a.eventful, a.steps), std::to_string(a.visited.size()),
               std::to_string(a.first_visits)});
    for (std::size_t i = 0; i < std::min(kMost, a.visited.size()); ++i)
      visited.row({in_short(a.visited[i].on), share_of(a.visited[i].steps, a.steps)});
    std::int64_t others = 0, known = 0;
    for (std::size_t i = 0; i < a.visited.size(); ++i) {
      known += a.visited[i].steps;
      if (i >= kMost) others += a.visited[i].steps;
    }
    if (others > 0) visited.row({counted(a.visited.size() - kMost, "other"), share_of(others, a.steps)});
    // Those that made room for others are counted anew when they are met again.
    if (known < a.steps)
      visited.row({"those that have made room for others since", share_of(a.steps - known, a.steps)});
    if (a.forgotten > 0)
      say_aside(
          fmt::format("The network of `{}` has more combinations than there is room for: {} made room for others, and "
                      "cost anew when they came again.",
                      name_of(p.networks[n]), a.forgotten));
  }
  if (!any) return;
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say("");
  put(stdout, visited.text(width_of(stdout), colours_on(stdout)));
  say("");
}

}  // namespace

int run_profile(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const program::Program& p = *loaded.program;
  auto wanted = read_plan(arguments, p);
  if (!wanted) return kWrongInput;
  session::RunRequest request;
  request.bench = session::bench_of(loaded, folder_of(file));
  request.plan = wanted->plan;
  request.plan.time_steps = request.plan.wait_for_native = true;
  request.answer_within = wanted->answer_within;
  Costs seen;
  seen.networks.resize(p.networks.size());
  const session::RunOutcome outcome = session::run_here(request, {&seen});
  if (!observe::as_asked(outcome.ending)) return say_error(outcome.why()), kNotCompleted;
  for (const session::Notice& s : outcome.said) {
    if (!s.error) say_aside(s.text);
  }
  const auto costs = part_costs(p, seen.last.data());
  if (arguments.has(Option::json)) return say(to_json(p, seen, costs).dump(2)), kHeld;
  say(fmt::format("{}: {} steps of {} ({}), {}", p.name, seen.steps, format_span(p.step), p.stepping(),
                  seen.native ? "native code" : "interpreter"));
  print_times(p, seen);
  say("");
  print_networks(p, seen);
  print_parts(costs, seen.of(RunShare::plant).quantile(0.5), !p.networks.empty());
  say("");
  say(headroom(seen.of(RunShare::whole), p.step));
  return kHeld;
}

}  // namespace isodyne::app
