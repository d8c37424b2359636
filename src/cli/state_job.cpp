#include "cli/state_job.hpp"

#include <bayswap/card.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap::cli {
Json to_json(const Save& save) {
  Json parts = Json::array();
  for (const Part& part : save.parts)
    parts.push_back({{"role", to_text(part.role)},
                     {"size_bytes", part.bytes.size()},
                     {"blank", is_blank(part)},
                     {"sha256", sha256(part.bytes.view()).hex()}});
  return parts;
}

Result<StateFile> StateJob::read_state(const std::string& path) {
  BAYSWAP_TRY(Blob file, disk_.read(path, max_state_bytes));
  if (file.size() == 0)
    return fail(ErrorCode::not_recognised, fmt::format("{} is empty", path),
                "copy it again from where it was made");
  return StateFile(std::move(file));
}

Result<std::vector<StateMap>> StateJob::kinds_of(const StateMaps& maps, const StateFile& file) const {
  std::vector<StateMap> fitting;
  if (!options_.map.empty()) {
    BAYSWAP_TRY(const StateMap* named, maps.find(options_.map));
    fitting.push_back(map_for(*named, file).value_or(*named));
    return fitting;
  }
  for (const StateMap* map : maps.all(what_.platform))
    if (is_state_of(*map, file)) fitting.push_back(*map);
  if (!fitting.empty()) return fitting;
  for (const StateMap* map : maps.all(what_.platform))
    if (auto other = map_for(*map, file)) fitting.push_back(*std::move(other));
  return fitting;
}

// Files beside the state that have its game's name, whatever their extensions are.
std::vector<std::string> StateJob::files_called(const std::vector<std::string>& names,
                                                const std::string& state) {
  constexpr std::size_t most = 16;
  constexpr std::uint64_t largest = std::uint64_t{1} << 20;
  std::vector<std::string> found;
  const std::string folder = folder_of(state);
  const auto entries = disk_.list(folder);
  for (const FileInfo& entry : entries ? *entries : std::vector<FileInfo>{}) {
    const std::string path =
        folder == "." && !state.starts_with("./") ? entry.name : join_path(folder, entry.name);
    const bool is_named = std::ranges::any_of(
        names, [&](const std::string& name) { return lower(stem_of(entry.name)) == lower(name_of(name)); });
    if (entry.kind != FileInfo::Kind::file || !is_named || path == state || entry.size_bytes > largest ||
        identify_rom(disk_, path))
      continue;
    if (found.size() < most) found.push_back(path);
  }
  return found;
}

Result<void> StateJob::learn_about_the_game(const Catalog& catalog, const std::string& state) {
  BAYSWAP_TRY(std::vector<ChipFact> said, chips_from_words(options_.chips));
  if (!options_.platform.empty()) {
    what_.platform = platform_from_tag(options_.platform);
    if (!what_.platform)
      return fail(ErrorCode::bad_usage, fmt::format("--platform {} is none", printable(options_.platform)),
                  "platforms go by their tags: gb, gba, nes, snes, md, ...");
  }
  const std::vector<std::string> names = names_beside_state(state);
  std::optional<RomFacts> rom;
  if (!options_.rom.empty()) {
    auto read = rom_at(globals_, options_.rom);
    if (read)
      rom = *std::move(read);
    else if (read.error().code == ErrorCode::not_recognised && lower(extension_of(options_.rom)) == ".pce")
      what_.platform = Platform::pce;  // these have no header
    else
      return tl::unexpected(std::move(read.error()));
  } else {
    for (const std::string& name : names)
      if (auto beside = rom ? std::nullopt : rom_beside(disk_, name + ".state")) {
        BAYSWAP_TRY(rom, rom_at(globals_, beside->first));
      }
  }
  if (rom) {
    if (what_.platform && saves_as(*what_.platform) != saves_as(rom->game.platform))
      return fail(ErrorCode::bad_usage,
                  fmt::format("the ROM is of {}, not of {}", tag(rom->game.platform), options_.platform),
                  "leave --platform out");
    what_.platform = rom->game.platform;
    what_.chips = rom->chips;
    what_.tells_chips = rom->tells_chips;
  }
  add_chips(said, what_.chips);
  what_.chips = std::move(said);
  // Battery saves of the game: those that were named, and those that lie beside the state.
  std::vector<std::string> known = options_.like;
  for (const std::string& name : names)
    for (const char* extension : {".srm", ".sav", ".eep", ".fla", ".sra"})
      if (std::find(known.begin(), known.end(), name + extension) == known.end())
        known.push_back(name + extension);
  for (std::string& path : files_called(names, state))
    if (std::ranges::find(known, path) == known.end()) known.push_back(std::move(path));
  for (std::size_t i = 0; i < known.size(); ++i) {
    const bool named = i < options_.like.size();
    if (!what_.platform) break;
    if (!named && !disk_.stat(known[i])) continue;
    auto save = save_in(catalog, known[i], *what_.platform);
    if (!save && named) return tl::unexpected(std::move(save.error()));
    if (known[i] == options_.rom) continue;
    if (save && !save->is_blank()) what_.known.push_back({*std::move(save), known[i]});
  }
  for (const std::string& path : options_.others) {
    BAYSWAP_TRY(const StateFile other, read_state(path));
    what_.others.push_back(other.bytes());
  }
  return {};
}

