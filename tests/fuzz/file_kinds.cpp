#include <filesystem>
#include <stdexcept>

#include <fmt/format.h>
#include <hdf5.h>
#include <unistd.h>
#include <zip.h>

#include "fuzz/file_kinds.h"
#include "fuzz/mutator.h"
#include "isodyne/core/json.h"
#include "isodyne/exchange/open_psa.h"
#include "isodyne/exchange/reqif.h"
#include "isodyne/exchange/signal_table.h"
#include "isodyne/exchange/workbook.h"
#include "isodyne/io/match.h"
#include "isodyne/io/parameters.h"
#include "isodyne/io/rack_text.h"
#include "isodyne/io/registers.h"
#include "isodyne/io/tags.h"
#include "isodyne/present/tree_figure.h"
#include "isodyne/record/recording.h"
#include "isodyne/record/tail.h"
#include "isodyne/session/failure_runs.h"
#include "isodyne/session/stored_state.h"
#include "isodyne/session/summary.h"

namespace isodyne::test {

namespace fs = std::filesystem;

namespace {

constexpr const char* kMutatedBench = R"(
module CurrentIn8 { inputs 8  as 4 mA .. 20 mA  limits 3.6 mA .. 21 mA  counts 0 .. 32000  word 16 bit signed }
choice Order { none, first, second }
model Tank {
  input inflow : m/s
  output state level : m = 1 m
  level' = inflow - 0.2 1/s * level
}
bench Tanks {
  step 10 ms
  record every 50 ms
  record tank.level every 10 ms when high rises with 20 ms before
  part tank : Tank
  input inflow : m/s = 0 m/s
  tank.inflow = valve + inflow
  let high : bool = tank.level > 1.02 m
  sensor level { of tank.level  range 0 m .. 10 m  every 10 ms }
  sensor wet { of high  every 20 ms }
  actuator valve : m/s { range 0 m/s .. 1 m/s }
@}
scenario s {
  hold 0.3 s
  set inflow = 0.5 m/s
  hold 0.7 s
}
requirement R-1 { always tank.level < 3 m }
requirement R-2 { whenever high then within 1 s level > 1 m }
figure f { panel tank.level, level }
)";

constexpr const char* kRest = R"(
  rack cabinet {
    every 10 ms
    slot 1 : CurrentIn8 {
      channel 1 : level
    }
  }
  controller plc {
    every 20 ms
    reads level, wet
    writes valve, order : Order, n : int
    setting it = library "x"
  }
)";

/// With a controller and a rack, or as it runs alone.
std::string text_of_bench(bool whole) {
  std::string text = kMutatedBench;
  text.replace(text.find('@'), 1, whole ? kRest : "");
  return text;
}

template <typename T>
std::optional<Failure> why_not(const Result<T>& result) {
  if (result) return std::nullopt;
  return result.failure();
}

/// Mistakes of the engineer's text, as one failure; with a layout beside it, of that too.
std::optional<Failure> of_text(const std::string& text, const std::optional<std::string>& layout = {}) {
  std::optional<check::Rules> rules;
  if (layout) rules = check::Rules{"layout.dyne", *layout, false, {}};
  const check::Loaded loaded =
      check::load_bench("", "main.dyne",
                        [&](const std::string& name) -> Result<std::string> {
                          if (name == "main.dyne") return text;
                          return Failure{"there is no file", name, ""};
                        },
                        {.rules = rules, .harness = "", .bench_needed = false, .rated = true, .lint = true});
  if (!loaded.diagnostics.has_errors()) return std::nullopt;
  return Failure{"mistakes", "main.dyne", loaded.diagnostics.render(*loaded.sources, false)};
}

/// All that is in a recording, as `show`, `judge`, `report` and `recover` look at it.
std::optional<Failure> of_recording(const std::string& file) {
  const auto opened = record::Recording::open_untried(file);
  if (!opened) return opened.failure();
  const record::Recording& r = **opened;
  for (const std::string& name : r.names()) {
    (void)r.signal(name);
    (void)r.unit(name);
    (void)r.judged_rows(name);
  }
  (void)r.head();
  return std::nullopt;
}

