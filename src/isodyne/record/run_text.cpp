#include "isodyne/record/run_text.h"

#include <algorithm>
#include <charconv>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/record/recording.h"

namespace isodyne::record {

namespace fs = std::filesystem;

namespace {

Result<std::unique_ptr<Recording>> opened(const std::string& run) {
  std::error_code none;
  return Recording::open(fs::is_directory(run, none) ? (fs::path(run) / "recording.h5").string() : run);
}

Result<std::string> signal_text(const std::string& run, const std::string& signal) {
  const auto recording = opened(run);
  if (!recording) return recording.failure();
  const auto values = (*recording)->signal(signal);
  if (!values) {
    const auto meant = did_you_mean(signal, (*recording)->names());
    return Failure{"cannot read the signal", signal,
                   fmt::format("{} has not recorded it{}", run, meant ? "; " + *meant : "")};
  }
  const SignalUnit unit = (*recording)->unit(signal);
  const bool scale = unit.offset != 0;  // an absolute temperature: its zero is part of the unit
  // Truths, whole numbers and choices are plain numbers here.
  const bool plain = unit.si == "bool" || unit.si == "int" || unit.si.find('|') != std::string::npos;
  std::string text = fmt::format("t [s],{} [{}]\n", signal, plain ? "1" : scale ? unit.read_in : unit.si);
  const Instants& times = (*recording)->times_of(signal);
  for (std::size_t i = 0; i < times.size(); ++i) {
    const double v = scale ? ((*values)[i] - unit.offset) / unit.factor : (*values)[i];
    text += format_exact(to_seconds(Time{times[i]})) + "," + format_exact(v) + "\n";
  }
  return text;
}

Result<std::string> state_text(const std::string& run, std::int64_t at_ns) {
  const auto recording = opened(run);
  if (!recording) return recording.failure();
  const Instants& times = (*recording)->times();
  const std::size_t until = times.until(at_ns);
  if (until == 0 || (until == times.size() && times.back() != at_ns))
    return Failure{"cannot start from", run,
                   times.empty() ? "nothing was recorded"
                                 : fmt::format("it goes from {} to {}", format_instant(Time{times.front()}),
                                               format_instant(Time{times.back()}))};
  const std::int64_t at = times[until - 1];
  std::string text = fmt::format("name,value at {} ns\n", at);
  for (const std::string& name : (*recording)->names()) {
    // What is recorded more seldom is as old as its last instant; what was kept around some instants only may be
    // missing.
    const std::size_t row = (*recording)->times_of(name).until(at);
    double value = 0;
    if (row == 0 || !(*recording)->throughout(name) || !(*recording)->read(name, row - 1, 1, &value)) continue;
    text += csv_line({name, format_exact(value)});
  }
  return text;
}

}  // namespace

std::optional<Result<std::string>> text_from_run(const std::string& name) {
  std::error_code none;
  if (fs::exists(name, none)) return std::nullopt;
  const std::size_t at = name.find_last_of("#@");
  if (at == std::string::npos) return std::nullopt;
  const std::string run = name.substr(0, at), rest = name.substr(at + 1);
  if (name[at] == '#') return signal_text(run, rest);
  std::int64_t ns = 0;
  if (std::from_chars(rest.data(), rest.data() + rest.size(), ns).ptr != rest.data() + rest.size()) return std::nullopt;
  return state_text(run, ns);
}

}  // namespace isodyne::record
