// Bays of every shape, downloads and versions, through the binary.
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

using BayCli = DemoArcade;

TEST_F(BayCli, FormsOfBaysAreListedAddedAndScanned) {
  EXPECT_EQ(json({"bay", "list", "--forms"}).size(), 17U);
  EXPECT_EQ(bayswap({"bay", "add", "stick", "--like", "tree-psp", "--root", path("ferry-sd")}).code, 0);
  const auto scanned = json({"list", "stick"});
  ASSERT_EQ(scanned["saves"].size(), 1U);
  const auto& save = scanned["saves"][0];
  EXPECT_EQ(save["label"], "Winter Mooring / Harbour ledger");
  EXPECT_EQ(save["game"]["code"], "ULES99031");
  EXPECT_EQ(save["health"], "good");
  EXPECT_TRUE(save["thumbnail"].get<bool>());
  EXPECT_EQ(json({"list", "stick"}), scanned) << "from memory";
  write("ferry-sd/PSP/SAVEDATA/ULES99031MOOR00/PARAM.SFO", noise(20, 1));
  EXPECT_EQ(json({"list", "stick"}, 1)["saves"][0]["label"], "Winter Mooring") << "it has changed";
  const Outcome wrong = bayswap({"bay", "add", "x", "--like", "tree-psb", "--root", "."});
  EXPECT_EQ(wrong.code, 2);
  EXPECT_TRUE(has(wrong.err, "tree-psp"));
  EXPECT_EQ(bayswap({"bay", "add", "x", "--like", "tree-psp"}).code, 2);
  EXPECT_EQ(bayswap({"list", "nobody"}).code, 2);
  EXPECT_EQ(bayswap({"bay", "add", "gone", "--like", "tree-psp", "--root", path("gone")}).code, 0);
  EXPECT_EQ(bayswap({"list", "gone"}).code, 4);
  EXPECT_EQ(std::filesystem::status(path("home/bays")).permissions() & std::filesystem::perms(077),
            std::filesystem::perms::none)
      << "servers and users are nobody else's business";
}

