// attach: the live view of a run that goes on, in the terminal; or its changes line by line; or its door for others.

#include <chrono>
#include <csignal>
#include <filesystem>
#include <map>
#include <set>

#include <poll.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/live/live_view.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/session/catalogue.h"
#include "screen.h"
#include "speak.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

using Clock = std::chrono::steady_clock;
constexpr auto kPicture = std::chrono::milliseconds(33);

/// The newest run of this user that somebody may come into.
std::optional<std::string> newest_open() {
  auto catalogue = session::Catalogue::open(session::usual_catalogue());
  if (!catalogue) return say_error(catalogue.failure().text()), std::nullopt;
  const auto entries = (*catalogue)->find({});
  if (!entries) return say_error(entries.failure().text()), std::nullopt;
  for (const session::CatalogueEntry& e : *entries) {
    if (e.ending.empty() && remote::Connection::to(e.path, remote::kSocketName)) return e.path;
  }
  say_error("no run of yours is open: begin one with `isodyne run … --open`, or name its folder");
  return std::nullopt;
}

/// What can be said to a run: what the command line can, about this run.
live::Phrases phrases_for(const std::string& run) {
  live::Phrases all;
  for (const Subcommand& c : commands()) {
    if (c.spoken == nullptr) continue;
    live::Phrase phrase{c.name, c.words, c.summary, {}};
    phrase.words = phrase.words.substr(std::min(phrase.words.size(), std::string("RUN ").size()));
    for (const Option o : c.options) {
      if (o == Option::json || o == Option::help || o == Option::out) continue;
      const std::string text = spelled(o).substr(2);
      const std::size_t blank = text.find(' ');
      phrase.options.emplace_back(text.substr(0, blank), blank == std::string::npos ? "" : text.substr(blank + 1));
    }
    all.all.push_back(std::move(phrase));
  }
  all.spoken = [run](const std::vector<std::string>& words) -> Result<live::Spoken> {
    std::vector<std::string> names;
    for (const Subcommand& c : commands()) {
      if (c.spoken == nullptr) continue;
      names.emplace_back(c.name);
      if (c.name != words[0]) continue;
      std::vector<std::string> rest{run};
      rest.insert(rest.end(), words.begin() + 1, words.end());
      const auto arguments = parse_arguments(c, rest);
      if (!arguments && rest.size() < c.least)
        return Failure{fmt::format("{} takes: {}", c.name,
                                   std::string(c.words).substr(std::min<std::size_t>(4, std::string(c.words).size()))),
                       "", ""};
      if (!arguments) return arguments.failure();
      return c.spoken(*arguments);
    }
    const auto meant = did_you_mean(words[0], names);
    return Failure{fmt::format("there is no command `{}`{}", words[0], meant ? "; " + *meant : ": ? shows them"), "",
                   ""};
  };
  return all;
}

/// Lines to and fro, and a look at the clock, until the view is left or the run is over.
class Carrier {
 public:
  Carrier(remote::Connection& connection, live::Mirror& run) : connection_(connection), run_(run) {}

  void send() {
    for (const std::string& line : run_.outgoing()) {
      if (!connection_.send(line)) lost();
    }
  }
  /// All lines that have come.
  void hear() {
    while (const auto line = connection_.line(std::chrono::milliseconds(0))) run_.hear(*line);
    if (connection_.closed()) lost();
  }
  bool closed() const { return connection_.closed(); }

 private:
  void lost() {
    const std::string complaint = connection_.complaint();
    run_.lost(complaint.empty() ? "nobody answers any more" : complaint);
  }
  remote::Connection& connection_;
  live::Mirror& run_;
};

/// Until it is left.
void in_pictures(Screen& screen, remote::Connection& connection, live::LiveView& view) {
  Carrier carrier(connection, view.run());
  auto next_picture = Clock::now();
  while (!view.left()) {
    const auto now = Clock::now();
    while (const auto key = screen.key()) view.key(*key, now);
    view.tick(now);
    carrier.send();
    if (screen.resized()) view.run().changed = true;
    if (view.changed() && now >= next_picture) {
      live::Grid grid = screen.grid();
      view.draw(grid);
      screen.show(grid, view.cursor());
      next_picture = now + kPicture;
    }
    pollfd files[2] = {{STDIN_FILENO, POLLIN, 0}, {connection.number(), POLLIN, 0}};
    const auto left = std::chrono::ceil<std::chrono::milliseconds>(next_picture - Clock::now());
    const int most = view.changed() ? static_cast<int>(std::max<std::int64_t>(1, left.count())) : 100;
    ::poll(files, carrier.closed() ? 1 : 2, most);
    if ((files[0].revents & (POLLHUP | POLLERR)) != 0) break;  // the terminal has gone
    if (!carrier.closed()) carrier.hear();
  }
}

/// A line for each thing that happens and each value that has changed, as people read it; and commands, line by line.
class Lines {
 public:
  Lines(remote::Connection& connection, const live::Phrases& phrases)
      : connection_(connection), carrier_(connection, run_), phrases_(phrases) {}

  int until_over() {
    run_.begin();
    auto next_look = Clock::now();
    while (!run_.over) {
      carrier_.send();
      pollfd files[2] = {{connection_.number(), POLLIN, 0}, {STDIN_FILENO, POLLIN, 0}};
      ::poll(files, reads_ ? 2 : 1, 100);
      carrier_.hear();
      if (reads_ && files[1].revents != 0) read();
      tell_all();
      if (Clock::now() < next_look) continue;
      run_.look_again();
      next_look = Clock::now() + std::chrono::seconds(1);
    }
    tell_all();
    tell("The run is over: " + run_.ending);
    return kHeld;
  }

