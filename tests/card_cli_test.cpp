// Memory cards, through the binary.
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>
#include <bayswap/card.hpp>

#include <algorithm>
#include <filesystem>

#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

namespace fs = std::filesystem;
using CardCli = DemoArcade;

TEST_F(CardCli, CardsAreListedTakenApartAndPutTogether) {
  const std::string card = path("clubroom/cards/saltglass.card");
  const auto listed = json({"card", "list", card});
  EXPECT_EQ(listed["kind"], "ps1");
  EXPECT_EQ(listed["capacity_blocks"], 15);
  EXPECT_EQ(listed["free_blocks"], 11);
  ASSERT_EQ(listed["saves"].size(), 3U);
  EXPECT_EQ(listed["saves"][0]["title"], "Saltglass: IDA");
  EXPECT_EQ(listed["saves"][0]["code"], "SLPS-99001");
  EXPECT_EQ(listed["saves"][1]["state"], "deleted");
  ASSERT_EQ(bayswap({"card", "export", card, "--all", "--out", path("taken")}).code, 0);
  ASSERT_EQ(
      bayswap({"card", "export", card, "BESLPS-99001SUVI", "--parcel", "--out", path("suvi.parcel")}).code,
      0);
  const std::string other = path("other.card");
  ASSERT_EQ(bayswap({"card", "make", "ps1", other}).code, 0);
  const Blob fresh = read("other.card");
  ASSERT_EQ(
      bayswap({"card", "import", other, path("taken/BESLPS-99001IDA.single"), path("suvi.parcel")}).code, 0);
  EXPECT_EQ(json({"card", "list", other})["free_blocks"], 11);
  EXPECT_EQ(bayswap({"card", "import", other, path("suvi.parcel")}).code, 3) << "it is there already";
  EXPECT_EQ(bayswap({"card", "import", other, path("suvi.parcel"), "--replace"}).code, 0);
  ASSERT_EQ(bayswap({"card", "remove", "--yes", other, "BESLPS-99001IDA"}).code, 0);
  ASSERT_EQ(bayswap({"card", "copy", card, "BESLPS-99001IDA", other}).code, 0);
  EXPECT_EQ(bayswap({"card", "check", other}).code, 0);
  const auto entries = json({"logbook"});
  for (const auto& entry : entries) {
    const bool was_made = entry["reason"].get<std::string>().starts_with("card make");
    if (was_made) {
      EXPECT_EQ(read("other.card"), fresh) << "every change can be taken back";
    }
    ASSERT_EQ(bayswap({"undo", std::to_string(entry["id"].get<int>()), "--yes"}).code, 0);
    if (was_made) {
      EXPECT_FALSE(std::filesystem::exists(other)) << "and the card that was made";
    }
  }
}

TEST_F(CardCli, BrokenCardsAreNamedAndMended) {
  const std::string name = "clubroom/cards/saltglass.card";
  const Blob sound = read(name);
  std::vector<Byte> bytes = bytes_of(sound);
  bytes[128 + 127] ^= 0xff;  // a checksum
  write(name, Blob::copy_of(bytes));
  const Outcome broken = bayswap({"card", "check", path(name)});
  EXPECT_EQ(broken.code, 1);
  EXPECT_TRUE(has(broken.out, "frame 1: checksum"));
  EXPECT_EQ(bayswap({"card", "check", path(name), "--repair"}).code, 0);
  EXPECT_EQ(read(name), sound);
  EXPECT_TRUE(has(bayswap({"logbook"}).out, "card"));
  const auto mistake = [&](std::vector<std::string> words, int code, std::string_view piece) {
    words.insert(words.begin(), "card");
    const Outcome outcome = bayswap(words);
    EXPECT_EQ(outcome.code, code) << outcome.err;
    EXPECT_TRUE(has(outcome.err, piece));
    EXPECT_TRUE(has(outcome.err, "What to do: "));
    EXPECT_EQ(read(name), sound);
  };
  mistake({"lst", path(name)}, 2, "list");
  mistake({"list", path("none")}, 4, "does not exist");
  mistake({"list", path(dump)}, 4, "not a supported memory card");
  mistake({"export", path(name), "BESLPS-99001IDB", "--out", path("x")}, 4, "BESLPS-99001IDA");
  mistake({"export", path(name), "--out", path("x")}, 2, "--all");
  mistake({"import", path(name), path(dump)}, 4, "no single save");
  mistake({"remove", path(name), "NOBODY"}, 4, "NOBODY");
  mistake({"make", "ps9", path("x")}, 2, "ps1");
  mistake({"make", "ps1", path(name)}, 3, "exists already");
  EXPECT_FALSE(exists("x"));
}

