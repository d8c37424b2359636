// Devices with bays in memory, and rounds as the command makes them.
#pragma once

#include <gtest/gtest.h>
#include <bayswap/keyring.hpp>
#include <bayswap/sync.hpp>

#include <algorithm>
#include <memory>

#include "support/bays.hpp"

namespace bayswap::test {

// Files with times: each write is a second later.
class DatedStore final : public Store {
 public:
  Result<std::optional<FileInfo>> stat(const std::string& path) override {
    auto info = files_.stat(path);
    if (info && *info) date(path, **info);
    return info;
  }
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    auto entries = files_.list(folder);
    if (entries)
      for (FileInfo& info : *entries)
        date(folder.empty() || folder == "." ? info.name : folder + "/" + info.name, info);
    return entries;
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return files_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    times_[path] = ++clock_;
    return files_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    times_[path] = ++clock_;
    return files_.create(path, bytes);
  }
  Result<void> remove(const std::string& path) override { return files_.remove(path); }
  bool may_write(const std::string&) override { return true; }
  std::string display_path(const std::string& path) const override { return path; }
  [[nodiscard]] const std::map<std::string, Blob>& files() const { return files_.files(); }

 private:
  void date(const std::string& path, FileInfo& info) const {
    if (const auto at = times_.find(path); at != times_.end()) info.modified = at->second;
  }
  MemoryStore files_;
  std::map<std::string, std::int64_t> times_;
  std::int64_t clock_ = 1000000000;
};

// Everything that a device writes to is gone at once: the process was killed.
struct Power {
  int left = -1;  // operations; negative: for ever
  [[nodiscard]] bool cut() { return left == 0 || (left > 0 && --left == 0); }
};
class PoweredStore final : public Store {
 public:
  PoweredStore(Store& below, Power& power) : below_(below), power_(power) {}
  Result<std::optional<FileInfo>> stat(const std::string& path) override { return below_.stat(path); }
  Result<std::vector<FileInfo>> list(const std::string& folder) override { return below_.list(folder); }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return power_.cut() ? gone() : below_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    return power_.cut() ? gone() : below_.create(path, bytes);
  }
  // An object can be there in part.
  Result<void> add(const std::string& path, ByteView bytes) override {
    if (!power_.cut()) return below_.create(path, bytes);
    if (const auto there = below_.stat(path); there && !*there)
      (void)below_.create(path, bytes.first(bytes.size() / 2));
    return gone();
  }
  Result<void> remove(const std::string& path) override {
    return power_.cut() ? gone() : below_.remove(path);
  }
  bool may_write(const std::string&) override { return true; }
  std::string display_path(const std::string& path) const override { return path; }

 private:
  static Result<void> gone() { return fail(ErrorCode::io, "the power is gone", "this is a test"); }
  Store& below_;
  Power& power_;
};

struct TestBay {
  TestBay(const std::string& name, const std::string& toml)
      : bay(*parse_bay("root = \"/" + name + "\"\n" + toml, name, name + ".toml", "/")) {}
  Bay bay;
  DatedStore files;
  bool away = false;
  std::optional<std::string> busy;
};

inline const Catalog& catalog() {
  static const Catalog all;
  return all;
}

class SyncDevice {
 public:
  // `keys`: of an encrypted sync folder.
  SyncDevice(std::string name, Store& sea, std::optional<Keyring> keys = {})
      : name_(std::move(name)), sea_(sea), keys_(std::move(keys)) {
    const auto sync_folder = SyncFolder::make(sea, keys_.has_value());
    EXPECT_TRUE(sync_folder && Replica::join(own_, name_, "sea", sync_folder->id));
  }
  TestBay& bay(std::size_t index) { return *bays_.at(index); }
  TestBay& bay(const std::string& name, const std::string& toml) {
    bays_.push_back(std::make_unique<TestBay>(name, toml));
    return *bays_.back();
  }

