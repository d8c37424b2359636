// Which rule of the target takes a save, and whether its folder can be the right one.
#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_rules.hpp"
#include "carry/resolve.hpp"

namespace bayswap {
namespace {

bool takes(const PlatformRule& rule, Content::Kind kind) {
  switch (rule.keeping) {
    case Keeping::file:
      return kind == Content::Kind::chips;
    case Keeping::card:
    case Keeping::single:
      return kind == Content::Kind::item;
    case Keeping::folder:
    case Keeping::package:
      return kind == Content::Kind::tree;
    case Keeping::encrypted:
      return kind == Content::Kind::encrypted;
  }
  return false;
}

// How a program keeps saves: the folder it is in, "" for beside the ROM; by the ROM's whole name or its stem.
using Habit = std::pair<std::string, bool>;

Habit habit_of(const PlatformRule& rule, const RomFile& rom) {
  const std::string& text = rule.path.text();
  const bool is_beside = text.starts_with("{rom.folder}/") || named_folder(text) == folder_of(rom.path);
  return {is_beside ? "" : program_folder(named_folder(text), ""), rule.path.uses("rom.name")};
}

Habit habit_of(const HeldSave& save) {
  const std::string folder = folder_of(save.path);
  const bool is_beside = folder == folder_of(save.facts.rom_path.value_or(""));
  return {is_beside ? "" : program_folder(folder, ""), save.rule->path.uses("rom.name")};
}

}  // namespace

Result<const PlatformRule*> Resolver::rule_for(const SourceSave& source) {
  const GameId& game = source.facts.game;
  std::vector<const PlatformRule*> rules = to_.bay().rules_of(game.platform);
  if (rules.empty()) {
    // A folder that was only looked at has no bay file.
    if (!to_.bay().origin.ends_with(".toml"))
      return fail(
          ErrorCode::bad_usage,
          fmt::format("{} holds no save of {} that would show where they go and in which layout",
                      to_.bay().name, tag(game.platform)),
          "save once in the program that plays there; or make a bay of the place and add the platform "
          "to its bay file");
    return fail(ErrorCode::bad_usage,
                fmt::format("bay {} has no rule for {}", to_.bay().name, tag(game.platform)),
                fmt::format("add [platform.{}] to {}", tag(game.platform), to_.bay().origin));
  }
  if (std::any_of(rules.begin(), rules.end(),
                  [&](const PlatformRule* rule) { return takes(*rule, source.content.kind); }))
    std::erase_if(rules, [&](const PlatformRule* rule) { return !takes(*rule, source.content.kind); });
  if (rules.size() == 1) return rules.front();
  const auto is_one = [&](const PlatformRule* rule) {
    return std::find(rules.begin(), rules.end(), rule) != rules.end();
  };
  const auto is_same = [&](const GameId& other) {
    const GameMatch match = compare(other, game);
    return match == GameMatch::same || match == GameMatch::other_revision;
  };
  const std::string stem = source.facts.rom_path ? normalized_title(stem_of(*source.facts.rom_path)) : "";
  BAYSWAP_TRY(const auto saves, to_.saves(BayView::Depth::names));
  for (const HeldSave& save : *saves)
    if (is_one(save.rule) && save.health != Health::deleted &&
        (is_same(save.facts.game) ||
         (!stem.empty() && save.facts.rom_path && normalized_title(stem_of(*save.facts.rom_path)) == stem)))
      return save.rule;
  // With a ROM of the game: the rule whose saves are most like it, of its console and beside its ROM's
  // neighbours.
  const PlatformRule* likeliest = nullptr;
  std::pair<int, std::size_t> most;
  for (const PlatformRule* rule : rules) {
    BAYSWAP_TRY(const auto roms, to_.roms(*rule));
    const auto rom = std::find_if(roms->begin(), roms->end(), [&](const RomFile& one) {
      return is_same(one.facts.game) || (!stem.empty() && normalized_title(stem_of(one.path)) == stem);
    });
    if (rom == roms->end()) continue;
    std::size_t of_console = 0;
    std::size_t neighbours = 0;
    for (const HeldSave& save : *saves) {
      if (save.rule != rule || !save.has_rom) continue;
      of_console += save.facts.game.platform == rom->facts.game.platform ? 1 : 0;
      neighbours += folder_of(save.facts.rom_path.value_or("")) == folder_of(rom->path) ? 1 : 0;
    }
    const std::pair<int, std::size_t> likeness{(of_console > 0 ? 1 : 0) + (neighbours > 0 ? 1 : 0),
                                               of_console + neighbours};
    if (likeliest != nullptr && likeness <= most) continue;
    likeliest = rule;
    most = likeness;
  }
  return likeliest != nullptr ? likeliest : rules.front();
}

// A place that was only looked at keeps saves in folders named after consoles; this one's has none yet.
void Resolver::doubt_folder(const GameId& game, Arrival& arrival) {
  if (to_.bay().origin.ends_with(".toml")) return;
  const std::string folder = named_folder(arrival.rule->path.text());
  const auto named = console_named(arrival.rule->path.text());
  if (!named || *named == game.platform || saves_as(*named) != saves_as(game.platform)) return;
  const auto saves = to_.saves(BayView::Depth::names);
  if (!saves || std::ranges::any_of(**saves, [&](const HeldSave& save) {
        return save.rule == arrival.rule && save.has_rom && save.facts.game.platform == game.platform;
      }))
    return;
  arrival.issues.unless_accepted(
      IssueCode::odd_target,
      fmt::format("{} is named after {}, and the game is one of {}: its program may look in another folder",
                  folder, tag(*named), tag(game.platform)),
      "save once in the game there, or make a bay of the place and give the platform its folder");
}

const Resolver::Programs& Resolver::programs_there() {
  if (programs_) return *programs_;
  programs_.emplace();
  if (const auto saves = to_.saves(BayView::Depth::names))
    for (const HeldSave& save : **saves) {
      if (save.kind != SaveKind::battery || !save.has_rom || !save.facts.rom_path || !save.misplaced.empty())
        continue;
      const std::string program = program_folder(folder_of(*save.facts.rom_path), "");
      programs_->saves[program].push_back(&save);
      programs_->of_rule[save.rule].insert(program);
    }
  return *programs_;
}

// Several players' folders on one stick: what the rule was learned from may be another one's.
void Resolver::doubt_habit(const RomFile& rom, Arrival& arrival) {
  const PlatformRule& rule = *arrival.rule;
  if (rule.keeping != Keeping::file || !rule.path.uses_rom()) return;
  const Habit habit = habit_of(rule, rom);
  const std::string& keeper = habit.first;
  const std::string program = program_folder(folder_of(rom.path), "");
  const Programs& programs = programs_there();
  if (const auto own = programs.saves.find(program); own != programs.saves.end()) {
    if (std::ranges::any_of(own->second, [&](const HeldSave* save) {
          return save->rule == &rule || habit_of(*save) == habit;
        }))
      return;
    const std::string text =
        fmt::format("saves of the games in {} are kept as {} is, and not at {}",
                    to_.store().display_path(program), own->second.front()->path, rule.path.text());
    const std::string hint = "save once in the game there; then its save shows where they go";
    if (to_.bay().origin.ends_with(".toml"))
      arrival.issues.warn(IssueCode::odd_target, text, hint);
    else
      arrival.issues.unless_accepted(IssueCode::odd_target, text, hint);
    return;
  }
  const auto examples = programs.of_rule.find(&rule);
  if (to_.bay().origin.ends_with(".toml") || examples == programs.of_rule.end()) return;
  const bool is_known = std::ranges::any_of(examples->second, [&](const std::string& other) {
    if (keeper.empty()) return folder_of(program) != "." && folder_of(program) == folder_of(other);
    // Of saves apart from their ROMs, what both are in.
    const std::string both = common_folder({join_path(keeper, "x"), join_path(other, "x")});
    return both == "." || program == both || program.starts_with(both + "/");
  });
  if (is_known) return;
  arrival.issues.warn(IssueCode::first_save,
                      fmt::format("no save of the games in {} is there yet: this one is kept as others are",
                                  to_.store().display_path(program)),
                      "start the game there and see that it has the save");
}

}  // namespace bayswap