TEST_F(CardCli, SavesGoBetweenFoldersAndCards) {
  const std::string folder = path("clubroom/cards/ninefold-pier");
  const auto listed = json({"card", "list", folder});
  EXPECT_EQ(listed["kind"], "ps2");
  EXPECT_EQ(listed["form"], "folder");
  ASSERT_EQ(listed["saves"].size(), 2U);
  EXPECT_EQ(listed["saves"][0]["title"], "Ninefold Pier IDA");
  const std::string card = path("pier.card");
  ASSERT_EQ(bayswap({"card", "make", "ps2", card, "--form", "plain"}).code, 0);
  ASSERT_EQ(bayswap({"card", "copy", folder, "--all", card}).code, 0);
  EXPECT_EQ(json({"card", "list", card})["saves"][1]["name"], "BESLES-99001SUVI");
  EXPECT_EQ(bayswap({"card", "check", card}).code, 0);
  // The card without spare bytes, the one with them, and back.
  ASSERT_EQ(bayswap({"convert", card, "--to", "ps2.ecc", "--out", path("pier.ecc")}).code, 0);
  EXPECT_EQ(json({"card", "list", path("pier.ecc")})["form"], "ecc");
  EXPECT_EQ(bayswap({"card", "check", path("pier.ecc")}).code, 0);
  ASSERT_EQ(bayswap({"convert", path("pier.ecc"), "--to", "ps2.plain", "--out", path("pier.plain")}).code, 0);
  EXPECT_EQ(read("pier.plain"), read("pier.card"));
  ASSERT_EQ(bayswap({"card", "export", path("pier.ecc"), "BESLES-99001IDA", "--out", path("out/")}).code, 0);
  const std::string model = "/BESLES-99001IDA/pier.icn";
  EXPECT_EQ(read("out" + model), read("clubroom/cards/ninefold-pier" + model));
  // Onto a folder: a new one is written, one that is there is not, and all can be taken back.
  EXPECT_EQ(bayswap({"card", "copy", path("pier.ecc"), "BESLES-99001IDA", folder}).code, 3);
  ASSERT_EQ(bayswap({"card", "remove", "--yes", folder, "BESLES-99001IDA"}).code, 0);
  EXPECT_FALSE(exists("clubroom/cards/ninefold-pier" + model));
  ASSERT_EQ(bayswap({"card", "copy", path("pier.ecc"), "BESLES-99001IDA", folder}).code, 0);
  EXPECT_EQ(read("out" + model), read("clubroom/cards/ninefold-pier" + model));
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_FALSE(exists("clubroom/cards/ninefold-pier" + model));
}

TEST_F(CardCli, ABrokenCardsSavesAreRescued) {
  const std::string name = "clubroom/cards/kelp-parade.card";
  std::vector<Byte> bytes = bytes_of(read(name));
  std::fill_n(bytes.begin(), 3 * 8192, Byte{0});  // header, directory and its backup's start
  std::fill_n(bytes.begin() + 512, 100, Byte{0x77});
  const Blob sound = read(name);
  std::copy_n(sound.view().begin() + 2 * 8192, 8192, bytes.begin() + 2 * 8192);
  write(name, Blob::copy_of(bytes));
  const Outcome rescued = bayswap({"card", "rescue", path(name), "--out", path("fresh.card"), "--json"});
  const auto facts = nlohmann::json::parse(rescued.out);
  EXPECT_EQ(facts["kind"], "gc");
  ASSERT_GE(facts["saves"].size(), 2U);
  EXPECT_EQ(facts["saves"][0]["confidence"], "certain");
  EXPECT_EQ(bayswap({"card", "check", path("fresh.card")}).code, 0);
  EXPECT_EQ(read(name), Blob::copy_of(bytes)) << "the broken one stays as it is";
  ASSERT_EQ(bayswap({"card", "rescue", path(name), "--out", path("found/")}).code, rescued.code);
  EXPECT_TRUE(exists("found/G99P99.parade_ida.parcel"));
  EXPECT_EQ(bayswap({"card", "rescue", path(dump), "--out", path("x")}).code, 4) << "nothing found";
  EXPECT_FALSE(exists("x"));
  EXPECT_EQ(bayswap({"card", "rescue", path(name), "--kind", "ps9", "--out", path("x")}).code, 2);
}

