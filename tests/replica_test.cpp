// Versions, histories and replicas that exchange them through a sync folder, which loses things.
#include <bayswap/keyring.hpp>
#include <bayswap/replica.hpp>

#include <gtest/gtest.h>

#include <array>
#include <memory>

#include "support/builders.hpp"
#include "support/failing_store.hpp"
#include "support/property.hpp"
#include "sync/bundle.hpp"

namespace bayswap::test {
namespace {

SaveIdentity identity(const std::string& code, const std::string& stem, Platform platform = Platform::gba) {
  SaveIdentity save;
  save.facts.game.platform = platform;
  save.facts.game.code = code;
  if (!stem.empty()) save.facts.rom_path = stem + ".rom";
  save.has_rom = !code.empty();
  return save;
}

Version made_version(const SaveIdentity& save, const std::string& bytes,
                     std::vector<VersionId> parents = {}) {
  Version one;
  one.save = save;
  one.content = sha256(text_blob(bytes).view()).hex();
  one.parents = std::move(parents);
  return with_id(std::move(one));
}

// ---- Identity and graph
// ------------------------------------------------------------------------------------

TEST(Histories, ASaveIsKnownByCodeOrByItsFileName) {
  History history;
  const auto with_rom = made_version(identity("A99P", "Moth Courier (Europe)"), "one");
  history.add(with_rom);
  history.add(made_version(identity("A99E", "Moth Courier (USA)"), "other region"));
  EXPECT_EQ(history.lineages().size(), 2U);
  EXPECT_EQ(history.lineages_for(identity("A99P", "renamed")).size(), 1U);
  EXPECT_EQ(history.lineages_for(identity("", "moth courier")).size(), 2U) << "nothing tells which";
  // A file without a ROM joins neither, and another game's name joins nothing.
  history.add(made_version(identity("", "Moth Courier"), "bare"));
  EXPECT_EQ(history.lineages().size(), 3U);
  history.add(made_version(identity("B99P", "Gull Ledger (Europe)"), "a"));
  history.add(made_version(identity("", "gull ledger [!]"), "b"));
  EXPECT_EQ(history.lineages().size(), 4U);
  // A renamed file is of the save that it came from.
  history.add(made_version(identity("", "Something else"), "played on", {with_rom.id}));
  EXPECT_EQ(history.lineages().size(), 4U);
}

TEST(Histories, HeadsConflictsAndAncestors) {
  History history;
  const auto save = identity("A99P", "Moth");
  const auto first = made_version(save, "1");
  const auto left = made_version(save, "left", {first.id});
  const auto right = made_version(save, "right", {first.id});
  const auto again = made_version(save, "left", {right.id});
  for (const Version& one : {left, first, right}) history.add(one);
  const Lineage& lineage = history.lineages().front();
  EXPECT_EQ(differing_heads(lineage).size(), 2U);
  EXPECT_EQ(history.common_ancestor(lineage.heads)->id, first.id);
  EXPECT_TRUE(history.descends(left.id, first.id));
  EXPECT_FALSE(history.descends(left.id, right.id));
  // Both sides came to the same bytes: no conflict.
  history.add(again);
  EXPECT_EQ(history.lineages().front().heads.size(), 2U);
  EXPECT_EQ(differing_heads(history.lineages().front()).size(), 1U);
  // Pruned versions stay away, and their children stay where they are.
  history.prune(first.id);
  EXPECT_FALSE(history.add(first));
  EXPECT_EQ(history.lineages().front().versions.size(), 3U);
}

TEST(Versions, RecordsComeBackAsTheyWere) {
  expect_property("records", [] {
    Version one =
        made_version(identity(*rc::gen::container<std::string>(rc::gen::inRange('A', 'Z')), "x"), "1");
    one.save.name = *rc::gen::container<std::string>(rc::gen::inRange('!', '~'));
    one.label = "Mölly";
    one.noted = *rc::gen::arbitrary<std::int64_t>();
    one.modified =
        *rc::gen::maybe(rc::gen::arbitrary<std::int64_t>()) ? std::optional<std::int64_t>(5) : std::nullopt;
    one.save.facts.game.region = Region::korea;
    const auto count = *rc::gen::inRange(0, 5);
    for (int i = 0; i < count; ++i)
      one.parents.push_back(made_version(identity("", "p"), std::to_string(i)).id);
    one = with_id(one);
    const Blob record = record_of(one);
    const auto back = version_from_record(record.view());
    RC_ASSERT(back.has_value());
    RC_ASSERT(back->id == one.id);
    RC_ASSERT(record_of(*back) == record);
    // Cut short, or with a byte changed, it is no record, or another one.
    const auto at = *rc::gen::inRange<std::size_t>(0, record.size());
    RC_ASSERT(!version_from_record(record.view().first(at)));
    std::vector<Byte> other(record.view().begin(), record.view().end());
    other[at] ^= 0x40;
    if (const auto odd = version_from_record(other)) RC_ASSERT(odd->id != one.id);
  });
}

// ---- Sync folders
// -------------------------------------------------------------------------------------------

TEST(SyncFolders, AnObjectIsWhatItsNameSays) {
  MemoryStore store;
  ObjectShelf shelf(store, "objects");
  const Blob plain = Blob::filled(100000, 7);
  const auto digest = shelf.put(plain);
  ASSERT_TRUE(digest);
  EXPECT_EQ(*shelf.get(*digest), plain);
  const std::string path = store.files().begin()->first;
  const Blob stored = store.files().begin()->second;
  EXPECT_LT(stored.size(), 200U);
  for (const std::size_t size : {std::size_t{0}, std::size_t{10}, stored.size() - 1}) {
    ASSERT_TRUE(store.replace(path, stored.view().first(size)));
    EXPECT_EQ(shelf.get(*digest).error().code, ErrorCode::damaged);
    ASSERT_TRUE(shelf.put(plain)) << "it is put there again";
    EXPECT_EQ(*shelf.get(*digest), plain);
  }
  std::vector<Byte> liar(stored.view().begin(), stored.view().end());
  liar[12] = 0x7F;  // a size that no memory has
  ASSERT_TRUE(store.replace(path, liar));
  EXPECT_EQ(shelf.get(*digest).error().code, ErrorCode::damaged);
  EXPECT_EQ(shelf.list()->size(), 1U);
  ASSERT_TRUE(shelf.remove(*digest));
  EXPECT_TRUE(shelf.remove(*digest));
  EXPECT_EQ(shelf.get(*digest).error().code, ErrorCode::not_found);
}

TEST(SyncFolders, OnlyInAnEmptyFolder) {
  MemoryStore store;
  ASSERT_TRUE(store.replace("photos/gull.png", text_blob("x").view()));
  EXPECT_EQ(SyncFolder::found(store).error().code, ErrorCode::unsafe);
  EXPECT_EQ(SyncFolder::open(store).error().code, ErrorCode::not_found);
  MemoryStore empty;
  const auto first = SyncFolder::found(empty);
  const auto second = SyncFolder::found(empty);
  ASSERT_TRUE(first && second);
  EXPECT_EQ(first->id(), second->id());
}

#ifdef BAYSWAP_SANITIZED
constexpr std::uint64_t replica_worlds = 10;
#else
constexpr std::uint64_t replica_worlds = 40;
#endif

// ---- A model: devices, a sync folder that loses things, and crashes at any operation
// ------------------------

// Shows some of what was written only later, as stores that are spread over several machines do.
class LaggingStore final : public Store {
 public:
  LaggingStore(Store& below, std::mt19937_64& random) : below_(below), random_(random) {}
  bool lags = false;
  int operations = 0;
  int fail_at = 0;  // 0: never

