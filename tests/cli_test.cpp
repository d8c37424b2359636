// The binary, as people and scripts use it.
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>
#include <sstream>

#include <bayswap/card.hpp>

#include "support/archives.hpp"
#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

using Cli = DemoArcade;

TEST_F(Cli, CarryThereAndBack) {
  const Blob own = read(tv_save);
  const Blob sram = read(dump);
  const Outcome there =
      bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes", "--explain"});
  ASSERT_EQ(there.code, 0) << there.err;
  for (const char* piece :
       {"keep", "graft", "name", "Lantern Skiff (Europe).srm", "verify", "logbook entry 1"})
    EXPECT_TRUE(has(there.out, piece));
  EXPECT_EQ(read(tv_save), joined({own.slice(0, 133120), words_reversed(sram), own.slice(165888, 131072)}));

  std::vector<Byte> played = bytes_of(read(tv_save));
  played[133120 + 0x17] ^= 0x7f;  // chip byte 0x14, one day more at sea
  write(tv_save, Blob::copy_of(played));
  // The arcade's year is 2031, so what was played just now is older than the dump: --yes does not wave that
  // through.
  std::vector<std::string> back{
      "carry", path("quay-tv/roms/Lantern Skiff (Europe).v64"), "--from", "quay-tv", "--to", "bench",
      "--yes"};
  const Outcome refused = bayswap(back);
  EXPECT_EQ(refused.code, 3);
  EXPECT_TRUE(has(refused.err, "--accept newer"));
  EXPECT_EQ(read(dump), sram);
  back.insert(back.end(), {"--accept", "newer"});
  ASSERT_EQ(bayswap(back).code, 0);
  std::vector<Byte> expected = bytes_of(sram);
  expected[0x14] ^= 0x7f;
  EXPECT_EQ(read(dump), Blob::copy_of(expected));

  ASSERT_EQ(bayswap({"undo", "2", "--yes"}).code, 0);
  EXPECT_EQ(read(dump), sram);
  ASSERT_EQ(bayswap({"undo", "1", "--yes"}).code, 0);
  EXPECT_EQ(read(tv_save), own);
}

TEST_F(Cli, CarryAsksAndDryRunsWriteNothing) {
  const Blob own = read(tv_save);
  const Outcome unasked = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv"});
  EXPECT_EQ(unasked.code, 3);
  EXPECT_TRUE(has(unasked.err, "--yes"));
  ASSERT_EQ(bayswap({"logbook"}).out.find("carry"), std::string::npos);
  std::filesystem::remove_all(path("home/logbook"));
  const Outcome dry = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--dry-run"});
  EXPECT_EQ(dry.code, 0);
  EXPECT_TRUE(has(dry.out, "replace"));
  EXPECT_FALSE(exists("home/logbook"));
  EXPECT_EQ(read(tv_save), own);
}

TEST_F(Cli, CarryJsonHasPlanAndOutcome) {
  const auto plan = json({"carry", "n99p", "--from", "bench", "--to", "quay-tv", "--dry-run"});
  EXPECT_EQ(plan["done"], false);
  EXPECT_EQ(plan["game"]["code"], "N99P");
  EXPECT_EQ(plan["steps"][0]["action"], "keep");
  const auto done = json({"carry", "n99p", "--from", "bench", "--to", "quay-tv", "--yes"});
  EXPECT_EQ(done["done"], true);
  EXPECT_EQ(done["entry"], 1);
  const auto refused = json({"carry", "n99p", "--from", "bench", "--to", "ferry", "--yes"}, 3);
  EXPECT_EQ(refused["refused"], true);
  EXPECT_EQ(refused["issues"][0]["code"], "wrong-region");
  const auto book = json({"logbook"});
  ASSERT_EQ(book.size(), 1U);
  EXPECT_EQ(book[0]["changes"][0]["after"]["sha256"], sha256(read(tv_save).view()).hex());
}

TEST_F(Cli, WrongRegionAndEmptySavesAreRefused) {
  const Outcome refused = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "ferry", "--yes"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_TRUE(has(refused.err, "wrong region"));
  EXPECT_FALSE(exists("ferry/n64/Lantern Skiff (North America).sra"));
  EXPECT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "ferry", "--yes", "--accept",
                     "wrong-region"})
                .code,
            0);
  EXPECT_EQ(read("ferry/n64/Lantern Skiff (North America).sra"), words_reversed(read(dump)));
  write(dump, Blob::filled(32768, 0xff));
  const Outcome empty = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"});
  EXPECT_EQ(empty.code, 3);
  EXPECT_TRUE(has(empty.err, "this save is empty"));
  EXPECT_TRUE(has(empty.err, "battery is flat"));
}

