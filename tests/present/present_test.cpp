#include <algorithm>
#include <cmath>
#include <sstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "isodyne/present/axes_figure.h"
#include "isodyne/present/figure.h"
#include "isodyne/present/figure_script.h"
#include "isodyne/present/label_places.h"
#include "isodyne/present/report.h"
#include "isodyne/present/signals.h"
#include "isodyne/present/text_plot.h"
#include "isodyne/session/summary.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::present;
using namespace isodyne::session;
using namespace isodyne::test;

namespace {

/// From the least to the greatest value that a drawing shows in each column of pixels: of points joined by lines, or
/// held.
struct Picture {
  std::vector<double> low, high;
  Picture(const std::vector<double>& t, const std::vector<double>& v, const std::vector<std::size_t>& places, bool held,
          double end, std::size_t columns)
      : low(columns, INFINITY), high(columns, -INFINITY) {
    const auto add = [&](double at, double value) {
      const auto c = std::min(columns - 1, static_cast<std::size_t>(at / end * static_cast<double>(columns)));
      low[c] = std::min(low[c], value);
      high[c] = std::max(high[c], value);
    };
    for (std::size_t k = 0; k < places.size(); ++k) {
      const double y = v[places[k]];
      if (std::isnan(y)) continue;
      add(t[places[k]], y);
      if (k + 1 == places.size() || std::isnan(v[places[k + 1]])) continue;
      const double a = t[places[k]], b = t[places[k + 1]], next = v[places[k + 1]];
      // At each border of a column on the way.
      const auto first = static_cast<std::size_t>(a / end * static_cast<double>(columns)) + 1;
      for (std::size_t c = first; static_cast<double>(c) * end / static_cast<double>(columns) < b; ++c) {
        const double border = static_cast<double>(c) * end / static_cast<double>(columns);
        const double value = held ? y : y + (next - y) * (border - a) / (b - a);
        if (c < columns) add(border, value);
        low[c - 1] = std::min(low[c - 1], value);
        high[c - 1] = std::max(high[c - 1], value);
      }
      if (held) add(b, y), add(b, next);
    }
  }
};

/// Whether what one shows in each column is in the other, in that column or beside it, to a pixel of 300.
bool within_a_pixel(const Picture& a, const Picture& b, double pixel) {
  const std::size_t n = a.low.size();
  for (std::size_t c = 0; c < n; ++c) {
    if (a.low[c] > a.high[c]) continue;
    double low = INFINITY, high = -INFINITY;
    for (std::size_t k = c == 0 ? 0 : c - 1; k <= std::min(n - 1, c + 1); ++k) {
      low = std::min(low, b.low[k]);
      high = std::max(high, b.high[k]);
    }
    if (a.low[c] < low - pixel || a.high[c] > high + pixel) return false;
  }
  return true;
}

}  // namespace

