#include "carry/target_writer.hpp"

#include <fmt/format.h>
#include <bayswap/compression.hpp>

#include <algorithm>
#include <charconv>
#include <set>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/file_matcher.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

using Level = PlanIssue::Level;

void verify_step(Plan& plan) {
  plan.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
}

std::optional<std::uint64_t> number_from_hex(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value, 16);
  if (text.empty() || problem != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

}  // namespace

Result<void> TargetWriter::add(const Placement& placement, const std::vector<BaySave>& there, Plan& plan) {
  switch (placement.rule->keeping) {
    case Keeping::folder:
      return add_folder(placement, plan);
    case Keeping::package:
      return add_package(placement, there, plan);
    case Keeping::card:
      return add_card(placement, plan);
    case Keeping::single:
      return add_single(placement, plan);
    case Keeping::opaque: {
      if (!placement.content.whole || !placement.content.tree.empty()) return cannot_become(placement);
      return add_whole(placement, *placement.content.whole, "carried whole: only the console can read it",
                       plan);
    }
    case Keeping::file:
      return add_file(placement, plan);
  }
  return {};
}

tl::unexpected<Error> TargetWriter::cannot_become(const Placement& placement) const {
  const bool sealed = placement.content.whole && placement.content.tree.empty();
  if (placement.rule->keeping == Keeping::opaque)
    return fail(ErrorCode::unsupported,
                fmt::format("{} keeps sealed saves, which only the console can make of {}", to_.bay->name,
                            placement.shown),
                "let the console copy the save to its SD card");
  return fail(ErrorCode::unsupported,
              sealed
                  ? fmt::format("{} is sealed: only the console it belongs to can open it", placement.shown)
                  : fmt::format("{} can't become what {} keeps ({})", placement.shown, to_.bay->name,
                                to_text(placement.rule->keeping)),
              sealed ? "let the console copy it back into its own memory, and carry it from there"
                     : "carry it to a bay that keeps such saves");
}

Result<std::optional<Blob>> TargetWriter::old_bytes(const std::string& path) {
  BAYSWAP_TRY(const auto info, to_.store->stat(path));
  if (!info) return std::nullopt;
  BAYSWAP_TRY(Blob bytes, to_.store->read(path));
  return bytes;
}

void TargetWriter::warn_if_newer(const std::string& path, const Placement& placement, Plan& plan) {
  const auto info = to_.store->stat(path);
  if (!info || !*info || !placement.modified || (*info)->modified <= *placement.modified) return;
  plan.add({request_.accept.contains("newer") ? Level::warning : Level::refusal, "newer",
            fmt::format("{} is newer than the save that would take its place", to_.store->display_path(path)),
            "if this is the right direction, say --accept newer"});
}

// ---- Folders ------------------------------------------------------------------------------------

Result<void> TargetWriter::add_folder(const Placement& placement, Plan& plan) {
  std::vector<TreeFile> files = placement.content.tree;
  if (placement.content.card && placement.rule->platform == Platform::ps2)
    for (const CardFile& file : placement.content.card->files) files.push_back({file.name, file.bytes, 0});
  if (files.empty()) return cannot_become(placement);
  const std::string shown = to_.store->display_path(placement.path);
  std::vector<TreeFile> theirs;
  BAYSWAP_TRY(const auto info, to_.store->stat(placement.path));
  if (info && info->kind != FileInfo::Kind::folder)
    return fail(ErrorCode::unsafe, fmt::format("{} is a file, and the bay keeps folders", shown),
                "mend keeps in " + to_.bay->origin);
  if (info) {
    BAYSWAP_TRY(theirs, read_tree(*to_.store, placement.path));
  }
  const std::size_t before = plan.changes.size();
  std::vector<std::string> kept;
  std::set<std::string> touched;
  std::vector<Step> steps;
  const FileMatcher names(files, theirs);
  for (const TreeFile& file : files) {
    const TreeFile* old = names.in_place_of(file);
    const std::string& name = old != nullptr ? old->path : file.path;
    touched.insert(name);
    if (old != nullptr && old->bytes == file.bytes) continue;
    const std::string path = join_path(placement.path, name);
    if (old != nullptr) {
      warn_if_newer(path, placement, plan);
      plan.steps.push_back({"keep",
                            fmt::format("{} ({} bytes) goes into the logbook", to_.store->display_path(path),
                                        old->bytes.size()),
                            "so that undo can bring it back"});
    }
    steps.push_back({"place", fmt::format("{} ({} bytes)", to_.store->display_path(path), file.bytes.size()),
                     old != nullptr ? "whole, in place of the old file" : "a new file"});
    plan.changes.push_back({path, old != nullptr ? std::optional(old->bytes) : std::nullopt, file.bytes,
                            file.modified > 0 ? std::optional(file.modified) : std::nullopt});
  }
  for (const TreeFile& file : theirs) {
    if (touched.contains(file.path)) continue;
    if (!request_.exact) {
      kept.push_back(file.path);
      continue;
    }
    const std::string path = join_path(placement.path, file.path);
    plan.steps.push_back(
        {"keep",
         fmt::format("{} ({} bytes) goes into the logbook", to_.store->display_path(path), file.bytes.size()),
         "so that undo can bring it back"});
    steps.push_back(
        {"remove", to_.store->display_path(path), "the source has no such file, and you said --exact"});
    plan.changes.push_back({path, file.bytes, std::nullopt});
  }
  if (plan.changes.size() == before) return {};
  plan.steps.push_back({"name", placement.path, fmt::format("the rule is {}", placement.named_by)});
  std::ranges::move(steps, std::back_inserter(plan.steps));
  if (!kept.empty())
    plan.steps.push_back({"leave", joined(kept, ", "), "only the target has it; --exact would remove it"});
  verify_step(plan);
  return {};
}

