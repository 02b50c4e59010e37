// Tables of failure modes: what is read from them, what runs say to each row, and what is written back.

#include <sstream>

#include <fmt/format.h>
#include <xlsxwriter.h>
#include <catch2/catch.hpp>

#include "isodyne/core/text.h"
#include "isodyne/exchange/workbook.h"
#include "isodyne/session/failure_runs.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using session::FailureResult;

namespace {

/// A tank that is filled and guarded: the guard closes the inflow when its float says 0.9 m, and shows a lamp. The
/// level is 0.1 m/s · t until then.
std::string guarded_tank(const std::string& table) {
  return "bench Tank {\n  step 10 ms  method rk4\n  param flow : m/s = 0.1 m/s\n  input leak : m/s = 0 m/s\n"
         "  state level : m = 0 m\n  memory shut : bool = false\n  memory lamp : bool = false\n"
         "  let float : m = level\n  let valve : bool = shut\n  let near : bool = level > 0.5 m\n"
         "  level' = (if gate then 0 m/s else flow) - leak\n  let gate : bool = valve\n"
         "  sensor gauge { of float  every 10 ms }\n"
         "  every 10 ms {\n    shut := shut or gauge > 0.9 m\n    lamp := gauge > 0.9 m or gauge < -0.1 m\n  }\n}\n"
         "fault low { on gauge  offset -0.3 m  from 2 s }\n"
         "fault wild { on gauge  offset -5 m  from 4 s }\n"
         "fault quick { on flow  times 2  from 5 s }\n"
         "fault calm { on gauge  noise 1 mm  from 1 s }\n"
         "fault never { on gauge  freeze  once level > 50 m }\n"
         "fault early { on gauge  offset 0.5 m  from 3 s }\n"
         "fault more { on flow  times 3  by hand }\n"
         "fault nobody { on flow  freeze }\n"
         "requirement high { always level <= 1 m }\n"
         "requirement soon { whenever level > 0.2 m then within 15 s lamp }\n"
         "requirement other { whenever level > 5 m then within 1 s lamp }\n"
         "scenario fill { hold 8 s }\nscenario over { hold 20 s }\n"
         "scenario pushed { hold 2 s\n  inject more\n  hold 6 s\n}\n" +
         table;
}

const char* const kTable =
    "failure_modes tank from \"rows.csv\" {\n  param severity : int  from 1 to 10\n  param rate : 1/h\n"
    "  let risk = severity * (rate * 1e6 h)\n  scenario fill\n  requirement high\n  noticed by lamp\n}\n";

std::string column(const TestFolder& folder, const std::string& row, const std::string& title) {
  return cell_of(slurp(folder / "rows.csv"), row, title);
}

}  // namespace

