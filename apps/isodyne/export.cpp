#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/engine/c_export.h"
#include "isodyne/exchange/editor_files.h"
#include "isodyne/exchange/reqif.h"
#include "isodyne/exchange/signal_table.h"
#include "isodyne/ports/struct_layout.h"
#include "isodyne/present/signals.h"
#include "isodyne/session/summary.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

const program::Controller* choose(const program::Program& program, const std::vector<std::string>& words) {
  std::vector<std::string> names;
  std::string all;
  for (const program::Controller& c : program.controllers) {
    names.push_back(c.name);
    list_on(all, c.name);
    if (words.size() > 2 && c.name == words[2]) return &c;
  }
  if (words.size() > 2) {
    const auto meant = did_you_mean(words[2], names);
    say_error(
        fmt::format("bench {} has no controller `{}`; {}", program.name, words[2], meant.value_or("it has: " + all)));
    return nullptr;
  }
  if (program.controllers.size() == 1) return &program.controllers.front();
  say_error(program.controllers.empty()
                ? fmt::format("bench {} has no controller", program.name)
                : fmt::format("bench {} has several controllers; name one of {}", program.name, all));
  return nullptr;
}

/// The C header of a controller, its layout, or the requirements; nothing if that is not possible (said).
std::optional<std::string> contract_of(const Arguments& arguments, int& status) {
  const std::string& what = arguments.words[0];
  status = kWrongInput;
  if (arguments.words.size() < 2) {
    say_error(
        fmt::format("the {0} of which bench? For example `isodyne export {0} examples/canal-lock/lock.dyne`", what));
    return std::nullopt;
  }
  const std::string& file = arguments.words[1];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return std::nullopt;
  if (what == "reqif") return exchange::to_reqif(*loaded.program);
  const program::Controller* controller = choose(*loaded.program, arguments.words);
  if (controller == nullptr) return std::nullopt;
  return what == "header" ? ports::header_text(*loaded.program, *controller)
                          : ports::layout_json(*loaded.program, *controller);
}

/// A folder with the model as stand-alone C.
int export_c(const Arguments& arguments) {
  if (arguments.words.size() < 2) {
    say_error("the C of which bench? For example `isodyne export c examples/canal-lock/lock.dyne --out lock-c`");
    return kWrongInput;
  }
  const std::string& file = arguments.words[1];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const auto files = engine::c_export(loaded.program);
  if (!files) {
    say_error(files.failure().text());
    return kWrongInput;
  }
  const std::filesystem::path folder = arguments.value(Option::out).value_or(loaded.program->name + "-c");
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error) {
    say_error(fmt::format("cannot create the folder {}: {}", folder.string(), error.message()));
    return kNotCompleted;
  }
  std::string all;
  for (const auto& [name, text] : *files) {
    const Status written = write_file((folder / name).string(), text);
    if (!written) {
      say_error(written.failure().text());
      return kNotCompleted;
    }
    list_on(all, name);
  }
  say_aside(fmt::format("wrote {} in {}; `make -C {} && {}/main 10` runs the plant for 10 s", all, folder.string(),
                        folder.string(), folder.string()));
  return kHeld;
}

/// A recording in a form that others read.
int export_recording(const Arguments& arguments) {
  const std::string& what = arguments.words[0];
  if (arguments.words.size() < 2) {
    say_error(fmt::format("which recording? For example `isodyne export {} runs/001-uplock chamber.level`", what));
    return kWrongInput;
  }
  const std::string& run = arguments.words[1];
  const auto recording = open_recording(run);
  if (!recording) return say_error(recording.failure().text()), kWrongInput;
  const std::vector<std::string> words(arguments.words.begin() + 2, arguments.words.end());
  const auto names = words.empty() ? Result((*recording)->names()) : present::chosen_signals(**recording, words);
  if (!names) return say_error(names.failure().text()), kWrongInput;
  auto table = exchange::table_of(**recording, *names);
  if (!table) return say_error(table.failure().text()), kWrongInput;
  const std::string own = std::filesystem::path(run).filename().string();
  table->title = own;
  std::vector<std::pair<std::string, std::string>> files;
  if (what == "comtrade") {
    const auto written = exchange::to_comtrade(*table, arguments.has(Option::binary));
    if (!written) return say_error(written.failure().text()), kWrongInput;
    std::string base = arguments.value(Option::out).value_or(own);
    if (base.ends_with(".cfg")) base.resize(base.size() - 4);
    files = {{base + ".cfg", written->cfg}, {base + ".dat", written->dat}};
  } else {
    const std::string text = what == "csv" ? exchange::to_csv(*table) : exchange::to_vcd(*table);
    if (!arguments.has(Option::out)) {
      put(stdout, text);
      for (const std::string& r : table->remarks) say_aside(r);
      return kHeld;
    }
    files = {{*arguments.value(Option::out), text}};
  }
  std::string all;
  for (const auto& [file, text] : files) {
    const Status written = write_file(file, text);
    if (!written) return say_error(written.failure().text()), kNotCompleted;
    list_on(all, file);
  }
  say_aside(fmt::format("wrote {}: {}, {}", all, counted(names->size(), "signal"),
                        counted(table->times_ns.size(), "instant")));
  for (const std::string& r : table->remarks) say_aside("  " + r);
  return kHeld;
}

}  // namespace

int run_export(const Arguments& arguments) {
  const std::string& what = arguments.words[0];
  std::optional<std::string> text;
  int status = kHeld;
  if (what == "c") return export_c(arguments);
  if (what == "csv" || what == "comtrade" || what == "vcd") return export_recording(arguments);
  if (what == "header" || what == "layout" || what == "reqif") {
    text = contract_of(arguments, status);
  } else if (what == "textmate") {
    text = exchange::textmate_grammar();
  } else if (what == "vim") {
    text = exchange::vim_syntax();
  } else {
    const auto meant =
        did_you_mean(what, {"header", "layout", "c", "reqif", "csv", "comtrade", "vcd", "textmate", "vim"});
    say_error(fmt::format(
        "cannot export `{}`; {}", what,
        meant.value_or("what can be exported: header, layout, c, reqif, csv, comtrade, vcd, textmate, vim")));
    return kWrongInput;
  }
  if (!text) return status;
  const auto out = arguments.value(Option::out);
  if (!out) {
    put(stdout, *text);
    return kHeld;
  }
  const Status written = write_file(*out, *text);
  if (!written) {
    say_error(written.failure().text());
    return kNotCompleted;
  }
  say_aside(fmt::format("wrote {}", *out));
  return kHeld;
}

}  // namespace isodyne::app
