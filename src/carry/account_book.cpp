// accounts.toml: which account of one bay is which of another.
#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "bay/book_file.hpp"

namespace bayswap {

Result<AccountBook> AccountBook::parse(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin, max_book_size_bytes));
  TableReader reader(root, origin);
  AccountBook book;
  BAYSWAP_TRY(auto tables, reader.tables("pair"));
  for (TableReader& table : tables) {
    Row row;
    BAYSWAP_TRY(row.from_bay, table.needed_text("from"));
    BAYSWAP_TRY(row.to_bay, table.needed_text("to"));
    BAYSWAP_TRY(auto account, table.text("account"));  // missing where the bay has no accounts
    row.from = std::move(account).value_or("");
    BAYSWAP_TRY(row.to, table.needed_text("is"));
    BAYSWAP_CHECK(table.no_other_keys());
    book.rows_.push_back(std::move(row));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return book;
}

Result<AccountBook> AccountBook::load(const Home& home) {
  return load_book<AccountBook>(home.accounts);
}

Result<void> AccountBook::save(const Home& home) const {
  std::string out =
      "# Which account of a bay is which of another. Bay Swap adds what you pass to it; you may edit it.\n";
  for (const Row& row : rows_) {
    out +=
        fmt::format("\n[[pair]]\nfrom = {}\nto = {}\n", toml_quoted(row.from_bay), toml_quoted(row.to_bay));
    if (!row.from.empty()) out += fmt::format("account = {}\n", toml_quoted(row.from));
    out += fmt::format("is = {}\n", toml_quoted(row.to));
  }
  return save_book(home.accounts, out);
}

AccountMap AccountBook::between(const std::string& from_bay, const std::string& to_bay) const {
  AccountMap map;
  for (const Row& row : rows_) {
    if (row.from_bay == from_bay && row.to_bay == to_bay) map.emplace_back(row.from, row.to);
    if (row.from_bay == to_bay && row.to_bay == from_bay) map.emplace_back(row.to, row.from);
  }
  return map;
}

bool AccountBook::learn(const std::string& from_bay, const std::string& to_bay, const std::string& from,
                        const std::string& to) {
  const auto row = std::ranges::find_if(rows_, [&](const Row& known) {
    return known.from_bay == from_bay && known.to_bay == to_bay && known.from == from;
  });
  if (row == rows_.end()) {
    rows_.push_back({from_bay, to_bay, from, to});
    return true;
  }
  if (row->to == to) return false;
  row->to = to;
  return true;
}

}  // namespace bayswap