  Result<std::optional<FileInfo>> stat(const std::string& path) override { return below_.stat(path); }
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    if (auto failed = step()) return tl::unexpected(*failed);
    auto files = below_.list(folder);
    if (files && lags) std::erase_if(*files, [&](const FileInfo&) { return random_() % 4 == 0; });
    return files;
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    if (auto failed = step()) return tl::unexpected(*failed);
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    if (auto failed = step()) {
      // Cut off half way: a dumb store keeps what came.
      if (random_() % 2 == 0) (void)below_.replace(path, bytes.first(bytes.size() / 2));
      return tl::unexpected(*failed);
    }
    return below_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    if (auto failed = step()) {
      const auto there = below_.stat(path);
      if (there && !*there && random_() % 2 == 0) (void)below_.create(path, bytes.first(bytes.size() / 2));
      return tl::unexpected(*failed);
    }
    return below_.create(path, bytes);
  }
  Result<void> remove(const std::string& path) override {
    if (auto failed = step()) return tl::unexpected(*failed);
    return below_.remove(path);
  }
  bool may_write(const std::string&) override { return true; }
  std::string display_path(const std::string& path) const override { return path; }

 private:
  std::optional<Error> step() {
    ++operations;
    if (fail_at == 0 || operations < fail_at) return std::nullopt;
    return Error(ErrorCode::io, "the wire was cut", "this is a test");
  }
  Store& below_;
  std::mt19937_64& random_;
};

struct Device {
  MemoryStore disk;
  std::string name;
};

class ReplicaWorld {
 public:
  ReplicaWorld(std::uint64_t number, std::size_t devices)
      : seed(number), random_(number), wire_(sea_, random_) {
    // Every second world's sync folder is encrypted.
    if (seed % 2 == 1) {
      const Keyring keys = Keyring::make();
      EXPECT_TRUE(SyncFolder::make(sea_, true));
      encrypted_sea_ = encrypted_store(sea_, keys);
      encrypted_wire_ = encrypted_store(wire_, keys);
    } else {
      EXPECT_TRUE(SyncFolder::make(sea_, false));
    }
    const auto sync_folder = at_sea();
    EXPECT_TRUE(sync_folder);
    for (std::size_t i = 0; i < devices; ++i) {
      devices_.push_back(std::make_unique<Device>());
      devices_.back()->name = "device " + std::to_string(i);
      EXPECT_TRUE(Replica::join(devices_.back()->disk, devices_.back()->name, "sea", sync_folder->id()));
    }
  }

