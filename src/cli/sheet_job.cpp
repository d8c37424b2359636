#include "cli/sheet_job.hpp"

#include <bayswap/inspect.hpp>

#include <algorithm>
#include <charconv>
#include <cstdlib>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "cli/version_words.hpp"

namespace bayswap::cli {
namespace {

// "de" out of "de_DE.UTF-8".
std::string language_of_environment() {
  for (const char* name : {"LC_ALL", "LC_MESSAGES", "LANG"}) {
    const char* value = std::getenv(name);
    if (value == nullptr || *value == 0) continue;
    const std::string text(value);
    const std::string language = text.substr(0, text.find_first_of("_.@"));
    return language.size() == 2 ? language : std::string{};
  }
  return {};
}

}  // namespace

Result<void> SheetJob::start() {
  BAYSWAP_TRY(books_, Books::load(globals_));
  BAYSWAP_TRY(maps_, state_maps_of(globals_));
  std::vector<Error> skipped;
  BAYSWAP_CHECK(load_sheets(books_->home, shelf_, &skipped));
  for (const Error& error : skipped)
    say(globals_.quiet, fmt::format("bayswap: warning: a sheet is left out: {}", error.message));
  if (!options_.sheet.empty() && options_.uses_sheet) {
    BAYSWAP_TRY(said_, sheet_said());
  }
  language_ = options_.language.empty() ? language_of_environment() : options_.language;
  return {};
}

Result<std::unique_ptr<FoundSavePlace>> SheetJob::find(const std::string& said) {
  auto found = std::make_unique<FoundSavePlace>();
  auto disk = std::make_unique<LocalStore>();
  BAYSWAP_TRY(const auto info, disk->stat(said));
  const std::size_t entry = said.rfind(": ");
  const auto image = entry == std::string::npos ? Result<std::optional<FileInfo>>(std::nullopt)
                                                : disk->stat(said.substr(0, entry));
  if (info || (image && *image)) {
    BAYSWAP_TRY(const auto chips, chips_from_words(options_.chips));
    BAYSWAP_TRY(Hints hints, hints_for(globals_, said, options_.rom, chips));
    if (said_ && !hints.platform) hints.platform = said_->platform();
    BAYSWAP_TRY(found->place, open_save_place(books_->catalog, *maps_, *disk, said, hints));
    found->rom = options_.rom;
    if (const auto beside = found->rom.empty() ? rom_beside(*disk, said) : std::nullopt)
      found->rom = beside->first;
    found->disk = std::move(disk);
    found->store = found->disk.get();
    return found;
  }
  if (is_cart_path(said)) return find_cartridge(said);
  const Address address = address_of(*books_, said);
  if (!address.version.empty()) {
    std::int64_t number = 0;
    const char* end = address.version.data() + address.version.size();
    const bool is_number =
        std::from_chars(address.version.data(), end, number) == std::from_chars_result{end, std::errc{}};
    return is_number && address.version.size() < shown_id ? find_version(address.what, number)
                                                          : find_synced(address.what, address.version);
  }
  if (!address.place.empty()) return find_in_bay(address.place, address.what);
  return fail(ErrorCode::not_found, fmt::format("{} does not exist", printable(said)),
              "name a file or a folder, \"CARD: ENTRY\", PLACE:GAME, GAME@VERSION, or cart:DEVICE");
}

// One save that the words mean, in an open bay.
Result<void> SheetJob::open_held(FoundSavePlace& found, BayView& view, const std::string& what) {
  LocalStore disk;
  BAYSWAP_TRY(const auto saves, find_saves(view, disk, what));
  if (saves.empty())
    return fail(ErrorCode::not_found, fmt::format("{} has no save of '{}'", view.bay().name, printable(what)),
                "name one that is there", {Remedy::Kind::scan_bay, {view.bay().name}});
  Hints hints;
  BAYSWAP_TRY(hints.chips, chips_from_words(options_.chips));
  const HeldSave& save = *saves.front();
  if (save.facts.rom_path)
    if (const RomFile* rom = view.rom(*save.rule, *save.facts.rom_path)) {
      const RomFacts& facts = view.facts_of(*rom);
      hints.game = facts.game;
      add_chips(hints.chips, facts.chips);
    }
  add_chips(hints.chips, books_->chips.chips_of(save.facts.game));
  BAYSWAP_TRY(found.place, open_save_place(view, save, hints));
  found.store = &view.store();
  found.bay_name = view.bay().name;
  return {};
}

Result<std::unique_ptr<FoundSavePlace>> SheetJob::find_in_bay(const std::string& bay,
                                                              const std::string& game) {
  auto found = std::make_unique<FoundSavePlace>();
  BAYSWAP_TRY(found->bay, OpenedBay::open(*books_, bay));
  BAYSWAP_CHECK(open_held(*found, *found->bay->view, game));
  return found;
}

Result<std::unique_ptr<FoundSavePlace>> SheetJob::find_cartridge(const std::string& said) {
  auto found = std::make_unique<FoundSavePlace>();
  const std::string device = device_of_cart(said);
  found->bay = std::make_unique<OpenedBay>();
  BAYSWAP_TRY(found->bay->bay, bay_like("cartridge", "cartridge", std::string(cart_prefix) + device));
  BAYSWAP_TRY(found->bay->store, open_place(found->bay->bay));
  if (auto* const cartridge = dynamic_cast<CartStore*>(found->bay->store.get())) {
    found->bay->progress = std::make_unique<CartProgressView>(globals_, CartProgressView::Json::nothing);
    found->bay->progress->watch(*cartridge);
  }
  found->bay->view =
      std::make_unique<BayView>(books_->catalog, found->bay->bay, *found->bay->store, books_->view_options());
  BAYSWAP_TRY(const auto saves, found->bay->view->saves());
  if (saves->empty())
    return fail(ErrorCode::not_found, "the cartridge keeps no save that is known",
                "pass its chip: --chip sram=8192");
  BAYSWAP_CHECK(open_held(*found, *found->bay->view, saves->front().path));
  found->bay_name.clear();
  return found;
}

namespace {

// The files that a place is in, taken into memory: what they came from can be closed.
Result<std::unique_ptr<Store>> taken_along(Store& store, const SavePlace& place) {
  auto memory = std::make_unique<MemoryStore>();
  const auto take = [&](const std::string& path) -> Result<void> {
    BAYSWAP_TRY(const Blob bytes, store.read(path));
    return memory->create(path, bytes.view());
  };
  if (place.kind == SavePlace::Kind::folder) {
    for (const SheetFile& file : place.files)
      BAYSWAP_CHECK(memory->create(join_path(place.path, file.name), file.bytes.view()));
  } else if (place.kind == SavePlace::Kind::chips) {
    for (const SavePlace::ChipFile& file : place.chips) BAYSWAP_CHECK(take(file.path));
  } else {
    BAYSWAP_CHECK(take(place.path));
  }
  return memory;
}

}  // namespace

// A save as entry `version` of the logbook left it. The logbook is closed again: another version, or a file
// to write, wants it too.
Result<std::unique_ptr<FoundSavePlace>> SheetJob::find_version(const std::string& game,
                                                               std::int64_t version) {
  auto found = std::make_unique<FoundSavePlace>();
  found->can_write = false;
  BAYSWAP_TRY(const auto log, read_logbook(globals_));
  Logbook& book = log->book();
  BAYSWAP_TRY(const auto entries, book.entries(game));
  const auto entry = std::ranges::find(entries, version, &Entry::id);
  if (entry == entries.end())
    return fail(ErrorCode::not_found, fmt::format("'{}' has no version {}", printable(game), version),
                "look which versions there are", {Remedy::Kind::show_logbook, {}});
  auto opened = entry->to_bay.empty() ? tl::unexpected(Error{}) : OpenedBay::open(*books_, entry->to_bay);
  if (opened) {
    const OpenedBay& bay = **opened;
    BAYSWAP_TRY(const auto then, store_of_version(book, version, false, bay.bay, *bay.store));
    BayView was(books_->catalog, bay.bay, *then, books_->view_options());
    // What the entry wrote, rather than another save of the game.
    std::vector<std::string> tries;
    for (const LoggedChange& change : entry->changes) {
      const std::string root = bay.store->root() + "/";
      if (!change.path.starts_with(root)) continue;
      const std::string path = change.path.substr(root.size());
      tries.push_back(entry->place.empty() ? path : fmt::format("{}: {}", path, entry->place));
    }
    tries.push_back(game);
    for (const std::string& what : tries)
      if (open_held(*found, was, what)) {
        found->bay_name.clear();
        found->place.display_path = fmt::format("{}@{}", game, version);
        BAYSWAP_TRY(found->disk, taken_along(was.store(), found->place));
        found->store = found->disk.get();
        return found;
      }
  }
  // A file in no bay: its bytes as they were, under its own name.
  for (const LoggedChange& change : entry->changes) {
    if (!change.after) continue;
    auto memory = std::make_unique<MemoryStore>();
    BAYSWAP_TRY(const Blob bytes, book.bytes(*change.after));
    const std::string name(name_of(change.path));
    BAYSWAP_CHECK(memory->create(name, bytes.view()));
    BAYSWAP_TRY(const auto chips, chips_from_words(options_.chips));
    BAYSWAP_TRY(Hints hints, hints_for(globals_, change.path, options_.rom, chips));
    if (!hints.game && entry->game) hints.game = entry->game;
    if (hints.game && !hints.platform) hints.platform = hints.game->platform;
    if (said_ && !hints.platform) hints.platform = said_->platform();
    const std::string path = entry->place.empty() ? name : name + ": " + entry->place;
    auto place = open_save_place(books_->catalog, *maps_, *memory, path, hints);
    if (!place) continue;
    found->place = *std::move(place);
    found->place.display_path = fmt::format("{}@{}", game, version);
    found->disk = std::move(memory);
    found->store = found->disk.get();
    return found;
  }
  return fail(ErrorCode::unsupported,
              fmt::format("version {} of '{}' can't be opened", version, printable(game)),
              "restore it to a bay, and look at it there");
}

// A save as some device had it, out of the history of sync.
Result<std::unique_ptr<FoundSavePlace>> SheetJob::find_synced(const std::string& game,
                                                              const std::string& id) {
  auto found = std::make_unique<FoundSavePlace>();
  found->can_write = false;
  BAYSWAP_TRY(const auto job, SyncJob::open(globals_, SyncJob::Mode::look));
  look_for_news(*job);
  BAYSWAP_TRY(const History* history, job->replica->history());
  BAYSWAP_TRY(const Lineage* lineage, lineage_meant(*history, game));
  if (lineage == nullptr)
    return fail(ErrorCode::not_found, fmt::format("sync knows no save of '{}'", printable(game)),
                "look which versions there are", {Remedy::Kind::show_logbook, {}});
  BAYSWAP_TRY(const Version* version, version_called(*lineage, id, game));
  BAYSWAP_TRY(const Content content, content_of(*job->replica, *version, job->light(), books_->catalog));
  found->place.kind = content.kind == Content::Kind::tree   ? SavePlace::Kind::folder
                      : content.kind == Content::Kind::item ? SavePlace::Kind::single
                                                            : SavePlace::Kind::chips;
  found->place.display_path = fmt::format("{}@{}", game, short_id(version->id));
  found->place.game = version->save.facts.game;
  found->place.files = sheet_files_of(content);
  if (found->place.files.empty())
    return fail(ErrorCode::unsupported,
                fmt::format("version {} of '{}' can't be opened", id, printable(game)),
                "restore it to a bay, and look at it there");
  found->disk = std::make_unique<MemoryStore>();
  found->store = found->disk.get();
  return found;
}

namespace {

// A folder, of one file or of many, holds no chip.
bool is_misplaced(const Sheet& sheet, const FoundSavePlace& found) {
  return sheet.is_for_chips() && found.place.kind == SavePlace::Kind::folder;
}

}  // namespace

std::optional<Sheet> SheetJob::sheet_if_any(const FoundSavePlace& found) {
  std::string digest;
  const bool asks =
      std::ranges::any_of(shelf_.all(), [](const Sheet& sheet) { return sheet.wants_rom_digest(); });
  if (asks && !found.rom.empty()) {
    constexpr std::size_t max_rom = std::size_t{64} << 20;
    LocalStore disk;
    if (const auto rom = disk.read(found.rom, max_rom)) digest = sha256(rom->view()).hex();
  }
  const Sheet* best = shelf_.best(found.place.game, found.place.files, digest);
  return best == nullptr || is_misplaced(*best, found) ? std::nullopt : std::optional(*best);
}

Result<Sheet> SheetJob::sheet_for(const FoundSavePlace& found) {
  if (said_) return *said_;
  if (auto best = sheet_if_any(found)) return *std::move(best);
  return fail(
      ErrorCode::not_recognised, fmt::format("no sheet fits {}", printable(found.place.display_path)),
      fmt::format(
          "name one: --sheet ID or --sheet FILE; `bayswap sheet list` shows them, `bayswap sheet find` and "
          "`bayswap sheet draft` make one{}",
          found.place.game ? "" : "; or name its ROM: --rom"));
}

Result<void> SheetJob::check_fit(const Sheet& sheet, const FoundSavePlace& found) const {
  auto why = sheet.misfit(found.place.game, found.place.files);
  if (!why && is_misplaced(sheet, found))
    why = fmt::format("it is for {}, whose saves are no folders of files", tag(sheet.platform()));
  if (!why || std::ranges::find(options_.accept, "sheet") != options_.accept.end()) return {};
  return fail(
      ErrorCode::unsafe,
      fmt::format("the sheet {} does not fit {}: {}", sheet.id(), printable(found.place.display_path), *why),
      "nothing was changed; name another sheet", {Remedy::Kind::accept, {"sheet"}});
}

Result<Sheet> SheetJob::sheet_said() const {
  if (const Sheet* known = shelf_.find(options_.sheet)) return *known;
  LocalStore disk;
  BAYSWAP_TRY(const auto info, disk.stat(options_.sheet));
  if (!info) {
    std::vector<std::string> ids;
    for (const Sheet& sheet : shelf_.all()) ids.push_back(sheet.id());
    const std::string near = did_you_mean(options_.sheet, ids);
    return fail(ErrorCode::bad_usage, fmt::format("unknown sheet {}", printable(options_.sheet)),
                near.empty() ? "name a file, or an id that `bayswap sheet list` shows" : near);
  }
  BAYSWAP_TRY(const Blob file, disk.read(options_.sheet, max_sheet_size_bytes));
  return Sheet::parse({reinterpret_cast<const char*>(file.data()), file.size()}, options_.sheet);
}

Result<std::optional<std::int64_t>> SheetJob::write(const FoundSavePlace& found,
                                                    const std::vector<SheetFile>& now,
                                                    const std::string& reason) {
  Plan plan;
  plan.kind = EntryKind::edit;
  plan.reason = reason;
  plan.game = found.place.game;
  BAYSWAP_TRY(plan.changes, changes_at(books_->catalog, *found.store, found.place, now));
  if (options_.out.empty()) {
    if (!found.can_write)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is in the logbook, which is never changed", found.place.display_path),
                  "write it to a file: --out FILE");
    plan.to_bay = found.bay_name;
    plan.place = found.place.entry;
    note_hard_links(plan, *found.store);
    if (plan.changes.empty()) return std::optional<std::int64_t>{};
    if (found.bay == nullptr) return run_here(globals_, plan, *found.store);
    BAYSWAP_TRY(const auto logbook, open_logbook(globals_));
    BAYSWAP_CHECK(wait_until_idle(globals_, plan, *found.store, logbook->book(), false));
    BAYSWAP_TRY(const std::int64_t id, run_whole(plan, *found.store, *logbook));
    return std::optional(id);
  }
  // A new file, or a new folder: what changed, and what did not.
  LocalStore disk;
  std::vector<FileChange> files;
  if (found.place.kind == SavePlace::Kind::folder) {
    for (const SheetFile& file : now)
      files.push_back({join_path(options_.out, file.name), std::nullopt, file.bytes});
  } else {
    if (found.place.chips.size() > 1)
      return fail(ErrorCode::unsupported, fmt::format("{} is in several files", found.place.display_path),
                  "use --replace");
    BAYSWAP_TRY(
        const Blob before,
        found.store->read(found.place.chips.empty() ? found.place.path : found.place.chips.front().path));
    files.push_back(
        {options_.out, std::nullopt, plan.changes.empty() ? before : *plan.changes.front().after});
  }
  for (const FileChange& file : files) {
    BAYSWAP_TRY(const auto exists, disk.stat(file.path));
    if (exists)
      return fail(ErrorCode::unsafe,
                  fmt::format("{} exists already; nothing was written", printable(file.path)),
                  "name another file");
  }
  plan.changes = std::move(files);
  return run_here(globals_, plan, disk);
}

