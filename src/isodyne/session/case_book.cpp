#include "isodyne/session/case_book.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>

#include <fcntl.h>
#include <sys/file.h>

#include <fmt/format.h>

#include "isodyne/core/descriptor.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/session/statement.h"

namespace isodyne::session {

namespace fs = std::filesystem;

struct CaseBook::File {
  std::string name;
  Descriptor lock;  ///< of the file itself: it is closed last, which would let SQLite's own locks go
  bool writes = false;
  sqlite3* db = nullptr;
  std::unique_ptr<Statement> a_case, a_verdict, a_measure;
  File() = default;
  File(const File&) = delete;
  File& operator=(const File&) = delete;
  ~File() {
    a_case.reset(), a_verdict.reset(), a_measure.reset();
    if (writes) run("PRAGMA journal_mode = DELETE");  // one file again
    sqlite3_close(db);
  }
  Failure failure(const char* what) const { return {what, name, sqlite3_errmsg(db)}; }
  bool run(const std::string& sql) { return Statement(db, sql.c_str()).run(); }
};

namespace {

/// A name as SQL quotes it.
std::string quoted(const std::string& name) {
  std::string text = "\"";
  for (const char c : name) text += c == '"' ? "\"\"" : std::string(1, c);
  return text + "\"";
}

std::string column_of(const std::pair<std::string, std::string>& varied) {
  return varied.second.empty() ? varied.first : varied.first + " [" + varied.second + "]";
}

/// A list of two texts each.
std::string pairs_text(const std::vector<std::pair<std::string, std::string>>& pairs) {
  CheckedJson all = CheckedJson::array();
  for (const auto& [one, two] : pairs) all.push_back({one, two});
  return all.dump(-1, ' ', false, CheckedJson::error_handler_t::replace);
}

std::string factors_text(const CaseBookKey& key) {
  CheckedJson all = CheckedJson::array();
  for (const CaseFactor& f : key.factors) {
    CheckedJson one{{"name", f.name}, {"values", f.values}, {"low", f.low}, {"high", f.high}};
    if (f.limits) one["limits"] = {f.limits->first, f.limits->second};
    all.push_back(std::move(one));
  }
  return all.dump();
}

std::string items_text(const CaseBookKey& key) {
  CheckedJson all = CheckedJson::array();
  for (const CoverageItem& i : key.items) all.push_back({static_cast<int>(i.kind), i.text});
  return all.dump();
}

/// What the texts above say.
Status read_lists(CaseBookKey& key, const std::function<std::string(const char*)>& about) {
  const auto v = parse_json(about("varied")), f = parse_json(about("factors")), i = parse_json(about("items")),
             m = parse_json(about("meanings"));
  if (!v || !f || !i || !m) return Failure{"it says nothing about its columns", "", ""};
  try {
    for (const auto& one : *v) key.varied.emplace_back(one.at(0).get<std::string>(), one.at(1).get<std::string>());
    for (const auto& one : *m) key.meanings.emplace_back(one.at(0).get<std::string>(), one.at(1).get<std::string>());
    for (const auto& one : *f) {
      CaseFactor factor{one.at("name"), one.at("values"), one.at("low"), one.at("high"), {}};
      if (one.contains("limits")) factor.limits.emplace(one["limits"].at(0), one["limits"].at(1));
      key.factors.push_back(std::move(factor));
    }
    for (const auto& one : *i) {
      const int kind = one.at(0);
      if (kind < 0 || kind >= program::kCoverageKinds) return Failure{"a kind of coverage is unknown", "", ""};
      key.items.push_back({static_cast<program::CoverageKind>(kind), one.at(1)});
    }
  } catch (const std::exception&) {
    return Failure{"what it says about its columns cannot be read", "", ""};
  }
  if (key.factors.size() != 3 + key.varied.size()) return Failure{"its factors are not its columns", "", ""};
  return Done{};
}

}  // namespace

bool is_case_book(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  std::string head(15, '\0');
  in.read(head.data(), static_cast<std::streamsize>(head.size()));
  return head == "SQLite format 3";
}

CaseBook::CaseBook() : file_(std::make_unique<File>()) {}
CaseBook::~CaseBook() = default;

Result<std::unique_ptr<CaseBook>> CaseBook::open(const std::string& file, const CaseBookKey& key, bool resume) {
  std::unique_ptr<CaseBook> book(new CaseBook);
  book->key_ = key;
  book->file_->name = file;
  std::error_code error;
  if (fs::path(file).has_parent_path()) fs::create_directories(fs::path(file).parent_path(), error);
  if (!resume && fs::exists(file, error))
    return Failure{"cases are already in", file, "--resume goes on with them, --out names another file",
                   Failure::Kind::wrong_input};
  book->file_->lock = Descriptor(::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666));
  if (!book->file_->lock.good()) return Failure{"cannot write", file, std::strerror(errno)};
  if (::flock(book->file_->lock.number(), LOCK_EX | LOCK_NB) != 0)
    return Failure{"another campaign is writing", file, "wait for it, or name another file with --out"};
  if (sqlite3_open(file.c_str(), &book->file_->db) != SQLITE_OK) return book->file_->failure("cannot write");
  book->file_->writes = true;
  const Status ready = book->prepare(resume);
  if (!ready) return ready.failure();
  return book;
}

