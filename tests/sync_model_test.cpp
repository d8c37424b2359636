// Random evenings of several devices, whose wire, clock and power fail: nothing is lost, and nothing decided
// by itself.
#include <map>
#include <random>
#include <set>

#include "support/sync_devices.hpp"

namespace bayswap::test {
namespace {

constexpr std::size_t games = 3;
#ifdef BAYSWAP_SANITIZED
constexpr std::uint64_t default_worlds = 3;
#else
constexpr std::uint64_t default_worlds = 50;
#endif

Blob game_rom(std::size_t game) {
  return n64_rom({"GAME " + std::to_string(game), "N" + std::to_string(70 + game) + "P"});
}

std::string digest_of_sram(const Blob& bytes) {
  Content content;
  content.kind = Content::Kind::chips;
  content.chips.platform = Platform::n64;
  content.chips.parts.push_back({{PartKind::sram, 0}, bytes, true});
  return digest_of(content).hex();
}

// One bay: bare SRAM beside the ROMs, or combined files in a folder of their own.
struct ModelBay {
  TestBay* bay = nullptr;
  bool combined = false;
  std::map<std::size_t, std::string> stems;  // of each game's ROM

  [[nodiscard]] std::string path(std::size_t game) const {
    return combined ? "saves/" + stems.at(game) + ".srm" : stems.at(game) + ".sra";
  }
  [[nodiscard]] std::string rom_path(std::size_t game) const {
    return (combined ? "roms/" : "") + stems.at(game) + ".z64";
  }
  [[nodiscard]] std::optional<Blob> save(std::size_t game) const {
    const auto file = bay->files.read_if_there(path(game));
    if (!file || !*file) return std::nullopt;
    if (!combined) return **file;
    const auto save = unpack(**catalog().find("n64.combined"), **file);
    const Part* part = save ? save->find({PartKind::sram, 0}) : nullptr;
    return part != nullptr ? std::optional(part->bytes) : std::nullopt;
  }
  void play(std::size_t game, const Blob& sram) const {
    Blob file = sram;
    if (combined) {
      Save save;
      save.platform = Platform::n64;
      save.parts.push_back({{PartKind::sram, 0}, sram, true});
      file = *pack(**catalog().find("n64.combined"), save);
    }
    ASSERT_TRUE(bay->files.replace(path(game), file.view()));
  }
};

class Evenings {
 public:
  explicit Evenings(std::uint64_t seed) : seed_(seed), random_(seed) {
    const std::size_t count = 2 + seed % 4;
    std::optional<Keyring> keys;
    if (seed / 4 % 2 == 1) keys = Keyring::make();
    for (std::size_t i = 0; i < count; ++i) {
      devices_.push_back(std::make_unique<SyncDevice>("device " + std::to_string(i), sea_, keys));
      add_bay(i, "bay" + std::to_string(i), random_() % 2 == 0);
      if (random_() % 3 == 0) add_bay(i, "more" + std::to_string(i), random_() % 2 == 0);
    }
  }

  void step() {
    const std::size_t device = random_() % devices_.size();
    ModelBay& bay = bays_[device][random_() % bays_[device].size()];
    const std::size_t game = random_() % games;
    switch (random_() % 15) {
      case 0:
      case 1:
      case 2:
        return play(bay, game, noise(32768, static_cast<std::uint32_t>(random_())));
      case 3:
      case 4:
        if (!bay.save(game)) return;
        lose(bay, game, random_() % 2 == 0);
        if (random_() % 2 == 0) sync(device, {Loss::deleted, Loss::empty});
        return;
      case 5:
        if (random_() % 2 == 0 && bay.save(game))
          play(bay, game, noise(32768, static_cast<std::uint32_t>(random_())));
        return rename(bay, game);
      case 12:
        return random_() % 2 == 0 ? put_back(device, bay, game) : delete_and_return(device, bay, game);
      case 13:
        return forget_and_return(device, random_() % devices_.size(), game);
      case 6:
        bay.bay->busy = bay.bay->busy ? std::nullopt : std::optional<std::string>("it runs");
        return;
      case 7:
        bay.bay->away = !bay.bay->away;
        return;
      case 8:
        return lose_something();
      default:
        return sync(device);
    }
  }

