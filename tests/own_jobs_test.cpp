// The trade's jobs on folders that nobody declared: companions, states, slots, accounts, out and in again,
// pairs.
#include <fmt/format.h>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/text.hpp"
#include "support/first_day.hpp"
#include "support/made_up_saves.hpp"

namespace bayswap::test {
namespace {

Blob tally(std::uint32_t seed, std::size_t size) {
  constexpr std::size_t of_records = 9;
  return MadeUp(seed).file(of_records, size);
}
Blob changed(const Blob& bytes, std::size_t at) {
  std::vector<Byte> copy = bytes_of(bytes);
  copy[at] ^= 1;
  return Blob::copy_of(copy);
}
std::string hex_of(ByteView bytes) {
  std::string text;
  for (const Byte byte : bytes) text += fmt::format("{:02x}", byte);
  return text;
}
std::string md5_of(const Blob& bytes) {
  return hex_of(md5(bytes.view()));
}
std::string crc_of(const Blob& bytes) {
  return fmt::format("{:08x}", crc32(bytes.view()));
}

class OwnJobs : public FirstDay {
 protected:
  nlohmann::json json(std::vector<std::string> words) const {
    words.emplace_back("--json");
    return nlohmann::json::parse(bayswap(words).out);
  }
  void done(std::vector<std::string> words) const {
    words.emplace_back("--yes");
    const Outcome outcome = bayswap(std::move(words));
    EXPECT_EQ(outcome.code, 0) << outcome.out << outcome.err;
  }
  Outcome refused(std::vector<std::string> words) const {
    words.emplace_back("--yes");
    Outcome outcome = bayswap(std::move(words));
    EXPECT_NE(outcome.code, 0) << outcome.out;
    EXPECT_TRUE(has(outcome.err, "What to do")) << outcome.err;
    return outcome;
  }
  [[nodiscard]] bool exists(const std::string& path) const { return fs::exists(folder_ / path); }
};

Blob avatars(Byte mark) {
  std::vector<Byte> database(779968);
  std::ranges::copy(std::string_view("RNOD"), database.begin());
  database[100] = mark;
  put_be16(database, 0x1F1DE, crc16_ccitt(ByteView(database).first(0x1F1DE)));
  return Blob::copy_of(database);
}

TEST_F(OwnJobs, WhatASaveLeansOnLiesInTheSameTree) {
  const std::string save = "title/00010000/485a3950/data/lamp.dat";
  const std::string shared = "shared2/menu/FaceLib/RFL_DB.dat";
  put("stick/" + save, tally(1, 4000));
  put("stick/" + shared, avatars(1));
  put("box/nand/" + save, tally(2, 4000));
  done({"carry", "HZ9P", "--from", "stick", "--to", "box", "--accept", "newer"});
  EXPECT_EQ(read("box/nand/" + shared), avatars(1));
  EXPECT_FALSE(exists("box/shared2"));
  // The target's own is kept, and that is said.
  put("box/nand/" + shared, avatars(2));
  put("stick/" + save, tally(3, 4000));
  const Outcome kept =
      bayswap({"carry", "HZ9P", "--from", "stick", "--to", "box", "--accept", "newer", "--yes"});
  EXPECT_TRUE(has(kept.out, "it is kept")) << kept.out;
  EXPECT_EQ(read("box/nand/" + shared), avatars(2));
  // From within the tree it can't be reached.
  put("stick/" + save, tally(4, 4000));
  const Outcome inside =
      bayswap({"carry", "HZ9P", "--from", "stick", "--to", "box/nand/title", "--yes", "--accept", "newer"});
  EXPECT_TRUE(has(inside.out, "was not looked at")) << inside.out << inside.err;
}

TEST_F(OwnJobs, DigestsAndLettersInTheNamesOfStatesAreRules) {
  const std::vector<Blob> roms{nes_rom(1), nes_rom(2), nes_rom(3)};
  const std::vector<std::string> names{"Tin Orchard", "Gull Ledger", "Brine"};
  for (const bool by_crc : {false, true}) {
    const std::string at = by_crc ? "crc" : "md5";
    for (std::size_t i = 0; i < roms.size(); ++i) {
      const std::string digest = by_crc ? "[" + crc_of(roms[i]) + "]" : md5_of(roms[i]);
      put(at + "/a/roms/" + names[i] + ".nes", roms[i]);
      put(at + "/b/roms/" + names[i] + ".nes", roms[i]);
      put(at + "/a/saves/" + names[i] + ".srm", tally(static_cast<unsigned>(i) + 10, 8192));
      put(at + "/b/saves/" + names[i] + ".srm", tally(static_cast<unsigned>(i) + 10, 8192));
      for (int slot = 1; slot <= 2; ++slot)
        put(at + "/a/states/" + names[i] + ".state" + std::to_string(slot),
            noise(5000, static_cast<unsigned>(10 * i) + static_cast<unsigned>(slot)));
      if (i > 0) put(at + "/b/states/" + names[i] + "." + digest + ".state1", noise(5000, 77));
    }
    done({"carry", "Tin Orchard", "--states", "--from", at + "/a", "--to", at + "/b"});
    const std::string own = by_crc ? "[" + crc_of(roms[0]) + "]" : md5_of(roms[0]);
    for (int slot = 1; slot <= 2; ++slot)
      EXPECT_EQ(read(at + "/b/states/Tin Orchard." + own + ".state" + std::to_string(slot)),
                noise(5000, static_cast<unsigned>(slot)));
    // And back, where there is no digest.
    done({"carry", "Gull Ledger", "--states", "--slot", "1", "--from", at + "/b", "--to", at + "/a",
          "--accept", "newer"});
    EXPECT_EQ(read(at + "/a/states/Gull Ledger.state1"), noise(5000, 77));
  }
  // Two digits stay two digits.
  for (const std::string at : {"two/a", "two/b"}) {
    put(at + "/roms/Tin Orchard.nes", nes_rom(3));
    put(at + "/saves/Tin Orchard.srm", tally(10, 8192));
    for (const std::string slot : {"01", "02"})
      put(at + "/states/Tin Orchard.state" + slot, noise(5000, at == "two/a" ? 1 : 2));
  }
  fs::remove(folder_ / "two/b/states/Tin Orchard.state02");
  put("two/a/states/Tin Orchard.state03", noise(5000, 4));
  done({"carry", "Tin Orchard", "--states", "--slot", "3", "--from", "two/a", "--to", "two/b"});
  EXPECT_EQ(read("two/b/states/Tin Orchard.state03"), noise(5000, 4));
  // Letters: A is the first slot.
  for (std::size_t i = 0; i < roms.size(); ++i) {
    put("let/roms/" + names[i] + ".nes", roms[i]);
    put("let/saves/" + names[i] + ".srm", tally(static_cast<unsigned>(i) + 10, 8192));
    put("let/states/" + names[i] + ".A.state", noise(5000, 40 + static_cast<unsigned>(i)));
    if (i == 1) put("let/states/" + names[i] + ".B.state", noise(5000, 45));
  }
  const auto listed = json({"state", "list", folder_ / "let", "Gull Ledger"});
  EXPECT_EQ(listed["states"].size(), 2U) << listed.dump(1);
  done({"carry", "Gull Ledger", "--states", "--slot", "2", "--from", "let", "--to", "md5/a", "--accept",
        "newer"});
  EXPECT_EQ(read("md5/a/states/Gull Ledger.state2"), noise(5000, 45));
  // They are kept like saves, and come back.
  const auto kept = json({"backup", folder_ / "let"});
  EXPECT_EQ(kept["kept"], 7) << kept.dump(1);
  put("let/states/Gull Ledger.B.state", noise(5000, 99));
  for (const auto& one : kept["saves"])
    if (has(one["path"].get<std::string>(), "Ledger.B"))
      done({"restore", "Ledger.B", "--entry", std::to_string(one["entry"].get<int>())});
  EXPECT_EQ(read("let/states/Gull Ledger.B.state"), noise(5000, 45));
}

TEST_F(OwnJobs, SlotsAndAccountsAreToldApart) {
  const std::string tree = "console/usr/save/00050000/1ff99300/";
  put(tree + "user/80000001/save.bin", tally(1, 600));
  put(tree + "user/common/rank.bin", tally(2, 600));
  put(tree + "meta/meta.xml",
      text_blob("<menu><longname_en type=\"string\">Harbour Light\nThe Quay</longname_en>"
                "<product_code>WUP-P-AHLP</product_code></menu>"));
  for (const std::string slot : {"1", "2"}) {
    put("backup/backups/wiiu/1ff99300/slot-" + slot + "/80000001/save.bin",
        tally(10 + static_cast<unsigned>(slot[0]), 600));
    put("backup/backups/wiiu/1ff99300/slot-" + slot + "/80000002/save.bin",
        tally(20 + static_cast<unsigned>(slot[0]), 600));
    put("backup/backups/wiiu/1ff99300/slot-" + slot + "/common/rank.bin",
        tally(30 + static_cast<unsigned>(slot[0]), 600));
  }
  const std::vector<std::string> way{"carry",   "1ff99300", "--from", "backup",    "--to",
                                     "console", "--accept", "newer",  "--account", "80000001=80000001"};
  const Outcome both = refused(way);
  EXPECT_TRUE(has(both.err, "--slot 1")) << both.err;
  std::vector<std::string> one = way;
  one.insert(one.end(), {"--slot", "2"});
  done(one);
  EXPECT_EQ(read(tree + "user/80000001/save.bin"), tally(10 + '2', 600));
  EXPECT_EQ(read(tree + "user/common/rank.bin"), tally(30 + '2', 600));
  EXPECT_FALSE(exists(tree + "user/80000001/80000001"));
  const Outcome scanned = bayswap({"list", folder_ / "console"});
  EXPECT_TRUE(has(bayswap({"carry", "AHLP", "--from", "console", "--to", "backup", "--slot", "7", "-n",
                           "--account", "80000001=80000001"})
                      .out,
                  "Harbour Light"))
      << scanned.out;
  // A bay whose rule has no accounts, over a folder that has them: they don't become one.
  put("settings/bays/old.toml",
      text_blob(
          "root = \"" + (folder_ / "backup") +
          "\"\n[platform.wiiu]\npath = \"backups/wiiu/{title.low}/slot-{slot}\"\nkeeps = \"folder\"\n"));
  const Outcome nested = refused({"carry", "1ff99300", "--from", "old", "--to", "console", "--slot", "1",
                                  "--accept", "newer", "--account", "80000001=80000001"});
  EXPECT_TRUE(has(nested.err, "a folder for each account")) << nested.err;
  EXPECT_FALSE(exists(tree + "user/80000001/80000001"));
}

TEST_F(OwnJobs, ASaveGoesOutToAFileAndComesInAgain) {
  put("pc/roms/Lamp Quay.nes", nes_rom(1));
  put("pc/roms/Cog Isle.nes", nes_rom(2));
  put("pc/saves/Lamp Quay.srm", tally(5, 8192));
  put("pc/saves/Cog Isle.srm", tally(6, 8192));
  fs::create_directories(folder_ / "desk");
  done({"carry", "Lamp Quay", "--from", "pc", "--to", "desk/lamp.bin"});
  EXPECT_EQ(read("desk/lamp.bin"), tally(5, 8192));
  done({"undo"});
  EXPECT_FALSE(exists("desk/lamp.bin"));
  // Edited, and under another name: it is recognised by what it shares with the save in place.
  put("desk/x.bin", changed(tally(5, 8192), 40));
  done({"carry", "desk/x.bin", "--to", "pc", "--accept", "newer"});
  EXPECT_EQ(read("pc/saves/Lamp Quay.srm"), changed(tally(5, 8192), 40));
  // One game's name and another one's bytes.
  put("desk/Lamp Quay.bin", tally(6, 8192));
  EXPECT_TRUE(has(refused({"carry", "--outside", "desk/Lamp Quay.bin", "--to", "pc"}).err, "Cog Isle"));
  // Like none of them.
  put("desk/y.bin", tally(99, 8192));
  refused({"carry", "desk/y.bin", "--to", "pc"});
  refused({"carry", "Lamp Quay", "--from", "pc", "--to", "nowhere/lamp.bin"});
  refused({"carry", "Lamp Quai", "--from", "pc", "--to", "desk/quai.bin"});
  EXPECT_EQ(read("pc/saves/Cog Isle.srm"), tally(6, 8192));
  // A card's entry, and a folder.
  const auto opened = make_card(CardKind::gc);
  const CardSave save = made_save(CardKind::gc, 2, 3, 8);
  ASSERT_TRUE(opened->put(save));
  put("cards/a.raw", opened->image());
  done({"carry", save.name, "--from", "cards", "--to", "desk/entry.gci"});
  EXPECT_TRUE(single_save_from(read("desk/entry.gci"))->same_content(save));
}

TEST_F(OwnJobs, APairOfFoldersIsRemembered) {
  put("pc/roms/Lamp Quay.nes", nes_rom(1));
  put("pc/roms/Other.nes", nes_rom(2));
  put("pc/saves/Lamp Quay.srm", tally(5, 8192));
  put("pc/saves/Other.srm", tally(6, 8192));
  put("hand/lq-v1.nes", nes_rom(11));
  put("hand/oth.nes", nes_rom(2));
  put("hand/oth.sav", tally(6, 8192));
  refused({"carry", "Lamp Quay", "--from", "pc", "--to", "hand"});
  done({"carry", "Lamp Quay", "--from", "pc", "--to", "hand", "--rom", "hand/lq-v1.nes"});
  EXPECT_EQ(read("hand/lq-v1.sav"), tally(5, 8192));
  put("hand/lq-v1.sav", tally(7, 8192));
  done({"carry", "lq-v1", "--from", "hand", "--to", "pc", "--accept", "newer"});
  EXPECT_EQ(read("pc/saves/Lamp Quay.srm"), tally(7, 8192));
  EXPECT_FALSE(exists("pc/saves/lq-v1.srm"));
  // As a bay it is the same place.
  ASSERT_EQ(bayswap({"bay", "add", "hand", "hand"}).code, 0);
  put("pc/saves/Lamp Quay.srm", tally(8, 8192));
  done({"carry", "Lamp Quay", "--from", "pc", "--to", "hand", "--accept", "newer"});
  EXPECT_EQ(read("hand/lq-v1.sav"), tally(8, 8192));
}

// One save, named in every way, by every command that takes one.
TEST_F(OwnJobs, ASaveHasOneAddressForEveryCommand) {
  put("pc/roms/\uff2c\uff41mp Qu\u00e4y.nes", nes_rom(1));
  put("pc/saves/\uff2c\uff41mp Qu\u00e4y.srm", tally(1, 8192));
  put("pc/roms/Cog: Isle@3.nes", nes_rom(2));
  put("pc/saves/Cog: Isle@3.srm", tally(2, 8192));
  put("psp/PSP/SAVEDATA/ULES99031MOOR00/DATA.BIN", tally(3, 3000));
  const auto card = make_card(CardKind::gc);
  const CardSave save = made_save(CardKind::gc, 2, 3, 8);
  ASSERT_TRUE(card->put(save));
  put("cards/a card.raw", card->image());
  ASSERT_EQ(bayswap({"bay", "add", "tv", "pc"}).code, 0);
  std::string entry;
  const auto kept_saves = json({"backup", "tv"});
  for (const auto& kept : kept_saves["saves"])
    if (!has(kept["path"].get<std::string>(), "Cog")) entry = "@" + std::to_string(kept["entry"].get<int>());
  int number = 0;
  const auto comes_out = [&](const std::string& address, const Blob& bytes) {
    SCOPED_TRACE(address);
    const std::string out = "out-" + std::to_string(++number) + ".sav";
    done({"carry", address, "--to", out});
    EXPECT_EQ(read(out), bytes);
  };
  for (const std::string& address : std::vector<std::string>{
           "tv:lamp quay", "pc:LAMP QUAY", "pc/saves/\uff2c\uff41mp Qu\u00e4y.srm",
           "pc/roms/\uff2c\uff41mp Qu\u00e4y.nes", "lamp quay", "lamp quay" + entry, "tv:lamp quay" + entry})
    comes_out(address, tally(1, 8192));
  for (const char* address : {"pc/saves/Cog: Isle@3.srm", "pc/roms/Cog: Isle@3.nes", "tv:Cog"})
    comes_out(address, tally(2, 8192));
  comes_out("cards/a card.raw: " + save.name, *to_single_save(save));
  comes_out("cards:" + save.name, *to_single_save(save));
  EXPECT_EQ(bayswap({"card", "export", "cards/a card.raw: " + lower(save.name), "--out", "taken"}).code, 0);
  EXPECT_EQ(read("taken"), *to_single_save(save));
  EXPECT_EQ(bayswap({"convert", "tv:lamp quay", "--to", "nes.raw", "--out", "made.sav"}).code, 0);
  EXPECT_EQ(read("made.sav"), tally(1, 8192));
  for (const char* place : {"tv", "pc", "cards/a card.raw", "cards", "pc/saves/Cog: Isle@3.srm"}) {
    const auto listed = json({"list", place});
    EXPECT_FALSE(listed["saves"].empty()) << place;
  }
  // What is not there is said, and what could be meant.
  refused({"carry", "pc:nothing", "--to", "x.sav"});
  refused({"carry", "gone:Cog", "--to", "x.sav"});
  refused({"carry", "tv:lamp quay@99", "--to", "x.sav"});
  for (const char* option : {"--rom", "--slot", "--region", "--from"})
    EXPECT_TRUE(
        has(refused({"carry", "lamp quay" + entry, "--to", "x.sav", option, "1"}).err, "has no effect"));
  EXPECT_TRUE(has(refused({"carry", "pc:", "--to", "x.sav"}).err, "2 saves"));
}

TEST_F(OwnJobs, SingleSavesAreOneEachWhateverTheyAreCalled) {
  const CardSave one = made_save(CardKind::gc, 1, 2, 7);
  const CardSave two = made_save(CardKind::gc, 2, 3, 8);
  const CardEntry about = describe(one);
  put("singles/99-" + about.code + "-anything.gci", *to_single_save(one));
  put("singles/kept.gci", *to_single_save(two));
  put("cards/a.raw", make_card(CardKind::gc)->image());
  done({"carry", "--all", "--from", "singles", "--to", "cards/a.raw"});
  const auto card = open_card(read("cards/a.raw"));
  EXPECT_EQ((*card)->entries().size(), 2U);
  EXPECT_TRUE((*card)->check().empty());
  // Back again they are the same, and nothing is to be done.
  const auto back = json({"carry", "--all", "--from", "cards/a.raw", "--to", "singles", "-n"});
  EXPECT_EQ(back["same"], 2) << back.dump(1);
  EXPECT_EQ(back["to_carry"], 0);
}

// What was played and never kept since is what a save was on that day, and stays.
TEST_F(OwnJobs, WhatWasPlayedSinceIsTheSaveOfItsDay) {
  put("pc/roms/Cog Isle.nes", nes_rom(5));
  put("pc/saves/Cog Isle.srm", tally(1, 8192));
  written("pc/saves/Cog Isle.srm", 1700000000);
  setenv("BAYSWAP_NOW", "1700100000", 1);
  ASSERT_EQ(bayswap({"bay", "add", "desk", "pc"}).code, 0);
  ASSERT_EQ(bayswap({"backup", "desk"}).code, 0);
  put("pc/saves/Cog Isle.srm", tally(2, 8192));
  written("pc/saves/Cog Isle.srm", 1700200000);  // November 17th
  setenv("BAYSWAP_NOW", "1700500000", 1);
  const Outcome same = bayswap({"restore", "Cog Isle", "--date", "2023-11-18", "--yes"});
  EXPECT_EQ(same.code, 0) << same.err;
  EXPECT_TRUE(has(same.out + same.err, "as it was then")) << same.out << same.err;
  EXPECT_EQ(read("pc/saves/Cog Isle.srm"), tally(2, 8192));
  done({"restore", "Cog Isle", "--date", "2023-11-16"});
  EXPECT_EQ(read("pc/saves/Cog Isle.srm"), tally(1, 8192));
  unsetenv("BAYSWAP_NOW");
  // An empty folder shows no rules, and takes the save under its own name.
  fs::create_directories(folder_ / "fresh");
  done({"restore", "Cog Isle", "--entry", "1", "--to", "fresh"});
  EXPECT_EQ(read("fresh/Cog Isle.srm"), tally(1, 8192));
  fs::create_directories(folder_ / "bare");
  done({"carry", "Cog Isle", "--from", "desk", "--to", "bare"});
  EXPECT_EQ(read("bare/Cog Isle.srm"), tally(1, 8192));
}

// One save of a card as it was on a day: the others on it stay as they are.
TEST_F(OwnJobs, ASaveOfACardComesBackAloneByItsDate) {
  const CardSave one = made_save(CardKind::gc, 1, 2, 7);
  const CardSave two = made_save(CardKind::gc, 2, 3, 8);
  CardSave later = one;
  std::vector<Byte> bytes = bytes_of(later.payload);
  bytes[bytes.size() - 5] ^= 1;
  later.payload = Blob::copy_of(bytes);
  put("tv/card.raw", make_card(CardKind::gc)->image());
  ASSERT_EQ(bayswap({"bay", "add", "tv", "tv"}).code, 0);
  const auto bring = [&](const CardSave& save, const std::string& day) {
    put("in/" + save.name + ".single", *to_single_save(save));
    setenv("BAYSWAP_NOW", day.c_str(), 1);
    const Outcome brought =
        bayswap({"carry", "in/" + save.name + ".single", "--to", "tv", "--yes", "--accept", "newer"});
    EXPECT_EQ(brought.code, 0) << brought.err;
  };
  bring(one, "1700000000");
  bring(two, "1700100000");
  bring(later, "1700200000");
  setenv("BAYSWAP_NOW", "1700300000", 1);
  EXPECT_EQ(bayswap({"card", "remove", "--yes", "tv/card.raw", two.name}).code, 0);
  done({"restore", one.name, "--date", "2023-11-15"});
  // And by its entry, as the card has changed since.
  bring(later, "1700400000");
  done({"restore", one.name, "--entry", "1"});
  unsetenv("BAYSWAP_NOW");
  const auto card = open_card(read("tv/card.raw"));
  EXPECT_TRUE((*card)->read(one.name)->same_content(one));
  EXPECT_FALSE((*card)->read(two.name)) << "it was dropped since";
  EXPECT_TRUE((*card)->check().empty());
}

TEST_F(OwnJobs, AFormIsLearnedWithItsChecksum) {
  const auto wrapped = [](const Blob& save) {
    std::vector<Byte> head(16, Byte{'H'});
    put_be32(head, 8, crc32(save.view()));
    return joined({Blob::copy_of(head), save});
  };
  for (const std::uint32_t seed : {1U, 2U}) {
    put("known" + std::to_string(seed) + ".srm", tally(seed, 8192));
    put("packed" + std::to_string(seed) + ".dat", wrapped(tally(seed, 8192)));
  }
  put("plain.dat", joined({Blob::filled(16, 0x48), tally(1, 8192)}));
  for (const std::vector<std::string>& pairs : {std::vector<std::string>{"known1.srm", "packed1.dat"},
                                                {"known1.srm", "packed1.dat", "known2.srm", "packed2.dat"}}) {
    std::vector<std::string> words{"infer", "--id", "nes.mine", "--out",
                                   "mine" + std::to_string(pairs.size()) + ".toml"};
    words.insert(words.end(), pairs.begin(), pairs.end());
    const Outcome encrypted = bayswap(words);
    EXPECT_EQ(encrypted.code, 0) << encrypted.out;
    EXPECT_TRUE(has(encrypted.out, "bytes 8 to 11 are the crc32 of the bytes from 16 to 8207"))
        << encrypted.out;
    // What it writes has the sum of what it writes, over another save and over none.
    fs::create_directories(folder_ / "settings/layouts");
    fs::copy_file(folder_ / words.at(4), folder_ / "settings/layouts/mine.toml",
                  fs::copy_options::overwrite_existing);
    put("third.srm", tally(3, 8192));
    for (const std::vector<std::string>& base : {std::vector<std::string>{}, {"--base", "packed1.dat"}}) {
      std::vector<std::string> convert{
          "convert", "third.srm",
          "--from",  "nes.raw",
          "--to",    "nes.mine",
          "--out",   "third" + std::to_string(base.size() + 10 * pairs.size()) + ".dat"};
      convert.insert(convert.end(), base.begin(), base.end());
      const Outcome made = bayswap(convert);
      EXPECT_EQ(made.code, 0) << made.err;
      EXPECT_EQ(read(convert.at(7)), wrapped(tally(3, 8192)));
    }
    const Outcome again = bayswap({"inspect", "packed2.dat"});
    EXPECT_TRUE(has(again.out, "its crc32 is right")) << again.out;
  }
  EXPECT_EQ(bayswap({"infer", "known1.srm", "plain.dat", "--id", "nes.other", "--out", "other.toml"}).code,
            0);
}

}  // namespace
}  // namespace bayswap::test