Status CaseBook::prepare(bool resume) {
  File& f = *file_;
  sqlite3_busy_timeout(f.db, 10'000);  // somebody looks into it
  const std::string fingerprint = key_.fingerprint, seed = key_.seed, varied = pairs_text(key_.varied);
  const std::vector<std::pair<std::string, std::string>> own{{"format", "isodyne cases 2"},
                                                             {"bench", key_.bench},
                                                             {"campaign", key_.campaign},
                                                             {"file", key_.file},
                                                             {"fingerprint", fingerprint},
                                                             {"code", key_.code},
                                                             {"seed", seed},
                                                             {"count", std::to_string(key_.count)},
                                                             {"varied", varied},
                                                             {"factors", factors_text(key_)},
                                                             {"items", items_text(key_)},
                                                             {"meanings", pairs_text(key_.meanings)}};
  std::string columns;
  for (const auto& v : key_.varied) columns += ", " + quoted(column_of(v)) + " REAL";
  const bool made =
      f.run("PRAGMA journal_mode = WAL") && f.run("PRAGMA synchronous = NORMAL") &&
      f.run("CREATE TABLE IF NOT EXISTS about (what TEXT PRIMARY KEY, value TEXT)") &&
      f.run(
          "CREATE TABLE IF NOT EXISTS cases (number INTEGER PRIMARY KEY, scenario TEXT, faults TEXT, setting TEXT, "
          "outcome TEXT, whole INTEGER, why TEXT, met TEXT, command TEXT, simulated_s REAL, wall_s REAL" +
          columns + ")") &&
      f.run(
          "CREATE TABLE IF NOT EXISTS verdicts (number INTEGER, requirement TEXT, verdict TEXT, tests INTEGER, margin "
          "REAL, unit TEXT, worst_at_s REAL, first_breach_s REAL, PRIMARY KEY (number, requirement)) WITHOUT ROWID") &&
      f.run(
          "CREATE TABLE IF NOT EXISTS measures (number INTEGER, measure TEXT, stretches INTEGER, missed INTEGER, least "
          "REAL, "
          "greatest REAL, unit TEXT, PRIMARY KEY (number, measure)) WITHOUT ROWID");
  if (!made) return f.failure("cannot write");
  for (const auto& [what, value] : own) {
    Statement known(f.db, "SELECT value FROM about WHERE what = ?");
    if (known.with(what).row()) {
      if (known.text(0) == value || what == "file") continue;
      const bool text = what == "fingerprint", code = what == "code";
      return Failure{text   ? "there are cases of another text of the bench in"
                     : code ? "there are cases with other code of controllers in"
                            : "there are cases of something else in",
                     f.name,
                     fmt::format("its {} is {}, and here {}; --out names another file", what,
                                 text || code ? "another" : one_line(known.text(0)), text || code ? "this" : value),
                     Failure::Kind::wrong_input};
    }
    if (resume && what == "format" && !done().empty()) return Failure{"these are no cases", f.name, ""};
    if (!Statement(f.db, "INSERT INTO about VALUES (?,?)").with(what).with(value).run())
      return f.failure("cannot write");
  }
  std::string places;
  for (std::size_t i = 0; i < 11 + key_.varied.size(); ++i) places += i == 0 ? "?" : ",?";
  f.a_case = std::make_unique<Statement>(f.db, ("INSERT OR REPLACE INTO cases VALUES (" + places + ")").c_str());
  f.a_verdict = std::make_unique<Statement>(f.db, "INSERT OR REPLACE INTO verdicts VALUES (?,?,?,?,?,?,?,?)");
  f.a_measure = std::make_unique<Statement>(f.db, "INSERT OR REPLACE INTO measures VALUES (?,?,?,?,?,?,?)");
  return Done{};
}

Result<std::unique_ptr<CaseBook>> CaseBook::read(const std::string& file) {
  std::unique_ptr<CaseBook> book(new CaseBook);
  File& f = *book->file_;
  f.name = file;
  if (sqlite3_open_v2(file.c_str(), &f.db, SQLITE_OPEN_READONLY, nullptr) != SQLITE_OK) return f.failure("cannot read");
  sqlite3_busy_timeout(f.db, 10'000);
  const auto about = [&](const char* what) {
    Statement s(f.db, "SELECT value FROM about WHERE what = ?");
    return s.with(std::string(what)).row() ? s.text(0) : std::string();
  };
  if (about("format") != "isodyne cases 2")
    return Failure{"there are no cases of a campaign in", file, "", Failure::Kind::wrong_input};
  CaseBookKey& key = book->key_;
  key.bench = about("bench"), key.campaign = about("campaign"), key.fingerprint = about("fingerprint");
  key.code = about("code");
  key.file = about("file");
  key.seed = about("seed");
  key.count = std::atoll(about("count").c_str());
  const Status lists = read_lists(key, about);
  if (!lists) return Failure{"there are no cases of a campaign in", file, lists.failure().text()};
  return book;
}

std::set<std::int64_t> CaseBook::done() {
  std::set<std::int64_t> all;
  Statement s(file_->db, "SELECT number FROM cases WHERE outcome <> ?");
  s.with(std::string(kNotRun));
  while (s.row()) all.insert(s.count(0));
  return all;
}

Status CaseBook::add(const CaseResult& r) {
  File& f = *file_;
  bool good = f.run("BEGIN IMMEDIATE");
  Statement& c = *f.a_case;
  c.again();
  c.with(r.number)
      .with(r.scenario)
      .with(r.faults)
      .with(r.setting)
      .with(r.outcome)
      .with(std::int64_t{r.whole})
      .with(r.why)
      .with(r.met)
      .with(r.command);
  c.with(r.simulated_s).with(r.wall_s);
  for (const double v : r.values) c.with(v);
  good = good && c.run();
  c.again();
  for (const SummaryRow& row : r.rows) {
    Statement& v = *f.a_verdict;
    v.again();
    v.with(r.number).with(row.name).with(std::string(judge::answer_word(row.answer))).with(row.tests);
    v.with(row.worst_margin).with(row.margin_unit).with(row.worst_at_s).with(row.first_breach_s);
    good = good && v.run();
    v.again();
  }
  for (const MeasureRow& row : r.measures) {
    Statement& m = *f.a_measure;
    m.again();
    m.with(r.number)
        .with(row.name)
        .with(row.stretches)
        .with(row.missed)
        .with(row.least)
        .with(row.greatest)
        .with(row.unit);
    good = good && m.run();
    m.again();
  }
  good = good && f.run("COMMIT");
  if (good) return Done{};
  const Failure failure = f.failure("cannot write");
  f.run("ROLLBACK");
  return failure;
}

Result<std::vector<CaseResult>> CaseBook::all() {
  std::vector<CaseResult> found;
  const Status read = each([&](CaseResult& r) { found.push_back(std::move(r)); });
  if (!read) return read.failure();
  return found;
}

Status CaseBook::each(const std::function<void(CaseResult&)>& take) {
  File& f = *file_;
  std::string columns;
  for (const auto& v : key_.varied) columns += ", " + quoted(column_of(v));
  // At one moment, though cases may be written meanwhile.
  f.run("BEGIN");
  Statement s(f.db,
              ("SELECT number, scenario, faults, setting, outcome, why, met, command, whole, simulated_s, wall_s" +
               columns + " FROM cases ORDER BY number")
                  .c_str());
  Statement v(
      f.db,
      "SELECT number, requirement, verdict, tests, margin, unit, worst_at_s, first_breach_s FROM verdicts ORDER BY "
      "number");
  Statement m(f.db, "SELECT number, measure, stretches, missed, least, greatest, unit FROM measures ORDER BY number");
  const auto maybe = [](const Statement& of, int column) {
    return of.null(column) ? std::nullopt : std::optional(of.number(column));
  };
  bool verdicts = v.row(), measures = m.row();
  while (s.row()) {
    CaseResult r;
    r.number = s.count(0);
    int at = 1;
    for (std::string* to : {&r.scenario, &r.faults, &r.setting, &r.outcome, &r.why, &r.met, &r.command})
      *to = s.text(at++);
    r.whole = s.count(at++) != 0;
    r.simulated_s = s.number(at++), r.wall_s = s.number(at++);
    for (std::size_t i = 0; i < key_.varied.size(); ++i) r.values.push_back(s.number(at++));
    for (; verdicts && v.count(0) <= r.number; verdicts = v.row()) {
      if (v.count(0) < r.number) continue;
      SummaryRow row;
      row.name = v.text(1);
      row.answer = program::answer_named(v.text(2)).value_or(judge::Answer::undecided);
      row.tests = v.count(3);
      row.worst_margin = maybe(v, 4);
      row.margin_unit = v.text(5);
      row.worst_at_s = maybe(v, 6), row.first_breach_s = maybe(v, 7);
      r.rows.push_back(std::move(row));
    }
    for (; measures && m.count(0) <= r.number; measures = m.row()) {
      if (m.count(0) == r.number)
        r.measures.push_back({m.text(1), m.text(6), m.count(2), m.count(3), maybe(m, 4), maybe(m, 5)});
    }
    take(r);
  }
  const bool good = s.good() && v.good() && m.good();
  const Failure failure = f.failure("cannot read");
  f.run("ROLLBACK");
  if (!good) return failure;
  return Done{};
}

}  // namespace isodyne::session
