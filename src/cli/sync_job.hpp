// What the sync commands share: this device's versions, and its sync folder.
#pragma once

#include <bayswap/keyring.hpp>
#include <bayswap/remote_store.hpp>
#include <bayswap/sync.hpp>

#include "cli/books.hpp"
#include "cli/sheet_changes.hpp"
#include "sync/scratch_store.hpp"

namespace bayswap::cli {

/// Where this device keeps its versions.
[[nodiscard]] std::string replica_folder(const Home& home);

/// Held by whoever changes this device's versions. Taken before the logbook's.
[[nodiscard]] Result<FileLock> lock_versions(const Globals& globals, const Home& home);

/// The keys of the sync folder as this device has them. Fails with `bad_usage` if it has none.
[[nodiscard]] Result<Keyring> own_keys(Store& disk);
/// Keeps them, and a copy of the sync folder's lock, which can be lost there.
[[nodiscard]] Result<void> keep_keys(Store& disk, Store& sea, const Keyring& keys);
/// Forgets both.
void forget_keys(Store& disk);

/// A passphrase out of an environment variable, else from the terminal, which does not show it. `again`:
/// asked for twice, as a new one. Fails with `bad_usage` if there is neither, or it is too short for a new
/// one.
[[nodiscard]] Result<std::string> passphrase_from(const char* variable, const std::string& prompt,
                                                  bool again);

/// A device's versions, held by this process alone, and its sync folder if it can be reached.
struct SyncJob {
  enum class Mode { change, look };  // look: nothing on the disk changes, nor at the sync folder
  /// Fails with `not_found` if the device has joined none.
  [[nodiscard]] static Result<std::unique_ptr<SyncJob>> open(const Globals& globals, Mode mode);

  explicit SyncJob(const std::string& folder) : disk(folder, LocalStore::Privacy::owner_only) {}
  [[nodiscard]] Store& own() { return scratch ? static_cast<Store&>(*scratch) : disk; }
  [[nodiscard]] SyncFolder* light() { return sync_folder ? &*sync_folder : nullptr; }
  /// Fails where a command can do nothing without the sync folder.
  [[nodiscard]] Result<SyncFolder*> needed_light();
  [[nodiscard]] Result<void> reach();
  [[nodiscard]] bool knows_what_is_there(bool is_encrypted);
  [[nodiscard]] Result<void> put_lock_back(const Keyring& keys);
  [[nodiscard]] std::int64_t now() const { return clock(); }

  std::optional<FileLock> lock;            // of this device's versions; none where they are looked at
  std::unique_ptr<LockedLogbook> logbook;  // nullptr: none yet, and only looked at
  LocalStore disk;
  std::optional<ScratchStore> scratch;
  std::optional<Replica> replica;
  std::unique_ptr<Store> server;  // where the sync folder is
  std::unique_ptr<Store> sea;     // the same, asked without the home folder's lock
  std::unique_ptr<Store>
      encrypted;                  // the same, as those see it who have the keys; nullptr: it is open to all
  std::unique_ptr<Store> newest;  // the same, with the newest key alone
  std::optional<SyncFolder> sync_folder;
  std::optional<Error> unreachable;  // why there is none
  Clock clock;
};

[[nodiscard]] Json to_json(const SyncConflict& conflict, SheetChanges& sheets);
/// Both sides of each; with the values that differ, where a sheet knows the game.
void print_conflicts(const std::vector<SyncConflict>& conflicts, SheetChanges& sheets);
/// "12.3 KB".
[[nodiscard]] std::string bytes_in_words(std::uint64_t bytes);

/// What of a bay takes no part in sync.
struct BayLeftOut {
  std::string bay;
  std::string why;             // of the whole bay; empty: only of the saves
  std::vector<LeftOut> saves;  // by what lies there now
};
/// Looks into every bay.
[[nodiscard]] Result<std::vector<BayLeftOut>> left_out_of_bays(const Globals& globals);
[[nodiscard]] Json to_json(const std::vector<BayLeftOut>& bays);
void print_left_out(const std::vector<BayLeftOut>& bays);

}  // namespace bayswap::cli
