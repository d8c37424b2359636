// pairs.toml: which ROM a save belongs to, where their names do not tell.
#include <fmt/format.h>
#include <bayswap/bay_view.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "bay/book_file.hpp"

namespace bayswap {

Result<PairBook> PairBook::parse(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin, max_book_size_bytes));
  TableReader reader(root, origin);
  PairBook book;
  BAYSWAP_TRY(auto tables, reader.tables("pair"));
  for (TableReader& table : tables) {
    RomPair pair;
    BAYSWAP_TRY(pair.bay, table.needed_text("bay"));
    BAYSWAP_TRY(pair.save, table.needed_text("save"));
    BAYSWAP_TRY(pair.rom_bay, table.needed_text("rom_bay"));
    BAYSWAP_TRY(pair.rom, table.needed_text("rom"));
    for (const auto& [key, path] : {std::pair{"save", &pair.save}, {"rom", &pair.rom}})
      if (!is_safe_relative(*path))
        return table.error(key, fmt::format("'{}' is no path below a bay's root", *path), "write one");
    BAYSWAP_CHECK(table.no_other_keys());
    book.pairs_.push_back(std::move(pair));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return book;
}

std::string PairBook::to_toml() const {
  std::string out =
      "# Saves and the ROMs they belong to, where their names differ. Bay Swap adds what you pass to it; "
      "you "
      "may edit it.\n";
  for (const RomPair& pair : pairs_)
    out += fmt::format("\n[[pair]]\nbay = {}\nsave = {}\nrom_bay = {}\nrom = {}\n", toml_quoted(pair.bay),
                       toml_quoted(pair.save), toml_quoted(pair.rom_bay), toml_quoted(pair.rom));
  return out;
}

Result<PairBook> PairBook::load(const Home& home) {
  return load_book<PairBook>(home.pairs);
}
Result<void> PairBook::save(const Home& home) const {
  return save_book(home.pairs, to_toml());
}

bool PairBook::learn(const RomPair& pair) {
  const auto known = std::find_if(pairs_.begin(), pairs_.end(), [&](const RomPair& one) {
    return one.bay == pair.bay && one.save == pair.save && one.rom_bay == pair.rom_bay;
  });
  if (known == pairs_.end()) {
    pairs_.push_back(pair);
    return true;
  }
  if (known->rom == pair.rom) return false;
  known->rom = pair.rom;
  return true;
}

std::size_t PairBook::forget(std::string_view path) {
  return std::erase_if(pairs_, [&](const RomPair& pair) { return pair.save == path || pair.rom == path; });
}

bool is_pair_of(const std::string& name, const Bay& bay) {
  return name == bay.name || name == bay.root || std::ranges::find(bay.formerly, name) != bay.formerly.end();
}

}  // namespace bayswap
