#include <fmt/format.h>
#include <bayswap/base.hpp>

#include <array>

#include "base/text.hpp"
#include "cli/command_words.hpp"
#include "cli/completion.hpp"
#include "cli/help.hpp"
#include "cli/help_formatter.hpp"
#include "cli/man_page.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {

void add_globals(CLI::App& app, Words& words) {
  app.add_flag("--json", words.globals.json, "Print one JSON document instead of text");
  app.add_flag("-q,--quiet", words.globals.quiet, "No messages, only results and errors");
  app.add_option("--home", words.globals.home, "Keep bays, layouts and the logbook under this folder")
      ->type_name("DIR");
}

void add_chips(CLI::App& app, std::vector<std::string>& chips) {
  app.add_option("--chip", chips, "A save chip the game has, e.g. eeprom=2048; remembered for the game")
      ->type_name("KIND=BYTES")
      ->expected(1)
      ->take_all();
}

CLI::App* command(CLI::App& parent, Words& words, const char* name, const char* about,
                  std::function<int()> run) {
  CLI::App* app = parent.add_subcommand(name, about);
  app->callback([&words, app, run = std::move(run)] {
    if (!app->get_subcommands().empty()) return;  // the inner command's counts
    words.run = run;
    std::vector<std::string> options;
    for (const CLI::Option* option : app->get_options())
      for (const std::string& own : option->get_lnames()) options.push_back(own);
    set_options_of_command(std::move(options));
  });
  add_globals(*app, words);
  return app;
}

