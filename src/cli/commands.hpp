// The commands, each with the words it was given. They return the process's exit code.
#pragma once

#include <bayswap/base.hpp>

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace bayswap::cli {

struct Globals {
  std::string home;  // --home; empty: the user's
  bool json = false;
  bool quiet = false;
};

struct InspectOptions {
  std::vector<std::string> files;
  std::string rom;
  std::vector<std::string> chips;
};
int inspect_command(const Globals& globals, const InspectOptions& options);

struct ConvertOptions {
  std::vector<std::string> inputs;
  std::string to;
  std::vector<std::string> from;
  std::string out;
  std::string rom;
  std::string base;
  std::string account;
  std::vector<std::string> chips;
  int slot = 0;
  bool replace = false;
  std::vector<std::string> accept;  // codes of issues that are meant
};
int convert_command(const Globals& globals, const ConvertOptions& options);

struct InferOptions {
  std::vector<std::string> files;  // known, to be learned, known, ...
  std::string from;
  std::string rom;
  std::string id;
  std::string out;
};
int infer_command(const Globals& globals, const InferOptions& options);

struct CardOptions {
  std::string image;
  std::vector<std::string> names;  // of saves; files for add; saves and the other image for copy
  std::string kind;
  std::string form;
  std::string out;
  std::string region;
  std::string as;    // the name of a save of which only the data are there
  std::string code;  // the game's product code in the other region
  std::string rom;   // its ROM or disc there
  std::size_t blocks = 0;
  std::size_t bytes = 0;
  int slot = 0;
  bool japanese = false;
  bool all = false;
  bool parcel = false;
  bool raw = false;
  bool replace = false;
  bool repair = false;
  bool doubtful = false;
  bool yes = false;
  bool dry_run = false;
};
int card_undelete_command(const Globals& globals, const CardOptions& options);
int card_list_command(const Globals& globals, const CardOptions& options);
int card_export_command(const Globals& globals, const CardOptions& options);
int card_import_command(const Globals& globals, const CardOptions& options);
int card_remove_command(const Globals& globals, const CardOptions& options);
int card_copy_command(const Globals& globals, const CardOptions& options);
int card_make_command(const Globals& globals, const CardOptions& options);
int card_restamp_command(const Globals& globals, const CardOptions& options);
int card_check_command(const Globals& globals, const CardOptions& options);
int card_rescue_command(const Globals& globals, const CardOptions& options);
int card_picture_command(const Globals& globals, const CardOptions& options);

struct StateOptions {
  std::string state;
  std::vector<std::string> files;  // a battery save; of learn pairs
  std::string map;                 // its id
  std::string rom;
  std::string to;
  std::string out;
  std::vector<std::string> chips;
  std::string platform;
  std::vector<std::string> like;    // battery saves of the same game
  std::vector<std::string> others;  // further states of it
  std::string base;                 // a state of the other program's
  int candidate = 0;                // 0: the certain one
  std::string place;                // a bay or a folder
  std::string game;
  std::string slot;
  std::string to_slot;
  bool replace = false;
  bool dry_run = false;
};
int state_list_command(const Globals& globals, const StateOptions& options);
int state_copy_command(const Globals& globals, const StateOptions& options);
int state_move_command(const Globals& globals, const StateOptions& options);
int state_show_command(const Globals& globals, const StateOptions& options);
int state_export_command(const Globals& globals, const StateOptions& options);
int state_import_command(const Globals& globals, const StateOptions& options);
int state_convert_command(const Globals& globals, const StateOptions& options);
int state_diff_command(const Globals& globals, const StateOptions& options);
int state_picture_command(const Globals& globals, const StateOptions& options);
int state_learn_command(const Globals& globals, const StateOptions& options);
int state_maps_command(const Globals& globals, const StateOptions& options);

struct CartOptions {
  std::string port;             // the reader's line; empty: the only one
  std::optional<double> volts;  // that the cartridge wants
  std::vector<std::string> chips;
  std::string input;
  std::string out;
  std::string to;  // a bay
  std::vector<std::string> accept;
  int attempts = 5;
  bool unstable = false;
  bool resume = false;
  bool replace = false;
  bool dry_run = false;
  bool yes = false;
};
int cart_ports_command(const Globals& globals, const CartOptions& options);
int cart_look_command(const Globals& globals, const CartOptions& options);
int cart_dump_command(const Globals& globals, const CartOptions& options);
int cart_rom_command(const Globals& globals, const CartOptions& options);
int cart_write_command(const Globals& globals, const CartOptions& options);

struct SheetOptions {
  std::string save;                // as the user names it
  std::vector<std::string> saves;  // where several are compared
  std::vector<std::string> words;  // paths, PATH=VALUE, a record's file
  std::string sheet;               // its id, or its file
  std::string rom;
  std::vector<std::string> chips;
  std::string language;  // two letters; empty: that of the environment
  std::string out;
  std::vector<std::string> accept;
  std::string value;     // of search: one for each save, with commas
  std::string between;   // the same, A..B
  std::string trend;     // "changed", "same", "more", "less", with commas: one for each step
  std::string file;      // of several files: which one is searched
  std::string name;      // of draft: what the field is called
  std::string id;        // of draft: the sheet's
  std::string platform;  // of draft: its tag
  bool all = false;
  bool recompute = false;
  bool replace = false;
  bool dry_run = false;
  bool uses_sheet = true;  // false where --sheet is one to add to
};
int sheet_show_command(const Globals& globals, const SheetOptions& options);
int sheet_set_command(const Globals& globals, const SheetOptions& options);
int sheet_check_command(const Globals& globals, const SheetOptions& options);
int sheet_diff_command(const Globals& globals, const SheetOptions& options);
int sheet_export_command(const Globals& globals, const SheetOptions& options);
int sheet_import_command(const Globals& globals, const SheetOptions& options);
int sheet_find_command(const Globals& globals, const SheetOptions& options);
int sheet_checksum_command(const Globals& globals, const SheetOptions& options);
int sheet_draft_command(const Globals& globals, const SheetOptions& options);
int sheet_list_command(const Globals& globals, const SheetOptions& options);

int layouts_command(const Globals& globals, const std::string& id);

struct BayAddOptions {
  std::string name;
  std::string folder;  // the same as root, without its word
  std::string like;
  std::string root;
  std::string platform;
  std::string path;
  std::string layout;
  std::string roms;
  std::string about;
  bool replace = false;
};
int bay_add_command(const Globals& globals, const BayAddOptions& options);
int bay_list_command(const Globals& globals);
int bay_forms_command(const Globals& globals);
int list_command(const Globals& globals, const std::string& name);
int bay_show_command(const Globals& globals, const std::string& name);
int bay_check_command(const Globals& globals, const std::vector<std::string>& names);
/// Looks through the home folder and what is mounted if `folder` is empty.
/// `platform`: the tag of what nothing else settles; empty: it is not settled.
int bay_look_command(const Globals& globals, const std::string& folder, const std::string& platform);
struct BayFileOptions {
  std::string name;
  std::string to;  // of rename
  bool yes = false;
};
struct BayPictureOptions {
  std::string bay;
  std::string out;
  bool replace = false;
};
int bay_picture_command(const Globals& globals, const BayPictureOptions& options);
int bay_remove_command(const Globals& globals, const BayFileOptions& options);
int bay_rename_command(const Globals& globals, const BayFileOptions& options);
int bay_edit_command(const Globals& globals, const BayFileOptions& options);

struct CarryOptions {
  std::string what;
  std::string from;
  std::string to;
  std::string rom;
  std::vector<std::string> chips;
  std::vector<std::string> accept;
  std::vector<std::string> accounts;  // FROM=TO
  std::string region;
  std::string slot;        // a number; of states also "auto" and "all"
  std::string game;        // of a file from outside
  std::size_t choice = 0;  // of the saves that are found in one
  bool outside = false;    // whatever is around it
  bool all = false;
  bool states = false;
  bool from_state = false;
  bool exact = false;
  bool companions = false;
  bool wait = false;
  bool dry_run = false;
  bool yes = false;
  bool explain = false;
};
int carry_command(const Globals& globals, const CarryOptions& options);

struct FileCarryOptions {
  std::string what;
  std::string to;
  std::string game;
  std::string account;
  std::string region;
  std::vector<std::string> chips;
  std::vector<std::string> accept;
  std::size_t choice = 0;
  int slot = 0;
  bool exact = false;
  bool wait = false;
  bool dry_run = false;
  bool yes = false;
  bool explain = false;
};
[[nodiscard]] Result<int> carry_file(const Globals& globals, const FileCarryOptions& options);

int chips_command(const Globals& globals);
int chips_forget_command(const Globals& globals, const std::string& game);
int pairs_command(const Globals& globals);
int pairs_forget_command(const Globals& globals, const std::string& path);

int logbook_command(const Globals& globals, const std::string& what);
struct LogbookOptions {
  std::string folder;
  std::size_t keep = 32;
  bool per_save = false;
  bool repair = false;
  bool yes = false;
  bool dry_run = false;
};
int logbook_prune_command(const Globals& globals, const LogbookOptions& options);
int logbook_check_command(const Globals& globals, const LogbookOptions& options);
int logbook_export_command(const Globals& globals, const LogbookOptions& options);
int logbook_import_command(const Globals& globals, const LogbookOptions& options);

struct BackupOptions {
  std::string bay;
  std::string what;
};
int backup_command(const Globals& globals, const BackupOptions& options);

struct RestoreOptions {
  bool all = false;  // the whole batch that the version belongs to
  bool everywhere = false;
  std::string what;
  std::string to;
  std::optional<std::int64_t> entry;  // of the logbook
  std::string version;                // of sync: its id, or the beginning of it
  std::string date;                   // as it was at that time
  std::string device;                 // as that device had it
  std::vector<std::string> accept;
  bool before = false;
  bool wait = false;
  bool dry_run = false;
  bool yes = false;
  bool explain = false;
};
int restore_command(const Globals& globals, const RestoreOptions& options);

struct UndoOptions {
  std::optional<std::int64_t> id;
  std::vector<std::string> accept;
  std::size_t last = 1;
  bool batch = false;
  bool wait = false;
  bool dry_run = false;
  bool yes = false;
  bool explain = false;
};
int undo_command(const Globals& globals, const UndoOptions& options);

struct SyncOptions {
  std::vector<std::string> bays;    // empty: all
  std::vector<std::string> accept;  // losses that are meant
  std::string url;
  std::string device;
  std::string game;
  std::string keep;  // of resolve: a device, a number, both
  std::size_t versions = 32;
  bool dry_run = false;
  bool yes = false;
  bool encrypt = false;      // of join
  bool this_device = false;  // of remove
  bool watch = false;        // round after round, as something changes
  bool once = false;         // for a timer: like --yes, and says nothing where nothing was done
};
struct SyncSetOptions {
  std::string bay;
  std::vector<std::string> with;  // kinds
  std::vector<std::string> without;
  std::vector<std::string> leave;  // patterns
  std::vector<std::string> take_again;
  std::vector<std::string> config;
  std::optional<std::string> config_of;
  std::optional<std::string> states_of;
  std::optional<std::uint64_t> max_bytes;
  bool on = false;
  bool off = false;
};
int sync_set_command(const Globals& globals, const SyncSetOptions& options);
int sync_command(const Globals& globals, const SyncOptions& options);
int sync_watch_command(const Globals& globals, const SyncOptions& options);
int sync_join_command(const Globals& globals, const SyncOptions& options);
int sync_key_enter_command(const Globals& globals, const SyncOptions& options);
int sync_key_change_command(const Globals& globals, const SyncOptions& options);
[[nodiscard]] Result<int> sync_leave(const Globals& globals);
int sync_status_command(const Globals& globals, const SyncOptions& options);
int sync_devices_command(const Globals& globals, const SyncOptions& options);
int sync_remove_command(const Globals& globals, const SyncOptions& options);
int sync_conflicts_command(const Globals& globals, const SyncOptions& options);
int sync_resolve_command(const Globals& globals, const SyncOptions& options);
int sync_prune_command(const Globals& globals, const SyncOptions& options);

int demo_command(const Globals& globals, const std::string& out);

/// Parses the words and runs the command.
int run_command_line(int argc, char** argv);

}  // namespace bayswap::cli
