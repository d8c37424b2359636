#include "cli/session.hpp"

#include <unistd.h>
#include <bayswap/cart_store.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <array>
#include <charconv>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <thread>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/cart_job.hpp"
#include "cli/output.hpp"
#include "cli/progress_line.hpp"
#include "session/books.hpp"

namespace bayswap::cli {
namespace {

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
  if (globals.home.empty()) return Home::of_user();
  const auto info = LocalStore().stat(globals.home);
  if (info && *info && (*info)->kind != FileInfo::Kind::folder)
    return fail(ErrorCode::bad_usage, fmt::format("--home {}: it is a file", printable(globals.home)),
                "name a folder");
  return Home::under(globals.home);
}

Result<Catalog> catalog_of(const Globals& globals) {
  const auto home = home_of(globals);
  if (!home) return Catalog{};
  std::vector<Error> skipped;
  auto catalog = load_catalog(*home, &skipped);
  for (const Error& error : skipped)
    say(globals.quiet, fmt::format("bayswap: warning: a layout file is left out: {}", error.message));
  return catalog;
}

Result<const Layout*> layout_named(Catalog& catalog, const std::string& word) {
  const bool is_file = word.find('/') != std::string::npos || word.ends_with(".toml");
  if (!is_file) return catalog.find(word);
  LocalStore disk;
  constexpr std::size_t max_bytes = std::size_t{256} << 10;
  BAYSWAP_TRY(const Blob file, disk.read(word, max_bytes));
  BAYSWAP_TRY(Layout layout, parse_layout({reinterpret_cast<const char*>(file.data()), file.size()}, word));
  const std::string id = layout.id;
  // One of the home folder, named by its file.
  if (const auto known = catalog.find(id); known && to_toml(**known) == to_toml(layout)) return *known;
  BAYSWAP_CHECK(catalog.add(std::move(layout)));
  return catalog.find(id);
}

Result<StateMaps> state_maps_of(const Globals& globals) {
  StateMaps maps;
  const auto home = home_of(globals);
  if (!home) return maps;
  std::vector<Error> skipped;
  BAYSWAP_CHECK(load_state_maps(*home, maps, &skipped));
  for (const Error& error : skipped)
    say(globals.quiet, fmt::format("bayswap: warning: a state map is left out: {}", error.message));
  return maps;
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
      return fail(ErrorCode::bad_usage, fmt::format("--chip {} is not a chip", printable(word)),
                  "pass its kind and its size in bytes, e.g. --chip eeprom=2048");
    chips.push_back({role->kind, size, "you said so"});
  }
  return chips;
}

void remember(const Globals& globals, const GameId& game, const std::vector<ChipFact>& chips) {
  remember(globals, {{game, chips}});
}

void remember(const Globals& globals, const std::vector<std::pair<GameId, std::vector<ChipFact>>>& games) {
  const auto home = home_of(globals);
  if (!home) return;
  auto book = ChipBook::load(*home);
  if (!book) {
    report(book.error());
    return;
  }
  std::vector<const GameId*> news;
  for (const auto& [game, chips] : games) {
    bool learned = false;
    for (const ChipFact& chip : chips) learned = book->learn(game, chip) || learned;
    if (learned) news.push_back(&game);
  }
  if (news.empty()) return;
  if (const auto kept = book->save(*home); !kept) {
    report(kept.error());
    return;
  }
  std::vector<GameId> told;
  told.reserve(news.size());
  for (const GameId* game : news) told.push_back(*game);
  say_learned(globals, told);
}

