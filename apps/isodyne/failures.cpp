// failures: what a bench's tables of failure modes say, and what its runs say to that.

#include <filesystem>
#include <map>

#include <fmt/format.h>

#include "failure_templates.h"
#include "interruption.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/exchange/workbook.h"
#include "isodyne/session/failure_runs.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace {

namespace fs = std::filesystem;
using session::FailureFinding;
using session::FailureResult;
using session::FailureRow;
using session::FailureTable;
using Align = TextTable::Align;

bool is_workbook(const std::string& file) {
  return lower_case(fs::path(file).extension().string()) == ".xlsx";
}

/// A table, and the file that it is from.
struct Source {
  std::string file, text;  ///< of a workbook no text
  Csv csv;
  bool there = false;
};

Result<Source> read_source(const std::string& file) {
  Source source{file, "", {}, true};
  if (is_workbook(file)) {
    auto book = exchange::read_workbook(file);
    if (!book) return book.failure();
    if (book->formulas > 0)
      say_aside(fmt::format("{}: of {} the stored values were taken", file, counted(book->formulas, "formula")));
    if (book->sheets > 1)
      say_aside(fmt::format("{}: {} was read, the first of {} sheets", file, book->sheet, book->sheets));
    source.csv = std::move(book->table);
    return source;
  }
  auto text = read_file(file);
  if (!text) return text.failure();
  source.text = std::move(*text);
  source.csv = read_csv(source.text);
  return source;
}

struct Work {
  std::shared_ptr<const session::Bench> bench;
  std::vector<FailureTable> tables;
  std::vector<Source> sources;  ///< of each table; not there: all rows are in the bench
  session::FailureFindings findings;
  bool ran = false;
  const FailureFinding* finding(std::size_t table, std::size_t row) const {
    if (!ran || !findings.of[table][row]) return nullptr;
    return &*findings.of[table][row];
  }
};

bool read_tables(const Arguments& arguments, Work& work) {
  const auto& all = work.bench->program->failure_modes;
  const std::string wanted = arguments.words.size() > 1 ? arguments.words[1] : "";
  std::vector<std::string> names;
  for (const program::FailureModes& f : all) names.push_back(f.name);
  if (all.empty())
    return say_error(fmt::format("the bench has no table of failure modes; `isodyne failures {} --template ratings` "
                                 "says how one begins",
                                 arguments.words[0])),
           false;
  if (!wanted.empty() && !contains(names, wanted)) {
    const auto meant = did_you_mean(wanted, names);
    return say_error(fmt::format("there is no table `{}`; {}", wanted, meant ? *meant : "there are: " + listed(names))),
           false;
  }
  for (const program::FailureModes& f : all) {
    if (!wanted.empty() && f.name != wanted) continue;
    Source source;
    if (!f.file.empty()) {
      auto read = read_source((fs::path(work.bench->place()) / f.file).string());
      if (!read) return say_error(read.failure().text()), false;
      source = std::move(*read);
    }
    auto table = session::read_failures(*work.bench, f, source.there ? &source.csv : nullptr);
    if (!table) return say_error(table.failure().text()), false;
    work.tables.push_back(std::move(*table));
    work.sources.push_back(std::move(source));
  }
  return true;
}

/// What people call it: its first two columns of text.
std::string called(const FailureTable& table, const FailureRow& row) {
  std::string text;
  int taken = 0;
  for (std::size_t i = 0; i < table.titles.size() && taken < 2; ++i) {
    const std::string plain = session::plain_title(table.titles[i]);
    const bool link = plain == "fault" || plain == "scenario" || plain == "requirement" || plain == "noticed_by";
    const bool typed =
        std::any_of(table.of->typed.begin(), table.of->typed.end(), [&](const auto& c) { return c.name == plain; });
    if (link || typed) continue;
    ++taken;
    if (!row.cells[i].empty()) list_on(text, one_line(row.cells[i]), ": ");
  }
  return text;
}

