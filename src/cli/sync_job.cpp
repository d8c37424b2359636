#include "cli/sync_job.hpp"

#include <termios.h>
#include <unistd.h>
#include <algorithm>
#include <csignal>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/output.hpp"
#include "cli/unlocked_store.hpp"
#include "fs/url.hpp"
#include "sync/lock_number.hpp"

namespace bayswap::cli {

namespace {

constexpr std::string_view keys_name = "keys";
constexpr std::string_view lock_name = "keys-lock.toml";  // a copy of the sync folder's: see put_lock
constexpr std::size_t max_lock_bytes = 200000;
constexpr int lock_wait_seconds = 10;

}  // namespace

std::string replica_folder(const Home& home) {
  return join_path(home.data, "sync");
}

Result<FileLock> lock_versions(const Globals& globals, const Home& home) {
  return FileLock::acquire(join_path(replica_folder(home), "lock"), lock_wait_seconds, [&] {
    say(globals.quiet, "bayswap: waiting for another Bay Swap that is syncing");
  });
}

Result<std::unique_ptr<SyncJob>> SyncJob::open(const Globals& globals, Mode mode) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  auto job = std::make_unique<SyncJob>(replica_folder(home));
  // Before anything is made: most who ask have not joined.
  if (const auto joined = Replica::open(job->disk); !joined) return tl::unexpected(joined.error());
  if (mode == Mode::change) {
    BAYSWAP_TRY(job->lock, lock_versions(globals, home));
  }
  BAYSWAP_TRY(job->logbook, mode == Mode::look ? look_at_logbook(globals) : open_logbook(globals));
  if (mode == Mode::look) job->scratch.emplace(job->disk);
  job->clock = clock_of_process();
  BAYSWAP_TRY(Replica replica, Replica::open(job->own()));
  job->replica.emplace(std::move(replica));
  if (const auto reached = job->reach(); !reached) job->unreachable = reached.error();
  if (job->logbook) BAYSWAP_CHECK(job->logbook->resume());  // whatever became of the question
  return job;
}

// Reports of this device, or of one that it knows: it is our sync folder, and not just any.
bool SyncJob::knows_what_is_there(bool is_encrypted) {
  std::unique_ptr<Store> opened;
  if (is_encrypted) {
    const auto keys = own_keys(disk);
    if (!keys) return false;
    opened = encrypted_store(*sea, *keys);
  }
  const auto files = (opened ? *opened : *sea).list("devices");
  if (is_encrypted) return files && !files->empty();  // only names under our keys are listed
  std::set<std::string> known{replica->device().id};
  for (const PeerInfo& peer : replica->peers()) known.insert(peer.id);
  return files && std::ranges::any_of(*files, [&](const FileInfo& file) {
           return known.contains(file.name.substr(0, file.name.find('.')));
         });
}

Result<void> SyncJob::reach() {
  const DeviceInfo& device = replica->device();
  BAYSWAP_TRY(server, open_remote(device.url));
  // A server may take its time.
  if (logbook && !is_local_url(device.url))
    sea = std::make_unique<UnlockedStore>(*server, *logbook);
  else
    sea = std::make_unique<ForwardingStore>(*server);
  // Who joined an encrypted one tells nothing to one that says it is open, whoever wrote that there.
  BAYSWAP_TRY(const auto kept, disk.stat(std::string(keys_name)));
  auto there = SyncFolder::about(*sea);
  if (!there && there.error().code == ErrorCode::not_found && !scratch &&
      knows_what_is_there(kept.has_value()) &&
      SyncFolder::put_back(*sea, {device.sync_folder, kept.has_value()}))
    there = SyncFolder::about(*sea);
  if (!there) return tl::unexpected(there.error());
  const SyncFolder::About& about = *there;
  if (kept && !about.is_encrypted)
    return fail(ErrorCode::unsafe,
                "the sync folder was encrypted when this device joined it, and now says that it is not",
                "see who has changed it; leave and join again if that was meant");
  if (about.is_encrypted) {
    BAYSWAP_TRY(const Keyring keys, own_keys(disk));
    BAYSWAP_TRY(std::string lock_there, newest_lock(*sea));
    // An older one was put back by a device that does not know of the change.
    if (number_of_lock(lock_there).value_or(0) < number_of_lock(keys.lock).value_or(0)) {
      BAYSWAP_CHECK(put_lock_back(keys));
      lock_there = keys.lock;
    }
    if (lock_there != keys.lock)
      return fail(ErrorCode::bad_usage, "the sync folder has another passphrase than it had",
                  "enter the new one", {Remedy::Kind::enter_passphrase, {}});
    BAYSWAP_TRY(const auto copy, disk.stat(std::string(lock_name)));
    if (!copy && !scratch) BAYSWAP_CHECK(keep_keys(disk, *sea, keys));
    encrypted = encrypted_store(*sea, keys);
    newest = encrypted_store(*sea, keys.with_newest_alone());
  }
  // By what it said above: asked again, it could say something else.
  BAYSWAP_TRY(SyncFolder opened, SyncFolder::open(about, *sea, encrypted.get(), newest.get()));
  sync_folder.emplace(std::move(opened));
  return {};
}