namespace {

// A console's own memory, which it or the program formats long before anything is saved.
bool is_only_formatted(const Save& save) {
  if (save.parts.size() != 1) return false;
  const auto card = open_card(save.parts.front().bytes);
  return card && to_text((*card)->kind()) == tag(save.platform) && (*card)->entries().empty();
}

}  // namespace

Result<FoundBattery> StateJob::battery(const Catalog& catalog, const StateMaps& maps,
                                       const StateFile& file) const {
  BAYSWAP_TRY(const auto kinds, kinds_of(maps, file));
  std::optional<Error> failed;
  bool blank = false;
  for (const StateMap& map : kinds) {
    if (options_.candidate > 0) break;
    auto save = battery_in_state(map, file, what_.chips);
    if (save && !save->is_blank())
      return FoundBattery{map, *std::move(save), is_state_of(map, file).value_or(std::vector<std::string>{})};
    blank = blank || save;
    if (!save) failed = save.error();
  }
  if (!options_.map.empty() && failed) {
    failed->message = fmt::format("{}: {}", options_.state, failed->message);
    return tl::unexpected(*std::move(failed));
  }
  if (blank)
    return fail(ErrorCode::not_found,
                fmt::format("{}: no battery save is in this state: its memory is blank", options_.state),
                "nothing was written; the game had not saved when the state was made");
  // The map that knows the file tells the platform, and may leave the size open.
  BatterySearch what = what_;
  if (!what.platform && !kinds.empty()) what.platform = kinds.front().platform;
  const bool only_size_open = failed && what_.chips.empty() && options_.candidate == 0;
  auto found = by_search(catalog, maps, file, std::move(what), !only_size_open);
  if (found && options_.candidate == 0 && is_only_formatted(found->save))
    return fail(ErrorCode::not_found,
                fmt::format("{}: no battery save is in this state: its backup memory is formatted, and holds "
                            "no save",
                            options_.state),
                "nothing was written; --candidate 1 takes the memory all the same");
  if (!found && only_size_open && found.error().code == ErrorCode::not_recognised) {
    failed->message = fmt::format("{}: {}", options_.state, failed->message);
    return tl::unexpected(*std::move(failed));
  }
  return found;
}