Json to_json(const Sheet& sheet) {
  return {{"id", sheet.id()},
          {"name", sheet.name()},
          {"revision", sheet.revision()},
          {"platform", tag(sheet.platform())}};
}

Json to_json(const SheetFinding& finding) {
  static constexpr std::array<std::string_view, 3> kinds{"checksum", "rule", "unreadable"};
  Json json = {{"kind", kinds.at(static_cast<std::size_t>(finding.kind))},
               {"id", finding.id},
               {"path", finding.path},
               {"severity", to_text(finding.severity)},
               {"holds", finding.holds ? Json(*finding.holds) : Json(nullptr)},
               {"text", finding.text}};
  if (finding.kind == SheetFinding::Kind::checksum) {
    json["file"] = finding.file;
    json["offset"] = finding.offset;
    json["size_bytes"] = finding.size_bytes;
    json["is"] = finding.is;
    json["should"] = finding.should;
  }
  return json;
}

Json to_json(const SheetDifference& difference) {
  return {{"path", difference.path}, {"before", difference.before}, {"after", difference.after}};
}

void print_differences(const std::vector<SheetDifference>& differences, const std::string& before,
                       const std::string& after) {
  std::vector<std::vector<std::string>> rows;
  rows.reserve(differences.size());
  for (const SheetDifference& one : differences)
    rows.push_back({printable(one.path), one.before.empty() ? "-" : printable(one.before),
                    one.after.empty() ? "-" : printable(one.after)});
  print_table({"value", before, after}, rows);
}

int finished_sheet(const Result<int>& code) {
  return exit_code_of(code);
}

}  // namespace bayswap::cli