TEST_F(CardCli, RegionsAreStampedAndWatched) {
  const std::string card = path("clubroom/cards/saltglass.card");
  const Outcome codeless = bayswap({"card", "restamp", card, "BESLPS-99001IDA", "--region", "japan"});
  EXPECT_EQ(codeless.code, 2);
  EXPECT_TRUE(has(codeless.err, "--code CODE")) << codeless.err;
  EXPECT_EQ(bayswap({"card", "restamp", card, "BESLPS-99001IDA", "--region", "japan", "--code", "x"}).code,
            2);
  const Outcome renamed =
      bayswap({"card", "restamp", card, "BESLPS-99001IDA", "--region", "japan", "--code", "slps_990.02"});
  EXPECT_EQ(renamed.code, 0) << renamed.err;
  EXPECT_TRUE(has(renamed.err, "that is not touched"));
  const auto listed = json({"card", "list", card});
  bool stamped = false;
  for (const auto& save : listed["saves"])
    stamped |= save["name"] == "BISLPS-99002IDA" && save["region"] == "Japan" && save["state"] == "good";
  EXPECT_TRUE(stamped);
  EXPECT_EQ(bayswap({"card", "check", card}).code, 0);
  ASSERT_EQ(bayswap({"card", "export", card, "BISLPS-99002IDA", "--out", path("one")}).code, 0);
  const std::string other = path("other.card");
  ASSERT_EQ(bayswap({"card", "make", "ps1", other}).code, 0);
  EXPECT_EQ(bayswap({"card", "import", other, path("one"), "--region", "europe"}).code, 3);
  EXPECT_EQ(bayswap({"card", "import", other, path("one"), "--region", "japan"}).code, 0);
  EXPECT_EQ(bayswap({"card", "import", other, path("one"), "--region", "atlantis"}).code, 2);
  EXPECT_EQ(bayswap({"card", "restamp", card, "NOBODY", "--region", "japan"}).code, 4);
}

TEST_F(CardCli, DeletedSavesComeBack) {
  const std::string card = path("clubroom/cards/saltglass.card");
  std::string gone;
  const auto listed = json({"card", "list", card});
  for (const auto& save : listed["saves"])
    if (save["state"] == "deleted") gone = save["name"];
  ASSERT_FALSE(gone.empty());
  const Outcome refused = bayswap({"card", "export", card, gone, "--out", path("x")});
  EXPECT_EQ(refused.code, 4);
  EXPECT_TRUE(has(refused.err, "card undelete")) << refused.err;
  EXPECT_EQ(bayswap({"card", "undelete", card, gone}).code, 0);
  EXPECT_EQ(bayswap({"card", "export", card, gone, "--out", path("x")}).code, 0);
  EXPECT_EQ(bayswap({"card", "check", card}).code, 0);
  EXPECT_EQ(bayswap({"card", "undelete", card, "NOBODY"}).code, 4);
  EXPECT_EQ(bayswap({"undo", "--yes"}).code, 0);
}