std::string timed(const std::string& what, const std::optional<double>& after_s) {
  if (what.empty()) return "–";
  return after_s ? fmt::format("{} after {} s", what, format_number(*after_s)) : what;
}

const char* colour_of(FailureResult result) {
  switch (result) {
    case FailureResult::missed:
      return "1;31";
    case FailureResult::detected:
    case FailureResult::no_answer:
      return "33";
    case FailureResult::mitigated:
      return "32";
    default:
      return "";
  }
}

void show_found(const Work& work, std::size_t t) {
  const FailureTable& table = work.tables[t];
  bool any_changed = false;
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    const FailureFinding* f = work.finding(t, r);
    any_changed = any_changed || (f != nullptr && !session::changed_text(table.rows[r], *f).empty());
  }
  std::vector<TextTable::Column> columns{{"Row"},     {"Failure"}, {"Fault"},        {"Result"},
                                         {"Noticed"}, {"Broken"},  {"Least margin"}, {"Without"}};
  if (any_changed) columns.push_back({"Changed"});
  TextTable out(columns);
  const auto or_none = [](const std::string& text) { return text.empty() ? "–" : text; };
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    const FailureRow& row = table.rows[r];
    std::vector<std::string> cells{row.name, called(table, row), or_none(table.cell(row, "fault"))};
    const FailureFinding* f = work.finding(t, r);
    if (f == nullptr) {
      cells.push_back(!row.wrong.empty() ? "wrong" : row.faults.empty() ? "no fault" : "not run");
      cells.resize(8, "–");
      cells.resize(columns.size());
      out.row(std::move(cells));
      continue;
    }
    cells.insert(cells.end(),
                 {session::failure_word(f->result), timed(f->noticed_by, f->noticed_after_s),
                  timed(listed(f->broken), f->broken_after_s), or_none(f->margin), or_none(f->margin_without)});
    if (any_changed) cells.push_back(session::changed_text(row, *f));
    out.row(std::move(cells), colour_of(f->result), 3);
  }
  if (!out.empty()) put(stdout, out.text(width_of(stdout), colours_on(stdout)));
}

void show_rows(const Work& work, std::size_t t) {
  const FailureTable& table = work.tables[t];
  std::vector<TextTable::Column> columns{{"Row"}, {"Failure"}, {"Fault"}, {"Scenario"}};
  for (const std::string& c : table.computed) columns.push_back({c, Align::right});
  columns.push_back({"Last run"});
  TextTable out(columns);
  for (const FailureRow& row : table.rows) {
    std::vector<std::string> cells{
        row.name, called(table, row), table.cell(row, "fault"),
        row.scenario == program::kNone ? "–" : at(work.bench->program->scenarios, row.scenario).name};
    for (const std::string& c : row.computed) cells.push_back(c.empty() ? "–" : c);
    cells.resize(columns.size() - 1);
    cells.push_back(row.was.empty() ? "–" : row.outdated() ? row.was + ", before a change" : row.was);
    out.row(std::move(cells));
  }
  if (!out.empty()) put(stdout, out.text(width_of(stdout), colours_on(stdout)));
}

/// What is wrong, what has no fault and what no row is about. Whether all rows are as they should be.
bool say_gaps(const Work& work, bool whole, bool wrong_only) {
  std::size_t wrong = 0;
  for (std::size_t t = 0; t < work.tables.size(); ++t) {
    std::string without;
    for (const FailureRow& row : work.tables[t].rows) {
      if (row.wrong.empty() && row.faults.empty()) list_on(without, row.name);
      for (const std::string& why : row.wrong)
        say_error(fmt::format("{}, row {}: {}", work.tables[t].name, row.name, why));
      wrong += row.wrong.empty() ? 0 : 1;
    }
    if (!without.empty() && !wrong_only) say(fmt::format("Rows without a fault, which no run can show: {}", without));
  }
  const auto nobody = session::faults_without_row(*work.bench->program, work.tables);
  if (whole && !wrong_only && !nobody.empty()) say(fmt::format("Faults that no row is about: {}", listed(nobody)));
  return wrong == 0;
}

