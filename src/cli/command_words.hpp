// What the parsed words come to, and the groups of commands that fill it in.
#pragma once

#include <CLI/CLI.hpp>

#include <functional>

#include "cli/commands.hpp"

namespace bayswap::cli {

struct Words {
  Globals globals;
  InspectOptions inspect;
  ConvertOptions convert;
  InferOptions infer;
  CardOptions card;
  StateOptions state;
  CartOptions cart;
  SheetOptions sheet;
  std::string layout;
  BayAddOptions bay_add;
  BayFileOptions bay_file;
  BayPictureOptions bay_picture;
  std::string folder;
  std::string bay;
  bool forms = false;
  std::vector<std::string> bays;
  CarryOptions carry;
  std::string logbook_what;
  LogbookOptions logbook;
  BackupOptions backup;
  RestoreOptions restore;
  UndoOptions undo;
  SyncOptions sync;
  SyncSetOptions sync_set;
  std::string demo_out;
  std::string forgotten;
  std::function<int()> run;
};

/// Options that every command takes, before the command or after it.
void add_globals(CLI::App& app, Words& words);
void add_chips(CLI::App& app, std::vector<std::string>& chips);
/// A command that runs `run`; of a group of commands the inner one counts.
CLI::App* command(CLI::App& parent, Words& words, const char* name, const char* about,
                  std::function<int()> run);

void add_card_commands(CLI::App& app, Words& w);
void add_state_commands(CLI::App& app, Words& w);
void add_cart_commands(CLI::App& app, Words& w);
void add_sheet_commands(CLI::App& app, Words& w);
void add_sync_commands(CLI::App& app, Words& w);

}  // namespace bayswap::cli