TEST_CASE("Each row of a table of failure modes is run, and what came of it is written back beside what people wrote") {
  const TestFolder folder;
  folder.write("bench.dyne", guarded_tank(kTable));
  // As a spreadsheet of somebody else saves it: a mark in front, semicolons, decimal commas, quotes, empty columns.
  const std::string before =
      "\xef\xbb\xbfRow;Item;\"Failure mode\";Severity;rate;fault;Note\r\n"
      "A;gauge;\"low; by a third\";7;2,5e-6 1/h;low;\"says \"\"low\"\"\"\r\n"
      "B;gauge;wild;5;;wild;\r\n"
      "C;pump;quick;1;1e-6;quick;  kept as it is  \r\n"
      "\r\n"
      "D;gauge;trembles;;;calm;\r\n"
      "E;gauge;never;10;1e-6;never;;;\r\n"
      "F;door;open;3;1e-6\r\n"
      "G;gauge;early;2;1e-6;early;";
  folder.write("rows.csv", before);
  const Output listed = run_isodyne("failures bench.dyne", folder.path());
  INFO(listed.out << listed.err);
  CHECK(listed.status == 0);
  shows(listed.out, "Rows without a fault, which no run can show: F");
  shows(listed.out, "Faults that no row is about: more, nobody");
  CHECK(slurp(folder / "rows.csv") == before);
  const Output ran = run_isodyne("failures bench.dyne --run", folder.path());
  INFO(ran.out << ran.err);
  CHECK(ran.status == 0);  // within eight seconds nothing is higher than 1 m …
  const std::string after = slurp(folder / "rows.csv");
  // 0.7 m was said at 10 s only; the lamp comes for what is below −0.1 m.
  CHECK(column(folder, "A", "run result") == "harmless");
  CHECK(column(folder, "A", "risk") == "17.5");
  CHECK(column(folder, "B", "run result") == "mitigated");
  CHECK(column(folder, "B", "run noticed by") == "lamp");
  CHECK(column(folder, "B", "run noticed after") == "0 s");
  CHECK(column(folder, "B", "risk").empty());  // there is no rate
  CHECK(column(folder, "C", "run result") == "mitigated");
  CHECK(column(folder, "D", "run result") == "harmless");
  CHECK(column(folder, "E", "run result") == "not reached");
  CHECK(column(folder, "F", "run result").empty());
  CHECK(column(folder, "G", "run noticed after") == "1 s");  // 0.4 m are reached at 4 s, and seen then
  for (const char* kept : {"\xef\xbb\xbfRow;Item;\"Failure mode\";Severity;rate;fault;Note;",
                           "\r\nA;gauge;\"low; by a third\";7;2,5e-6 1/h;low;\"says \"\"low\"\"\";",
                           ";quick;  kept as it is", "\r\n\r\nD;gauge", "\r\nF;door;open;3;1e-6\r\n"})
    shows(after, kept);
  // The same once more changes nothing: not a byte.
  CHECK(run_isodyne("failures bench.dyne --run --each-alone", folder.path()).status == 0);
  CHECK(slurp(folder / "rows.csv") == after);
  // For longer it comes to something else, and that is marked.
  std::string longer = guarded_tank(kTable);
  longer.replace(longer.find("scenario fill\n"), 13, "scenario over");
  folder.write("bench.dyne", longer);
  const Output again = run_isodyne("failures bench.dyne --run", folder.path());
  INFO(again.out << again.err);
  CHECK(again.status == 1);
  CHECK(column(folder, "A", "run result") == "missed");
  CHECK(column(folder, "A", "run changed") == "was harmless");
  CHECK(column(folder, "A", "run broken") == "high");
  CHECK(column(folder, "A", "run broken after") == "8 s");
  // In the healthy run the lamp comes at 9.01 s: it tells nothing.
  CHECK(column(folder, "B", "run result") == "missed");
  shows(column(folder, "B", "run remark"), "lamp comes without the failure too");
  shows(again.out, "changed");
}

TEST_CASE(
    "What a scenario does by itself is not taken for the run without it, and what is broken anyway counts for nobody") {
  const TestFolder folder;
  folder.write("bench.dyne", guarded_tank("failure_modes t {\n  noticed by near\n"
                                          "  row P { scenario pushed  fault more  requirement high }\n"
                                          "  row Q { scenario over  fault low  requirement other }\n"
                                          "  row S { scenario fill  fault calm  requirement soon }\n"
                                          "  row T { scenario over  fault wild  noticed by lamp }\n}\n"
                                          "requirement flat { never level > 0.3 m }\n"));
  const Output ran = run_isodyne("failures bench.dyne --run --out rows.csv", folder.path());
  INFO(ran.out << ran.err);
  CHECK(ran.status == 3);
  // Without the push: 0.8 m after eight seconds. With it: 0.2 m + 0.3 m/s · 6 s, but for the guard: 0.9 m and a step.
  CHECK(column(folder, "P", "run result") == "harmless");
  shows(column(folder, "P", "run remark"), "near comes without the failure too");
  CHECK(column(folder, "P", "run margin without") == "0.2 m");
  CHECK(column(folder, "Q", "run result") == "no answer");
  shows(column(folder, "Q", "run remark"), "none of its requirements was put to the test and decided");
  CHECK(column(folder, "S", "run result") == "no answer");
  shows(column(folder, "S", "run remark"), "none of its requirements was put to the test and decided");
  shows(column(folder, "T", "run remark"), "flat broken without the failure too: not counted");
  CHECK(column(folder, "T", "run result") == "missed");
}

