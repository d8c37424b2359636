#include "cli/session.hpp"

#include <unistd.h>
#include <bayswap/inspect.hpp>

#include <array>
#include <charconv>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <thread>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/output.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

constexpr int lock_wait_seconds = 10;

int finished(const Globals& globals, const Plan& plan, const Json& extra) {
  if (globals.json) {
    Json json = to_json(plan);
    json.update(extra);
    print_json(json);
  }
  return exit_done;
}

}  // namespace

Result<Home> home_of(const Globals& globals) {
  return globals.home.empty() ? Home::of_user() : Home::under(globals.home);
}

Result<Catalog> catalog_of(const Globals& globals) {
  const auto home = home_of(globals);
  if (!home) return Catalog{};
  return load_catalog(*home);
}

Result<RomFacts> rom_at(const Globals& globals, const std::string& path) {
  LocalStore disk;
  BAYSWAP_TRY(RomFacts facts, identify_rom(disk, path));
  BAYSWAP_TRY(const RomSource source, rom_source(disk, path));
  find_chip_tags(source, facts);
  if (const auto home = home_of(globals)) {
    BAYSWAP_TRY(const ChipBook book, ChipBook::load(*home));
    add_chips(facts.chips, book.chips_of(facts.game));
  }
  return facts;
}

Result<Hints> hints_for(const Globals& globals, const std::string& path, const std::string& rom,
                        const std::vector<ChipFact>& said) {
  LocalStore disk;
  Hints hints = rom.empty() ? hints_beside(disk, path) : Hints{};
  if (!rom.empty()) {
    BAYSWAP_TRY(RomFacts facts, rom_at(globals, rom));
    hints.game = std::move(facts.game);
    hints.chips = std::move(facts.chips);
    hints.extension = lower(extension_of(path));
  } else if (hints.game) {
    if (const auto home = home_of(globals)) {
      BAYSWAP_TRY(const ChipBook book, ChipBook::load(*home));
      add_chips(hints.chips, book.chips_of(*hints.game));
    }
  }
  std::vector<ChipFact> chips = said;
  add_chips(chips, hints.chips);
  hints.chips = std::move(chips);
  return hints;
}

Result<std::vector<ChipFact>> chips_from_words(const std::vector<std::string>& words) {
  std::vector<ChipFact> chips;
  for (const std::string& word : words) {
    const auto equals = word.find('=');
    const auto role = role_from_text(std::string_view(word).substr(0, equals));
    std::size_t size = 0;
    const char* end = word.data() + word.size();
    if (equals == std::string::npos || !role || role->number != 0 ||
        std::from_chars(word.data() + equals + 1, end, size) != std::from_chars_result{end, std::errc{}} ||
        size == 0)
      return fail(ErrorCode::bad_usage, fmt::format("--chip {} is no chip", printable(word)),
                  "say its kind and its size in bytes, e.g. --chip eeprom=2048");
    chips.push_back({role->kind, size, "you said so"});
  }
  return chips;
}

void remember(const Globals& globals, const GameId& game, const std::vector<ChipFact>& chips) {
  const auto home = home_of(globals);
  if (!home) return;
  auto book = ChipBook::load(*home);
  if (!book) {
    report(book.error());
    return;
  }
  bool news = false;
  for (const ChipFact& chip : chips) news = book->learn(game, chip) || news;
  if (!news) return;
  if (const auto kept = book->save(*home); !kept) {
    report(kept.error());
    return;
  }
  say(globals.quiet, fmt::format("Learned the chips of '{}'; they stand in {}.", game.title, home->chips));
}

Clock clock_of_process() {
  const char* text = std::getenv("BAYSWAP_NOW");
  std::int64_t now = 0;
  if (text == nullptr || std::from_chars(text, text + std::strlen(text), now).ec != std::errc{})
    return system_clock();
  return [now] { return now; };
}

bool has_terminal() {
  return isatty(STDIN_FILENO) == 1 && isatty(STDERR_FILENO) == 1;
}

namespace {

// What is typed up to the end of the line, all of it: no rest may answer the next question. Nothing at the
// end of the input.
std::optional<std::string> typed_line() {
  std::string line;
  for (int c = std::getchar(); c != '\n'; c = std::getchar()) {
    if (c == EOF) return std::nullopt;
    if (line.size() < 64) line += static_cast<char>(c);
  }
  if (line.ends_with('\r')) line.pop_back();
  return line;
}

}  // namespace