void say_learned(const Globals& globals, const std::vector<GameId>& games) {
  const auto home = home_of(globals);
  if (games.empty() || !home) return;
  say(globals.quiet, fmt::format("Learned the chips of {}; they are in {}.",
                                 games.size() == 1 ? fmt::format("'{}'", games.front().title)
                                                   : fmt::format("{} games", games.size()),
                                 home->chips));
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

void print_progress(const Globals& globals, std::size_t done, std::size_t all, const std::string& label) {
  if (globals.quiet || globals.json || !has_terminal() || all == 0) return;
  constexpr std::size_t cells = 30;
  const std::size_t full = done * cells / all;
  if (done == all) return draw_progress("");
  draw_progress(fmt::format("[{}{}] {}/{} {}", std::string(full, '#'), std::string(cells - full, '-'), done,
                            all, printable(label.substr(0, 40))));
}

std::size_t ask_number(std::size_t most) {
  fmt::print(stderr, "Number (1 to {}, nothing to stop): ", most);
  const std::string line = typed_line().value_or("");
  std::size_t number = 0;
  const auto [end, error] = std::from_chars(line.data(), line.data() + line.size(), number);
  if (error != std::errc{} || end != line.data() + line.size()) return 0;
  return number >= 1 && number <= most ? number : 0;
}

Result<void> wait_until_idle(const Globals& globals, const Plan& plan, Store& target, Logbook& logbook,
                             bool wait, Recent recent) {
  constexpr int max_seconds = 3600;
  std::vector<std::string> addresses;
  for (const FileChange& change : plan.changes) addresses.push_back(target.absolute_path(change.path));
  if (addresses.empty() || plan.refusal() != nullptr) return {};
  const Clock clock = clock_of_process();
  bool said = false;
  for (int seconds = 0;; ++seconds) {
    const auto why =
        in_use(addresses, recent == Recent::counts ? std::optional(clock()) : std::nullopt, logbook);
    if (!why) return {};
    if (!wait || seconds == max_seconds)
      return fail(ErrorCode::busy, fmt::format("nothing was changed: {}", *why),
                  "close the game or the program that uses it and try again; --wait waits for it");
    if (!said) say(globals.quiet, fmt::format("bayswap: waiting: {}", *why));
    said = true;
    std::this_thread::sleep_for(std::chrono::seconds(1));
  }
}

InterruptsHeld::InterruptsHeld() {
  sigset_t held{};
  sigemptyset(&held);
  for (const int number : {SIGINT, SIGTERM, SIGHUP}) sigaddset(&held, number);
  pthread_sigmask(SIG_BLOCK, &held, &before_);
}
InterruptsHeld::~InterruptsHeld() {
  if (!is_kept_) pthread_sigmask(SIG_SETMASK, &before_, nullptr);
}

Result<std::int64_t> run_whole(const Plan& plan, Store& target, LockedLogbook& logbook,
                               std::optional<std::int64_t> batch) {
  BAYSWAP_CHECK(check_contacts(plan, target));
  BAYSWAP_CHECK(logbook.resume());
  InterruptsHeld held;
  auto id = bayswap::run(plan, target, logbook.book(), batch);
  if (!id) held.keep();
  return id;
}

std::vector<Result<std::int64_t>> run_whole(std::span<const Plan* const> plans, Store& target,
                                            LockedLogbook& logbook, std::optional<std::int64_t> batch) {
  std::vector<Result<std::int64_t>> results(plans.size(), fail(ErrorCode::io, "it was not run"));
  std::vector<const Plan*> ready;
  std::vector<std::size_t> numbers;
  for (std::size_t i = 0; i < plans.size(); ++i) {
    if (auto checked = check_contacts(*plans[i], target); !checked) {
      results[i] = tl::unexpected(std::move(checked.error()));
      continue;
    }
    ready.push_back(plans[i]);
    numbers.push_back(i);
  }
  if (const auto locked = logbook.resume(); !locked) {
    for (const std::size_t number : numbers) results[number] = tl::unexpected(locked.error());
    return results;
  }
  InterruptsHeld held;
  auto ran = run_together(ready, target, logbook.book(), batch);
  for (std::size_t n = 0; n < ran.size(); ++n) {
    if (!ran[n]) held.keep();
    results[numbers[n]] = std::move(ran[n]);
  }
  return results;
}

Result<std::optional<std::int64_t>> run_here(const Globals& globals, const Plan& plan, Store& target) {
  if (plan.changes.empty()) return std::nullopt;
  BAYSWAP_TRY(const auto logbook, open_logbook(globals));
  BAYSWAP_CHECK(wait_until_idle(globals, plan, target, logbook->book(), false, Recent::does_not_count));
  BAYSWAP_TRY(const std::int64_t id, run_whole(plan, target, *logbook));
  return id;
}

std::vector<std::string> bay_roots(const Globals& globals) {
  const auto home = home_of(globals);
  return home ? bayswap::bay_roots(*home) : std::vector<std::string>();
}

namespace {

void report_recovered(const Globals& globals, const Recovered& recovered) {
  const Entry& entry = recovered.entry;
  const std::string what = fmt::format("bayswap: entry {} ({})", entry.id, printable(entry.reason));
  switch (recovered.outcome) {
    case Recovered::Outcome::done:
    case Recovered::Outcome::cancelled:
      // Two cartridges of one game can't be told apart.
      if (std::ranges::any_of(entry.changes,
                              [](const LoggedChange& change) { return is_cart_path(change.path); }))
        say(globals.quiet,
            fmt::format(
                "{} was interrupted; the cartridge in the reader holds the {} bytes. If it is another one "
                "of the same game, write to the right one again",
                what, recovered.outcome == Recovered::Outcome::done ? "new" : "old"));
      return;
    case Recovered::Outcome::rolled_back:
      say(globals.quiet, fmt::format("{} was interrupted: its files are as they were before it", what));
      return;
    case Recovered::Outcome::cut_short:
      say(globals.quiet,
          fmt::format("{} was cut short: {}; `bayswap undo {}` puts its files back as they were", what,
                      printable(recovered.why), entry.id));
      return;
    case Recovered::Outcome::unfinished:
      say(globals.quiet,
          fmt::format("{} is unfinished: {}. `bayswap cart write --resume` goes on, `bayswap undo {}` puts "
                      "the old bytes back",
                      what, printable(recovered.why), entry.id));
      return;
    case Recovered::Outcome::still_open:
      say(globals.quiet,
          fmt::format("{} was interrupted, and its files can't be looked at: {}. It stays open "
                      "until they can",
                      what, printable(recovered.why)));
      return;
  }
}

}  // namespace

SessionOptions session_options(const Globals& globals) {
  SessionOptions options;
  options.clock = clock_of_process();
  options.events.waits = [&] {
    say(globals.quiet, "bayswap: waiting for another Bay Swap that is using this home folder");
  };
  options.events.recovered = [&](const Recovered& one) { report_recovered(globals, one); };
  options.events.is_copy = [&](const std::string& home) {
    say(globals.quiet, fmt::format("bayswap: note: {} can't be written; shown as its records have it", home));
  };
  options.events.left_out = [&](const Error& error) {
    say(globals.quiet, fmt::format("bayswap: warning: a layout file is left out: {}", error.message));
  };
  return options;
}

Result<std::unique_ptr<LockedLogbook>> open_logbook(const Globals& globals) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  return LockedLogbook::open(home, session_options(globals));
}

