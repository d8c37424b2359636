#include "cli/session.hpp"

#include <unistd.h>
#include <bayswap/inspect.hpp>

#include <array>
#include <charconv>
#include <cstdio>
#include <cstdlib>
#include <cstring>

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

Result<RomFacts> rom_at(const std::string& path) {
  LocalStore disk;
  return identify_rom(disk, path);
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

bool ask(const std::string& question) {
  fmt::print(stderr, "{} [y/N] ", question);
  std::array<char, 16> line{};
  if (std::fgets(line.data(), line.size(), stdin) == nullptr) return false;
  std::string answer = lower(line.data());
  while (!answer.empty() && (answer.back() == '\n' || answer.back() == '\r')) answer.pop_back();
  return answer == "y" || answer == "yes";
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
