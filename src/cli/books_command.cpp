// What was learned or said: listed, and forgotten.
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

std::string chips_in_words(const ChipBook::Row& row) {
  std::vector<std::string> chips;
  for (const ChipFact& chip : row.chips)
    chips.push_back(fmt::format("{} of {} bytes", to_text(Role{chip.kind, 0}), chip.size_bytes));
  return joined(chips, ", ");
}

Result<int> list_chips(const Globals& globals) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  for (const ChipBook::Row& row : books->chips.rows()) {
    Json chips = Json::array();
    for (const ChipFact& chip : row.chips)
      chips.push_back({{"kind", to_text(Role{chip.kind, 0})},
                       {"size_bytes", chip.size_bytes},
                       {"because", chip.evidence}});
    list.push_back({{"platform", tag(row.platform)},
                    {"code", row.code},
                    {"title", row.title},
                    {"chips", std::move(chips)}});
    rows.push_back({std::string(tag(row.platform)), row.code, printable(row.title), chips_in_words(row),
                    row.chips.empty() ? "" : printable(row.chips.back().evidence)});
  }
  if (globals.json)
    print_json(list);
  else if (rows.empty())
    fmt::print("No chips are noted. `bayswap carry ... --chip KIND=BYTES` says what a game has.\n");
  else
    print_table({"for", "code", "title", "chips", "because"}, rows);
  return exit_done;
}

Result<int> forget_chips(const Globals& globals, const std::string& game) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  std::vector<std::string> known;
  for (const ChipBook::Row& row : books->chips.rows())
    for (const std::string& name : {row.code, row.title})
      if (!name.empty()) known.push_back(name);
  const std::size_t count = books->chips.forget(game);
  if (count == 0) {
    const std::string near = did_you_mean(game, known);
    return fail(ErrorCode::not_found, fmt::format("no chips of '{}' are noted", printable(game)),
                near.empty() ? "`bayswap chips` lists what is noted" : near);
  }
  BAYSWAP_CHECK(books->chips.save(books->home));
  say(globals.quiet, fmt::format("Forgot the chips of '{}'.", printable(game)));
  if (globals.json) print_json({{"forgotten", count}});
  return exit_done;
}

Result<int> list_pairs(const Globals& globals) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  for (const RomPair& pair : books->pairs.pairs()) {
    list.push_back({{"bay", pair.bay}, {"save", pair.save}, {"rom_bay", pair.rom_bay}, {"rom", pair.rom}});
    rows.push_back({pair.bay, printable(pair.save), pair.rom_bay, printable(pair.rom)});
  }
  if (globals.json)
    print_json(list);
  else if (rows.empty())
    fmt::print("No save is paired with a ROM. `bayswap carry SAVE ... --rom ROM` pairs them.\n");
  else
    print_table({"bay", "save", "bay", "ROM"}, rows);
  return exit_done;
}

Result<int> forget_pairs(const Globals& globals, const std::string& path) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  std::vector<std::string> known;
  for (const RomPair& pair : books->pairs.pairs())
    for (const std::string& name : {pair.save, pair.rom}) known.push_back(name);
  const std::size_t count = books->pairs.forget(path);
  if (count == 0) {
    const std::string near = did_you_mean(path, known);
    return fail(ErrorCode::not_found, fmt::format("'{}' is in no pair", printable(path)),
                near.empty() ? "`bayswap pairs` lists them" : near);
  }
  BAYSWAP_CHECK(books->pairs.save(books->home));
  say(globals.quiet, fmt::format("Forgot {}.", count == 1 ? "a pair" : fmt::format("{} pairs", count)));
  if (globals.json) print_json({{"forgotten", count}});
  return exit_done;
}

int code_of(const Result<int>& code) {
  return exit_code_of(code);
}

}  // namespace

int chips_command(const Globals& globals) {
  return code_of(list_chips(globals));
}
int chips_forget_command(const Globals& globals, const std::string& game) {
  return code_of(forget_chips(globals, game));
}
int pairs_command(const Globals& globals) {
  return code_of(list_pairs(globals));
}
int pairs_forget_command(const Globals& globals, const std::string& path) {
  return code_of(forget_pairs(globals, path));
}

}  // namespace bayswap::cli
