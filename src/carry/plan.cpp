#include <bayswap/carry.hpp>

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/find_game.hpp"
#include "carry/shape_plan.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

using Level = Danger::Level;

struct SourceFile {
  SaveFile place;
  FileInfo info;
  Save save;
};

class Planner {
 public:
  Planner(const Catalog& catalog, OpenBay from, OpenBay to, const CarryRequest& request, GameSides sides)
      : catalog_(catalog), from_(from), to_(to), request_(request), sides_(std::move(sides)) {}

  Result<Plan> run() {
    plan_.kind = EntryKind::carry;
    plan_.game = sides_.game;
    plan_.from_bay = from_.bay->name;
    plan_.to_bay = to_.bay->name;
    plan_.reason = fmt::format("carry '{}' from {} to {}", request_.what, from_.bay->name, to_.bay->name);
    plan_.dangers = sides_.dangers;
    const Platform platform = sides_.game.platform;
    BAYSWAP_TRY(const PlatformRule* source_rule, rule_of(from_, platform));
    BAYSWAP_TRY(const PlatformRule* target_rule, rule_of(to_, platform));
    BAYSWAP_CHECK(read_source(*source_rule));
    settle_chips(*target_rule);
    Save joined{platform, {}};
    for (const SourceFile& file : source_)
      for (const Part& part : file.save.parts) joined.parts.push_back(part);
    if (joined.is_blank()) {
      refuse_empty();
      return std::move(plan_);
    }
    BAYSWAP_TRY(const Layout* layout, catalog_.find(target_rule->layout));
    BAYSWAP_TRY(const auto targets, places(catalog_, *target_rule, facts_for(to_), sides_.chips));
    bool brought_any = false;
    for (const SaveFile& target : targets) {
      Save save = joined;
      if (layout->is_set())
        std::erase_if(save.parts, [&](const Part& part) { return !belongs(part, target, joined); });
      if (layout->is_set() && save.is_blank()) continue;
      BAYSWAP_CHECK(plan_file(*target_rule, target, std::move(save), brought_any));
    }
    if (!brought_any) refuse_empty();
    if (plan_.refusal() == nullptr && plan_.changes.empty())
      plan_.dangers.push_back(
          {Level::note, "same", "the target holds the same save already: there is nothing to do", ""});
    return std::move(plan_);
  }

 private:
  static Result<const PlatformRule*> rule_of(const OpenBay& side, Platform platform) {
    const PlatformRule* rule = side.bay->rule(platform);
    if (rule == nullptr)
      return fail(ErrorCode::bad_usage,
                  fmt::format("the bay {} says nothing about {}", side.bay->name, tag(platform)),
                  fmt::format("add [platform.{}] to {}", tag(platform), side.bay->origin));
    return rule;
  }

  [[nodiscard]] NameFacts facts_for(const OpenBay& side) const {
    const bool target = side.bay == to_.bay;
    const auto& rom = target ? sides_.to : sides_.from;
    NameFacts facts{target ? sides_.name_to : sides_.name_from,
                    rom ? rom->facts.game : sides_.game,
                    std::max(request_.slot, 1),
                    {}};
    const PlatformRule* rule = side.bay->rule(sides_.game.platform);
    if (rom && rule != nullptr && rule->path.uses("rom.md5"))
      facts.rom_md5 = rom_md5_for(*side.store, *rule, *rom);
    return facts;
  }

  // A lone controller pak of the source goes into the first numbered file.
  static bool belongs(const Part& part, const SaveFile& target, const Save& all) {
    if (part.role == target.role) return true;
    return part.role == Role{PartKind::pak, 0} && target.role == Role{PartKind::pak, 1} &&
           all.find(target.role) == nullptr;
  }