TEST_F(Cli, InspectJsonHasTheDocumentedKeys) {
  const auto list = json({"inspect", path(dump), path("bench/flat-battery.sra"), path(tv_save), "--rom",
                          path("bench/roms/Lantern Skiff (Europe).z64")});
  ASSERT_EQ(list.size(), 3U);
  for (const auto& one : list)
    for (const char* key :
         {"path", "size_bytes", "kind", "platform", "layout", "confidence", "evidence", "parts", "game"})
      EXPECT_TRUE(one.contains(key)) << key;
  EXPECT_EQ(list[0]["layout"], "n64.sram");
  EXPECT_EQ(list[0]["kind"], "battery save");
  EXPECT_EQ(list[0]["game"]["title"], "LANTERN SKIFF");
  EXPECT_EQ(list[0]["game"]["region"], "Europe");
  EXPECT_TRUE(has(list[1]["layout"].get<std::string>(), "either"));
  EXPECT_EQ(list[1]["parts"][0]["blank"], true);
  EXPECT_EQ(list[2]["parts"][1]["role"], "pak1");
  EXPECT_EQ(list[2]["parts"][1]["blank"], false);
  EXPECT_EQ(list[2]["parts"][2]["blank"], true) << "a formatted pak without notes";
}

TEST_F(Cli, ConvertSplitsJoinsGraftsAndKeepsWhatItReplaces) {
  ASSERT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  const Blob combined = read(tv_save);
  ASSERT_EQ(bayswap({"convert", path(tv_save), "--to", "n64.separate", "--out", path("parts/")}).code, 0);
  const std::string stem = "parts/Lantern Skiff (Europe)";
  EXPECT_EQ(read(stem + ".sra"), read(dump));
  EXPECT_FALSE(exists(stem + ".eep"));
  ASSERT_EQ(bayswap({"convert", path(stem + ".sra"), path(stem + ".mpk"), "--to", "n64.combined", "--out",
                     path("again.srm")})
                .code,
            0);
  EXPECT_EQ(read("again.srm"), combined);

  const Outcome there = bayswap({"convert", path(dump), "--to", "n64.combined", "--out", path("again.srm")});
  EXPECT_EQ(there.code, 3);
  EXPECT_TRUE(has(there.err, "--replace"));
  EXPECT_EQ(read("again.srm"), combined);
  ASSERT_EQ(bayswap({"convert", path(dump), "--to", "n64.combined", "--base", path(tv_save), "--out",
                     path("again.srm"), "--replace"})
                .code,
            0);
  EXPECT_EQ(read("again.srm"), combined) << "the dump was in it already";
  ASSERT_EQ(bayswap({"convert", path(dump), "--from", "n64.sram-le", "--to", "n64.combined", "--out",
                     path("again.srm"), "--replace"})
                .code,
            0);
  EXPECT_EQ(read("again.srm").slice(133120, 32768), read(dump));
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_EQ(read("again.srm"), combined);
}

TEST_F(Cli, ConvertSaysWhenItHadToGuess) {
  write("noise.fla", noise(131072, 4));
  const Outcome guessed =
      bayswap({"convert", path("noise.fla"), "--to", "n64.combined", "--out", path("a.srm")});
  EXPECT_EQ(guessed.code, 0);
  EXPECT_TRUE(has(guessed.err, "n64.flash or n64.flash-le"));
  const Outcome told = bayswap(
      {"convert", path("noise.fla"), "--from", "n64.flash", "--to", "n64.combined", "--out", path("b.srm")});
  EXPECT_EQ(told.err, "");
  EXPECT_EQ(read("a.srm"), read("b.srm"));
  EXPECT_EQ(bayswap({"convert", path("a.srm"), "--from", "n64.combined", "--to", "n64.flash", "--out",
                     path("out.fla"), "--json"})
                .code,
            0);
  EXPECT_EQ(read("out.fla"), noise(131072, 4));
}

TEST_F(Cli, BadInputIsNamedAndNothingIsWritten) {
  struct Row {
    std::string name;
    Blob bytes;
    int code;
  };
  const Blob rom = read("bench/roms/Lantern Skiff (Europe).z64");
  for (const Row& row :
       {Row{"zero.sra", Blob(), 4}, Row{"short.sra", noise(32767, 1), 4}, Row{"long.sra", noise(32769, 1), 4},
        Row{"other.sav", noise(5000, 1), 4}, Row{"rom.sra", rom, 4}}) {
    write(row.name, row.bytes);
    for (const std::vector<std::string>& from : {std::vector<std::string>{}, {"--from", "n64.sram"}}) {
      std::vector<std::string> words{"convert",      path(row.name), "--to",
                                     "n64.combined", "--out",        path("out.srm")};
      words.insert(words.end(), from.begin(), from.end());
      const Outcome outcome = bayswap(words);
      EXPECT_EQ(outcome.code, row.code) << row.name << outcome.err;
      EXPECT_TRUE(has(outcome.err, row.name));
      EXPECT_TRUE(has(outcome.err, "What to do: "));
      EXPECT_FALSE(exists("out.srm"));
    }
    EXPECT_EQ(bayswap({"inspect", path(row.name)}).code, row.name == "rom.sra" ? 0 : 4) << row.name;
  }
  EXPECT_EQ(bayswap({"convert", path("bench"), "--to", "n64.combined", "--out", path("out.srm")}).code, 2)
      << "a folder";
  EXPECT_EQ(bayswap({"convert", path("none"), "--to", "n64.combined", "--out", path("out.srm")}).code, 4);
  EXPECT_EQ(bayswap({"convert", path(dump), "--to", "n64.flash", "--out", path("out.srm")}).code, 4);
  EXPECT_EQ(bayswap({"convert", path(dump), "--to", "n64.combined", "--out", path(dump)}).code, 3);
  EXPECT_EQ(
      bayswap({"convert", path(dump), "--to", "n64.combined", "--base", path(dump), "--out", path("out.srm")})
          .code,
      4);
  EXPECT_EQ(bayswap({"inspect", path("none"), path("bench"), path(dump)}).code, 4);
  EXPECT_FALSE(exists("out.srm"));
}

