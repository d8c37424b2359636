// The little of SQLite that the logbook needs.
#pragma once

#include <bayswap/base.hpp>

#include <sqlite3.h>

#include <memory>
#include <optional>
#include <string>
#include <utility>

namespace bayswap {

[[nodiscard]] tl::unexpected<Error> sql_error(sqlite3* db, std::string_view doing);

/// Runs statements without parameters or rows.
[[nodiscard]] Result<void> sql_run(sqlite3* db, const char* statements);

/// One prepared statement; parameters count from 1, columns from 0.
class Statement {
 public:
  [[nodiscard]] static Result<Statement> prepare(sqlite3* db, const std::string& text);
  Statement& bind(int index, std::int64_t value);
  Statement& bind(int index, std::string_view value);
  Statement& bind(int index, const std::optional<std::string>& value);
  /// True while there is a row.
  [[nodiscard]] Result<bool> step();
  [[nodiscard]] std::int64_t integer(int column) const;
  [[nodiscard]] std::string text(int column) const;
  [[nodiscard]] bool is_null(int column) const;

 private:
  explicit Statement(sqlite3_stmt* statement) : statement_(statement, &sqlite3_finalize) {}
  std::unique_ptr<sqlite3_stmt, int (*)(sqlite3_stmt*)> statement_;
};

/// All or nothing: rolled back when destroyed before `commit`.
class Transaction {
 public:
  [[nodiscard]] static Result<Transaction> begin(sqlite3* db);
  Transaction(Transaction&& other) noexcept : db_(std::exchange(other.db_, nullptr)) {}
  Transaction& operator=(Transaction&&) = delete;
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  ~Transaction();
  [[nodiscard]] Result<void> commit();

 private:
  explicit Transaction(sqlite3* db) : db_(db) {}
  sqlite3* db_;
};

}  // namespace bayswap