  Result<void> read_source(const PlatformRule& rule) {
    BAYSWAP_TRY(const auto files, places(catalog_, rule, facts_for(from_), sides_.chips));
    std::string looked;
    for (const SaveFile& place : files) {
      looked += (looked.empty() ? "" : ", ") + from_.store->shown(place.path);
      BAYSWAP_TRY(const auto info, from_.store->stat(place.path));
      if (!info) continue;
      BAYSWAP_TRY(const Blob bytes, from_.store->read(place.path));
      const std::string shown = from_.store->shown(place.path);
      auto opened = open_save(*place.layout, bytes, sides_.chips);
      if (!opened) {
        Error error = std::move(opened.error());
        error.code = ErrorCode::damaged;
        error.message = fmt::format("{}: {}", shown, error.message);
        return tl::unexpected(std::move(error));
      }
      if (place.role.number > 0) opened->save.parts.front().role = place.role;
      warn_of_other_order(place, opened->fitted.bytes, shown);
      if (opened->fitted.fit == Fit::trimmed) {
        BAYSWAP_CHECK(warn_of_end(place, opened->fitted, shown));
      }
      plan_.from_files.push_back(shown);
      source_.push_back({place, *info, std::move(opened->save)});
    }
    if (source_.empty())
      return fail(
          ErrorCode::not_found,
          fmt::format("{} has no save of '{}': looked for {}", from_.bay->name, sides_.game.title, looked),
          fmt::format("save once in the game there; if the file has another name, mend the path rule in {}",
                      from_.bay->origin));
    return {};
  }

  Result<void> warn_of_end(const SaveFile& place, const Fitted& fitted, const std::string& shown) {
    if (!request_.accept.contains("short"))
      return fail(
          ErrorCode::damaged, fmt::format("{}: {}", shown, fitted.in_words(*place.layout)),
          "copy it again from where it came from; if its end was blank and left out on purpose, say --accept "
          "short");
    plan_.dangers.push_back({Level::warning, "short",
                             fmt::format("{}: {}", shown, fitted.in_words(*place.layout)),
                             "look at it in the game"});
    return {};
  }

  // Where the header does not tell the chips: the user's word, what was learned, the saves in place, and last
  // those in other bays.
  void settle_chips(const PlatformRule& target_rule) {
    for (const ChipFact& chip : request_.chips) plan_.learned.push_back(chip);
    if (sides_.tells_chips) return;
    for (const SourceFile& file : source_) {
      const Slot* sized = file.place.layout->elastic();
      const Part* part = sized != nullptr ? file.save.find(sized->role) : nullptr;
      if (part == nullptr || is_blank(*part)) continue;
      const ChipFact seen{part->role.kind, part->bytes.size(),
                          fmt::format("its save in {} has {} bytes", from_.bay->name, part->bytes.size())};
      add_chips(sides_.chips, {seen});
      add_chips(plan_.learned, {seen});
    }
    if (sides_.chips.empty())
      add_chips(sides_.chips, chips_seen(catalog_, *to_.bay, *to_.store, sides_.game));
    const auto layout = catalog_.find(target_rule.layout);
    const bool matters = layout && ((*layout)->is_set() || (*layout)->elastic() != nullptr);
    if (sides_.chips.empty() && matters && request_.ask_others)
      add_chips(sides_.chips, request_.ask_others(sides_.game));
    for (const ChipFact& chip : sides_.chips)
      if (chip.size_bytes != 0 && !chip.evidence.empty())
        plan_.steps.push_back({"chip",
                               fmt::format("{} of {} bytes", to_text(Role{chip.kind, 0}), chip.size_bytes),
                               chip.evidence});
  }

  // The bay says which layout its files have; the content may beg to differ.
  void warn_of_other_order(const SaveFile& place, const Blob& bytes, const std::string& shown) {
    if (place.layout->platform != Platform::n64) return;
    for (const Slot& slot : place.layout->slots) {
      if (slot.role.kind != PartKind::sram && slot.role.kind != PartKind::flash) continue;
      const auto at = place.layout->place(slot, bytes.size());
      const OrderVerdict verdict = judge_word_order(bytes.slice(at.at, at.size).view(), sides_.game);
      const bool reversed = slot.order == ByteOrder::swap32;
      if (verdict.says == OrderVerdict::Says::nothing || verdict.confidence < 0.9 ||
          reversed == (verdict.says == OrderVerdict::Says::reversed))
        continue;
      plan_.dangers.push_back(
          {Level::warning, "byte-order",
           fmt::format("{}: the bay calls it {}, but its {} looks the other way round: {}", shown,
                       place.layout->id, to_text(slot.role), verdict.evidence),
           fmt::format("if the game does not see the save, mend layout in {}", from_.bay->origin)});
    }
  }

  void refuse_empty() {
    plan_.dangers.push_back({Level::refusal, "empty",
                             fmt::format("this save is empty: {} holds nothing that the target keeps",
                                         fmt::join(plan_.from_files, ", ")),
                             "usually the game has never saved, the cartridge's battery is flat, or the dump "
                             "failed: read the cartridge again, "
                             "or save in the game first"});
  }

