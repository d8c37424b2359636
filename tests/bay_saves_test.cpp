// Bays of every form: path rules read both ways, saves found by looking.
#include <bayswap/bay_saves.hpp>

#include <filesystem>

#include "bay/places.hpp"
#include "package/fresh_package.hpp"
#include "support/bays.hpp"
#include "support/cards.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(BayForms, EachReadsAndIsWrittenBackTheSame) {
  const auto forms = bay_templates();
  const std::vector<std::string> needed{
      "beside-rom", "card-per-game", "cartridge",   "code-folder",      "flash-cart",  "hashed-wiiu",
      "sd-slots",   "sd-wii",        "shared-card", "single-save-tree", "stem-folder", "stem-hash",
      "tree-3ds",   "tree-psp",      "tree-wii",    "tree-wiiu",        "tree-x360"};
  ASSERT_EQ(forms.size(), needed.size());
  const Catalog catalog;
  for (std::size_t i = 0; i < forms.size(); ++i) {
    EXPECT_EQ(forms[i].first, needed[i]);
    const auto bay = bay_like(forms[i].first, "x", "/x");
    ASSERT_TRUE(bay) << forms[i].first << ": " << bay.error().message;
    EXPECT_EQ(forms[i].second, bay->about);
    const auto again = parse_bay(to_toml(*bay), "x", "x.toml", "/");
    ASSERT_TRUE(again) << again.error().message;
    EXPECT_EQ(to_toml(*again), to_toml(*bay));
    for (const PlatformRule& rule : bay->rules) {
      if (rule.keeping != Keeping::file) continue;
      EXPECT_TRUE(catalog.find(rule.layout)) << rule.layout;
      for (const std::string& id : rule.other_layouts) EXPECT_TRUE(catalog.find(id)) << id;
    }
  }
  EXPECT_NE(bay_like("tree-psb", "x", "/x").error().hint.find("tree-psp"), std::string::npos);
}

TEST(NameRule, WhatItWritesItReads) {
  expect_property("expand, then match word by word", [] {
    const auto hex = [](std::size_t digits) {
      return *rc::gen::container<std::string>(digits, rc::gen::elementOf(std::string("0123456789abcdef")));
    };
    const auto word = [] {
      return *rc::gen::nonEmpty(
          rc::gen::container<std::string>(rc::gen::elementOf(std::string("abcXYZ019 -_"))));
    };
    NameFacts facts;
    facts.game.platform = *rc::gen::element(Platform::wii, Platform::wiiu, Platform::n3ds);
    const std::uint64_t high = facts.game.platform == Platform::wii    ? 0x00010000
                               : facts.game.platform == Platform::n3ds ? 0x00040000
                                                                       : 0x00050000;
    facts.game.title_id = (high << 32) | *rc::gen::inRange<std::uint32_t>(1, 0xFFFFFFFF);
    facts.account = hex(8);
    facts.slot = *rc::gen::inRange(0, 999);
    facts.save_name = "s" + word() + "e";
    const auto rule = NameRule::parse("t/{title.high}/{title.low}/u-{account}/{slot.8}/{save.name}.bin");
    const auto path = rule->expand(facts);
    RC_ASSERT(path.has_value());
    NameRule::Words words;
    std::string rest = *path;
    for (std::size_t i = 0; i < rule->components(); ++i) {
      const auto slash = rest.find('/');
      const auto found = rule->match(i, rest.substr(0, slash), facts.game.platform);
      RC_ASSERT(found.has_value());
      words.insert(found->begin(), found->end());
      rest = slash == std::string::npos ? "" : rest.substr(slash + 1);
    }
    const NameFacts back = facts_of_words(words, facts.game.platform);
    RC_ASSERT(back.game.title_id == facts.game.title_id);
    RC_ASSERT(back.account == facts.account);
    RC_ASSERT(back.slot == facts.slot);
    RC_ASSERT(back.save_name == facts.save_name);
  });
}