// The first frame of a save of two blocks is gone: its content is there, its other block a guess.
TEST_F(CardCli, WhatIsDoubtfulGoesOntoTheFreshCardWhenAsked) {
  std::vector<Byte> bytes = bytes_of(read("clubroom/cards/saltglass.card"));
  std::fill_n(bytes.begin(), 8192, Byte{0});
  for (const std::size_t block : {1U, 4U}) {  // as a game's title frame has it
    bytes[block * 8192 + 2] = 0x11;
    bytes[block * 8192 + 3] = block == 1 ? 2 : 1;
  }
  write("zero.card", Blob::copy_of(bytes));
  const Outcome some = bayswap({"card", "rescue", path("zero.card"), "--kind", "ps1", "--out", path("some")});
  EXPECT_EQ(some.code, 1);
  EXPECT_TRUE(has(some.err, "--doubtful")) << some.err << some.out;
  EXPECT_TRUE(has(some.out, "guessed to be the next one"));
  const std::size_t sure = json({"card", "list", path("some")})["saves"].size();
  EXPECT_EQ(bayswap({"card", "rescue", path("zero.card"), "--doubtful", "--out", path("all")}).code, 3)
      << "nobody to ask";
  EXPECT_FALSE(exists("all"));
  EXPECT_EQ(bayswap({"card", "rescue", path("zero.card"), "--doubtful", "--yes", "--out", path("all")}).code,
            1);
  EXPECT_GT(json({"card", "list", path("all")})["saves"].size(), sure);
  EXPECT_EQ(
      bayswap({"card", "rescue", path("zero.card"), "--doubtful", "--yes", "--out", path("folder/")}).code,
      2);
}

TEST_F(CardCli, FilesHaveTheDatesOfTheCardAndRepairSaysWhatRemains) {
  const std::string card = path("ps2.card");
  fs::create_directories(path("BESLES-99001DATA"));
  write("BESLES-99001DATA/icon.sys", noise(964, 1));
  write("BESLES-99001DATA/game.dat", noise(3000, 2));
  const timespec then{1500000000, 0};
  const timespec times[2] = {then, then};
  utimensat(AT_FDCWD, path("BESLES-99001DATA/game.dat").c_str(), times, 0);
  ASSERT_EQ(bayswap({"card", "make", "ps2", card}).code, 0);
  ASSERT_EQ(bayswap({"card", "import", card, path("BESLES-99001DATA")}).code, 0);
  ASSERT_EQ(bayswap({"card", "export", card, "BESLES-99001DATA", "--out", path("taken/")}).code, 0);
  struct stat info {};
  ASSERT_EQ(stat(path("taken/BESLES-99001DATA/game.dat").c_str(), &info), 0);
  EXPECT_EQ(info.st_mtim.tv_sec, 1500000000);
  // Its files keep their order on the card, whatever a disk does with them.
  const auto order = [&] {
    std::vector<std::string> names;
    const auto save = (*open_card(read("ps2.card")))->read("BESLES-99001DATA");
    for (const CardFile& file : save->files) names.push_back(file.name);
    return names;
  };
  CardSave turned = *(*open_card(read("ps2.card")))->read("BESLES-99001DATA");
  std::ranges::reverse(turned.files);
  write("turned.parcel", to_parcel(turned));
  ASSERT_EQ(bayswap({"card", "remove", "--yes", card, "BESLES-99001DATA"}).code, 0);
  ASSERT_EQ(bayswap({"card", "import", card, path("turned.parcel")}).code, 0);
  const auto before = order();
  write("BESLES-99001DATA/game.dat", noise(3000, 9));
  ASSERT_EQ(bayswap({"card", "import", card, path("BESLES-99001DATA"), "--replace"}).code, 0);
  EXPECT_EQ(order(), before);
  // Two things are wrong with this one, and one can be repaired.
  std::vector<Byte> bytes = bytes_of(read("clubroom/cards/saltglass.card"));
  bytes[128 + 127] ^= 0xff;
  bytes[9 * 128] = 0x77;  // a state that there is not
  Byte sum = 0;
  for (std::size_t i = 9 * 128; i < 9 * 128 + 127; ++i) sum ^= bytes[i];
  bytes[9 * 128 + 127] = sum;
  write("two.card", Blob::copy_of(bytes));
  const Outcome repaired = bayswap({"card", "check", path("two.card"), "--repair"});
  EXPECT_EQ(repaired.code, 1);
  EXPECT_TRUE(has(repaired.out, "1 repaired, 1 remains")) << repaired.out;
}