  void settle() {
    for (auto& bays : bays_)
      for (ModelBay& bay : bays) {
        bay.bay->busy.reset();
        bay.bay->away = false;
      }
    SyncRequest accepting;
    accepting.accept = {Loss::deleted, Loss::empty};
    accepting.accept_many = true;
    // First all is known everywhere, then each conflict is decided once.
    for (int round = 0; round < 3; ++round)
      for (const auto& device : devices_) device->sync(accepting);
    for (int round = 0; round < 8; ++round) {
      for (const SyncConflict& conflict : std::vector<SyncConflict>(devices_[0]->conflicts)) {
        const Version& kept = conflict.sides[random_() % conflict.sides.size()].version;
        devices_[0]->keep(kept);
      }
      for (const auto& device : devices_) device->sync(accepting);
    }
    for (std::size_t i = 0; i < devices_.size(); ++i)
      ASSERT_TRUE(devices_[i]->conflicts.empty()) << "seed " << seed_ << ", device " << i;
    for (std::size_t game = 0; game < games; ++game) {
      std::set<std::string> contents;
      for (const auto& bays : bays_)
        for (const ModelBay& bay : bays) {
          const auto save = bay.save(game);
          contents.insert(save && !is_uniform(save->view()) ? digest_of_sram(*save) : "none");
        }
      ASSERT_EQ(contents.size(), 1U) << "seed " << seed_ << ": bays differ in game " << game << "\n"
                                     << in_words(game);
    }
    std::set<std::string> known;
    if (!is_pruned_) ever_.clear();
    devices_[0]->tell(ever_);
    for (const auto& [id, version] : ever_) known.insert(version.content);
    for (const std::string& content : at_rest_)
      ASSERT_TRUE(known.contains(content)) << "seed " << seed_ << ": a version is lost";
  }

 private:
  // An old copy, by hand: by who has deleted the save, or wants it as it was.
  void put_back(std::size_t device, ModelBay& bay, std::size_t game) {
    if (old_copies_[game].empty() || (bay.save(game) && random_() % 4 != 0)) return;
    const bool is_deleted =
        !bay.save(game) && devices_[device]->knows_deletion("N" + std::to_string(70 + game) + "P");
    play(bay, game, old_copies_[game][random_() % old_copies_[game].size()]);
    came_back_.erase({bay.bay, game});
    if (is_deleted) came_back_.insert({bay.bay, game});
  }

  // A device is forgotten while it is behind, what it has is pruned, and then it is back and plays on.
  void forget_and_return(std::size_t device, std::size_t other, std::size_t game) {
    if (device == other) return;
    is_pruned_ = true;
    sync(other, {}, true);
    for (int evening = 0; evening < 2; ++evening) {
      play(bays_[device].front(), game, noise(32768, static_cast<std::uint32_t>(random_())));
      sync(device, {}, true);
    }
    for (std::size_t i = 0; i < devices_.size(); ++i)
      if (i != other) sync(i, {}, true);
    devices_[device]->forget_and_prune(devices_[other]->name(), 1);
    if (random_() % 2 == 0) sync(other, {}, true);
    ModelBay& bay = bays_[other].front();
    if (bay.save(game)) play(bay, game, noise(32768, static_cast<std::uint32_t>(random_())));
    sync(other, {}, true);
    sync(device, {}, true);
  }

  // Deleted, and put back by who knows of it.
  void delete_and_return(std::size_t device, ModelBay& bay, std::size_t game) {
    if (!bay.save(game)) return;
    sync(device, {}, true);
    lose(bay, game, false);
    sync(device, {Loss::deleted}, true);
    if (!bay.save(game)) put_back(device, bay, game);
    sync(device, {}, true);
    sync(device, {}, true);
  }

  void lose(ModelBay& bay, std::size_t game, bool as_blank) {
    tell(game, "lost in " + bay.bay->bay.name + (as_blank ? ", blank" : ""));
    fresh_.erase({bay.bay, game});
    came_from_[node_of({}, game)].insert(node_of(bay.save(game), game));
    std::erase_if(came_back_, [&](const auto& one) { return one.second == game; });
    if (as_blank)
      bay.play(game, Blob::filled(32768, 0));
    else
      (void)bay.bay->files.remove(bay.path(game));
  }

  [[nodiscard]] std::ptrdiff_t versions_with(const std::string& content) const {
    return std::ranges::count_if(ever_, [&](const auto& one) { return one.second.content == content; });
  }

  [[nodiscard]] bool others_had(const std::string& content, const SyncDevice& device) const {
    return std::ranges::any_of(ever_, [&](const auto& one) {
      return one.second.content == content && one.second.device_name != device.name();
    });
  }

  void play(ModelBay& bay, std::size_t game, const Blob& sram) {
    tell(game, "played in " + bay.bay->bay.name + ": " + node_of(bay.save(game), game).substr(0, 9) + " -> " +
                   digest_of_sram(sram).substr(0, 8));
    came_from_[digest_of_sram(sram)].insert(node_of(bay.save(game), game));
    const bool was_empty = !bay.save(game);
    bay.play(game, sram);
    // The very bytes that were there when the device last looked are no news to it.
    fresh_.erase({bay.bay, game});
    if (!looked_at_[{bay.bay, game}].contains(digest_of_sram(sram)))
      fresh_[{bay.bay, game}] = {versions_with(digest_of_sram(sram)), was_empty};
    old_copies_[game].push_back(sram);
  }

