// The words of the card and the state commands.
#include "cli/command_words.hpp"

namespace bayswap::cli {

void add_card_commands(CLI::App& app, Words& w) {
  CLI::App* card =
      app.add_subcommand("card", "List, export, import, check, rescue and draw the saves of a memory card");
  card->require_subcommand(1);
  const auto action = [&](const char* name, const char* about,
                          int (*run)(const Globals&, const CardOptions&)) {
    CLI::App* made = command(*card, w, name, about, [&w, run] { return run(w.globals, w.card); });
    if (std::string_view(name) != "make")
      made->add_option("IMAGE", w.card.image, "The card image, or a folder of single saves")->required();
    if (std::string_view(name) != "make")
      made->add_option("--slot", w.card.slot,
                       "Which card, in a file with several: a controller pak, or 1 the internal memory and 2 "
                       "the cartridge's")
          ->type_name("N")
          ->check(CLI::Range(1, 4));
    return made;
  };
  const auto names = [&](CLI::App& made, const char* what, const char* about) {
    return made.add_option(what, w.card.names, about);
  };
  action("list", "What is on the card", card_list_command);

  CLI::App* take = action("export", "Write saves into files of their own", card_export_command);
  names(*take, "NAME", "Saves, as `card list` names them");
  take->add_option("--out", w.card.out, "The file to write, or a folder")->required()->type_name("OUT");
  take->add_flag("--all", w.card.all, "Every good save of the card");
  CLI::Option* parcel =
      take->add_flag("--parcel", w.card.parcel, "As a parcel, which has everything and is checked");
  take->add_flag("--raw", w.card.raw, "The save's data alone, without its directory entry")->excludes(parcel);

  CLI::App* add = action("import", "Put single saves onto the card", card_import_command);
  names(*add, "FILE", "Parcels, single saves with their directory entry, or folders")->required();
  add->add_flag("--replace", w.card.replace,
                "Replace a save of the same name; the old card is kept in the logbook");
  add->add_option("--region", w.card.region, "Refuse saves of another region")->type_name("REGION");
  add->add_option("--as", w.card.as, "FILE is a save's data alone: the name it gets on the card")
      ->type_name("NAME");

  CLI::App* remove = action("remove", "Delete saves from the card", card_remove_command);
  names(*remove, "NAME", "Saves, as `card list` names them")->required();
  remove->add_flag("-n,--dry-run", w.card.dry_run, "Say what would be deleted and stop");
  remove->add_flag("-y,--yes", w.card.yes, "Don't ask");

  names(*action("undelete", "Bring a deleted save back", card_undelete_command), "NAME",
        "Saves that `card list` shows as deleted")
      ->required();

  CLI::App* copy = action("copy", "Copy saves to another card", card_copy_command);
  names(*copy, "NAME TO-IMAGE", "Saves, and last the card they go to")->required();
  copy->add_flag("--all", w.card.all, "Every good save of the card");
  copy->add_flag("--replace", w.card.replace, "Replace a save of the same name there");
  copy->add_option("--region", w.card.region, "Refuse saves of another region")->type_name("REGION");

  CLI::App* rename =
      action("restamp", "Stamp another region into a save's code and name", card_restamp_command);
  names(*rename, "NAME", "Saves, as `card list` names them")->required();
  rename->add_option("--region", w.card.region, "The region: japan, north-america, europe")
      ->required()
      ->type_name("REGION");
  CLI::Option* code = rename->add_option(
      "--code", w.card.code, "The game's code there, e.g. SLES-99001; gc, n64: G99P, with its maker G99P01");
  code->type_name("CODE");
  rename->add_option("--rom", w.card.rom, "The game's ROM or disc there, which has the code")
      ->type_name("FILE")
      ->excludes(code);
  rename->add_flag("--replace", w.card.replace, "Replace a save that has the new name");

  CLI::App* make = action("make", "Make a freshly formatted card", card_make_command);
  make->add_option("KIND", w.card.kind, "ps1, ps2, gc, n64, dc, sat, pce or scd")->required();
  make->add_option("IMAGE", w.card.image, "The file to write")->required();
  make->add_option("--blocks", w.card.blocks, "How many blocks for saves; default: the usual size")
      ->type_name("N");
  make->add_option("--bytes", w.card.bytes, "The size of the memory, instead of a number of blocks")
      ->type_name("N");
  make->add_option("--form", w.card.form, "ps2: ecc or plain; sat: packed or spread")->type_name("FORM");
  make->add_flag("--japanese", w.card.japanese, "gc: the card's text is Shift-JIS");

  CLI::App* check = action("check", "Name every violation of the card's own rules", card_check_command);
  check->add_flag("--repair", w.card.repair, "Repair what needs no guessing; the old card is kept");

  CLI::App* rescue =
      action("rescue", "Find every save on a broken card, and put the good ones on a fresh one",
             card_rescue_command);
  rescue
      ->add_option("--out", w.card.out,
                   "The fresh card to write, or a folder (ending in /) for parcels of all")
      ->required()
      ->type_name("OUT");
  rescue->add_option("--kind", w.card.kind, "The kind of card, if its bytes do not show it")
      ->type_name("KIND");
  rescue->add_flag("--doubtful", w.card.doubtful, "Put what is doubtful onto the fresh card as well");
  rescue->add_flag("-y,--yes", w.card.yes, "Don't ask");

  CLI::App* picture = action("picture", "Draw the saves' icons and the card's blocks", card_picture_command);
  picture->add_option("--out", w.card.out, "The PNG file to write")->required()->type_name("PNG");
}

void add_state_commands(CLI::App& app, Words& w) {
  CLI::App* state =
      app.add_subcommand("state", "Look into save states; export and import the battery saves in them");
  state->require_subcommand(1);
  const auto action = [&](const char* name, const char* about,
                          int (*run)(const Globals&, const StateOptions&)) {
    return command(*state, w, name, about, [&w, run] { return run(w.globals, w.state); });
  };
  const auto of_state = [&](CLI::App& made) {
    made.add_option("STATE", w.state.state, "The save state")->required();
    made.add_option("--map", w.state.map, "The kind of state it is; `state maps` lists them")
        ->type_name("ID");
  };
  CLI::App* show = action("show", "What is in a state: its kind and its layers", state_show_command);
  of_state(*show);

  CLI::App* list = action("list", "The states of a bay or a folder, by game and slot", state_list_command);
  list->add_option("PLACE", w.state.place, "A bay, or a folder with ROMs and states")->required();
  list->add_option("GAME", w.state.game, "Only this game's");
  for (const bool move : {false, true}) {
    CLI::App* change = move ? action("move", "Move a state to another slot", state_move_command)
                            : action("copy", "Copy a state to another slot", state_copy_command);
    change->add_option("GAME", w.state.game, "A ROM, a title, a code, or a state's path")->required();
    change->add_option("--in", w.state.place, "The bay or folder")->required()->type_name("PLACE");
    change->add_option("--slot", w.state.slot, "The slot it is in: a number, or auto")
        ->required()
        ->type_name("N");
    change->add_option("--to-slot", w.state.to_slot, "The slot it goes to")->required()->type_name("N");
    change->add_flag("--replace", w.state.replace, "Replace the state that is there");
    change->add_flag("-n,--dry-run", w.state.dry_run, "Print the plan and stop");
  }

  const auto of_game = [&](CLI::App& made) {
    made.add_option("--rom", w.state.rom, "The game's ROM, which has the kind of its chip")->type_name("ROM");
    made.add_option("--platform", w.state.platform, "The game's platform, if there is no ROM")
        ->type_name("TAG");
    made.add_option("--like", w.state.like, "A battery save of the same game, older or newer")
        ->type_name("FILE");
    made.add_option("--other", w.state.others, "Another state of the same game and program")
        ->type_name("STATE");
    made.add_option("--candidate", w.state.candidate,
                    "Take the place with this number, where none is certain")
        ->check(CLI::PositiveNumber)
        ->type_name("N");
    add_chips(made, w.state.chips);
  };
  CLI::App* battery = action("export", "Write the battery save in a state into a file", state_export_command);
  of_state(*battery);
  of_game(*battery);
  battery->add_option("--to", w.state.to, "The layout to write; default: the bare chip")->type_name("LAYOUT");
  battery->add_option("--out", w.state.out, "The file to write")->required()->type_name("FILE");

  CLI::App* graft = action("import", "Put a battery save into a state", state_import_command);
  of_state(*graft);
  graft->add_option("BATTERY", w.state.files, "The battery save, in any form")->required()->expected(1);
  of_game(*graft);
  graft->add_option("--out", w.state.out, "The state to write")->required()->type_name("FILE");

  CLI::App* convert = action("convert", "The same snapshot in another program's form", state_convert_command);
  of_state(*convert);
  convert->add_option("--to", w.state.to, "The map of the form to make")->type_name("MAP");
  convert->add_option("--base", w.state.base, "A state that the other program wrote: its form is taken")
      ->type_name("FILE");
  convert->add_option("--out", w.state.out, "The state to write")->required()->type_name("FILE");

  CLI::App* diff = action("diff", "What is different in two states", state_diff_command);
  diff->add_option("STATES", w.state.files, "The earlier and the later one")->required()->expected(2);

  CLI::App* picture = action("picture", "Draw a sheet of the states' own pictures", state_picture_command);
  picture->add_option("PLACE", w.state.place, "A bay, or a folder with ROMs and states")->required();
  picture->add_option("GAME", w.state.game, "Only this game's");
  picture->add_option("--out", w.state.out, "The PNG file to write")->required()->type_name("PNG");

  CLI::App* learn = action("learn", "Learn where a kind of state has the battery save", state_learn_command);
  learn->add_option("PAIRS", w.state.files, "States, each with the battery save of that moment")
      ->required()
      ->expected(2, 64);
  learn->add_option("--rom", w.state.rom, "The ROM the saves belong to")->type_name("ROM");
  learn->add_option("--id", w.state.map, "What to call the map: the platform, a dot, a name")
      ->required()
      ->type_name("ID");

  CLI::App* maps = action("maps", "List the state maps, or print one", state_maps_command);
  maps->add_option("ID", w.state.map, "The map to print");
}

void add_cart_commands(CLI::App& app, Words& w) {
  CLI::App* cart = app.add_subcommand("cart", "Read and write cartridges in a reader");
  cart->require_subcommand(1);
  const auto action = [&](const char* name, const char* about,
                          int (*run)(const Globals&, const CartOptions&)) {
    CLI::App* made = command(*cart, w, name, about, [&w, run] { return run(w.globals, w.cart); });
    made->add_option("--port", w.cart.port, "Serial port; default: the only one found")->type_name("DEVICE");
    made->add_option("--volts", w.cart.volts, "The voltage, where the reader can't tell it: 3.3 or 5")
        ->type_name("V");
    made->add_option("--chip", w.cart.chips, "A save chip it has, if its ROM does not show it: sram=8192")
        ->type_name("KIND=BYTES")
        ->expected(1)
        ->take_all();
    return made;
  };
  command(*cart, w, "ports", "The lines that readers can be on",
          [&w] { return cart_ports_command(w.globals, w.cart); });
  action("look", "What is in the reader: game, chips, voltage, battery", cart_look_command);

  CLI::App* dump = action("dump", "Read the save chips, twice, into files or into a bay", cart_dump_command);
  CLI::Option* out = dump->add_option("--out", w.cart.out,
                                      "The file to write, or a folder; by default into the current one");
  out->type_name("OUT");
  CLI::Option* to =
      dump->add_option("--to", w.cart.to, "The bay it goes to, as `carry` would bring it there");
  to->type_name("BAY")->excludes(out);
  dump->add_flag("--unstable", w.cart.unstable, "If two readings differ: use the majority of five readings")
      ->excludes(to);

  CLI::App* rom = action("rom", "Read the ROM, twice, and check its header's checksums", cart_rom_command);
  rom->add_option("--out", w.cart.out, "The file to write, or a folder; by default into the current one")
      ->type_name("OUT");

  CLI::App* write = action("write", "Write a save into the chip, read it back, and again until it holds",
                           cart_write_command);
  write->add_option("SAVE", w.cart.input,
                    "The save, in any form: a file in any layout, a state, \"IMAGE: ENTRY\" of a card");
  write->add_flag("--resume", w.cart.resume, "Go on with a write that was cut off");
  write->add_option("--attempts", w.cart.attempts, "How often it is tried")
      ->type_name("N")
      ->check(CLI::Range(1, 100));
  for (CLI::App* made : {dump, write}) {
    CLI::Option* accept =
        made->add_option("--accept", w.cart.accept, "Go on in spite of it; may be given several times");
    accept->type_name("ISSUE")->expected(1)->take_all();
    if (made == dump) accept->needs(to);
    made->add_flag("-y,--yes", w.cart.yes, "Don't ask");
    made->add_flag("-n,--dry-run", w.cart.dry_run, "Show what would be done, and change nothing");
  }
  dump->add_flag("--replace", w.cart.replace,
                 "Write over a file that exists; the old one is kept in the logbook")
      ->excludes(to);
}

}  // namespace bayswap::cli