TEST_F(BayCli, AnEveningAcrossShapes) {
  const std::vector<std::string> to_home{"--from", "ferry-sd", "--to", "home-trees", "--yes"};
  const auto carry = [&](std::vector<std::string> words) {
    words.insert(words.begin(), "carry");
    words.insert(words.end(), to_home.begin(), to_home.end());
    return bayswap(words);
  };
  EXPECT_EQ(carry({"Brine"}).code, 0);
  EXPECT_EQ(read("home-trees/title/00040000/0ff99200/data/00000001/world/tides.dat"),
            read("ferry-sd/title/00040000/0ff99200/data/00000001/world/tides.dat"));
  EXPECT_TRUE(exists("home-trees/title/00040000/0ff99200/data/00000001/notes.txt"));
  EXPECT_TRUE(exists("home-trees/extdata/00000000/000ff992/user/stamps.bin"));
  const Outcome refused = carry({"Winter Mooring"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_TRUE(has(refused.err, "--region north-america"));
  EXPECT_EQ(carry({"Winter Mooring", "--region", "north-america"}).code, 0);
  EXPECT_TRUE(has(text_of(read("home-trees/PSP/SAVEDATA/ULUS99031MOOR00/PARAM.SFO")), "ULUS99031MOOR00"));
  const auto all = json({"carry", "--all", "--from", "ferry-sd", "--to", "home-trees", "--yes"}, 1);
  EXPECT_EQ(all["same"], 1);
  EXPECT_EQ(all["refused"], 1) << "one refusal stops nothing else";
  EXPECT_EQ(bayswap({"carry", "--from", "ferry-sd", "--to", "home-trees"}).code, 2) << "which save?";
  EXPECT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_EQ(bayswap({"undo", "1", "--yes"}).code, 0);
  EXPECT_FALSE(exists("home-trees/title/00040000/0ff99200/data/00000001/world/tides.dat"));
}

TEST_F(BayCli, AccountsAreRememberedForTwoBays) {
  const std::vector<std::string> carry{"carry", "AHLP",       "--from", "clubroom-console",
                                       "--to",  "home-trees", "--yes"};
  EXPECT_EQ(bayswap(carry).code, 3) << "whose?";
  auto said = carry;
  said.insert(said.end(), {"--account", "80000001=80000012"});
  EXPECT_EQ(bayswap(said).code, 0);
  EXPECT_EQ(read("home-trees/save/9e3779b9/user/80000012/save.bin"),
            read("clubroom-console/usr/save/00050000/1ff99300/user/80000001/save.bin"));
  const Outcome again = bayswap(carry);
  EXPECT_EQ(again.code, 0) << again.err;
}

TEST_F(BayCli, WhatIsInUseIsNotWritten) {
  const std::vector<std::string> carry{"carry", "Lantern Skiff", "--from", "bench",
                                       "--to",  "quay-tv",       "--yes"};
  const Blob own = read(tv_save);
  const int open_file = open(path(tv_save).c_str(), O_RDONLY | O_CLOEXEC);
  const Outcome busy = bayswap(carry);
  EXPECT_EQ(busy.code, 3);
  EXPECT_TRUE(has(busy.err, "has it open"));
  close(open_file);
  write(tv_save + ".lock", noise(1, 1));
  EXPECT_TRUE(has(bayswap(carry).err, "lock beside it"));
  std::filesystem::remove(path(tv_save + ".lock"));
  ASSERT_TRUE(LocalStore().replace(path(tv_save), own.view()));
  const Outcome fresh = bayswap(carry);
  EXPECT_EQ(fresh.code, 3);
  EXPECT_TRUE(has(fresh.err, "was changed"));
  EXPECT_EQ(read(tv_save), own);
  auto waiting = carry;
  waiting.emplace_back("--wait");
  EXPECT_EQ(bayswap(waiting).code, 0);
  EXPECT_NE(read(tv_save), own);
  EXPECT_EQ(bayswap({"undo", "--yes"}).code, 0) << "what we wrote ourselves is not in use";
}

TEST_F(BayCli, VersionsAreShownRestoredExportedAndPruned) {
  const std::string save = "home-trees/title/00040000/0ff99200/data/00000001/harbour.bin";
  const Blob first = read(save);
  const std::vector<std::string> carry{"carry", "Brine", "--from", "ferry-sd", "--to", "home-trees", "--yes"};
  ASSERT_EQ(bayswap(carry).code, 0);
  const Blob second = read(save);
  write("ferry-sd/title/00040000/0ff99200/data/00000001/harbour.bin", noise(6000, 9));
  ASSERT_EQ(bayswap(carry).code, 0);
  const Outcome versions = bayswap({"logbook", "Brine"});
  EXPECT_TRUE(has(versions.out, "entry 2"));
  EXPECT_TRUE(has(versions.out, "% differ"));
  ASSERT_EQ(bayswap({"restore", "Brine", "--entry", "1", "--yes"}).code, 0);
  EXPECT_EQ(read(save), second);
  ASSERT_EQ(bayswap({"restore", "Brine", "--entry", "1", "--before", "--yes"}).code, 0);
  EXPECT_EQ(read(save), first);
  ASSERT_EQ(bayswap({"restore", "Brine", "--entry", "2", "--to", "locker-sd", "--yes"}).code, 0);
  EXPECT_EQ(read("locker-sd/backups/3ds/0ff99200/slot-1/harbour.bin"), noise(6000, 9));
  EXPECT_EQ(bayswap({"restore", "Brine", "--entry", "99", "--yes"}).code, 4);
  ASSERT_EQ(bayswap({"logbook", "export", folder_ / "disk"}).code, 0);
  EXPECT_EQ(bayswap({"logbook", "prune", "--keep", "1", "--per-save"}).code, 3) << "nobody was asked";
  const auto would = json({"logbook", "prune", "--keep", "1", "--per-save", "--dry-run"});
  const auto pruned = json({"logbook", "prune", "--keep", "1", "--per-save", "--yes"});
  EXPECT_EQ(would["entries"], pruned["entries"]);
  EXPECT_EQ(would["bytes"], pruned["bytes"]);
  EXPECT_GE(pruned["entries"], 2);
  EXPECT_EQ(json({"logbook", "check"})["problems"].size(), 0U);
  EXPECT_EQ(bayswap({"restore", "Brine", "--entry", "2", "--yes"}).code, 4) << "it is gone";
  ASSERT_EQ(bayswap({"logbook", "import", folder_ / "disk"}).code, 0);
  EXPECT_EQ(json({"logbook", "Brine"}).size(), 5U) << "and back from the other disk";
  // The index lost, then broken.
  const auto before = json({"logbook"});
  std::filesystem::remove(path("home/logbook/index.sqlite"));
  EXPECT_EQ(json({"logbook"}), before);
  write("home/logbook/index.sqlite", noise(5000, 1));
  EXPECT_EQ(bayswap({"logbook", "check"}).code, 4);
  EXPECT_EQ(bayswap({"logbook", "check", "--repair"}).code, 0);
  EXPECT_EQ(json({"logbook"}), before);
  EXPECT_EQ(bayswap({"logbook", "import", folder_ / "nowhere"}).code, 4);
}

TEST_F(BayCli, AnExportedLogbookWithoutItsIndexIsReadFromItsRecords) {
  ASSERT_EQ(bayswap({"carry", "Brine", "--from", "ferry-sd", "--to", "home-trees", "--yes"}).code, 0);
  const std::string copy = folder_ / "copy";
  ASSERT_EQ(bayswap({"logbook", "export", copy}).code, 0);
  for (const char* name : {"index.sqlite", "index.sqlite-journal"})
    std::filesystem::remove(copy + "/" + name);
  const Outcome taken = bayswap({"--home", folder_ / "other", "logbook", "import", copy});
  EXPECT_EQ(taken.code, 0) << taken.err;
  EXPECT_TRUE(has(taken.out, "1 new entry came from"));
  EXPECT_FALSE(std::filesystem::exists(copy + "/index.sqlite")) << "what is read from is not written to";
  EXPECT_TRUE(has(bayswap({"--home", folder_ / "other", "logbook"}).out, "Brine and Bellows"));
  EXPECT_EQ(bayswap({"logbook", "import", path("ferry-sd")}).code, 4);
}

TEST_F(BayCli, ABaysSavesAreKeptAndComeBackAllOfThem) {
  const auto kept = json({"backup", "home-trees"});
  ASSERT_GT(kept["kept"].get<int>(), 2);
  EXPECT_EQ(kept["failed"], 0);
  const auto again = json({"backup", "home-trees"});
  EXPECT_EQ(again["kept"], 0) << "what has not changed costs nothing";
  EXPECT_EQ(again["same"], kept["kept"]);
  // Nothing was changed, so there is nothing to undo.
  EXPECT_TRUE(has(bayswap({"undo", "--yes"}).err, "nothing to undo"));
  std::map<std::string, std::string> before;
  const auto files = [this] {
    std::map<std::string, std::string> found;
    for (const auto& one : std::filesystem::recursive_directory_iterator(path("home-trees")))
      if (one.is_regular_file()) {
        std::ifstream file(one.path(), std::ios::binary);
        found[one.path()] = {std::istreambuf_iterator<char>(file), {}};
      }
    return found;
  };
  before = files();
  // One save is played on and kept, another deleted with its folders; then all come back as they were first.
  std::string some;
  for (const auto& save : kept["saves"])
    if (some.empty() && save["outcome"] == "kept") some = save["path"];
  std::filesystem::remove_all(some);
  const std::string version = std::to_string(kept["saves"][0]["entry"].get<int>());
  const Outcome back = bayswap({"restore", "home-trees", "--entry", version, "--all", "--yes"});
  EXPECT_EQ(back.code, 0) << back.err;
  EXPECT_TRUE(files() == before);
  EXPECT_EQ(bayswap({"backup", "home-trees", "no such save"}).code, 4);
  EXPECT_EQ(bayswap({"backup", "nowhere"}).code, 2);
}

TEST_F(BayCli, DownloadsAndPackages) {
  const std::string jetty = "clubroom-drive/content/E000A11D00000001/5A5A0993/00000001/jetty";
  std::filesystem::copy(path(jetty), folder_ / "download.bin");
  const Outcome carried = bayswap(
      {"carry", "--outside", folder_ / "download.bin", "--to", "home-trees", "--yes", "--accept", "newer"});
  EXPECT_EQ(carried.code, 0) << carried.err;
  EXPECT_TRUE(has(carried.out, "carry Stone Jetty (5A5A0993)"));
  EXPECT_TRUE(exists("home-trees/content/E000B22D00000002/5A5A0993/00000001/jetty/photos/lamp.bin"));
  EXPECT_EQ(bayswap({"carry", "--outside", folder_ / "missing.zip", "--to", "home-trees", "--yes"}).code, 4);
  EXPECT_EQ(bayswap({"carry", "--outside", path("home/titles.toml"), "--to", "home-trees", "--yes"}).code, 4);
  EXPECT_EQ(bayswap({"carry", "--outside", folder_ / "download.bin", "--to", "nobody"}).code, 2);
  EXPECT_EQ(json({"inspect", path(jetty)})[0]["kind"], "package");
  EXPECT_EQ(bayswap({"convert", path(jetty), "--out", folder_ / "files/"}).code, 0);
  EXPECT_EQ(
      bayswap({"convert", folder_ / "files/jetty.sav", "--base", path(jetty), "--out", path(jetty)}).code, 3);
  EXPECT_EQ(bayswap({"convert", folder_ / "files", "--base", path(jetty), "--account", "E000B22D00000002",
                     "--out", folder_ / "mine"})
                .code,
            0);
  EXPECT_TRUE(has(bayswap({"inspect", folder_ / "mine"}).out, "E000B22D00000002"));
  EXPECT_TRUE(has(bayswap({"inspect", folder_ / "mine"}).out, "every hash is right"));
}

}  // namespace
}  // namespace bayswap::test
