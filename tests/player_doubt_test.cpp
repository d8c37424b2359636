// A player's folders where more than one answer is possible: two ROMs of one game, saves without dates, words
// that fit several saves. What is doubtful is asked or refused, never guessed.
#include <bayswap/package.hpp>

#include "support/player.hpp"

namespace bayswap::test {
namespace {

TEST_F(Player, OfTwoRomsOfOneGameTheOneThatIsPlayedIsSaid) {
  bay("stick", "n64", "path = \"{rom.stem}{ext}\"\nlayout = \"n64.sram\"\nroms = \".\"\n");
  bay("bench", "n64", "path = \"{game.code}{ext}\"\nlayout = \"n64.sram\"\nroms = \"roms\"\n");
  put("bench/N99P.sra", noise(32768, 1));
  put("bench/roms/Skiff.z64", n64_rom());
  put("stick/Skiff (Europe).z64", n64_rom());
  put("stick/Skiff (Europe) (Alt).z64", n64_rom());
  const Outcome which = carry("N99P", "bench", "stick");
  EXPECT_EQ(which.code, 3);
  EXPECT_TRUE(has(which.err, "--rom 'Skiff (Europe) (Alt).z64'")) << which.err;
  EXPECT_TRUE(has(which.err, "--rom 'Skiff (Europe).z64'"));
  EXPECT_EQ(outcomes(json({"carry", "--all", "--from", "bench", "--to", "stick", "--yes"}, 1))["N99P.sra"],
            "refused");
  EXPECT_EQ(carry("N99P", "bench", "stick", {"--rom", "Skiff (Europe) (Alt).z64"}).code, 0);
  EXPECT_EQ(read("stick/Skiff (Europe) (Alt).sra"), noise(32768, 1));
  EXPECT_FALSE(exists("stick/Skiff (Europe).sra"));
  EXPECT_EQ(carry("N99P", "bench", "stick").code, 0) << "what was said is remembered";
  // Without a word: the one that has a save.
  EXPECT_EQ(bayswap({"pairs", "remove", "N99P.sra"}).code, 0);
  put("bench/N99P.sra", noise(32768, 2), 1900000000);
  EXPECT_EQ(carry("N99P", "bench", "stick").code, 0);
  EXPECT_EQ(read("stick/Skiff (Europe) (Alt).sra"), noise(32768, 2));
  EXPECT_FALSE(exists("stick/Skiff (Europe).sra"));
  // One ROM twice, packed and not, is one.
  put("stick/Skiff (Europe) (Alt).zip", zipped("Skiff.z64", n64_rom()));
  fs::remove(folder_ / "stick/Skiff (Europe).z64");
  fs::remove(folder_ / "stick/Skiff (Europe) (Alt).sra");
  EXPECT_EQ(carry("N99P", "bench", "stick").code, 0);
}

// ps1 cards keep no dates: the card's own date and the logbook are all there is.
TEST_F(Player, ProgressOnACardWithoutDatesIsNotOverwrittenUnasked) {
  bay("club", "ps1", "path = \"{save.name}.mcr\"\nkeeps = \"card\"\n");
  bay("box", "ps1", "path = \"one.mcr\"\nkeeps = \"card\"\n");
  const auto card_of = [](std::vector<CardSave> saves) {
    const auto card = make_card(CardKind::ps1);
    for (const CardSave& save : saves) EXPECT_TRUE(card->put(save));
    return card->image();
  };
  const auto played = [](CardSave save, std::uint32_t seed) {
    std::vector<Byte> bytes = bytes_of(save.payload);
    std::ranges::copy(bytes_of(noise(1024, seed)), bytes.begin() + 4096);
    save.payload = Blob::copy_of(bytes);
    return save;
  };
  const CardSave buoy = made_save(CardKind::ps1, 1, 1, 7);
  const CardSave dory = made_save(CardKind::ps1, 2, 1, 8);
  ASSERT_NE(buoy.name, dory.name);
  put("club/a.mcr", card_of({buoy, dory}), 1000);
  put("box/one.mcr", card_of({played(buoy, 1), played(dory, 2)}), 2000);
  const Outcome refused = carry(buoy.name, "club", "box");
  EXPECT_EQ(refused.code, 3) << refused.out;
  EXPECT_TRUE(has(refused.err, "--accept newer"));
  ASSERT_EQ(carry(buoy.name, "club", "box", {"--accept", "newer"}).code, 0);
  // Now the card's date is ours, and says nothing of the other save.
  const Outcome doubtful = carry(dory.name, "club", "box", {"--dry-run"});
  EXPECT_EQ(doubtful.code, 0) << doubtful.err;
  EXPECT_TRUE(has(doubtful.out + doubtful.err, "has no dates"));
  // Played on at the source: our own copy there is not newer.
  put("club/a.mcr", card_of({played(buoy, 3), dory}), 1900000000);
  ASSERT_EQ(carry(buoy.name, "club", "box").code, 0);
  // Played on at the box, under whatever date: the logbook knows.
  put("box/one.mcr", card_of({played(buoy, 4), played(dory, 2)}), 500);
  EXPECT_EQ(carry(buoy.name, "club", "box").code, 3);
}

TEST_F(Player, ACopyWithALaterDateIsNoProgress) {
  put("pc/roms/Buoy.nes", nes_rom(1));
  put("handheld/Buoy.nes", nes_rom(1));
  put("pc/saves/Buoy.srm", noise(8192, 1));
  ASSERT_EQ(carry("Buoy", "pc", "handheld").code, 0);
  put("handheld/Buoy.sav", noise(8192, 1), 2100000000);  // the stick was copied, or its clock is ahead
  put("pc/saves/Buoy.srm", noise(8192, 2), 2000000000);
  EXPECT_EQ(carry("Buoy", "pc", "handheld").code, 0);
  // An old backup at the source is not newer than what was carried from there since.
  put("pc/saves/Buoy.srm", noise(8192, 1), 900000000);
  EXPECT_EQ(carry("Buoy", "pc", "handheld").code, 3);
  EXPECT_EQ(read("handheld/Buoy.sav"), noise(8192, 2));
}

TEST_F(Player, APartOfANameIsNotTakenBeforeALabel) {
  bay("psp", "psp", "path = \"SAVEDATA/{folder}\"\nkeeps = \"folder\"\n");
  bay("psp", "nes", "path = \"{rom.stem}.sav\"\nlayout = \"nes.raw\"\nroms = \".\"\n");
  put("psp/Quay Run Special.nes", nes_rom(1));
  put("psp/Quay Run Special.sav", noise(8192, 1));
  ParameterFile parameters;
  ASSERT_TRUE(parameters.set("TITLE", std::string("Quay Run"), 128));
  put("psp/SAVEDATA/UCES99999/PARAM.SFO", parameters.encode());
  put("psp/SAVEDATA/UCES99999/DATA.BIN", noise(500, 1));
  const Outcome kept = bayswap({"backup", "psp", "Quay Run"});
  EXPECT_EQ(kept.code, 0) << kept.err;
  EXPECT_TRUE(has(json({"logbook"})[0].dump(), "UCES99999")) << json({"logbook"})[0];
}

TEST_F(Player, ARomSaysNothingOfASaveThatNamesItsGame) {
  bay("club", "ps1", "path = \"{save.name}.mcr\"\nkeeps = \"card\"\n");
  bay("box", "ps1", "path = \"one.mcr\"\nkeeps = \"card\"\n");
  const auto card = make_card(CardKind::ps1);
  const CardSave save = made_save(CardKind::ps1, 1, 1, 7);
  ASSERT_TRUE(card->put(save));
  put("club/a.mcr", card->image());
  put("other.nes", nes_rom(1));
  const Outcome refused = carry(save.name, "club", "box", {"--rom", folder_ / "other.nes"});
  EXPECT_EQ(refused.code, 3) << refused.out;
  EXPECT_TRUE(has(refused.err, "leave out --rom")) << refused.err;
  EXPECT_FALSE(exists("box/one.mcr"));
  EXPECT_TRUE(json({"pairs"}).empty());
}

}  // namespace
}  // namespace bayswap::test