namespace {

// Help lists them so, in the order in which they are added.
void group_commands(CLI::App& app) {
  constexpr std::array<std::pair<std::string_view, std::string_view>, 20> groups{
      {{"carry", "Move saves"},    {"backup", "Move saves"},
       {"restore", "Move saves"},  {"undo", "Move saves"},
       {"logbook", "Move saves"},  {"list", "Places"},
       {"bay", "Places"},          {"card", "Places"},
       {"cart", "Places"},         {"sync", "Places"},
       {"inspect", "Look inside"}, {"state", "Look inside"},
       {"sheet", "Look inside"},   {"convert", "Formats"},
       {"infer", "Formats"},       {"layouts", "Formats"},
       {"chips", "More"},          {"pairs", "More"},
       {"demo", "More"},           {"help", "More"}}};
  for (const auto& [name, group] : groups) app.get_subcommand(std::string(name))->group(std::string(group));
}

void add_file_commands(CLI::App& app, Words& w) {
  CLI::App* inspect = command(app, w, "inspect", "Show what save files are, and why",
                              [&w] { return inspect_command(w.globals, w.inspect); });
  inspect->add_option("FILE", w.inspect.files, "The files to look at, or folders to look through")
      ->required();
  inspect->add_option("--rom", w.inspect.rom, "The ROM they belong to")->type_name("ROM");
  add_chips(*inspect, w.inspect.chips);

  CLI::App* convert =
      command(app, w, "convert", "Turn save files into another layout; files out of packages and into them",
              [&w] { return convert_command(w.globals, w.convert); });
  convert
      ->add_option(
          "IN", w.convert.inputs,
          "One file, or several single-chip files to join; a package, or files for the one that --base names")
      ->required();
  convert
      ->add_option("--to", w.convert.to, "The layout to make, e.g. n64.combined; default: the form of --base")
      ->type_name("LAYOUT");
  convert->add_option("--out", w.convert.out, "The file to write; a folder for a layout of several files")
      ->required()
      ->type_name("OUT");
  convert->add_option("--from", w.convert.from, "The layout of IN; default: recognised by the content")
      ->type_name("LAYOUT")
      ->expected(1)
      ->take_all();
  convert->add_option("--rom", w.convert.rom, "The ROM the save belongs to")->type_name("ROM");
  convert
      ->add_option("--base", w.convert.base, "The target's own file: what IN does not bring is kept from it")
      ->type_name("FILE");
  add_chips(*convert, w.convert.chips);
  convert->add_option("--slot", w.convert.slot, "Which controller pak, if the file has one alone")
      ->type_name("1-4")
      ->check(CLI::Range(1, 4));
  convert->add_option("--accept", w.convert.accept, "Go on in spite of it: cut")
      ->type_name("ISSUE")
      ->check(CLI::IsMember({"cut"}))
      ->expected(1)
      ->take_all();
  convert->add_option("--account", w.convert.account, "The profile id to stamp into a package")
      ->type_name("ID");
  convert->add_flag("--replace", w.convert.replace,
                    "Write over OUT if it exists; the old file is kept in the logbook");

  CLI::App* infer = command(app, w, "infer", "Learn a layout from two files that hold the same save",
                            [&w] { return infer_command(w.globals, w.infer); });
  infer
      ->add_option(
          "A B", w.infer.files,
          "A save in a known form, and the same save in the form to learn; more pairs narrow it down")
      ->required();
  infer->add_option("--from", w.infer.from, "The layout of A; default: recognised by the content")
      ->type_name("LAYOUT");
  infer->add_option("--rom", w.infer.rom, "The ROM the saves belong to")->type_name("ROM");
  infer->add_option("--id", w.infer.id, "What to call the layout: the platform, a dot, a name")
      ->type_name("ID");
  infer->add_option("--out", w.infer.out, "The layout file to write; by default among your own layouts")
      ->type_name("FILE");

  CLI::App* layouts = command(app, w, "layouts", "List the layouts, or explain one with a drawing",
                              [&w] { return layouts_command(w.globals, w.layout); });
  layouts->add_option("ID", w.layout, "The layout to explain");
}

void add_bay_commands(CLI::App& app, Words& w) {
  CLI::App* bay = app.add_subcommand("bay", "Describe the places where saves live");
  bay->require_subcommand(1);
  CLI::App* add = command(*bay, w, "add", "Add a bay, from options or from a bay file",
                          [&w] { return bay_add_command(w.globals, w.bay_add); });
  add->add_option("NAME", w.bay_add.name, "A name for the bay, or the path of a bay file")->required();
  add->add_option("DIR", w.bay_add.folder,
                  "The folder where everything is; it is looked at to find out the rest");
  add->add_option("--like", w.bay_add.like, "The form of bay it is; `bay list --forms` shows them")
      ->type_name("FORM");
  add->add_option("--root", w.bay_add.root, "The folder where everything is")->type_name("DIR");
  add->add_option("--platform", w.bay_add.platform, "The platform's tag, e.g. n64")->type_name("TAG");
  add->add_option("--path", w.bay_add.path, "Where saves are below the root, e.g. saves/{rom.stem}{ext}")
      ->type_name("RULE");
  add->add_option("--layout", w.bay_add.layout, "The layout saves have there")->type_name("LAYOUT");
  add->add_option("--roms", w.bay_add.roms, "Where the ROMs are below the root")->type_name("DIR");
  add->add_option("--about", w.bay_add.about, "A line about it")->type_name("TEXT");
  add->add_flag("--replace", w.bay_add.replace, "Take the place of the bay file of that name, which is kept");
  CLI::App* look =
      command(*bay, w, "look", "Show how a folder stores saves; without a folder, find places with saves",
              [&w] { return bay_look_command(w.globals, w.folder, w.bay_add.platform); });
  look->add_option("DIR", w.folder, "The folder; default: the home folder and what is mounted");
  look->add_option("--platform", w.bay_add.platform, "Platform of unidentified saves, e.g. gb")
      ->type_name("TAG");
  CLI::App* edit = command(*bay, w, "edit", "Edit a bay file; it is checked before it takes effect",
                           [&w] { return bay_edit_command(w.globals, w.bay_file); });
  edit->add_option("BAY", w.bay_file.name, "The bay")->required();
  CLI::App* rename = command(*bay, w, "rename", "Give a bay another name",
                             [&w] { return bay_rename_command(w.globals, w.bay_file); });
  rename->add_option("BAY", w.bay_file.name, "The bay")->required();
  rename->add_option("NAME", w.bay_file.to, "Its new name")->required();
  CLI::App* remove = command(*bay, w, "remove", "Remove a bay; its saves stay where they are",
                             [&w] { return bay_remove_command(w.globals, w.bay_file); });
  remove->add_option("BAY", w.bay_file.name, "The bay")->required();
  remove->add_flag("-y,--yes", w.bay_file.yes, "Don't ask");
  CLI::App* list = command(*bay, w, "list", "List the bays", [&w] {
    return w.forms ? bay_forms_command(w.globals) : bay_list_command(w.globals);
  });
  list->add_flag("--forms", w.forms, "List what `bay add --like` knows instead");
  CLI::App* scan = command(app, w, "list", "List the saves of a place, with title, date and health",
                           [&w] { return list_command(w.globals, w.bay); });
  scan->add_option("PLACE", w.bay, "A bay, a folder, a card image, an archive, a save, a URL")->required();
  CLI::App* show = command(*bay, w, "show", "Show a bay, its ROMs and their saves",
                           [&w] { return bay_show_command(w.globals, w.bay); });
  show->add_option("BAY", w.bay, "A bay's name, or the path of a bay file")->required();
  CLI::App* picture = command(*bay, w, "picture", "Draw a sheet of a bay's saves, with their icons",
                              [&w] { return bay_picture_command(w.globals, w.bay_picture); });
  picture->add_option("BAY", w.bay_picture.bay, "A bay, or a folder")->required()->type_name("PLACE");
  picture->add_option("--out", w.bay_picture.out, "The PNG file to write")->required()->type_name("PNG");
  picture->add_flag("--replace", w.bay_picture.replace, "Write over the file if it exists");
  CLI::App* check = command(*bay, w, "check", "Compare bays with their files",
                            [&w] { return bay_check_command(w.globals, w.bays); });
  check->add_option("BAY", w.bays, "Bays to check; default: all");
}

void add_carry_commands(CLI::App& app, Words& w) {
  CLI::App* carry = command(
      app, w, "carry", "Copy a save to another place, in the form and under the name that it needs there",
      [&w] { return carry_command(w.globals, w.carry); });
  carry->add_option(
      "WHAT", w.carry.what,
      "The game: path of its ROM, its title, its code or title id; or the path of a save in the bay, for one "
      "on a card 'CARD: ENTRY'");
  carry
      ->add_option("--from", w.carry.from,
                   "The bay that has the save, or a folder, an archive, a card image, a file; optional if "
                   "WHAT is a file")
      ->type_name("PLACE");
  carry->add_option("--to", w.carry.to, "The bay that gets it, or a folder, a card image, a file")
      ->required()
      ->type_name("PLACE");
  carry->add_option("--rom", w.carry.rom, "The ROM the save belongs to, if their names differ; remembered")
      ->type_name("ROM");
  add_chips(*carry, w.carry.chips);
  carry->add_option("--slot", w.carry.slot, "The slot or controller pak; of states also auto, or all")
      ->type_name("N");
  carry
      ->add_option("--game", w.carry.game,
                   "The game of a file from outside, if its content does not show it: title, code or id")
      ->type_name("GAME");
  carry
      ->add_option("--choose", w.carry.choice,
                   "Which save of a file from outside, by its number in the ranking")
      ->type_name("N");
  carry->add_flag("--outside", w.carry.outside,
                  "Look into WHAT, a file, a folder or an archive, whatever is around it; default if nothing "
                  "around it says "
                  "what it is");
  carry->add_flag("--states", w.carry.states, "The game's save states, instead of its save");
  carry->add_flag("--from-state", w.carry.from_state, "The battery save in a state, as the game's save");
  carry
      ->add_option("--accept", w.carry.accept,
                   "Go on in spite of: wrong-region, wrong-game, odd-target, unwritten, short, damaged, "
                   "cut, newer, byte-order, no-rom, part")
      ->type_name("ISSUE")
      ->expected(1)
      ->take_all();
  carry->add_flag("--all", w.carry.all, "Every save that differs; what fails stops nothing else");
  carry
      ->add_option(
          "--account", w.carry.accounts,
          "The save's account in both places, e.g. 80000001=80000002, remembered; or the source's alone")
      ->type_name("FROM=TO")
      ->expected(1)
      ->take_all();
  carry->add_option("--region", w.carry.region, "Stamp codes, names and headers for that region")
      ->type_name("REGION");
  carry->add_flag("--exact", w.carry.exact,
                  "Remove files that only the target's save has; by default they stay");
  carry->add_flag("--companions", w.carry.companions, "Replace the target's own companion data, too");
  carry->add_flag("--wait", w.carry.wait, "Wait until no program uses the files");
  carry->add_flag("-n,--dry-run", w.carry.dry_run, "Print the plan and stop");
  carry->add_flag("--explain", w.carry.explain, "Print every step of the plan with its reason");
  carry->add_flag("-y,--yes", w.carry.yes, "Don't ask");

  CLI::App* backup = command(app, w, "backup", "Keep the saves of a place in the logbook, as they are",
                             [&w] { return backup_command(w.globals, w.backup); });
  backup->add_option("PLACE", w.backup.bay, "A bay, a folder, a card image")->required();
  backup->add_option("WHAT", w.backup.what, "The save, as for carry; default: all of them");

  CLI::App* chips = command(app, w, "chips", "List what is known of games' save chips",
                            [&w] { return chips_command(w.globals); });
  command(*chips, w, "remove", "Remove what is known of a game's chips",
          [&w] { return chips_forget_command(w.globals, w.forgotten); })
      ->add_option("GAME", w.forgotten, "Its code or its title, as `bayswap chips` has it")
      ->required();
  CLI::App* pairs = command(app, w, "pairs", "List the saves that were paired with a ROM",
                            [&w] { return pairs_command(w.globals); });
  command(*pairs, w, "remove", "Remove a pair", [&w] { return pairs_forget_command(w.globals, w.forgotten); })
      ->add_option("PATH", w.forgotten, "The save or the ROM, as `bayswap pairs` has it")
      ->required();

  CLI::App* logbook = command(app, w, "logbook", "List past changes",
                              [&w] { return logbook_command(w.globals, w.logbook_what); });
  logbook->add_option("WHAT", w.logbook_what, "Only entries whose game, bay or path has this in it");

  const auto upkeep = [&](const char* name, const char* about,
                          int (*run)(const Globals&, const LogbookOptions&)) {
    return command(*logbook, w, name, about, [&w, run] { return run(w.globals, w.logbook); });
  };
  CLI::App* prune =
      upkeep("prune", "Remove old versions; the newest of every save always stays", logbook_prune_command);
  prune->add_option("--keep", w.logbook.keep, "How many entries stay; default: 32")
      ->type_name("N")
      ->check(CLI::Range(1, 1000000));
  prune->add_flag("--per-save", w.logbook.per_save, "So many of each save, not of all together");
  prune->add_flag("-n,--dry-run", w.logbook.dry_run, "Print what would be removed and stop");
  prune->add_flag("-y,--yes", w.logbook.yes, "Don't ask");
  upkeep("export", "Copy the logbook into a folder, for another disk", logbook_export_command)
      ->add_option("DIR", w.logbook.folder, "The folder")
      ->required();
  upkeep("import", "Take over the entries of an exported logbook", logbook_import_command)
      ->add_option("DIR", w.logbook.folder, "The folder")
      ->required();
  upkeep("check", "Verify every kept byte and the index", logbook_check_command)
      ->add_flag("--repair", w.logbook.repair, "Make a broken index anew from the records");

  CLI::App* restore = command(app, w, "restore", "Bring a version of a save back",
                              [&w] { return restore_command(w.globals, w.restore); });
  restore->add_option("WHAT", w.restore.what, "The save, as `bayswap logbook WHAT` finds it")->required();
  restore->add_option("--entry", w.restore.entry, "Which entry of the logbook, by its number")
      ->type_name("N");
  restore->add_option("--version", w.restore.version, "Which version that sync knows, of any device")
      ->type_name("ID");
  restore
      ->add_option("--date", w.restore.date, "As it was then: 2026-11-23, '2026-11-23 18:30', 'a week ago'")
      ->type_name("WHEN");
  restore->add_option("--device", w.restore.device, "As that device last had it")->type_name("NAME");
  restore->add_flag("--all", w.restore.all, "Every save that was kept or carried together with that entry");
  restore->add_flag("--before", w.restore.before, "What was there before that entry");
  restore->add_flag("--everywhere", w.restore.everywhere,
                    "On all devices: a round of sync follows, in which that version goes before all others");
  restore->add_option("--to", w.restore.to, "Another bay; by default the one it is of")->type_name("BAY");
  restore->add_option("--accept", w.restore.accept, "Go on in spite of it, as in carry")
      ->type_name("ISSUE")
      ->expected(1)
      ->take_all();
  restore->add_flag("--wait", w.restore.wait, "Wait until no program uses the files");
  restore->add_flag("-n,--dry-run", w.restore.dry_run, "Print the plan and stop");
  restore->add_flag("--explain", w.restore.explain, "Print every step of the plan with its reason");
  restore->add_flag("-y,--yes", w.restore.yes, "Don't ask");

  CLI::App* undo = command(app, w, "undo", "Take an entry of the logbook back",
                           [&w] { return undo_command(w.globals, w.undo); });
  undo->add_option("ID", w.undo.id,
                   "The entry's number, also an undo's to redo it; default: the newest that was not undone");
  undo->add_option("--last", w.undo.last, "So many of the newest entries; a batch counts as one")
      ->type_name("N")
      ->check(CLI::Range(1, 1000));
  undo->add_flag("--batch", w.undo.batch, "The entry's whole batch (default without ID)");
  undo->add_option("--accept", w.undo.accept, "Go on in spite of it, as in carry")
      ->type_name("ISSUE")
      ->expected(1)
      ->take_all();
  undo->add_flag("--wait", w.undo.wait, "Wait until no program uses the files");
  undo->add_flag("-n,--dry-run", w.undo.dry_run, "Print the plan and stop");
  undo->add_flag("--explain", w.undo.explain, "Print every step of the plan with its reason");
  undo->add_flag("-y,--yes", w.undo.yes, "Don't ask, even if the file has changed since");

  CLI::App* demo = command(app, w, "demo", "Make a small world of bays, ROMs and saves to try things on",
                           [&w] { return demo_command(w.globals, w.demo_out); });
  demo->add_option("--out", w.demo_out, "An empty or new folder")->required()->type_name("DIR");
}

// Whether the word is an option whose value is the next word.
bool takes_next_word(const CLI::App& level, const std::string& word) {
  if (!word.starts_with('-') || word.find('=') != std::string::npos) return false;
  const CLI::Option* option = level.get_option_no_throw(word);
  return option != nullptr && option->get_items_expected_max() > 0;
}

// The command that the words name: as far as they do.
const CLI::App* named_command(const CLI::App& app, const std::vector<std::string>& args, std::string& path,
                              std::size_t* consumed = nullptr) {
  const CLI::App* level = &app;
  for (std::size_t i = 0; i < args.size(); ++i) {
    if (takes_next_word(*level, args[i])) {
      ++i;
      continue;
    }
    if (i >= args.size() || args[i].starts_with('-')) continue;
    const CLI::App* next = nullptr;
    for (const CLI::App* sub : level->get_subcommands([](const CLI::App*) { return true; }))
      if (sub->get_name() == args[i]) next = sub;
    if (next == nullptr) break;
    level = next;
    path += (path.empty() ? "" : " ") + args[i];
    if (consumed != nullptr) *consumed = i + 1;
  }
  return level;
}

std::vector<std::string> options_of(const CLI::App& level) {
  std::vector<std::string> names;
  for (const CLI::Option* option : level.get_options()) {
    for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
    for (const std::string& name : option->get_snames()) names.push_back("-" + name);
  }
  return names;
}

// An option that the command does not have, before anything else is complained about.
bool report_unknown_option(const CLI::App& app, const std::vector<std::string>& args) {
  std::string path;
  const CLI::App* level = named_command(app, args, path);
  const std::vector<std::string> names = options_of(*level);
  for (std::size_t i = 0; i < args.size(); ++i) {
    if (args[i] == "--") return false;
    const std::string word = args[i].substr(0, args[i].find('='));
    if (word.size() < 2 || word.front() != '-' || (word[1] >= '0' && word[1] <= '9')) continue;
    if (std::find(names.begin(), names.end(), word) != names.end()) {
      const CLI::Option* option = level->get_option_no_throw(word);
      // What comes after it is its value.
      if (option != nullptr && option->get_items_expected_max() > 0 && args[i].find('=') == std::string::npos)
        ++i;
      continue;
    }
    // Letters can follow one another, and have their value after them.
    if (word[1] != '-' && std::find(names.begin(), names.end(), word.substr(0, 2)) != names.end()) continue;
    std::vector<std::string> near_names;
    for (const std::string& name : names)
      if (name.starts_with("--")) near_names.push_back(name);
    const std::string near = did_you_mean(word, near_names);
    const std::string whole = path.empty() ? "bayswap" : "bayswap " + path;
    report({ErrorCode::bad_usage,
            fmt::format("{}{}unknown option {}", path, path.empty() ? "" : ": ", printable(word)),
            fmt::format("{}{}`{} --help` lists them", near, near.empty() ? "" : " ", whole)});
    return true;
  }
  return false;
}

// `help`, `help COMMAND`, `help TOPIC`, and each with --help.
int print_help(const CLI::App& app, std::vector<std::string> words) {
  if (words.empty()) {
    fmt::print("{}\nTopics, with `bayswap help TOPIC`: {}\n", app.help(), joined(help_topics(), ", "));
    return exit_done;
  }
  if (words.back() == "--help" || words.back() == "-h") words.pop_back();
  if (words.empty()) words.emplace_back("help");
  std::string path;
  std::size_t consumed = 0;
  const CLI::App* level = named_command(app, words, path, &consumed);
  if (consumed == words.size()) {
    const std::size_t space = path.rfind(' ');
    fmt::print("{}",
               level->help("bayswap" + (space == std::string::npos ? "" : " " + path.substr(0, space))));
    return exit_done;
  }
  const std::string text = words.size() == 1 ? help_topic(words.front()) : "";
  if (!text.empty()) {
    fmt::print("{}", text);
    return exit_done;
  }
  std::vector<std::string> names = help_topics();
  for (const CLI::App* sub : app.get_subcommands([](const CLI::App*) { return true; }))
    names.push_back(sub->get_name());
  const std::string near = did_you_mean(words.front(), names);
  return report({ErrorCode::bad_usage, fmt::format("unknown help topic '{}'", printable(joined(words, " "))),
                 fmt::format("{}{}`bayswap help` lists commands and topics", near, near.empty() ? "" : " ")});
}

void add_examples(CLI::App& app, const std::string& path) {
  if (const std::string examples = examples_of(path); !examples.empty() && !path.empty())
    app.footer(examples);
  for (CLI::App* sub : app.get_subcommands([](const CLI::App*) { return true; }))
    add_examples(*sub, path.empty() ? sub->get_name() : path + " " + sub->get_name());
}

// The first word that is no command, with the nearest one.
bool report_unknown_command(const CLI::App& app, const std::vector<std::string>& args) {
  const CLI::App* level = &app;
  std::string path = "bayswap";
  for (std::size_t i = 0; i < args.size(); ++i) {
    const std::string& word = args[i];
    if (takes_next_word(*level, word)) {
      ++i;
      continue;
    }
    if (word.starts_with('-')) continue;
    std::vector<std::string> names;
    const CLI::App* next = nullptr;
    for (const CLI::App* sub : level->get_subcommands([](const CLI::App*) { return true; })) {
      names.push_back(sub->get_name());
      if (sub->get_name() == word) next = sub;
    }
    if (names.empty()) return false;
    if (next == nullptr && level->get_option_no_throw("WHAT") != nullptr) return false;  // what it is about
    if (next == nullptr && level->get_name() == "sync") return false;
    if (next == nullptr) {
      const std::string near = did_you_mean(word, names);
      report({ErrorCode::bad_usage, fmt::format("'{}' is not a command of {}", printable(word), path),
              near.empty() ? fmt::format("`{} --help` lists them", path) : near});
      return true;
    }
    level = next;
    path += " " + word;
  }
  return false;
}

int report_parse_error(const CLI::App& app, const CLI::ParseError& error,
                       const std::vector<std::string>& args) {
  const CLI::App* level = &app;
  std::string path = "bayswap";
  while (!level->get_subcommands().empty()) {
    level = level->get_subcommands().front();
    path += " " + level->get_name();
  }
  std::string hint = fmt::format("`{} --help` shows how it is used", path);
  if (dynamic_cast<const CLI::ExtrasError*>(&error) != nullptr) {
    std::vector<std::string> names;
    for (const CLI::Option* option : level->get_options())
      for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
    for (const std::string& word : args)
      if (word.starts_with("--") && std::find(names.begin(), names.end(), word) == names.end())
        if (const std::string near = did_you_mean(word, names); !near.empty()) hint.insert(0, near + " ");
  }
  std::string message = error.what();
  std::replace(message.begin(), message.end(), '\n', ' ');
  const std::string own = path.substr(std::min(path.size(), std::string_view("bayswap ").size()));
  return report({ErrorCode::bad_usage, fmt::format("{}{}{}", own, own.empty() ? "" : ": ", message), hint});
}

}  // namespace

