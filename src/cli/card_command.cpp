#include <bayswap/card.hpp>
#include <bayswap/carry.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

// Characters that file systems refuse become '_'.
std::string file_name_of(std::string_view name) {
  std::string out;
  for (const char c : name)
    out += std::string_view("/\\:*?\"<>|").find(c) == std::string_view::npos ? c : '_';
  return out.empty() || out.starts_with('.') ? "_" + out : out;
}

class CardJob {
 public:
  CardJob(const Globals& globals, const CardOptions& options) : globals_(globals), options_(options) {}

  Result<int> list() {
    BAYSWAP_TRY(const auto card, open(options_.image));
    const auto entries = card->entries();
    const auto problems = card->check();
    if (globals_.json) {
      Json saves = Json::array();
      for (const CardEntry& entry : entries) saves.push_back(to_json(entry));
      print_json({{"kind", to_text(card->kind())},
                  {"capacity_blocks", card->capacity_blocks()},
                  {"free_blocks", card->free_blocks()},
                  {"problems", to_json(problems)},
                  {"saves", std::move(saves)}});
      return exit_done;
    }
    std::vector<std::vector<std::string>> rows;
    rows.reserve(entries.size());
    for (const CardEntry& entry : entries)
      rows.push_back({printable(entry.name), printable(entry.title), entry.code,
                      entry.region == Region::unknown ? "" : std::string(name(entry.region)),
                      fmt::format("{}", entry.blocks), std::string(to_text(entry.state))});
    if (!rows.empty()) print_table({"save", "title", "code", "region", "blocks", "state"}, rows, {4});
    fmt::print("{}{} card: {} of {} blocks free, {} bytes each.\n", rows.empty() ? "" : "\n",
               to_text(card->kind()), card->free_blocks(), card->capacity_blocks(), card->block_bytes());
    if (!problems.empty())
      say(globals_.quiet,
          fmt::format("bayswap: warning: the card has {} problem{}; `bayswap card check` names them",
                      problems.size(), problems.size() == 1 ? "" : "s"));
    return exit_done;
  }

  Result<int> take() {
    BAYSWAP_TRY(const auto card, open(options_.image));
    std::vector<std::string> names = options_.names;
    if (options_.all)
      for (const CardEntry& entry : card->entries())
        if (entry.state == CardEntry::State::good) names.push_back(entry.name);
    if (names.empty())
      return fail(ErrorCode::bad_usage, "which save?",
                  "name one or more, or say --all; `bayswap card list` shows them");
    BAYSWAP_TRY(const auto there, disk_.stat(options_.out));
    const bool folder = names.size() > 1 || options_.all || options_.out.ends_with('/') ||
                        (there && there->kind == FileInfo::Kind::folder);
    std::vector<std::pair<std::string, Blob>> files;
    for (const std::string& save_name : names) {
      BAYSWAP_TRY(const CardSave save, card->read(save_name));
      auto single = to_single_save(save);
      const bool as_single = single && !options_.parcel && !options_.raw;
      const Blob bytes = options_.raw ? save.payload : as_single ? *single : to_parcel(save);
      const char* extension = options_.raw ? ".raw" : as_single ? ".single" : ".parcel";
      files.emplace_back(folder ? join_path(options_.out, file_name_of(save_name) + extension) : options_.out,
                         bytes);
    }
    for (const auto& [path, bytes] : files) {
      BAYSWAP_TRY(const auto info, disk_.stat(path));
      if (info)
        return fail(ErrorCode::unsafe, fmt::format("{} exists already", path),
                    "choose another --out; nothing was written");
    }
    for (const auto& [path, bytes] : files) BAYSWAP_CHECK(disk_.create(path, bytes.view()));
    Json made = Json::array();
    for (const auto& [path, bytes] : files) {
      made.push_back({{"path", path}, {"size_bytes", bytes.size()}});
      if (!globals_.json && !globals_.quiet)
        print_field("wrote", fmt::format("{} ({} bytes)", path, bytes.size()));
    }
    if (globals_.json) print_json({{"files", std::move(made)}});
    return exit_done;
  }