  Result<std::optional<Blob>> old_bytes(const SaveFile& target) {
    BAYSWAP_TRY(const auto info, to_.store->stat(target.path));
    newer_ = info && std::ranges::all_of(source_, [&](const SourceFile& source) {
               return info->modified > source.info.modified;
             });
    if (!info) return std::nullopt;
    BAYSWAP_TRY(Blob bytes, to_.store->read(target.path));
    return bytes;
  }

  // The target's own file as the shell of the new one, if it is what the bay says it is.
  Result<std::optional<Blob>> base_from(const SaveFile& target, const Save& save,
                                        const std::optional<Blob>& old) {
    own_form_.reset();
    if (!old) return std::nullopt;
    if (open_save(*target.layout, *old, sides_.chips)) return old;
    const std::string shown = to_.store->shown(target.path);
    Hints hints;
    hints.game = sides_.game;
    hints.chips = sides_.chips;
    if (auto own = old->empty() || target.role.number > 0 ? fail(ErrorCode::not_recognised, "")
                                                          : form_of_base(catalog_, {save}, *old, hints)) {
      plan_.dangers.push_back(
          {Level::warning, "odd-target",
           fmt::format("{} has {} bytes, which no {} file has; it is taken as {}: {}", shown, old->size(),
                       target.layout->id, own->layout.id, fmt::join(own->evidence, "; ")),
           fmt::format("look at it in the game; if it is wrong, undo and mend layout in {}",
                       to_.bay->origin)});
      own_form_ = std::move(own->layout);
      return old;
    }
    const bool accepted = request_.accept.contains("odd-target") || old->empty();
    plan_.dangers.push_back(
        {accepted ? Level::warning : Level::refusal, "odd-target",
         fmt::format("{} has {} bytes, which no {} file has", shown, old->size(), target.layout->id),
         accepted
             ? "it is replaced by a new file; the old one is kept in the logbook"
             : "mend layout in " + to_.bay->origin + ", or say --accept odd-target to have it replaced"});
    return std::nullopt;
  }

  Result<void> plan_file(const PlatformRule& rule, const SaveFile& target, Save save, bool& brought_any) {
    const std::string shown = to_.store->shown(target.path);
    BAYSWAP_TRY(const auto old, old_bytes(target));
    BAYSWAP_TRY(const auto base, base_from(target, save, old));
    ConvertRequest request;
    request.inputs.push_back(std::move(save));
    request.to = own_form_ ? &*own_form_ : target.layout;
    request.base = base ? &*base : nullptr;
    request.chips = sides_.chips;
    request.pak = target.role.number > 0 ? 0 : request_.slot;
    BAYSWAP_TRY(Converted converted, convert(catalog_, request));
    if (converted.empty) return {};
    brought_any = true;
    for (std::string& warning : converted.warnings)
      plan_.dangers.push_back({Level::warning, "convert", std::move(warning), ""});
    for (const Ailment& ailment : converted.ailments) {
      const bool refused = ailment.certain && !request_.accept.contains(ailment.code);
      plan_.dangers.push_back({refused ? Level::refusal : Level::warning, ailment.code, ailment.text,
                               ailment.hint + (refused ? "; or say --accept " + ailment.code : "")});
    }
    const ConvertedFile& file = converted.files.front();
    if (old && *old == file.bytes) return {};
    if (newer_)
      plan_.dangers.push_back({Level::warning, "target-newer",
                               fmt::format("{} is newer than the save that would take its place", shown),
                               "is this the right direction? It can be undone"});
    add_steps(rule, target, shown, old, base.has_value(), converted);
    plan_.changes.push_back({target.path, old, file.bytes});
    return {};
  }