TEST_CASE("A drawing of what is kept of a curve is that of all its values, pixel column by pixel column") {
  RandomStream random(11, "thinning");
  constexpr std::size_t kPixels = 980;
  for (int number = 0; number < 200; ++number) {
    const bool held = number % 2 == 0;
    const std::size_t count = 3000 + static_cast<std::size_t>(random.uniform() * 60'000);
    std::vector<double> t(count), v(count);
    const int kind = number / 2 % 6;
    const double beat = 1 + random.uniform() * 400;
    double walk = 0, sampled = 0;
    std::size_t next = 0;
    for (std::size_t i = 0; i < count; ++i) {
      t[i] = static_cast<double>(i) * 1e-3;
      const double x = static_cast<double>(i);
      if (kind == 0) v[i] = std::sin(x / beat);
      if (kind == 1) v[i] = random.normal();
      if (kind == 2) v[i] = random.uniform() < 0.0005 ? 10 * random.normal() : 0.1;
      if (kind == 3) v[i] = walk += random.normal();
      if (kind == 4) {  // a sampled sine: held over many instants
        if (i >= next) sampled = std::sin(x / (20 * beat)), next = i + 1 + static_cast<std::size_t>(beat);
        v[i] = sampled;
      }
      if (kind == 5) v[i] = std::fmod(x / beat, 50) < 3 ? NAN : std::cos(x / (7 * beat));
    }
    const double end = t.back();
    const auto column = [&](std::size_t i) { return static_cast<std::size_t>(t[i] / end * 2 * kPixels); };
    const auto kept = enough_to_draw(v.data(), count, column);
    std::vector<std::size_t> all(count);
    for (std::size_t i = 0; i < count; ++i) all[i] = i;
    double low = INFINITY, high = -INFINITY;
    for (const double y : v) {
      if (!std::isnan(y)) low = std::min(low, y), high = std::max(high, y);
    }
    const Picture whole(t, v, all, held, end, kPixels), thin(t, v, kept, held, end, kPixels);
    INFO("signal " << number << ", kind " << kind << (held ? ", held, " : ", joined, ") << count << " values, "
                   << kept.size() << " kept");
    CHECK(within_a_pixel(whole, thin, (high - low) / 300));
    CHECK(within_a_pixel(thin, whole, (high - low) / 300));
    CHECK(kept.size() <= 5 * 2 * (kPixels + 1));
    CHECK(kept.front() == 0);
    CHECK(kept.back() == count - 1);
  }
}

TEST_CASE("A spectrum has a line of the height of each sine, and agrees with scipy") {
  std::vector<double> values;
  for (int i = 0; i < 3000; ++i) {
    const double t = i * 1e-3;
    values.push_back(5 + 2 * std::sin(2 * M_PI * 50 * t) + 0.5 * std::cos(2 * M_PI * 150 * t));
  }
  const Spectrum s = spectrum_of(values, 1e-3);
  REQUIRE(s.step_hz == Approx(1 / 3.0));
  CHECK(s.amplitude[150] == Approx(2));
  CHECK(s.amplitude[450] == Approx(0.5));
  CHECK(s.amplitude[0] < 1e-9);
  CHECK(s.amplitude[300] < 1e-9);
  const TestFolder folder;
  std::string text;
  for (std::size_t i = 0; i < values.size(); ++i)
    text += std::to_string(values[i] = std::round(values[i] * (1e3 + static_cast<double>(i % 7))) / 1e3) + "\n";
  folder.write("v", text);
  folder.write(
      "s.py",
      "import numpy as np, scipy.fft, scipy.signal\nv = np.loadtxt('v'); n = len(v)\n"
      "a = np.abs(scipy.fft.rfft((v - v.mean()) * scipy.signal.get_window('hann', n))) * 4 / n\na[0] /= 2; a[-1] /= 2\n"
      "print('\\n'.join(repr(x) for x in a))\n");
  const Output scipy = shell("/usr/bin/python3 s.py", folder.path());
  REQUIRE(scipy.status == 0);
  std::istringstream lines(scipy.out);
  const Spectrum mine = spectrum_of(values, 1e-3);
  double worst = 0;
  std::size_t count = 0;
  for (double expected = 0; lines >> expected; ++count)
    worst = std::max(worst, std::abs(mine.amplitude.at(count) - expected));
  CHECK(count == mine.amplitude.size());
  CHECK(worst < 1e-9);
}

TEST_CASE("Verdicts survive the way to JSON and back") {
  Summary s;
  s.bench = "B";
  s.scenario = "up";
  s.faults = {"drift"};
  s.ending = observe::Ending::completed;
  SummaryRow row;
  row.name = "R-1";
  row.description = "a \"quoted\" <tag> & ümlaut";
  row.answer = judge::Answer::broken;
  row.first_breach_s = 1.5;
  row.breaches_s = {{1.5, 2.25}};
  row.worst_margin = -0.1;
  row.margin_unit = "cm";
  s.rows = {row, SummaryRow{}};
  const test::TestFolder folder;
  const auto back = read_summary(folder.write("v.json", to_json(s)));
  REQUIRE(back);
  CHECK(to_json(*back) == to_json(s));
  CHECK(back->rows[0].margin_text() == "-0.1 cm");
  CHECK(back->rows[1].margin_text() == "–");
  // A word that is no verdict would else be counted as none of them.
  std::string other = to_json(s);
  other.replace(other.find("\"verdict\": \"broken\""), 19, "\"verdict\": \"borken\"");
  const auto refused = read_summary(folder.write("o.json", other));
  REQUIRE_FALSE(refused);
  test::shows(refused.failure().text(), "`borken` is no verdict");
}

TEST_CASE("JUnit counts failures, skipped and errors, and escapes what people write") {
  Summary s;
  s.bench = "B";
  s.scenario = "up";
  using judge::Answer;
  for (const Answer answer : {Answer::held, Answer::broken, Answer::not_tested, Answer::undecided}) {
    SummaryRow row;
    row.name = "R";
    row.answer = answer;
    row.description = "<&>";
    s.rows.push_back(row);
  }
  const std::string xml = to_junit(s);
  CHECK(xml.find("tests=\"4\" failures=\"1\" errors=\"1\" skipped=\"1\"") != std::string::npos);
  CHECK(xml.find("&lt;&amp;") != std::string::npos);
}

TEST_CASE("A file is replaced as a whole or not at all") {
  const test::TestFolder folder;
  const std::string file = folder.write("a.txt", "old");
  CHECK(write_file(file, "new"));
  CHECK(test::slurp(file) == "new");
  CHECK_FALSE(write_file(folder / "missing/a.txt", "x"));
  CHECK_FALSE(read_file(folder / "nothing"));
  CHECK_FALSE(read_file(folder.path()));
}

TEST_CASE("A figure of constant, missing and infinite values can be drawn") {
  const test::TestFolder folder;
  FigureData data;
  data.name = "odd";
  data.title = "it's an 'odd' \"figure\" with `ticks` and \\ in it";
  data.end = 10;
  Panel constant{"m", {}, false, {{"constant", {{0, 2}, {10, 2}}, false}}, {{"R-1", 2.05}}};
  Panel empty{"", {}, false, {{"nothing", {}, false}, {"not finite", {{0, NAN}, {5, INFINITY}}, true}}, {}};
  Panel lanes{"", {}, true, {{"on", {{0, 0}, {4, 1}, {10, 1}}, true}}, {}};
  data.panels = {constant, empty, lanes};
  data.faults = {{2, 4, "it's"}};
  data.breaches = {{3, 3, "R-1"}};
  data.marks = {{1, "set x to 1"}, {1.01, "hold 3 s"}};
  const Status drawn = draw(data, folder.path());
  REQUIRE(drawn);
  CHECK(test::slurp(folder / "odd.svg").find("</svg>") != std::string::npos);
  CHECK(test::slurp(folder / "odd.png").starts_with("\x89PNG"));
  CHECK(test::shell("xmllint --noout odd.svg", folder.path()).status == 0);
}

TEST_CASE("Absolute temperatures are kept in kelvin and shown in the unit they are declared in") {
  const TestFolder folder;
  folder.write("bench.dyne", R"(bench B { step 100 ms
  state warmth : degC = 20 degC
  warmth' = 1 K/s
  sensor tt { of warmth  range 0 degC .. 100 degC  counts 0 .. 1000  every 100 ms  noise 0.1 K }
  figure warm { panel warmth, tt }
}
fault high { on tt  offset 5 K }
requirement R-1 { always warmth <= 24 degC }
)");
  const Output output = run_isodyne("run bench.dyne --for '3 s' --fault high --out r", folder.path());
  INFO(output.out << output.err);
  REQUIRE(output.status == 0);
  CHECK(output.out.find("1 K ") != std::string::npos);  // the margin is a difference
  auto run = session::open_run(folder / "r");
  REQUIRE(run);
  const present::FigureData data =
      present::gather(*run->program, run->program->figures.at(0), *run->recording, run->summary);
  CHECK(data.panels.at(0).curves.at(0).points.front().second == Approx(20));
  CHECK(data.panels.at(0).curves.at(1).points.back().second == Approx(28).margin(0.6));
  CHECK(data.panels.at(0).limits.at(0).value == Approx(24));
  const auto warmth = run->recording->signal("warmth");
  REQUIRE(warmth);
  CHECK(warmth->front() == Approx(293.15));
}

