// What is known of a game's chips beyond its header: what was learned, and what saves in place tell.
#include <bayswap/bay_view.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "bay/book_file.hpp"

namespace bayswap {
namespace {

constexpr std::size_t largest_chip = std::size_t{64} << 20;

// "eeprom 2048".
std::optional<ChipFact> chip_from_text(std::string_view text) {
  const auto space = text.find(' ');
  if (space == std::string_view::npos) return std::nullopt;
  const auto role = role_from_text(text.substr(0, space));
  std::size_t size = 0;
  const auto [end, problem] = std::from_chars(text.data() + space + 1, text.data() + text.size(), size);
  if (!role || role->number != 0 || problem != std::errc{} || end != text.data() + text.size() || size == 0 ||
      size > largest_chip)
    return std::nullopt;
  return ChipFact{role->kind, size, {}};
}

}  // namespace

void add_chips(std::vector<ChipFact>& chips, const std::vector<ChipFact>& more) {
  for (const ChipFact& chip : more) {
    const auto there = std::ranges::find(chips, chip.kind, &ChipFact::kind);
    if (there == chips.end()) {
      chips.push_back(chip);
    } else if (there->size_bytes == 0) {
      *there = chip;
    }
  }
}

bool ChipBook::is_about(const Row& row, const GameId& game) {
  if (saves_as(row.platform) != saves_as(game.platform)) return false;
  return row.code.empty() || game.code.empty() ? !row.title.empty() && row.title == game.title
                                               : row.code == game.code;
}

Result<ChipBook> ChipBook::parse(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin, max_book_size_bytes));
  TableReader reader(root, origin);
  ChipBook book;
  BAYSWAP_TRY(auto games, reader.tables("game"));
  for (TableReader& game : games) {
    Row row;
    BAYSWAP_TRY(const std::string platform, game.needed_text("platform"));
    const auto known = platform_from_tag(platform);
    if (!known) return game.error("platform", fmt::format("unknown platform '{}'", printable(platform)));
    row.platform = *known;
    BAYSWAP_TRY(auto code, game.text("code"));
    BAYSWAP_TRY(auto title, game.text("title"));
    row.code = std::move(code).value_or("");
    row.title = std::move(title).value_or("");
    if (row.code.empty() && row.title.empty())
      return game.error("platform", "a game needs its code or its title, as the ROM's header has it");
    BAYSWAP_TRY(const auto chips, game.texts("chips"));
    BAYSWAP_TRY(const auto because, game.text("because"));
    for (const std::string& text : chips.value_or(std::vector<std::string>{})) {
      auto chip = chip_from_text(text);
      if (!chip)
        return game.error("chips", fmt::format("'{}' is not a chip", printable(text)),
                          "write a kind (eeprom, sram, flash) and its size in bytes, e.g. \"eeprom 2048\"");
      chip->evidence = because.value_or("so it was learned");
      row.chips.push_back(*std::move(chip));
    }
    BAYSWAP_CHECK(game.no_other_keys());
    book.rows_.push_back(std::move(row));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return book;
}

std::string ChipBook::to_toml() const {
  std::string out =
      "# The save chips of games whose ROMs do not show them. Bay Swap adds what it learns; you may edit "
      "it.\n";
  for (const Row& row : rows_) {
    out += fmt::format("\n[[game]]\nplatform = {}\n", toml_quoted(tag(row.platform)));
    if (!row.code.empty()) out += fmt::format("code = {}\n", toml_quoted(row.code));
    if (!row.title.empty()) out += fmt::format("title = {}\n", toml_quoted(row.title));
    std::vector<std::string> chips;
    for (const ChipFact& chip : row.chips)
      chips.push_back(toml_quoted(fmt::format("{} {}", to_text(Role{chip.kind, 0}), chip.size_bytes)));
    out += fmt::format("chips = [{}]\n", joined(chips, ", "));
    if (!row.chips.empty()) out += fmt::format("because = {}\n", toml_quoted(row.chips.back().evidence));
  }
  return out;
}

Result<ChipBook> ChipBook::load(const Home& home) {
  return load_book<ChipBook>(home.chips);
}

Result<void> ChipBook::save(const Home& home) const {
  return save_book(home.chips, to_toml());
}

std::vector<ChipFact> ChipBook::chips_of(const GameId& game) const {
  std::vector<ChipFact> chips;
  for (const Row& row : rows_)
    if (is_about(row, game)) add_chips(chips, row.chips);
  return chips;
}

bool ChipBook::learn(const GameId& game, const ChipFact& chip) {
  if (chip.size_bytes == 0 || (game.code.empty() && game.title.empty())) return false;
  auto row = std::ranges::find_if(rows_, [&](const Row& known) { return is_about(known, game); });
  if (row == rows_.end()) {
    rows_.push_back({game.platform, game.code, game.title, {}});
    row = rows_.end() - 1;
  }
  const auto known = std::ranges::find(row->chips, chip.kind, &ChipFact::kind);
  if (known == row->chips.end()) {
    row->chips.push_back(chip);
    return true;
  }
  if (known->size_bytes == chip.size_bytes) return false;
  *known = chip;
  return true;
}

std::size_t ChipBook::forget(std::string_view code_or_title) {
  const std::string wanted = lower(code_or_title);
  return std::erase_if(rows_, [&](const Row& row) {
    return (!row.code.empty() && lower(row.code) == wanted) ||
           (!row.title.empty() && lower(row.title) == wanted);
  });
}

namespace {

void chips_seen_by(const PlatformRule& rule, BayView& view, const GameId& game, const Save* not_this,
                   std::vector<ChipFact>& chips) {
  const auto roms = view.roms(rule);
  if (!roms) return;
  for (const RomFile& rom : **roms) {
    const GameMatch match = compare(game, rom.facts.game);
    if (match != GameMatch::same && match != GameMatch::other_revision) continue;
    const auto files = places(view.catalog(), rule, {rom.path, rom.facts.game, 1, {}});
    if (!files) continue;
    for (const SaveFile& file : *files) {
      const Slot* sized = file.layout->variable_slot();
      if (sized == nullptr) continue;
      const auto bytes = view.store().read_if_there(file.path);
      if (!bytes || !*bytes || (*bytes)->empty()) continue;
      const auto opened = open_save(*file.layout, **bytes);
      const Part* part =
          opened && opened->fitted.fit == Fit::exact ? opened->save.find(sized->role) : nullptr;
      const Part* own = part != nullptr && not_this != nullptr ? not_this->find(part->role) : nullptr;
      if (own != nullptr && own->bytes == part->bytes) continue;
      if (part != nullptr && !is_blank(*part))
        add_chips(chips, {{part->role.kind, part->bytes.size(),
                           fmt::format("the save {} in {} has {} bytes of it", file.path, view.bay().name,
                                       part->bytes.size())}});
    }
  }
}

}  // namespace

std::vector<ChipFact> chips_seen(BayView& view, const GameId& game, const Save* not_this) {
  std::vector<ChipFact> chips;
  for (const PlatformRule* rule : view.bay().rules_of(game.platform))
    if (rule->keeping == Keeping::file) chips_seen_by(*rule, view, game, not_this, chips);
  return chips;
}

}  // namespace bayswap