  void add_steps(const PlatformRule& rule, const SaveFile& target, const std::string& shown,
                 const std::optional<Blob>& old, bool grafted, const Converted& converted) {
    if (old)
      plan_.steps.push_back({"keep", fmt::format("{} ({} bytes) goes into the logbook", shown, old->size()),
                             "so that undo can bring it back"});
    std::vector<std::string> sources;
    const std::vector<Role>& brought = converted.files.front().brought;
    for (const SourceFile& source : source_)
      if (std::ranges::any_of(source.save.parts, [&](const Part& part) {
            return std::ranges::any_of(brought, [&](Role role) { return role.kind == part.role.kind; });
          }))
        sources.push_back(source.place.layout->id);
    plan_.steps.push_back(
        {"convert", fmt::format("{} to {}", fmt::join(sources, " + "), target.layout->id),
         fmt::format("{} keeps {} saves as {}", to_.bay->name, tag(rule.platform), rule.layout)});
    for (const std::string& note : converted.notes)
      plan_.steps.push_back({grafted ? "graft" : "convert", note, ""});
    plan_.steps.push_back({"name", std::string(name_of(target.path)), name_reason(rule)});
    plan_.steps.push_back({"place", shown, old ? "whole, in place of the old file" : "a new file"});
    plan_.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
  }

  [[nodiscard]] std::string name_reason(const PlatformRule& rule) const {
    if (!rule.path.uses_rom() || !sides_.name_to) return fmt::format("the rule is {}", rule.path.text());
    return fmt::format("after the ROM {}{}, by the rule {}", name_of(*sides_.name_to),
                       sides_.to ? "" : fmt::format(" ({} has none of its own)", to_.bay->name),
                       rule.path.text());
  }

  const Catalog& catalog_;
  OpenBay from_;
  OpenBay to_;
  const CarryRequest& request_;
  GameSides sides_;
  std::vector<SourceFile> source_;
  std::optional<Layout> own_form_;  // of the target file in hand, where it is not what the bay says
  bool newer_ = false;              // the target file in hand is newer than all of the source
  Plan plan_;
};

}  // namespace

