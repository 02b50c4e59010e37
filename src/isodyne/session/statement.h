#pragma once
// A statement to a database in a file (SQLite). Of one thread.

#include <cstdint>
#include <optional>
#include <string>

#include <sqlite3.h>

namespace isodyne::session {

/// A statement with its values; steps through its rows.
class Statement {
 public:
  Statement(sqlite3* db, const char* sql) { good_ = sqlite3_prepare_v2(db, sql, -1, &s_, nullptr) == SQLITE_OK; }
  ~Statement() { sqlite3_finalize(s_); }
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;

  Statement& with(const std::string& text) {
    good_ = good_ &&
            sqlite3_bind_text(s_, ++bound_, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT) == SQLITE_OK;
    return *this;
  }
  Statement& with(double v) {
    good_ = good_ && sqlite3_bind_double(s_, ++bound_, v) == SQLITE_OK;
    return *this;
  }
  Statement& with(std::int64_t v) {
    good_ = good_ && sqlite3_bind_int64(s_, ++bound_, v) == SQLITE_OK;
    return *this;
  }
  Statement& with(const std::optional<double>& v) {
    if (v) return with(*v);
    good_ = good_ && sqlite3_bind_null(s_, ++bound_) == SQLITE_OK;
    return *this;
  }
  /// For the next values, where it is run again.
  void again() {
    sqlite3_reset(s_);
    bound_ = 0;
  }
  bool row() {
    const int got = good_ ? sqlite3_step(s_) : SQLITE_ERROR;
    good_ = got == SQLITE_ROW || got == SQLITE_DONE;
    return got == SQLITE_ROW;
  }
  /// To its end; whether that went well.
  bool run() {
    while (row()) {
    }
    return good_;
  }
  bool good() const { return good_; }
  std::string text(int column) const {
    const auto* t = reinterpret_cast<const char*>(sqlite3_column_text(s_, column));
    return t == nullptr ? "" : std::string(t, static_cast<std::size_t>(sqlite3_column_bytes(s_, column)));
  }
  bool null(int column) const { return sqlite3_column_type(s_, column) == SQLITE_NULL; }
  double number(int column) const { return sqlite3_column_double(s_, column); }
  std::int64_t count(int column) const { return sqlite3_column_int64(s_, column); }

 private:
  sqlite3_stmt* s_ = nullptr;
  int bound_ = 0;
  bool good_ = false;
};

}  // namespace isodyne::session