TEST_F(Cli, UsageMistakesNameTheNearestWord) {
  const auto mistake = [&](std::vector<std::string> words, std::string_view piece) {
    const Outcome outcome = bayswap(words);
    EXPECT_EQ(outcome.code, 2);
    EXPECT_TRUE(has(outcome.err, piece));
    EXPECT_TRUE(has(outcome.err, "What to do: "));
  };
  mistake({"inspct", "x"}, "did you mean 'inspect'?");
  mistake({"bay", "lst"}, "did you mean 'list'?");
  mistake({"bay"}, "--help");
  mistake({"inspect"}, "bayswap inspect --help");
  mistake({"inspect", "--jsn", "x"}, "did you mean '--json'?");
  mistake({"convert", path(dump), "--to", "n64.combind", "--out", "x"}, "did you mean 'n64.combined'?");
  mistake({"convert", path(dump), "--to", "n64.combined", "--out", "x", "--slot", "5"}, "--slot");
  mistake({"carry", "Lantern Skiff", "--from", "bnch", "--to", "quay-tv"}, "did you mean 'bench'?");
  mistake({"carry", "Lantern Skiff", "--from", "bench", "--to", "bench"}, "two different places");
  const Outcome unknown = bayswap({"carry", "Lantrn Skif", "--from", "bench", "--to", "quay-tv"});
  EXPECT_EQ(unknown.code, 4);
  EXPECT_TRUE(has(unknown.err, "did you mean 'LANTERN SKIFF'?"));
  mistake({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--accept", "anything"},
          "wrong-region");
  mistake({"undo"}, "nothing to undo");
  const Outcome no_entry = bayswap({"undo", "7"});
  EXPECT_EQ(no_entry.code, 4);
  EXPECT_TRUE(has(no_entry.err, "no entry 7"));
  EXPECT_EQ(bayswap({}).code, 2);
  EXPECT_EQ(bayswap({"--json", "--home", path("home"), "bay", "list"}).out.front(), '[')
      << "before the command too";
  for (const char* command : {"inspect", "convert", "layouts", "carry", "logbook", "undo", "demo"}) {
    const Outcome help = bayswap({command, "--help"});
    EXPECT_EQ(help.code, 0) << command;
    EXPECT_TRUE(has(help.out, "--"));
  }
  EXPECT_EQ(bayswap({"--version"}).out, "bayswap " + std::string(version()) + "\n");
}

TEST_F(Cli, TheManualPageIsWhatTheProgramSays) {
  const auto page = LocalStore().read(std::string(BAYSWAP_SOURCE_DIR) + "/docs/bayswap.1");
  ASSERT_TRUE(page);
  EXPECT_EQ(bayswap({"__man"}).out, text_of(*page)) << "run scripts/man";
}

TEST_F(Cli, TheShortWordsDoWhatTheLongOnesDo) {
  EXPECT_EQ(bayswap({"-V"}).out, bayswap({"--version"}).out);
  EXPECT_EQ(bayswap({"carry", "-h"}).out, bayswap({"carry", "--help"}).out);
  EXPECT_EQ(bayswap({"help", "carry"}).out, bayswap({"carry", "--help"}).out);
  EXPECT_EQ(bayswap({"help", "bay", "add"}).out, bayswap({"bay", "add", "--help"}).out);
  // Each has its meaning beside it.
  for (const char* topic : {"accept", "platforms"}) {
    std::istringstream lines(bayswap({"help", topic}).out);
    std::size_t rows = 0;
    for (std::string row; std::getline(lines, row);) {
      if (!row.starts_with("  ")) continue;
      ++rows;
      const auto space = row.find(' ', 2);
      EXPECT_TRUE(space != std::string::npos && row.find_first_not_of(' ', space) != std::string::npos)
          << row;
    }
    EXPECT_GT(rows, 10U) << topic;
  }
  EXPECT_TRUE(has(bayswap({"help", "exit-codes"}).out, "130"));
  EXPECT_TRUE(has(bayswap({"help", "exit-cods"}).err, "did you mean 'exit-codes'?"));
  EXPECT_EQ(bayswap({"carry", "-n", "Lantern Skiff", "--from", "bench", "--to", "quay-tv"}).code, 0);
  EXPECT_FALSE(has(bayswap({"logbook"}).out, "carry")) << "a dry run";
  EXPECT_EQ(bayswap({"carry", "-y", "Lantern Skiff", "--from", "bench", "--to", "quay-tv"}).code, 0);
  // An option that does not exist is said before what is missing.
  const Outcome wrong = bayswap({"carry", "--tto", "x"});
  EXPECT_EQ(wrong.code, 2);
  EXPECT_TRUE(has(wrong.err, "unknown option --tto"));
  EXPECT_TRUE(has(wrong.err, "did you mean '--to'?"));
  // What was made is gone again, and so are its folders.
  EXPECT_EQ(
      bayswap({"carry", "Brine and Bellows", "--from", "ferry-sd", "--to", "locker-sd", "--slot", "9", "-y"})
          .code,
      0);
  EXPECT_TRUE(exists("locker-sd/backups/3ds/0ff99200/slot-9"));
  EXPECT_EQ(bayswap({"undo", "--last", "2", "-y"}).code, 0);
  EXPECT_FALSE(exists("locker-sd/backups/3ds/0ff99200/slot-9"));
  EXPECT_EQ(bayswap({"undo", "--last", "9", "-y"}).code, 2);
}

TEST_F(Cli, PipesAndFoldersOfSaves) {
  const Blob save = read(tv_save);
  const std::string text = text_of(save);
  const Outcome told = bayswap({"inspect", "-"}, {}, text);
  EXPECT_EQ(told.code, 0) << told.err;
  EXPECT_TRUE(has(told.out, "n64.combined"));
  const Outcome piped =
      bayswap({"convert", "-", "--from", "n64.combined", "--to", "n64.combined-be", "--out", "-"}, {}, text);
  EXPECT_EQ(piped.code, 0) << piped.err;
  EXPECT_EQ(piped.out.size(), text.size());
  const Outcome back = bayswap(
      {"convert", "-", "--from", "n64.combined-be", "--to", "n64.combined", "--out", "-"}, {}, piped.out);
  EXPECT_EQ(back.out, text) << "there and back";
  EXPECT_EQ(bayswap({"convert", "-", "--to", "n64.combined", "--out", "-", "--json"}, {}, text).code, 2);
  const std::string card = text_of(read("clubroom/cards/saltglass.card"));
  const Outcome taken = bayswap({"card", "export", "-", "BESLPS-99001IDA", "--out", "-"}, {}, card);
  EXPECT_EQ(taken.code, 0) << taken.err;
  EXPECT_TRUE(single_save_from(text_blob(taken.out)).has_value());

  const auto batch =
      json({"convert", path("bench/dumps"), "--to", "n64.combined", "--out", path("converted")});
  EXPECT_EQ(batch["converted"], 1);
  EXPECT_TRUE(exists("converted/N99P.srm"));
  EXPECT_EQ(json({"convert", path("bench/dumps"), "--to", "n64.combined", "--out", path("converted")},
                 1)["refused"],
            1)
      << "nothing is written over unasked";
  // What is in an archive is told without unpacking it.
  const auto listed = json({"inspect", path("download.zip")}, 4);
  write("download.zip", zipped("deep/N99P.sra", read(dump)));
  const auto inside = json({"inspect", path("download.zip")});
  ASSERT_EQ(inside.size(), 1U);
  EXPECT_EQ(inside[0]["layout"], "n64.sram");
}

TEST_F(Cli, HelpNamesTheWholeCommand) {
  EXPECT_TRUE(has(bayswap({"--help"}).out, "Usage: bayswap [OPTIONS]"));
  EXPECT_TRUE(has(bayswap({"carry", "--help"}).out, "Usage: bayswap carry [OPTIONS]"));
  EXPECT_TRUE(
      has(bayswap({"card", "import", "--help"}).out, "Usage: bayswap card import [OPTIONS] IMAGE FILE..."));
}

TEST_F(Cli, BaysAreAddedListedShownAndChecked) {
  const std::string root = path("locker");
  std::filesystem::create_directories(root + "/roms");
  const Outcome added = bayswap({"bay", "add", "locker", "--root", root, "--platform", "n64", "--path",
                                 "saves/{rom.stem}.{slot}{ext}", "--layout", "n64.pak", "--roms", "roms",
                                 "--about", "The \"backup\" disk"});
  ASSERT_EQ(added.code, 0) << added.err;
  EXPECT_EQ(bayswap({"bay", "add", "locker", "--root", root, "--platform", "n64", "--path", "x", "--layout",
                     "n64.pak"})
                .code,
            3);
  EXPECT_EQ(bayswap({"bay", "add", "x", "--root", root, "--platform", "n64", "--path", "{rom.stm}",
                     "--layout", "n64.pak"})
                .code,
            2);
  EXPECT_EQ(
      bayswap({"bay", "add", "x", "--root", root, "--platform", "n64", "--path", "x", "--layout", "n64.no"})
          .code,
      2);
  EXPECT_EQ(bayswap({"bay", "add", "x"}).code, 2);
  EXPECT_EQ(bayswap({"bay", "add", "x", path("port")}).code, 4)
      << "found no saves or ROMs that show its rules";
  EXPECT_EQ(json({"bay", "list"}).size(), 11U);
  EXPECT_EQ(json({"bay", "show", "locker"})["about"], "The \"backup\" disk");
  const auto check = json({"bay", "check", "locker"});
  EXPECT_TRUE(has(check[0]["problems"][0]["text"].get<std::string>(), "no ROM found"));
  std::filesystem::remove_all(root);
  EXPECT_EQ(bayswap({"bay", "check"}).code, 1);
  write("home/bays/broken.toml", text_blob("root = \".\"\n[platform.n64]\npath = \"{rom.stm}\"\n"));
  const Outcome list = bayswap({"bay", "list"});
  EXPECT_EQ(list.code, 1);
  EXPECT_TRUE(has(list.out, "line 3"));
  // Controller pak slots: the name and the pak follow --slot.
  ASSERT_EQ(bayswap({"bay", "add", path("home/bays/quay-tv.toml"), "--replace"}).code, 0);
}

TEST_F(Cli, SlotNamesTheControllerPak) {
  const std::string root = path("locker");
  std::filesystem::create_directories(root + "/roms");
  std::filesystem::copy(path("quay-tv/roms"), root + "/roms");
  ASSERT_EQ(bayswap({"bay", "add", "locker", "--root", root, "--platform", "n64", "--path",
                     "{rom.stem}.{slot}{ext}", "--layout", "n64.pak", "--roms", "roms"})
                .code,
            0);
  ASSERT_EQ(
      bayswap({"carry", "Lantern Skiff", "--from", "quay-tv", "--to", "locker", "--slot", "1", "--yes"}).code,
      0);
  const Blob pak = read("locker/Lantern Skiff (Europe).1.mpk");
  EXPECT_EQ(pak, read(tv_save).slice(2048, 32768));
  write("locker/Lantern Skiff (Europe).3.mpk", pak);
  ASSERT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "locker", "--to", "quay-tv", "--slot", "3", "--yes",
                     "--accept", "newer"})
                .code,
            0);
  EXPECT_EQ(read(tv_save).slice(2048 + 2 * 32768, 32768), pak);
}

