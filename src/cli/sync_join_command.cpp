// Joining a sync folder and leaving it, and the passphrase of an encrypted one.
#include <filesystem>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/sync_job.hpp"
#include "fs/url.hpp"

namespace bayswap::cli {
namespace {

Result<std::string> ask_passphrase(bool is_new) {
  return passphrase_from("BAYSWAP_PASSPHRASE",
                         is_new ? "New passphrase of the sync folder" : "Passphrase of the sync folder",
                         is_new);
}

// `phrase`: asked for before anything is made.
Result<SyncFolder::About> encrypted_or_open(Store& sea, const SyncOptions& options,
                                            std::optional<std::string>& phrase) {
  const bool encrypt = options.encrypt;
  const auto there = SyncFolder::about(sea);
  // Who has a passphrase at hand means an encrypted one, whatever the server says of it.
  const bool is_open = there ? !there->is_encrypted : !encrypt;
  if (is_open && !from_environment("BAYSWAP_PASSPHRASE").empty())
    return fail(
        ErrorCode::unsafe,
        there ? "a passphrase is set (BAYSWAP_PASSPHRASE), and the sync folder there is not encrypted: "
                "nothing was sent"
              : "a passphrase is set (BAYSWAP_PASSPHRASE), and the new sync folder would not be encrypted",
        there ? "see who made it; without the variable it is joined as it is"
              : "pass --encrypt, or take the variable away");
  if (!there && there.error().code == ErrorCode::not_found && encrypt) {
    BAYSWAP_TRY(phrase, ask_passphrase(true));
  }
  auto made = SyncFolder::make(sea, encrypt);
  // On a server, a folder that is not there is made; on a disk its medium may be missing.
  if (!made && made.error().code == ErrorCode::not_found && !is_local_url(options.url)) {
    BAYSWAP_CHECK(make_remote_folder(options.url));
    made = SyncFolder::make(sea, encrypt);
  }
  if (!made) return made;
  const SyncFolder::About about = *made;
  if (encrypt && !about.is_encrypted)
    return fail(ErrorCode::bad_usage, "the sync folder that is there is not encrypted, and can't be made so",
                "join it without --encrypt, or name an empty folder for a new one");
  return about;
}

// The keys of an encrypted sync folder: new ones where it has none yet, else those its passphrase opens.
Result<Keyring> keys_of(Store& sea, const std::string& sync_folder, std::optional<std::string> phrase) {
  BAYSWAP_TRY(const std::string lock, newest_lock(sea));
  // New keys would be another sync folder's to those who have joined.
  if (lock.empty()) {
    const auto reports = sea.list("devices");
    if (reports && !reports->empty())
      return fail(ErrorCode::damaged, "the sync folder's keys are missing",
                  "`bayswap sync` on a device that has joined puts them back; then join again");
  }
  if (!phrase) {
    BAYSWAP_TRY(phrase, ask_passphrase(lock.empty()));
  }
  if (lock.empty()) return put_lock(sea, Keyring::make(), *phrase, sync_folder);
  return open_lock(sea, *phrase, sync_folder);
}

// What the two commands for keys share: the sync folder's folder as it lies there.
struct KeyJob {
  static Result<KeyJob> open(const Globals& globals) {
    KeyJob keys;
    BAYSWAP_TRY(keys.job, SyncJob::open(globals, SyncJob::Mode::change));
    if (keys.job->sea == nullptr) return tl::unexpected(*keys.job->unreachable);
    BAYSWAP_TRY(keys.about, SyncFolder::about(*keys.job->sea));
    if (!keys.about.is_encrypted)
      return fail(ErrorCode::bad_usage, "this sync folder is not encrypted: it has no passphrase",
                  "`bayswap sync join FOLDER --encrypt` founds one that is, in an empty folder");
    return keys;
  }
  std::unique_ptr<SyncJob> job;
  SyncFolder::About about;
};

// The reports that this device may vouch for go on under the newest key. Not reached: with its next round.
void renew_reports(SyncJob& job, const SyncFolder::About& about, const Keyring& keys,
                   const std::string& device) {
  const auto encrypted = encrypted_store(*job.sea, keys);
  const auto newest = encrypted_store(*job.sea, keys.with_newest_alone());
  auto sync_folder = SyncFolder::open(about, *job.sea, encrypted.get(), newest.get());
  if (sync_folder) (void)sync_folder->renew_manifests(device);
}

Result<int> key_enter(const Globals& globals, const SyncOptions& /*options*/) {
  BAYSWAP_TRY(const KeyJob key, KeyJob::open(globals));
  BAYSWAP_TRY(const std::string phrase, ask_passphrase(false));
  BAYSWAP_TRY(Keyring keys, open_lock(*key.job->sea, phrase, key.about.id));
  // What was encrypted here while another device changed the keys has to open there too.
  if (const auto own = own_keys(key.job->disk); own && own->names() == keys.names()) {
    const Keyring all = own->joined_with(keys);
    if (!(all == keys)) {
      BAYSWAP_TRY(keys, put_lock(*key.job->sea, all, phrase, key.about.id));
    }
  }
  BAYSWAP_CHECK(keep_keys(key.job->disk, *key.job->sea, keys));
  renew_reports(*key.job, key.about, keys, key.job->replica->device().id);
  if (globals.json)
    print_json({{"keys", keys.contents().size()}});
  else
    say(globals.quiet, "This device can read the sync folder. `bayswap sync` makes a round.");
  return exit_done;
}

Result<int> key_change(const Globals& globals, const SyncOptions& /*options*/) {
  BAYSWAP_TRY(const KeyJob key, KeyJob::open(globals));
  BAYSWAP_TRY(Keyring keys, own_keys(key.job->disk));
  // A device that has not seen the newest keys would leave those behind that others use by now. Where they
  // are lost or damaged, it brings them back.
  BAYSWAP_TRY(const std::string newest, newest_lock(*key.job->sea));
  if (!newest.empty() && newest != keys.lock)
    return fail(ErrorCode::bad_usage,
                "the passphrase was changed on another device, or here by a change that was interrupted",
                "enter the newest one first", {Remedy::Kind::enter_passphrase, {}});
  BAYSWAP_TRY(const std::string phrase,
              passphrase_from("BAYSWAP_NEW_PASSPHRASE", "New passphrase of the sync folder", true));
  BAYSWAP_TRY(keys, put_lock(*key.job->sea, keys.with_new_key(), phrase, key.about.id));
  BAYSWAP_CHECK(keep_keys(key.job->disk, *key.job->sea, keys));
  renew_reports(*key.job, key.about, keys, {});
  if (globals.json)
    print_json({{"keys", keys.contents().size()}});
  else
    say(globals.quiet,
        "Reports from now on are encrypted with a new key. The other devices ask for the new passphrase: "
        "`bayswap sync key enter` there. Whoever has the old key can still read earlier reports.");
  return exit_done;
}

Result<void> check_name(Store& sea, const SyncFolder::About& about, const std::optional<Keyring>& keys,
                        const std::string& own_id, const std::string& name) {
  const auto encrypted = keys ? encrypted_store(sea, *keys) : nullptr;
  const auto newest = keys ? encrypted_store(sea, keys->with_newest_alone()) : nullptr;
  BAYSWAP_TRY(SyncFolder sync_folder, SyncFolder::open(about, sea, encrypted.get(), newest.get()));
  BAYSWAP_TRY(const auto devices, Replica::devices_of(sync_folder));
  for (const auto& [id, other] : devices)
    if (id != own_id && folded(other) == folded(name))
      return fail(ErrorCode::bad_usage,
                  fmt::format("another device of this sync folder is called {}", printable(other)),
                  "choose another name with --device; if that was this device before it was set up anew, "
                  "`bayswap sync remove` takes the old one away afterwards");
  return {};
}

Result<int> join(const Globals& globals, const SyncOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  const std::string url = is_local_url(options.url) ? path_of_url(options.url) : options.url;
  if (is_local_url(options.url)) {
    // A folder of its own below one that is there. A missing medium is not made up for.
    LocalStore disk;
    BAYSWAP_TRY(const auto there, disk.stat(url));
    std::error_code failed;
    if (!there) std::filesystem::create_directory(url, failed);
    if (failed)
      return fail(ErrorCode::not_found, fmt::format("{} does not exist, and can't be made", url),
                  "plug in the medium it is on, or name a folder in one that is there");
  }
  BAYSWAP_TRY(const auto sea, open_remote(url));
  std::optional<std::string> phrase;
  BAYSWAP_TRY(const SyncFolder::About sync_folder, encrypted_or_open(*sea, options, phrase));
  std::optional<Keyring> keys;
  if (sync_folder.is_encrypted) {
    BAYSWAP_TRY(keys, keys_of(*sea, sync_folder.id, phrase));
  }
  BAYSWAP_TRY(const FileLock versions, lock_versions(globals, home));
  BAYSWAP_TRY(const auto logbook, open_logbook(globals));
  LocalStore own(replica_folder(home), LocalStore::Privacy::owner_only);
  std::error_code failed;
  std::filesystem::create_directories(replica_folder(home), failed);
  // Joining again gives a device no other name; two of one name could not be told apart.
  BAYSWAP_TRY(const auto known, Replica::device_of(own));
  const std::string name = !options.device.empty() ? options.device : known ? known->name : host_name();
  BAYSWAP_CHECK(check_name(*sea, sync_folder, keys, known ? known->id : std::string(), name));
  BAYSWAP_TRY(const Replica replica, Replica::join(own, name, url, sync_folder.id));
  if (keys)
    BAYSWAP_CHECK(keep_keys(own, *sea, *keys));
  else
    forget_keys(own);  // of one that it was in before
  const DeviceInfo& device = replica.device();
  if (globals.json)
    print_json({{"device", device.name},
                {"id", device.id},
                {"url", device.url},
                {"sync_folder", device.sync_folder},
                {"encrypted", sync_folder.is_encrypted}});
  else
    say(globals.quiet,
        fmt::format("This device is {} and exchanges versions through {}{}. `bayswap sync` makes a round.",
                    printable(device.name), printable(device.url),
                    sync_folder.is_encrypted ? ", encrypted" : ""));
  return exit_done;
}

}  // namespace

Result<int> sync_leave(const Globals& globals) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::change));
  const std::string url = job->replica->device().url;
  BAYSWAP_CHECK(job->replica->leave());
  forget_keys(job->disk);
  if (globals.json)
    print_json({{"left", url}});
  else
    say(globals.quiet,
        fmt::format("Left {}. The bays stay as they are, and so does what is known of their saves; "
                    "`bayswap sync join` goes on with it.",
                    printable(url)));
  return exit_done;
}

int sync_join_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(join(globals, options));
}
int sync_key_enter_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(key_enter(globals, options));
}
int sync_key_change_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(key_change(globals, options));
}

}  // namespace bayswap::cli
