#include "bay/keeper.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "content/sketch.hpp"

namespace bayswap {

const Keeper& keeper_of(Keeping keeping) {
  switch (keeping) {
    case Keeping::file:
      return file_keeper;
    case Keeping::folder:
      return folder_keeper;
    case Keeping::card:
      return card_keeper;
    case Keeping::single:
      return single_keeper;
    case Keeping::package:
      return package_keeper;
    case Keeping::encrypted:
      return encrypted_keeper;
  }
  return file_keeper;
}

Result<Content> load_save(BayView& view, const HeldSave& save, const Hints& hints, IssueList& issues) {
  auto content = keeper_of(save.rule->keeping).load(view, save, hints, issues);
  if (content) content->game = save.facts.game;
  return content;
}

Result<const HeldSave*> save_in_place(BayView& view, const Arrival& arrival) {
  BAYSWAP_TRY(const auto there, view.saves(BayView::Depth::names));
  const NameRule& rule = *arrival.path_rule;
  const bool has_slot = rule.uses_slot();
  const HeldSave* best = nullptr;
  for (const HeldSave& save : *there) {
    if (save.rule != arrival.rule || save.place != arrival.place || !save.misplaced.empty()) continue;
    const GameMatch match = compare(arrival.facts.game, save.facts.game);
    if (match != GameMatch::same && match != GameMatch::other_revision) continue;
    if (rule.uses("account") && lower(save.facts.account) != lower(arrival.facts.account)) continue;
    if (has_slot && save.facts.slot != arrival.facts.slot) continue;
    if (rule.uses("suffix") && lower(save.facts.suffix) != lower(arrival.facts.suffix)) continue;
    if (rule.uses("save.name") && lower(save.facts.save_name) != lower(arrival.facts.save_name)) continue;
    best = &save;
  }
  return best;
}

namespace {

constexpr double enough_of_a_save = 0.5;

// A folder whose name can't be worked out, found by what is in it. False where none is like it.
Result<bool> find_folder(BayView& view, Arrival& arrival) {
  BAYSWAP_TRY(const auto there, view.saves(BayView::Depth::names));
  const TreeSketch own = sketch_of(arrival.content.tree);
  const HeldSave* best = nullptr;
  Likeness likest;
  for (const HeldSave& save : *there) {
    if (save.rule != arrival.rule || save.place != arrival.place || save.facts.folder.empty()) continue;
    Likeness how = likeness(own, sketch_in(view, save));
    if (how.score <= likest.score) continue;
    best = &save;
    likest = std::move(how);
  }
  if (best == nullptr || likest.score < enough_of_a_save) return false;
  arrival.facts.folder = best->facts.folder;
  arrival.steps.push_back(
      {"found", fmt::format("its folder is {}", arrival.facts.folder),
       fmt::format("{:.0f} % alike: {}", likest.score * 100, joined(likest.reasons, ", "))});
  return true;
}

}  // namespace

Result<std::vector<Spot>> whole_spot(BayView& view, Arrival& arrival) {
  BAYSWAP_TRY(const HeldSave* save, save_in_place(view, arrival));
  if (save != nullptr) return std::vector<Spot>{Spot{save->path}};
  if (arrival.path_rule->uses("folder")) {
    BAYSWAP_TRY(const bool found, find_folder(view, arrival));
    if (!found) {
      arrival.issues.refuse(
          IssueCode::base_needed,
          fmt::format("{} has no folder that looks like this save's, and its name can't be worked out",
                      view.bay().name),
          "start the game there once and save, then carry again");
      return std::vector<Spot>{};
    }
  }
  BAYSWAP_TRY(const std::string path, arrival.path_rule->expand(arrival.facts));
  return std::vector<Spot>{Spot{view.path_on_disk(path)}};
}

void check_newer(MergeContext& context, Arrival& arrival, const Present& present) {
  const std::string file = context.view.store().display_path(present.path);
  const std::string shown = present.entry.empty() ? file : fmt::format("{} on {}", present.entry, file);
  switch (context.judge(arrival, present)) {
    case Newer::no:
      return;
    case Newer::unknown:
      arrival.issues.warn(IssueCode::newer,
                          fmt::format("whether {} is newer is unknown: this card has no dates", shown),
                          "look that this is the right direction; undo brings the old one back");
      return;
    case Newer::yes:
      arrival.issues.unless_accepted(IssueCode::newer,
                                     fmt::format("{} is newer than the save that would take its place{}",
                                                 shown, present.dated ? "" : ", by the card's own date"),
                                     "check that this is the right direction");
  }
}

Result<void> place_file(MergeContext& context, Arrival& arrival, const std::string& path, const Blob& bytes,
                        const std::string& how) {
  Store& store = context.view.store();
  BAYSWAP_TRY(const auto info, store.stat(path));
  std::optional<Blob> before;
  if (info) {
    BAYSWAP_TRY(before, store.read(path));
  }
  arrival.brought = true;
  if (before && *before == bytes) return {};
  if (before) {
    check_newer(context, arrival, {path, *before, info->modified});
    add_keep_step(arrival.steps, store, path, *before);
  }
  std::string why = fmt::format("the rule is {}", arrival.path_rule->text());
  if (!arrival.named_after.empty() && arrival.path_rule->uses_rom())
    why = fmt::format("after the ROM {}, by the rule {}", name_of(arrival.named_after),
                      arrival.path_rule->text());
  arrival.steps.push_back({"name", std::string(name_of(path)), std::move(why)});
  add_place_step(arrival.steps, fmt::format("{} ({} bytes)", store.display_path(path), bytes.size()),
                 how.empty() ? (before ? "whole, in place of the old file" : "a new file") : how);
  arrival.changes.push_back({path, std::move(before), bytes, arrival.modified});
  return {};
}

tl::unexpected<Error> cannot_become(const BayView& view, const Arrival& arrival) {
  const std::string& bay = view.bay().name;
  if (arrival.rule->keeping == Keeping::encrypted)
    return fail(ErrorCode::unsupported,
                fmt::format("{} keeps encrypted saves, which only the console can make of {}", bay,
                            arrival.display_path),
                "let the console copy the save to its SD card");
  if (arrival.content.kind == Content::Kind::encrypted)
    return fail(
        ErrorCode::unsupported,
        fmt::format("{} is encrypted: only the console it belongs to can open it", arrival.display_path),
        "let the console copy it back into its own memory, and carry it from there");
  return fail(ErrorCode::unsupported,
              fmt::format("{} can't become what {} keeps ({})", arrival.display_path, bay,
                          to_text(arrival.rule->keeping)),
              "carry it to a bay that keeps such saves");
}

void add_keep_step(std::vector<Step>& steps, const Store& store, const std::string& path,
                   const Blob& old_bytes) {
  steps.push_back(
      {"keep", fmt::format("{} ({} bytes) goes into the logbook", store.display_path(path), old_bytes.size()),
       "so that undo can bring it back"});
}

void add_place_step(std::vector<Step>& steps, const std::string& text, std::string why) {
  steps.push_back({"place", text, std::move(why)});
}

}  // namespace bayswap