TEST_F(Cli, LayoutsAreListedAndDrawn) {
  const Outcome list = bayswap({"layouts"});
  EXPECT_EQ(list.code, 0);
  for (const char* id :
       {"n64.eeprom", "n64.sram-le", "n64.flash-le", "n64.pak", "n64.combined-be", "n64.separate"})
    EXPECT_TRUE(has(list.out, id));
  const Outcome drawn = bayswap({"layouts", "n64.combined"});
  for (const char* piece : {"       0 +--", "  133120 +--", "  296960 +--", "each 32-bit word reversed"})
    EXPECT_TRUE(has(drawn.out, piece));
  write("home/layouts/mine.toml", text_blob("id = \"n64.mine\"\nplatform = \"n64\"\nname = \"with a "
                                            "header\"\n[[part]]\nrole = \"sram\"\nat = 16\nsize = 32768\n"));
  EXPECT_TRUE(has(bayswap({"layouts", "n64.mine"}).out, "shell, 16 bytes"));
  ASSERT_EQ(bayswap({"convert", path(dump), "--to", "n64.mine", "--out", path("mine.sav")}).code, 0);
  EXPECT_EQ(read("mine.sav").slice(16, 32768), read(dump));
  EXPECT_EQ(json({"inspect", path("mine.sav")})[0]["layout"], "n64.mine");
  write("home/layouts/bad.toml", text_blob("id = 3\n"));
  EXPECT_TRUE(has(bayswap({"layouts"}).err, "bad.toml, line 1"));
}

