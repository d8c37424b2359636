#include <gtest/gtest.h>
#include <bayswap/bay.hpp>

#include "base/path.hpp"
#include "support/builders.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

constexpr std::string_view good = R"(about = "The TV box"
root = "/media/tv"

[platform.n64]
path = "saves/{rom.stem}{ext}"
layout = "n64.combined"
roms = "roms"
)";

std::string with(std::string_view from, std::string_view to) {
  std::string text(good);
  const auto at = text.find(from);
  EXPECT_NE(at, std::string::npos) << from;
  return text.replace(at, from.size(), to);
}

NameFacts facts() {
  return {"roms/Lantern Skiff (Europe).z64",
          {Platform::n64, "N99P", "LANTERN SKIFF", Region::europe, 1},
          2,
          ".srm"};
}

TEST(BayFile, ReadsAndWritesBack) {
  const auto bay = parse_bay(good, "tv", "tv.toml", "/home/bays");
  ASSERT_TRUE(bay) << bay.error().message;
  EXPECT_EQ(bay->root, "/media/tv");
  ASSERT_NE(bay->rule(Platform::n64), nullptr);
  EXPECT_EQ(bay->rule(Platform::gb), nullptr);
  EXPECT_EQ(to_toml(*parse_bay(to_toml(*bay), "tv", "f", "/")), to_toml(*bay));
  EXPECT_EQ(parse_bay(with("/media/tv", "../../tv"), "tv", "f", "/w/home/bays")->root, "/w/tv")
      << "relative to the file";
  setenv("HOME", "/home/ida", 1);
  EXPECT_EQ(parse_bay(with("/media/tv", "~/tv"), "tv", "f", "/w")->root, "/home/ida/tv");
  EXPECT_EQ(parse_bay(with("/media/tv", "~tv"), "tv", "f", "/w")->root, "/w/~tv");
}

TEST(BayFile, MistakesAreNamedWithTheirLine) {
  const std::vector<std::pair<std::string, std::string>> rows{
      {with("about", "abot"), "line 1: unknown word 'abot'"},
      {with("root =", "rot ="), "root is missing"},
      {with("layout =", "lay ="), "layout is missing"},
      {with("roms = ", "rooms = "), "needs a ROM"},
      {with("{rom.stem}", "{rom.stm}"), "line 5: unknown word {rom.stm}"},
      {with("{rom.stem}", "{rom.stem"), "line 5"},
      {with("saves/", "../saves/"), "line 5"},
      {with("saves/", "/saves/"), "line 5"},
      {with("\"roms\"", "\"../roms\""), "line 7"},
      {with("platform.n64", "platform.n65"), "line 4: unknown platform 'n65'"},
      {with("roms = \"roms\"", "roms = \"roms\"\nslots = 3"), "line 8: unknown word 'slots'"},
      {with("[platform.n64]", "[platfrm.n64]"), "no platform"},
      {"root = \"/x\"\n[platform]\nn64 = 3\n", "line 3"},
      {"root = 5", "line 1: root must be a text"},
  };
  for (const auto& [text, expected] : rows) {
    const auto bay = parse_bay(text, "tv", "f", "/");
    ASSERT_FALSE(bay) << text;
    EXPECT_EQ(bay.error().code, ErrorCode::bad_usage);
    EXPECT_NE(bay.error().message.find(expected), std::string::npos)
        << bay.error().message << "\nwanted: " << expected;
  }
  EXPECT_NE(parse_bay(with("{rom.stem}", "{rom.stm}"), "tv", "f", "/").error().hint.find("rom.stem"),
            std::string::npos);
}

TEST(NameRule, EveryWordHasItsValue) {
  const auto expand = [](std::string_view rule) { return *NameRule::parse(rule)->expand(facts()); };
  EXPECT_EQ(expand("saves/{rom.stem}{ext}"), "saves/Lantern Skiff (Europe).srm");
  EXPECT_EQ(expand("{rom.name}.sav"), "Lantern Skiff (Europe).z64.sav");
  EXPECT_EQ(expand("{platform}/{game.code}/{game.title}-{slot}"), "n64/N99P/LANTERN SKIFF-2");
  EXPECT_EQ(expand("{region}/{revision}"), "Europe/1");
}

TEST(NameRule, MissingFactsAreNamed) {
  NameFacts none = facts();
  none.rom_path.reset();
  none.game.code.clear();
  EXPECT_EQ(NameRule::parse("{rom.stem}")->expand(none).error().code, ErrorCode::not_found);
  EXPECT_NE(NameRule::parse("{game.code}")->expand(none).error().message.find("code is not known"),
            std::string::npos);
  EXPECT_TRUE(NameRule::parse("{game.title}")->expand(none));
}

TEST(NameRule, NoTitleLeadsOutOfTheBay) {
  expect_property("whatever a header says, the path stays below the root", [] {
    NameFacts hostile = facts();
    hostile.game.title =
        *rc::gen::oneOf(rc::gen::arbitrary<std::string>(),
                        rc::gen::element<std::string>("..", "../../etc/x", "a/b", ".", "C:\\x", " . "));
    hostile.game.code = *rc::gen::arbitrary<std::string>();
    const auto path = NameRule::parse("saves/{game.title}/{game.code}{slot}")->expand(hostile);
    if (path)
      RC_ASSERT(is_safe_relative(*path) && path->starts_with("saves/") &&
                std::count(path->begin(), path->end(), '/') == 2);
  });
}