Result<std::unique_ptr<LockedLogbook>> read_logbook(const Globals& globals) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  return LockedLogbook::open_to_read(home, session_options(globals));
}

Result<std::unique_ptr<LockedLogbook>> look_at_logbook(const Globals& globals) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  return LockedLogbook::look(home);
}

int show_only(const Globals& globals, const Plan& plan, const ShowOptions& how) {
  if (globals.json) {
    Json json = to_json(plan);
    json["done"] = false;
    json["entry"] = nullptr;
    print_json(json);
  } else {
    print_plan(plan, how.explain);
  }
  int code = exit_done;
  for (const PlanIssue& issue : plan.issues)
    if (issue.level == PlanIssue::Level::refusal) code = report(issue);
  return code;
}

int show_and_run(const Globals& globals, Plan plan, Store& target, LockedLogbook& logbook,
                 const ShowOptions& how) {
  note_hard_links(plan, target);
  if (plan.refusal() != nullptr) return show_only(globals, plan, how);
  if (!globals.json && !globals.quiet) print_plan(plan, how.explain);
  if (plan.changes.empty()) {
    if (!globals.json) say(globals.quiet, "Nothing to do: the files are already as they should be.");
    return finished(globals, plan, {{"done", true}, {"entry", nullptr}});
  }
  bool warned = false;
  for (const PlanIssue& issue : plan.issues) warned = warned || issue.level == PlanIssue::Level::warning;
  if (!how.yes && (how.must_ask || warned)) {
    std::fflush(stdout);
    if (!has_terminal())
      return report({ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                     "pass --yes to go ahead, or --dry-run to see the plan alone"});
    if (!ask("Go ahead?")) {
      say(false, "Nothing was changed.");
      return exit_refused;
    }
    // A game may have been started while the question was there.
    if (const auto idle = wait_until_idle(globals, plan, target, logbook.book(), false); !idle)
      return report(idle.error());
  }
  const auto id = run_whole(plan, target, logbook);
  if (!id) return report(id.error());
  // The next undo goes a step further back.
  const std::string done =
      plan.kind == EntryKind::undo
          ? fmt::format("Done: logbook entry {0}. `bayswap undo {0}` does it again.", *id)
          : fmt::format("Done: logbook entry {}. `bayswap undo` takes it back.", *id);
  if (!globals.json && !globals.quiet) fmt::print("{}\n", toned(Tone::good, done));
  return finished(globals, plan, {{"done", true}, {"entry", *id}});
}

}  // namespace bayswap::cli