bool ask(const std::string& question) {
  fmt::print(stderr, "{} [y/N] ", printable(question));
  const std::string answer = lower(typed_line().value_or(""));
  return answer == "y" || answer == "yes";
}

std::size_t ask_number(std::size_t most) {
  fmt::print(stderr, "Number (1 to {}, nothing to stop): ", most);
  const std::string line = typed_line().value_or("");
  std::size_t number = 0;
  const auto [end, error] = std::from_chars(line.data(), line.data() + line.size(), number);
  if (error != std::errc{} || end != line.data() + line.size()) return 0;
  return number >= 1 && number <= most ? number : 0;
}

Result<void> at_rest(const Globals& globals, const Plan& plan, Store& target, Logbook& logbook, bool wait) {
  constexpr int most_seconds = 3600;
  std::vector<std::string> addresses;
  for (const FileChange& change : plan.changes) addresses.push_back(target.address(change.path));
  if (addresses.empty() || plan.refusal() != nullptr) return {};
  const Clock clock = clock_of_process();
  bool said = false;
  for (int seconds = 0;; ++seconds) {
    const auto why = in_use(addresses, clock(), logbook);
    if (!why) return {};
    if (!wait || seconds == most_seconds)
      return fail(ErrorCode::busy, fmt::format("nothing was changed: {}", *why),
                  "close the game or the program that uses it and try again; --wait waits for it");
    if (!said) say(globals.quiet, fmt::format("bayswap: waiting: {}", *why));
    said = true;
    std::this_thread::sleep_for(std::chrono::seconds(1));
  }
}

Result<std::unique_ptr<LockedLogbook>> LockedLogbook::open(const Globals& globals) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(FileLock lock, FileLock::acquire(join_path(home.data, "lock"), lock_wait_seconds, [&] {
                say(globals.quiet,
                    "bayswap: waiting for another Bay Swap that is at work on this home folder");
              }));
  std::unique_ptr<LockedLogbook> locked(new LockedLogbook(std::move(lock), home.data));
  BAYSWAP_TRY(Logbook book,
              Logbook::open(locked->store_, join_path(home.data, "index.sqlite"), clock_of_process()));
  locked->book_ = std::move(book);
  LocalStore disk;
  BAYSWAP_TRY(const auto cut_short, locked->book_->recover(disk));
  for (const Entry& entry : cut_short)
    say(globals.quiet,
        fmt::format(
            "bayswap: entry {} ({}) was cut short; `bayswap undo {}` puts its files back as they were",
            entry.id, entry.reason, entry.id));
  return locked;
}

int show_only(const Globals& globals, const Plan& plan) {
  if (globals.json) {
    Json json = to_json(plan);
    json["done"] = false;
    json["entry"] = nullptr;
    print_json(json);
  } else {
    print_plan(plan);
  }
  const Danger* refusal = plan.refusal();
  if (refusal == nullptr) return exit_done;
  return report(
      {refusal->code == "empty" ? ErrorCode::unsafe : ErrorCode::wrong_region, refusal->text, refusal->hint});
}

int show_and_run(const Globals& globals, const Plan& plan, Store& target, LockedLogbook& logbook, bool yes,
                 bool must_ask) {
  if (plan.refusal() != nullptr) return show_only(globals, plan);
  if (!globals.json && !globals.quiet) print_plan(plan);
  if (plan.changes.empty()) {
    if (!globals.json) say(globals.quiet, "Nothing to do: the files are already as they should be.");
    return finished(globals, plan, {{"done", true}, {"entry", nullptr}});
  }
  bool warned = false;
  for (const Danger& danger : plan.dangers) warned = warned || danger.level == Danger::Level::warning;
  if (!yes && (must_ask || warned)) {
    std::fflush(stdout);
    if (!has_terminal())
      return report({ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                     "say --yes to go ahead, or --dry-run to see the plan alone"});
    if (!ask("Go ahead?")) {
      say(false, "Nothing was changed.");
      return exit_refused;
    }
  }
  const auto id = run(plan, target, logbook.book());
  if (!id) return report(id.error());
  if (!globals.json && !globals.quiet)
    fmt::print("{}\n",
               toned(Tone::good, fmt::format("Done: logbook entry {}. `bayswap undo` takes it back.", *id)));
  return finished(globals, plan, {{"done", true}, {"entry", *id}});
}

}  // namespace bayswap::cli