TEST_F(Cli, UndoAsksWhenSomebodyPlayedOn) {
  ASSERT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  const Blob played = noise(296960, 6);
  write(tv_save, played);
  EXPECT_EQ(bayswap({"undo"}).code, 3);
  EXPECT_EQ(read(tv_save), played);
  EXPECT_EQ(bayswap({"undo", "--dry-run"}).code, 0);
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  const Blob before = read(tv_save);
  EXPECT_EQ(bayswap({"undo", "--yes"}).code, 2) << "nothing stands any more";
  EXPECT_EQ(read(tv_save), before);
  ASSERT_EQ(bayswap({"undo", "2"}).code, 0) << "an undo named by its number is done again";
  EXPECT_EQ(read(tv_save), played);
  EXPECT_TRUE(has(bayswap({"logbook", "lantern"}).out, "takes 1 back"));
  EXPECT_TRUE(has(bayswap({"logbook", "moth"}).out, "Nothing in the logbook"));
}

TEST_F(Cli, TwoCarriesAtOnceEndWellBoth) {
  const std::vector<std::string> there{"carry", "Lantern Skiff", "--from", "bench",
                                       "--to",  "quay-tv",       "--yes"};
  const pid_t child = fork();
  if (child == 0) _exit(bayswap(there).code);
  const Outcome ours = bayswap(there);
  int status = 0;
  ASSERT_EQ(waitpid(child, &status, 0), child);
  EXPECT_EQ(ours.code, 0) << ours.err;
  EXPECT_EQ(WEXITSTATUS(status), 0);
  EXPECT_EQ(json({"logbook"}).size(), 1U) << "the second found it done";
}