TEST_CASE("A row that is wrong is told, and the others are run") {
  const TestFolder folder;
  folder.write("bench.dyne", guarded_tank(kTable));
  folder.write("rows.csv",
               "row,severity,rate,fault,scenario,requirement,noticed by\n"
               "A,11,1e-6,lwo,,,\nB,seven,1e-6 m,low,fil,hihg,level\nC,2.5,,low,\"fill, over\",,\n"
               "C,2,,early,,,\nD,3,,early,,,lamp,behind\nE,3,,low,fill,,\n");
  const Output said = run_isodyne("failures bench.dyne", folder.path());
  INFO(said.out << said.err);
  CHECK(said.status == 2);
  for (const char* text :
       {"row A: there is no fault `lwo`; did you mean `low`?", "row A: `11` in severity: it can be 1 to 10",
        "row B: there is no scenario `fil`", "row B: there is no requirement `hihg`; did you mean `high`?",
        "row B: noticed by `level`: the bench has no truth of that name",
        "row B: `seven` in severity: that is no number", "row B: `1e-6 m` in rate: its unit is 1/h",
        "row C: `2.5` in severity: whole numbers stand there", "row C: a row is run in one scenario",
        "row C: another row has the same name", "row D: it has 8 columns, and 7 have a title"})
    shows(said.err, text);
  const Output ran = run_isodyne("failures bench.dyne --run --csv", folder.path());
  CHECK(ran.status == 2);
  CHECK(column(folder, "E", "run result") == "harmless");
  for (const auto& [text, why] :
       std::vector<std::pair<std::string, std::string>>{{"row,item\nA,b\n", "none of its columns is called `fault`"},
                                                        {"", "it has no line of titles"},
                                                        {"row,fault,Fault\n", "two of its columns are called `Fault`"},
                                                        {"row,fault\n\"A,b\n", "a quote opens here that never closes"},
                                                        {std::string("row\0fault\n", 10), "this is no text"}}) {
    folder.write("rows.csv", text);
    const Output refused = run_isodyne("failures bench.dyne --run", folder.path());
    CHECK(refused.status == 2);
    shows(refused.err, why);
    CHECK(slurp(folder / "rows.csv") == text);
  }
  for (const auto& [title, why] : std::vector<std::pair<std::string, std::string>>{
           {"row,rate,fault", "none of its columns is called `severity`"},
           {"row,severity,rate,fault,requirements", "called `requirements`; `requirement` would be understood"},
           {"row,severity,rate,fault,scenarios", "`scenario` would be understood"}}) {
    folder.write("rows.csv", title + "\nA,3,1e-6,low,fill\n");
    shows(run_isodyne("failures bench.dyne", folder.path()).err, why);
  }
  shows(run_isodyne("failures bench.dyne tnak", folder.path()).err, "did you mean `tank`?");
}

