// A save written into a cartridge's chip.
#include <bayswap/conversion.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/same_cartridge.hpp"
#include "cli/cart_job.hpp"

namespace bayswap::cli {
namespace {

class Write {
 public:
  Write(const Globals& globals, const CartOptions& options)
      : globals_(globals), options_(options), job_(globals, options) {}

  Result<int> run() {
    if (options_.resume == !options_.input.empty())
      return fail(ErrorCode::bad_usage,
                  options_.resume ? "--resume writes what was being written, not a file" : "write what?",
                  "name a save, or pass --resume to continue a write that was cut off");
    BAYSWAP_CHECK(job_.open());
    BAYSWAP_CHECK(job_.open_bay());
    BAYSWAP_TRY(logbook_, options_.dry_run ? look_at_logbook(globals_) : open_logbook(globals_));
    if (!globals_.json && !globals_.quiet)
      print_field("cartridge", printable(job_.game_in_words()), Tone::bold);
    if (options_.resume) {
      BAYSWAP_TRY(accept_, accepted_from_words(options_.accept));
      accept_.insert(IssueCode::damaged);  // the old bytes are kept already
      BAYSWAP_TRY(plan_, plan_resume());
    } else {
      BAYSWAP_TRY(plan_, plan_input());
    }
    return go();
  }

 private:
  // Another cartridge of the same game holds other bytes.
  Result<void> check_torn(const Blob& now, const Blob& old, const Blob& wanted, std::int64_t id) const {
    if (may_be_left_by(now.view(), old.view(), wanted.view()) || accept_.contains(IssueCode::odd_target))
      return {};
    return fail(
        ErrorCode::unsafe,
        fmt::format("the cartridge holds neither what it held before entry {} nor what was being written: "
                    "it may be another one of the same game; nothing was written",
                    id),
        "put the right one in", {Remedy::Kind::accept, {std::string(to_text(IssueCode::odd_target))}});
  }

  // The newest write to this cartridge that is still open, to its end.
  Result<Plan> plan_resume() {
    std::vector<Entry> open;
    if (logbook_) {
      BAYSWAP_TRY(open, logbook_->book().unfinished());
    }
    std::ranges::reverse(open);
    BAYSWAP_TRY(const auto chips, job_.store().chips());
    for (const Entry& entry : open) {
      Plan plan;
      plan.kind = entry.kind;
      plan.game = entry.game;
      plan.reason = fmt::format("resume entry {}: {}", entry.id, entry.reason);
      plan.from_files = entry.from_paths;
      plan.to_bay = entry.to_bay;
      plan.content = entry.content;
      for (const LoggedChange& change : entry.changes) {
        if (!is_cart_path(change.path) || !change.after) continue;
        const std::string name(name_of(change.path));
        BAYSWAP_TRY(const auto there, job_.store().stat(name));
        if (!there) continue;
        FileChange again{name, {}, {}};
        BAYSWAP_TRY(again.before, job_.store().read_if_there(name));
        BAYSWAP_TRY(again.after, logbook_->book().bytes(*change.after));
        if (change.before && again.before) {
          BAYSWAP_TRY(const Blob old, logbook_->book().bytes(*change.before));
          BAYSWAP_CHECK(check_torn(*again.before, old, *again.after, entry.id));
          again.before_cut = old;  // an undo goes back to before the first try
        }
        plan.changes.push_back(std::move(again));
      }
      if (!plan.changes.empty()) return plan;
    }
    return fail(ErrorCode::not_found, "no write to this cartridge is unfinished",
                "name the save to write; `bayswap logbook` shows what was written");
  }

  // An entry of a card image goes onto the card that is in the reader: a controller pak.
  Result<std::optional<Plan>> plan_card_entry(LocalStore& disk) {
    const std::string& input = options_.input;
    const std::size_t colon = input.rfind(": ");
    if (colon == std::string::npos) return std::optional<Plan>{};
    const std::string image = input.substr(0, colon);
    const std::string name = input.substr(colon + 2);
    BAYSWAP_TRY(const auto there, disk.stat(image));
    if (!there) return std::optional<Plan>{};
    BAYSWAP_TRY(const Blob bytes, disk.read(image));
    BAYSWAP_TRY(const auto card, open_card(bytes));
    BAYSWAP_TRY(const CardSave save, card->read(name));
    BAYSWAP_TRY(const auto chips, job_.store().chips());
    for (const auto& [file, chip] : chips) {
      BAYSWAP_TRY(const Blob held, job_.store().read(file));
      const auto own = open_card(held);
      if (!own || (*own)->kind() != card->kind()) continue;
      BAYSWAP_TRY(CardChange change,
                  plan_card_change(job_.store(), file, 0, std::nullopt, fmt::format("write {}", input),
                                   [&](Card& one) { return one.put(save); }));
      return std::optional(std::move(change.plan));
    }
    return fail(ErrorCode::unsupported, fmt::format("{} is of a card, and none is in the reader", input),
                "plug the controller pak in");
  }

