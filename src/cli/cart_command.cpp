// Cartridges in a reader: what is there, and read out.
#include <bayswap/conversion.hpp>

#include <algorithm>
#include <array>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/cart_job.hpp"

namespace bayswap::cli {
namespace {

std::string chip_in_words(const CartChip& chip) {
  const std::string size = fmt::format("{}, {} bytes", to_text(Role{chip.kind, 0}), chip.bytes);
  return chip.evidence.empty() ? size : fmt::format("{}: {}", size, chip.evidence);
}

std::string span_in_words(std::int64_t seconds) {
  constexpr std::int64_t day = 86400;
  return fmt::format("{} days {:02}:{:02}:{:02}", seconds / day, seconds / 3600 % 24, seconds / 60 % 60,
                     seconds % 60);
}

Json verdict_json(const CartVerdict& verdict) {
  return {{"problems", verdict.problems}, {"battery", verdict.battery}};
}

Result<int> ports(const Globals& globals) {
  const auto found = serial_ports();
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  for (const auto& [name, about] : found) {
    list.push_back({{"port", name}, {"about", about}});
    rows.push_back({name, printable(about)});
  }
  if (globals.json) {
    print_json({{"done", true}, {"ports", std::move(list)}});
  } else if (rows.empty()) {
    fmt::print(
        "No serial line is there: plug the reader in. A pseudo-terminal is not listed; name it with "
        "--port.\n");
  } else {
    print_table({"line", "what it says it is"}, rows);
  }
  return exit_done;
}

// Writes of this cartridge that were cut off.
std::vector<Entry> unfinished_here(const Globals& globals, CartStore& store) {
  std::vector<Entry> found;
  const auto chips = store.chips();
  if (!chips) return found;
  // A copy of the logbook does not know what is open; where there is none yet, none is made.
  const auto there = look_at_logbook(globals);
  if (!there || !*there) return found;
  const auto book = open_logbook(globals);
  if (!book) return found;
  const auto open = (*book)->book().unfinished();
  for (const Entry& entry : open ? *open : std::vector<Entry>{})
    if (std::ranges::any_of(entry.changes, [&](const LoggedChange& change) {
          return is_cart_path(change.path) && std::ranges::any_of(*chips, [&](const auto& chip) {
                   return chip.first == name_of(change.path);
                 });
        }))
      found.push_back(entry);
  return found;
}

Result<int> look(const Globals& globals, const CartOptions& options) {
  CartJob job(globals, options);
  BAYSWAP_CHECK(job.open());
  BAYSWAP_TRY(CartPort* const port, job.store().port());
  BAYSWAP_TRY(const CartLook seen, port->look());
  BAYSWAP_TRY(const auto chips, job.store().chips());
  BAYSWAP_TRY(const std::string rom, job.store().rom_name());
  BAYSWAP_TRY(const auto clock, port->clock_start(job.game()));
  const std::int64_t now = system_clock()();
  Json list = Json::array();
  std::vector<std::pair<CartChip, CartVerdict>> verdicts;
  for (const auto& [name, chip] : chips) {
    BAYSWAP_TRY(const CartDump dump, port->dump(job.game(), chip));
    verdicts.emplace_back(chip, verdict_of(chip, dump));
    Json one = verdict_json(verdicts.back().second);
    one["file"] = name;
    one["kind"] = to_text(Role{chip.kind, 0});
    one["size_bytes"] = chip.bytes;
    one["evidence"] = chip.evidence;
    one["write_bytes"] = chip.write_bytes;
    list.push_back(std::move(one));
  }
  const auto unfinished = unfinished_here(globals, job.store());
  const bool troubled =
      std::ranges::any_of(verdicts, [](const auto& one) { return !one.second.problems.empty(); });
  if (globals.json) {
    Json ids = Json::array();
    for (const Entry& entry : unfinished) ids.push_back(entry.id);
    print_json({{"done", true},
                {"reader", port->reader_name()},
                {"port", job.device()},
                {"game", to_json(job.game().rom.game)},
                {"rom_bytes", job.game().rom_bytes},
                {"wanted_millivolts", seen.wanted},
                {"millivolts", seen.millivolts},
                {"clock_start", clock ? Json(utc_time(*clock)) : Json(nullptr)},
                {"chips", std::move(list)},
                {"unfinished", std::move(ids)}});
    return troubled || !unfinished.empty() ? exit_problems : exit_done;
  }
  print_field("reader", fmt::format("{} on {}", printable(port->reader_name()), job.device()));
  print_field("cartridge", printable(job.game_in_words()), Tone::bold);
  if (!rom.empty()) print_field("ROM", fmt::format("{} bytes, as {}", job.game().rom_bytes, printable(rom)));
  for (const std::string& sentence : job.game().rom.evidence) print_field("", sentence);
  print_field("voltage", fmt::format("{}, {:.1f} V set",
                                     seen.wanted != 0 ? fmt::format("{:.1f} V wanted", seen.wanted / 1000.0)
                                                      : std::string("the reader can't tell which"),
                                     seen.millivolts / 1000.0));
  if (chips.empty()) print_field("chip", "none that answers: this game keeps nothing, or --chip says which");
  for (const auto& [chip, verdict] : verdicts) {
    print_field("chip", chip_in_words(chip));
    print_field("battery", verdict.battery);
    for (const std::string& problem : verdict.problems) print_field("look at", problem, Tone::warn);
  }
  if (clock) print_field("clock", fmt::format("{} since it was zero", span_in_words(now - *clock)));
  for (const Entry& entry : unfinished)
    print_field(
        "unfinished",
        fmt::format("the write of logbook entry {}: `bayswap cart write --resume` goes on, `bayswap undo "
                    "{}` puts the old bytes back",
                    entry.id, entry.id),
        Tone::bad);
  return troubled || !unfinished.empty() ? exit_problems : exit_done;
}

// What most of five readings have, byte by byte.
Result<Blob> majority(CartPort& port, const CartIdentity& game, const CartChip& chip) {
  constexpr std::size_t readings = 5;
  std::vector<Blob> all;
  while (all.size() < readings) {
    BAYSWAP_TRY(CartDump dump, port.dump(game, chip));
    all.push_back(std::move(dump.bytes));
  }
  Buffer out(chip.bytes);
  for (std::size_t i = 0; i < chip.bytes; ++i) {
    std::array<Byte, readings> seen{};
    for (std::size_t k = 0; k < readings; ++k) seen.at(k) = all[k].view()[i];
    Byte best = seen.front();
    std::ptrdiff_t most = 0;
    for (const Byte b : seen)
      if (const auto count = std::ranges::count(seen, b); count > most) {
        most = count;
        best = b;
      }
    out.bytes()[i] = best;
  }
  return std::move(out).freeze();
}

class Dump {
 public:
  Dump(const Globals& globals, const CartOptions& options)
      : globals_(globals), options_(options), job_(globals, options) {}

