#include "logbook/sql.hpp"

#include <fmt/format.h>

#include "base/try.hpp"

namespace bayswap {

tl::unexpected<Error> sql_error(sqlite3* db, std::string_view doing) {
  const int code = sqlite3_errcode(db);
  const bool damaged = code == SQLITE_CORRUPT || code == SQLITE_NOTADB;
  return fail(
      damaged               ? ErrorCode::damaged
      : code == SQLITE_BUSY ? ErrorCode::busy
                            : ErrorCode::io,
      fmt::format("the logbook's index: {} failed: {}", doing, sqlite3_errmsg(db)),
      damaged ? "the kept bytes are still in the logbook's blobs folder; put index.sqlite aside and try again"
              : "no save was changed; check the space and the permissions of the home folder and try again");
}

Result<void> sql_run(sqlite3* db, const char* statements) {
  if (sqlite3_exec(db, statements, nullptr, nullptr, nullptr) != SQLITE_OK) return sql_error(db, "a change");
  return {};
}

Result<Statement> Statement::prepare(sqlite3* db, const std::string& text) {
  sqlite3_stmt* statement = nullptr;
  if (sqlite3_prepare_v2(db, text.c_str(), static_cast<int>(text.size()), &statement, nullptr) != SQLITE_OK)
    return sql_error(db, "a query");
  return Statement(statement);
}

Statement& Statement::bind(int index, std::int64_t value) {
  sqlite3_bind_int64(statement_.get(), index, value);
  return *this;
}

Statement& Statement::bind(int index, std::string_view value) {
  sqlite3_bind_text(statement_.get(), index, value.data(), static_cast<int>(value.size()), SQLITE_TRANSIENT);
  return *this;
}

Statement& Statement::bind(int index, const std::optional<std::string>& value) {
  if (value) return bind(index, std::string_view(*value));
  sqlite3_bind_null(statement_.get(), index);
  return *this;
}

Result<bool> Statement::step() {
  const int code = sqlite3_step(statement_.get());
  if (code == SQLITE_ROW) return true;
  if (code == SQLITE_DONE) return false;
  return sql_error(sqlite3_db_handle(statement_.get()), "a query");
}

std::int64_t Statement::integer(int column) const {
  return sqlite3_column_int64(statement_.get(), column);
}

std::string Statement::text(int column) const {
  const auto* text = sqlite3_column_text(statement_.get(), column);
  if (text == nullptr) return {};
  return {text, text + sqlite3_column_bytes(statement_.get(), column)};
}

bool Statement::is_null(int column) const {
  return sqlite3_column_type(statement_.get(), column) == SQLITE_NULL;
}

Result<Transaction> Transaction::begin(sqlite3* db) {
  BAYSWAP_CHECK(sql_run(db, "BEGIN IMMEDIATE"));
  return Transaction(db);
}

Transaction::~Transaction() {
  if (db_ != nullptr) sqlite3_exec(db_, "ROLLBACK", nullptr, nullptr, nullptr);
}

Result<void> Transaction::commit() {
  BAYSWAP_CHECK(sql_run(db_, "COMMIT"));
  db_ = nullptr;
  return {};
}

}  // namespace bayswap