void say_counts(const Work& work) {
  std::map<FailureResult, std::size_t> counts;
  std::size_t rows = 0, changed = 0;
  for (std::size_t t = 0; t < work.tables.size(); ++t) {
    for (std::size_t r = 0; r < work.tables[t].rows.size(); ++r) {
      const FailureFinding* f = work.finding(t, r);
      if (f == nullptr) continue;
      ++rows, ++counts[f->result];
      changed += session::changed_text(work.tables[t].rows[r], *f).empty() ? 0 : 1;
    }
  }
  std::string text;
  for (const auto& [result, n] : counts) list_on(text, fmt::format("{} {}", n, session::failure_word(result)));
  say(fmt::format("{} in {}: {}{}", counted(rows, "failure"), counted(work.findings.runs, "run"), text,
                  changed > 0 ? fmt::format("; {} changed", changed) : ""));
  for (std::size_t t = 0; t < work.tables.size(); ++t) {
    for (std::size_t r = 0; r < work.tables[t].rows.size(); ++r) {
      const FailureFinding* f = work.finding(t, r);
      if (f != nullptr && !f->why.empty()) say_aside(fmt::format("{}: {}", work.tables[t].rows[r].name, f->why));
    }
  }
}

/// Titles and rows of a table, with all that was found.
std::vector<std::vector<std::string>> grid(const Work& work, std::size_t t, bool ran) {
  const FailureTable& table = work.tables[t];
  std::vector<std::vector<std::string>> lines{{"row"}};
  lines[0].insert(lines[0].end(), table.titles.begin(), table.titles.end());
  const session::WrittenCells titles =
      session::written_cells(table, table.rows.empty() ? FailureRow{} : table.rows[0], FailureFinding{});
  for (const auto& [title, none] : titles) {
    if (ran || contains(table.computed, title)) lines[0].push_back(title);
  }
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    const FailureRow& row = table.rows[r];
    std::vector<std::string> line{row.name};
    line.insert(line.end(), row.cells.begin(), row.cells.end());
    line.insert(line.end(), row.computed.begin(), row.computed.end());
    if (const FailureFinding* f = work.finding(t, r)) {
      const auto cells = session::written_cells(table, row, *f);
      for (std::size_t i = row.computed.size(); i < cells.size(); ++i) line.push_back(cells[i].second);
    }
    line.resize(lines[0].size());
    lines.push_back(std::move(line));
  }
  return lines;
}

std::string as_csv(const Work& work, std::size_t t) {
  std::string text;
  for (const auto& line : grid(work, t, work.ran)) text += csv_line(line);
  return text;
}

Status write_as_workbook(const Work& work, std::size_t t, const std::string& file) {
  auto lines = grid(work, t, work.ran);
  exchange::Sheet sheet;
  sheet.name = work.tables[t].name;
  for (std::size_t c = 0; c < lines[0].size(); ++c) {
    std::size_t widest = lines[0][c].size();
    for (std::size_t r = 1; r < std::min<std::size_t>(lines.size(), 1000); ++r)
      widest = std::max(widest, display_width(lines[r][c]));
    sheet.columns.push_back({lines[0][c], static_cast<double>(std::min<std::size_t>(widest + 2, 48))});
  }
  for (std::size_t r = 1; r < lines.size(); ++r) {
    const FailureFinding* f = work.finding(t, r - 1);
    sheet.shades.push_back(f == nullptr                            ? 0
                           : f->result == FailureResult::missed    ? 3
                           : f->result == FailureResult::mitigated ? 1
                           : f->result == FailureResult::harmless  ? 0
                                                                   : 2);
    sheet.rows.push_back(std::move(lines[r]));
  }
  return exchange::write_workbook(file, sheet);
}