  Result<int> add() {
    return change(options_.image, "card add", [&](Card& card) -> Result<void> {
      for (const std::string& path : options_.names) {
        BAYSWAP_TRY(const Blob file, disk_.read(path));
        auto save = single_save_from(file);
        if (!save)
          return fail(save.error().code, fmt::format("{}: {}", path, save.error().message),
                      save.error().hint);
        BAYSWAP_CHECK(put(card, *save));
      }
      return {};
    });
  }

  Result<int> drop() {
    return change(options_.image, "card drop", [&](Card& card) -> Result<void> {
      for (const std::string& save_name : options_.names) BAYSWAP_CHECK(card.drop(save_name));
      return {};
    });
  }

  Result<int> copy() {
    std::vector<std::string> names = options_.names;
    if (names.size() < 2)
      return fail(ErrorCode::bad_usage, "copy needs saves and a card to copy to",
                  "e.g. `bayswap card copy FROM-IMAGE NAME TO-IMAGE`");
    const std::string to = names.back();
    names.pop_back();
    BAYSWAP_TRY(const auto from, open(options_.image));
    return change(to, "card copy", [&](Card& card) -> Result<void> {
      for (const std::string& save_name : names) {
        BAYSWAP_TRY(const CardSave save, from->read(save_name));
        BAYSWAP_CHECK(put(card, save));
      }
      return {};
    });
  }

  Result<int> make() {
    const auto kind = card_kind_from_text(options_.kind);
    if (!kind) {
      std::vector<std::string> kinds;
      for (const CardKind known : all_card_kinds()) kinds.emplace_back(to_text(known));
      const std::string hint = did_you_mean(options_.kind, kinds);
      return fail(ErrorCode::bad_usage, fmt::format("no card is called '{}'", printable(options_.kind)),
                  hint.empty() ? fmt::format("kinds are {}", fmt::join(kinds, ", ")) : hint);
    }
    const auto card = make_card(*kind);
    if (auto made = disk_.create(options_.image, card->image().view()); !made) {
      if (made.error().code == ErrorCode::unsafe)
        made.error().hint = "choose another name; a card is never made over a file";
      return tl::unexpected(std::move(made.error()));
    }
    if (globals_.json) {
      print_json(
          {{"path", options_.image}, {"kind", to_text(*kind)}, {"capacity_blocks", card->capacity_blocks()}});
    } else if (!globals_.quiet) {
      print_field("wrote", fmt::format("{} (a fresh {} card of {} blocks)", options_.image, to_text(*kind),
                                       card->capacity_blocks()));
    }
    return exit_done;
  }

  Result<int> check() {
    BAYSWAP_TRY(const auto card, open(options_.image));
    const auto problems = card->check();
    const bool mend = options_.repair && std::ranges::any_of(problems, [](const CardProblem& problem) {
                        return problem.mendable;
                      });
    if (globals_.json && !mend)
      print_json({{"kind", to_text(card->kind())}, {"problems", to_json(problems)}});
    if (!globals_.json) {
      for (const CardProblem& problem : problems)
        fmt::print("{:>8}  {}{}\n", fmt::format("{:#x}", problem.at), problem.text,
                   problem.mendable ? toned(Tone::dim, "  (can be mended)") : "");
      if (problems.empty()) fmt::print("{}: good\n", printable(options_.image));
    }
    if (mend) {
      BAYSWAP_TRY(const int code,
                  change(options_.image, "card check --repair", [](Card& damaged) -> Result<void> {
                    damaged.repair();
                    return {};
                  }));
      if (code != exit_done) return code;
      BAYSWAP_TRY(const auto mended, open(options_.image));
      return mended->check().empty() ? exit_done : exit_problems;
    }
    if (!problems.empty() && !options_.repair)
      say(globals_.quiet, "`bayswap card check --repair` mends what can be mended without guessing.");
    return problems.empty() ? exit_done : exit_problems;
  }

 private:
  Result<std::unique_ptr<Card>> open(const std::string& path) {
    BAYSWAP_TRY(const Blob file, disk_.read(path));
    auto card = open_card(file);
    if (!card)
      return fail(card.error().code, fmt::format("{}: {}", path, card.error().message), card.error().hint);
    return card;
  }