  // The battery save of a state: by a map, or where the search is certain.
  std::optional<Save> in_state(const Blob& bytes) {
    const auto maps = state_maps_of(globals_);
    if (!maps) return std::nullopt;
    const StateFile file(bytes);
    const Platform platform = job_.game().rom.game.platform;
    StateLook look = look_at_state(*maps, file, platform, chips_);
    if (look.save) return std::move(look.save);
    BatterySearch what;
    what.platform = platform;
    what.chips = chips_;
    what.maps = &*maps;
    BatteryFinds finds = find_batteries(job_.books().catalog, file, what);
    if (finds.candidates.empty() || !finds.candidates.front().certain) return std::nullopt;
    return std::move(finds.candidates.front().save);
  }

  // A file whose size no chip of the game accounts for may be a state.
  bool may_be_state(const Blob& bytes) const {
    return std::ranges::none_of(chips_,
                                [&](const ChipFact& chip) { return bytes.size() == chip.size_bytes; }) &&
           bytes.size() > 4096;
  }

  // Whose save it is, as far as anything tells: the ROM beside it, the place that it lies in, what the
  // logbook knows of it. With how that is known.
  struct Owner {
    GameId game;
    std::string how;
  };
  Result<std::vector<Owner>> owners(LocalStore& disk) {
    std::vector<Owner> found;
    if (const auto beside = rom_beside(disk, options_.input))
      found.push_back({beside->second.game, "the ROM beside it"});
    const std::string path = disk.absolute_path(options_.input);
    if (found.empty()) {
      const auto place = OpenedBay::that_has(job_.books(), path, "");
      const auto saves = place ? (*place)->view->saves(BayView::Depth::names) : tl::unexpected(place.error());
      if (saves)
        for (const HeldSave& save : **saves)
          if (save.has_rom && std::ranges::any_of(save.held, [&](const HeldFile& file) {
                return (*place)->store->absolute_path(file.path) == path;
              }))
            found.push_back({save.facts.game, fmt::format("by its name in {}, its ROM", (*place)->bay.name)});
    }
    if (logbook_) {
      // The newest entry that wrote these very bytes says whose they were.
      BAYSWAP_TRY(const auto entries, logbook_->book().entries(path));
      const auto bytes = disk.read(options_.input, max_state_bytes);
      for (const Entry& entry : entries)
        if (entry.game && entry.state == EntryState::done && bytes &&
            std::ranges::any_of(entry.changes, [&](const LoggedChange& change) {
              return change.path == path && change.after && *change.after == sha256(bytes->view());
            })) {
          found.push_back({*entry.game, fmt::format("by logbook entry {}, its game", entry.id)});
          break;
        }
    }
    return found;
  }

  Result<void> check_game(LocalStore& disk) {
    BAYSWAP_TRY(const auto known, owners(disk));
    const GameId& wanted = job_.game().rom.game;
    const auto accepts = [&](IssueCode code) { return accept_.contains(code); };
    for (const auto& [own, how] : known) {
      const GameMatch match = compare(own, wanted);
      const std::string whose =
          fmt::format("{} is {}, the cartridge is {}", how, in_words(own), in_words(wanted));
      if (match == GameMatch::other_game && !accepts(IssueCode::wrong_game))
        return fail(ErrorCode::unsafe, fmt::format("{} is another game's save: {}", options_.input, whose),
                    "nothing was written",
                    {Remedy::Kind::accept, {std::string(to_text(IssueCode::wrong_game))}});
      if (match == GameMatch::other_region && !accepts(IssueCode::wrong_region))
        return fail(ErrorCode::wrong_region,
                    fmt::format("{} is of another region: {}", options_.input, whose), "nothing was written",
                    {Remedy::Kind::accept, {std::string(to_text(IssueCode::wrong_region))}});
      if (match == GameMatch::other_revision) warnings_.push_back(whose + ": another revision");
    }
    // Under the name that the cartridge's own save has, as a dump gives it.
    BAYSWAP_TRY(const std::string rom_name, job_.store().rom_name());
    if (known.empty() && lower(stem_of(options_.input)) != lower(stem_of(rom_name)))
      warnings_.push_back(
          fmt::format("no ROM, place or entry of the logbook says which game {} is of: see that it is {}",
                      options_.input, in_words(wanted)));
    return {};
  }

