#include <bayswap/card.hpp>
#include <bayswap/inspect.hpp>
#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "inspect/disc_sheet.hpp"
#include "inspect/look.hpp"
#include "inspect/packed_rom.hpp"
#include "inspect/single_saves.hpp"
#include "inspect/states.hpp"

namespace bayswap {

std::optional<Platform> platform_of(const Hints& hints) {
  if (hints.platform) return hints.platform;
  return hints.game ? std::optional(hints.game->platform) : std::nullopt;
}

namespace {

void describe_unknown(const Catalog& catalog, const Blob& bytes, const Hints& hints, Finding& finding) {
  if (bytes.empty()) {
    finding.evidence.emplace_back(
        "the file is empty: the copy or the save was cut off before its first byte");
    return;
  }
  Byte fill = 0;
  if (is_uniform(bytes.view(), &fill))
    finding.evidence.push_back(fmt::format("every byte is {:02X}: it holds nothing", fill));
  if (hints.states != nullptr)
    for (const StateMap* map : hints.states->all())
      for (const StateMark& mark : map->marks)
        if (mark.in_file && mark.at == 0 && bytes.size() > mark.bytes.size() &&
            std::equal(mark.bytes.begin(), mark.bytes.end(), bytes.view().begin())) {
          finding.evidence.emplace_back(
              map->picture_size.first > 0
                  ? "it is a picture: of no state that a map knows, or of one that breaks off"
                  : "it begins as save states of a known kind do, and breaks off: copy it again");
          return;
        }
  // The nearest size that a layout has: a file cut short or with a few bytes too many.
  const Layout* nearest = nullptr;
  std::size_t nearest_size = 0;
  const auto distance = [&](std::size_t size) {
    return size > bytes.size() ? size - bytes.size() : bytes.size() - size;
  };
  const auto platform = platform_of(hints);
  for (const Layout* layout : catalog.all(platform))
    for (const std::size_t size : layout->file_sizes())
      if (nearest == nullptr || distance(size) < distance(nearest_size)) {
        nearest = layout;
        nearest_size = size;
      }
  finding.evidence.push_back(fmt::format(
      "no layout{} has {} bytes", platform ? fmt::format(" of {}", tag(*platform)) : "", bytes.size()));
  if (nearest != nullptr)
    finding.evidence.push_back(fmt::format("{} comes nearest with {} bytes: {} {}", nearest->id, nearest_size,
                                           distance(nearest_size),
                                           nearest_size > bytes.size() ? "are missing" : "are too many"));
}

// Whether nothing but the order of bytes tells these layouts apart.
bool differ_in_order(const std::vector<const Layout*>& layouts) {
  const Layout& first = *layouts.front();
  return std::ranges::all_of(layouts, [&](const Layout* layout) {
    return layout->fields.empty() && layout->slots.size() == first.slots.size() &&
           layout->size == first.size && layout->slots.front().at == first.slots.front().at &&
           layout->slots.front().file_sizes == first.slots.front().file_sizes;
  });
}

void say_either(const Recognition& recognition, Finding& finding) {
  constexpr std::size_t max_named = 8;
  std::string ids;
  bool one_platform = true;
  bool one_role = true;
  finding.confidence = 0;  // that it is one of them
  for (std::size_t i = 0; i < recognition.alike; ++i) {
    const LayoutMatch& match = recognition.matches[i];
    finding.either.push_back(match.layout);
    finding.confidence += match.confidence;
    one_platform = one_platform && match.layout->platform == finding.either.front()->platform;
    one_role = one_role && match.layout->slots.front().role == finding.either.front()->slots.front().role;
    if (i < max_named) ids += (i == 0 ? "either " : " or ") + match.layout->id;
  }
  if (recognition.alike > max_named) ids += fmt::format(" or {} more", recognition.alike - max_named);
  if (!one_platform) finding.platform.reset();
  finding.evidence.push_back(
      ids + (!one_platform ? ": its size is all that is known; the game's ROM or where it came from decides"
             : one_role && differ_in_order(finding.either)
                 ? ": they differ in byte order alone; where the file came from decides"
             : one_role ? ": their sizes and parts are the same; where the file came from decides"
                        : ": the chip the game has decides; its ROM may tell"));
}

}  // namespace

Finding rom_finding(RomFacts facts, std::size_t size_bytes) {
  Finding finding;
  finding.size_bytes = size_bytes;
  finding.kind = FileKind::rom;
  finding.platform = facts.game.platform;
  finding.confidence = facts.confidence;
  finding.evidence = std::move(facts.evidence);
  for (const ChipFact& chip : facts.chips) finding.evidence.push_back(chip.evidence);
  finding.game = std::move(facts.game);
  return finding;
}

namespace {

// What is on it, and whether it keeps its own rules.
void describe_card(const Card& card, Finding& finding) {
  std::size_t saves = 0;
  for (const CardEntry& entry : card.entries()) saves += entry.state == CardEntry::State::good ? 1 : 0;
  finding.evidence.push_back(fmt::format("{} saves on it, {} of {} {}s free", saves, card.free_blocks(),
                                         card.capacity_blocks(), card.block_bytes() == 1 ? "byte" : "block"));
  if (const std::size_t problems = card.check().size(); problems > 0)
    finding.evidence.push_back(fmt::format("it breaks its own rules in {} places", problems));
}

// Backup memories are carried as a chip is: their layouts tell them, and know where they can be.
bool has_layouts(CardKind kind) {
  return kind == CardKind::n64 || kind == CardKind::pce || kind == CardKind::sat || kind == CardKind::scd;
}

// A card of many saves.
bool find_card(const Blob& bytes, std::optional<Platform> platform, Finding& finding) {
  // A console that is known, and has no cards, spares looking for them.
  if (platform && !card_kind_from_text(tag(*platform))) return false;
  const auto guess = guess_card(bytes.view());
  // Inside of something, or with its bytes exchanged, no layout has it.
  if (!guess || (has_layouts(guess->kind) && guess->wrapper_bytes == 0 && guess->reversed_in == 1))
    return false;
  const auto card = open_card(bytes);
  if (!card) return false;
  finding.kind = FileKind::memory_card;
  finding.platform = platform_from_tag(to_text(guess->kind));
  finding.confidence = guess->confidence;
  finding.evidence.push_back(guess->evidence);
  if (guess->wrapper_bytes > 0 && card_slots(bytes.view()) == 1)
    finding.evidence.push_back(fmt::format("the card begins at {}; what is around it is kept", guess->at));
  for (std::string& note : (*card)->notes()) finding.evidence.push_back(std::move(note));
  describe_card(**card, finding);
  return true;
}

}  // namespace

std::string_view to_text(FileKind kind) {
  switch (kind) {
    case FileKind::unknown:
      return "unknown";
    case FileKind::rom:
      return "ROM";
    case FileKind::battery_save:
      return "battery save";
    case FileKind::controller_pak:
      return "controller pak";
    case FileKind::memory_card:
      return "memory card";
    case FileKind::single_save:
      return "single save";
    case FileKind::package:
      return "package";
    case FileKind::parameter_file:
      return "parameter file";
    case FileKind::avatar_database:
      return "avatar database";
    case FileKind::save_state:
      return "save state";
    case FileKind::save_part:
      return "file of a save";
  }
  return "unknown";
}

Finding inspect(const Catalog& catalog, const Blob& bytes, const Hints& hints) {
  if (auto rom = identify_rom(bytes.view())) return rom_finding(*std::move(rom), bytes.size());
  return inspect_save(catalog, bytes, hints);
}

Finding inspect_save(const Catalog& catalog, const Blob& bytes, const Hints& hints) {
  Finding finding;
  finding.size_bytes = bytes.size();
  finding.game = hints.game;
  constexpr std::string_view own_mark = "bayscan";
  if (bytes.size() > own_mark.size() &&
      std::equal(own_mark.begin(), own_mark.end(), bytes.view().begin(),
                 [](char c, Byte b) { return static_cast<Byte>(c) == b; })) {
    finding.evidence.emplace_back("Bay Swap's own memory of a scan");
    return finding;
  }
  const auto unwrapped = unwrap(bytes);
  if (!unwrapped) finding.evidence.push_back(unwrapped.error().message);
  const Blob plain = unwrapped ? unwrapped->plain : bytes;
  if (unwrapped && unwrapped->kind != Compression::none) {
    finding.compression = unwrapped->kind;
    finding.evidence.push_back(fmt::format("it is compressed as a whole ({}): {} bytes come out of {}",
                                           to_text(unwrapped->kind), plain.size(), bytes.size()));
  }
  if (find_mapped_state(bytes, hints, finding)) return finding;
  if (find_package(plain, finding) || find_card(plain, hints.platform, finding)) return finding;
  Recognition recognition = recognise(catalog, plain, hints);
  if (find_single(plain, false, finding)) return finding;
  // A save of a card may be as long as a chip.
  if (!recognition.matches.empty() && !hints.game && !hints.platform && find_bare_content(plain, finding))
    return finding;
  if (recognition.matches.empty() &&
      (find_other_state(catalog, bytes, hints, finding) || find_single(plain, true, finding)))
    return finding;
  if (recognition.matches.empty()) {
    describe_unknown(catalog, plain, hints, finding);
    return finding;
  }
  double sum = 0;
  for (const LayoutMatch& match : recognition.matches) sum += match.confidence;
  constexpr double hardly = 0.05;
  if (!hints.game && !hints.platform && sum < hardly) {
    // Its size, and bytes that such a save does not have.
    finding.evidence.push_back(fmt::format("{} bytes is the size of {}, but what is in it is not",
                                           plain.size(), recognition.matches.front().layout->id));
    return finding;
  }
  LayoutMatch& best = recognition.matches.front();
  finding.layout = best.layout;
  finding.platform = best.layout->platform;
  finding.confidence = best.confidence;
  finding.fit = best.fit;
  std::ranges::move(best.evidence, std::back_inserter(finding.evidence));
  if (hints.game)
    finding.evidence.push_back(
        fmt::format("it belongs to '{}' of {}", hints.game->title, tag(hints.game->platform)));
  if (recognition.either()) say_either(recognition, finding);
  if (const auto opened = open_save(*best.layout, plain, hints.chips))
    for (const Part& part : opened->save.parts) {
      finding.parts.push_back({part.role, part.bytes.size(), is_blank(part)});
      for (DumpDefect& defect : defects(part)) finding.evidence.push_back(std::move(defect.text));
    }
  const bool pak_alone = finding.parts.size() == 1 && finding.parts.front().role.kind == PartKind::pak;
  finding.kind = pak_alone ? FileKind::controller_pak : FileKind::battery_save;
  if (const auto card =
          finding.parts.size() == 1 ? card_kind_from_text(tag(best.layout->platform)) : std::nullopt;
      card && has_layouts(*card))
    if (const auto opened = open_card(plain); opened && (*opened)->kind() == *card) {
      // Its mark was found, and its directory can be read: nothing else has both.
      if (*card == CardKind::sat || *card == CardKind::pce)
        finding.confidence = std::max(finding.confidence, 0.98);
      describe_card(**opened, finding);
    }
  if (std::ranges::all_of(finding.parts, &PartFinding::blank))
    finding.evidence.emplace_back(
        "it is blank: a game that never saved, a flat battery, or a read that failed");
  return finding;
}

Hints hints_beside(Store& store, const std::string& path) {
  Hints hints;
  hints.extension = lower(extension_of(path));
  hints.looked_beside = true;
  if (auto rom = rom_beside(store, path)) {
    if (const auto source = rom_source(store, rom->first)) (void)find_chip_tags(*source, rom->second);
    hints.game = std::move(rom->second.game);
    hints.chips = std::move(rom->second.chips);
  }
  return hints;
}

Result<Finding> inspect_file(const Catalog& catalog, Store& store, const std::string& path,
                             const Hints& hints) {
  BAYSWAP_TRY(const auto sheet, read_disc_sheet(store, path));
  if (sheet)
    if (auto facts = identify_rom(store, path)) {
      const auto info = store.stat(path);
      return rom_finding(*std::move(facts),
                         info && *info ? static_cast<std::size_t>((*info)->size_bytes) : 0);
    }
  BAYSWAP_TRY(LookedAt rom, read_as_rom(store, path));
  if (rom.facts) {
    BAYSWAP_CHECK(find_chip_tags(rom.source, *rom.facts));
    return rom_finding(*std::move(rom.facts), static_cast<std::size_t>(rom.source.size_bytes));
  }
  BAYSWAP_TRY(const Blob bytes, rom.whole ? Result<Blob>(*rom.whole) : store.read(path));
  if (const std::string extension = lower(extension_of(path)); extension == ".zip" || extension == ".7z") {
    BAYSWAP_TRY(auto packed, packed_rom(store, path));
    if (packed) {
      Finding finding = rom_finding(std::move(packed->facts), bytes.size());
      finding.evidence.emplace_back("it is alone in an archive");
      return finding;
    }
  }
  Hints known = hints;
  if (!hints.game && !hints.platform && !hints.looked_beside) {
    known = hints_beside(store, path);
    known.states = hints.states;
  }
  // A state is named after its game and its slot.
  for (const std::string& name : names_beside_state(path)) {
    if (known.game || known.platform ||
        name == std::string(path).substr(0, path.size() - extension_of(path).size()))
      continue;
    Hints beside = hints_beside(store, name + ".state");
    if (!beside.game) continue;
    known.game = std::move(beside.game);
    known.chips = std::move(beside.chips);
  }
  Finding finding = inspect_save(catalog, bytes, known);
  name_rom_inside(store, path, bytes, finding);
  compare_with_saves_beside(store, path, catalog, known, bytes, finding);
  return finding;
}

}  // namespace bayswap
