// Rounds of sync, whole processes: one without news of 20,000 saves against rsync -an of the same trees; the
// first of 2,000 saves (250 MB) against rsync -a; and what a household and a club cost, by simulation.
//   sync_bench           all
//   sync_bench rounds    only the processes
//   sync_bench grow      only the simulation
#include <bayswap/replica.hpp>

#include <cstring>
#include <filesystem>
#include <fstream>
#include <map>
#include <memory>
#include <random>
#include <thread>

#include "processes.hpp"

namespace {

using namespace bayswap::bench;
using namespace bayswap;
namespace fs = std::filesystem;

void save(const fs::path& path, const std::vector<char>& bytes) {
  fs::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary).write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
}

// A cartridge of the gba with a code of its own: small, as only its header is read.
std::vector<char> rom(int number) {
  std::vector<char> bytes(512);
  std::snprintf(bytes.data() + 0xA0, 13, "GAME %05d", number);
  const int a = number / 676 % 26;
  const int b = number / 26 % 26;
  const int c = number % 26;
  bytes[0xAC] = static_cast<char>('A' + number / 17576 % 26);
  bytes[0xAD] = static_cast<char>('A' + a);
  bytes[0xAE] = static_cast<char>('A' + b);
  bytes[0xAF] = static_cast<char>('A' + c);
  bytes[0xB0] = '0';
  bytes[0xB1] = '1';
  bytes[0xB2] = static_cast<char>(0x96);
  int sum = 0;
  for (int i = 0xA0; i < 0xBD; ++i) sum -= bytes[static_cast<std::size_t>(i)];
  bytes[0xBD] = static_cast<char>(sum - 0x19);
  return bytes;
}

struct Place {
  explicit Place(const fs::path& under) : folder(under) {
    fs::remove_all(folder);
    fs::create_directories(folder / "home/bays");
    std::ofstream(folder / "home/bays/bay.toml")
        << "root = \"" << (folder / "bay").string()
        << "\"\n[platform.gba]\npath = \"saves/{rom.stem}.sav\"\nlayout = [\"gba.eeprom\", "
           "\"gba.flash\"]\nroms = \"roms\"\n";
  }
  ~Place() { fs::remove_all(folder); }
  void fill(int games, std::size_t size) const {
    std::mt19937 dice(7);
    for (int i = 0; i < games; ++i) {
      const std::string name = "game " + std::to_string(i);
      save(folder / "bay/roms" / (name + ".gba"), rom(i));
      std::vector<char> bytes(size);
      for (std::size_t at = 0; at < size; at += 4) {
        const auto word = static_cast<std::uint32_t>(dice());
        std::memcpy(bytes.data() + at, &word, 4);
      }
      save(folder / "bay/saves" / (name + ".sav"), bytes);
    }
    run({"find", (folder / "bay/saves").string(), "-type", "f", "-exec", "touch", "-d", "2020-01-01", "{}",
         "+"});
  }
  [[nodiscard]] Words words(const Words& what) const {
    Words all{"env", "BAYSWAP_HOME=" + (folder / "home").string(), BAYSWAP_BINARY, "sync"};
    all.insert(all.end(), what.begin(), what.end());
    return all;
  }
  fs::path folder;
};

// Waits until everything is written. The pause is for ext4: for some seconds after many files were removed,
// it takes longer to create new ones.
void settle() {
  run({"sync"});
  std::this_thread::sleep_for(std::chrono::seconds(6));
}

void rounds(const fs::path& under) {
  {
    const Place place(under / "many");
    place.fill(20000, 512);
    run(place.words({"join", (place.folder / "sea").string(), "--device", "one"}));
    run(place.words({"--yes"}));
    run({"rsync", "-a", (place.folder / "bay/").string(), (place.folder / "copy").string()});
    constexpr int times = 9;
    std::vector<double> ours;
    std::vector<double> theirs;
    for (int i = 0; i < times; ++i) {
      ours.push_back(run(place.words({"--yes"})).seconds);
      theirs.push_back(
          run({"rsync", "-an", (place.folder / "bay/").string(), (place.folder / "copy").string()}).seconds);
    }
    std::printf("round without news, 20,000 saves: %6.0f ms, rsync -an %6.0f ms, ratio %.2f (at most 1.0)\n",
                median(ours) * 1000, median(theirs) * 1000, median(ours) / median(theirs));
  }
  std::vector<double> ours;
  std::vector<double> theirs;
  long peak = 0;
  constexpr int times = 3;
  for (int i = 0; i < times; ++i) {
    const Place place(under / "first");
    place.fill(2000, 128 << 10);
    run(place.words({"join", (place.folder / "sea").string(), "--device", "one"}));
    settle();
    const Cost cost = run(place.words({"--yes"}));
    ours.push_back(cost.seconds);
    peak = std::max(peak, cost.peak_kib);
    settle();
    theirs.push_back(
        run({"rsync", "-a", (place.folder / "bay/saves/").string(), (place.folder / "copy").string()})
            .seconds);
  }
  std::printf(
      "first round, 2,000 saves, 250 MB: %6.2f s, rsync -a %6.2f s, ratio %.2f (at most 2), peak %ld MB "
      "(under 100)\n",
      median(ours), median(theirs), median(ours) / median(theirs), peak / 1024);
}