class BaysAtHome : public testing::Test {
 protected:
  void write(const std::string& path, std::string_view text) {
    ASSERT_TRUE(LocalStore().replace(path, text_blob(text).view()));
  }
  Folder folder_;
  Home home_ = Home::under(folder_.path());
};

TEST_F(BaysAtHome, AreFoundByNameOrPath) {
  write(home_.bays + "/tv.toml", good);
  write(home_.bays + "/broken.toml", "root = ");
  write(home_.bays + "/Bad Name.toml", good);
  write(home_.bays + "/notes.txt", "not a bay");
  EXPECT_EQ(find_bay(home_, "tv")->name, "tv");
  EXPECT_EQ(find_bay(home_, home_.bays + "/tv.toml")->name, "tv");
  const auto unknown = find_bay(home_, "tvv");
  ASSERT_FALSE(unknown);
  EXPECT_NE(unknown.error().hint.find("'tv'"), std::string::npos);
  EXPECT_FALSE(find_bay(home_, "../tv"));
  const auto all = list_bays(home_);
  ASSERT_TRUE(all);
  ASSERT_EQ(all->size(), 3U);
  EXPECT_TRUE((*all)[2].second);
  EXPECT_FALSE((*all)[0].second);
  EXPECT_FALSE((*all)[1].second);
  EXPECT_TRUE(list_bays(Home::under(folder_ / "none"))->empty());
}

TEST_F(BaysAtHome, UsersLayoutsAreLoaded) {
  EXPECT_TRUE(load_catalog(home_));
  write(home_.layouts + "/mine.toml",
        "id = \"n64.mine\"\nplatform = \"n64\"\nname = \"x\"\n[[part]]\nrole = \"sram\"\nat = 8\nsize = "
        "32768\n");
  EXPECT_TRUE(load_catalog(home_)->find("n64.mine"));
  write(home_.layouts + "/second.toml",
        "id = \"n64.mine\"\nplatform = \"n64\"\nname = \"x\"\n[[part]]\nrole = \"sram\"\nat = 8\nsize = "
        "32768\n");
  write(home_.layouts + "/third.toml", "nonsense");
  std::vector<Error> skipped;
  const auto some = load_catalog(home_, &skipped);
  ASSERT_TRUE(some);
  EXPECT_EQ((*some->find("n64.mine"))->origin, home_.layouts + "/mine.toml");
  ASSERT_EQ(skipped.size(), 2U) << "a bad file hurts no other, and is named";
  EXPECT_NE(skipped[0].message.find("second.toml"), std::string::npos);
  EXPECT_NE(skipped[1].message.find("third.toml"), std::string::npos);
}

class BayInMemory : public testing::Test {
 protected:
  Bay bay(std::string_view text) { return *parse_bay(text, "tv", "tv.toml", "/"); }
  void add_rom(const std::string& path, const RomWords& words = {}) {
    ASSERT_TRUE(store_.replace(path, n64_rom(words).view()));
  }
  bool reports(const Bay& bay, std::string_view words) {
    for (const BayProblem& problem : check_bay(bay, catalog_, store_))
      if (problem.text.find(words) != std::string::npos) return true;
    return false;
  }
  MemoryStore store_;
  Catalog catalog_;
};

TEST_F(BayInMemory, RomsAreToldByTheirHeaders) {
  add_rom("roms/a.z64");
  add_rom("roms/1/2/3/4/5/6/7/8/b.bin", {.code = "N98E", .order = RomOrder::swap32});
  add_rom("roms/1/2/3/4/5/6/7/8/9/too deep.z64");
  ASSERT_TRUE(store_.replace("roms/readme.z64", text_blob("no ROM").view()));
  const auto roms = list_roms(store_, bay(good).rules.front());
  ASSERT_TRUE(roms);
  ASSERT_EQ(roms->size(), 2U);
  EXPECT_EQ((*roms)[0].path, "roms/1/2/3/4/5/6/7/8/b.bin");
  EXPECT_EQ((*roms)[0].facts.game.code, "N98E");
}

TEST_F(BayInMemory, PlacesOfASetAreAFileAPart) {
  const auto files = places(catalog_, bay(with("n64.combined", "n64.separate")).rules.front(), facts());
  ASSERT_TRUE(files);
  std::vector<std::string> names;
  for (const SaveFile& file : *files) names.push_back(file.path);
  const std::string stem = "saves/Lantern Skiff (Europe)";
  EXPECT_EQ(names, (std::vector<std::string>{stem + ".eep", stem + ".sra", stem + ".fla", stem + ".mpk",
                                             stem + ".2.mpk", stem + ".3.mpk", stem + ".4.mpk"}));
}

TEST_F(BayInMemory, CheckFindsWhatACarryWouldTripOver) {
  add_rom("roms/a.z64");
  EXPECT_TRUE(check_bay(bay(good), catalog_, store_).empty());
  EXPECT_TRUE(reports(bay(with("n64.combined", "n64.combined2")), "n64.combined2"));
  EXPECT_TRUE(reports(bay(with("saves/{rom.stem}{ext}\"\nlayout = \"n64.combined",
                               "saves/{rom.stem}\"\nlayout = \"n64.separate")),
                      "{ext}"));
  EXPECT_TRUE(reports(bay(with("\"roms\"", "\"none\"")), "can't be listed"));
  EXPECT_TRUE(reports(bay(with("platform.n64", "platform.gb")), "n64.combined is a layout of n64"));
  add_rom("roms/sub/a.v64", {.code = "N98P", .order = RomOrder::swap16});
  EXPECT_TRUE(reports(bay(good), "share the save saves/a.srm"));
}

}  // namespace
}  // namespace bayswap::test