TEST_CASE("Words of limits stand beside their line, off the curves and off each other, or not in the panel") {
  // Against all boxes that were given, and the curve itself, sampled.
  const double width = 980, height = 149;
  for (int seed = 0; seed < 200; ++seed) {
    present::LabelPlaces places(width, height);
    std::vector<std::pair<double, double>> curve;
    std::uint64_t state = 88172645463325252ULL + static_cast<std::uint64_t>(seed);
    const auto next = [&] {
      state ^= state << 13, state ^= state >> 7, state ^= state << 17;
      return static_cast<double>(state % 10000) / 10000;
    };
    const int points = 2 + static_cast<int>(next() * 60);
    for (int i = 0; i <= points; ++i)
      curve.emplace_back(width * i / points, next() * height * (seed % 3 == 0 ? 1 : 0.4));
    const bool steps = seed % 2 == 0;
    places.take_curve(curve, steps);
    std::vector<present::PixelBox> given;
    for (int k = 0; k < 6; ++k) {
      const double line = next() * height;
      const auto box = places.beside_line(line, 60 + next() * 100, 13);
      if (!box) continue;
      CHECK(std::min(std::abs(box->bottom - line), std::abs(box->top - line)) < 3);
      for (const auto& b : given)
        CHECK((box->left >= b.right || box->right <= b.left || box->bottom >= b.top || box->top <= b.bottom));
      given.push_back(*box);
    }
    for (std::size_t i = 1; i < curve.size(); ++i) {
      for (int s = 0; s <= 200; ++s) {
        const double share = s / 200.0, x = curve[i - 1].first + share * (curve[i].first - curve[i - 1].first);
        const double y =
            steps ? curve[i - 1].second : curve[i - 1].second + share * (curve[i].second - curve[i - 1].second);
        for (const auto& b : given) CHECK_FALSE((x > b.left && x < b.right && y > b.bottom && y < b.top));
      }
    }
  }
  // A panel that a curve fills has no place.
  present::LabelPlaces full(width, height);
  std::vector<std::pair<double, double>> noise;
  for (int i = 0; i < 1960; ++i) noise.emplace_back(i * 0.5, i % 2 == 0 ? 0 : height);
  full.take_curve(noise, false);
  CHECK(!full.beside_line(70, 80, 13));
}