// ---- Packages -----------------------------------------------------------------------------------

Result<void> TargetWriter::add_package(const Placement& placement, const std::vector<BaySave>& there,
                                       Plan& plan) {
  if (placement.content.tree.empty()) return cannot_become(placement);
  BAYSWAP_TRY(const auto old, to_.store->stat(placement.path));
  bool as_folder = old && old->kind == FileInfo::Kind::folder;
  if (!old) {
    // No sign of this save: what the bay has of others tells which of the two forms it has.
    std::size_t folders = 0;
    std::size_t packages = 0;
    for (const BaySave& save : there) (save.kind == "package" ? packages : folders) += 1;
    as_folder = folders + packages == 0 ? !placement.content.whole : folders > packages;
  }
  if (as_folder) return add_folder(placement, plan);
  BAYSWAP_TRY(const auto before, old_bytes(placement.path));
  const std::optional<Blob>& shell = before ? before : placement.content.whole;
  if (!shell) {
    plan.issues.push_back(
        {Level::refusal, "base-needed",
         fmt::format("{} keeps packages, and has none of this save to put the files into", to_.bay->name),
         "start the game there once and save, then carry again"});
    return {};
  }
  BAYSWAP_TRY(BlockPackage package, BlockPackage::open(*shell));
  if (before)
    if (const auto problems = package.check(); !problems.empty() && !request_.accept.contains("damaged"))
      plan.issues.push_back({Level::refusal, "damaged",
                             fmt::format("{}: {}", to_.store->display_path(placement.path), problems.front()),
                             "start the game there and save anew, or say --accept damaged"});
  std::vector<std::string> kept;
  std::size_t replaced = 0;
  for (const PackagedFile& file : std::vector<PackagedFile>(package.files())) {
    const bool brought = std::ranges::any_of(placement.content.tree,
                                             [&](const TreeFile& other) { return other.path == file.path; });
    if (file.folder || brought) continue;
    if (request_.exact) {
      BAYSWAP_CHECK(package.drop(file.path));
      ++replaced;
    } else {
      kept.push_back(file.path);
    }
  }
  for (const TreeFile& file : placement.content.tree) {
    const auto own = package.read(file.path);
    if (own && *own == file.bytes) continue;
    BAYSWAP_CHECK(package.put(file.path, file.bytes.view(), file.modified));
    ++replaced;
  }
  const auto profile = number_from_hex(placement.facts.account);
  const bool restamp =
      !before && profile && placement.facts.account.size() == 16 && package.profile_id() != *profile;
  if (restamp) package.set_profile_id(*profile);
  const Blob after = package.image();
  if (before && *before == after) return {};
  if (before) {
    warn_if_newer(placement.path, placement, plan);
    plan.steps.push_back({"keep",
                          fmt::format("{} ({} bytes) goes into the logbook",
                                      to_.store->display_path(placement.path), before->size()),
                          "so that undo can bring it back"});
  }
  plan.steps.push_back({"graft",
                        fmt::format("{} files into {}", replaced,
                                    before ? "the target's own package" : "the source's package"),
                        "with every hash made right"});
  if (restamp)
    plan.steps.push_back(
        {"restamp", fmt::format("the profile id is {}", placement.facts.account), "the account there"});
  if (!kept.empty())
    plan.steps.push_back({"leave", joined(kept, ", "), "only the target has it; --exact would remove it"});
  plan.issues.push_back({Level::note, "signature",
                         "the package's signature is as it was: only a console can make one",
                         "emulators and modified consoles don't ask for it"});
  plan.steps.push_back({"place", to_.store->display_path(placement.path),
                        before ? "whole, in place of the old file" : "a new file"});
  verify_step(plan);
  plan.changes.push_back({placement.path, before, after});
  return {};
}