// The lock is what a new device needs; who has joined has the keys, and a copy of it.
Result<void> SyncJob::put_lock_back(const Keyring& keys) {
  BAYSWAP_TRY(const auto copy, disk.read_if_there(std::string(lock_name), max_lock_bytes));
  if (copy && !scratch && knows_what_is_there(true))
    return sea->create(join_path(keys_name, keys.lock), copy->view());
  return fail(ErrorCode::damaged, "the sync folder's keys are missing",
              scratch ? "`bayswap sync` on a device that has joined puts them back"
                      : "`bayswap sync key change` puts new ones there, under a passphrase that you choose");
}

Result<Keyring> own_keys(Store& disk) {
  BAYSWAP_TRY(const auto bytes, disk.read_if_there(std::string(keys_name), max_lock_bytes));
  if (!bytes)
    return fail(ErrorCode::bad_usage, "the sync folder is encrypted, and this device has no key to it",
                "enter its passphrase", {Remedy::Kind::enter_passphrase, {}});
  return Keyring::from_bytes(bytes->view());
}

Result<void> keep_keys(Store& disk, Store& sea, const Keyring& keys) {
  if (const auto lock = sea.read(join_path(keys_name, keys.lock), max_lock_bytes))
    BAYSWAP_CHECK(disk.replace(std::string(lock_name), lock->view()));
  return disk.replace(std::string(keys_name), keys.bytes().view());
}

void forget_keys(Store& disk) {
  for (const std::string_view name : {keys_name, lock_name}) (void)disk.remove(std::string(name));
}

namespace {

// One line from the terminal, which does not show it.
std::optional<std::string> hidden_line(const std::string& prompt) {
  termios before{};
  if (isatty(STDIN_FILENO) == 0 || tcgetattr(STDIN_FILENO, &before) != 0) return std::nullopt;
  termios quiet = before;
  // Ctrl-C comes as a byte: the terminal is to show again what is typed before the process ends.
  quiet.c_lflag &= ~static_cast<tcflag_t>(ECHO | ISIG);
  tcsetattr(STDIN_FILENO, TCSAFLUSH, &quiet);
  fmt::print(stderr, "{}: ", prompt);
  std::string line;
  constexpr char interrupt = 3;
  char c = 0;
  while (read(STDIN_FILENO, &c, 1) == 1 && c != '\n' && c != interrupt) line += c;
  tcsetattr(STDIN_FILENO, TCSAFLUSH, &before);
  fmt::print(stderr, "\n");
  if (c == interrupt) (void)raise(SIGINT);
  return line;
}

}  // namespace

Result<std::string> passphrase_from(const char* variable, const std::string& prompt, bool again) {
  std::string phrase = from_environment(variable);
  if (phrase.empty()) {
    const auto typed = hidden_line(prompt);
    if (!typed)
      return fail(ErrorCode::bad_usage, "there is no terminal to ask for a passphrase on",
                  fmt::format("put it into the environment as {}", variable));
    phrase = *typed;
    if (again && hidden_line("The same again") != phrase)
      return fail(ErrorCode::bad_usage, "these were two different passphrases: nothing was done",
                  "try again");
  }
  constexpr std::size_t least = 8;
  if (phrase.empty() || (again && phrase.size() < least))
    return fail(ErrorCode::bad_usage, fmt::format("a passphrase needs at least {} characters", least),
                "a few words that do not belong together are a good one");
  return phrase;
}