TEST_F(Cli, NoPermissionNoSpaceNoHome) {
  const Blob own = read(tv_save);
  const std::vector<std::string> there{"carry", "Lantern Skiff", "--from", "bench",
                                       "--to",  "quay-tv",       "--yes"};
  // A quota of 64 KiB stands for a full disk: neither the logbook nor the target gets through.
  std::string script = "ulimit -f 64; exec \"$0\" \"$@\"";
  std::vector<std::string> words{"/bin/bash", "-c", script, BAYSWAP_BINARY};
  words.insert(words.end(), there.begin(), there.end());
  const Outcome full = run_process(words, folder_.path(), {{"BAYSWAP_HOME", path("home")}});
  EXPECT_EQ(full.code, 5);
  EXPECT_TRUE(has(full.err, "no space left"));
  EXPECT_EQ(read(tv_save), own);
  EXPECT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"},
                    {{"BAYSWAP_HOME", "/dev/null/x"}})
                .code,
            2)
      << "no bays there";
}

TEST_F(Cli, AFullDiskAndAReadOnlyOne) {
  const Blob own = read(tv_save);
  const std::string saves = path("quay-tv/saves");
  if (mount("tmpfs", saves.c_str(), "tmpfs", 0, "size=320k") != 0) GTEST_SKIP() << "may not mount here";
  write(tv_save, own);  // there is room for one such file, not for two
  const std::vector<std::string> there{"carry", "Lantern Skiff", "--from", "bench",
                                       "--to",  "quay-tv",       "--yes"};
  const Outcome full = bayswap(there);
  EXPECT_EQ(full.code, 5);
  EXPECT_TRUE(has(full.err, "no space left"));
  EXPECT_EQ(read(tv_save), own);
  EXPECT_EQ(mount("tmpfs", saves.c_str(), "tmpfs", MS_REMOUNT | MS_RDONLY, ""), 0);
  const Outcome closed = bayswap(there);
  EXPECT_EQ(closed.code, 5);
  EXPECT_TRUE(has(closed.err, "read-only file system"));
  EXPECT_EQ(read(tv_save), own);
  const Outcome convert =
      bayswap({"convert", path(dump), "--to", "n64.combined", "--out", saves + "/new.srm"});
  EXPECT_EQ(convert.code, 5);
  EXPECT_TRUE(has(convert.err, "What to do: "));
  EXPECT_EQ(umount(saves.c_str()), 0);
}

TEST_F(Cli, AFolderWithoutPermission) {
  const Blob own = read(tv_save);
  chmod(path("quay-tv/saves").c_str(), 0555);
  std::vector<std::string> words{BAYSWAP_BINARY, "carry", "Lantern Skiff", "--from",
                                 "bench",        "--to",  "quay-tv",       "--yes"};
  if (geteuid() ==
      0) {  // root may write anywhere: go on as nobody, with a copy of the binary that nobody can reach
    std::filesystem::copy_file(BAYSWAP_BINARY, folder_ / "bayswap");
    words.front() = folder_ / "bayswap";
    words.insert(words.begin(), {"/usr/bin/setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"});
    chmod(folder_.path().c_str(), 0755);
    ASSERT_EQ(chown(path("home").c_str(), 65534, 65534), 0);
  }
  const Outcome closed = run_process(words, "/", {{"BAYSWAP_HOME", path("home")}});
  EXPECT_EQ(closed.code, 5) << closed.err;
  EXPECT_TRUE(has(closed.err, "no permission"));
  EXPECT_TRUE(has(closed.err, "What to do: "));
  EXPECT_EQ(read(tv_save), own);
  chmod(path("quay-tv/saves").c_str(), 0755);
}

