#include "cli/books.hpp"

#include <bayswap/inspect.hpp>
#include <bayswap/save_place.hpp>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/select.hpp"
#include "cli/look_view.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {

Result<std::unique_ptr<Books>> Books::load(const Globals& globals) {
  auto books = std::make_unique<Books>();
  books->globals = &globals;
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_CHECK(books->read(home, session_options(globals).events.left_out));
  return books;
}

Result<Bay> bay_or_place(const Books& books, const std::string& name, bool& is_place) {
  auto bay = bay_or_place(books, name, is_place, look_options(*books.globals));
  if (is_place || !bay) end_look(*books.globals);
  return bay;
}

Address address_of(const Books& books, const std::string& text) {
  LocalStore disk;
  return address_from_text(books.home, disk, text);
}

Result<std::vector<std::string>> files_of(const Books& books, const std::string& text) {
  LocalStore disk;
  const Address address = address_from_text(books.home, disk, text);
  if (!address.version.empty())
    return fail(ErrorCode::bad_usage, fmt::format("{}: a version is no file", printable(text)),
                "bring it back first: `bayswap restore`");
  if (address.place.empty()) return std::vector<std::string>{text};
  BAYSWAP_TRY(const auto opened, OpenedBay::open(books, address.place));
  BAYSWAP_TRY(const auto saves, find_saves(*opened->view, disk, address.what));
  if (saves.empty()) return tl::unexpected(no_such_save(*opened->view, address.what));
  const HeldSave& save = *saves.front();
  if (!save.entry.empty() && save.kind == SaveKind::card_entry)
    return fail(ErrorCode::bad_usage, fmt::format("{} is on a card", printable(text)),
                "take it off the card first: `bayswap card export`");
  std::vector<std::string> files;
  for (const HeldFile& file : save.held) files.push_back(opened->store->display_path(file.path));
  if (files.empty()) files.push_back(opened->store->display_path(save.path));
  return files;
}

Result<std::unique_ptr<OpenedBay>> OpenedBay::open(const Books& books, const std::string& name) {
  auto opened = std::make_unique<OpenedBay>();
  BAYSWAP_TRY(opened->bay, bay_or_place(books, name, opened->is_place));
  BAYSWAP_TRY(opened->store, open_place(opened->bay));
  if (auto* const cartridge = dynamic_cast<CartStore*>(opened->store.get())) {
    opened->progress = std::make_unique<CartProgressView>(*books.globals, CartProgressView::Json::nothing);
    opened->progress->watch(*cartridge);
  }
  opened->view = std::make_unique<BayView>(books.catalog, opened->bay, *opened->store, books.view_options());
  return opened;
}

namespace {

bool is_within(const std::string& path, const std::string& root) {
  return path.starts_with(root == "/" ? root : root + "/");
}

}  // namespace

Result<std::unique_ptr<OpenedBay>> OpenedBay::that_has(const Books& books, const std::string& what,
                                                       const std::string& not_this) {
  BAYSWAP_TRY(const auto bays, list_bays(books.home));
  LocalStore disk;
  const auto info = disk.stat(what);
  const bool is_path = info && *info;
  const std::string whole = normalized(disk.absolute_path(what));
  std::vector<std::string> found;
  for (const auto& [name, bay] : bays) {
    if (!bay || !is_on_disk(bay->root) || bay->origin == not_this) continue;
    if (is_path && !identify_rom(disk, what) && !is_within(whole, normalized(disk.absolute_path(bay->root))))
      continue;
    auto opened = open(books, name);
    if (!opened) continue;
    const auto saves = find_saves(*(*opened)->view, disk, what);
    if (saves && !saves->empty()) found.push_back(name);
  }
  if (found.size() == 1) return open(books, found.front());
  if (found.size() > 1)
    return fail(
        ErrorCode::bad_usage,
        fmt::format("{} bays have a save of '{}': {}", found.size(), printable(what), joined(found, ", ")),
        fmt::format("pass one: --from {}", found.front()));
  if (!is_path)
    return fail(
        ErrorCode::not_found, fmt::format("no bay has a save of '{}'", printable(what)),
        "name the place that has it: --from BAY, or --from DIR; `bayswap list BAY` shows what a bay has");
  return open(books, what);
}

Result<std::set<IssueCode>> accepted_from_words(const std::vector<std::string>& words) {
  std::set<IssueCode> accepted;
  for (const std::string& word : words) {
    const auto code = issue_code_from_text(word);
    if (!code || !is_acceptable(*code)) {
      const std::vector<std::string> known = acceptable_issues();
      const std::string near = did_you_mean(word, known);
      return fail(ErrorCode::bad_usage, fmt::format("--accept does not know '{}'", printable(word)),
                  fmt::format("{}{}it knows {}", near, near.empty() ? "" : " ", joined(known, ", ")));
    }
    accepted.insert(*code);
  }
  return accepted;
}

Result<std::optional<Region>> region_from_word(const std::string& word) {
  if (word.empty()) return std::nullopt;
  const auto region = region_from_text(word);
  if (!region)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a region", printable(word)),
                "e.g. japan, north-america, europe");
  return region;
}

std::optional<std::string> choose(const Globals& globals, const std::string& question,
                                  const std::vector<std::string>& choices) {
  if (!has_terminal() || globals.json || choices.empty()) return std::nullopt;
  fmt::print(stderr, "{}\n", printable(question));
  for (std::size_t i = 0; i < choices.size(); ++i)
    fmt::print(stderr, "  {}  {}\n", i + 1, printable(choices[i]));
  const std::size_t number = ask_number(choices.size());
  return number == 0 ? std::nullopt : std::optional(choices[number - 1]);
}

void remember(const Globals& globals, Books& books, const Plan& plan) {
  remember(globals, books, std::vector<const Plan*>{&plan});
}

void remember(const Globals& globals, Books& books, const std::vector<const Plan*>& plans) {
  const auto taught = keep_lessons(books, plans);
  if (!taught) {
    report(taught.error());
    return;
  }
  say_learned(globals, taught->games);
  if (taught->has_pair)
    say(globals.quiet,
        fmt::format(
            "Remembered which ROM the save belongs to; `bayswap pairs` lists that, `bayswap pairs remove "
            "PATH` forgets it."));
}

}  // namespace bayswap::cli