Result<SyncFolder*> SyncJob::needed_light() {
  if (sync_folder) return &*sync_folder;
  return tl::unexpected(*unreachable);
}

std::string bytes_in_words(std::uint64_t bytes) {
  if (bytes < 1024) return counted(bytes, "byte");
  if (bytes < 1024 * 1024) return fmt::format("{:.1f} KB", static_cast<double>(bytes) / 1024);
  return fmt::format("{:.1f} MB", static_cast<double>(bytes) / (1024 * 1024));
}

namespace {

std::vector<SheetDifference> values_of(const SyncConflict& conflict, SheetChanges& sheets) {
  if (conflict.sides.size() < 2 || !conflict.sides[0].content || !conflict.sides[1].content) return {};
  return sheets.between(conflict.sides[0].version.save.facts.game, *conflict.sides[0].content,
                        *conflict.sides[1].content);
}

}  // namespace

Json to_json(const SyncConflict& conflict, SheetChanges& sheets) {
  Json values = Json::array();
  for (const SheetDifference& one : values_of(conflict, sheets))
    values.push_back({{"path", one.path}, {"first", one.before}, {"second", one.after}});
  Json sides = Json::array();
  std::size_t number = 0;
  for (const SyncConflict::Side& side : conflict.sides) {
    const Version& version = side.version;
    sides.push_back({{"number", ++number},
                     {"version", version.id.hex()},
                     {"device", version.device_name},
                     {"made_on", side.made_on},
                     {"deleted", version.is_deletion()},
                     {"blank", side.blank},
                     {"noted", utc_time(version.noted)},
                     {"modified", version.modified ? Json(utc_time(*version.modified)) : Json(nullptr)},
                     {"size_bytes", version.size_bytes},
                     {"like_last_common", side.like_ancestor},
                     {"bays", side.bays}});
  }
  return {{"save", conflict.save},
          {"platform", tag(conflict.platform)},
          {"last_common", conflict.ancestor ? Json(conflict.ancestor->id.hex()) : Json(nullptr)},
          {"difference", conflict.difference},
          {"values", std::move(values)},
          {"sides", std::move(sides)}};
}

void print_conflicts(const std::vector<SyncConflict>& conflicts, SheetChanges& sheets) {
  for (const SyncConflict& conflict : conflicts) {
    fmt::print("{}\n", toned(Tone::bold, printable(fmt::format("{} ({}): {} versions changed independently",
                                                               conflict.save, tag(conflict.platform),
                                                               conflict.sides.size()))));
    std::vector<std::vector<std::string>> rows;
    for (std::size_t i = 0; i < conflict.sides.size(); ++i) {
      const SyncConflict::Side& side = conflict.sides[i];
      const Version& version = side.version;
      rows.push_back({std::to_string(i + 1),
                      printable(side.made_on == version.device_name
                                    ? side.made_on
                                    : fmt::format("{}, chosen on {}", side.made_on, version.device_name)),
                      local_time(version.modified.value_or(version.noted)),
                      version.is_deletion() ? "deleted" : bytes_in_words(version.size_bytes),
                      side.blank ? "empty"
                      : conflict.ancestor && !version.is_deletion()
                          ? fmt::format("{:.1f} %", side.like_ancestor * 100)
                          : "",
                      joined(side.bays, ", ")});
    }
    print_table({"number", "device", "saved", "size", "as the last common version", "here in"}, rows, {0});
    if (!conflict.difference.empty()) fmt::print("{}\n", conflict.difference);
    constexpr std::size_t most = 8;
    if (const auto values = values_of(conflict, sheets); !values.empty())
      fmt::print("From 1 to 2: {}\n", printable(in_words(values, most)));
    if (conflict.ancestor)
      fmt::print("The last common version is of {}, from {}.\n",
                 local_time(conflict.ancestor->modified.value_or(conflict.ancestor->noted)),
                 printable(conflict.ancestor->device_name));
    fmt::print("\n");
  }
}

}  // namespace bayswap::cli