  // What is there now, as a node of what came from what.
  static std::string node_of(const std::optional<Blob>& save, std::size_t game) {
    return save && !is_uniform(save->view()) ? digest_of_sram(*save) : "deleted " + std::to_string(game);
  }
  // By what players did, whatever the devices make of it.
  [[nodiscard]] bool follows(const std::string& later, const std::string& earlier) const {
    std::set<std::string> seen;
    std::vector<std::string> open{later};
    while (!open.empty()) {
      const std::string at = open.back();
      open.pop_back();
      if (at == earlier) return true;
      const auto found = came_from_.find(at);
      if (found == came_from_.end() || !seen.insert(at).second) continue;
      open.insert(open.end(), found->second.begin(), found->second.end());
    }
    return false;
  }

  void tell(std::size_t game, const std::string& line) { story_.emplace_back(game, line); }
  std::string in_words(std::size_t game) {
    std::string all;
    for (const auto& [of, line] : story_)
      if (of == game || of == games) all += line + "\n";
    for (std::size_t i = 0; i < devices_.size(); ++i) {
      for (const ModelBay& bay : bays_[i]) {
        const auto save = bay.save(game);
        all += bay.bay->bay.name + (save ? " " + digest_of_sram(*save).substr(0, 8) : " none") + "\n";
      }
      for (const SyncRow& row : devices_[i]->last_rows)
        all +=
            "  " + std::string(to_text(row.outcome)) + " " + row.bay + " " + row.path + ": " + row.why + "\n";
    }
    return all + devices_[0]->history_in_words();
  }

  void add_bay(std::size_t device, const std::string& name, bool combined) {
    if (bays_.size() <= device) bays_.resize(device + 1);
    ModelBay bay;
    bay.combined = combined;
    bay.bay = &devices_[device]->bay(
        name,
        combined
            ? "[platform.n64]\npath = \"saves/{rom.stem}.srm\"\nlayout = \"n64.combined\"\nroms = \"roms\"\n"
            : "[platform.n64]\npath = \"{rom.stem}.sra\"\nlayout = \"n64.sram\"\nroms = \".\"\n");
    for (std::size_t game = 0; game < games; ++game) {
      bay.stems[game] = name + " " + std::to_string(game);
      EXPECT_TRUE(bay.bay->files.replace(bay.rom_path(game), game_rom(game).view()));
    }
    bays_[device].push_back(bay);
  }

  void rename(ModelBay& bay, std::size_t game) {
    const auto file = bay.bay->files.read_if_there(bay.path(game));
    (void)bay.bay->files.remove(bay.rom_path(game));
    if (file && *file) (void)bay.bay->files.remove(bay.path(game));
    bay.stems[game] += "x";
    tell(game, "renamed in " + bay.bay->bay.name);
    ASSERT_TRUE(bay.bay->files.replace(bay.rom_path(game), game_rom(game).view()));
    if (file && *file) {
      ASSERT_TRUE(bay.bay->files.replace(bay.path(game), (*file)->view()));
    }
  }

  void lose_something() {
    std::vector<std::string> paths;
    for (const auto& [path, bytes] : sea_.files())
      if (path != "sync-folder.toml") paths.push_back(path);
    if (paths.empty()) return;
    ASSERT_TRUE(sea_.remove(paths[random_() % paths.size()]));
  }