  void step() {
    Device& device = *devices_[random_() % devices_.size()];
    switch (random_() % 8) {
      case 0:
      case 1:
      case 2:
        return play(device);
      case 3:
        return lose_something();
      default:
        return exchange(device);
    }
  }

  // Everything settles, and every device knows every version, and can have its bytes.
  void settle() {
    wire_.fail_at = 0;
    wire_.lags = false;
    for (int round = 0; round < 4; ++round)
      for (const auto& device : devices_) exchange_now(*device, true);
    std::optional<std::set<VersionId>> first;
    for (const auto& device : devices_) {
      auto replica = Replica::open(device->disk);
      ASSERT_TRUE(replica);
      const History& history = **replica->history();
      for (const auto& [id, bytes] : noted_) {
        const Version* version = history.find(id);
        ASSERT_NE(version, nullptr) << "seed " << seed << ": a version is lost";
      }
      ASSERT_EQ(history.versions().size(), noted_.size());
      for (const Lineage& lineage : history.lineages())
        for (const Version* head : lineage.heads)
          for (const Version* other : lineage.heads)
            if (other != head) {
              ASSERT_FALSE(history.descends(head->id, other->id));
            }
    }
    // Once nothing is lost any more, what is asked for comes.
    for (int round = 0; round < 3; ++round)
      for (const auto& device : devices_) {
        auto replica = Replica::open(device->disk);
        auto sync_folder = at_sea();
        ASSERT_TRUE(replica && sync_folder);
        for (const auto& [id, bytes] : noted_) {
          const auto got = replica->bundle(*(*replica->history())->find(id), &*sync_folder);
          if (round == 2) {
            ASSERT_TRUE(got) << "seed " << seed << ": the bytes of a version are lost";
            ASSERT_EQ(*got, bytes);
          }
        }
        ASSERT_TRUE(replica->save());
        ASSERT_TRUE(replica->exchange(*sync_folder, {}));
      }
    // In step, a round is one listing.
    for (const auto& device : devices_) exchange_now(*device, true);
    for (const auto& device : devices_) {
      wire_.operations = 0;
      auto sync_folder = at_sea();
      wire_.operations = 0;
      auto replica = Replica::open(device->disk);
      auto from_afar = over_wire();
      const int before = wire_.operations;
      ASSERT_TRUE(replica->exchange(*from_afar, {}));
      EXPECT_EQ(wire_.operations - before, 1) << "seed " << seed;
    }
  }