 private:
  static void tell(const std::string& text) {
    say(text);
    std::fflush(stdout);
  }

  void read() {
    char block[4096];
    const ssize_t n = ::read(STDIN_FILENO, block, sizeof block);
    if (n <= 0) reads_ = false;
    if (n > 0) typed_.append(block, static_cast<std::size_t>(n));
    for (std::size_t end = 0; (end = typed_.find('\n')) != std::string::npos; typed_.erase(0, end + 1))
      give(typed_.substr(0, end));
  }

  void give(const std::string& line) {
    const auto words = live::words_of(line);
    if (words.empty()) return;
    const auto spoken = phrases_.spoken(words);
    if (!spoken) return tell("! " + spoken.failure().text());
    if (spoken->method == "capture") return run_.capture(spoken->params);
    run_.ask(spoken->method, spoken->params, [this, s = *spoken](const live::Json& answer) {
      if (answer.contains("error")) return tell("! " + answer["error"].value("message", std::string("it was refused")));
      const live::Json& r = answer.at("result");
      const std::string at = live::clock_text(r.value("at_s", 0.0), run_.step);
      if (s.method == "wait") return tell((r.value("came", false) ? "> it came at " : "> it had not come by ") + at);
      if (s.method != "read") return tell(fmt::format("> {} at {}", s.what, at));
      for (const auto& [name, value] : r.at("values").items())
        tell(fmt::format("  {} {}", name, value.value("read", std::string())));
    });
  }

  void tell_all() {
    if (run_.known && !described_) tell_what();
    tell_values();
    for (const live::RunEvent& e : run_.events) {
      if (e.number < next_event_) continue;
      next_event_ = e.number + 1;
      tell(fmt::format("{}  {}: {}", live::clock_text(e.at, run_.step), e.subject, one_line(e.text)));
    }
    if (!run_.message.empty()) tell((run_.message_bad ? "! " : "") + std::exchange(run_.message, std::string()));
    if (const std::int64_t lost = run_.left_out + run_.events_left_out; lost > lost_) {
      tell(fmt::format("! {} pictures and {} events were left out so far", run_.left_out, run_.events_left_out));
      lost_ = lost;
    }
    run_.clock(Clock::now());
    const bool silent = run_.silent_s >= live::Mirror::kSilent;
    if (silent && !silent_) tell(fmt::format("! no answer for {} s", run_.silent_s));
    silent_ = silent;
  }

  void tell_what() {
    described_ = true;
    std::string what = run_.bench;
    if (!run_.scenario.empty()) what += ", " + run_.scenario;
    tell(fmt::format("{}: {}; what is typed here is a command, `end` ends the run", what,
                     run_.paced ? "paced" : "in lockstep"));
    for (const live::Board& b : run_.boards) {
      for (const live::Item& i : b.items) names_.insert(i.names.begin(), i.names.end());
    }
    for (const live::Signal& s : run_.signals()) {
      if (run_.boards.empty() && s.role == "input") names_.insert(s.name);
    }
  }

  void tell_values() {
    run_.look_at({names_.begin(), names_.end()}, 2);
    for (const std::string& name : names_) {
      const live::Value v = run_.value(name);
      if (v.read.empty() || told_[name] == v.read) continue;
      told_[name] = v.read;
      tell(fmt::format("{}  {} {}", live::clock_text(run_.now, run_.step), name, v.read));
    }
  }

  remote::Connection& connection_;
  live::Mirror run_;
  Carrier carrier_;
  const live::Phrases& phrases_;
  std::set<std::string> names_;
  std::map<std::string, std::string> told_;
  std::size_t next_event_ = 0;
  std::int64_t lost_ = 0;
  std::string typed_;
  bool reads_ = true, described_ = false, silent_ = false;
};

/// Bytes from standard input to the run, and back, until either has enough.
int relay(remote::Connection& connection) {
  const auto carry = [](int from, int to) {
    char block[65536];
    const ssize_t n = ::read(from, block, sizeof block);
    if (n <= 0) return false;
    for (ssize_t at = 0; at < n;) {
      const ssize_t put = ::write(to, block + at, static_cast<std::size_t>(n - at));
      if (put <= 0) return false;
      at += put;
    }
    return true;
  };
  for (;;) {
    pollfd files[2] = {{STDIN_FILENO, POLLIN, 0}, {connection.number(), POLLIN, 0}};
    if (::poll(files, 2, -1) < 0) return kNotCompleted;
    if (files[0].revents != 0 && !carry(STDIN_FILENO, connection.number())) return kHeld;
    if (files[1].revents != 0 && !carry(connection.number(), STDOUT_FILENO)) return kHeld;
  }
}

}  // namespace

int run_attach(const Arguments& arguments) {
  std::optional<std::string> run;
  if (arguments.words.empty() || arguments.words[0].empty())
    run = newest_open();
  else
    run = arguments.words[0];
  if (!run) return kNotCompleted;
  auto there = talk(*run);
  if (!there) return kNotCompleted;
  if (arguments.has(Option::relay)) return relay(*there->with);
  if (arguments.has(Option::plain)) {
    const live::Phrases phrases = phrases_for(*run);
    return Lines(*there->with, phrases).until_over();
  }
  // Whoever cannot come in sees why before the page is there.
  if (elsewhere(*run) && !there->ask("read", {{"names", {"time"}}})) return kNotCompleted;
  const auto screen = Screen::open();
  if (screen == nullptr)
    return say_error("this is no terminal that shows pages: --plain tells the same line by line"), kWrongInput;
  const auto tuned = arguments.value(Option::tune);
  live::LiveView view(phrases_for(*run), tuned ? "tune " + *tuned : std::string());
  in_pictures(*screen, *there->with, view);
  return kHeld;
}

}  // namespace isodyne::app
