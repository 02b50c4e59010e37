#pragma once
// What a command is, and the one table of them.

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/check/load.h"
#include "isodyne/core/result.h"
#include "isodyne/core/time.h"
#include "isodyne/live/spoken.h"

namespace isodyne::app {

/// Exit statuses, as in docs/architecture.md.
enum Exit : int { kHeld = 0, kBroken = 1, kWrongInput = 2, kNotCompleted = 3, kTooLate = 4 };

enum class Option {
#define OPTION(id, name, value, help) id,
#include "options.def"
#undef OPTION
};

/// "--from TIME", and what it is for.
std::string spelled(Option option);
const char* help_of(Option option);

struct Subcommand;

/// Arguments of one command, already checked against what it accepts.
class Arguments {
 public:
  const Subcommand* command = nullptr;
  std::vector<std::string> words;  ///< what is not an option
  std::map<Option, std::vector<std::string>> options;

  bool has(Option option) const { return options.contains(option); }
  std::optional<std::string> value(Option option) const;
  std::vector<std::string> values(Option option) const;
};

struct Subcommand {
  const char* name;
  const char* words;        ///< "BENCH [SCENARIO]"
  std::size_t least, most;  ///< number of words
  const char* summary;
  const char* explanation;
  const char* example;
  std::vector<Option> options;
  int (*run)(const Arguments&);
  bool foreign = false;  ///< calls controllers: in a process of its own (session/worker.h)
  /// Of what is said to a run: how. Its first word is the run.
  Result<live::Spoken> (*spoken)(const Arguments&) = nullptr;
};

const std::vector<Subcommand>& commands();
/// The command that `words` begin with, of one word or of two (`io layout`); says what is wrong if there is none.
const Subcommand* find_command(const std::vector<std::string>& words, std::size_t& taken);

/// "Usage: …", options and an example.
std::string help_text(const Subcommand& command);
std::string help_text();
/// `io`, `baseline`: the first of two words and no command itself.
bool is_group(const std::string& word);
std::string group_help(const std::string& group);

/// Reads arguments, or says what is wrong with them.
Result<Arguments> parse_arguments(const Subcommand& command, const std::vector<std::string>& words);
/// The same; on a mistake says so and gives nothing.
std::optional<Arguments> read_arguments(const Subcommand& command, const std::vector<std::string>& words);

// One file each.
int run_check(const Arguments&);
int run_run(const Arguments&);
int run_reference(const Arguments&);
int run_advise(const Arguments&);
int run_profile(const Arguments&);
int run_report(const Arguments&);
int run_show(const Arguments&);
int run_figure(const Arguments&);
int run_compare(const Arguments&);
int run_repeat(const Arguments&);
int run_recover(const Arguments&);
int run_pack(const Arguments&);
int run_baseline_accept(const Arguments&);
int run_baseline_check(const Arguments&);
int run_runs(const Arguments&);
int run_runs_tag(const Arguments&);
int run_runs_prune(const Arguments&);
int run_judge(const Arguments&);
int run_measure(const Arguments&);
int run_faults(const Arguments&);
int run_trace(const Arguments&);
int run_import(const Arguments&);
int run_list(const Arguments&);
int run_export(const Arguments&);
int run_serve(const Arguments&);
int run_attach(const Arguments&);
int run_read(const Arguments&);
/// What the command says to a run, and what came of it.
int run_spoken(const Arguments&);
int run_events(const Arguments&);
int run_wait(const Arguments&);
int run_watch(const Arguments&);
int run_capture(const Arguments&);
int run_campaign(const Arguments&);
int run_cases(const Arguments&);
int run_failures(const Arguments&);
int run_tree(const Arguments&);
int run_search(const Arguments&);
int run_verdicts(const Arguments&);
int run_timing(const Arguments&);
int run_scenario(const Arguments&);
int run_values(const Arguments&);
int run_format(const Arguments&);
int run_explain(const Arguments&);
int run_draw(const Arguments&);
int run_new(const Arguments&);
int run_help(const Arguments&);
int run_io_layout(const Arguments&);
int run_io_list(const Arguments&);
int run_io_groups(const Arguments&);
int run_io_free(const Arguments&);
int run_io_bind(const Arguments&);
int run_io_table(const Arguments&);
int run_io_loopback(const Arguments&);
int run_io_match(const Arguments&);
int run_io_registers(const Arguments&);
int run_realtime_check(const Arguments&);

// What is said to a run: speak.cpp.
Result<live::Spoken> spoken_read(const Arguments&);
Result<live::Spoken> spoken_set(const Arguments&);
Result<live::Spoken> spoken_press(const Arguments&);
Result<live::Spoken> spoken_ramp(const Arguments&);
Result<live::Spoken> spoken_release(const Arguments&);
Result<live::Spoken> spoken_inject(const Arguments&);
Result<live::Spoken> spoken_clear(const Arguments&);
Result<live::Spoken> spoken_mark(const Arguments&);
Result<live::Spoken> spoken_pause(const Arguments&);
Result<live::Spoken> spoken_step(const Arguments&);
Result<live::Spoken> spoken_go_on(const Arguments&);
Result<live::Spoken> spoken_end(const Arguments&);
Result<live::Spoken> spoken_load(const Arguments&);
Result<live::Spoken> spoken_play(const Arguments&);
Result<live::Spoken> spoken_arm(const Arguments&);
Result<live::Spoken> spoken_disarm(const Arguments&);
Result<live::Spoken> spoken_save(const Arguments&);
Result<live::Spoken> spoken_wait(const Arguments&);
Result<live::Spoken> spoken_capture(const Arguments&);

/// `list` of one scenario, drawn over time.
int list_timeline(const Arguments& arguments, const program::Program& program);

/// Loads a bench file and prints its diagnostics; null if it has errors.
check::Loaded load_file(const std::string& file, const check::Wish& wish = {});
/// The same with texts that are not in their files yet: name relative to the bench's folder → text.
check::Loaded load_changed(const std::string& file, const std::map<std::string, std::string>& changed,
                           const check::Wish& wish = {});
/// Prints diagnostics to standard error, with a closing line if there are errors.
void print_diagnostics(const check::Loaded& loaded, const std::string& file);
/// The folder of a file as it is put before names: "examples/canal-lock/", or "" for the present one.
std::string folder_of(const std::string& file);

}  // namespace isodyne::app
