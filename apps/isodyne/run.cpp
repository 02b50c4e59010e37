// run and reference: from the command line to a run, and from its outcome to what is printed.

#include <fmt/format.h>

#include "breakpoint.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/remote/values.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/run_service.h"
#include "plans.h"
#include "run_progress.h"
#include "subcommand.h"
#include "terminal.h"
#include "told_run.h"
#include "typed.h"

namespace isodyne::app {

namespace {

/// What the command line says about a run, where a stored state has the last word.
std::optional<Arguments> with_state(const Arguments& given, bool reference,
                                    std::optional<session::StoredState>& state) {
  Arguments all = given;
  if (const auto file = given.value(Option::from_state)) {
    auto read = session::read_state(*file);
    if (!read) return say_error(read.failure().text()), std::nullopt;
    for (const auto& [option, name] :
         {std::pair{Option::fault, "fault"}, std::pair{Option::seed, "seed"}, std::pair{Option::setting, "setting"},
          std::pair{Option::harness, "harness"}, std::pair{Option::with, "with"}, std::pair{Option::paced, "paced"}}) {
      if (!given.has(option)) continue;
      return say_error(fmt::format("--{} is what it was when the state was stored", name)), std::nullopt;
    }
    if (given.words.size() > 1) return say_error("the scenario is what it was when the state was stored"), std::nullopt;
    const record::RunIdentity& i = read->identity;
    if ((i.made_by == record::MadeBy::reference) != reference)
      return say_error(
                 fmt::format("the state is of `isodyne {}`, and goes on with it", reference ? "run" : "reference")),
             std::nullopt;
    if (!i.scenario.empty()) all.words.push_back(i.scenario);
    all.options[Option::fault] = i.faults;
    if (i.faults.empty()) all.options.erase(Option::fault);
    all.options[Option::seed] = {std::to_string(i.seed)};
    if (!i.setting.empty()) all.options[Option::setting] = {i.setting};
    if (!i.harness.empty()) all.options[Option::harness] = {i.harness};
    state = std::move(*read);
  }
  // Both would take what came of the other's commands.
  if (all.has(Option::open) && all.has(Option::break_))
    return say_error("--open and --break are two ways in: leave out one"), std::nullopt;
  if (!all.has(Option::paced)) return all;
  for (const auto& [option, name] : {std::pair{Option::break_, "break"}, std::pair{Option::save_state, "save-state"}}) {
    if (all.has(option))
      return say_error(fmt::format("--{} is about runs in lockstep: leave out --paced", name)), std::nullopt;
  }
  return all;
}

int run_bench(const Arguments& given, bool reference) {
  std::optional<session::StoredState> state;
  const auto arguments = with_state(given, reference, state);
  if (!arguments) return kWrongInput;
  const std::string& file = arguments->words[0];
  check::Wish wish;
  wish.harness = arguments->value(Option::harness).value_or("");
  wish.live = arguments->has(Option::open);
  const check::Loaded loaded = load_file(file, wish);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  auto wanted = read_plan(*arguments, *loaded.program);
  session::RunRequest request;
  request.bench = session::bench_of(loaded, folder_of(file), wish.harness);
  const auto overrides = read_overrides(*arguments, *request.bench);
  if (!wanted || !overrides) return kWrongInput;
  request.answer_within = wanted->answer_within;
  request.plan = wanted->plan;
  request.plan.overrides = *overrides;
  request.plan.reference = reference;
  if (request.plan.native) request.plan.native->first_flags = {"-O1"};  // soon, while the better one is made
  request.evidence.go_on_unrecorded = arguments->has(Option::go_on_unrecorded);
  request.evidence.save_state = arguments->value(Option::save_state).value_or("");
  if (state) {
    const Status goes_on = session::go_on_from(request, std::move(*state));
    if (!goes_on) return say_error(goes_on.failure().text()), kWrongInput;
  }
  if (const auto trouble = bench::trouble_with(*loaded.program, request.plan))
    return say_error(trouble->text()), kWrongInput;
  RunProgress progress(request);
  std::vector<session::RunWatcher*> watchers{&progress};
  std::optional<Breakpoint> breakpoint;
  if (const auto condition = arguments->value(Option::break_)) {
    breakpoint.emplace(Breakpoint::Plan{*condition, arguments->value(Option::break_dump)}, request.bench);
    if (!breakpoint->understood()) return kWrongInput;
    request.bench = looked_at(*request.bench, breakpoint->reads());
    breakpoint->of(request.bench);
    watchers.insert(watchers.begin(), &*breakpoint);
  }
  if (const auto names = arguments->values(Option::look); !names.empty()) {
    if (!arguments->has(Option::open)) return say_error("--look is for runs with --open"), kWrongInput;
    const auto ids = remote::named(*request.bench->program, remote::Json(names));
    if (!ids) return say_error(ids.failure().text()), kWrongInput;
    request.bench = looked_at(*request.bench, *ids);
  }
  const auto folder = session::make_run_folder(arguments->value(Option::out).value_or(""), session::name_of(request));
  if (!folder) {
    say_error(folder.failure().text());
    return folder.failure().kind == Failure::Kind::wrong_input ? kWrongInput : kNotCompleted;
  }
  request.evidence.folder = *folder;
  std::optional<remote::OpenRun> door;
  if (arguments->has(Option::open)) {
    door.emplace(request.bench, *folder);
    watchers.push_back(&*door);
    say_aside("Open: isodyne attach " + *folder);
  }
  return tell_run(session::run(request, watchers), *arguments, *request.bench, wanted->max_overruns);
}

}  // namespace

int run_run(const Arguments& arguments) {
  return run_bench(arguments, false);
}

int run_reference(const Arguments& arguments) {
  return run_bench(arguments, true);
}

}  // namespace isodyne::app