Result<FoundBattery> StateJob::by_search(const Catalog& catalog, const StateMaps& maps, const StateFile& file,
                                         BatterySearch what, bool print) const {
  if (!what.platform)
    return fail(ErrorCode::not_recognised,
                fmt::format("{} is a state of no kind that a map describes, and its platform is not known",
                            options_.state),
                "name the game's ROM with --rom, or its platform with --platform");
  what.maps = &maps;
  const BatteryFinds finds = find_batteries(catalog, file, what);
  const auto& all = finds.candidates;
  if (options_.candidate > 0) {
    const auto number = static_cast<std::size_t>(options_.candidate);
    if (number > all.size())
      return fail(ErrorCode::bad_usage,
                  fmt::format("there is no candidate {}: the state has {}", number, all.size()),
                  "without --candidate all are listed");
    return FoundBattery{all[number - 1].map, all[number - 1].save, all[number - 1].evidence};
  }
  if (!all.empty() && all.front().certain)
    return FoundBattery{all.front().map, all.front().save, all.front().evidence};
  if (!all.empty()) {
    if (print) print_candidates(finds);
    return fail(
        ErrorCode::not_recognised,
        fmt::format("{}: no place is clearly the battery save; {} could be it", options_.state,
                    all.size() == 1 ? "one" : fmt::format("{} places", all.size())),
        what_.chips.empty()
            ? "nothing was written; --rom gives the chip's size, --like FILE a battery save of the "
              "game, "
              "--candidate N takes one of these"
            : "nothing was written; --like FILE names a battery save of the game, --candidate N takes one of "
              "these");
  }
  const bool has_no_chip = what_.tells_chips && what_.chips.empty();
  if (finds.blank || has_no_chip)
    return fail(ErrorCode::not_found,
                fmt::format("{}: no battery save is in this state: {}", options_.state,
                            finds.blank ? "the memory for it is blank" : "the game has no chip for one"),
                finds.blank ? "nothing was written; the game had not saved when the state was made"
                            : "nothing was written");
  // It can be there all the same: without a name, a size or an edge around it nothing shows where.
  std::vector<std::string> known;
  for (const KnownBattery& one : what_.known) known.push_back(one.display_path);
  std::size_t bytes = 0;
  for (const Layer& layer : file.layers()) bytes += layer.bytes.size();
  return fail(
      ErrorCode::not_found,
      fmt::format("{}: the battery save was not found in this state: {} of {} bytes were searched by names, "
                  "sizes and edges{}",
                  options_.state, counted(file.layers().size(), "layer"), bytes,
                  what_.known.empty() ? ", with no battery save of the game to compare with"
                                      : fmt::format(", and for what {} has", joined(known, " and "))),
      what_.known.empty() ? "pass --like FILE, a battery save of the game, older or newer; or load the "
                            "state, and save in the game"
                          : "load the state, and save in the game");
}

void StateJob::print_candidates(const BatteryFinds& finds) const {
  if (globals_.json) {
    Json all = Json::array();
    for (const BatteryCandidate& one : finds.candidates)
      all.push_back({{"score", one.score},
                     {"layer", to_text(one.map.envelope)},
                     {"at", one.map.batteries.front().at},
                     {"parts", to_json(one.save)},
                     {"evidence", one.evidence}});
    print_json({{"candidates", std::move(all)}});
    return;
  }
  std::vector<std::vector<std::string>> rows;
  for (std::size_t i = 0; i < finds.candidates.size(); ++i) {
    const BatteryCandidate& one = finds.candidates[i];
    const Part& part = one.save.parts.front();
    rows.push_back({fmt::format("{}", i + 1), fmt::format("{:.0f} %", one.score * 100),
                    fmt::format("{} of {}", to_text(part.role), part.bytes.size()),
                    joined(one.evidence, "; ")});
  }
  print_table({"no.", "likely", "what", "why"}, rows, {0, 1});
  fmt::print("\n");
}

Result<Save> StateJob::save_in(const Catalog& catalog, const std::string& path, Platform platform) const {
  BAYSWAP_TRY(const Blob bytes, disk_.read(path));
  OpenOptions how;
  how.hints.platform = saves_as(platform);
  how.hints.chips = what_.chips;
  how.display_path = path;
  IssueList issues;
  BAYSWAP_TRY(const OpenedChips opened, open_chips(catalog, bytes, how, issues));
  for (const PlanIssue& issue : issues.all()) say(globals_.quiet, "bayswap: warning: " + issue.text);
  return opened.save;
}

}  // namespace bayswap::cli