  // A controller pak belongs to no game.
  Result<Plan> plan_pak(const Blob& bytes, const std::string& name) {
    OpenOptions how;
    how.hints.platform = Platform::n64;
    how.hints.chips = chips_;
    how.hints.extension = lower(extension_of(options_.input));
    how.display_path = options_.input;
    IssueList issues(accept_);
    BAYSWAP_TRY(const OpenedChips opened, open_chips(job_.books().catalog, bytes, how, issues));
    const auto paks =
        std::ranges::count(opened.save.parts, PartKind::pak, [](const Part& one) { return one.role.kind; });
    const auto part =
        std::ranges::find(opened.save.parts, PartKind::pak, [](const Part& one) { return one.role.kind; });
    if (paks != 1)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} holds {} controller paks, and one is in the reader", options_.input, paks),
                  "name a file with one; `bayswap convert` takes one out");
    Plan plan;
    plan.kind = EntryKind::carry;
    plan.reason = fmt::format("write {} to the controller pak", options_.input);
    plan.from_files.push_back(LocalStore().absolute_path(options_.input));
    plan.issues = issues.take();
    BAYSWAP_TRY(auto before, job_.store().read_if_there(name));
    if (before != part->bytes) plan.changes.push_back({name, std::move(before), part->bytes});
    return plan;
  }

  Result<Plan> plan_input() {
    LocalStore disk;
    BAYSWAP_TRY(accept_, accepted_from_words(options_.accept));
    BAYSWAP_TRY(auto entry, plan_card_entry(disk));
    if (entry) return *std::move(entry);
    BAYSWAP_TRY(Blob bytes, disk.read(options_.input, max_state_bytes));
    if (bytes.empty())
      return fail(ErrorCode::not_recognised, fmt::format("{} is empty", options_.input),
                  "copy it again from where it was made");
    BAYSWAP_CHECK(check_game(disk));
    BAYSWAP_TRY(const auto chips, job_.store().chips());
    if (chips.empty())
      return fail(ErrorCode::not_found, "no save chip answers",
                  "this game keeps nothing, or pass its chip: --chip sram=8192");
    for (const auto& [name, chip] : chips)
      chips_.push_back({chip.kind, chip.bytes, fmt::format("the cartridge has {}", chip.bytes)});
    BAYSWAP_TRY(const std::string rom_name, job_.store().rom_name());
    if (rom_name.empty()) return plan_pak(bytes, chips.front().first);
    Candidate candidate;
    candidate.rule = job_.view().bay().rule(saves_as(job_.game().rom.game.platform));
    if (candidate.rule == nullptr)
      return fail(ErrorCode::unsupported,
                  fmt::format("{} cartridges are not written", tag(job_.game().rom.game.platform)), "");
    candidate.where = options_.input;
    candidate.told = true;  // check_game has asked
    candidate.facts.game = job_.game().rom.game;
    candidate.facts.rom_path = rom_name;
    std::string path = options_.input;
    if (may_be_state(bytes))
      if (auto save = in_state(bytes)) {
        const CartChip& chip = chips.front().second;
        const auto memory =
            std::ranges::find(save->parts, chip.kind, [](const Part& one) { return one.role.kind; });
        if (memory == save->parts.end())
          return fail(ErrorCode::does_not_fit,
                      fmt::format("the state {} holds no {}, which the cartridge has", options_.input,
                                  to_text(Role{chip.kind, 0})),
                      "is it a state of this game?");
        bytes = memory->bytes;
        path = chips.front().first;
        if (!globals_.json && !globals_.quiet)
          print_field("read", fmt::format("{} as a save state: the battery save in it, {} bytes",
                                          options_.input, bytes.size()));
      }
    candidate.files.push_back({path, bytes, 0});
    CarryRequest request = request_of(job_.books(), logbook_ ? &logbook_->book() : nullptr);
    request.what = options_.input;
    request.chips = chips_;
    request.accept = accept_;
    BAYSWAP_TRY(Plan plan, plan_file_carry(job_.view(), candidate, request));
    plan.kind = EntryKind::carry;
    plan.reason = fmt::format("write {} to the cartridge", options_.input);
    plan.to_bay.clear();
    plan.learned.clear();
    return plan;
  }

