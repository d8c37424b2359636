#include "cli/card_job.hpp"

#include <bayswap/save_place.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "card/file_order.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

Result<OpenCard> CardJob::open(const std::string& path, std::optional<CardKind> kind) {
  OpenCard opened;
  BAYSWAP_TRY(const auto info, disk.stat(path));
  if (info && info->kind == FileInfo::Kind::folder) {
    opened.store = std::make_unique<LocalStore>(path);
    BAYSWAP_TRY(auto folder, CardFolder::open(*opened.store, kind));
    opened.folder = folder.get();
    opened.card = std::move(folder);
    return opened;
  }
  BAYSWAP_TRY(opened.file, disk.read(path, std::size_t{80} << 20));
  opened.slots = card_slots(opened.file.view());
  auto card = open_card(opened.file, options.slot);
  if (!card)
    return fail(card.error().code, fmt::format("{}: {}", path, card.error().message), card.error().hint);
  opened.card = *std::move(card);
  return opened;
}

Result<std::optional<Region>> CardJob::wished_region() const {
  if (options.region.empty()) return std::optional<Region>{};
  const auto region = region_from_text(options.region);
  if (!region)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a region", printable(options.region)),
                "e.g. japan, north-america, europe");
  return region;
}

Result<void> CardJob::put(Card& card, const CardSave& given) {
  BAYSWAP_TRY(const auto wanted, wished_region());
  CardSave save = given;
  const CardEntry own = describe(save);
  if (wanted && own.region != *wanted)
    return fail(ErrorCode::wrong_region,
                fmt::format("{} is of region {}, not {}", save.name, name(own.region), name(*wanted)),
                "`bayswap card restamp --region` restamps one on its card");
  for (const std::string& warning : card.warnings_for(save))
    say(globals.quiet, "bayswap: warning: " + warning);
  if (const auto home = home_of(globals)) {
    SheetShelf sheets;
    (void)load_sheets(*home, sheets);
    if (const std::string bound = on_another_card(sheets, save); !bound.empty())
      say(globals.quiet, "bayswap: warning: " + bound);
  }
  if (const auto there = card.read(save.name); there && options.replace) {
    // The same save again changes nothing, or each time would move it to other blocks.
    if (there->same_content(save) && there->title == save.title && describe(*there).modified == own.modified)
      return {};
    keep_file_order(save, *there);
    BAYSWAP_CHECK(card.drop(save.name));
  }
  auto done = card.put(save);
  if (!done) return done;
  for (const CardEntry& other : card.entries()) {
    const bool same_game =
        (other.title == own.title && !own.title.empty()) ||
        (own.code.size() == 4 && other.code.size() == 4 && own.code.substr(0, 3) == other.code.substr(0, 3));
    if (same_game && other.region != own.region && other.region != Region::unknown &&
        own.region != Region::unknown)
      say(globals.quiet, fmt::format("bayswap: warning: {} is of {}, {} on the same card of {}", own.name,
                                     name(own.region), other.name, name(other.region)));
  }
  return {};
}

Result<int> CardJob::change(const std::string& path, const std::string& what,
                            const std::function<Result<void>(Card&)>& make_change,
                            std::optional<CardKind> kind) {
  BAYSWAP_TRY(const CardChange changed,
              plan_card_change(disk, path, options.slot, kind,
                               fmt::format("{} {}", what, joined(options.names, ", ")), make_change));
  const Card& card = *changed.card;
  const Plan& plan = changed.plan;
  if (!plan.changes.empty())
    for (const PlanIssue& issue : plan.issues) say(globals.quiet, "bayswap: warning: " + issue.text);
  BAYSWAP_TRY(const auto entry,
              run_here(globals, plan, changed.folder ? *changed.folder : static_cast<Store&>(disk)));
  if (globals.json) {
    print_json({{"path", path},
                {"kind", to_text(card.kind())},
                {"free_blocks", card.free_blocks()},
                {"problems", to_json(card.check())},
                {"entry", entry ? Json(*entry) : Json(nullptr)}});
  } else if (!globals.quiet) {
    print_field(entry ? "wrote" : "same",
                changed.is_folder ? fmt::format("{}: {}", path, counted(card.entries().size(), "save"))
                                  : fmt::format("{}: {} of {} blocks free", path, card.free_blocks(),
                                                card.capacity_blocks()));
    if (entry)
      print_field(
          "kept",
          fmt::format("the card as it was, in logbook entry {}; `bayswap undo` brings it back", *entry));
  }
  return exit_done;
}

Result<int> CardJob::write_new(const std::string& what, const std::vector<NewFile>& files, bool is_told) {
  if (files.empty()) return exit_done;
  Plan plan;
  plan.kind = EntryKind::card;
  plan.reason = fmt::format("{} {}", what, options.image);
  if (files.front().path != options.image) plan.from_files.push_back(disk.absolute_path(options.image));
  for (const auto& [path, bytes, modified] : files) {
    BAYSWAP_TRY(const auto info, disk.stat(path));
    if (info)
      return fail(ErrorCode::unsafe, fmt::format("{} exists already", path),
                  "choose another --out; nothing was written");
    plan.changes.push_back({path, std::nullopt, bytes, modified});
  }
  BAYSWAP_TRY(const auto logbook, open_logbook(globals));
  BAYSWAP_CHECK(run_whole(plan, disk, *logbook));
  if (globals.json || globals.quiet || !is_told) return exit_done;
  for (const NewFile& file : files)
    print_field("wrote", fmt::format("{} ({} bytes)", file.path, file.bytes.size()));
  return exit_done;
}

Result<std::string> name_on(const Card& card, const std::string& word) {
  const auto entries = card.entries();
  std::vector<std::string> found;
  std::vector<std::string> gone;  // deleted, or damaged
  const std::string wanted = folded(word);
  const std::string title = normalized_title(word);
  for (const CardEntry& entry : entries) {
    if (entry.name == word) return word;
    if (folded(entry.name) == wanted || folded(entry.title) == wanted ||
        (!title.empty() && normalized_title(entry.title) == title))
      (entry.state == CardEntry::State::good ? found : gone).push_back(entry.name);
  }
  if (found.empty()) found = std::move(gone);
  if (found.size() == 1) return found.front();
  if (found.empty()) return word;  // the card says what it does not have
  return fail(ErrorCode::bad_usage,
              fmt::format("'{}' is the title of {} saves", printable(word), found.size()),
              fmt::format("name one: {}", joined(found, ", ")));
}

Result<std::vector<std::string>> wanted_saves(const CardOptions& options, const Card& card) {
  std::vector<std::string> names;
  for (const std::string& word : options.names) {
    BAYSWAP_TRY(names.emplace_back(), name_on(card, word));
  }
  if (options.all)
    for (const CardEntry& entry : card.entries())
      if (entry.state == CardEntry::State::good) names.push_back(entry.name);
  if (names.empty())
    return fail(ErrorCode::bad_usage, "which save?",
                "name one or more, or pass --all; `bayswap card list` shows them");
  return names;
}

int finished(const Result<int>& code) {
  return exit_code_of(code);
}

}  // namespace bayswap::cli