int run_command_line(int argc, char** argv) {
  Words words;
  CLI::App app{"Bay Swap carries saves between emulators, consoles and cartridges, and never loses one.",
               "bayswap"};
  app.set_help_flag("-h,--help", "Print this help and stop");
  bool version_wanted = false;  // main has seen to it where it is alone
  app.add_flag("-V,--version", version_wanted, "Print the version and stop");
  app.require_subcommand(1);
  app.formatter(std::make_shared<HelpFormatter>());
  add_globals(app, words);
  add_carry_commands(app, words);
  add_bay_commands(app, words);
  add_card_commands(app, words);
  add_cart_commands(app, words);
  add_sync_commands(app, words);
  add_file_commands(app, words);
  add_state_commands(app, words);
  add_sheet_commands(app, words);
  app.add_subcommand("help", "Explain a command or a topic");
  group_commands(app);
  app.footer(
      examples_of("") +
      "\n`bayswap help COMMAND` explains a command, `bayswap help` lists topics. A world to try things on: "
      "`bayswap demo --out world`.");
  add_examples(app, "");

  std::vector<std::string> args(argv + 1, argv + argc);
  if (args.empty()) {
    fmt::print("{}", app.help());
    return exit_usage;
  }
  if (args.front() == "__complete") return complete_command(app, {args.begin() + 1, args.end()});
  if (args.front() == "help") return print_help(app, {args.begin() + 1, args.end()});
  if (args.front() == "__man") {
    fmt::print("{}", man_page(app));
    return exit_done;
  }
  for (const std::string& word : args) {
    if (word == "--") break;
    if (word == "--json") use_json();
  }
  if (report_unknown_command(app, args) || report_unknown_option(app, args)) return end_output(exit_usage);
  try {
    app.parse(std::vector<std::string>(args.rbegin(), args.rend()));
  } catch (const CLI::CallForHelp&) {
    const CLI::App* level = &app;
    std::string above;
    for (; !level->get_subcommands().empty(); level = level->get_subcommands().front())
      above += (above.empty() ? "" : " ") + level->get_name();
    fmt::print("{}", level->help(above));
    return exit_done;
  } catch (const CLI::ParseError& error) {
    return end_output(report_parse_error(app, error, args));
  }
  return end_output(words.run());
}

}  // namespace bayswap::cli