// Counts what a device asks of a sync folder.
class Counting final : public Store {
 public:
  explicit Counting(Store& below) : below_(&below) {}
  Result<std::optional<FileInfo>> stat(const std::string& path) override {
    return ++requests, below_->stat(path);
  }
  Result<std::vector<FileInfo>> list(const std::string& path) override {
    return ++requests, below_->list(path);
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    ++requests;
    auto got = below_->read_range(path, at, count);
    if (got) down += got->size();
    return got;
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return put(bytes), below_->replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    return put(bytes), below_->create(path, bytes);
  }
  Result<void> add(const std::string& path, ByteView bytes) override {
    return put(bytes), below_->add(path, bytes);
  }
  Result<void> remove(const std::string& path) override { return ++requests, below_->remove(path); }
  bool may_write(const std::string& path) override { return below_->may_write(path); }
  std::string display_path(const std::string& path) const override { return path; }
  std::size_t requests = 0;
  std::size_t up = 0;
  std::size_t down = 0;

 private:
  void put(ByteView bytes) {
    ++requests;
    up += bytes.size();
  }
  Store* below_;
};

// Devices that play in turn, each for itself but for `shared` of a hundred evenings. A save has 32 KiB, of
// which an evening changes a few hundred bytes. Most versions are made before anything is measured, many at a
// time.
void grow(const char* who, std::size_t devices, std::size_t versions, unsigned shared) {
  std::mt19937 dice(3);
  MemoryStore sea;
  Counting wire(sea);
  (void)SyncFolder::found(sea);
  std::vector<std::unique_ptr<MemoryStore>> disks;
  for (std::size_t i = 0; i < devices; ++i) {
    disks.push_back(std::make_unique<MemoryStore>());
    (void)*Replica::join(*disks.back(), "device " + std::to_string(i), "sea", SyncFolder::about(sea)->id);
  }
  std::vector<Byte> bytes(32768);
  for (Byte& b : bytes) b = dice() % 3 == 0 ? static_cast<Byte>(dice()) : Byte{0};
  std::map<std::string, VersionId>* newest =
      nullptr;  // while many are made: of each game, as this device has it
  const auto play = [&](Replica& replica, std::size_t player) {
    for (int b = 0; b < 300; ++b) bytes[dice() % bytes.size()] = static_cast<Byte>(dice());
    Version version;
    version.save.facts.game.platform = Platform::gba;
    const bool is_shared = dice() % 100 < shared;
    version.save.facts.game.code = is_shared
                                       ? "S" + std::to_string(100 + dice() % 20)
                                       : "G" + std::to_string(100 + player) + std::to_string(dice() % 20);
    version.content = sha256(ByteView(bytes)).hex();
    if (newest != nullptr) {
      if (const auto at = newest->find(version.save.facts.game.code); at != newest->end())
        version.parents = {at->second};
    } else {
      for (const Lineage* lineage : (*replica.history())->lineages_for(version.save))
        for (const Version* head : lineage->heads) version.parents.push_back(head->id);
    }
    const std::string code = version.save.facts.game.code;
    const VersionId id = *replica.note(std::move(version), Blob::copy_of(bytes));
    if (newest != nullptr) (*newest)[code] = id;
  };
  constexpr std::size_t measured = 200;
  {
    auto replica = Replica::open(*disks.front());
    std::map<std::string, VersionId> own;
    newest = &own;
    for (std::size_t i = 0; i < versions - measured; ++i) play(*replica, dice() % devices);
    newest = nullptr;
    (void)replica->save();
  }
  for (const auto& disk : disks) {
    auto replica = Replica::open(*disk);
    auto sync_folder = SyncFolder::open(wire);
    (void)replica->exchange(*sync_folder, {});
  }
  std::size_t requests = 0;
  std::size_t up = 0;
  std::size_t down = 0;
  std::size_t most = 0;
  double seconds = 0;
  for (std::size_t i = 0; i < measured; ++i) {
    const std::size_t player = dice() % devices;
    auto sync_folder = SyncFolder::open(wire);
    wire.requests = wire.up = wire.down = 0;
    const auto start = std::chrono::steady_clock::now();
    auto replica = Replica::open(*disks[player]);
    (void)replica->exchange(*sync_folder, {});
    play(*replica, player);
    (void)replica->save();
    (void)replica->exchange(*sync_folder, {});
    seconds += std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    requests += wire.requests;
    most = std::max(most, wire.requests);
    up += wire.up;
    down += wire.down;
  }
  std::size_t stored = 0;
  std::size_t objects = 0;
  for (const auto& [path, file] : sea.files()) {
    stored += file.size();
    ++objects;
  }
  std::size_t own = 0;
  for (const auto& [path, file] : disks.front()->files()) own += file.size();
  std::printf(
      "%s: %zu devices, %zu versions: an evening costs %.1f requests (at most %zu), %.1f KB up, %.1f KB "
      "down, %.0f ms of "
      "work; the sync folder has %zu objects, %.0f MB; a device %.0f MB\n",
      who, devices, versions, static_cast<double>(requests) / measured, most,
      static_cast<double>(up) / measured / 1024, static_cast<double>(down) / measured / 1024,
      seconds / measured * 1000, objects, static_cast<double>(stored) / 1048576,
      static_cast<double>(own) / 1048576);
  std::fflush(stdout);
}

}  // namespace

int main(int count, char** words) {
  const std::string what = count > 1 ? words[1] : "";
  const fs::path under = fs::temp_directory_path() / "bayswap-sync-bench";
  if (what != "grow") rounds(under);
  fs::remove_all(under);
  if (what == "rounds") return 0;
  grow("household", 5, 3000, 60);
  const std::size_t club = count > 2 ? std::strtoul(words[2], nullptr, 10) : 50000;
  grow("club", 200, club, 10);
}
