#include "carry/shape_plan.hpp"

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "carry/companion_plan.hpp"
#include "carry/find_game.hpp"
#include "carry/target_writer.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

using Level = PlanIssue::Level;

std::string game_in_words(const GameId& game) {
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  const std::string where = game.region == Region::unknown ? "" : fmt::format(", {}", name(game.region));
  if (game.title.empty()) return fmt::format("{}{}", id.empty() ? "an unknown game" : id, where);
  return id.empty() ? fmt::format("'{}'", game.title) : fmt::format("'{}' ({}{})", game.title, id, where);
}

class ShapePlanner {
 public:
  ShapePlanner(const Catalog& catalog, std::vector<SourceSave> cargo, std::optional<OpenBay> from, OpenBay to,
               const CarryRequest& request)
      : catalog_(catalog), cargo_(std::move(cargo)), from_(from), to_(to), request_(request) {}

  Result<Plan> run() {
    const GameId& game = cargo_.front().facts.game;
    rule_ = to_.bay->rule(game.platform);
    if (rule_ == nullptr)
      return fail(ErrorCode::bad_usage,
                  fmt::format("the bay {} says nothing about {}", to_.bay->name, tag(game.platform)),
                  fmt::format("add [platform.{}] to {}", tag(game.platform), to_.bay->origin));
    plan_.kind = from_ ? EntryKind::carry : EntryKind::adopt;
    plan_.from_bay = from_ ? from_->bay->name : "";
    plan_.to_bay = to_.bay->name;
    plan_.reason = from_
                       ? fmt::format("carry '{}' from {} to {}", request_.what, plan_.from_bay, plan_.to_bay)
                       : fmt::format("adopt {} to {}", request_.what, plan_.to_bay);
    ScanOptions wish;
    wish.titles = request_.titles;
    wish.only = game.platform;
    // psp codes don't tell that two are one game in two regions: the parameter files do.
    wish.names_only = game.platform != Platform::psp;
    BAYSWAP_TRY(there_, scan_bay(catalog_, *to_.bay, *to_.store, wish));
    if (!rule_->roms.empty())
      if (auto roms = list_roms(*to_.store, *rule_)) roms_ = *std::move(roms);
    for (SourceSave& cargo : cargo_) {
      plan_.from_files.push_back(cargo.shown);
      if (!plan_.game) plan_.game = cargo.facts.game;
      BAYSWAP_CHECK(plan_one(cargo));
    }
    BAYSWAP_CHECK(writer_.finish(plan_));
    if (bring_ > 0 && from_) plan_companions(*from_, to_, carried_, request_.replace_companions, plan_);
    if (bring_ == 0 && plan_.refusal() == nullptr) refuse_empty();
    if (plan_.refusal() == nullptr && plan_.changes.empty())
      plan_.issues.push_back(
          {Level::note, "same", "the target holds the same save already: there is nothing to do", ""});
    return std::move(plan_);
  }

 private:
  void danger(Level level, std::string code, std::string text, std::string hint) {
    plan_.add({level, std::move(code), std::move(text), std::move(hint)});
  }
  [[nodiscard]] Level unless_accepted(const std::string& code) const {
    return request_.accept.contains(code) ? Level::warning : Level::refusal;
  }
  void refuse_empty() {
    danger(Level::refusal, "empty",
           fmt::format("this save is empty: {} holds nothing", joined(plan_.from_files, ", ")),
           "usually the game has never saved there; save in the game first");
  }

  // ---- Whose is it there ------------------------------------------------------------------------

  const RomFile* rom_there(const GameId& game) const {
    const RomFile* best = nullptr;
    for (const RomFile& rom : roms_) {
      GameMatch match = compare(game, rom.facts.game);
      // Where headers do not tell, the name of the ROM does that the save was found by, here or at the
      // source.
      if (match == GameMatch::unknown && known_as_ && rom.path == *known_as_) return &rom;
      if (match == GameMatch::unknown && known_as_ &&
          normalized_title(stem_of(*known_as_)) == normalized_title(stem_of(rom.path)))
        match = GameMatch::other_revision;
      if (match == GameMatch::same) return &rom;
      if (match == GameMatch::other_revision || (match == GameMatch::other_region && best == nullptr))
        best = &rom;
    }
    return best;
  }