std::string output_of(const std::string& arguments, const TestFolder& folder) {
  const Output out = run_isodyne(arguments, folder.path());
  if (out.status != 0) throw std::runtime_error(arguments + ": " + out.err);
  return out.out;
}

// ---- recordings by structure

herr_t note_name(hid_t, const char* name, const H5A_info_t*, void* names) {
  static_cast<std::vector<std::string>*>(names)->push_back(name);
  return 0;
}

herr_t note_object(hid_t, const char* name, const H5O_info_t*, void* names) {
  static_cast<std::vector<std::string>*>(names)->push_back(name);
  return 0;
}

/// Of an unexpected class and size.
hid_t odd_type(Mutator& m) {
  switch (m.below(6)) {
    case 0: {
      const hid_t type = H5Tcopy(H5T_C_S1);
      H5Tset_size(type, H5T_VARIABLE);
      return type;
    }
    case 1: {
      const hid_t type = H5Tcopy(H5T_C_S1);
      H5Tset_size(type, 1 + m.below(5000));
      return type;
    }
    case 2:
      return H5Tvlen_create(H5T_NATIVE_DOUBLE);
    case 3: {
      const hsize_t many[] = {1 + m.below(100)};
      return H5Tarray_create2(H5T_NATIVE_INT64, 1, many);
    }
    case 4:
      return H5Tcopy(H5T_NATIVE_CHAR);
    default:
      return H5Tcopy(H5T_IEEE_F64BE);
  }
}

hid_t odd_space(Mutator& m) {
  const hsize_t sizes[] = {m.below(5), 1 + m.below(2000), 3};
  return m.below(4) == 0 ? H5Screate(m.below(2) == 0 ? H5S_NULL : H5S_SCALAR)
                         : H5Screate_simple(1 + static_cast<int>(m.below(3)), sizes, nullptr);
}

void odd_attribute(hid_t object, const std::string& name, Mutator& m) {
  H5Adelete(object, name.c_str());
  if (m.below(4) == 0) return;
  const hid_t type = odd_type(m), space = odd_space(m);
  const hid_t a = H5Acreate2(object, name.c_str(), type, space, H5P_DEFAULT, H5P_DEFAULT);
  if (a >= 0) H5Aclose(a);
  H5Sclose(space);
  H5Tclose(type);
}

void odd_object(hid_t file, const std::string& name, Mutator& m) {
  H5Ldelete(file, name.c_str(), H5P_DEFAULT);
  const hid_t type = odd_type(m), space = odd_space(m);
  hid_t made = -1;
  switch (m.below(5)) {
    case 0:
      break;
    case 1:
      made = H5Gcreate2(file, name.c_str(), H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT);
      break;
    case 2:
      H5Lcreate_soft(m.below(2) == 0 ? "/" : name.c_str(), file, name.c_str(), H5P_DEFAULT, H5P_DEFAULT);
      break;
    case 3:
      H5Lcreate_external("/etc/hostname", "/", file, name.c_str(), H5P_DEFAULT, H5P_DEFAULT);
      break;
    default:
      made = H5Dcreate2(file, name.c_str(), type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT);
  }
  if (made >= 0) H5Oclose(made);
  H5Sclose(space);
  H5Tclose(type);
}

void change_structure(const std::string& path, Mutator& m) {
  H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
  const hid_t file = H5Fopen(path.c_str(), H5F_ACC_RDWR, H5P_DEFAULT);
  if (file < 0) return;
  std::vector<std::string> objects, attributes;
  H5Ovisit(file, H5_INDEX_NAME, H5_ITER_NATIVE, note_object, &objects);
  const std::string name = objects[m.below(objects.size())];
  const hid_t object = H5Oopen(file, name.c_str(), H5P_DEFAULT);
  H5Aiterate2(object, H5_INDEX_NAME, H5_ITER_NATIVE, nullptr, note_name, &attributes);
  if (!attributes.empty() && m.below(3) != 0) odd_attribute(object, attributes[m.below(attributes.size())], m);
  H5Oclose(object);
  if (name != "." && m.below(2) == 0) odd_object(file, name, m);
  H5Fclose(file);
}

