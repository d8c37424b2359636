// What is inside a save, through the binary: in every form that a save can have, and with everything wrong.
#include <sys/stat.h>

#include <bayswap/package.hpp>

#include <fstream>

#include "support/core_files.hpp"
#include "support/demo_arcade.hpp"
#include "support/sim_cart.hpp"

namespace bayswap::test {
namespace {

class SheetCli : public DemoArcade {
 protected:
  const std::string moth = "bench/dumps/A99P.sav";
  [[nodiscard]] std::string value(const std::string& save, const std::string& path,
                                  std::vector<std::string> more = {}) const {
    std::vector<std::string> words{"sheet", "show", save, path};
    words.insert(words.end(), more.begin(), more.end());
    return json(words)["fields"][0]["value"];
  }
  void sheet(const std::string& name, const std::string& platform, const std::string& rest) const {
    write(name, text_blob("sheet = 1\nid = \"" + platform + ".own\"\n[game]\nplatform = \"" + platform +
                          "\"\n" + rest));
  }
};

TEST_F(SheetCli, OneSaveInEveryFormSaysTheSame) {
  ASSERT_EQ(bayswap({"carry", "A99P", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  const auto shown_dump = json({"sheet", "show", path(moth)});
  EXPECT_EQ(shown_dump["sheet"]["id"], "gba.moth-courier");
  EXPECT_EQ(shown_dump["values"]["save"][1]["courier"], "IDA");
  EXPECT_EQ(shown_dump["copies"][0]["path"], "save[2]");
  for (const auto& finding : shown_dump["findings"]) EXPECT_TRUE(finding["holds"].get<bool>());
  for (const std::string form : {"bench:A99P", "quay-tv:A99P", "quay-tv:Moth Courier"}) {
    EXPECT_EQ(json({"sheet", "show", form})["values"], shown_dump["values"]) << form;
    EXPECT_TRUE(json({"sheet", "diff", path(moth), form})["differences"].empty()) << form;
  }
  EXPECT_EQ(bayswap({"sheet", "diff", "bench:A99P", path("bench/dumps/N99P.sra")}).code, 4) << "another game";
  // Changed in the form that the TV box keeps, and nothing of that but the save.
  const std::string tv = "quay-tv/saves/Moth Courier (Europe).sav";
  const Blob before = read(tv);
  ASSERT_EQ(bayswap({"sheet", "set", "quay-tv:A99P", "save.coins=4242", "--replace"}).code, 0);
  EXPECT_EQ(read(tv).size(), before.size());
  EXPECT_EQ(value(path(tv), "save.coins"), "4242");
  EXPECT_EQ(bayswap({"sheet", "check", "quay-tv:A99P"}).code, 0);
  // The logbook speaks in values, and has both versions.
  const Outcome told = bayswap({"logbook", "A99P"});
  EXPECT_TRUE(has(told.out, "coins 1417 -> 4242"));
  const auto entries = json({"logbook", "A99P"});
  const auto newest = std::max_element(entries.begin(), entries.end(),
                                       [](const auto& a, const auto& b) { return a["id"] < b["id"]; });
  const std::string version = "A99P@" + std::to_string((*newest)["id"].get<int>());
  EXPECT_EQ(value(version, "save.coins"), "4242");
  EXPECT_EQ(bayswap({"sheet", "set", version, "save.coins=1", "--replace"}).code, 2)
      << "the past is not changed";
  // Two versions at once, and one of them into a file: the logbook is free again each time.
  ASSERT_EQ(bayswap({"sheet", "set", "quay-tv:A99P", "save.coins=4300", "--replace"}).code, 0);
  const std::string next = "A99P@" + std::to_string((*newest)["id"].get<int>() + 1);
  const auto steps = json({"sheet", "diff", version, next})["differences"];
  ASSERT_EQ(steps.size(), 2U);
  EXPECT_EQ(steps[1]["after"], "4300");
  EXPECT_EQ(bayswap({"sheet", "find", version, next, "--trend", "changed"}).code, 0);
  ASSERT_EQ(bayswap({"sheet", "set", version, "save.coins=7", "--out", path("then.sav")}).code, 0);
  EXPECT_EQ(value(path("then.sav"), "save.coins", {"--sheet", "gba.moth-courier"}), "7");
  // What is so already begins no new copy, and writes nothing.
  const Blob now = read(tv);
  EXPECT_TRUE(
      json({"sheet", "set", "quay-tv:A99P", "save.coins=4300", "save.badges.lamp=yes", "--replace"})["entry"]
          .is_null());
  EXPECT_EQ(read(tv), now);
  const int first = (*newest)["id"].get<int>();
  ASSERT_EQ(bayswap({"undo", std::to_string(first + 1), "--yes"}).code, 0);
  ASSERT_EQ(bayswap({"undo", std::to_string(first), "--yes"}).code, 0);
  EXPECT_EQ(read(tv), before);
}

TEST_F(SheetCli, ASaveInAState) {
  const auto state = core_files().read("gb/gb-mbc5-32k/coreB/A/Tideward (World).state.auto");
  ASSERT_TRUE(state);
  write("a.state", *state);
  sheet("own.toml", "gb", "[[field]]\nname = \"first\"\nat = 0\ntype = \"u16\"\n");
  const std::vector<std::string> how{"--sheet", path("own.toml"), "--chip", "sram=32768"};
  EXPECT_EQ(value(path("a.state"), "first", how), std::to_string(0x31 | 0x38 << 8));
  std::vector<std::string> set{"sheet", "set", path("a.state"), "first=513", "--out", path("b.state")};
  set.insert(set.end(), how.begin(), how.end());
  ASSERT_EQ(bayswap(set).code, 0);
  EXPECT_EQ(value(path("b.state"), "first", how), "513");
  EXPECT_EQ(read("a.state"), *state);
}

TEST_F(SheetCli, EntriesOfCardsFoldersAndPackages) {
  // A card: the entry is changed, and the card stays sound.
  const auto entries = json({"card", "list", path("clubroom/cards/saltglass.card")});
  const std::string entry =
      path("clubroom/cards/saltglass.card") + ": " + entries["saves"][0]["name"].get<std::string>();
  ASSERT_EQ(bayswap({"sheet", "set", entry, "title=SALTGLASS AGAIN", "--replace"}).code, 0);
  EXPECT_EQ(value(entry, "title"), "SALTGLASS AGAIN");
  EXPECT_EQ(bayswap({"card", "check", path("clubroom/cards/saltglass.card")}).code, 0);
  // A folder: one file of it changes, encrypted.
  const std::string brine = "ferry-sd/title/00040000/0ff99200/data/00000001";
  const Blob world = read(brine + "/world/tides.dat");
  ASSERT_EQ(bayswap({"sheet", "set", path(brine), "harbour.profile[1].coins=5000", "--replace"}).code, 0);
  EXPECT_EQ(value(path(brine), "harbour.profile[1].coins"), "5000");
  EXPECT_EQ(read(brine + "/world/tides.dat"), world);
  EXPECT_EQ(bayswap({"sheet", "check", path(brine)}).code, 0);
  // A package: hashes are right afterwards.
  sheet("jetty.toml", "x360",
        "[[file]]\nname = \"jetty\"\npattern = \"jetty.sav\"\nrecord = "
        "\"jetty\"\n[record.jetty]\n[[record.jetty.field]]\nname = \"word\"\nat = 8\ntype = \"u32\"\norder = "
        "\"big\"\n");
  const std::string jetty = "clubroom-drive/content/E000A11D00000001/5A5A0993/00000001/jetty";
  ASSERT_EQ(
      bayswap({"sheet", "set", path(jetty), "jetty.word=77", "--replace", "--sheet", path("jetty.toml")})
          .code,
      0);
  EXPECT_EQ(value(path(jetty), "jetty.word", {"--sheet", path("jetty.toml")}), "77");
  const auto package = BlockPackage::open(read(jetty));
  ASSERT_TRUE(package);
  EXPECT_TRUE(package->check().empty());
}

TEST_F(SheetCli, ASaveOnACartridge) {
  const SimCart cart({"gba", "sram", 32768, PartKind::sram}, "", read(moth));
  const SimReader reader({cart.folder.path()});
  const std::string where = "cart:" + reader.path();
  const std::vector<std::string> how{"--sheet", "gba.moth-courier"};
  EXPECT_EQ(value(where, "save.courier", how), "IDA");
  ASSERT_EQ(
      bayswap({"sheet", "set", where, "save.coins=31", "--replace", "--sheet", "gba.moth-courier"}).code, 0);
  EXPECT_EQ(value(where, "save.coins", how), "31");
}

TEST_F(SheetCli, AvatarsGoOutAndInInTheConsolesOwnForm) {
  const std::string database = "clubroom-console/shared2/menu/FaceLib/RFL_DB.dat";
  ASSERT_EQ(bayswap({"sheet", "export", path(database), "avatars[2]", "--out", path("suvi.rsd")}).code, 0);
  EXPECT_EQ(read("suvi.rsd").size(), 74U);
  EXPECT_EQ(bayswap({"sheet", "export", path(database), "avatars[2]", "--out", path("suvi.rsd")}).code, 3)
      << "never over a file";
  const auto put = json({"sheet", "import", path(database), "avatars", path("suvi.rsd"), "--replace"});
  EXPECT_EQ(put["notes"].size(), 2U) << "its number is taken, and where it went";
  EXPECT_EQ(value(path(database), "avatars[3].name"), "Suvi");
  EXPECT_EQ(avatars_in(read(database).view()), 3U);
  EXPECT_FALSE(avatar_database_problem(read(database).view()));
  write("short.rsd", Blob::filled(70, 1));
  EXPECT_EQ(bayswap({"sheet", "import", path(database), "avatars", path("short.rsd"), "--replace"}).code, 4);
}

TEST_F(SheetCli, ARecordMovesBetweenSaves) {
  ASSERT_EQ(bayswap({"sheet", "export", path(moth), "save.party[1]", "--out", path("moth.json")}).code, 0);
  const std::string port = "port/moth/sram.bin";
  const std::string target = exists(port) ? port : moth;
  const auto put = json(
      {"sheet", "import", path(target), "save.box[4].place", path("moth.json"), "--out", path("new.sav")});
  EXPECT_FALSE(put["changes"].empty());
  EXPECT_EQ(value(path("new.sav"), "save.box[4].place[1].name", {"--sheet", "gba.moth-courier"}),
            value(path(moth), "save.party[1].name"));
  EXPECT_EQ(bayswap({"sheet", "check", path("new.sav"), "--sheet", "gba.moth-courier"}).code, 0);
}

TEST_F(SheetCli, HowManyCoinsHaveIGot) {
  const std::vector<std::string> evenings{path("home-pc/ledger/monday.sav"),
                                          path("home-pc/ledger/wednesday.sav"),
                                          path("home-pc/ledger/saturday.sav")};
  const auto with = [&](std::vector<std::string> words, const std::vector<std::string>& more) {
    words.insert(words.end(), evenings.begin(), evenings.end());
    words.insert(words.end(), more.begin(), more.end());
    return words;
  };
  const auto finds = json(with({"sheet", "find"}, {"--value", "1250,1875,1640"}))["finds"];
  ASSERT_EQ(finds.size(), 1U);
  EXPECT_EQ(finds[0]["offset"], 0x21);
  EXPECT_EQ(finds[0]["encoding"], "bcd4 big-endian");
  EXPECT_GT(finds[0]["confidence"].get<double>(), 0.99);
  const auto checksums = json(with({"sheet", "checksum"}, {}))["checksums"];
  ASSERT_EQ(checksums.size(), 2U);
  EXPECT_EQ(checksums[0]["kind"], "sum");
  EXPECT_EQ(checksums[0]["offset"], 0x3fc);
  EXPECT_EQ(checksums[0]["from"], 0);
  EXPECT_EQ(checksums[0]["to"], 0x3fc);
  EXPECT_TRUE(checksums[1]["parameters"]["complement"].get<bool>());
  ASSERT_EQ(bayswap(with({"sheet", "draft"}, {"--value", "1250,1875,1640", "--name", "coins", "--platform",
                                              "gb", "--out", path("gull.toml")}))
                .code,
            0);
  const std::vector<std::string> how{"--sheet", path("gull.toml")};
  EXPECT_EQ(value(evenings[2], "coins", how), "1640");
  ASSERT_EQ(
      bayswap({"sheet", "set", evenings[2], "coins=9999", "--replace", "--sheet", path("gull.toml")}).code,
      0);
  EXPECT_EQ(value(evenings[2], "coins", how), "9999");
  EXPECT_EQ(bayswap({"sheet", "check", evenings[2], "--sheet", path("gull.toml")}).code, 0);
  // A second value goes into the same sheet.
  ASSERT_EQ(bayswap(with({"sheet", "draft"}, {"--value", "31,33,36", "--name", "day", "--sheet",
                                              path("gull.toml"), "--out", path("gull.toml")}))
                .code,
            0);
  EXPECT_EQ(value(evenings[2], "day", how), "36");
  EXPECT_EQ(value(evenings[2], "coins", how), "9999");
}

TEST_F(SheetCli, EverythingWrongEndsWithAWordAndTheSaveIntact) {
  const Blob before = read(moth);
  struct Case {
    std::vector<std::string> words;
    int code;
    std::string says;
  };
  write("empty.sav", Blob());
  write("short.sav", before.slice(0, 5000));
  write("broken.json", text_blob("{\"record\": 1"));
  write("bad.toml", text_blob("sheet = 1\nid = \"x\"\n"));
  const std::string save = path(moth);
  const std::vector<Case> cases{
      {{"sheet", "show", path("nothing.sav")}, 4, "does not exist"},
      {{"sheet", "show", path("empty.sav")}, 4, "is empty"},
      {{"sheet", "show", save, "save.coinz"}, 4, "did you mean 'coins'"},
      {{"sheet", "show", save, "save.party[9]"}, 4, "elements are 1 to 3"},
      {{"sheet", "show", save, "--sheet", "gba.moth"}, 2, "gba.moth"},
      {{"sheet", "show", save, "--sheet", path("bad.toml")}, 2, "[game] is missing"},
      {{"sheet", "show", path("bench/dumps/N99P.sra")}, 4, "no sheet fits"},
      {{"sheet", "set", save, "save.coins=12"}, 2, "--replace"},
      {{"sheet", "set", save, "save.coins", "--replace"}, 2, "PATH=VALUE"},
      {{"sheet", "set", save, "save.coins=many", "--replace"}, 2, "not a value of this field"},
      {{"sheet", "set", save, "save.party[1].species=Lampwin", "--replace"}, 2, "did you mean 'Lampwing'"},
      {{"sheet", "set", save, "save.coins=99999999999", "--replace"}, 4, "out of range"},
      {{"sheet", "set", save, "save.coins=1000000", "--replace"}, 3, "--accept purse-holds"},
      {{"sheet", "set", save, "save.seen=3", "--replace"}, 2, "worked out"},
      {{"sheet", "set", save, "save.party=3", "--replace"}, 2, "an array"},
      {{"sheet", "set", save, "save.courier=Überläufer", "--replace"}, 2, "can't be written"},
      {{"sheet", "set", save, "save.party[1].sum=3", "--replace"}, 3, "would not be"},
      {{"sheet", "set", save, "save.coins=5", "--out", save}, 3, "exists already"},
      {{"sheet", "set", path("short.sav"), "save.coins=5", "--replace", "--sheet", "gba.moth-courier"},
       3,
       "does not fit"},
      {{"sheet", "set", path("bench/dumps/N99P.sra"), "save.coins=5", "--replace", "--sheet",
        "gba.moth-courier"},
       3,
       "does not fit"},
      {{"sheet", "check", path("bench/dumps/N99P.sra"), "--sheet", "gba.moth-courier"}, 4, "does not fit"},
      {{"sheet", "check", path("bench/dumps/N99P.sra"), "--recompute", "--sheet", "gba.moth-courier"},
       3,
       "does not fit"},
      {{"sheet", "import", save, "save.box[4].place", path("broken.json"), "--replace"}, 4, "no JSON object"},
      {{"sheet", "import", save, "save.box[1].place", path("moth.json"), "--replace"}, 4, ""},
      {{"sheet", "find", save, "--value", "1,2"}, 2, "2 values were given for 1 version"},
      {{"sheet", "checksum", save, save}, 2, "the versions are the same"},
      {{"sheet", "checksum", save, path("short.sav")}, 2, "can't be compared"},
      {{"sheet", "find", save, "--between", "9..1"}, 2, "is not a range"}};
  for (const Case& one : cases) {
    const Outcome outcome = bayswap(one.words);
    EXPECT_EQ(outcome.code, one.code) << one.words[1] << " " << one.words.back() << ": " << outcome.err;
    EXPECT_TRUE(has(outcome.err, one.says));
    EXPECT_TRUE(has(outcome.err, "What to do:"));
    EXPECT_EQ(read(moth), before);
  }
  // A folder that can't be written.
  if (geteuid() != 0) {
    ASSERT_EQ(chmod(path("bench/dumps").c_str(), 0555), 0);
    EXPECT_EQ(bayswap({"sheet", "set", save, "save.coins=5", "--replace"}).code, 5);
    ASSERT_EQ(chmod(path("bench/dumps").c_str(), 0755), 0);
    EXPECT_EQ(read(moth), before);
  }
  // A damaged save: said, not covered up, and repaired when asked for.
  std::vector<Byte> damaged(before.view().begin(), before.view().end());
  damaged[0x6a00] ^= 2;  // a letter of the courier's name
  write(moth, Blob::copy_of(damaged));
  EXPECT_EQ(bayswap({"sheet", "check", save}).code, 1);
  const Outcome shown = bayswap({"sheet", "show", save});
  EXPECT_TRUE(has(shown.out, "should be"));
  EXPECT_EQ(value(save, "save.counter"), "6") << "the older copy is sound, and counts";
  const Outcome repaired = bayswap({"sheet", "check", save, "--recompute"});
  ASSERT_EQ(repaired.code, 0);
  EXPECT_TRUE(has(repaired.out, "save[2] counts now, and no longer save[1]"));
  EXPECT_EQ(bayswap({"sheet", "check", save}).code, 0);
}

}  // namespace
}  // namespace bayswap::test