namespace {

present::Curve line_of(const std::string& name, std::vector<std::pair<double, double>> points) {
  present::Curve c;
  c.label = name;
  c.points = std::move(points);
  return c;
}

present::FigureData two_panels() {
  present::FigureData d;
  d.name = "f";
  d.title = "title";
  d.end = 10;
  for (const char* name : {"level", "speed"}) {
    present::Panel& p = d.panels.emplace_back();
    p.unit = "m";
    p.curves.push_back(line_of(name, {{0, 0}, {10, 10}}));
  }
  return d;
}

std::size_t count_of(const std::string& text, const std::string& part) {
  std::size_t n = 0;
  for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) ++n;
  return n;
}

}  // namespace

TEST_CASE("A band is the background of panels that it is about, and a bar above for all") {
  present::FigureData d = two_panels();
  d.breaches.push_back({2, 4, "R-1", std::set<std::string>{"speed"}});
  const std::string script = present::script_of(d).text;
  const std::string tint = "fc rgb \"#D55E00\" fs transparent";
  CHECK(count_of(script, tint) == 1);
  CHECK(script.find(tint) > script.find("$p1c0"));  // in the second panel
  CHECK(count_of(script, "fc rgb \"#D55E00\" fs solid") == 1);
  CHECK(count_of(script, "'R-1 broken'") == 1);
  d.breaches[0].about.reset();  // nobody knows what it is about
  CHECK(count_of(present::script_of(d).text, tint) == 2);
  d.breaches[0].about = std::set<std::string>{"something else"};
  CHECK(count_of(present::script_of(d).text, tint) == 0);
  CHECK(count_of(present::script_of(d).text, "'R-1 broken'") == 1);  // it is told all the same
}

TEST_CASE("Limits that find no place in a full panel stand above it, and how many do not fit is said") {
  present::FigureData d = two_panels();
  present::Curve& noise = d.panels[0].curves[0];
  noise.points.clear();
  for (int i = 0; i <= 2000; ++i) noise.points.emplace_back(i * 0.005, i % 2 == 0 ? 0 : 10);
  for (int i = 0; i < 40; ++i) d.panels[0].limits.push_back({fmt::format("REQUIREMENT-{}", i), 0.2 * i + 1});
  const std::string script = present::script_of(d).text;
  CHECK(count_of(script, "limits: REQUIREMENT-0 1,") == 1);
  const std::size_t more = script.find(" more'");
  REQUIRE(more != std::string::npos);
  const std::string line = script.substr(script.rfind("'limits:", more), more - script.rfind("'limits:", more));
  const std::size_t shown = count_of(line, "REQUIREMENT-");
  CHECK(line.ends_with(fmt::format("and {}", 40 - shown)));
  CHECK(display_width(line) < 150);
  CHECK(count_of(script, "nohead lc rgb \"#4B5560\"") == 40);  // every line is drawn
  // The other panel has nothing of it.
  present::FigureData calm = two_panels();
  calm.panels[0].limits.push_back({"R-1", 8});
  CHECK(count_of(present::script_of(calm).text, "limits:") == 0);
  CHECK(count_of(present::script_of(calm).text, "'R-1 8'") == 1);
}