// ---- files of a run

/// A run that was killed, for its tail.
void make_killed_run(const TestFolder& folder) {
  shell(std::string(ISODYNE_PROGRAM) +
            " run b.dyne --for '1 h' --paced --interpret --out killed --no-report >/dev/null 2>&1 & P=$!; " +
            until_written("killed", 2000) + "; kill -9 $P; " + until_written_no_more("killed"),
        folder.path());
}

FileKind table_kind() {
  static const std::string between = "\n====\n";
  exchange::SignalTable t;
  t.title = "t";
  t.times_ns = {0, 10'000'000, 20'000'000, 30'000'000};
  t.columns = {{"level", "m", exchange::SignalColumn::Kind::number, {1, 2, 3, 4}},
               {"on", "", exchange::SignalColumn::Kind::truth, {0, 1, 1, 0}}};
  const auto text = exchange::to_comtrade(t, false), binary = exchange::to_comtrade(t, true);
  return {
      "COMTRADE", {text->cfg + between + text->dat, binary->cfg + between + binary->dat}, [](const std::string& both) {
        const std::size_t cut = std::min(both.find(between), both.size());
        return why_not(exchange::from_comtrade(
            "t", {both.substr(0, cut), cut + between.size() <= both.size() ? both.substr(cut + between.size()) : ""}));
      }};
}

/// A workbook around these parts, divided by a line of equals signs: the sheet, the texts, the formats.
void pack_workbook(const std::string& file, const std::string& parts) {
  static const std::string between = "\n====\n";
  const std::size_t first = std::min(parts.find(between), parts.size());
  const std::size_t second = std::min(parts.find(between, std::min(first + 1, parts.size())), parts.size());
  const auto from = [&](std::size_t cut) { return std::min(cut + between.size(), parts.size()); };
  const std::pair<const char*, std::string> all[] = {
      {"xl/workbook.xml", "<workbook xmlns:r=\"r\"><sheets><sheet name=\"s\" r:id=\"a\"/></sheets></workbook>"},
      {"xl/_rels/workbook.xml.rels", "<Relationships><Relationship Id=\"a\" Target=\"s.xml\"/></Relationships>"},
      {"xl/s.xml", parts.substr(0, first)},
      {"xl/sharedStrings.xml", parts.substr(from(first), second - std::min(second, from(first)))},
      {"xl/styles.xml", parts.substr(from(second))}};
  zip_t* const zip = zip_open(file.c_str(), ZIP_CREATE | ZIP_TRUNCATE, nullptr);
  for (const auto& [name, text] : all)
    zip_file_add(zip, name, zip_source_buffer(zip, text.data(), text.size(), 0), ZIP_FL_OVERWRITE);
  zip_close(zip);
}

std::vector<std::string> fault_trees() {
  const std::string head =
      "<?xml version=\"1.0\"?>\n<opsa-mef><define-fault-tree name=\"F\"><define-gate name=\"T\"><label>all</label>";
  return {
      head +
          "<or><gate name=\"G\"/><and><basic-event name=\"A\"/><house-event name=\"H\"/></and></or></define-gate>"
          "<define-gate name=\"G\"><atleast min=\"2\"><event name=\"A\"/><event name=\"B\"/><basic-event name=\"C\"/>"
          "</atleast></define-gate></define-fault-tree><model-data><define-house-event name=\"H\"><constant "
          "value=\"true\"/>"
          "</define-house-event><define-basic-event name=\"A\"><attributes><attribute name=\"fault\" "
          "value=\"f\"/></attributes>"
          "<exponential><parameter name=\"r\"/><system-mission-time/></exponential></define-basic-event>"
          "<define-basic-event name=\"B\"><float value=\"0.1\"/></define-basic-event>"
          "<define-parameter name=\"r\" unit=\"hours-1\"><float "
          "value=\"1e-6\"/></define-parameter></model-data></opsa-mef>",
      head +
          "<not><constant value=\"false\"/></not></define-gate><define-gate name=\"U\"><or><basic-event "
          "name=\"x\"/><gate "
          "name=\"T\"/></or></define-gate></define-fault-tree></opsa-mef>"};
}

