// titles.toml: which title ids and codes belong to which game.
#include <bayswap/bay_saves.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "bay/book_file.hpp"

namespace bayswap {
namespace {

// "0004000000FF0200", with or without a '/' or '-' in the middle; eight digits where a console has no more.
std::optional<std::uint64_t> title_id_from_text(std::string_view text) {
  std::string digits;
  for (const char c : text)
    if (c != '/' && c != '-') digits += c;
  std::uint64_t id = 0;
  const auto [end, problem] = std::from_chars(digits.data(), digits.data() + digits.size(), id, 16);
  if ((digits.size() != 16 && digits.size() != 8) || problem != std::errc{} ||
      end != digits.data() + digits.size() || id == 0)
    return std::nullopt;
  return id;
}

bool same_id(std::uint64_t a, std::uint64_t b) {
  if (a == 0 || b == 0) return false;
  const bool half = a >> 32 == 0 || b >> 32 == 0;
  return a == b || (half && (a & 0xFFFFFFFF) == (b & 0xFFFFFFFF));
}

// By id, by code, and only where neither is at hand by the title.
bool is_about(const GameId& row, const GameId& game) {
  if (row.platform != game.platform) return false;
  if (same_id(row.title_id, game.title_id)) return true;
  if (row.title_id != 0 && game.title_id != 0) return false;
  if (!row.code.empty() && !game.code.empty()) return row.code == game.code;
  return !row.title.empty() && lower(row.title) == lower(game.title) &&
         (row.region == game.region || game.region == Region::unknown);
}

}  // namespace

Result<TitleBook> TitleBook::parse(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin, max_book_size_bytes));
  TableReader reader(root, origin);
  TitleBook book;
  BAYSWAP_TRY(auto tables, reader.tables("title"));
  for (TableReader& table : tables) {
    GameId game;
    BAYSWAP_TRY(const std::string platform, table.needed_text("platform"));
    const auto known = platform_from_tag(platform);
    if (!known) return table.error("platform", fmt::format("unknown platform '{}'", printable(platform)));
    game.platform = *known;
    BAYSWAP_TRY(game.title, table.needed_text("title"));
    BAYSWAP_TRY(auto code, table.text("code"));
    BAYSWAP_TRY(auto maker, table.text("maker"));
    BAYSWAP_TRY(const auto id, table.text("id"));
    BAYSWAP_TRY(const auto region, table.text("region"));
    game.code = std::move(code).value_or("");
    game.maker = std::move(maker).value_or("");
    if (id) {
      const auto number = title_id_from_text(*id);
      if (!number)
        return table.error("id", fmt::format("'{}' is no title id", printable(*id)),
                           "it has 16 hex digits, or 8 where the console has no more");
      game.title_id = *number;
    }
    game.region = region_of_code(game.platform, game.code);
    if (region) {
      const auto named = region_from_text(*region);
      if (!named) return table.error("region", fmt::format("unknown region '{}'", printable(*region)));
      game.region = *named;
    }
    if (game.code.empty() && game.title_id == 0)
      return table.error("title", "a title needs its id or its code");
    BAYSWAP_CHECK(table.no_other_keys());
    book.titles_.push_back(std::move(game));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return book;
}

std::string TitleBook::to_toml() const {
  std::string out =
      "# Titles by id and code. Bay Swap adds what it learns; you may edit it (docs/titles.md).\n";
  for (const GameId& game : titles_) {
    out += fmt::format("\n[[title]]\nplatform = {}\ntitle = {}\n", toml_quoted(tag(game.platform)),
                       toml_quoted(game.title));
    if (game.region != Region::unknown) out += fmt::format("region = {}\n", toml_quoted(name(game.region)));
    if (!game.code.empty()) out += fmt::format("code = {}\n", toml_quoted(game.code));
    if (game.title_id != 0) out += fmt::format("id = {}\n", toml_quoted(title_id_text(game)));
    if (!game.maker.empty()) out += fmt::format("maker = {}\n", toml_quoted(game.maker));
  }
  return out;
}

Result<TitleBook> TitleBook::load(const Home& home) {
  return load_book<TitleBook>(home.titles);
}

Result<void> TitleBook::save(const Home& home) const {
  return save_book(home.titles, to_toml());
}

void TitleBook::complete(GameId& game) const {
  for (const GameId& row : titles_) {
    if (!is_about(row, game)) continue;
    if (game.title_id >> 32 == 0 && row.title_id != 0) game.title_id = row.title_id;
    if (game.code.empty()) game.code = row.code;
    if (game.title.empty()) game.title = row.title;
    if (game.maker.empty()) game.maker = row.maker;
    if (game.region == Region::unknown) game.region = row.region;
  }
}

std::optional<GameId> TitleBook::in_region(const GameId& game, Region region) const {
  GameId known = game;
  complete(known);
  for (const GameId& row : titles_)
    if (row.platform == game.platform && row.region == region && !known.title.empty() &&
        lower(row.title) == lower(known.title))
      return row;
  return std::nullopt;
}

bool TitleBook::learn(const GameId& game) {
  if (game.title.empty() || (game.code.empty() && game.title_id == 0)) return false;
  const auto row = std::ranges::find_if(titles_, [&](const GameId& known) { return is_about(known, game); });
  if (row == titles_.end()) {
    titles_.push_back(game);
    return true;
  }
  const GameId before = *row;
  if (row->title_id == 0) row->title_id = game.title_id;
  if (row->code.empty()) row->code = game.code;
  if (row->maker.empty()) row->maker = game.maker;
  return row->title_id != before.title_id || row->code != before.code || row->maker != before.maker;
}

}  // namespace bayswap