/// Into the file that the rows are from: only what runs came to, and what is computed.
std::string written_back(const Work& work, std::size_t t) {
  std::vector<std::pair<std::size_t, session::WrittenCells>> cells;
  const FailureTable& table = work.tables[t];
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    const FailureFinding* f = work.finding(t, r);
    if (f != nullptr && table.rows[r].at_record != FailureRow::kNowhere)
      cells.emplace_back(table.rows[r].at_record, session::written_cells(table, table.rows[r], *f));
  }
  return session::written_into(work.sources[t].text, work.sources[t].csv, cells);
}

bool told(const Status& written, const std::string& file) {
  if (!written) return say_error(written.failure().text()), false;
  return say_aside(fmt::format("Written to {}", file)), true;  // the table may go on to another program
}

/// A bench of somebody else may name any file, and only its own are written into.
bool is_beside(const program::FailureModes& table) {
  const fs::path file(table.file);
  return file.is_relative() && *file.begin() != "..";
}

/// Who edited the file meanwhile does not lose it.
bool write_back(const Work& work, std::size_t t) {
  const Source& source = work.sources[t];
  const auto now = read_file(source.file);
  if (now && *now == source.text) return told(write_file(source.file, written_back(work, t)), source.file);
  const std::string beside = fs::path(source.file).replace_extension("run.csv").string();
  say_error(fmt::format("{} was changed while the runs went on, and is left as it is now", source.file));
  (void)told(write_file(beside, as_csv(work, t)), beside);
  return false;
}

/// Whether --out may be replaced: it is there, and has nothing that would be lost. Takes what it has from earlier runs.
bool may_replace(Work& work, const std::string& out, bool run) {
  std::error_code none;
  if (out.empty() || !fs::exists(out, none)) return true;
  if (work.sources[0].there && fs::equivalent(out, work.sources[0].file, none))
    return say_error(
               fmt::format("{} is where the rows are from; without --out, what runs come to is written into it", out)),
           false;
  const auto earlier = read_source(out);
  const auto titles = grid(work, 0, run).front();
  const bool ours =
      earlier && earlier->csv.trouble.empty() && !earlier->csv.rows.empty() && earlier->csv.rows[0].text(0) == "row";
  if (!ours) return say_error(fmt::format("{} is there, and no table of failure modes; name another file", out)), false;
  for (const CsvField& f : earlier->csv.rows[0].fields) {
    if (!contains(titles, f.text))
      return say_error(fmt::format("{} has a column `{}`, which would be lost; {}", out, f.text,
                                   f.text.starts_with("run ") ? "with --run it is written anew" : "name another file")),
             false;
  }
  session::take_earlier(work.tables[0], earlier->csv);
  return true;
}

bool keep(const Work& work, const std::string& out) {
  if (!out.empty()) {
    return told(is_workbook(out) ? write_as_workbook(work, 0, out) : write_file(out, as_csv(work, 0)), out);
  }
  bool good = true;
  for (std::size_t t = 0; t < work.tables.size() && work.ran; ++t) {
    const Source& source = work.sources[t];
    const bool beside = is_beside(*work.tables[t].of), book = is_workbook(source.file);
    if (source.there && !book && beside) {
      good = write_back(work, t) && good;
      continue;
    }
    say_aside(fmt::format("What the runs came to is kept nowhere: --out FILE.xlsx or FILE.csv keeps it ({})",
                          !source.there ? "the rows are in the bench"
                          : book        ? "a workbook is left as it is"
                                        : "the file is not in the folder of the bench"));
  }
  return good;
}