// ---- Cards and their saves ----------------------------------------------------------------------

Result<CardSave> TargetWriter::card_save(const Placement& placement) const {
  const Content& content = placement.content;
  if (content.card) return *content.card;
  if (placement.rule->platform != Platform::ps2 || content.tree.empty()) return cannot_become(placement);
  std::vector<FolderFile> files;
  for (const TreeFile& file : content.tree) files.push_back({file.path, file.bytes, file.modified});
  return folder_save(std::string(name_of(placement.shown)), files);
}

Result<void> TargetWriter::add_card(const Placement& placement, Plan& plan) {
  BAYSWAP_TRY(const CardSave save, card_save(placement));
  const std::string shown = to_.store->display_path(placement.path);
  auto image = std::ranges::find(images_, placement.path, &OpenImage::path);
  if (image == images_.end()) {
    OpenImage opened;
    opened.path = placement.path;
    BAYSWAP_TRY(opened.before, old_bytes(placement.path));
    if (opened.before) {
      auto card = open_card(*opened.before);
      if (!card)
        return fail(card.error().code, fmt::format("{}: {}", shown, card.error().message), card.error().hint);
      opened.card = *std::move(card);
      opened.problems = opened.card->check().size();
    } else {
      opened.card = make_card(save.kind);
      plan.steps.push_back({"make", fmt::format("{}: a freshly formatted card", shown), "there is none yet"});
    }
    images_.push_back(std::move(opened));
    image = images_.end() - 1;
  }
  if (image->card->kind() != save.kind)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} is a {} card, and {} a save of a {} card", shown,
                            to_text(image->card->kind()), save.name, to_text(save.kind)));
  if (image->problems > 0 && !request_.accept.contains("damaged"))
    plan.issues.push_back(
        {Level::refusal, "damaged", fmt::format("{}: {}", shown, image->card->check().front().text),
         fmt::format("`bayswap card check {} --repair` first, or say --accept damaged", shown)});
  const auto own = image->card->read(save.name);
  if (own && own->same_content(save)) return {};
  if (own) {
    for (const CardEntry& entry : image->card->entries())
      if (entry.name == save.name && entry.modified && placement.modified &&
          *entry.modified > *placement.modified)
        plan.add({request_.accept.contains("newer") ? Level::warning : Level::refusal, "newer",
                  fmt::format("{} on {} is newer than the save that would take its place", save.name, shown),
                  "if this is the right direction, say --accept newer"});
    BAYSWAP_CHECK(image->card->drop(save.name));
  }
  auto put = image->card->put(save);
  if (!put) {
    put.error().message = fmt::format("{}: {}", shown, put.error().message);
    return put;
  }
  plan.steps.push_back(
      {own ? "replace" : "add", fmt::format("{} on {}", save.name, shown),
       own ? "the card has a save of that name" : fmt::format("{} blocks", image->card->blocks_for(save))});
  return {};
}

Result<void> TargetWriter::add_single(const Placement& placement, Plan& plan) {
  BAYSWAP_TRY(const CardSave save, card_save(placement));
  if (extension_of(placement.path) == ".parcel")
    return add_whole(placement, to_parcel(save), "as a parcel", plan);
  BAYSWAP_TRY(const Blob bytes, to_single_save(save));
  return add_whole(placement, bytes, "its directory entry and its data", plan);
}

Result<void> TargetWriter::finish(Plan& plan) {
  for (OpenImage& image : images_) {
    const Blob after = image.card->image();
    if (image.before && *image.before == after) continue;
    BAYSWAP_TRY(const auto again, open_card(after));
    if (again->check().size() > image.problems)
      return fail(ErrorCode::damaged,
                  fmt::format("{}: the change would break the card: {}", to_.store->display_path(image.path),
                              again->check().front().text),
                  "nothing was written; `bayswap card check --repair` first");
    if (image.before)
      plan.steps.push_back({"keep",
                            fmt::format("{} ({} bytes) goes into the logbook",
                                        to_.store->display_path(image.path), image.before->size()),
                            "so that undo can bring it back"});
    plan.steps.push_back(
        {"place", to_.store->display_path(image.path),
         fmt::format("{} of {} blocks stay free", image.card->free_blocks(), image.card->capacity_blocks())});
    verify_step(plan);
    plan.changes.push_back({image.path, image.before, after});
  }
  images_.clear();
  return {};
}