  // What the target plays: its ROM, or the saves it has. Of the same region where it has both.
  std::optional<GameId> played_there(const GameId& game) const {
    std::optional<GameId> other;
    if (const RomFile* rom = rom_there(game)) {
      if (compare(game, rom->facts.game) != GameMatch::other_region) return rom->facts.game;
      other = rom->facts.game;
    }
    for (const BaySave& save : there_) {
      const GameMatch match = compare(game, save.facts.game);
      if (match == GameMatch::same || match == GameMatch::other_revision) return save.facts.game;
      if (match == GameMatch::other_region && !other) other = save.facts.game;
    }
    return other;
  }

  std::optional<GameId> in_region(const GameId& game, Region region) const {
    if (game.region == region) return game;
    if (auto there = played_there(game); there && there->region == region) return there;
    if (request_.titles != nullptr)
      if (auto row = request_.titles->in_region(game, region)) return row;
    const auto code = code_in_region(game.platform, game.code, region);
    if (!code) return std::nullopt;
    GameId other = game;
    other.code = *code;
    other.region = region;
    if (game.platform == Platform::wii) {
      std::uint64_t low = 0;
      for (const char c : *code) low = (low << 8) | static_cast<Byte>(c);
      other.title_id = (game.title_id >> 32 << 32) | low;
    } else if (game.title_id != 0) {
      return std::nullopt;  // another number, which nothing tells
    }
    return other;
  }

  // The game as the target is to have it; nothing where it is refused.
  Result<std::optional<GameId>> settle_region(const GameId& game) {
    const auto there = played_there(game);
    if (request_.region) {
      const auto wanted = in_region(game, *request_.region);
      if (wanted) return wanted;
      return fail(
          ErrorCode::wrong_region,
          fmt::format("what {} is called in {} is not known", game_in_words(game), name(*request_.region)),
          "add a [[title]] with its id and code to titles.toml (docs/titles.md), or put its ROM or a save of "
          "it "
          "into the target");
    }
    if (there && compare(game, *there) == GameMatch::other_region) {
      danger(
          unless_accepted("wrong-region"), "wrong-region",
          fmt::format("wrong region: the save is from {}, {} plays {}", game_in_words(game), to_.bay->name,
                      game_in_words(*there)),
          there->region == Region::unknown
              ? "a save of one region does not load in another's game; say --accept wrong-region if they are "
                "the same"
              : fmt::format("a save of one region does not load in another's game; --region {} restamps it, "
                            "--accept wrong-region places it as it is",
                            region_word(there->region)));
      if (!request_.accept.contains("wrong-region")) return std::nullopt;
    }
    return game;
  }
  static std::string region_word(Region region) {
    std::string word = lower(name(region));
    std::ranges::replace(word, ' ', '-');
    return word;
  }

  std::optional<std::string> settle_account(const std::string& own) {
    if (own.empty() && !rule_->path.uses("account")) return own;
    if (!rule_->path.uses("account")) return own;
    for (const auto& [from, to] : request_.accounts)
      if (from.empty() || own.empty() || lower(from) == lower(own)) {
        if (!to.empty()) return to;
        if (own.empty()) return from;
      }
    const std::vector<std::string> theirs = accounts_of(there_);
    const auto same = std::ranges::find(theirs, lower(own), lower);
    if (same != theirs.end()) return *same;
    if (theirs.size() == 1) {
      plan_.steps.push_back({"account",
                             fmt::format("{} is {} there", own.empty() ? "the save" : own, theirs.front()),
                             fmt::format("{} has only that one", to_.bay->name)});
      return theirs.front();
    }
    if (theirs.empty()) {
      if (!own.empty()) {
        plan_.steps.push_back({"account", own, fmt::format("{} has none yet", to_.bay->name)});
        return own;
      }
      danger(Level::refusal, "which-account",
             fmt::format("{} has no account yet, and none is said", to_.bay->name),
             "say --account NAME, or start the game there once and save");
      return std::nullopt;
    }
    plan_.account_question = AccountQuestion{false, own, theirs};
    danger(Level::refusal, "which-account",
           fmt::format("{} has several accounts: {}", to_.bay->name, joined(theirs, ", ")),
           fmt::format("say whose it is: --account {}{}{}", own, own.empty() ? "" : "=", theirs.front()));
    return std::nullopt;
  }