  // What can't be read right can't be kept either: a write would lose it.
  Result<void> check_old() {
    for (const FileChange& change : plan_.changes) {
      BAYSWAP_TRY(const auto chips, job_.store().chips());
      const auto chip = std::ranges::find(chips, change.path, [](const auto& one) { return one.first; });
      if (chip == chips.end() || !change.before) continue;
      const CartVerdict verdict = verdict_of(chip->second, CartDump{*change.before, {}, 0});
      if (verdict.contacts.empty() || accept_.contains(IssueCode::damaged)) continue;
      return fail(ErrorCode::unsafe,
                  fmt::format("what is on the cartridge can't be read right: {}; nothing was written",
                              joined(verdict.contacts, "; ")),
                  "clean the contacts and put it in again; what is there now would be lost",
                  {Remedy::Kind::accept, {std::string(to_text(IssueCode::damaged))}});
    }
    return {};
  }

  // A chip that holds nothing may be one that can't hold anything.
  Result<void> warn_of_blank() {
    BAYSWAP_TRY(const auto chips, job_.store().chips());
    for (const FileChange& change : plan_.changes)
      for (const auto& [name, chip] : chips)
        if (name == change.path && chip.needs_battery && change.before && is_uniform(change.before->view()))
          warnings_.push_back(fmt::format(
              "{} is blank: nothing was saved yet, or its battery is flat; what is written is read "
              "again after the power was off",
              name));
    return {};
  }

  Result<int> go() {
    BAYSWAP_CHECK(check_old());
    BAYSWAP_TRY(const bool shown, job_.refuse_or_show(plan_));
    if (shown) return exit_done;
    BAYSWAP_CHECK(warn_of_blank());
    for (const std::string& warning : warnings_) say(globals_.quiet, "bayswap: warning: " + warning);
    if (!globals_.json && !globals_.quiet) print_plan(plan_, false);
    if (plan_.changes.empty()) {
      if (globals_.json)
        print_json({{"done", true}, {"entry", nullptr}, {"equal", true}});
      else
        say(globals_.quiet, "Nothing to do: the cartridge holds these very bytes.");
      return exit_done;
    }
    if (!options_.yes) {
      std::fflush(stdout);
      if (!has_terminal())
        return fail(ErrorCode::unsafe, "nothing was written: there is no terminal to ask on",
                    "pass --yes to go ahead, or --dry-run to see the plan alone");
      if (!ask("Write it to the cartridge?")) {
        say(false, "Nothing was written.");
        return exit_refused;
      }
    }
    // A chip half written is worse than a wait: Ctrl-C is heard between two attempts, and said.
    held_.emplace();
    held_->keep();  // it ends by itself, and what it says of the chip is the last word
    BAYSWAP_TRY(const std::int64_t id, bayswap::run(plan_, job_.store(), logbook_->book()));
    if (globals_.json)
      print_json({{"done", true}, {"entry", id}, {"equal", true}});
    else if (!globals_.quiet)
      fmt::print("{}\n",
                 toned(Tone::good, fmt::format("Done: read back and equal, also after the power was off. "
                                               "`bayswap undo {}` puts back what was on it.",
                                               id)));
    std::fflush(stdout);
    return exit_done;
  }

  const Globals& globals_;
  const CartOptions& options_;
  CartJob job_;
  std::unique_ptr<LockedLogbook> logbook_;
  std::set<IssueCode> accept_;
  std::vector<ChipFact> chips_;
  std::vector<std::string> warnings_;
  Plan plan_;
  std::optional<InterruptsHeld> held_;
};

}  // namespace

int cart_write_command(const Globals& globals, const CartOptions& options) {
  Write write(globals, options);  // holds Ctrl-C back until all is said
  const auto code = write.run();
  if (code) return *code;
  return report(code.error());
}

}  // namespace bayswap::cli