// ---- One file -----------------------------------------------------------------------------------

Result<void> TargetWriter::add_whole(const Placement& placement, const Blob& bytes, const std::string& how,
                                     Plan& plan) {
  BAYSWAP_TRY(const auto before, old_bytes(placement.path));
  if (before && *before == bytes) return {};
  const std::string shown = to_.store->display_path(placement.path);
  if (before) {
    warn_if_newer(placement.path, placement, plan);
    plan.steps.push_back({"keep", fmt::format("{} ({} bytes) goes into the logbook", shown, before->size()),
                          "so that undo can bring it back"});
  }
  plan.steps.push_back(
      {"name", std::string(name_of(placement.path)), fmt::format("the rule is {}", placement.named_by)});
  plan.steps.push_back({"place", fmt::format("{} ({} bytes)", shown, bytes.size()), how});
  verify_step(plan);
  plan.changes.push_back({placement.path, before, bytes, placement.modified});
  return {};
}

Result<void> TargetWriter::add_file(const Placement& placement, Plan& plan) {
  if (!placement.content.whole) return cannot_become(placement);
  BAYSWAP_TRY(const Compressed unpacked, unwrap(*placement.content.whole));
  Hints hints;
  hints.platform = placement.rule->platform;
  hints.game = placement.facts.game;
  hints.chips = placement.chips;
  const Recognition told = recognise(catalog_, unpacked.plain, hints);
  if (told.matches.empty())
    return fail(ErrorCode::not_recognised,
                fmt::format("{} ({} bytes) is no {} save that we know", placement.shown,
                            unpacked.plain.size(), tag(placement.rule->platform)),
                "`bayswap inspect` shows what it could be");
  const Layout* from = told.matches.front().layout;
  if (told.either())
    plan.issues.push_back(
        {Level::warning, "either",
         fmt::format("{} could be {} as well as {}", placement.shown, from->id, told.matches[1].layout->id),
         "look at it in the game; undo brings the old one back"});
  BAYSWAP_TRY(OpenedSave opened, open_save(*from, *placement.content.whole, placement.chips));
  std::vector<ChipFact> chips = placement.chips;
  for (const Part& part : opened.save.parts)
    if (!is_blank(part)) add_chips(chips, {{part.role.kind, part.size_certain ? part.bytes.size() : 0, ""}});
  BAYSWAP_TRY(const auto files, places(catalog_, *placement.rule, placement.facts, chips));
  bool brought = false;
  for (const SaveFile& file : files) {
    ConvertRequest request;
    request.inputs.push_back(opened.save);
    std::erase_if(request.inputs.front().parts,
                  [&](const Part& part) { return file.role.number > 0 && part.role != file.role; });
    const std::string path = in_case_of_disk(*to_.store, file.path);
    BAYSWAP_TRY(const auto before, old_bytes(path));
    const bool base = before && open_save(*file.layout, *before, chips);
    request.to = file.layout;
    request.base = base ? &*before : nullptr;
    request.chips = chips;
    const auto converted = convert(catalog_, request);
    if (!converted || converted->empty || converted->files.empty()) {
      if (!converted && files.size() == 1) return tl::unexpected(converted.error());
      continue;
    }
    brought = true;
    for (const std::string& cut : converted->cuts)
      plan.add({request_.accept.contains("cut") ? Level::warning : Level::refusal, "cut", cut,
                "adopt it into a bay that has room for it, or say --accept cut"});
    for (const std::string& warning : converted->warnings) plan.add({Level::warning, "convert", warning, ""});
    for (const DumpDefect& ailment : converted->defects)
      plan.issues.push_back(
          {ailment.certain && !request_.accept.contains(ailment.code) ? Level::refusal : Level::warning,
           ailment.code, ailment.text, ailment.hint});
    Placement one = placement;
    one.path = path;
    plan.steps.push_back({"convert", fmt::format("{} to {}", from->id, file.layout->id),
                          fmt::format("{} keeps {} saves so", to_.bay->name, tag(placement.rule->platform))});
    BAYSWAP_CHECK(add_whole(one, converted->files.front().bytes,
                            base ? "into the target's own file" : "a new file", plan));
  }
  if (!brought)
    plan.issues.push_back({Level::refusal, "empty",
                           fmt::format("{} holds nothing that the target keeps", placement.shown),
                           "`bayswap inspect` shows what is in it"});
  return {};
}

}  // namespace bayswap