namespace {

// Whether the saves of that rule are files of layouts, which the ROMs tell the names of.
bool is_plain(const PlatformRule* rule) {
  return rule != nullptr && rule->keeping == Keeping::file;
}
bool all_plain(const Bay& bay) {
  return std::ranges::all_of(bay.rules, [](const PlatformRule& rule) { return is_plain(&rule); });
}

// Where WHAT is the path of a save in the bay, the ROM it belongs to.
Result<void> name_by_rom(const Catalog& catalog, OpenBay from, Store& outside, CarryRequest& request) {
  const std::string root = tidied(from.store->address("."));
  const std::string whole = outside.address(request.what);
  const bool inside = whole.starts_with(root + "/") && !identify_rom(outside, request.what);
  const std::string below = inside ? whole.substr(root.size() + 1) : request.what;
  if (request.what.find('/') == std::string::npos && !inside) return {};
  BAYSWAP_TRY(const auto info, from.store->stat(below));
  if (!info || info->kind != FileInfo::Kind::file) return {};
  BAYSWAP_TRY(const auto saves, scan_bay(catalog, *from.bay, *from.store));
  for (const BaySave& save : saves)
    if (save.path == below && save.facts.rom_path) request.what = std::string(stem_of(*save.facts.rom_path));
  return {};
}

std::vector<Cargo> load(std::vector<BaySave>& saves, Store& store, Plan& failed) {
  std::vector<Cargo> cargo;
  for (BaySave& save : saves) {
    auto content = read_content(store, save);
    std::string shown = store.shown(save.path);
    if (!save.entry.empty() && save.rule->keeping == Keeping::card) shown += ", " + save.entry;
    if (save.facts.game.title.empty()) save.facts.game.title = save.label.substr(0, save.label.find(" / "));
    for (const TreeFile& file : content->tree)
      save.modified = std::max(save.modified.value_or(file.modified), file.modified);
    if (!content) {
      failed.dangers.push_back({Level::refusal, "damaged", content.error().message, content.error().hint});
      continue;
    }
    cargo.push_back(
        {std::move(save.facts), std::move(save.place), std::move(shown), save.modified, *std::move(content)});
  }
  return cargo;
}

// Of several accounts' saves the one that was said; the others stay.
Result<void> choose_account(std::vector<BaySave>& saves, const CarryRequest& request,
                            const std::string& bay) {
  const std::vector<std::string> accounts = accounts_of(saves);
  if (accounts.size() < 2) return {};
  std::vector<std::string> said;
  for (const auto& [from, to] : request.accounts) said.push_back(lower(from));
  const bool any = std::ranges::any_of(accounts, [&](const std::string& account) {
    return std::ranges::find(said, lower(account)) != said.end();
  });
  if (!any)
    return fail(ErrorCode::unsafe,
                fmt::format("{} has this save of several accounts: {}", bay, fmt::join(accounts, ", ")),
                fmt::format("say whose: --account {}=THEIRS, with the account's name at the target",
                            accounts.front()));
  std::erase_if(saves, [&](const BaySave& save) {
    return save.place.empty() && std::ranges::find(said, lower(save.facts.account)) == said.end();
  });
  return {};
}

Result<Plan> plan_from_scan(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                            const CarryRequest& request) {
  ScanWish wish;
  wish.titles = request.titles;
  // Names tell mostly enough; what saves call themselves takes reading them all.
  wish.names_only = std::ranges::none_of(
      from.bay->rules, [](const PlatformRule& rule) { return rule.platform == Platform::psp; });
  BAYSWAP_TRY(auto all, scan_bay(catalog, *from.bay, *from.store, wish));
  auto found = find_saves(all, from, outside, request.what, request.titles);
  if (!found || found->empty()) {
    wish.names_only = false;
    BAYSWAP_TRY(all, scan_bay(catalog, *from.bay, *from.store, wish));
    found = find_saves(all, from, outside, request.what, request.titles);
  }
  if (!found) return tl::unexpected(std::move(found.error()));
  std::vector<BaySave> saves = *std::move(found);
  std::erase_if(saves, [](const BaySave& save) { return save.health == "deleted"; });
  // What is kept as files goes by its ROM.
  if (saves.empty() ||
      (is_plain(saves.front().rule) && is_plain(to.bay->rule(saves.front().facts.game.platform)))) {
    CarryRequest plain = request;
    if (!saves.empty() && saves.front().facts.rom_path) plain.what = *saves.front().facts.rom_path;
    if (saves.empty() &&
        std::ranges::none_of(from.bay->rules, [](const PlatformRule& rule) { return is_plain(&rule); }))
      return fail(ErrorCode::not_found,
                  fmt::format("{} has no save called '{}'", from.bay->name, printable(request.what)),
                  fmt::format("`bayswap bay scan {}` shows the saves there are", from.bay->name));
    if (!saves.empty()) plain.what = std::string(stem_of(plain.what));
    BAYSWAP_TRY(GameSides sides, find_game(from, to, outside, plain));
    return Planner(catalog, from, to, plain, std::move(sides)).run();
  }
  if (is_plain(saves.front().rule))
    return fail(ErrorCode::unsupported,
                fmt::format("{} keeps this save as a file, {} as {}", from.bay->name, to.bay->name,
                            to_text(to.bay->rule(saves.front().facts.game.platform) != nullptr
                                        ? to.bay->rule(saves.front().facts.game.platform)->keeping
                                        : Keeping::file)),
                "carry it to a bay that keeps files");
  if (request.slot > 0 &&
      std::ranges::any_of(saves, [&](const BaySave& save) { return save.facts.slot == request.slot; }) &&
      saves.size() > 1)
    std::erase_if(saves,
                  [&](const BaySave& save) { return save.place.empty() && save.facts.slot != request.slot; });
  BAYSWAP_CHECK(choose_account(saves, request, from.bay->name));
  Plan failed;
  std::vector<Cargo> cargo = load(saves, *from.store, failed);
  if (cargo.empty())
    return fail(ErrorCode::damaged, failed.dangers.front().text, failed.dangers.front().hint);
  BAYSWAP_TRY(Plan plan, plan_shapes(catalog, std::move(cargo), from, to, request));
  std::ranges::move(failed.dangers, std::back_inserter(plan.dangers));
  return plan;
}

}  // namespace

Result<Plan> plan_carry(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                        const CarryRequest& request) {
  for (const std::string& word : request.accept)
    if (std::ranges::find(acceptable_dangers, word) == acceptable_dangers.end())
      return fail(ErrorCode::bad_usage, fmt::format("--accept does not know '{}'", printable(word)),
                  fmt::format("it knows {}", fmt::join(acceptable_dangers, ", ")));
  if (!all_plain(*from.bay) || !all_plain(*to.bay))
    return plan_from_scan(catalog, from, to, outside, request);
  CarryRequest plain = request;
  BAYSWAP_CHECK(name_by_rom(catalog, from, outside, plain));
  BAYSWAP_TRY(GameSides sides, find_game(from, to, outside, plain));
  return Planner(catalog, from, to, plain, std::move(sides)).run();
}

}  // namespace bayswap
