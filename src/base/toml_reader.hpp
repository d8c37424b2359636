// Our TOML files (layouts, bays) read strictly: every key is known, every value has its type, and each error
// names file and line.
#pragma once

#include <bayswap/base.hpp>

#include <initializer_list>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#define TOML_EXCEPTIONS 0
#define TOML_HEADER_ONLY 0
#define TOML_ASSERT(expr) static_assert(true)  // see toml_impl.cpp
#include <toml++/toml.h>

namespace bayswap {

inline constexpr std::size_t max_toml_size_bytes = std::size_t{256} << 10;

/// Parses `text`; `bad_usage` with file and line where it is no TOML, or over 256 KiB.
[[nodiscard]] Result<toml::table> parse_toml(std::string_view text, const std::string& origin);

/// One table of such a file. Keys are asked for by name; `no_other_keys` then refuses whatever was not asked
/// for.
class TableReader {
 public:
  TableReader(const toml::table& table, std::string origin) : table_(&table), origin_(std::move(origin)) {}

  /// An error of this table, or of the value of `key` in it.
  [[nodiscard]] tl::unexpected<Error> error(std::string_view key, const std::string& what,
                                            std::string hint = {}) const;

  /// The value; nothing where the key is absent; an error where it is of another type.
  [[nodiscard]] Result<std::optional<std::string>> text(std::string_view key);
  [[nodiscard]] Result<std::optional<std::int64_t>> integer(std::string_view key);
  [[nodiscard]] Result<std::optional<std::vector<std::int64_t>>> integers(std::string_view key);
  /// One text counts as a list of one.
  [[nodiscard]] Result<std::optional<std::vector<std::string>>> texts(std::string_view key);
  /// `[[key]]`: empty where absent.
  [[nodiscard]] Result<std::vector<TableReader>> tables(std::string_view key);
  /// `[key]`, or nothing.
  [[nodiscard]] Result<std::optional<TableReader>> table(std::string_view key);
  /// The names of the tables in this table, in the order of the file; anything else in it is an error.
  [[nodiscard]] Result<std::vector<std::string>> table_names();

  /// A text that must be there.
  [[nodiscard]] Result<std::string> needed_text(std::string_view key);

  [[nodiscard]] Result<void> no_other_keys() const;

 private:
  [[nodiscard]] const toml::node* node(std::string_view key);
  [[nodiscard]] std::string place(const toml::source_region& source) const;

  const toml::table* table_;
  std::string origin_;
  std::vector<std::string> asked_;
};

/// `text` as a TOML basic string, quotes included.
[[nodiscard]] std::string toml_quoted(std::string_view text);

}  // namespace bayswap
