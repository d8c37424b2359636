// Planning for bays that keep saves as files of layouts: which files, converted how, named by which ROM.
#include "carry/plan_files.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/shape_plan.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

using Level = PlanIssue::Level;

struct SourceFile {
  SaveFile place;
  FileInfo info;
  Save save;
};

class FilePlanner {
 public:
  FilePlanner(const Catalog& catalog, OpenBay from, OpenBay to, const CarryRequest& request, GameSides sides)
      : catalog_(catalog), from_(from), to_(to), request_(request), sides_(std::move(sides)) {}

  Result<Plan> run() {
    plan_.kind = EntryKind::carry;
    plan_.game = sides_.game;
    plan_.from_bay = from_.bay->name;
    plan_.to_bay = to_.bay->name;
    plan_.reason = fmt::format("carry '{}' from {} to {}", request_.what, from_.bay->name, to_.bay->name);
    plan_.issues = sides_.issues;
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
    if (target_rule->path.uses_rom() && !sides_.to) refuse_without_rom(*target_rule);
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
      plan_.issues.push_back(
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
    for (const SaveFile& named : files) {
      looked += (looked.empty() ? "" : ", ") + from_.store->display_path(named.path);
      BAYSWAP_TRY(const auto info, from_.store->stat(named.path));
      if (!info) continue;
      BAYSWAP_TRY(const Blob bytes, from_.store->read(named.path));
      const std::string shown = from_.store->display_path(named.path);
      SaveFile place = named;
      place.layout = layout_of_bytes(*named.layout, bytes, shown, *from_.bay);
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

  // The bay says which layout its files have; the bytes decide where they clearly have another.
  const Layout* layout_of_bytes(const Layout& said, const Blob& bytes, const std::string& shown,
                                const Bay& bay) {
    constexpr double clear = 0.7;
    constexpr double no_more = 0.15;
    const auto plain = unwrap(bytes);
    if (!plain) return &said;
    Hints hints;
    hints.platform = sides_.game.platform;
    hints.game = sides_.game;
    hints.chips = sides_.chips;
    const Recognition told = recognise(catalog_, plain->plain, hints);
    if (told.matches.empty() || told.either() || told.matches.front().layout == &said) return &said;
    const auto own = std::ranges::find(told.matches, &said, &LayoutMatch::layout);
    const LayoutMatch& best = told.matches.front();
    if (best.confidence < clear || (own != told.matches.end() && own->confidence > no_more)) return &said;
    plan_.add({Level::note, "other-layout",
               fmt::format("{}: the bay calls it {}, but it is {}: {}", shown, said.id, best.layout->id,
                           joined(best.evidence, "; ")),
               fmt::format("it is read as what it is; correct layout in {}", bay.origin)});
    return best.layout;
  }

  Result<void> warn_of_end(const SaveFile& place, const Fitted& fitted, const std::string& shown) {
    if (!request_.accept.contains("short"))
      return fail(
          ErrorCode::damaged, fmt::format("{}: {}", shown, fitted.in_words(*place.layout)),
          "copy it again from where it came from; if its end was blank and left out on purpose, say --accept "
          "short");
    plan_.issues.push_back({Level::warning, "short",
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
      const Slot* sized = file.place.layout->variable_slot();
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
    const bool matters = layout && ((*layout)->is_set() || (*layout)->variable_slot() != nullptr);
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
      unless_accepted("byte-order",
                      fmt::format("{}: the bay calls it {}, but its {} looks the other way round: {}", shown,
                                  place.layout->id, to_text(slot.role), verdict.evidence),
                      fmt::format("correct layout in {}, or say --accept byte-order", from_.bay->origin));
    }
  }

  // The file would be named after a ROM that the target does not have: no program there would look for it.
  void refuse_without_rom(const PlatformRule& rule) {
    unless_accepted(
        "no-rom",
        fmt::format("{} has no ROM of this game{}, and names its saves after ROMs", to_.bay->name,
                    rule.roms.empty() ? "" : fmt::format(" in {}", to_.store->display_path(rule.roms))),
        "put the ROM there first, name it with --rom, or say --accept no-rom");
  }

  void refuse_empty() {
    plan_.issues.push_back({Level::refusal, "empty",
                            fmt::format("this save is empty: {} holds nothing that the target keeps",
                                        joined(plan_.from_files, ", ")),
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
    const std::string shown = to_.store->display_path(target.path);
    Hints hints;
    hints.game = sides_.game;
    hints.chips = sides_.chips;
    if (auto own = old->empty() || target.role.number > 0 ? fail(ErrorCode::not_recognised, "")
                                                          : detect_layout(catalog_, {save}, *old, hints)) {
      plan_.issues.push_back(
          {Level::warning, "odd-target",
           fmt::format("{} has {} bytes, which no {} file has; it is taken as {}: {}", shown, old->size(),
                       target.layout->id, own->layout.id, joined(own->evidence, "; ")),
           fmt::format("look at it in the game; if it is wrong, undo and mend layout in {}",
                       to_.bay->origin)});
      own_form_ = std::move(own->layout);
      return old;
    }
    const bool accepted = request_.accept.contains("odd-target") || old->empty();
    plan_.issues.push_back(
        {accepted ? Level::warning : Level::refusal, "odd-target",
         fmt::format("{} has {} bytes, which no {} file has", shown, old->size(), target.layout->id),
         accepted
             ? "it is replaced by a new file; the old one is kept in the logbook"
             : "mend layout in " + to_.bay->origin + ", or say --accept odd-target to have it replaced"});
    return std::nullopt;
  }

  Result<void> plan_file(const PlatformRule& rule, const SaveFile& target, Save save, bool& brought_any) {
    const std::string shown = to_.store->display_path(target.path);
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
      plan_.issues.push_back({Level::warning, "convert", std::move(warning), ""});
    for (std::string& cut : converted.cuts)
      unless_accepted("cut", std::move(cut), "carry it to a bay that has room for it, or say --accept cut");
    for (const DumpDefect& ailment : converted.defects) {
      const bool refused = ailment.certain && !request_.accept.contains(ailment.code);
      plan_.issues.push_back({refused ? Level::refusal : Level::warning, ailment.code, ailment.text,
                              ailment.hint + (refused ? "; or say --accept " + ailment.code : "")});
    }
    const ConvertedFile& file = converted.files.front();
    if (old && *old == file.bytes) return {};
    if (newer_)
      unless_accepted("newer", fmt::format("{} is newer than the save that would take its place", shown),
                      "if this is the right direction, say --accept newer");
    add_steps(rule, target, shown, old, base.has_value(), converted);
    FileChange change{target.path, old, file.bytes, {}};
    for (const SourceFile& source : source_)
      change.modified = std::max(change.modified.value_or(source.info.modified), source.info.modified);
    plan_.changes.push_back(std::move(change));
    return {};
  }

  // What needs the user's word: refused without it, a warning with it.
  void unless_accepted(const std::string& code, std::string text, std::string hint) {
    plan_.add({request_.accept.contains(code) ? Level::warning : Level::refusal, code, std::move(text),
               std::move(hint)});
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
        {"convert", fmt::format("{} to {}", joined(sources, " + "), target.layout->id),
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

Result<Plan> plan_files(const Catalog& catalog, OpenBay from, OpenBay to, const CarryRequest& request,
                        GameSides sides) {
  return FilePlanner(catalog, from, to, request, std::move(sides)).run();
}

}  // namespace bayswap
