// The words of `bayswap sheet`.
#include "cli/command_words.hpp"

namespace bayswap::cli {

void add_sheet_commands(CLI::App& app, Words& w) {
  CLI::App* sheet = app.add_subcommand("sheet", "What is inside a save: values, checksums, rules");
  sheet->require_subcommand(1);
  const auto action = [&](const char* name, const char* about,
                          int (*run)(const Globals&, const SheetOptions&)) {
    CLI::App* made = command(*sheet, w, name, about, [&w, run] { return run(w.globals, w.sheet); });
    made->add_option("--rom", w.sheet.rom, "The ROM that the save belongs to")->type_name("ROM");
    made->add_option("--chip", w.sheet.chips,
                     "A chip that the game has, if its ROM does not show it: sram=8192")
        ->type_name("KIND=BYTES")
        ->expected(1)
        ->take_all();
    return made;
  };
  const auto by_sheet = [&](CLI::App* made) {
    made->add_option("--sheet", w.sheet.sheet, "The sheet: its id, or its file; otherwise the one that fits")
        ->type_name("ID|FILE");
  };
  const auto in_language = [&](CLI::App* made) {
    made->add_option("--language", w.sheet.language,
                     "Of labels: two letters; otherwise as the environment says")
        ->type_name("CODE");
  };
  const auto save = [&](CLI::App* made) {
    made->add_option("SAVE", w.sheet.save,
                     "A file, a folder, \"CARD: ENTRY\", BAY:GAME, GAME@VERSION or cart:DEVICE")
        ->required();
  };
  const auto changes = [&](CLI::App* made) {
    CLI::Option* out = made->add_option("--out", w.sheet.out, "Write the changed save there");
    out->type_name("FILE");
    made->add_flag("--replace", w.sheet.replace, "Change it in its place; the logbook keeps the old one")
        ->excludes(out);
    made->add_option("--accept", w.sheet.accept,
                     "A rule or checksum that may break; may be given several times")
        ->type_name("ID")
        ->expected(1)
        ->take_all();
    made->add_flag("-n,--dry-run", w.sheet.dry_run, "Show what would be changed, and change nothing");
  };

  CLI::App* show = action("show", "The values of a save, and the checksums and rules that do not hold",
                          sheet_show_command);
  by_sheet(show);
  in_language(show);
  save(show);
  show->add_option("PATH", w.sheet.words, "What to show: party[2], save[1].coins")->expected(0, 1);
  show->add_flag("--all", w.sheet.all, "Every value of every element");

  CLI::App* set = action("set", "Change values, and recompute their checksums", sheet_set_command);
  by_sheet(set);
  save(set);
  set->add_option("PATH=VALUE", w.sheet.words, "The new value: coins=9999")->required();
  changes(set);

  CLI::App* check = action("check", "Whether all checksums and rules hold", sheet_check_command);
  by_sheet(check);
  in_language(check);
  save(check);
  CLI::Option* recompute = check->add_flag("--recompute", w.sheet.recompute,
                                           "Make every checksum right; the logbook keeps the old save");
  CLI::Option* check_out =
      check->add_option("--out", w.sheet.out, "Write the repaired save there, and leave this one");
  check_out->type_name("FILE")->needs(recompute);
  check->add_option("--accept", w.sheet.accept, "sheet: although the sheet does not fit the save")
      ->type_name("ID")
      ->expected(1)
      ->take_all()
      ->needs(recompute);
  check->add_flag("-n,--dry-run", w.sheet.dry_run, "Show what would be changed, and change nothing")
      ->needs(recompute);

  CLI::App* diff = action("diff", "What two saves of a game differ in, value by value", sheet_diff_command);
  by_sheet(diff);
  in_language(diff);
  diff->add_option("SAVE", w.sheet.saves, "Two of them, in any form: the older one first")
      ->required()
      ->expected(2);

  CLI::App* taken = action("export", "One record of a save into a file", sheet_export_command);
  by_sheet(taken);
  save(taken);
  taken->add_option("PATH", w.sheet.words, "The record: party[2]")->required()->expected(1);
  taken->add_option("--out", w.sheet.out, "The file: a .json, or the console's own form where it has one")
      ->type_name("FILE");

  CLI::App* put = action("import", "A record out of a file into a save", sheet_import_command);
  by_sheet(put);
  save(put);
  put->add_option("PATH FILE", w.sheet.words,
                  "The place, or an array with an unused one; and the record's file")
      ->required()
      ->expected(2);
  changes(put);

  const auto versions = [&](CLI::App* made, const char* about) {
    made->add_option("SAVE", w.sheet.saves, about)->required();
    made->add_option("--file", w.sheet.file, "Of a save of several files: which one")->type_name("NAME");
  };
  const auto known = [&](CLI::App* made) {
    CLI::Option* value =
        made->add_option("--value", w.sheet.value, "What the game shows, one for each save: 1250,1875,1640");
    value->type_name("V1,V2,...");
    CLI::Option* between = made->add_option("--between", w.sheet.between,
                                            "The range it is in, where only that is known: 100..120");
    between->type_name("A..B,...")->excludes(value);
    made->add_option("--trend", w.sheet.trend, "How it went on from save to save: more,less,same,changed")
        ->type_name("WORD,...")
        ->excludes(value);
    static const std::vector<std::pair<const char*, const char*>> short_ones{
        {"--changed", "It changed each time"},
        {"--same", "It stayed the same"},
        {"--more", "It grew each time"},
        {"--less", "It shrank each time"}};
    for (const auto& [word, about] : short_ones)
      made->add_flag_callback(
              word, [&w, trend = std::string(word).substr(2)] { w.sheet.trend = trend; }, about)
          ->excludes(value);
  };
  CLI::App* find_values =
      action("find", "Where a save keeps a number or a text that you know", sheet_find_command);
  versions(find_values,
           "Versions of one save, in the order they were made; also GAME@3 GAME@7 of the logbook");
  known(find_values);

  CLI::App* checksum =
      action("checksum", "Find the checksums of a save from versions of it", sheet_checksum_command);
  versions(checksum, "Two versions or more of one save, in the order they were made");

  CLI::App* draft =
      action("draft", "A first sheet, out of what is found in versions of a save", sheet_draft_command);
  draft->add_option("--sheet", w.sheet.sheet, "A sheet that the value is added to")->type_name("FILE");
  versions(draft, "Versions of one save, in the order they were made");
  known(draft);
  draft->add_option("--name", w.sheet.name, "What the value is called")->type_name("NAME");
  draft->add_option("--id", w.sheet.id, "The sheet's id")->type_name("ID");
  draft
      ->add_option("--platform", w.sheet.platform,
                   "The platform, if the files do not show it: gba, snes, ...")
      ->type_name("TAG");
  draft->add_option("--out", w.sheet.out, "The file to write; of a sheet that is added to, itself")
      ->type_name("FILE");

  command(*sheet, w, "list", "The sheets there are", [&w] { return sheet_list_command(w.globals, w.sheet); });
}

}  // namespace bayswap::cli