TEST_F(CardCli, ASaveInsideOfSomethingElseIsFoundAndCarried) {
  const std::string card = path("clubroom/cards/saltglass.card");
  ASSERT_EQ(bayswap({"card", "export", card, "BESLPS-99001IDA", "--out", path("ida.single")}).code, 0);
  write("download.bin", joined({noise(54, 3), read("ida.single")}));
  EXPECT_TRUE(has(bayswap({"inspect", path("download.bin")}).out, "single save of ps1"));
  ASSERT_EQ(bayswap({"card", "make", "ps1", path("new.card")}).code, 0);
  const Outcome added = bayswap({"card", "import", path("new.card"), path("download.bin")});
  EXPECT_EQ(added.code, 0) << added.err;
  EXPECT_TRUE(has(added.err, "directory frame at 54"));
  EXPECT_EQ(json({"card", "list", path("new.card")})["saves"][0]["name"], "BESLPS-99001IDA");
  write("box/home.toml",
        text_blob("root = \"" + path("box") + "\"\n[platform.ps1]\npath = \"one.mcr\"\nkeeps = \"card\"\n"));
  const Outcome carried =
      bayswap({"carry", "--outside", path("download.bin"), "--to", path("box/home.toml"), "--yes"});
  EXPECT_EQ(carried.code, 0) << carried.err;
  EXPECT_EQ(json({"card", "list", path("box/one.mcr")})["saves"][0]["name"], "BESLPS-99001IDA");
}

TEST_F(CardCli, CardsAreDrawn) {
  for (const char* name :
       {"saltglass.card", "kelp-parade.card", "brass-tern.card", "low-tide-rally.card", "ninefold-pier"}) {
    const std::string out = "picture of " + std::string(name) + ".png";
    ASSERT_EQ(
        bayswap({"card", "picture", path("clubroom/cards/" + std::string(name)), "--out", path(out)}).code,
        0);
    EXPECT_EQ(text_of(read(out).slice(1, 3)), "PNG");
  }
  EXPECT_EQ(bayswap({"card", "picture", path("clubroom/cards/saltglass.card"), "--out", path(dump)}).code, 3)
      << "never over a file";
}

TEST_F(CardCli, DataAloneGoOntoACardUnderAName) {
  const std::string card = path("new.card");
  const std::string data = path("data.bin");
  write("data.bin", noise(700, 3));
  ASSERT_EQ(bayswap({"card", "make", "gc", card}).code, 0);
  const Outcome unnamed = bayswap({"card", "import", card, data});
  EXPECT_EQ(unnamed.code, 4);
  EXPECT_TRUE(has(unnamed.err, "--as NAME"));
  EXPECT_EQ(bayswap({"card", "import", card, data, "--as", "save"}).code, 2);
  ASSERT_EQ(bayswap({"card", "import", card, data, "--as", "GZ9PZZ.save"}).code, 0);
  EXPECT_EQ(bayswap({"card", "import", card, data, "--as", "GZ9PZZ.save"}).code, 3) << "it is there";
  write("data.bin", noise(9000, 4));
  ASSERT_EQ(bayswap({"card", "import", card, data, "--as", "GZ9PZZ.save", "--replace"}).code, 0);
  const auto listed = json({"card", "list", card});
  ASSERT_EQ(listed["saves"].size(), 1U);
  EXPECT_EQ(listed["saves"][0]["blocks"], 2);
  ASSERT_EQ(bayswap({"card", "export", card, "GZ9PZZ.save", "--raw", "--out", path("back.bin")}).code, 0);
  EXPECT_EQ(read("back.bin").slice(0, 9000), noise(9000, 4));
  const Blob now = read("new.card");
  ASSERT_EQ(bayswap({"card", "copy", card, "--all", card, "--replace"}).code, 0);
  EXPECT_EQ(read("new.card"), now) << "the same save again moves nothing";
}

}  // namespace
}  // namespace bayswap::test