TEST_F(Cli, InferWritesALayoutThatConvertTakesAtOnce) {
  const std::string ida = path("ferry/gba/ida.box");
  const auto learned = json({"infer", path("bench/dumps/A99P.sav"), ida, path("ferry/gba/marek.sav"),
                             path("ferry/gba/marek.box"), "--id", "gba.ferry"});
  EXPECT_EQ(learned["id"], "gba.ferry");
  EXPECT_EQ(learned["guessed_bytes"], 2);
  EXPECT_TRUE(exists("home/layouts/gba.ferry.toml"));
  ASSERT_EQ(bayswap({"convert", path("ferry/gba/marek.sav"), "--from", "gba.sram", "--to", "gba.ferry",
                     "--base", ida, "--out", path("out.box")})
                .code,
            0);
  const Blob wanted =
      joined({read("ferry/gba/ida.box").slice(0, 32), read("ferry/gba/marek.box").slice(32, 40960)});
  EXPECT_EQ(read("out.box"), wanted);
  ASSERT_EQ(bayswap({"convert", path("out.box"), "--to", "gba.sram", "--out", path("back.sav")}).code, 0);
  EXPECT_EQ(read("back.sav"), read("ferry/gba/marek.sav"));

  const auto mistake = [&](std::vector<std::string> words, int code, std::string_view piece) {
    words.insert(words.begin(), "infer");
    const Outcome outcome = bayswap(words);
    EXPECT_EQ(outcome.code, code) << outcome.err;
    EXPECT_TRUE(has(outcome.err, piece));
    EXPECT_TRUE(has(outcome.err, "What to do: "));
  };
  const std::string known = path("ferry/gba/marek.sav");
  mistake({known, ida, "--id", "gba.x"}, 4, "don't hold the same save");
  mistake({known, path("ferry/gba/marek.box"), "--id", "gba.ferry"}, 3, "exists already");
  mistake({known, path("ferry/gba/marek.box"), "--id", "ferry"}, 2, "platform");
  mistake({known, path("ferry/gba/marek.box")}, 2, "many platforms");
  mistake({known, path("none"), "--id", "gba.x"}, 4, "does not exist");
  mistake({known}, 2, "no pair");
  mistake({known, ida, known}, 2, "no pairs");
  write("zero.sav", Blob());
  mistake({known, path("zero.sav"), "--id", "gba.x"}, 4, "is empty");
  mistake({path("zero.sav"), ida, "--id", "gba.x"}, 4, "zero.sav");
  write("short.sav", noise(5000, 1));
  mistake({path("short.sav"), ida, "--id", "gba.x"}, 4, "size of any chip");
  EXPECT_FALSE(exists("home/layouts/gba.x.toml"));
}

TEST_F(Cli, ConvertToTheFormThatABaseHas) {
  const Outcome grafted =
      bayswap({"convert", path("bench/dumps/A99P.sav"), "--rom", path("bench/roms/Moth Courier (Europe).gba"),
               "--base", path("ferry/gba/marek.box"), "--out", path("ida.box")});
  ASSERT_EQ(grafted.code, 0) << grafted.err;
  EXPECT_EQ(read("ida.box"),
            joined({read("ferry/gba/marek.box").slice(0, 32), read("ferry/gba/ida.box").slice(32, 40960)}));
  // Compressed, and told by nothing but its content.
  write("orchard.srm", noise(8192, 3));
  ASSERT_EQ(bayswap({"convert", path("orchard.srm"), "--from", "snes.raw", "--base",
                     path("locker/Tin Orchard.srm"), "--out", path("orchard.out")})
                .code,
            0);
  EXPECT_EQ(unwrap(read("orchard.out"))->plain, noise(8192, 3));
  EXPECT_EQ(unwrap(read("orchard.out"))->kind, Compression::chunks);
  const Outcome nothing = bayswap({"convert", path(dump), "--out", path("x")});
  EXPECT_EQ(nothing.code, 2);
  EXPECT_TRUE(has(nothing.err, "--base"));
  write("odd.box", noise(33000, 5));
  const Outcome refused = bayswap({"convert", path("bench/dumps/A99P.sav"), "--from", "gba.sram", "--base",
                                   path("odd.box"), "--out", path("x")});
  EXPECT_EQ(refused.code, 4);
  EXPECT_TRUE(has(refused.err, "infer"));
  EXPECT_FALSE(exists("x"));
}

TEST_F(Cli, FoldersAreLookedThrough) {
  const auto list = json({"inspect", path("locker"), path(dump)});
  ASSERT_EQ(list.size(), 8U);
  std::map<std::string, nlohmann::json> by_name;
  for (const auto& entry : list)
    by_name[std::filesystem::path(entry["path"].get<std::string>()).filename()] = entry;
  EXPECT_EQ(by_name["Fog Signal.sav"]["layout"], "pce.raw");
  EXPECT_EQ(by_name["Ropewalk.srm"]["layout"], "md.spread-ff");
  EXPECT_EQ(by_name["Tin Orchard.srm"]["compression"], "chunks");
  EXPECT_EQ(by_name["shopping list.txt"]["kind"], "unknown");
  EXPECT_EQ(by_name["Tin Orchard.state"]["state_map"], "snes.gzip-a");
  EXPECT_EQ(by_name["Cinder Quay.snapshot"]["kind"], "save state");
  EXPECT_TRUE(has(by_name["Cinder Quay.sav"]["layout"].get<std::string>(), "nes.raw"));
  EXPECT_EQ(bayswap({"inspect", path("locker")}).code, 0) << "a text among saves is no mistake";
  const auto rom = json({"inspect", path("bench/roms/Gull Ledger (World).gb")});
  EXPECT_EQ(rom[0]["digests"]["sha256"], sha256(read("bench/roms/Gull Ledger (World).gb").view()).hex());
}