  Result<void> put(Card& card, const CardSave& save) {
    if (options_.replace && card.read(save.name)) BAYSWAP_CHECK(card.drop(save.name));
    auto done = card.put(save);
    if (!done) return done;
    const auto entries = card.entries();
    const auto own = std::ranges::find(entries, save.name, &CardEntry::name);
    if (own == entries.end()) return {};
    for (const CardEntry& other : entries)
      if (other.title == own->title && !own->title.empty() && other.region != own->region &&
          other.region != Region::unknown && own->region != Region::unknown)
        say(globals_.quiet, fmt::format("bayswap: warning: {} is of {}, {} on the same card of {}", own->name,
                                        name(own->region), other.name, name(other.region)));
    return {};
  }

  // The image with a change made to it: the old one into the logbook, the new one whole in its place.
  template <class Change>
  Result<int> change(const std::string& path, const std::string& what, Change make_change) {
    BAYSWAP_TRY(const Blob before, disk_.read(path));
    auto opened = open_card(before);
    if (!opened)
      return fail(opened.error().code, fmt::format("{}: {}", path, opened.error().message),
                  opened.error().hint);
    Card& card = **opened;
    const std::size_t problems_before = card.check().size();
    auto changed = make_change(card);
    if (!changed) return fail(changed.error().code, changed.error().message, changed.error().hint);
    const Blob after = card.image();
    // What is about to be written must open, and be no worse than it was.
    BAYSWAP_TRY(const auto again, open_card(after));
    if (again->check().size() > problems_before)
      return fail(ErrorCode::damaged,
                  fmt::format("{}: the change would break the card: {}", path, again->check().front().text),
                  "nothing was written; `bayswap card check --repair` first");
    std::optional<std::int64_t> entry;
    if (after != before) {
      Plan plan;
      plan.kind = EntryKind::card;
      plan.reason = fmt::format("{} {}", what, fmt::join(options_.names, ", "));
      plan.from_files.push_back(disk_.address(path));
      plan.changes.push_back({path, before, after});
      BAYSWAP_TRY(const auto logbook, LockedLogbook::open(globals_));
      BAYSWAP_TRY(entry, bayswap::run(plan, disk_, logbook->book()));
    }
    if (globals_.json) {
      print_json({{"path", path},
                  {"kind", to_text(card.kind())},
                  {"free_blocks", card.free_blocks()},
                  {"problems", to_json(card.check())},
                  {"entry", entry ? Json(*entry) : Json(nullptr)}});
    } else if (!globals_.quiet) {
      print_field("wrote",
                  fmt::format("{}: {} of {} blocks free", path, card.free_blocks(), card.capacity_blocks()));
      if (entry)
        print_field(
            "kept",
            fmt::format("the card as it was, in logbook entry {}; `bayswap undo` brings it back", *entry));
    }
    return exit_done;
  }

  static Json to_json(const CardEntry& entry) {
    return {{"name", entry.name},
            {"title", entry.title},
            {"code", entry.code},
            {"region", name(entry.region)},
            {"blocks", entry.blocks},
            {"size_bytes", entry.size_bytes},
            {"modified", entry.modified ? Json(utc_time(*entry.modified)) : Json(nullptr)},
            {"state", to_text(entry.state)}};
  }
  static Json to_json(const std::vector<CardProblem>& problems) {
    Json list = Json::array();
    for (const CardProblem& problem : problems)
      list.push_back({{"at", problem.at}, {"mendable", problem.mendable}, {"text", problem.text}});
    return list;
  }

  const Globals& globals_;
  const CardOptions& options_;
  LocalStore disk_;
};

int finished(const Result<int>& code) {
  return code ? *code : report(code.error());
}

}  // namespace

int card_list_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).list());
}
int card_take_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).take());
}
int card_add_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).add());
}
int card_drop_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).drop());
}
int card_copy_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).copy());
}
int card_make_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).make());
}
int card_check_command(const Globals& globals, const CardOptions& options) {
  return finished(CardJob(globals, options).check());
}

}  // namespace bayswap::cli