TEST(NameRule, WordsHaveTheirForms) {
  const auto matches = [](const char* rule, const char* name, Platform platform) {
    return NameRule::parse(rule)->match(0, name, platform).has_value();
  };
  EXPECT_TRUE(matches("{game.code}{suffix}", "ULES99031MOOR00", Platform::psp));
  EXPECT_TRUE(matches("{game.code}{suffix}", "ules99031", Platform::psp)) << "either case";
  EXPECT_FALSE(matches("{game.code}{suffix}", "README", Platform::psp));
  EXPECT_FALSE(matches("{title.high}", "00040000", Platform::wii)) << "another console's";
  EXPECT_TRUE(matches("{title.high}", "00010004", Platform::wii));
  EXPECT_FALSE(matches("{title.low}", "0ff9920", Platform::n3ds));
  EXPECT_FALSE(matches("{title.low}", "0ff9920g", Platform::n3ds));
  const auto words = NameRule::parse("{game.maker}-{game.code}-{save.name}.gci")
                         ->match(0, "99-G99P-a-b.c.gci", Platform::gc);
  ASSERT_TRUE(words);
  EXPECT_EQ(words->at("save.name"), "a-b.c");
  const auto stem = NameRule::parse("{rom.stem}{ext}")->match(0, "A. B (v1.2).sav", Platform::gba);
  EXPECT_EQ(stem->at("rom.stem"), "A. B (v1.2)");
  EXPECT_EQ(facts_of_words({{"code.hex", "485a3950"}, {"title.high", "00010000"}}, Platform::wii).game.code,
            "HZ9P");
}

class BayScan : public testing::Test {
 protected:
  std::vector<HeldSave> scan(MemoryBay& bay) {
    ScanOptions options;
    options.titles = &titles_;
    const auto saves = scan_bay(catalog_, bay.bay, bay.store, options);
    EXPECT_TRUE(saves);
    return saves ? *saves : std::vector<HeldSave>{};
  }
  Catalog catalog_;
  TitleBook titles_ = arcade_titles();
};

TEST_F(BayScan, ATreeOfIdsWithItsExtraData) {
  MemoryBay bay("sd", "tree-3ds");
  bay.put("TITLE/00040000/0FF99200/data/00000001/world.bin", noise(900, 1));
  bay.put("TITLE/00040000/0FF99200/data/00000001/deep/er.bin", noise(100, 1));
  bay.put("extdata/00000000/000ff992/user/stamps", noise(10, 1));
  bay.put("extdata/00000000/000aaaaa/user/other", noise(10, 1));
  bay.put("TITLE/00010000/0FF99200/data/00000001/x", noise(10, 1));
  const auto saves = scan(bay);
  ASSERT_EQ(saves.size(), 3U);
  EXPECT_EQ(saves[0].path, "TITLE/00040000/0FF99200/data/00000001") << "either letter case";
  EXPECT_EQ(saves[0].label, "Brine and Bellows");
  EXPECT_EQ(saves[0].facts.game.region, Region::europe);
  EXPECT_EQ(saves[0].facts.slot, 1);
  EXPECT_EQ(saves[0].files, 2U);
  EXPECT_EQ(saves[0].size_bytes, 1000U);
  EXPECT_EQ(saves[1].place, "extra");
  EXPECT_EQ(saves[1].label, "");
  EXPECT_EQ(saves[2].label, "Brine and Bellows") << "its extra data";
}

TEST_F(BayScan, LabelsComeFromTheSavesOwnFiles) {
  MemoryBay psp("stick", "tree-psp");
  ParameterFile parameters;
  ASSERT_TRUE(parameters.set("TITLE", std::string("Winter Mooring"), 128));
  ASSERT_TRUE(parameters.set("SAVEDATA_TITLE", std::string("Day 3"), 128));
  psp.put("PSP/SAVEDATA/ULES99031A/PARAM.SFO", parameters.encode());
  psp.put("PSP/SAVEDATA/ULES99031A/ICON0.PNG", noise(50, 1));
  psp.put("PSP/SAVEDATA/ULES99031B/PARAM.SFO", parameters.encode().slice(0, 30));
  psp.put("PSP/SAVEDATA/ULES99031C/DATA.BIN", Blob::filled(100, 0));
  const auto saves = scan(psp);
  ASSERT_EQ(saves.size(), 3U);
  EXPECT_EQ(saves[0].label, "Winter Mooring / Day 3");
  EXPECT_TRUE(saves[0].thumbnail);
  EXPECT_EQ(saves[0].facts.suffix, "A");
  EXPECT_EQ(saves[0].facts.game.region, Region::europe);
  EXPECT_EQ(saves[1].health, Health::damaged);
  EXPECT_EQ(saves[2].health, Health::empty);

  MemoryBay drive("drive", "tree-x360");
  BlockPackage package = fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "Marek", 2});
  ASSERT_TRUE(package.put("a", noise(100, 1).view(), 0));
  drive.put("content/E000A11D00000001/5A5A0993/00000001/jetty", package.image());
  std::vector<Byte> broken = bytes_of(package.image());
  broken.back() ^= 1;
  drive.put("content/E000A11D00000001/5A5A0993/00000001/other", Blob::copy_of(broken));
  drive.put("content/E000A11D00000002/5A5A0993/00000001/jetty/a", noise(100, 1));
  const auto there = scan(drive);
  ASSERT_EQ(there.size(), 3U);
  EXPECT_EQ(there[0].label, "Stone Jetty / Marek");
  EXPECT_EQ(there[0].kind, SaveKind::package);
  EXPECT_EQ(there[1].health, Health::damaged);
  EXPECT_EQ(there[2].kind, SaveKind::package_files);
  EXPECT_EQ(accounts_of(there), (std::vector<std::string>{"E000A11D00000001", "E000A11D00000002"}));
}

