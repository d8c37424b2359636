#include <algorithm>
#include <ctime>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/card_job.hpp"
#include "cli/pipes.hpp"

namespace bayswap::cli {
namespace {

Result<int> list(CardJob& job) {
  BAYSWAP_TRY(const auto opened, job.open(job.options.image));
  const Card& card = *opened.card;
  const auto entries = card.entries();
  const auto problems = card.check();
  if (job.globals.json) {
    print_json(card_json(card, opened.slots));
    return exit_done;
  }
  std::vector<std::vector<std::string>> rows;
  rows.reserve(entries.size());
  for (const CardEntry& entry : entries)
    rows.push_back({printable(entry.name), printable(entry.title), entry.code,
                    entry.region != Region::unknown ? std::string(name(entry.region)) : entry.language,
                    fmt::format("{}", entry.blocks),
                    entry.modified ? card_time(card.kind(), *entry.modified).substr(0, 16) : "",
                    std::string(to_text(entry.state))});
  // Columns that no save of this kind has anything for are left out.
  std::vector<std::string> headings{
      "save",   "title", "code", card.kind() == CardKind::sat ? "language" : "region",
      "blocks", "date",  "state"};
  for (std::size_t i = headings.size(); i-- > 0;)
    if (std::ranges::all_of(rows, [&](const auto& row) { return row[i].empty(); })) {
      headings.erase(headings.begin() + static_cast<std::ptrdiff_t>(i));
      for (auto& row : rows) row.erase(row.begin() + static_cast<std::ptrdiff_t>(i));
    }
  const auto blocks = static_cast<std::size_t>(std::ranges::find(headings, "blocks") - headings.begin());
  if (!rows.empty()) {
    print_table(headings, rows, {blocks});
    fmt::print("\n");
  }
  if (opened.folder != nullptr)
    fmt::print("A folder with {} of {} cards.\n", counted(entries.size(), "save"), to_text(card.kind()));
  else if (card.block_bytes() == 1)
    fmt::print("{} card: {} of {} bytes free.\n", to_text(card.kind()), card.free_blocks(),
               card.capacity_blocks());
  else
    fmt::print("{} card: {} of {} blocks free, {} bytes each.\n", to_text(card.kind()), card.free_blocks(),
               card.capacity_blocks(), card.block_bytes());
  if (opened.slots > 1)
    fmt::print("This is {} {} of {} in the file; --slot chooses another.\n",
               opened.card->kind() == CardKind::n64 ? "pak" : "card", std::max(1, job.options.slot),
               opened.slots);
  if (card.kind() == CardKind::scd)
    say(job.globals.quiet,
        "bayswap: note: the directory of an scd memory can't be read; docs/formats/scd.md says why");
  for (const std::string& note : card.notes()) say(job.globals.quiet, "bayswap: note: " + note);
  if (!problems.empty())
    say(job.globals.quiet, fmt::format("bayswap: warning: the card has {}; `bayswap card check` names them",
                                       counted(problems.size(), "problem")));
  return exit_done;
}

// What a console shows as its local time, as that moment where this program runs.
std::int64_t as_local_time(std::int64_t shown) {
  const auto seconds = static_cast<std::time_t>(shown);
  std::tm fields{};
  gmtime_r(&seconds, &fields);
  fields.tm_isdst = -1;
  return std::mktime(&fields);
}

// In which form a save goes into files of its own. They get the dates that the card has.
std::vector<NewFile> files_for(const CardSave& save, const CardOptions& options, bool folder) {
  const std::string path = folder ? join_path(options.out, file_name_for(save.name)) : options.out;
  std::vector<NewFile> files;
  // Of a ps2 save: its files in a folder of its name, or all of it in one file.
  const bool many = folder && !save.files.empty() && !options.parcel;
  if (many) {
    files.reserve(save.files.size());
    for (const CardFile& file : save.files)
      files.push_back({join_path(path, file_name_for(file.name)), file.bytes, modified_of(file)});
    return files;
  }
  const auto single = to_single_save(save);
  const bool as_single = single && !options.parcel && !options.raw;
  const char* extension = options.raw ? ".raw" : as_single ? ".single" : ".parcel";
  std::optional<std::int64_t> modified = describe(save).modified;
  if (modified) modified = as_local_time(*modified);
  files.push_back({folder ? path + extension : path,
                   options.raw ? save.payload
                   : as_single ? *single
                               : to_parcel(save),
                   modified});
  return files;
}

// One save, to stdout.
Result<int> take_to_stdout(const CardJob& job, const Card& card, const std::vector<std::string>& names) {
  if (job.globals.json)
    return fail(ErrorCode::bad_usage, "the save and a JSON document can't both go to stdout",
                "name a file with --out");
  if (names.size() != 1)
    return fail(ErrorCode::bad_usage, "several saves can't go to stdout", "name one, or a folder with --out");
  BAYSWAP_TRY(const CardSave save, card.read(names.front()));
  const auto files = files_for(save, job.options, false);
  if (files.size() != 1)
    return fail(ErrorCode::unsupported, fmt::format("{} is several files", names.front()),
                "pass --parcel, or name a folder");
  const ByteView bytes = files.front().bytes.view();
  print_document({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
  return exit_done;
}

Result<int> take(CardJob& job) {
  const CardOptions& options = job.options;
  Pipes pipes;
  BAYSWAP_TRY(const std::string image, pipes.input(options.image));
  BAYSWAP_TRY(const auto opened, job.open(image));
  BAYSWAP_TRY(const auto names, wanted_saves(options, *opened.card));
  if (options.out == "-") return take_to_stdout(job, *opened.card, names);
  BAYSWAP_TRY(const auto there, job.disk.stat(options.out));
  const bool folder = names.size() > 1 || options.all || options.out.ends_with('/') ||
                      (there && there->kind == FileInfo::Kind::folder);
  std::vector<NewFile> files;
  for (const std::string& name : names) {
    BAYSWAP_TRY(const CardSave save, opened.card->read(name));
    for (auto& file : files_for(save, options, folder)) files.push_back(std::move(file));
  }
  std::set<std::string> paths;
  for (auto& [path, bytes, modified] : files) {
    const std::string first = path;  // names that differ on the card may be one on the disk
    for (int i = 2; !paths.insert(path).second; ++i) path = fmt::format("{}-{}", first, i);
  }
  BAYSWAP_TRY(const int code, job.write_new("card export", files));
  if (job.globals.json) {
    Json made = Json::array();
    for (const NewFile& file : files)
      made.push_back({{"path", file.path}, {"size_bytes", file.bytes.size()}});
    print_json({{"files", std::move(made)}});
  }
  return code;
}

// The console's clock has no zone: it shows local time, but for ps2, which keeps the time of its own.
std::int64_t console_time(CardKind kind) {
  const std::time_t now = std::time(nullptr);
  std::tm local{};
  localtime_r(&now, &local);
  return now + (kind == CardKind::ps2 ? 9 * 3600 : local.tm_gmtoff);
}

// A file of a save's data alone, as a save of that name; one that is there lends its entry.
Result<void> add_payload(CardJob& job, Card& card) {
  if (job.options.names.size() != 1)
    return fail(ErrorCode::bad_usage, "--as names one save", "add one file at a time");
  BAYSWAP_TRY(const Blob file, job.disk.read(job.options.names.front()));
  const auto there = card.read(job.options.as);
  BAYSWAP_TRY(const CardSave save, payload_save(card.kind(), job.options.as, file, console_time(card.kind()),
                                                there ? &*there : nullptr));
  return job.put(card, save);
}

// A parcel, the console's entry before the content, or these inside of something else.
Result<CardSave> save_in_file(CardJob& job, const Card& card, const std::string& path) {
  BAYSWAP_TRY(const Blob file, job.disk.read(path));
  auto save = single_save_from(file);
  if (save || save.error().code != ErrorCode::not_recognised) {
    if (!save) save.error().message = fmt::format("{}: {}", path, save.error().message);
    return save;
  }
  std::vector<EmbeddedSave> inside = find_embedded_saves(file);
  if (std::any_of(inside.begin(), inside.end(),
                  [&](const EmbeddedSave& one) { return one.save.kind == card.kind(); }))
    std::erase_if(inside, [&](const EmbeddedSave& one) { return one.save.kind != card.kind(); });
  if (inside.empty())
    return fail(ErrorCode::not_recognised, fmt::format("{}: {}", path, save.error().message),
                save.error().hint + "; --as NAME where it is a save's data alone");
  const EmbeddedSave* chosen = &inside.front();
  if (inside.size() > 1) {
    std::vector<std::string> choices;
    choices.reserve(inside.size());
    for (const EmbeddedSave& one : inside) choices.push_back(one.evidence);
    const auto answer = choose(job.globals, fmt::format("{} could be several things. Which?", path), choices);
    if (!answer)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} could be several things: {}", path, joined(choices, "; or ")),
                  "cut out the save that is meant, or run this on a terminal, where it is asked");
    chosen = &inside[static_cast<std::size_t>(std::ranges::find(choices, *answer) - choices.begin())];
  }
  if (chosen->nameless)
    return fail(ErrorCode::bad_usage,
                fmt::format("{}: {}, and the game looks for it by that name", path, chosen->evidence),
                fmt::format("cut off the {} bytes before it and pass --as NAME", chosen->at));
  say(job.globals.quiet, fmt::format("bayswap: note: {}: {}", path, chosen->evidence));
  return chosen->save;
}

Result<int> undelete(CardJob& job) {
  return job.change(job.options.image, "card undelete", [&](Card& card) -> Result<void> {
    for (const std::string& word : job.options.names) {
      BAYSWAP_TRY(const std::string name, name_on(card, word));
      BAYSWAP_CHECK(card.undelete(name));
    }
    return {};
  });
}

Result<int> add(CardJob& job) {
  if (!job.options.as.empty())
    return job.change(job.options.image, "card import",
                      [&](Card& card) -> Result<void> { return add_payload(job, card); });
  return job.change(job.options.image, "card import", [&](Card& card) -> Result<void> {
    for (const std::string& path : job.options.names) {
      BAYSWAP_TRY(const auto info, job.disk.stat(path));
      if (info && info->kind == FileInfo::Kind::folder && card.kind() == CardKind::ps2) {
        BAYSWAP_TRY(const CardSave save, save_from_folder(job.disk, path));
        BAYSWAP_CHECK(job.put(card, save));
        continue;
      }
      if (info && info->kind == FileInfo::Kind::folder) {
        LocalStore store(path);
        BAYSWAP_TRY(const auto folder, CardFolder::open(store));
        for (const CardEntry& entry : folder->entries()) {
          BAYSWAP_TRY(const CardSave save, folder->read(entry.name));
          BAYSWAP_CHECK(job.put(card, save));
        }
        continue;
      }
      BAYSWAP_TRY(const CardSave save, save_in_file(job, card, path));
      BAYSWAP_CHECK(job.put(card, save));
    }
    return {};
  });
}

Result<int> drop(CardJob& job) {
  std::vector<std::string> names;
  {
    BAYSWAP_TRY(const auto opened, job.open(job.options.image));
    for (const std::string& word : job.options.names) {
      BAYSWAP_TRY(names.emplace_back(), name_on(*opened.card, word));
      // One that is there goes, in whatever condition it is.
      if (std::ranges::none_of(opened.card->entries(),
                               [&](const CardEntry& entry) { return entry.name == names.back(); }))
        BAYSWAP_CHECK(opened.card->read(names.back()));
    }
  }
  const std::string what = printable(joined(names, ", "));
  if (job.options.dry_run) {
    if (job.globals.json) print_json({{"path", job.options.image}, {"would_remove", names}});
    say(job.globals.quiet, fmt::format("Would remove {} from {}. A dry run: nothing was changed.", what,
                                       printable(job.options.image)));
    return exit_done;
  }
  if (!job.options.yes) {
    if (!has_terminal())
      return fail(ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                  "pass --yes to go ahead, or --dry-run to see what would be done");
    if (!ask(fmt::format("Remove {} from {}?", what, printable(job.options.image)))) {
      say(false, "Nothing was changed.");
      return exit_refused;
    }
  }
  return job.change(job.options.image, "card remove", [&](Card& card) -> Result<void> {
    for (const std::string& word : job.options.names) {
      BAYSWAP_TRY(const std::string name, name_on(card, word));
      BAYSWAP_CHECK(card.drop(name));
    }
    return {};
  });
}

Result<int> copy(CardJob& job) {
  std::vector<std::string> names = job.options.names;
  if (names.empty() || (names.size() < 2 && !job.options.all))
    return fail(ErrorCode::bad_usage, "copy needs saves and a card to copy to",
                "e.g. `bayswap card copy FROM-IMAGE NAME TO-IMAGE`, or --all for the names");
  const std::string to = names.back();
  names.pop_back();
  BAYSWAP_TRY(const auto from, job.open(job.options.image));
  for (std::string& name : names) {
    BAYSWAP_TRY(name, name_on(*from.card, name));
  }
  if (job.options.all)
    for (const CardEntry& entry : from.card->entries())
      if (entry.state == CardEntry::State::good) names.push_back(entry.name);
  return job.change(
      to, "card copy",
      [&](Card& card) -> Result<void> {
        for (const std::string& name : names) {
          BAYSWAP_TRY(const CardSave save, from.card->read(name));
          BAYSWAP_CHECK(job.put(card, save));
        }
        return {};
      },
      from.card->kind());
}

// The game's product code in another region: said, by its ROM, by titles.toml, or by another save of the
// card.
Result<std::string> code_there(CardJob& job, const Card& card, const CardSave& save, Region region) {
  if (!job.options.code.empty()) return job.options.code;
  const CardEntry own = describe(save);
  if (!job.options.rom.empty()) {
    BAYSWAP_TRY(const RomFacts rom, rom_at(job.globals, job.options.rom));
    if (rom.game.region != region)
      return fail(ErrorCode::wrong_region,
                  fmt::format("{} is of {}, not {}", job.options.rom, name(rom.game.region), name(region)),
                  "name the ROM of the region that is meant");
    return rom.game.code;
  }
  if (const auto home = home_of(job.globals))
    if (const auto titles = TitleBook::load(*home)) {
      const GameId game{*platform_from_tag(to_text(save.kind)), own.code, own.title, own.region};
      if (const auto row = titles->in_region(game, region)) return row->code;
    }
  for (const CardEntry& other : card.entries())
    if (other.region == region && other.title == own.title && !own.title.empty() && !other.code.empty())
      return other.code;
  return std::string();
}

Result<int> rename(CardJob& job) {
  BAYSWAP_TRY(const auto region, job.wished_region());
  if (!region)
    return fail(ErrorCode::bad_usage, "to which region?", "--region japan, north-america or europe");
  if (job.options.names.empty())
    return fail(ErrorCode::bad_usage, "which save?", "name one or more; `bayswap card list` shows them");
  BAYSWAP_TRY(const int code, job.change(job.options.image, "card restamp", [&](Card& card) -> Result<void> {
    for (const std::string& word : job.options.names) {
      BAYSWAP_TRY(const std::string name, name_on(card, word));
      BAYSWAP_TRY(const CardSave save, card.read(name));
      BAYSWAP_TRY(const std::string code, code_there(job, card, save, *region));
      BAYSWAP_TRY(const CardSave stamped, restamped(save, *region, code));
      if (stamped.entry == save.entry) continue;
      for (const std::string& warning : card.warnings_for(stamped))
        say(job.globals.quiet, "bayswap: warning: " + warning);
      if (stamped.name != save.name && card.read(stamped.name) && !job.options.replace)
        return fail(ErrorCode::unsafe, fmt::format("{} is on the card already", stamped.name),
                    "pass --replace, or drop it first");
      BAYSWAP_CHECK(card.drop(save.name));
      if (stamped.name != save.name && job.options.replace && card.read(stamped.name))
        BAYSWAP_CHECK(card.drop(stamped.name));
      BAYSWAP_CHECK(card.put(stamped));
    }
    return {};
  }));
  say(job.globals.quiet,
      "bayswap: note: the game's own data may name the old region as well; that is not touched. Try it in "
      "the game.");
  return code;
}

Result<int> make(CardJob& job) {
  const CardOptions& options = job.options;
  const auto kind = card_kind_from_text(options.kind);
  if (!kind) {
    std::vector<std::string> kinds;
    for (const CardKind known : all_card_kinds()) kinds.emplace_back(to_text(known));
    const std::string hint = did_you_mean(options.kind, kinds);
    return fail(ErrorCode::bad_usage, fmt::format("no card is called '{}'", printable(options.kind)),
                hint.empty() ? fmt::format("kinds are {}", joined(kinds, ", ")) : hint);
  }
  BAYSWAP_TRY(const auto card, make_card(*kind, {options.blocks, options.bytes, options.form,
                                                 console_time(*kind), options.japanese}));
  const Blob image = card->image();
  auto made = job.write_new("card make", {{options.image, image, {}}}, false);
  if (!made && made.error().code == ErrorCode::unsafe)
    made.error().hint = "choose another name; a card is never made over a file";
  if (!made || *made != exit_done) return made;
  if (job.globals.json) {
    print_json({{"path", options.image},
                {"kind", to_text(*kind)},
                {"form", card->form()},
                {"size_bytes", image.size()},
                {"capacity_blocks", card->capacity_blocks()}});
  } else if (!job.globals.quiet) {
    print_field("wrote", fmt::format("{} (a fresh {} card of {} {})", options.image, to_text(*kind),
                                     card->capacity_blocks(), card->block_bytes() == 1 ? "bytes" : "blocks"));
  }
  return exit_done;
}

// "CARD: ENTRY" in the place of the card and the name.
CardOptions spelled_out(const Globals& globals, CardOptions options) {
  const auto home = home_of(globals);
  LocalStore disk;
  if (!home) return options;
  const Address address = address_from_text(*home, disk, options.image);
  if (address.place.empty() || !address.what.starts_with(address.place + ": ")) return options;
  options.image = address.place;
  options.names.insert(options.names.begin(), address.what.substr(address.place.size() + 2));
  return options;
}

}  // namespace

int card_list_command(const Globals& globals, const CardOptions& options) {
  CardJob job{globals, options};
  return finished(list(job));
}
int card_export_command(const Globals& globals, const CardOptions& said) {
  const CardOptions options = spelled_out(globals, said);
  CardJob job{globals, options};
  return finished(take(job));
}
int card_import_command(const Globals& globals, const CardOptions& options) {
  CardJob job{globals, options};
  return finished(add(job));
}
int card_remove_command(const Globals& globals, const CardOptions& said) {
  const CardOptions options = spelled_out(globals, said);
  CardJob job{globals, options};
  return finished(drop(job));
}
int card_undelete_command(const Globals& globals, const CardOptions& said) {
  const CardOptions options = spelled_out(globals, said);
  CardJob job{globals, options};
  return finished(undelete(job));
}
int card_copy_command(const Globals& globals, const CardOptions& said) {
  const CardOptions options = spelled_out(globals, said);
  CardJob job{globals, options};
  return finished(copy(job));
}
int card_restamp_command(const Globals& globals, const CardOptions& said) {
  const CardOptions options = spelled_out(globals, said);
  CardJob job{globals, options};
  return finished(rename(job));
}
int card_make_command(const Globals& globals, const CardOptions& options) {
  CardJob job{globals, options};
  return finished(make(job));
}

}  // namespace bayswap::cli
