// A save from outside, planned into a bay.
#include <fmt/format.h>
#include <bayswap/card_folder.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/planner.hpp"

namespace bayswap {
namespace {

// Files from elsewhere as the content that a rule of that platform and keeping would have given.
Result<Content> content_of_files(const Catalog& catalog, const Candidate& candidate, const Hints& hints,
                                 IssueList& issues) {
  const std::vector<TreeFile>& files = candidate.files;
  const PlatformRule& rule = *candidate.rule;
  Content content;
  content.game = candidate.facts.game;
  const TreeFile* only = files.size() == 1 ? &files.front() : nullptr;
  const bool is_item = rule.keeping == Keeping::card || rule.keeping == Keeping::single;
  if (is_item) {
    content.kind = Content::Kind::item;
    if (!candidate.entry.empty()) {
      BAYSWAP_TRY(const auto card, open_card(files.front().bytes));
      BAYSWAP_TRY(content.item, card->read(candidate.entry));
      return content;
    }
    if (only != nullptr)
      if (auto save = single_save_from(only->bytes)) {
        content.item = *std::move(save);
        return content;
      }
    if (rule.platform != Platform::ps2)
      return fail(ErrorCode::not_recognised, "no single save that we know",
                  "for a whole card image, copy its saves from card to card");
    std::vector<FolderFile> inside;
    inside.reserve(files.size());
    for (const TreeFile& file : files) inside.push_back({file.path, file.bytes, file.modified});
    BAYSWAP_TRY(content.item, folder_save(std::string(name_of(candidate.where)), inside));
    return content;
  }
  if (rule.keeping == Keeping::folder || rule.keeping == Keeping::package) {
    content.kind = Content::Kind::tree;
    content.tree = files;
    if (rule.keeping == Keeping::folder || only == nullptr || !BlockPackage::is_one(only->bytes.view()))
      return content;
    BAYSWAP_TRY(const BlockPackage package, BlockPackage::open(only->bytes));
    BAYSWAP_TRY(content.tree, files_of(package));
    content.whole = only->bytes;
    return content;
  }
  if (only == nullptr)
    return fail(ErrorCode::not_recognised, fmt::format("{} files, where the bay keeps one", files.size()),
                "name the one that is the save");
  if (rule.keeping == Keeping::encrypted) {
    content.kind = Content::Kind::encrypted;
    content.whole = only->bytes;
    return content;
  }
  OpenOptions options;
  options.hints = hints;
  options.hints.platform = rule.platform;
  options.hints.extension = lower(extension_of(only->path));
  options.display_path = candidate.where;
  content.kind = Content::Kind::chips;
  BAYSWAP_TRY(OpenedChips opened, open_chips(catalog, only->bytes, options, issues));
  content.chips = std::move(opened.save);
  content.layouts.push_back(opened.layout);
  content.recognised = opened.recognised;
  return content;
}

}  // namespace

Result<Plan> plan_file_carry(BayView& to, const Candidate& candidate, const CarryRequest& request) {
  BAYSWAP_CHECK(check_root(to.bay(), to.store()));
  SourceSave source;
  source.facts = candidate.facts;
  source.display_path = candidate.where;
  source.files.push_back(candidate.where);
  source.issues = IssueList(request.accept);
  if (!candidate.told)
    source.issues.unless_accepted(
        IssueCode::wrong_game,
        fmt::format("{}: too little says that it is a save of {}: {}", candidate.where,
                    candidate.facts.game.title.empty() ? "this game" : candidate.facts.game.title,
                    joined(candidate.reasons, "; ")),
        "name its game with --game, or pass its number with --choose");
  Hints hints;
  hints.chips = request.chips;
  if (candidate.facts.rom_path)
    if (const RomFile* rom = to.rom(*candidate.rule, *candidate.facts.rom_path)) {
      hints.game = rom->facts.game;
      add_chips(hints.chips, to.facts_of(*rom).chips);
    }
  if (request.book != nullptr) add_chips(hints.chips, request.book->chips_of(candidate.facts.game));
  BAYSWAP_TRY(source.content, content_of_files(to.catalog(), candidate, hints, source.issues));
  for (const TreeFile& file : candidate.files)
    source.modified = std::max(source.modified.value_or(file.modified), file.modified);
  Planner planner(nullptr, to, nullptr, request);
  std::vector<Passage> passages;
  passages.push_back(planner.resolve(std::move(source)));
  BAYSWAP_CHECK(planner.merge(passages, false));
  BAYSWAP_CHECK(to.check());
  if (passages.front().error) return tl::unexpected(*passages.front().error);
  Passage* only = &passages.front();
  Plan plan = planner.plan_of({&only, 1});
  plan.reason = fmt::format("carry {} to {}", request.what, plan.to_bay);
  planner.check_options(plan);
  return plan;
}

}  // namespace bayswap