  // The upper half of the id, where the source's path tells only the lower: as the target has it, or as most
  // titles do.
  void complete_title_id(GameId& game) {
    const std::uint64_t likely = likely_title_id(game);
    if (likely == game.title_id || !(rule_->path.uses("title.high") || rule_->path.uses("title.id"))) return;
    for (const BaySave& save : there_) {
      const std::uint64_t theirs = save.facts.game.title_id;
      if (theirs >> 32 == 0 || (theirs & 0xFFFFFFFF) != (likely & 0xFFFFFFFF)) continue;
      game.title_id = theirs;
      return;
    }
    game.title_id = likely;
    danger(Level::note, "title-id",
           fmt::format("only half of the title's id is known; taken as {}, as most titles have it",
                       title_id_text(game)),
           "a download or a demo has another one: add its id to titles.toml (docs/titles.md)");
  }

  // ---- One save ---------------------------------------------------------------------------------

  const NameRule* place_rule(const std::string& place) const {
    if (place.empty()) return &rule_->path;
    const auto found = std::ranges::find(rule_->also, place, [](const auto& also) { return also.first; });
    return found == rule_->also.end() ? nullptr : &found->second;
  }

  // The save of that game that the target has in that very place.
  const BaySave* in_place(const NameFacts& facts, const std::string& place, const NameRule& rule) const {
    const BaySave* best = nullptr;
    for (const BaySave& save : there_) {
      if (save.place != place) continue;
      const GameMatch match = compare(facts.game, save.facts.game);
      if (match != GameMatch::same && match != GameMatch::other_revision) continue;
      if (rule.uses("account") && lower(save.facts.account) != lower(facts.account)) continue;
      if ((rule.uses("slot") || rule.uses("slot.8") || rule.uses("slot.letter")) &&
          save.facts.slot != facts.slot)
        continue;
      if (rule.uses("suffix") && lower(save.facts.suffix) != lower(facts.suffix)) continue;
      if (rule.uses("save.name") && lower(save.facts.save_name) != lower(facts.save_name)) continue;
      best = &save;
    }
    return best;
  }

  Result<std::optional<std::string>> where(NameFacts& facts, const SourceSave& cargo) {
    const NameRule* rule = place_rule(cargo.place);
    if (rule == nullptr) {
      danger(Level::note, "no-place",
             fmt::format("{} ({}) has no place in {}", cargo.shown, cargo.place, to_.bay->name), "");
      return std::nullopt;
    }
    if (rule_->keeping == Keeping::file) return std::string(".");  // the layout has a say in the name
    if (const BaySave* save = in_place(facts, cargo.place, *rule)) return save->path;
    if (rule->uses("folder")) {
      const auto ranked = rank_by_likeness(cargo.content.tree, known_trees(there_, *to_.store));
      const Ranked* best = nullptr;
      for (const Ranked& one : ranked)
        if (best == nullptr && one.save->place == cargo.place && !one.save->facts.folder.empty()) best = &one;
      if (best == nullptr || best->likeness.score < 0.5) {
        danger(Level::refusal, "base-needed",
               fmt::format("{} has no folder that looks like this save's, and its name can't be worked out",
                           to_.bay->name),
               "start the game there once and save, then carry again");
        return std::nullopt;
      }
      facts.folder = best->save->facts.folder;
      plan_.steps.push_back({"found", facts.folder,
                             fmt::format("{:.0f} % alike: {}", best->likeness.score * 100,
                                         joined(best->likeness.reasons, ", "))});
    }
    auto path = rule->expand(facts);
    if (!path) return tl::unexpected(std::move(path.error()));
    return in_case_of_disk(*to_.store, *path);
  }

