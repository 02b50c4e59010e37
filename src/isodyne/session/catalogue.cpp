#include "isodyne/session/catalogue.h"

#include <algorithm>
#include <cstdlib>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/record/tail.h"
#include "isodyne/session/statement.h"

namespace isodyne::session {

namespace fs = std::filesystem;

struct Catalogue::Files {
  sqlite3* db = nullptr;
  std::string name;
  ~Files() { sqlite3_close(db); }
  Files() = default;
  Files(const Files&) = delete;
  Files& operator=(const Files&) = delete;

  Failure failure(const char* what) const { return {what, name, sqlite3_errmsg(db)}; }
};

namespace {

std::string absolute(const std::string& path) {
  std::error_code none;
  std::string text = fs::weakly_canonical(fs::absolute(path, none), none).string();
  while (text.size() > 1 && text.back() == '/') text.pop_back();
  return text.empty() ? path : text;
}

/// Whether every word is part of something that people see of the entry.
bool fits(const CatalogueEntry& e, const std::vector<std::string>& words) {
  std::string all = e.path + "\n" + e.bench + "\n" + e.scenario + "\n" + e.faults + "\n" + e.overrides + "\n" +
                    e.setting + "\nseed " + e.seed + "\n" + e.started + "\n" + e.verdict() + "\n" +
                    (e.there ? "" : "missing\n");
  for (const std::string& t : e.tags) all += t + "\n";
  all = lower_case(all);
  return std::all_of(words.begin(), words.end(),
                     [&](const std::string& w) { return all.find(lower_case(w)) != std::string::npos; });
}

}  // namespace

std::string CatalogueEntry::verdict() const {
  if (ending.empty()) return running ? "running" : "broken off";
  if (!outcome.empty()) return outcome;
  if (ending != "completed" && ending != "cut short") return ending;
  if (broken > 0) return "broken";
  if (undecided > 0) return "undecided";
  if (not_tested > 0) return "not put to the test";
  return held > 0 ? "held" : "nothing asked";
}

std::string CatalogueEntry::verdict_text() const {
  std::string counts;
  const auto add = [&](std::int64_t count, const char* word) {
    if (count > 0) list_on(counts, fmt::format("{} {}", count, word));
  };
  const std::string word = verdict();
  if (word == "running" || word == "broken off") return word;
  add(held, "held");
  add(broken, "broken");
  add(not_tested, "not put to the test");
  add(undecided, "undecided");
  if (counts.empty()) return word;
  for (const char* of_requirements : {"held", "broken", "not put to the test", "undecided"}) {
    if (word == of_requirements) return counts;
  }
  return word + ": " + counts;
}

Catalogue::Catalogue() : files_(std::make_unique<Files>()) {}
Catalogue::~Catalogue() = default;

Result<std::unique_ptr<Catalogue>> Catalogue::open(const std::string& file) {
  std::unique_ptr<Catalogue> c(new Catalogue);
  c->files_->name = file;
  std::error_code error;
  fs::create_directories(fs::path(file).parent_path(), error);
  if (sqlite3_open(file.c_str(), &c->files_->db) != SQLITE_OK) return c->files_->failure("cannot open the catalogue");
  sqlite3_busy_timeout(c->files_->db, 10'000);  // somebody else is writing
  const char* const tables[] = {
      "CREATE TABLE IF NOT EXISTS runs (path TEXT PRIMARY KEY, bench TEXT, scenario TEXT, faults TEXT, setting TEXT, "
      "seed "
      "TEXT, version TEXT, started TEXT, ending TEXT, inputs TEXT, simulated_s REAL, wall_s REAL, held INTEGER, broken "
      "INTEGER, not_tested INTEGER, undecided INTEGER)",
      "CREATE TABLE IF NOT EXISTS tags (path TEXT, tag TEXT, PRIMARY KEY (path, tag))"};
  for (const char* sql : tables) {
    if (!Statement(c->files_->db, sql).run()) return c->files_->failure("cannot use the catalogue");
  }
  for (const std::string column : {"outcome", "bench_folder", "overrides"}) {  // a catalogue of 0.1 has none of them
    Statement known(c->files_->db, "SELECT COUNT(*) FROM pragma_table_info('runs') WHERE name = ?");
    known.with(column);
    const std::string add = "ALTER TABLE runs ADD COLUMN " + column + " TEXT DEFAULT ''";
    // Somebody else may be adding it just now.
    if (known.row() && known.count(0) == 0) Statement(c->files_->db, add.c_str()).run();
  }
  return c;
}

Status Catalogue::enter(const CatalogueEntry& e) {
  Statement s(files_->db, "INSERT OR REPLACE INTO runs VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)");
  s.with(absolute(e.path)).with(e.bench).with(e.scenario).with(e.faults).with(e.setting).with(e.seed).with(e.version);
  s.with(e.started).with(e.ending).with(e.inputs).with(e.simulated_s).with(e.wall_s);
  s.with(e.held)
      .with(e.broken)
      .with(e.not_tested)
      .with(e.undecided)
      .with(e.outcome)
      .with(e.bench_folder)
      .with(e.overrides);
  if (!s.run()) return files_->failure("cannot write the catalogue");
  return Done{};
}

Result<std::vector<CatalogueEntry>> Catalogue::find(const std::vector<std::string>& words) {
  std::vector<CatalogueEntry> found;
  Statement s(files_->db, "SELECT * FROM runs ORDER BY started DESC, rowid DESC");
  while (s.row()) {
    CatalogueEntry e;
    int c = 0;
    for (std::string* text :
         {&e.path, &e.bench, &e.scenario, &e.faults, &e.setting, &e.seed, &e.version, &e.started, &e.ending, &e.inputs})
      *text = s.text(c++);
    e.simulated_s = s.number(c++);
    e.wall_s = s.number(c++);
    for (std::int64_t* count : {&e.held, &e.broken, &e.not_tested, &e.undecided}) *count = s.count(c++);
    e.outcome = s.text(c++);
    e.bench_folder = s.text(c++);
    e.overrides = s.text(c++);
    Statement tags(files_->db, "SELECT tag FROM tags WHERE path = ? ORDER BY tag");
    tags.with(e.path);
    while (tags.row()) e.tags.push_back(tags.text(0));
    std::error_code none;
    const fs::path recording = fs::path(e.path) / "recording.h5";
    e.there = fs::exists(recording, none);
    e.running = e.there && e.ending.empty() && record::tail_grows(record::tail_of(recording.string()));
    if (fits(e, words)) found.push_back(std::move(e));
  }
  if (!s.good()) return files_->failure("cannot read the catalogue");
  return found;
}

Status Catalogue::tag(const std::string& path, const std::string& tag, bool remove) {
  const std::string own = absolute(path);
  Statement known(files_->db, "SELECT 1 FROM runs WHERE path = ?");
  if (!known.with(own).row()) return Failure{"the catalogue has no run in", path, ""};
  Statement s(files_->db,
              remove ? "DELETE FROM tags WHERE path = ? AND tag = ?" : "INSERT OR IGNORE INTO tags VALUES (?,?)");
  if (!s.with(own).with(tag).run()) return files_->failure("cannot write the catalogue");
  return Done{};
}

Status Catalogue::forget(const std::string& path) {
  for (const char* sql : {"DELETE FROM tags WHERE path = ?", "DELETE FROM runs WHERE path = ?"}) {
    if (!Statement(files_->db, sql).with(absolute(path)).run()) return files_->failure("cannot write the catalogue");
  }
  return Done{};
}

std::string usual_catalogue() {
  const auto of = [](const char* name) {
    const char* value = std::getenv(name);
    return value == nullptr ? std::string() : std::string(value);
  };
  const std::string data = of("XDG_DATA_HOME"), home = of("HOME");
  if (data.empty() && home.empty()) return "runs.sqlite";
  return (data.empty() ? fs::path(home) / ".local/share" : fs::path(data)) / "isodyne" / "runs.sqlite";
}

std::optional<std::string> bench_folder_of_own_run(const std::string& folder, const record::RunIdentity& identity) {
  std::error_code none;
  if (!fs::exists(usual_catalogue(), none)) return std::nullopt;
  const auto catalogue = Catalogue::open(usual_catalogue());
  const auto entries = catalogue ? (*catalogue)->find({}) : Result<std::vector<CatalogueEntry>>(catalogue.failure());
  if (!entries) return std::nullopt;
  for (const CatalogueEntry& e : *entries) {
    if (e.path == absolute(folder) && e.inputs == record::fingerprint(identity) && !e.bench_folder.empty())
      return e.bench_folder;
  }
  return std::nullopt;
}

CatalogueEntry entry_of(const std::string& folder, const Summary& s, const record::RunIdentity& identity) {
  CatalogueEntry e;
  e.path = folder;
  e.bench = s.bench;
  e.scenario = s.scenario;
  for (const std::string& f : s.faults) list_on(e.faults, f);
  e.overrides = listed(s.overrides);
  e.setting = s.setting;
  e.seed = s.seed;
  e.version = s.version;
  e.started = s.started;
  e.ending = s.ending_text();
  e.outcome = s.ending ? s.outcome() : "";
  e.bench_folder = s.bench_folder.empty() ? "" : absolute(s.bench_folder);
  e.inputs = record::fingerprint(identity);
  e.simulated_s = s.ended_at_s;
  e.wall_s = s.wall_seconds;
  using judge::Answer;
  e.held = static_cast<std::int64_t>(s.count(Answer::held));
  e.broken = static_cast<std::int64_t>(s.count(Answer::broken));
  e.not_tested = static_cast<std::int64_t>(s.count(Answer::not_tested));
  e.undecided = static_cast<std::int64_t>(s.count(Answer::undecided));
  return e;
}

}  // namespace isodyne::session