bool run_them(const Arguments& arguments, Work& work) {
  session::FailureWish wish;
  wish.bench = work.bench;
  if (!read_seed(arguments, wish.seed)) return false;
  if (!read_setting(arguments, *work.bench->program, wish.setting)) return false;
  if (!read_answer_within(arguments, wish.answer_within)) return false;
  wish.each_alone = arguments.has(Option::each_alone);
  if (!read_whole(arguments, Option::jobs, 64, wish.jobs)) return false;
  note_interruptions();
  ProgressLine progress;
  work.findings = session::run_failures(wish, work.tables, [&](const session::FailureNews& n) {
    if (progress.due())
      progress.draw(static_cast<double>(n.done) / static_cast<double>(n.all),
                    fmt::format("{} of {} runs", n.done, n.all));
    return !interrupted();
  });
  progress.clear();
  work.ran = true;
  if (!work.findings.alone.empty()) say_aside("No beginnings were shared: " + work.findings.alone);
  return true;
}

int status_of(const Work& work, bool rows_good) {
  if (!rows_good) return kWrongInput;
  if (!work.ran) return kHeld;
  bool broken = false, unanswered = work.findings.stopped;
  for (std::size_t t = 0; t < work.tables.size(); ++t) {
    for (std::size_t r = 0; r < work.tables[t].rows.size(); ++r) {
      const FailureFinding* f = work.finding(t, r);
      if (f == nullptr) continue;
      broken = broken || !f->broken.empty();
      unanswered = unanswered || f->result == FailureResult::no_answer;
    }
  }
  return unanswered ? kNotCompleted : broken ? kBroken : kHeld;
}

/// What is asked for in two ways at once, or is about something else.
bool fits_together(const Arguments& arguments) {
  const auto wrong = [](const std::string& text) { return say_error(text), false; };
  if (arguments.has(Option::template_)) {
    if (arguments.words.size() > 1)
      return wrong("--template is about a table that is not there yet: leave out its name");
    for (const Option option : {Option::run, Option::csv}) {
      if (arguments.has(option))
        return wrong(fmt::format("--template says how a table begins: leave out {}", spelled(option)));
    }
  }
  for (const Option option : {Option::setting, Option::seed, Option::jobs, Option::each_alone, Option::answer_within}) {
    if (!arguments.has(Option::run) && arguments.has(option))
      return wrong(fmt::format("{} is about --run", spelled(option)));
  }
  return true;
}

}  // namespace

int run_failures(const Arguments& arguments) {
  if (!fits_together(arguments)) return kWrongInput;
  const check::Loaded loaded = load_file(arguments.words[0]);
  print_diagnostics(loaded, arguments.words[0]);
  if (loaded.program == nullptr) return kWrongInput;
  Work work;
  work.bench = session::bench_of(loaded, folder_of(arguments.words[0]));
  if (const auto kind = arguments.value(Option::template_))
    return say_failure_template(*work.bench, *kind, arguments.value(Option::out).value_or(""));
  if (!read_tables(arguments, work)) return kWrongInput;
  const std::string out = arguments.value(Option::out).value_or("");
  for (const Option option : {Option::out, Option::csv}) {
    if (work.tables.size() > 1 && arguments.has(option))
      return say_error(fmt::format("{} is of one table; name which: isodyne failures BENCH TABLE", spelled(option))),
             kWrongInput;
  }
  if (!may_replace(work, out, arguments.has(Option::run))) return kWrongInput;
  if (arguments.has(Option::run) && !run_them(arguments, work)) return kWrongInput;
  const bool csv = arguments.has(Option::csv);
  for (std::size_t t = 0; t < work.tables.size(); ++t) {
    if (csv) {
      put(stdout, as_csv(work, t));
      continue;
    }
    if (work.tables.size() > 1) say(work.tables[t].name + ":");
    work.ran ? show_found(work, t) : show_rows(work, t);
  }
  if (!csv && work.ran) say_counts(work);
  const bool rows_good = say_gaps(work, arguments.words.size() < 2, csv);
  if (work.findings.stopped) say_aside("Not all were run: nothing is written.");
  if (!work.findings.stopped && !keep(work, out)) return kNotCompleted;
  return status_of(work, rows_good);
}

}  // namespace isodyne::app