TEST_F(BayScan, CardsEntryByEntryAndSingleSavesInTheirTree) {
  MemoryBay shared("club", "shared-card");
  const auto card = make_card(CardKind::gc);
  const CardSave save = made_save(CardKind::gc, 1, 2, 7);
  ASSERT_TRUE(card->put(save));
  shared.put("cards/gc-card-2.raw", card->image());
  const auto saves = scan(shared);
  ASSERT_EQ(saves.size(), 1U);
  EXPECT_EQ(saves[0].entry, save.name);
  EXPECT_EQ(saves[0].facts.slot, 2);
  EXPECT_EQ(saves[0].facts.game.code, describe(save).code);
  MemoryBay tree("tree", "single-save-tree");
  tree.put("EUR/Card B/99-X99P-name.gci", *to_single_save(save));
  tree.put("EUR/Card B/99-X99P-junk.gci", noise(700, 1));
  const auto singles = scan(tree);
  ASSERT_EQ(singles.size(), 2U);
  EXPECT_EQ(singles[0].health, Health::damaged);
  EXPECT_EQ(singles[1].entry, save.name);
  EXPECT_EQ(singles[1].facts.slot, 2);
}

TEST_F(BayScan, AFileBelongsToTheGameWhoseRomItIsNamedAfter) {
  MemoryBay bay("pc", "stem-folder");
  bay.put("roms/Skiff.z64", n64_rom());
  bay.put("saves/Skiff.srm", *pack(layout(catalog_, "n64.combined"),
                                   Save{Platform::n64, {{{PartKind::sram, 0}, noise(32768, 1), true}}}));
  bay.put("saves/Unknown.srm", noise(8192, 2));
  bay.put("saves/blank.sav", Blob::filled(32768, 0xff));
  bay.put("saves/notes.txt", noise(10, 2));
  const auto saves = scan(bay);
  ASSERT_EQ(saves.size(), 3U);
  for (const HeldSave& save : saves) {
    if (save.path == "saves/Skiff.srm") {
      EXPECT_EQ(save.facts.game.code, "N99P");
    }
    if (save.path == "saves/Unknown.srm") {
      EXPECT_EQ(save.label, "Unknown");
    }
    if (save.path == "saves/blank.sav") {
      EXPECT_EQ(save.health, Health::empty);
    }
  }
}

