// Our TOML files (layouts, bays) read strictly: every key is known, every value has its type, and each error
// names file and line.
#pragma once

#include <bayswap/base.hpp>

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace bayswap {

/// Of files that people write, and of those that grow: what is remembered of titles, accounts and chips, and
/// an entry of the logbook with all its files.
inline constexpr std::size_t max_toml_size_bytes = std::size_t{256} << 10;
inline constexpr std::size_t max_book_size_bytes = std::size_t{4} << 20;     // what was learned
inline constexpr std::size_t max_sheet_size_bytes = std::size_t{2} << 20;    // with its tables
inline constexpr std::size_t max_record_size_bytes = std::size_t{16} << 20;  // an entry of 50,000 files

/// A file that was parsed. The library that does it is included in toml_reader.cpp alone: it takes seconds to
/// compile. Copies share the tree.
class TomlFile {
 private:
  friend class TableReader;
  friend Result<TomlFile> parse_toml(std::string_view text, const std::string& origin, std::size_t limit);
  explicit TomlFile(std::shared_ptr<const void> table) : table_(std::move(table)) {}
  std::shared_ptr<const void> table_;  // a toml::table
};

/// Parses `text`. Fails with `bad_usage`, and file and line, if it is not TOML, is over the limit, or names
/// and brackets go too deep.
[[nodiscard]] Result<TomlFile> parse_toml(std::string_view text, const std::string& origin,
                                          std::size_t limit = max_toml_size_bytes);

/// One table of such a file, which must outlive it. Keys are asked for by name; `no_other_keys` then refuses
/// whatever was not asked for.
class TableReader {
 public:
  TableReader(const TomlFile& file, std::string origin) : TableReader(file.table_.get(), std::move(origin)) {}

  /// An error of this table, or of the value of `key` in it.
  [[nodiscard]] tl::unexpected<Error> error(std::string_view key, const std::string& what,
                                            std::string hint = {}) const;

  /// The value; nothing where the key is absent; an error where it is of another type.
  [[nodiscard]] Result<std::optional<std::string>> text(std::string_view key);
  [[nodiscard]] Result<std::optional<std::int64_t>> integer(std::string_view key);
  [[nodiscard]] Result<std::optional<std::vector<std::int64_t>>> integers(std::string_view key);
  [[nodiscard]] Result<std::optional<bool>> truth(std::string_view key);
  /// A text, or a whole number as a text.
  [[nodiscard]] Result<std::optional<std::string>> text_or_integer(std::string_view key);
  /// The same of a list; one value counts as a list of one.
  [[nodiscard]] Result<std::optional<std::vector<std::string>>> texts_or_integers(std::string_view key);
  /// A list of lists of texts and whole numbers; empty where absent.
  using Cell = std::variant<std::int64_t, std::string>;
  [[nodiscard]] Result<std::vector<std::vector<Cell>>> rows(std::string_view key);
  /// Returns whether the key has a table as its value. Does not count as asking for it.
  [[nodiscard]] bool is_table(std::string_view key) const;
  /// One text counts as a list of one.
  [[nodiscard]] Result<std::optional<std::vector<std::string>>> texts(std::string_view key);
  /// `[[key]]`: empty where absent.
  [[nodiscard]] Result<std::vector<TableReader>> tables(std::string_view key);
  /// `[key]`, or nothing.
  [[nodiscard]] Result<std::optional<TableReader>> table(std::string_view key);
  /// The names of the tables in this table, in the order of the file; anything else in it is an error.
  [[nodiscard]] Result<std::vector<std::string>> table_names();

  /// Every key in this table, in the order of the file.
  [[nodiscard]] Result<std::vector<std::string>> keys();

  /// A text that must be there.
  [[nodiscard]] Result<std::string> needed_text(std::string_view key);

  [[nodiscard]] Result<void> no_other_keys() const;

 private:
  struct Access;  // to the library's tree
  TableReader(const void* table, std::string origin) : table_(table), origin_(std::move(origin)) {}

  const void* table_;
  std::string origin_;
  std::vector<std::string> asked_;
};

/// `text` as a TOML basic string, quotes included.
[[nodiscard]] std::string toml_quoted(std::string_view text);

}  // namespace bayswap
