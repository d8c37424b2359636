// The words of the sync commands.
#include "cli/command_words.hpp"

namespace bayswap::cli {

void add_sync_commands(CLI::App& app, Words& w) {
  CLI::App* sync = command(app, w, "sync", "Keep bays in step, on this device and on others",
                           [&w] { return sync_command(w.globals, w.sync); });
  sync->add_option("BAY", w.sync.bays, "Only these bays; default: all");
  sync->add_option("--accept", w.sync.accept,
                   "A loss that is meant: deleted, empty; many, for more than a third of a bay at once")
      ->type_name("LOSS")
      ->expected(1)
      ->take_all();
  CLI::Option* dry_run = sync->add_flag("-n,--dry-run", w.sync.dry_run, "Show what would be done and stop");
  sync->add_flag("-y,--yes", w.sync.yes, "Don't ask");
  CLI::Option* watch = sync->add_flag("--watch", w.sync.watch,
                                      "Go on, round after round, as something changes: one line an event");
  sync->add_flag("--once", w.sync.once, "One round without questions, for a timer: one line an event")
      ->excludes(watch)
      ->excludes(dry_run);
  watch->excludes(dry_run);
  const auto action = [&](const char* name, const char* about,
                          int (*run)(const Globals&, const SyncOptions&)) {
    return command(*sync, w, name, about, [&w, run] { return run(w.globals, w.sync); });
  };

  CLI::App* join = action("join", "Exchange versions through a folder", sync_join_command);
  join->add_option("URL", w.sync.url,
                   "A folder's path, or a URL: https:// (WebDAV), sftp://, ftps://, s3+https://HOST/BUCKET")
      ->required();
  join->add_option("--device", w.sync.device, "What this device is called; by default the host's name")
      ->type_name("NAME");
  join->add_flag("--encrypt", w.sync.encrypt, "Create an encrypted sync folder");
  action("status", "Shows devices, saves that wait, what stays out, and problems", sync_status_command);
  CLI::App* set = command(*sync, w, "set", "Say what of a bay takes part",
                          [&w] { return sync_set_command(w.globals, w.sync_set); });
  set->add_option("BAY", w.sync_set.bay, "The bay; without an option, what takes part is shown")->required();
  set->add_option("--with", w.sync_set.with, "Kinds that take part: battery, card, folder, states, config")
      ->type_name("KIND");
  set->add_option("--without", w.sync_set.without, "Kinds that stay out")->type_name("KIND");
  set->add_option("--states-of", w.sync_set.states_of,
                  "What writes its save states: bays of one name exchange states that no map describes")
      ->type_name("NAME");
  set->add_option("--leave", w.sync_set.leave, "Leave out files that a pattern fits: 'saves/test*'")
      ->type_name("PATTERN");
  set->add_option("--take-again", w.sync_set.take_again, "Leave them out no longer")->type_name("PATTERN");
  set->add_option("--config", w.sync_set.config, "Which files are configuration: 'config/*.cfg'")
      ->type_name("PATTERN");
  set->add_option("--config-of", w.sync_set.config_of, "What it configures: bays of one name exchange it")
      ->type_name("NAME");
  set->add_option("--max-bytes", w.sync_set.max_bytes, "Leave out saves that are larger")->type_name("BYTES");
  CLI::Option* on = set->add_flag("--on", w.sync_set.on, "The bay takes part");
  set->add_flag("--off", w.sync_set.off, "Nothing of the bay takes part")->excludes(on);
  action("devices", "List the devices", sync_devices_command);
  CLI::App* remove = action("remove", "Remove a device: one that is gone, or this one", sync_remove_command);
  CLI::Option* device =
      remove->add_option("DEVICE", w.sync.device, "Its name or its id; no device waits for it any longer");
  remove
      ->add_flag("--this", w.sync.this_device,
                 "This device: it exchanges no more; its bays and versions stay as they are")
      ->excludes(device);
  action("conflicts", "Show saves whose versions changed independently", sync_conflicts_command);
  CLI::App* resolve = action("resolve", "Choose the version that continues", sync_resolve_command);
  resolve->add_option("GAME", w.sync.game, "The save, by title, code, ROM's name or a version's id")
      ->required();
  resolve
      ->add_option("--keep", w.sync.keep,
                   "A device, a bay, a number of `sync conflicts` or a version's id; both: this device's "
                   "goes on, and the "
                   "other stays in the logbook; back: put a lost save back")
      ->required()
      ->type_name("VERSION");
  CLI::App* key = sync->add_subcommand("key", "The passphrase of an encrypted sync folder");
  key->require_subcommand(1);
  command(*key, w, "enter", "Enter the passphrase on this device",
          [&w] { return sync_key_enter_command(w.globals, w.sync); });
  command(*key, w, "change", "Change the passphrase; later reports get a new key",
          [&w] { return sync_key_change_command(w.globals, w.sync); });
  action("prune", "Remove old versions, if every device has a newer one", sync_prune_command)
      ->add_option("--keep", w.sync.versions, "How many of each save stay")
      ->type_name("N")
      ->check(CLI::Range(1, 1000000));
}

}  // namespace bayswap::cli
