// The first day: somebody who has never described a bay looks at a folder and carries a save. Two commands,
// and nothing typed but paths.
#include "support/first_day.hpp"

namespace bayswap::test {
namespace {

Blob day_gba_game(char letter) {
  roms::Bytes rom = roms::gba_rom("FLASH1M_V103");
  rom[0xac + 1] = static_cast<Byte>(letter);
  int sum = 0;
  for (std::size_t i = 0xa0; i <= 0xbc; ++i) sum -= rom[i];
  rom[0xbd] = static_cast<Byte>(sum - 0x19);
  return Blob::copy_of(rom);
}
Blob day_gb_game(const std::string& title) {
  roms::Bytes rom = roms::gb_rom(0x03, 2);
  std::fill_n(rom.begin() + 0x134, 11, Byte{0});
  roms::put(rom, 0x134, title);
  Byte sum = 0;
  for (std::size_t i = 0x134; i <= 0x14c; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
  rom[0x14d] = sum;
  return Blob::copy_of(rom);
}

TEST_F(FirstDay, FromAFolderOfSavesToAHandheldWithSavesBesideItsRoms) {
  put("pc/roms/Cog.gb", day_gb_game("COG"));
  put("pc/saves/Cog.srm", noise(8192, 1));
  put("stick/gb/Cog (World).gb", day_gb_game("COG"));
  put("stick/gb/Buoy.gb", day_gb_game("BUOY"));
  put("stick/gb/Buoy.sav", noise(8192, 2));
  walk("pc/saves/Cog.srm", "stick", "stick/gb/Cog (World).sav", noise(8192, 1));
}

TEST_F(FirstDay, FromADumpInDownloadsToAnEmulator) {
  put("person/Downloads/MOTH COURIER.sav", noise(131072, 3));
  put("person/Downloads/Moth.gba", day_gba_game('9'));
  put("emu/roms/gba/Moth Courier.gba", day_gba_game('9'));
  put("emu/roms/gba/Crab.gba", day_gba_game('8'));
  put("emu/saves/gba/Crab.srm", noise(131072, 4));
  walk("person/Downloads/MOTH COURIER.sav", "emu", "emu/saves/gba/Moth Courier.srm", noise(131072, 3));
}

TEST_F(FirstDay, FromSingleChipsToOneFileForAll) {
  put("cart/Skiff.z64", n64_rom());
  put("cart/saves/Skiff.sra", noise(32768, 5));
  put("cart/saves/Oar.eep", noise(512, 6));
  put("cart/Oar.z64", n64_rom({"OAR", "N97P"}));
  put("tv/roms/Lantern Skiff.n64", n64_rom());
  put("tv/roms/Oar.n64", n64_rom({"OAR", "N97P"}));
  put("tv/saves/Oar.srm", Blob::filled(296960, 0));
  const Outcome carried = bayswap({"carry", "cart/saves/Skiff.sra", "--to", "tv", "--yes"});
  EXPECT_EQ(carried.code, 0) << carried.err;
  EXPECT_EQ(read("tv/saves/Lantern Skiff.srm").size(), 296960U);
}

TEST_F(FirstDay, FromOneCardImageToAnother) {
  auto card = make_card(CardKind::ps1);
  const CardSave save = made_save(CardKind::ps1, 1, 1, 7);
  ASSERT_TRUE(card->put(save));
  put("pc/cards/mine.mcr", card->image());
  put("tv/cards/shared.mcr", make_card(CardKind::ps1)->image());
  const Outcome carried =
      bayswap({"carry", save.name, "--from", "pc/cards/mine.mcr", "--to", "tv/cards/shared.mcr", "--yes"});
  EXPECT_EQ(carried.code, 0) << carried.err;
  const auto after = open_card(read("tv/cards/shared.mcr"));
  ASSERT_TRUE(after);
  EXPECT_EQ((*after)->read(save.name)->payload, save.payload);
}

TEST_F(FirstDay, FromZippedRomsToAnotherName) {
  put("pc/roms/Cog.zip", zipped("a.gb", day_gb_game("COG")));
  put("pc/saves/Cog.srm", noise(8192, 1));
  put("box/GAMES/COG THE GAME.GB", day_gb_game("COG"));
  put("box/GAMES/BUOY.GB", day_gb_game("BUOY"));
  put("box/SAVES/BUOY.SAV", noise(8192, 2));
  walk("pc/saves/Cog.srm", "box", "box/SAVES/COG THE GAME.SAV", noise(8192, 1));
}

TEST_F(FirstDay, ThePlacesOfAHomeFolderAreListedWithTheLineThatAddsThem) {
  put("person/Games/kite/roms/Cog.gb", day_gb_game("COG"));
  put("person/Games/kite/saves/Cog.srm", noise(8192, 1));
  put("person/.cache/x/Cog.sav", noise(8192, 1));
  const Outcome look = bayswap({"bay", "look"});
  EXPECT_EQ(look.code, 0) << look.err;
  ASSERT_TRUE(has(look.out, "bayswap bay add kite " + (folder_ / "person/Games/kite"))) << look.out;
  EXPECT_FALSE(has(look.out, ".cache"));
  EXPECT_EQ(bayswap({"bay", "add", "kite", folder_ / "person/Games/kite"}).code, 0);
  EXPECT_TRUE(has(bayswap({"list", "kite"}).out, "saves/Cog.srm"));
  EXPECT_TRUE(has(bayswap({"bay", "look"}).out, "bay kite"));
}

TEST_F(FirstDay, BaysAreRenamedEditedAndRemoved) {
  put("pc/roms/Cog.gb", day_gb_game("COG"));
  put("pc/saves/Cog.srm", noise(8192, 1));
  put("stick/Cog.gb", day_gb_game("COG"));
  put("stick/Cog.sav", noise(8192, 2));
  ASSERT_EQ(bayswap({"bay", "add", "pc", "pc"}).code, 0);
  ASSERT_EQ(bayswap({"bay", "add", "stick", "stick"}).code, 0);
  EXPECT_EQ(bayswap({"bay", "add", "pc", "pc"}).code, 3) << "there is one";
  EXPECT_EQ(bayswap({"carry", "Cog", "--from", "pc", "--to", "stick", "--yes", "--accept", "newer"}).code, 0);
  // The logbook knows the bay by its old name.
  EXPECT_EQ(bayswap({"bay", "rename", "stick", "handheld"}).code, 0);
  EXPECT_EQ(bayswap({"list", "stick"}).code, 0);
  EXPECT_EQ(bayswap({"restore", "Cog", "--entry", "1", "--before", "--yes"}).code, 0);
  EXPECT_EQ(read("stick/Cog.sav"), noise(8192, 2));
  EXPECT_EQ(bayswap({"bay", "rename", "pc", "handheld"}).code, 3);
  EXPECT_EQ(bayswap({"bay", "rename", "pc", "No Name"}).code, 2);

  const auto edit = [&](const std::string& script) {
    return run_process({BAYSWAP_BINARY, "bay", "edit", "pc"}, folder_.path(),
                       {{"BAYSWAP_HOME", folder_ / "settings"}, {"EDITOR", script}, {"TZ", "UTC"}}, {});
  };
  const std::string file = "settings/bays/pc.toml";
  const Blob before = read(file);
  EXPECT_EQ(edit("sed -i s/saves/SAVES/").code, 0);
  EXPECT_NE(read(file), before);
  EXPECT_EQ(read("settings/bays/old/pc-1.toml"), before);
  const Blob good = read(file);
  // A folder that is called like the bay is not taken for it.
  put("settings/bays/pc.toml", text_blob("root = 3\n"));
  for (const std::vector<std::string>& words : {std::vector<std::string>{"bay", "check", "pc"},
                                                {"list", "pc"},
                                                {"backup", "pc"},
                                                {"carry", "pc:Cog", "--to", "x.sav"}}) {
    const Outcome broken = bayswap(words);
    EXPECT_NE(broken.code, 0) << words[1];
    EXPECT_TRUE(has(broken.err, "pc.toml")) << broken.err;
  }
  put("settings/bays/pc.toml", good);
  const Outcome bad = edit("sed -i s/^path/paht/");
  EXPECT_EQ(bad.code, 2);
  EXPECT_TRUE(has(bad.err, "the bay is as it was"));
  EXPECT_EQ(read(file), good);
  EXPECT_EQ(edit("false").code, 5);
  EXPECT_EQ(edit("true").code, 0);
  EXPECT_EQ(edit("").code, 2);

  EXPECT_EQ(bayswap({"bay", "remove", "pc"}).code, 3) << "nobody was asked";
  EXPECT_EQ(bayswap({"bay", "remove", "pc", "--yes"}).code, 0);
  EXPECT_EQ(bayswap({"bay", "remove", "pc", "--yes"}).code, 2)
      << "no bay any more, though the folder is there";
  EXPECT_EQ(bayswap({"list", "nobody"}).code, 2);
  EXPECT_EQ(read("settings/bays/old/pc-2.toml"), good);
  EXPECT_TRUE(fs::exists(folder_ / "pc/saves/Cog.srm"));
  EXPECT_EQ(bayswap({"bay", "remove", "nobody", "--yes"}).code, 2);
}

}  // namespace
}  // namespace bayswap::test