std::vector<FileKind> text_kinds() {
  exchange::SignalTable t;
  t.times_ns = {0, 10'000'000, 20'000'000};
  t.columns = {{"level", "m", exchange::SignalColumn::Kind::number, {1, 2.5, 3}},
               {"on", "", exchange::SignalColumn::Kind::truth, {0, 1, 1}}};
  const auto made_of = program_of(text_of_bench(true));
  std::vector<FileKind> kinds;
  kinds.push_back({"texts",
                   {text_of_bench(true), "rules only\nrequirement R { always x > 1 }\n"},
                   [](const std::string& s) { return of_text(s); }});
  kinds.push_back({"layouts",
                   {"figure f { panel valve, inflow }\nfigure g { panel tank.level, level\n panel wet }\n"},
                   [](const std::string& s) { return of_text(text_of_bench(true), s); }});
  kinds.push_back({"CSV", {exchange::to_csv(t), "t;a [m]\n0,5;1,25\n1;2\n"}, [](const std::string& s) {
                     return why_not(exchange::from_csv("t.csv", s));
                   }});
  kinds.push_back(
      {"VCD", {exchange::to_vcd(t)}, [](const std::string& s) { return why_not(exchange::from_vcd("t.vcd", s)); }});
  kinds.push_back(table_kind());
  kinds.push_back({"tags",
                   {"name,address,type,unit,comment\nlevel,%IW4,INT,m,the level\nvalve,%QW2,REAL,m/s,\n"},
                   [](const std::string& s) { return why_not(io::read_tags(s, "tags.csv", {})); }});
  kinds.push_back({"maps of tags",
                   {"channel,tag,address,type,unit,score,state\nlevel,lvl,%IW4,INT,m,0.8,confirmed\n"},
                   [](const std::string& s) { return why_not(io::read_map(s, "map.csv")); }});
  kinds.push_back({"maps of registers",
                   {io::registers_text(io::default_registers(*made_of, made_of->controllers.front()))},
                   [made_of](const std::string& s) {
                     return why_not(io::read_registers(s, "m.csv", *made_of, made_of->controllers.front()));
                   }});
  kinds.push_back({"racks", {io::table_text(*made_of)}, [made_of](const std::string& s) {
                     return why_not(io::read_table(s, "rack.csv", *made_of));
                   }});
  kinds.push_back({"parameters",
                   {"{\"tank\": {\"a\": 640, \"b\": {\"value\": 0.62, \"unit\": \"1\"}}}", "name,value,unit\na,1,m\n"},
                   [](const std::string& s) {
                     auto csv = why_not(io::read_parameters(s, "p.csv"));
                     auto json = why_not(io::read_parameters(s, "p.json"));
                     return json ? json : csv;
                   }});
  const auto failing = load_text(text_of_bench(true) +
                                 "\nfailure_modes modes from \"modes.csv\" {\n  param bad : int  from 1 to 10\n"
                                 "  param rate : 1/h\n  let risk = bad * rate\n}\n");
  kinds.push_back({"failure modes",
                   {"row,item,bad,rate,fault,scenario,run result,run of\nA,\"a, b\",3,50 1/h,none,,missed,x\n",
                    "row;bad;rate;fault\nA;3;2,5e-6;\n"},
                   [failing](const std::string& s) -> std::optional<Failure> {
                     const Csv csv = read_csv(s);
                     const auto bench = session::bench_of(failing, "");
                     const auto read = session::read_failures(*bench, bench->program->failure_modes.at(0), &csv);
                     if (!read) return read.failure();
                     std::vector<std::pair<std::size_t, session::WrittenCells>> cells;
                     for (const session::FailureRow& row : read->rows)
                       cells.emplace_back(row.at_record, session::written_cells(*read, row, {}));
                     (void)session::written_into(s, csv, cells);
                     return std::nullopt;
                   }});
  // What is read is also solved, with a bound that keeps each of them short, and written.
  kinds.push_back({"fault trees", fault_trees(), [](const std::string& s) -> std::optional<Failure> {
                     const auto read = exchange::from_open_psa("t.xml", s, 3.6e6);
                     if (!read) return read.failure();
                     const auto tree = exchange::part_of(*read, read->tops.front());
                     const auto sets = trees::CutSets::of(tree, 20'000);
                     if (!sets) return sets.failure();
                     (void)sets->first(20), (void)sets->up_to(2, 100);
                     (void)present::tree_svg({&tree, &*sets, nullptr, nullptr});
                     (void)exchange::to_open_psa(tree, {}), (void)exchange::tree_text(tree, {}, "t.xml");
                     return std::nullopt;
                   }});
  kinds.push_back({"ReqIF", {exchange::to_reqif(*made_of)}, [](const std::string& s) {
                     return why_not(exchange::from_reqif("r.reqif", s));
                   }});
  return kinds;
}

}  // namespace