TEST_F(BayScan, ASecondLookReadsNothingThatIsAsItWas) {
  MemoryBay bay("sd", "tree-psp");
  ParameterFile parameters;
  ASSERT_TRUE(parameters.set("TITLE", std::string("Winter Mooring"), 128));
  for (int i = 10; i < 30; ++i)
    bay.put("PSP/SAVEDATA/ULES990" + std::to_string(i) + "A/PARAM.SFO", parameters.encode());
  MemoryStore home;
  ScanOptions options;
  ScanMemory memory;
  options.memory = &memory;
  const auto first = *scan_bay(catalog_, bay.bay, bay.store, options);
  ASSERT_TRUE(memory.changed());
  ASSERT_TRUE(memory.save(home, "x.scan"));
  ScanMemory again = ScanMemory::load(home, "x.scan");
  options.memory = &again;
  const auto second = *scan_bay(catalog_, bay.bay, bay.store, options);
  EXPECT_FALSE(again.changed());
  ASSERT_EQ(second.size(), first.size());
  for (std::size_t i = 0; i < first.size(); ++i) {
    EXPECT_EQ(second[i].label, first[i].label);
    EXPECT_EQ(second[i].health, first[i].health);
  }
  // A file that rotted is no memory at all.
  std::vector<Byte> rotten = bytes_of(home.files().at("x.scan"));
  rotten[rotten.size() / 2] ^= 1;
  ASSERT_TRUE(home.replace("x.scan", rotten));
  ScanMemory none = ScanMemory::load(home, "x.scan");
  options.memory = &none;
  (void)scan_bay(catalog_, bay.bay, bay.store, options);
  EXPECT_TRUE(none.changed());
}

TEST(HostileTrees, LinksDeepOnesAndOddNames) {
  namespace fs = std::filesystem;
  const Folder folder;
  const std::string root = folder / "sd";
  const std::string save = root + "/title/00040000/0ff99200/data/00000001";
  fs::create_directories(save + "/below");
  LocalStore disk;
  ASSERT_TRUE(disk.replace(save + "/a.bin", noise(100, 1).view()));
  ASSERT_TRUE(disk.replace(save + "/below/\xff\xfe name", noise(100, 1).view()));
  fs::create_directory_symlink(save, save + "/below/loop");
  fs::create_directory_symlink("/etc", root + "/title/00040000/0ff99201");
  fs::create_symlink("/etc/passwd", save + "/outside");
  fs::create_directories(root + "/title/00040000/0ff99202/data/00000001/" + [] {
    std::string deep;
    for (int i = 0; i < 30; ++i) deep += "d/";
    return deep;
  }());
  ASSERT_TRUE(disk.replace(root + "/TITLE/x", noise(1, 1).view()));
  LocalStore store(root);
  const Bay bay = *bay_like("tree-3ds", "sd", root);
  const auto saves = scan_bay(Catalog(), bay, store);
  ASSERT_TRUE(saves) << saves.error().message;
  ASSERT_EQ(saves->size(), 2U);
  EXPECT_EQ((*saves)[0].files, 2U) << "no link is followed";
  const auto tree = read_tree(store, "title/00040000/0ff99200/data/00000001");
  ASSERT_TRUE(tree);
  EXPECT_EQ(tree->size(), 2U);
  EXPECT_EQ(read_tree(store, "title/00040000/0ff99202/data").error().code, ErrorCode::unsupported);
  EXPECT_EQ(in_case_of_disk(store, "title/00040000/0FF99200/DATA/00000001/A.BIN"),
            "title/00040000/0ff99200/data/00000001/a.bin");
}

TEST(Titles, AreCompletedFoundByRegionAndLearned) {
  TitleBook book = arcade_titles();
  GameId game;
  game.platform = Platform::n3ds;
  game.title_id = 0x0FF99200;  // some trees have the lower half only
  book.complete(game);
  EXPECT_EQ(game.title, "Brine and Bellows");
  EXPECT_EQ(title_id_text(game), "00040000/0FF99200");
  GameId winter;
  winter.platform = Platform::psp;
  winter.code = "ULES99031";
  winter.region = Region::europe;
  EXPECT_EQ(book.in_region(winter, Region::north_america)->code, "ULUS99031");
  EXPECT_FALSE(book.in_region(winter, Region::japan));
  GameId japanese = winter;
  japanese.title = "Winter Mooring";
  japanese.code = "ULJM99031";
  japanese.region = Region::japan;
  EXPECT_TRUE(book.learn(japanese));
  EXPECT_FALSE(book.learn(japanese));
  const auto again = TitleBook::parse(book.to_toml(), "x");
  ASSERT_TRUE(again) << again.error().message;
  EXPECT_EQ(again->titles().size(), 5U);
  EXPECT_EQ(again->in_region(winter, Region::japan)->code, "ULJM99031");
  EXPECT_NE(TitleBook::parse("[[title]]\nplatform = \"3ds\"\ntitle = \"x\"\nid = \"12\"\n", "t.toml")
                .error()
                .message.find("line 4"),
            std::string::npos);
}

}  // namespace
}  // namespace bayswap::test
