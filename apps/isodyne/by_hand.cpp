// scenario and values: what was done to a run by hand, as a text of the language.

#include <algorithm>
#include <filesystem>
#include <thread>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/lang/format.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/session/by_hand.h"
#include "named_runs.h"
#include "speak.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

/// The last name of a path.
std::string called(const std::string& run) {
  std::filesystem::path path = std::filesystem::path(run).lexically_normal();
  if (!path.has_filename()) path = path.parent_path();
  return path.filename().string();
}

/// In the look of the formatter.
std::string formatted(const std::string& text) {
  Sources sources;
  Diagnostics diagnostics;
  const std::int32_t source = sources.add("what was done by hand", text);
  return lang::format_text(sources, source, diagnostics);
}

/// Whether the bench of the run understands it; mistakes are printed.
bool understood(const std::string& run, const std::string& text) {
  const auto with = session::open_recording(run, check::Rules{"what was done by hand", text, false});
  if (!with) return say_error(with.failure().text()), false;
  if (with->loaded.program != nullptr) return true;
  put(stderr, with->loaded.diagnostics.render(*with->loaded.sources, colours_on(stderr)));
  say_error("the bench of the run does not take this text; --name gives it another name");
  return false;
}

/// Behind what a file has already: texts that somebody wrote stay.
int add_to(const std::string& file, const std::string& text, const std::string& what,
           const record::RunIdentity& identity) {
  std::error_code none;
  std::string all;
  if (std::filesystem::exists(file, none)) {
    const auto before = read_file(file);
    if (!before) return say_error(before.failure().text()), kNotCompleted;
    if (before->find(what + " {") != std::string::npos)
      return say_error(fmt::format("{} has a `{}` already; --name gives this one another name", file, what)),
             kWrongInput;
    all = *before + (before->empty() || before->ends_with("\n\n") ? "" : before->ends_with("\n") ? "\n" : "\n\n");
  }
  const bool added = !all.empty();
  const Status written = write_file(file, all + text);
  if (!written) return say_error(written.failure().text()), kNotCompleted;
  const std::string name = called(file);
  const bool used = std::any_of(identity.sources.begin(), identity.sources.end(),
                                [&](const auto& source) { return called(source.first) == name; });
  say(fmt::format("{} `{}` {} {}", added ? "Added" : "Wrote", what, added ? "to" : "into", file));
  if (!used) say_aside(fmt::format("A bench knows it when one of its files says: use \"{}\"", name));
  return kHeld;
}

int give(const Arguments& arguments, const std::string& what, const Result<session::HandText>& made,
         const record::RunIdentity& identity) {
  if (!made) return say_error(made.failure().text()), kWrongInput;
  const std::string text = formatted(made->text);
  if (!understood(arguments.words[0], text)) return kWrongInput;
  for (const std::string& d : made->doubts) say_aside("Note: " + d);
  if (const auto file = arguments.value(Option::out)) return add_to(*file, text, what, identity);
  put(stdout, text);
  return kHeld;
}

/// A recording is a moment behind its run: of one that is open, what was done up to now is waited for.
Result<session::OpenRecording> up_to_now(const std::string& path) {
  std::optional<Time> now;
  if (auto connection = remote::Connection::to(path, remote::kSocketName)) {
    Talk there{std::move(*connection)};
    const auto answer = there.ask("read", {{"names", {"time"}}});
    if (answer && answer->contains("result")) now = time_from_seconds(answer->at("result").value("at_s", 0.0));
  }
  const auto most = std::chrono::steady_clock::now() + std::chrono::seconds(5);
  for (;;) {
    auto run = session::open_recording(path);
    const bool behind = run && now && run->recording->growing() && session::end_of(*run->recording) < *now;
    if (!behind || std::chrono::steady_clock::now() > most) return run;
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
}

}  // namespace

int run_scenario(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  const auto run = up_to_now(path);
  if (!run) return say_error(run.failure().text()), kWrongInput;
  say_if_unfinished(*run->recording, path);
  session::ScenarioWish wish;
  wish.name = arguments.value(Option::name).value_or("by_hand");
  wish.of = called(path);
  wish.on_events = arguments.has(Option::on_events);
  return give(arguments, "scenario " + wish.name, session::scenario_of(*run, wish), run->recording->identity());
}

int run_values(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  const auto run = up_to_now(path);
  if (!run) return say_error(run.failure().text()), kWrongInput;
  say_if_unfinished(*run->recording, path);
  const std::string name = arguments.value(Option::name).value_or("by_hand");
  return give(arguments, "values " + name, session::values_of(*run, name, called(path)), run->recording->identity());
}

}  // namespace isodyne::app