std::vector<FileKind> file_kinds(const TestFolder& folder) {
  std::vector<FileKind> kinds = text_kinds();
  folder.write("b.dyne", text_of_bench(false));
  output_of("run b.dyne s --out r --no-report --interpret --save-state state.json", folder);
  make_killed_run(folder);
  const std::string h5 = slurp(folder / "r/recording.h5");
  kinds.push_back({"verdicts.json", {slurp(folder / "r/verdicts.json")}, [&folder](const std::string& s) {
                     folder.write("verdicts.json", s);
                     return why_not(session::read_summary(folder / "verdicts.json"));
                   }});
  kinds.push_back({"states", {slurp(folder / "state.json")}, [](const std::string& s) {
                     return why_not(session::parse_state(s, "state.json"));
                   }});
  exchange::Sheet sheet{"s", {{"row"}, {"fault"}}, {{"A", "3"}, {"B", "ü"}}, {1, 2}};
  REQUIRE(exchange::write_workbook(folder / "w.xlsx", sheet));
  kinds.push_back({"workbooks", {slurp(folder / "w.xlsx")}, [&folder](const std::string& s) {
                     folder.write("w.xlsx", s);
                     return why_not(exchange::read_workbook(folder / "w.xlsx"));
                   }});
  kinds.push_back(
      {"parts of workbooks",
       {"<worksheet><sheetData><row r=\"1\"><c r=\"A1\" t=\"s\"><v>0</v></c><c r=\"B1\"><v>2.5</v></c></row>"
        "<row r=\"3\"><c r=\"A3\" s=\"1\"><v>46000</v></c><c r=\"AB3\" s=\"2\"><f>A1</f><v>0.5</v></c>"
        "<c t=\"inlineStr\"><is><r><t>x</t></r></is></c></row></sheetData></worksheet>\n====\n"
        "<sst><si><t>row</t></si></sst>\n====\n<styleSheet><numFmts><numFmt numFmtId=\"164\" "
        "formatCode=\"yyyy\"/></numFmts><cellXfs><xf numFmtId=\"0\"/><xf numFmtId=\"164\"/>"
        "<xf numFmtId=\"9\"/></cellXfs></styleSheet>"},
       [&folder](const std::string& s) {
         pack_workbook(folder / "p.xlsx", s);
         return why_not(exchange::read_workbook(folder / "p.xlsx"));
       }});
  const auto recordings = [&](const std::string& name, const std::string& seed, const std::string& in) -> FileKind& {
    fs::create_directories(folder / in);
    const std::string file = folder / in + "/recording.h5";
    kinds.push_back({name, {seed}, [file](const std::string&) { return of_recording(file); }, file});
    kinds.back().may_end = true;
    return kinds.back();
  };
  recordings("recordings", h5, "x").read = [&folder](const std::string& s) {
    folder.write("x/recording.h5", s);
    return of_recording(folder / "x/recording.h5");
  };
  recordings("recordings by structure", h5, "y").change = change_structure;
  recordings("tails", slurp(folder / "killed/recording.tail"), "z").read = [&folder](const std::string& s) {
    folder.write("z/recording.tail", s);
    return of_recording(folder / "z/recording.h5");
  };
  folder.write("z/recording.h5", slurp(folder / "killed/recording.h5"));
  return kinds;
}

}  // namespace isodyne::test
