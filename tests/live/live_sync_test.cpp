// What a program saved in one live core is read by the program in another after a round of sync: between two
// cores that keep a chip in other forms and name it otherwise, and through a cartridge in the simulated
// reader.
#include <cstdlib>

#include "live/core.hpp"
#include "live/programs.hpp"
#include "support/player.hpp"
#include "support/sim_cart.hpp"

namespace bayswap::test {
namespace {

constexpr int sync_frames = 30;

class LiveSync : public Player {
 protected:
  static std::optional<std::string> core(const std::string& name) {
    auto found = Core::find(name);
    EXPECT_TRUE(found || std::getenv("BAYSWAP_NEEDS_CORES") == nullptr) << "no " << name;
    return found;
  }
  static Blob played(const std::string& core, const Blob& rom, const std::string& name,
                     const Blob* save = nullptr) {
    Core game(core, rom, name);
    EXPECT_TRUE(game.is_running()) << core;
    if (!game.is_running()) return {};
    EXPECT_TRUE(save == nullptr || game.load(CoreMemory::battery, *save));
    game.run(sync_frames);
    return game.memory(CoreMemory::battery);
  }
  // A byte of the chip, in whatever form a core has it.
  static Byte mark_of(const Blob& file) {
    static const Catalog catalog;
    const std::string form = file.size() == 256 ? "gb.nibbles-packed" : "gb.raw";
    const auto save = open_save(layout(catalog, form), file);
    const Part* part = save ? save->save.find({PartKind::sram, 0}) : nullptr;
    return part != nullptr && part->bytes.size() > mark_at ? part->bytes.view()[mark_at] & 0x0f : Byte{0xff};
  }
  // A device with one bay.
  void device(const std::string& name, const std::string& platform, const std::string& rule) {
    fs::create_directories(folder_ / name);
    put(name + "-home/bays/" + name + ".toml",
        text_blob("root = \"" + (folder_ / name) + "\"\n[platform." + platform + "]\n" + rule));
    home_ = name + "-home";
    ASSERT_EQ(bayswap({"sync", "join", folder_ / "sea", "--device", name}).code, 0);
  }
  Outcome round(const std::string& name, std::vector<std::string> bays = {}) {
    home_ = name + "-home";
    bays.insert(bays.begin(), "sync");
    bays.emplace_back("--yes");
    return bayswap(bays);
  }
};

TEST_F(LiveSync, TwoCoresThatKeepHalfBytesInTwoForms) {
  const auto a = core("gambatte");
  const auto b = core("mgba");
  if (!a || !b) GTEST_SKIP();
  const Blob rom = gb_program(0x06, 0x31);
  const Blob own = played(*a, rom, "log.gb");
  const Blob others = played(*b, gb_program(0x06, 0x52), "log.gb");
  ASSERT_NE(own.size(), 0U);
  ASSERT_EQ(mark_of(own), wrote_it);
  device("box", "gb",
         "path = \"saves/{rom.stem}.srm\"\nlayout = [\"gb.nibbles\", \"gb.nibbles-8k\", "
         "\"gb.nibbles-packed\"]\nroms = \"roms\"\n");
  device("pocket", "gb",
         "path = \"{rom.folder}/{rom.stem}.sav\"\nlayout = [\"gb.nibbles-packed\", \"gb.nibbles\", "
         "\"gb.nibbles-8k\"]\nroms = \".\"\n");
  put("box/roms/Tide Log (World).gb", rom);
  put("pocket/tide log.gb", rom);
  put("box/saves/Tide Log (World).srm", own);
  ASSERT_EQ(round("box").code, 0);
  const Outcome here = round("pocket");
  ASSERT_EQ(here.code, 0) << here.out << here.err;
  const Blob brought = read("pocket/tide log.sav");
  // The other core takes it as its own, whatever it had before, and the program sees what it wrote.
  ASSERT_EQ(brought.size(), others.size());
  EXPECT_EQ(mark_of(played(*b, gb_program(0x06, 0x52), "log.gb", &brought)), wrote_it)
      << "another program's is not its own";
  const Blob after = played(*b, rom, "log.gb", &brought);
  ASSERT_EQ(mark_of(after), saw_it);
  // What it wrote now goes back, in the first one's form.
  put("pocket/tide log.sav", after, 1100000000);
  ASSERT_EQ(round("pocket").code, 0);
  ASSERT_EQ(round("box").code, 0);
  const Blob back = read("box/saves/Tide Log (World).srm");
  EXPECT_EQ(back.size(), own.size());
  EXPECT_EQ(mark_of(back), saw_it);
  EXPECT_EQ(mark_of(played(*a, rom, "log.gb", &back)), saw_it);
}

TEST_F(LiveSync, ThroughACartridgeInTheReader) {
  const auto a = core("gambatte");
  const auto b = core("mgba");
  if (!a || !b) GTEST_SKIP();
  const Blob rom = gb_program(0x1b, 0x31);
  const Blob own = played(*a, rom, "log.gb");
  ASSERT_EQ(mark_of(own), wrote_it);
  device("box", "gb", "path = \"saves/{rom.stem}.srm\"\nlayout = \"gb.raw\"\nroms = \"roms\"\n");
  put("box/roms/Tide Log (World).gb", rom);
  put("box/saves/Tide Log (World).srm", own);
  // The same game's cartridge, with a fresh battery.
  const SimCart cart({"gb", "sram", own.size(), PartKind::sram}, "",
                     Blob::copy_of(std::vector<Byte>(own.size(), 0xff)));
  ASSERT_TRUE(LocalStore().replace(cart.folder / "rom", rom.view()));
  const SimReader reader({cart.folder.path(), "--hurry", "100"});
  home_ = "box-home";
  ASSERT_EQ(bayswap({"bay", "add", "port", "--like", "cartridge", "--root", "cart:" + reader.path()}).code,
            0);
  const Outcome there = round("box", {"box", "port"});
  ASSERT_EQ(there.code, 0) << there.out << there.err;
  EXPECT_EQ(mark_of(cart.chip()), wrote_it) << there.out << there.err;
  // Played on from the cartridge, in another core; the box gets it from the port.
  const Blob chip = cart.chip();
  const Blob after = played(*b, rom, "log.gb", &chip);
  ASSERT_EQ(mark_of(after), saw_it);
  ASSERT_EQ(bayswap({"cart", "write", folder_ / "after.sav", "--port", reader.path(), "--yes"}).code, 4);
  put("after.sav", after);
  const Outcome written = bayswap({"cart", "write", folder_ / "after.sav", "--port", reader.path(), "--yes"});
  ASSERT_EQ(written.code, 0) << written.out << written.err;
  const Outcome back = round("box", {"box", "port"});
  ASSERT_EQ(back.code, 0) << back.out << back.err;
  const Blob now = read("box/saves/Tide Log (World).srm");
  EXPECT_EQ(mark_of(now), saw_it) << back.out;
  EXPECT_EQ(mark_of(played(*a, rom, "log.gb", &now)), saw_it);
}

}  // namespace
}  // namespace bayswap::test