  // `calm`: the line and the power hold.
  void sync(std::size_t at, const std::set<Loss>& accept = {}, bool calm = false) {
    SyncDevice& device = *devices_[at];
    std::map<std::pair<const TestBay*, std::size_t>, std::string> before;
    for (const ModelBay& bay : bays_[at])
      for (std::size_t game = 0; game < games; ++game)
        if (const auto save = bay.save(game); save && !is_uniform(save->view()))
          before[{bay.bay, game}] = digest_of_sram(*save);
    SyncRequest request;
    request.now = static_cast<std::int64_t>(random_() % 4000000000U);
    request.accept = accept;
    if (!calm && random_() % 8 == 0) request.accept = {Loss::deleted};
    const bool is_cut = !calm && random_() % 4 == 0;
    if (is_cut) device.power.left = static_cast<int>(1 + random_() % 12);
    const bool is_offline = !calm && random_() % 5 == 0;
    device.sync(request, !is_offline);
    const bool was_cut = device.power.left == 0;
    device.power.left = -1;
    device.tell(ever_);

    tell(games, "round of " + device.name() +
                    (was_cut      ? ", cut"
                     : is_offline ? ", alone"
                                  : "") +
                    (accept.empty() ? "" : ", accepts"));
    for (const ModelBay& bay : bays_[at])
      for (std::size_t game = 0; game < games; ++game) {
        std::set<std::string>& looked_at = looked_at_[{bay.bay, game}];
        // What is asked about is still what was there.
        if (!was_cut && !bay.bay->away && node_of(bay.save(game), game) != node_of({}, game))
          looked_at.clear();
        looked_at.insert(node_of(bay.save(game), game));
        const auto was = before.find({bay.bay, game});
        if (was == before.end()) continue;
        if (was_cut) looked_at.insert(was->second);
        const auto save = bay.save(game);
        const std::string now = node_of(save, game);
        if (!was_cut && !bay.bay->away && device.stopped_by.empty() && !device.waits(bay.bay->bay.name))
          at_rest_.insert(was->second);
        const bool is_looked_at = !was_cut && !bay.bay->away && !bay.bay->busy;
        const bool was_fresh = fresh_.contains({bay.bay, game});
        // A known version where there was no save is that version: a newer one takes its place, as on a new
        // device with old saves. That it was deleted elsewhere removes nothing.
        const bool is_old_copy =
            was_fresh && fresh_.at({bay.bay, game}).is_first &&
            (fresh_.at({bay.bay, game}).versions > 0 || others_had(was->second, device)) &&
            now != node_of({}, game);
        // A round that was cut off may have noted it all the same: others may have gone on from it since.
        if (is_looked_at || (was_fresh && versions_with(was->second) > fresh_.at({bay.bay, game}).versions))
          fresh_.erase({bay.bay, game});
        if (now == was->second) continue;
        tell(game, "  " + bay.bay->bay.name + ": " + was->second.substr(0, 8) + " -> " + now.substr(0, 9));
        // What was played here since the last round is the newest here, or one side of a conflict.
        ASSERT_FALSE(was_fresh && is_looked_at && !is_old_copy)
            << "seed " << seed_ << ": what was just played, or put there by hand, was replaced in "
            << bay.bay->bay.name << ": " << was->second.substr(0, 8) << " by " << now.substr(0, 8) << "\n"
            << in_words(game);
        ASSERT_FALSE(bay.bay->busy) << "seed " << seed_ << ": a busy bay was written";
        ASSERT_FALSE(bay.bay->away) << "seed " << seed_;
        ASSERT_FALSE(came_back_.contains({bay.bay, game}) && now == node_of({}, game))
            << "seed " << seed_ << ": what was put back after a deletion was removed again\n"
            << in_words(game);
        ASSERT_TRUE(follows(now, was->second))
            << "seed " << seed_ << ": a save was replaced by one that did not come from it\n"
            << in_words(game);
      }
  }

  std::uint64_t seed_;
  std::mt19937_64 random_;
  MemoryStore sea_;
  std::vector<std::unique_ptr<SyncDevice>> devices_;
  std::vector<std::vector<ModelBay>> bays_;
  std::set<std::string> at_rest_;
  std::map<VersionId, Version> ever_;  // all versions that any device ever knew
  std::map<std::string, std::set<std::string>> came_from_;
  // Played, or put there, since the last round.
  struct Fresh {
    std::ptrdiff_t versions = 0;  // that had those bytes before
    bool is_first = false;        // there was no save
  };
  std::map<std::pair<const TestBay*, std::size_t>, Fresh> fresh_;
  // At the last whole look, and at those that were cut since.
  std::map<std::pair<const TestBay*, std::size_t>, std::set<std::string>> looked_at_;
  std::set<std::pair<const TestBay*, std::size_t>> came_back_;  // put there by who knew of its deletion
  std::map<std::size_t, std::vector<Blob>> old_copies_;
  std::vector<std::pair<std::size_t, std::string>> story_;
  bool is_pruned_ = false;
};

TEST(SyncModel, NothingIsLostAndNothingDecidedByItself) {
  // BAYSWAP_MODEL_WORLDS="COUNT" or "FIRST-LAST".
  const char* wanted = std::getenv("BAYSWAP_MODEL_WORLDS");
  const std::string range = wanted != nullptr ? wanted : std::to_string(default_worlds);
  const std::size_t dash = range.find('-');
  const std::uint64_t first = dash == std::string::npos ? 1 : std::stoull(range);
  const std::uint64_t last = std::stoull(dash == std::string::npos ? range : range.substr(dash + 1));
  for (std::uint64_t seed = first; seed <= last; ++seed) {
    Evenings evenings(seed);
    for (int i = 0; i < 60; ++i) {
      evenings.step();
      ASSERT_FALSE(HasFailure()) << "seed " << seed << ", step " << i;
    }
    evenings.settle();
    ASSERT_FALSE(HasFailure()) << "seed " << seed;
  }
}

}  // namespace
}  // namespace bayswap::test