TEST_CASE("A workbook is read as its cells are, and refused where they do not say which row they belong to") {
  const TestFolder folder;
  const auto book = [&](const std::function<void(lxw_worksheet*)>& more) {
    lxw_workbook* const b = workbook_new((folder / "rows.xlsx").c_str());
    lxw_worksheet* const s = workbook_add_worksheet(b, "Failures");
    workbook_add_worksheet(b, "More");
    const char* const titles[] = {"Row", "Severity", "Rate", "Fault", "Note"};
    for (lxw_col_t c = 0; c < 5; ++c) worksheet_write_string(s, 0, c, titles[c], nullptr);
    worksheet_write_string(s, 2, 0, "A", nullptr);
    worksheet_write_number(s, 2, 1, 7, nullptr);
    worksheet_write_number(s, 2, 2, 2e-6, nullptr);
    worksheet_write_string(s, 2, 3, "wild", nullptr);
    worksheet_write_string(s, 2, 4, "<&> \"ü\" =1+1", nullptr);
    more(s);
    REQUIRE(workbook_close(b) == LXW_NO_ERROR);
    return exchange::read_workbook(folder / "rows.xlsx");
  };
  const auto read = book([](lxw_worksheet* s) { worksheet_write_formula_num(s, 3, 1, "=B3+1", nullptr, 8); });
  REQUIRE(read);
  CHECK(read->sheet == "Failures");
  CHECK(read->sheets == 2);
  CHECK(read->formulas == 1);
  REQUIRE(read->table.rows.size() == 3);
  CHECK(read->table.rows[1].line == 3);
  CHECK(read->table.rows[1].text(2) == "2e-06");
  CHECK(read->table.rows[1].text(4) == "<&> \"ü\" =1+1");
  CHECK(read->table.rows[2].text(1) == "8");
  const auto merged = book([](lxw_worksheet* s) { worksheet_merge_range(s, 4, 0, 6, 0, "B", nullptr); });
  REQUIRE_FALSE(merged);
  shows(merged.failure().text(), "cells A5:A7 are merged");
  const auto error = book([](lxw_worksheet* s) { worksheet_write_formula_str(s, 4, 1, "=1/0", nullptr, "#DIV/0!"); });
  REQUIRE(error);  // as that library writes it, a text
  folder.write("rows.xlsx", "PK\x03\x04 no more");
  CHECK_FALSE(exchange::read_workbook(folder / "rows.xlsx"));
  CHECK_FALSE(exchange::read_workbook(folder / "nobody.xlsx"));

  // Through the program: in from one workbook, out to another, and back.
  std::string bench = guarded_tank(kTable);
  bench.replace(bench.find("rows.csv"), 8, "rows.xlsx");
  folder.write("bench.dyne", bench);
  (void)book([](lxw_worksheet*) {});
  const std::string before = slurp(folder / "rows.xlsx");
  const Output ran = run_isodyne("failures bench.dyne --run --out found.xlsx", folder.path());
  INFO(ran.out << ran.err);
  CHECK(ran.status == 0);
  shows(ran.err, "Failures was read, the first of 2 sheets");
  CHECK(slurp(folder / "rows.xlsx") == before);
  const auto found = exchange::read_workbook(folder / "found.xlsx");
  REQUIRE(found);
  std::string all;
  for (const CsvRow& r : found->table.rows) {
    for (const CsvField& f : r.fields) all += f.text + "|";
  }
  shows(all, "A|7|2e-06|wild|<&> \"ü\" =1+1|14|mitigated|lamp|0 s|");
}