TEST_F(Cli, ChipsTheUserNamesAreRemembered) {
  const std::string rom = path("bench/roms/Lantern Skiff (Europe).z64");
  write("one.srm", *pack(layout(Catalog(), "n64.combined"),
                         Save{Platform::n64, {{{PartKind::eeprom, 0}, noise(2048, 4), true}}}));
  const std::vector<std::string> convert{"convert", path("one.srm"), "--rom", rom,
                                         "--to",    "n64.eeprom",    "--out"};
  const auto with = [&](const std::string& out, const std::vector<std::string>& more) {
    std::vector<std::string> words = convert;
    words.push_back(path(out));
    words.insert(words.end(), more.begin(), more.end());
    return bayswap(words);
  };
  ASSERT_EQ(with("a.eep", {}).code, 0);
  EXPECT_EQ(read("a.eep").size(), 2048U);
  EXPECT_EQ(with("b.eep", {"--chip", "eeprom=512"}).code, 3) << "bytes that are not blank would be cut";
  EXPECT_FALSE(exists("b.eep"));
  const Outcome said = with("b.eep", {"--chip", "eeprom=512", "--accept", "cut"});
  ASSERT_EQ(said.code, 0) << said.err;
  EXPECT_TRUE(has(said.err, "chips.toml"));
  EXPECT_EQ(read("b.eep").size(), 512U);
  EXPECT_EQ(with("c.eep", {}).code, 3) << "what was said is remembered";
  ASSERT_EQ(with("c.eep", {"--accept", "cut"}).code, 0);
  EXPECT_EQ(read("c.eep").size(), 512U) << "it was remembered";
  for (const char* wrong : {"eeprom", "eeprom=", "eeprom=many", "rom=512", "pak1=512", "eeprom=0"})
    EXPECT_EQ(with("d.eep", {"--chip", wrong}).code, 2) << wrong;
  write("home/chips.toml", text_blob("[[game]]\nplatform = 5\n"));
  const Outcome broken = with("e.eep", {});
  EXPECT_EQ(broken.code, 2);
  EXPECT_TRUE(has(broken.err, "chips.toml"));
}

TEST_F(Cli, AClockGoesAlongInTheFormTheTargetHas) {
  ASSERT_EQ(bayswap({"carry", "Gull Ledger", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  EXPECT_EQ(read("quay-tv/saves/Gull Ledger (World).sav"),
            read("bench/dumps/GULL LEDGER.sav").slice(0, 8192));
  EXPECT_EQ(read("quay-tv/saves/Gull Ledger (World).rtc").size(), 8U);
  std::vector<Byte> played = bytes_of(read("quay-tv/saves/Gull Ledger (World).sav"));
  played[40] ^= 1;
  write("quay-tv/saves/Gull Ledger (World).sav", Blob::copy_of(played));
  ASSERT_EQ(bayswap({"carry", "Gull Ledger", "--from", "quay-tv", "--to", "bench", "--yes"}).code, 0);
  EXPECT_EQ(read("bench/dumps/GULL LEDGER.sav").slice(0, 8192), Blob::copy_of(played));
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  ASSERT_EQ(bayswap({"undo", "1", "--yes"}).code, 0);
  EXPECT_FALSE(exists("quay-tv/saves/Gull Ledger (World).rtc"));
}

TEST_F(Cli, TheDemoWorldIsTheSameEverywhere) {
  EXPECT_EQ(bayswap({"demo", "--out", folder_ / "w"}).code, 3) << "never into a folder that holds something";
  ASSERT_EQ(bayswap({"demo", "--out", folder_ / "second"}).code, 0);
  std::string digests;
  for (const char* name : {"bench/dumps/N99P.sra", "bench/roms/Lantern Skiff (Europe).z64",
                           "quay-tv/saves/Lantern Skiff (Europe).srm", "home-pc/roms/lantern-skiff.n64"}) {
    EXPECT_EQ(*LocalStore().read(folder_ / ("second/" + std::string(name))), read(name));
    digests += sha256(read(name).view()).hex().substr(0, 8) + " ";
  }
  EXPECT_EQ(digests, "e354305f 98f2313a 3fac149f 74c3fdf3 ");
  EXPECT_EQ(LocalStore().stat(path(dump))->value().modified, 1935655200);
}

// ---- Bays of every shape ------------------------------------------------------------------------

}  // namespace
}  // namespace bayswap::test