  std::uint64_t seed = 0;

 private:
  Result<SyncFolder> at_sea() { return SyncFolder::open(sea_, encrypted_sea_.get()); }
  Result<SyncFolder> over_wire() { return SyncFolder::open(wire_, encrypted_wire_.get()); }

  // A device's disk can be cut off at any operation as well.
  void play(Device& device) {
    FailingStore disk(device.disk);
    if (random_() % 4 == 0) disk.fail_at(static_cast<int>(1 + random_() % 5));
    auto replica = Replica::open(disk);
    ASSERT_TRUE(replica);
    auto history = replica->history();
    ASSERT_TRUE(history);
    const auto save = identity("A9" + std::to_string(random_() % 3) + "P", "x");
    Version next;
    next.save = save;
    const Blob bytes = text_blob(std::to_string(random_()));
    next.content = sha256(bytes.view()).hex();
    // Mostly one plays on from what is newest, at times from something old.
    for (const Lineage* lineage : (*history)->lineages_for(save)) {
      const Version* from = random_() % 4 == 0 ? lineage->versions[random_() % lineage->versions.size()]
                                               : lineage->heads[random_() % lineage->heads.size()];
      next.parents.push_back(from->id);
    }
    next.noted = static_cast<std::int64_t>(random_() % 2000000000);  // clocks are wrong by years
    const auto id = replica->note(next, bytes);
    if (!id) return;
    if (replica->save())
      noted_.emplace(*id, bytes);
    else if (const auto again = Replica::open(device.disk))
      maybe_noted_.emplace(*id, bytes);
    remember_half_done(device);
  }

  // A cut that came late: the version counts after all.
  void remember_half_done(Device& device) {
    auto replica = Replica::open(device.disk);
    ASSERT_TRUE(replica);
    auto history = replica->history();
    ASSERT_TRUE(history);
    for (const auto& [id, bytes] : maybe_noted_)
      if ((*history)->find(id) != nullptr) noted_.emplace(id, bytes);
    maybe_noted_.clear();
  }

  void exchange(Device& device) {
    wire_.operations = 0;
    wire_.fail_at = random_() % 3 == 0 ? static_cast<int>(1 + random_() % 12) : 0;
    wire_.lags = random_() % 4 == 0;
    exchange_now(device, false);
  }

  void exchange_now(Device& device, bool must) {
    FailingStore disk(device.disk);
    if (!must && random_() % 6 == 0) disk.fail_at(static_cast<int>(1 + random_() % 6));
    auto replica = Replica::open(disk);
    ASSERT_TRUE(replica);
    auto sync_folder = over_wire();
    if (!sync_folder) return;
    const auto done = replica->exchange(*sync_folder, {});
    if (must) {
      ASSERT_TRUE(done) << "seed " << seed << ": " << done.error().message;
    }
  }

  // The store loses, halves or garbles an object or a pointer. What only this device had is on its disk.
  void lose_something() {
    if (random_() % 3 != 0) return;
    std::vector<std::string> paths;
    for (const auto& [path, bytes] : sea_.files())
      if (path != "sync-folder.toml") paths.push_back(path);
    if (paths.empty()) return;
    if (random_() % 8 == 0) {
      for (const std::string& each : paths) ASSERT_TRUE(sea_.remove(each));
      return;
    }
    const std::string& path = paths[random_() % paths.size()];
    const Blob bytes = sea_.files().at(path);
    if (random_() % 2 == 0)
      ASSERT_TRUE(sea_.remove(path));
    else
      ASSERT_TRUE(sea_.replace(path, bytes.view().first(bytes.size() / 2)));
  }