TEST_CASE("A table of a hundred thousand rows is read, and what is written into it is found where it belongs") {
  std::string text = "row,fault,free,run result,severity,rate\n";
  for (int i = 0; i < 100'000; ++i) text += fmt::format("R{},{},\"a, {}\",,3,\n", i, i % 2 == 0 ? "wild" : "low", i);
  std::string table = kTable;
  const auto loaded = load_text(guarded_tank(table));
  REQUIRE(loaded.program);
  const auto bench = session::bench_of(loaded, "");
  const Csv csv = read_csv(text);
  const auto read = session::read_failures(*bench, loaded.program->failure_modes.at(0), &csv);
  REQUIRE(read);
  REQUIRE(read->rows.size() == 100'000);
  CHECK(read->cell(read->rows[99'999], "free") == "a, 99999");
  const std::string written =
      session::written_into(text, csv, {{100'000, {{"run result", "missed"}, {"run again", "x"}}}});
  CHECK(written.ends_with("R99999,low,\"a, 99999\",missed,3,,x\n"));
  CHECK(written.starts_with("row,fault,free,run result,severity,rate,run again\nR0,wild,\"a, 0\",,3,\n"));
}

TEST_CASE("A template of a table is one that can be run") {
  const TestFolder folder;
  for (const char* kind : {"ratings", "criticality", "diagnostics"}) {
    folder.write("bench.dyne", guarded_tank(""));
    const std::string file = std::string(kind) + ".csv";
    const Output begun =
        run_isodyne(fmt::format("failures bench.dyne --template {} --out {}", kind, file), folder.path());
    REQUIRE(begun.status == 0);
    folder.write("bench.dyne", guarded_tank(begun.out));
    const Output ran = run_isodyne("failures bench.dyne --run", folder.path());
    INFO(begun.out << ran.out << ran.err);
    CHECK(ran.status <= 1);
    shows(ran.out, "8 failures in 9 runs");
    CHECK(run_isodyne(fmt::format("failures bench.dyne --template {} --out {}", kind, file), folder.path()).status ==
          3);
  }
  shows(run_isodyne("failures bench.dyne --template rating", folder.path()).err, "did you mean `ratings`?");
}

TEST_CASE("Every command of docs/failures.md does what it says, and the lock's table has what runs come to") {
  const TestFolder folder;
  REQUIRE(shell(fmt::format("cp -r {}/examples/canal-lock/. .", ISODYNE_SOURCE_FOLDER), folder.path()).status == 0);
  const std::string before = slurp(folder / "failures.csv");
  std::istringstream text(slurp(std::string(ISODYNE_SOURCE_FOLDER) + "/docs/failures.md"));
  int commands = 0;
  for (std::string line; std::getline(text, line);) {
    if (!line.starts_with("    isodyne ")) continue;
    ++commands;
    const Output o = shell(ISODYNE_PROGRAM + line.substr(11), folder.path());
    INFO(line << "\n" << o.out << o.err);
    CHECK(o.status == (has(line, "--run") ? 1 : 0));
    if (has(line, "--run")) shows(o.out, "22 failures in 25 runs: 9 mitigated, 1 detected, 1 missed, 11 harmless");
  }
  CHECK(commands == 5);
  CHECK(slurp(folder / "failures.csv") == before);
  CHECK(exchange::read_workbook(folder / "lock-failures.xlsx"));
}

TEST_CASE("A share and a day in a workbook are read as they are shown") {
  const TestFolder folder;
  lxw_workbook* const b = workbook_new((folder / "looks.xlsx").c_str());
  lxw_worksheet* const s = workbook_add_worksheet(b, "s");
  const auto look = [&](const char* format) {
    lxw_format* const f = workbook_add_format(b);
    format_set_num_format(f, format);
    return f;
  };
  worksheet_write_number(s, 0, 0, 0.07, look("0%"));
  worksheet_write_number(s, 0, 1, 0.125, look("0.0 %"));
  worksheet_write_number(s, 0, 2, 46358, look("dd/mm/yyyy"));
  worksheet_write_number(s, 0, 3, 0.5, look("0.0 \"% of all\""));
  worksheet_write_number(s, 0, 4, 61, look("yyyy-mm-dd"));
  REQUIRE(workbook_close(b) == LXW_NO_ERROR);
  const auto read = exchange::read_workbook(folder / "looks.xlsx");
  REQUIRE(read);
  const CsvRow& row = read->table.rows.at(0);
  CHECK(row.text(0) == "7 %");
  CHECK(row.text(1) == "12.5 %");
  CHECK(row.text(2) == "2026-12-02");
  CHECK(row.text(3) == "0.5");
  CHECK(row.text(4) == "1900-03-01");
}

TEST_CASE("Nothing is written over that people would lose, and what is of another bench or another fault is told") {
  const TestFolder folder;
  folder.write("bench.dyne", guarded_tank(kTable));
  const std::string rows = "row,severity,rate,fault\nA,3,50 1/h,low\nB,3,1e-6,wild\n";
  folder.write("rows.csv", rows);
  const auto refused = [&](const std::string& arguments, const std::string& why) {
    const Output o = run_isodyne("failures bench.dyne " + arguments, folder.path());
    INFO(o.out << o.err);
    CHECK(o.status == 2);
    shows(o.err, why);
  };
  refused("--out rows.csv", "is where the rows are from");
  refused("--run --out bench.dyne", "no table of failure modes");
  CHECK(run_isodyne("failures bench.dyne --run --out found.csv", folder.path()).status == 0);
  CHECK(slurp(folder / "rows.csv") == rows);
  refused("--out found.csv", "has a column `run result`, which would be lost");
  std::string mine = slurp(folder / "found.csv");
  mine.insert(mine.find('\n'), ",mine");
  folder.write("found.csv", mine);
  refused("--run --out found.csv", "has a column `mine`, which would be lost");
  CHECK(slurp(folder / "found.csv") == mine);
  for (const char* option : {"--seed 2", "--jobs 2", "--setting a", "--each-alone", "--answer-within \"1 s\""})
    refused(option, "is about --run");
  refused("--template ratings --run", "leave out --run");

  REQUIRE(run_isodyne("failures bench.dyne --run", folder.path()).status == 0);
  CHECK_FALSE(has(run_isodyne("failures bench.dyne", folder.path()).out, "before a change"));
  std::string other = slurp(folder / "rows.csv");
  other.replace(other.find("h,low"), 5, "h,wild");
  folder.write("rows.csv", other);
  const std::string listed = run_isodyne("failures bench.dyne", folder.path()).out;
  shows(listed, "harmless, before a change");
  CHECK_FALSE(has(listed, "mitigated, before a change"));
  folder.write("bench.dyne", guarded_tank(kTable) + "# another text\n");
  shows(run_isodyne("failures bench.dyne", folder.path()).out, "mitigated, before a change");
  // As a table for another program: nothing else comes with it.
  const Output csv = run_isodyne("failures bench.dyne --run --csv", folder.path());
  CHECK(std::count(csv.out.begin(), csv.out.end(), '\n') == 3);
  shows(csv.err, "Written to");
  // With titles alone, and with what is of nobody here.
  folder.write("rows.csv", "row,severity,rate,fault\n");
  CHECK(run_isodyne("failures bench.dyne --csv", folder.path()).out == "row,severity,rate,fault,risk\n");
  std::string away = guarded_tank(kTable);
  away.replace(away.find("rows.csv"), 8, "../away.csv");
  folder.write("in/bench.dyne", away);
  folder.write("away.csv", rows);
  shows(run_isodyne("failures in/bench.dyne --run", folder.path()).err, "the file is not in the folder of the bench");
  CHECK(slurp(folder / "away.csv") == rows);
}

TEST_CASE("Failures that cannot be together and an interruption are no answer") {
  const TestFolder folder;
  folder.write("bench.dyne", guarded_tank("failure_modes t { scenario fill\n  noticed by lamp\n"
                                          "  row A { fault low, early }\n  row B { fault wild, never }\n}\n"));
  const Output ran = run_isodyne("failures bench.dyne --run --out found.csv", folder.path());
  INFO(ran.out << ran.err);
  CHECK(ran.status == 3);
  shows(ran.out, "2 failures in 3 runs: 2 no answer");
  shows(ran.err, "A: ");
  folder.write("go.sh",
               fmt::format("{} failures bench.dyne --run --jobs 1 & sleep 0.3; kill -INT $!; wait $!; echo status $?",
                           ISODYNE_PROGRAM));
  std::string slow = guarded_tank("failure_modes t from \"rows.csv\" { scenario fill }\n");
  slow.replace(slow.find("scenario fill { hold 8 s }"), 26, "scenario fill { hold 100000 s }");
  folder.write("bench.dyne", slow);
  folder.write("rows.csv", "row,fault\nA,low\nB,wild\nC,quick\n");
  const Output stopped = shell("bash -m go.sh", folder.path());
  INFO(stopped.out << stopped.err);
  shows(stopped.out, "status 3");
  shows(stopped.err, "Not all were run: nothing is written.");
  CHECK(slurp(folder / "rows.csv") == "row,fault\nA,low\nB,wild\nC,quick\n");
}
