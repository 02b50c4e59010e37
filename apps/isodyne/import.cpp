// import: what others wrote. Requirements out of an exchange file, as a text of the language; measurements as a run.

#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/exchange/reqif.h"
#include "isodyne/exchange/signal_table.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/summary.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;

namespace {

int import_requirements(const Arguments& arguments) {
  const std::string& file = arguments.words[1];
  const auto text = read_file(file);
  if (!text) {
    say_error(text.failure().text());
    return kWrongInput;
  }
  const auto requirements = exchange::from_reqif(file, *text);
  if (!requirements) {
    say_error(requirements.failure().text());
    return kWrongInput;
  }
  const std::string rules = exchange::rules_text(*requirements, file.substr(file.rfind('/') + 1));
  std::size_t without = 0, unread = 0;
  for (const auto& r : *requirements) {
    without += r.formula.empty() ? 1 : 0;
    unread += r.unread.empty() ? 0 : 1;
  }
  const auto out = arguments.value(Option::out);
  if (!out) {
    put(stdout, rules);
  } else {
    const Status written = write_new_file(*out, rules);
    if (!written) {
      say_error(written.failure().text());
      return kNotCompleted;
    }
  }
  say_aside(fmt::format("{}{}{}", counted(requirements->size(), "requirement"), out ? " in " + *out : "",
                        without > 0 ? fmt::format("; {} without a formula, which are `by review`", without) : ""));
  if (unread > 0)
    say_aside(fmt::format("{} a formula that is not in our language: it stands there as a comment",
                          unread == 1 ? "1 of them has" : fmt::format("{} of them have", unread)));
  return kHeld;
}

/// The other file of a COMTRADE pair lies beside it.
Result<exchange::SignalTable> read_comtrade(const std::string& file) {
  const bool by_data = fs::path(file).extension() == ".dat" || fs::path(file).extension() == ".DAT";
  const bool capitals = fs::path(file).extension() == ".CFG" || fs::path(file).extension() == ".DAT";
  const std::string cfg_name = fs::path(file).replace_extension(capitals ? ".CFG" : ".cfg").string(),
                    dat_name = fs::path(file).replace_extension(capitals ? ".DAT" : ".dat").string();
  const auto cfg = read_file(by_data ? cfg_name : file);
  if (!cfg) return cfg.failure();
  const auto dat = read_file(by_data ? file : dat_name);
  if (!dat) return dat.failure();
  return exchange::from_comtrade(by_data ? cfg_name : file, {*cfg, *dat});
}

Result<exchange::SignalTable> read_table(const std::string& what, const std::string& file) {
  if (what == "comtrade") return read_comtrade(file);
  const auto text = read_file(file);
  if (!text) return text.failure();
  return what == "csv" ? exchange::from_csv(file, *text) : exchange::from_vcd(file, *text);
}

int import_measurements(const Arguments& arguments) {
  const std::string& file = arguments.words[1];
  auto table = read_table(arguments.words[0], file);
  if (!table) return say_error(table.failure().text()), kWrongInput;
  const auto folder =
      session::make_run_folder(arguments.value(Option::out).value_or(""), fs::path(file).stem().string());
  if (!folder) return say_error(folder.failure().text()), kNotCompleted;
  const Status written =
      exchange::write_table((fs::path(*folder) / "recording.h5").string(), fs::path(file).filename().string(), *table);
  if (!written) {
    std::error_code error;
    fs::remove_all(*folder, error);
    return say_error(written.failure().text()), kWrongInput;
  }
  for (const std::string& r : table->remarks) say_aside("  " + r);
  say(fmt::format("{}: {}, {}, from {} to {}", *folder, counted(table->columns.size(), "signal"),
                  counted(table->times_ns.size(), "instant"), format_instant(Time{table->times_ns.front()}),
                  format_instant(Time{table->times_ns.back()})));
  return kHeld;
}

}  // namespace

int run_import(const Arguments& arguments) {
  const std::string& what = arguments.words[0];
  if (what == "reqif") return import_requirements(arguments);
  if (what == "csv" || what == "comtrade" || what == "vcd") return import_measurements(arguments);
  const auto meant = did_you_mean(what, {"reqif", "csv", "comtrade", "vcd"});
  say_error(
      fmt::format("cannot import `{}`; {}", what, meant.value_or("what can be imported: reqif, csv, comtrade, vcd")));
  return kWrongInput;
}

}  // namespace isodyne::app