  std::mt19937_64 random_;
  MemoryStore sea_;
  std::unique_ptr<Store> encrypted_sea_;
  std::unique_ptr<Store> encrypted_wire_;
  LaggingStore wire_;
  std::vector<std::unique_ptr<Device>> devices_;
  std::map<VersionId, Blob> noted_;
  std::map<VersionId, Blob> maybe_noted_;
};

TEST(Replicas, ALostSyncFolderIsFilledAgainByOneDevice) {
  MemoryStore sea;
  auto sync_folder = SyncFolder::found(sea);
  MemoryStore disk;
  auto first = Replica::join(disk, "first", "sea", sync_folder->id());
  ASSERT_TRUE(first);
  for (int i = 0; i < 5; ++i) {
    Version one = made_version(identity("A9" + std::to_string(i) + "P", ""), std::to_string(i));
    ASSERT_TRUE(first->note(one, text_blob("bytes " + std::to_string(i))));
  }
  ASSERT_TRUE(first->save());
  EXPECT_EQ(first->exchange(*sync_folder, {})->sent, 5U);
  const auto files = sea.files();
  for (const auto& [path, bytes] : files)
    if (path != "sync-folder.toml") {
      ASSERT_TRUE(sea.remove(path));
    }
  EXPECT_TRUE(first->exchange(*sync_folder, {})->rebuilt);
  MemoryStore other_disk;
  auto second = Replica::join(other_disk, "second", "sea", sync_folder->id());
  ASSERT_TRUE(second);
  const auto done = second->exchange(*sync_folder, {});
  EXPECT_EQ(done->received, 5U);
  EXPECT_EQ(done->missing, 0U);
  for (const auto& [id, one] : (*second->history())->versions())
    EXPECT_TRUE(second->bundle(one, &*sync_folder));
}

// Listings come over lines that turn bits: a digit of a counter, a letter of a device's name.
TEST(Replicas, APointerThatItsManifestContradictsHidesNothing) {
  MemoryStore sea;
  auto sync_folder = SyncFolder::found(sea);
  std::array<MemoryStore, 2> disks;
  auto first = Replica::join(disks[0], "first", "sea", sync_folder->id());
  auto second = Replica::join(disks[1], "second", "sea", sync_folder->id());
  ASSERT_TRUE(first && second);
  const auto play = [&](const std::string& bytes) {
    ASSERT_TRUE(first->note(made_version(identity("A99P", ""), bytes), text_blob(bytes)));
    ASSERT_TRUE(first->save());
    ASSERT_TRUE(first->exchange(*sync_folder, {}));
  };
  play("one");
  std::string pointer;
  for (const auto& [path, bytes] : sea.files())
    if (path.starts_with("devices/")) pointer = path;
  const std::size_t counter_at = pointer.find('.') + 1;
  for (const std::size_t at : {counter_at, std::string("devices/").size()}) {
    std::string turned = pointer;
    turned[at] = turned[at] == '3' ? '0' : '3';
    ASSERT_TRUE(sea.replace(turned, text_blob(turned).view()));
    const auto done = second->exchange(*sync_folder, {});
    ASSERT_TRUE(done) << done.error().message;
    EXPECT_GE(done->missing, 1U);
    ASSERT_TRUE(sea.remove(turned));
  }
  // A counter that no device gets to, on its own pointer and with a manifest that agrees: it would be the
  // last one that anybody could make.
  for (Replica* device : {&*first, &*second}) {
    std::string last = pointer;
    last.replace(counter_at, 16, "ffffffffffffffff");
    ASSERT_TRUE(sea.replace(last, text_blob(last).view()));
    ASSERT_TRUE(device->exchange(*sync_folder, {}));
    ASSERT_TRUE(sea.remove(last));
  }
  play("two");
  ASSERT_TRUE(second->exchange(*sync_folder, {}));
  EXPECT_EQ((*second->history())->versions().size(), 2U);
  EXPECT_EQ(second->peers().size(), 1U);
}

TEST(Replicas, NothingIsLostHoweverTheWireIsCut) {
  const char* wanted = std::getenv("BAYSWAP_MODEL_WORLDS");
  const std::uint64_t worlds = wanted != nullptr ? std::strtoull(wanted, nullptr, 10) : replica_worlds;
  for (std::uint64_t seed = 1; seed <= worlds; ++seed) {
    ReplicaWorld world(seed, 2 + seed % 7);
    for (int i = 0; i < 60; ++i) {
      world.step();
      ASSERT_FALSE(HasFatalFailure()) << "seed " << seed << ", step " << i;
    }
    world.settle();
    ASSERT_FALSE(HasFatalFailure()) << "seed " << seed;
  }
}

}  // namespace
}  // namespace bayswap::test