TEST_CASE("Curves that turn often have signs in the place of dashes, in the key too") {
  present::FigureData d = two_panels();
  present::Panel& p = d.panels[0];
  p.curves.push_back(line_of("calm", {{0, 1}, {10, 2}}));
  std::string script = present::script_of(d).text;
  CHECK(count_of(script, "keyentry") == 0);
  CHECK(count_of(script, "dt 2 title 'calm'") == 1);
  for (int i = 0; i < 100; ++i) p.curves[0].points.emplace_back(10, i % 2);
  script = present::script_of(d).text;
  const std::string first = script.substr(script.find("$p0c0"), script.find("$p1c0") - script.find("$p0c0"));
  CHECK(count_of(first, "keyentry with linespoints") == 2);
  CHECK(count_of(first, "dt 2 notitle") == 0);
  CHECK(count_of(first, "title 'level'") == 1);
}

TEST_CASE("Long titles and notes go on in the next line, and the picture grows with them") {
  present::FigureData d = two_panels();
  const int plain = present::script_of(d).height;
  for (int i = 0; i < 40; ++i) d.subtitle += fmt::format("word{} ", i);
  d.marks.push_back({1, std::string()});
  for (int i = 0; i < 60; ++i) d.marks[0].text += fmt::format("note{} ", i);
  const present::FigureScript script = present::script_of(d);
  for (int i = 0; i < 40; ++i) CHECK(script.text.find(fmt::format("word{}", i)) != std::string::npos);
  for (int i = 0; i < 60; ++i) CHECK(script.text.find(fmt::format("note{}", i)) != std::string::npos);
  CHECK(script.height >= plain + 15 + 3 * 16);
  std::istringstream lines(script.text);
  for (std::string line; std::getline(lines, line);) {
    if (line.find("note") == std::string::npos) continue;
    const std::size_t from = line.find('\''), to = line.rfind("' at");
    CHECK(to - from < 170);
  }
}

TEST_CASE("Two ends of a scale in the terminal never read the same") {
  present::SignalView v;
  v.name = "x";
  v.unit = "m";
  for (int i = 0; i < 100; ++i) {
    v.seconds.push_back(46400 + i * 0.001);
    v.values.push_back(1000000.25 + i * 0.0001);
  }
  present::TextPlotStyle style;
  style.begin = 46400;
  style.end = 46400.099;
  const std::string plot = present::text_plot(v, style);
  CHECK(plot.find("1000000.26") != std::string::npos);
  CHECK(plot.find("1000000.25") != std::string::npos);
  const std::string axis = present::text_time_axis(style);
  CHECK(axis.find("12 h 53 min 20 s") != std::string::npos);
  CHECK(axis.find("12 h 53 min 20.099 s") != std::string::npos);
}

TEST_CASE("A choice that is visited for less than a column is not passed over in the terminal") {
  present::SignalView v;
  v.name = "order";
  v.labels = {"none", "open", "shut"};
  v.lane = v.steps = true;
  for (int i = 0; i <= 100'000; ++i) {
    v.seconds.push_back(i * 0.01);
    // For half a second; for a second twice; from 600 s on for good.
    const double t = v.seconds.back();
    const bool short_visit = t >= 200.2 && t < 200.7, two = (t >= 400 && t < 401) || (t >= 402 && t < 403);
    v.values.push_back(short_visit || two ? 1 : t >= 600 ? 2 : 0);
  }
  present::TextPlotStyle style;
  style.begin = 0;
  style.end = 1000;
  style.width = 112;  // a column is ten seconds
  const std::string plot = present::text_plot(v, style);
  shows(plot, "┤none                ▒none               ▒none               │shut ");
  style.ascii = true;
  shows(present::text_plot(v, style), "|none                #none               #none               |shut ");
}