  // A round as the command makes it. Returns its rows.
  std::vector<SyncRow> sync(SyncRequest request = {}, bool online = true) {
    PoweredStore own(own_, power);
    PoweredStore sea(sea_, power);
    PoweredStore book(book_, power);
    std::vector<std::unique_ptr<PoweredStore>> stores;
    const auto well = [&](bool is_well) {
      const bool was_cut = power.left == 0;
      EXPECT_TRUE(is_well || was_cut);
      return is_well;
    };
    auto replica = Replica::open(own);
    EXPECT_TRUE(replica);
    auto logbook = Logbook::open(book, ":memory:", [] { return 1000000000; });
    EXPECT_TRUE(logbook);
    request.bay_in_use = [&](const Bay& bay) -> std::optional<std::string> {
      for (const auto& one : bays_)
        if (one->bay.name == bay.name) return one->busy;
      return std::nullopt;
    };
    auto round = SyncRound::begin(*replica, own, std::move(request));
    EXPECT_TRUE(round);
    for (const auto& one : bays_) {
      if (one->away) continue;
      stores.push_back(std::make_unique<PoweredStore>(one->files, power));
      if (!well(round->look(catalog(), {&one->bay, stores.back().get(), {}}, &*logbook).has_value()))
        return round->rows();
    }
    const auto encrypted = encrypted_over(sea);
    std::optional<SyncFolder> sync_folder;
    if (online) sync_folder = *SyncFolder::open(sea, encrypted.get());
    if (!well(round->exchange(online ? &*sync_folder : nullptr).has_value())) return round->rows();
    for (const auto& one : bays_) {
      const auto plans = round->plan(one->bay.name, online ? &*sync_folder : nullptr, &*logbook);
      PlansRunner run_some;
      if (after_writing)
        run_some = [&](std::span<const Plan* const> group, std::optional<std::int64_t> batch) {
          auto ids = run_together(group, one->files, *logbook, batch);
          after_writing();
          return ids;
        };
      if (!well(plans.has_value()) ||
          !well(round->run(one->bay.name, *plans, *logbook, run_some).has_value()))
        return round->rows();
    }
    stopped_by = round->stopped_by();
    if (auto all = round->conflicts(catalog(), online ? &*sync_folder : nullptr)) conflicts = *all;
    last_rows = round->rows();
    return round->rows();
  }
  std::function<void()> after_writing;  // what a program does before the save is read back
  VersionId keep(const Version& version) {
    auto replica = Replica::open(own_);
    const Lineage* lineage = (*replica->history())->lineage_of(version.id);
    const auto id = resolve_conflict(*replica, *lineage, version, 7);
    EXPECT_TRUE(id && replica->save());
    return *id;
  }
  // As the commands do it: what others know is asked first.
  void forget_and_prune(const std::string& device, std::size_t keep) {
    auto replica = Replica::open(own_);
    const auto encrypted = encrypted_over(sea_);
    auto sync_folder = SyncFolder::open(sea_, encrypted.get());
    ASSERT_TRUE(replica && sync_folder && replica->exchange(*sync_folder, {}));
    (void)replica->forget(*sync_folder, device);
    (void)replica->prune(*sync_folder, keep);  // a sync folder that has lost something is left as it is
  }
  // As it was once done: what came from the versions that went is known to nobody.
  void prune_without_a_trace() {
    auto replica = Replica::open(own_);
    const std::vector<Lineage> lineages = (*replica->history())->lineages();
    std::set<VersionId> gone;
    for (const Lineage& lineage : lineages)
      for (const Version* version : lineage.versions)
        if (std::ranges::find(lineage.heads, version) == lineage.heads.end()) gone.insert(version->id);
    for (const VersionId& id : gone) ASSERT_TRUE(replica->prune(id));
    ASSERT_TRUE(replica->save());
  }
  /// Whether all that it knows of the game is that it was deleted.
  [[nodiscard]] bool knows_deletion(const std::string& code) {
    auto replica = Replica::open(own_);
    for (const Lineage& lineage : (*replica->history())->lineages())
      if (lineage.versions.front()->save.facts.game.code == code)
        return std::ranges::all_of(lineage.heads, [](const Version* head) { return head->is_deletion(); });
    return false;
  }
  /// All that it knows now is added to what is known for ever.
  void tell(std::map<VersionId, Version>& all) {
    auto replica = Replica::open(own_);
    for (const auto& [id, version] : (*replica->history())->versions()) all.emplace(id, version);
  }
  [[nodiscard]] const std::string& name() const { return name_; }
  [[nodiscard]] std::size_t versions() {
    auto replica = Replica::open(own_);
    return (*replica->history())->versions().size();
  }

  [[nodiscard]] std::string history_in_words() {
    auto replica = Replica::open(own_);
    std::string all;
    for (const Lineage& lineage : (*replica->history())->lineages()) {
      all += "lineage\n";
      for (const Version* version : lineage.versions) {
        all += "  " + version->id.hex().substr(0, 6) + " " + version->content.substr(0, 8) + " of " +
               version->device_name + " " + version->save.facts.rom_path.value_or("") + " <-";
        for (const VersionId& parent : version->parents) all += " " + parent.hex().substr(0, 6);
        all += "\n";
      }
    }
    return all;
  }
  [[nodiscard]] bool waits(const std::string& bay) const {
    return std::ranges::any_of(last_rows, [&](const SyncRow& row) {
      return row.bay == bay &&
             (row.outcome == SyncRow::Outcome::waits || row.outcome == SyncRow::Outcome::asked ||
              row.outcome == SyncRow::Outcome::failed);
    });
  }

  std::vector<SyncRow> last_rows;
  std::vector<SyncConflict> conflicts;
  std::string stopped_by;
  Power power;

 private:
  [[nodiscard]] std::unique_ptr<Store> encrypted_over(Store& sea) const {
    return keys_ ? encrypted_store(sea, *keys_) : nullptr;
  }
  std::string name_;
  Store& sea_;
  std::optional<Keyring> keys_;
  MemoryStore own_;
  MemoryStore book_;
  std::vector<std::unique_ptr<TestBay>> bays_;
};

}  // namespace bayswap::test