  Result<int> chips() {
    BAYSWAP_CHECK(job_.open());
    if (!options_.to.empty()) return into_bay();
    BAYSWAP_TRY(CartPort* const port, job_.store().port());
    BAYSWAP_TRY(const auto chips, job_.store().chips());
    if (chips.empty())
      return fail(ErrorCode::not_found, "no save chip answers",
                  "this game keeps nothing, or pass its chip: --chip sram=8192");
    BAYSWAP_TRY(const auto clock, port->clock_start(job_.game()));
    for (const auto& [name, chip] : chips) {
      BAYSWAP_TRY(CartDump dump, port->dump(job_.game(), chip));
      const CartVerdict verdict = verdict_of(chip, dump);
      for (const std::string& problem : verdict.problems) {
        if (!globals_.json)
          print_field("look at", fmt::format("{}: {}", printable(name), problem), Tone::warn);
        problems_.push_back(problem);
      }
      if (dump.unstable_count > 0) {
        if (globals_.json)
          print_event(
              {{"event", "unstable"}, {"file", name}, {"count", dump.unstable_count}, {"at", dump.unstable}});
        if (!options_.unstable)
          return fail(ErrorCode::damaged,
                      fmt::format("{}: readings differ; nothing was written", printable(name)),
                      "clean the contacts and put it in again; if that does not help its battery is nearly "
                      "empty: --unstable takes of five readings what most of them have");
        BAYSWAP_TRY(dump.bytes, majority(*port, job_.game(), chip));
      }
      files_.emplace_back(name, dump.bytes);
    }
    if (clock) {
      BAYSWAP_TRY(const Blob bytes, job_.store().read(std::string(stem_of(chips.front().first)) + ".rtc"));
      files_.emplace_back(std::string(stem_of(chips.front().first)) + ".rtc", bytes);
    }
    return write_files();
  }