  Result<void> plan_one(SourceSave& cargo) {
    known_as_ = cargo.facts.rom_path;
    if (cargo.content.is_blank()) return {};
    BAYSWAP_TRY(const auto game, settle_region(cargo.facts.game));
    if (!game) {
      ++bring_;
      return {};
    }
    NameFacts facts = cargo.facts;
    facts.game = *game;
    if (request_.titles != nullptr) request_.titles->complete(facts.game);
    complete_title_id(facts.game);
    if (request_.slot > 0 && cargo.place.empty()) facts.slot = request_.slot;
    if (cargo.place.empty() ||
        (place_rule(cargo.place) != nullptr && place_rule(cargo.place)->uses("account"))) {
      const auto account = settle_account(facts.account);
      if (!account) {
        ++bring_;
        return {};
      }
      facts.account = *account;
    }
    if (const RomFile* rom = rom_there(*game)) {
      facts.rom_path = rom->path;
      if (rule_->path.uses("rom.md5")) facts.rom_md5 = rom_md5_for(*to_.store, *rule_, *rom);
      if (facts.game.maker.empty()) facts.game.maker = rom->facts.game.maker;
    } else if (!facts.rom_path && !facts.game.title.empty()) {
      facts.rom_path = facts.game.title;
    }
    name_of_card_save(cargo, facts);
    BAYSWAP_TRY(const auto path, where(facts, cargo));
    if (!path) {
      ++bring_;
      return {};
    }
    Content content = cargo.content;
    if (compare(cargo.facts.game, facts.game) == GameMatch::other_region && request_.region) {
      std::vector<std::string> notes;
      std::vector<std::string> doubts;
      BAYSWAP_TRY(content, restamped(content, facts.game, std::string(name_of(*path)), notes, doubts));
      plan_.steps.push_back(
          {"restamp",
           fmt::format("{} becomes {}", game_in_words(cargo.facts.game), game_in_words(facts.game)),
           "you asked for that region"});
      for (std::string& note : notes) plan_.steps.push_back({"restamp", std::move(note), ""});
      for (std::string& doubt : doubts)
        danger(Level::warning, "old-region", std::move(doubt),
               "look at it in the game; undo brings the old one back");
    }
    ++bring_;
    // Two saves in one place: the second would take the first one's. A card has room for both.
    const bool shares = rule_->keeping == Keeping::card || rule_->keeping == Keeping::file;
    const auto [owner, is_first] = placed_.emplace(*path, cargo.shown);
    if (!shares && !is_first)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} and {} would both become {}", owner->second, cargo.shown,
                              to_.store->display_path(*path)),
                  "carry them one by one, by path or with --slot");
    carried_.push_back({cargo.facts, facts});
    return writer_.add({rule_, *path, place_rule(cargo.place)->text(), facts, chips_of(*game), cargo.shown,
                        cargo.modified, std::move(content)},
                       there_, plan_);
  }

  std::vector<ChipFact> chips_of(const GameId& game) const {
    std::vector<ChipFact> chips = request_.chips;
    if (const RomFile* rom = rom_there(game)) {
      RomFacts facts = rom->facts;
      if (const auto source = rom_source(*to_.store, rom->path)) find_chip_tags(*source, facts);
      add_chips(chips, facts.chips);
    }
    if (request_.book != nullptr) add_chips(chips, request_.book->chips_of(game));
    return chips;
  }

  // A card's save has its name in its entry: what a tree of single saves makes its file names from.
  static void name_of_card_save(const SourceSave& cargo, NameFacts& facts) {
    if (!cargo.content.card) return;
    const CardEntry entry = describe(*cargo.content.card);
    facts.save_name = entry.name;
    if (facts.game.platform != Platform::gc) return;
    const auto dot = entry.name.find('.');
    if (dot == 6) {
      facts.game.maker = entry.name.substr(4, 2);
      facts.save_name = entry.name.substr(dot + 1);
    }
  }

  const Catalog& catalog_;
  std::vector<SourceSave> cargo_;
  std::optional<OpenBay> from_;
  OpenBay to_;
  const CarryRequest& request_;
  const PlatformRule* rule_ = nullptr;
  std::vector<BaySave> there_;
  std::vector<RomFile> roms_;
  std::optional<std::string> known_as_;  // the ROM that the save in hand was found by
  TargetWriter writer_{catalog_, to_, request_};
  std::map<std::string, std::string> placed_;  // which save each place is for
  std::vector<CarriedSave> carried_;
  std::size_t bring_ = 0;
  Plan plan_;
};

}  // namespace

Result<Plan> plan_shapes(const Catalog& catalog, std::vector<SourceSave> cargo, std::optional<OpenBay> from,
                         OpenBay to, const CarryRequest& request) {
  return ShapePlanner(catalog, std::move(cargo), from, to, request).run();
}

}  // namespace bayswap