 private:
  Result<int> into_bay() {
    BAYSWAP_CHECK(job_.open_bay());
    BAYSWAP_TRY(const auto to, OpenedBay::open(job_.books(), options_.to));
    BAYSWAP_TRY(const auto logbook, open_logbook(globals_));
    CarryRequest request = request_of(job_.books(), &logbook->book());
    BAYSWAP_TRY(const auto saves, job_.view().saves());
    if (saves->empty())
      return fail(ErrorCode::not_found, "no save chip answers",
                  "this game keeps nothing, or pass its chip: --chip sram=8192");
    request.what = saves->front().path;
    BAYSWAP_TRY(request.chips, chips_from_words(options_.chips));
    BAYSWAP_TRY(request.accept, accepted_from_words(options_.accept));
    LocalStore disk;
    BAYSWAP_TRY(const Plan plan, plan_carry(job_.view(), *to->view, disk, request));
    BAYSWAP_TRY(const bool shown, job_.refuse_or_show(plan));
    if (shown) return exit_done;
    BAYSWAP_CHECK(wait_until_idle(globals_, plan, *to->store, logbook->book(), false));
    if (!globals_.json)
      return show_and_run(globals_, plan, *to->store, *logbook, {options_.yes, true, false});
    if (!options_.yes)
      return fail(ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                  "pass --yes to go ahead");
    std::optional<std::int64_t> id;
    if (!plan.changes.empty()) {
      BAYSWAP_TRY(id, run_whole(plan, *to->store, *logbook));
    }
    print_json({{"done", true}, {"entry", id ? Json(*id) : Json(nullptr)}});
    return exit_done;
  }

  // Where the files go: one may be named, several need a folder.
  Result<std::string> place_of(const std::string& name) {
    LocalStore disk;
    if (options_.out.empty()) return name;
    BAYSWAP_TRY(const auto info, disk.stat(options_.out));
    const bool is_folder = options_.out.ends_with('/') || (info && info->kind == FileInfo::Kind::folder);
    if (is_folder) return join_path(options_.out, name);
    if (files_.size() > 1)
      return fail(ErrorCode::bad_usage,
                  fmt::format("there are {} files, and {} is one", files_.size(), options_.out),
                  "name a folder: --out DIR/");
    return options_.out;
  }

  Result<int> write_files() {
    LocalStore disk;
    Plan plan;
    plan.kind = EntryKind::convert;
    plan.game = job_.game().rom.game;
    plan.reason = fmt::format("dump of {}", job_.game_in_words());
    Json list = Json::array();
    std::vector<std::string> lines;
    for (const auto& [name, bytes] : files_) {
      BAYSWAP_TRY(const std::string path, place_of(name));
      lines.push_back(fmt::format("{} ({} bytes)", printable(path), bytes.size()));
      BAYSWAP_TRY(const auto before, disk.read_if_there(path));
      list.push_back({{"path", path}, {"size_bytes", bytes.size()}, {"sha256", sha256(bytes.view()).hex()}});
      if (before == bytes) continue;
      if (before && !options_.replace)
        return fail(ErrorCode::unsafe, fmt::format("{} exists and holds something else", path),
                    "name another file, or pass --replace: the old one is kept in the logbook");
      plan.changes.push_back({path, before, bytes});
    }
    std::optional<std::int64_t> entry;
    const bool replaces =
        std::ranges::any_of(plan.changes, [](const FileChange& one) { return one.before.has_value(); });
    if (options_.dry_run) {
      say(globals_.quiet, "A dry run: nothing was written.");
    } else if (replaces || plan.changes.size() > 1) {
      BAYSWAP_TRY(entry, run_here(globals_, plan, disk));
    } else {
      for (const FileChange& change : plan.changes)
        BAYSWAP_CHECK(disk.create(change.path, change.after->view()));
    }
    if (globals_.json)
      print_json({{"done", true},
                  {"files", std::move(list)},
                  {"problems", problems_},
                  {"entry", entry ? Json(*entry) : Json(nullptr)}});
    else if (!globals_.quiet)
      for (const std::string& line : lines)
        print_field(plan.changes.empty() ? "same" : "wrote", line, Tone::good);
    return problems_.empty() ? exit_done : exit_problems;
  }

  const Globals& globals_;
  const CartOptions& options_;
  CartJob job_;
  std::vector<std::pair<std::string, Blob>> files_;
  std::vector<std::string> problems_;
};

int ended(const Result<int>& code) {
  if (code) return *code;
  return report(code.error());
}

}  // namespace

int cart_ports_command(const Globals& globals, const CartOptions& /*options*/) {
  return ended(ports(globals));
}
int cart_look_command(const Globals& globals, const CartOptions& options) {
  return ended(look(globals, options));
}
int cart_dump_command(const Globals& globals, const CartOptions& options) {
  return ended(Dump(globals, options).chips());
}

}  // namespace bayswap::cli
