// The cart commands, the simulated reader at the other end of the line as a process of its own: every
// platform's chips against everything that can be wrong. Success is said only of a chip that holds what was
// to be written; each version of a save is on the cartridge, in a file or in the logbook.
#include <fcntl.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "support/process.hpp"
#include "support/sim_cart.hpp"

namespace bayswap::test {
namespace {

class Bench {
 public:
  Outcome bayswap(std::vector<std::string> words) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    return run_process(words, folder_.path(), {{"BAYSWAP_HOME", folder_ / "home"}, {"TZ", "UTC"}});
  }
  // Sent SIGINT so long after it has printed that.
  Outcome bayswap_stopped(std::vector<std::string> words, const std::string& once, int after_ms) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    words.insert(words.end(), {"--home", folder_ / "home"});
    std::vector<char*> argv;
    for (std::string& word : words) argv.push_back(word.data());
    argv.push_back(nullptr);
    int out[2];
    EXPECT_EQ(pipe2(out, O_CLOEXEC), 0);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, out[1], STDOUT_FILENO);
    posix_spawn_file_actions_adddup2(&actions, out[1], STDERR_FILENO);
    pid_t child = 0;
    EXPECT_EQ(posix_spawn(&child, argv[0], &actions, nullptr, argv.data(), environ), 0);
    posix_spawn_file_actions_destroy(&actions);
    close(out[1]);
    Outcome outcome;
    bool is_sent = false;
    char c = 0;
    while (::read(out[0], &c, 1) == 1) {
      outcome.out += c;
      if (is_sent || outcome.out.find(once) == std::string::npos) continue;
      is_sent = true;
      std::this_thread::sleep_for(std::chrono::milliseconds(after_ms));
      kill(child, SIGINT);
    }
    close(out[0]);
    int status = 0;
    waitpid(child, &status, 0);
    outcome.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    return outcome;
  }
  Outcome write(const std::string& port, const Blob& bytes, std::vector<std::string> more = {}) const {
    EXPECT_TRUE(LocalStore().replace(folder_ / "wanted.sav", bytes.view()));
    more.insert(more.begin(), {"cart", "write", folder_ / "wanted.sav", "--port", port, "--yes", "--json"});
    return bayswap(more);
  }
  [[nodiscard]] bool logbook_has(const Blob& bytes) const {
    const std::string hex = sha256(bytes.view()).hex();
    return std::filesystem::exists(folder_ / ("home/logbook/blobs/" + hex.substr(0, 2) + "/" + hex));
  }
  [[nodiscard]] std::string operator/(const std::string& name) const { return folder_ / name; }

 private:
  Folder folder_;
};

struct Fault {
  const char* name;
  const char* in_cartridge;
  std::vector<std::string> of_line;
  const char* script;  // lines of it; "OTHER" is another cartridge's folder
  enum class Ends { well, badly, refused, cut_off } ends;
};
const std::vector<Fault>& faults() {
  using Ends = Fault::Ends;
  static const std::vector<Fault> all{
      {"none", "", {}, "", Ends::well},
      {"lost frames", "", {"--lost", "3"}, "", Ends::well},
      {"doubled frames", "", {"--doubled", "20"}, "", Ends::well},
      {"damaged frames", "", {"--corrupted", "3"}, "", Ends::well},
      {"a chip that ignores its first writes", "ignored_writes = 3", {}, "", Ends::well},
      {"a worn cell", "worn_cell = 33", {}, "", Ends::badly},
      {"a dead address line", "dead_line = 4", {}, "", Ends::refused},
      {"a stuck data bit", "stuck_bit = 6", {}, "", Ends::refused},
      {"a battery that is nearly flat", "decay = 5", {}, "", Ends::refused},
      {"a plug pulled in the middle", "", {}, "MIDDLE hang-up-after 0", Ends::cut_off},
      {"a cartridge pulled in the middle", "", {}, "MIDDLE remove", Ends::cut_off},
      {"another cartridge in the middle", "", {}, "MIDDLE insert OTHER", Ends::cut_off},
  };
  return all;
}

std::string with(std::string text, const std::string& word, const std::string& other) {
  if (const std::size_t at = text.find(word); at != std::string::npos) text.replace(at, word.size(), other);
  return text;
}

class CartMatrix : public testing::TestWithParam<CartBuild> {};

TEST_P(CartMatrix, NoSaveIsLostAndNoSuccessIsSaidFalsely) {
  const CartBuild& build = GetParam();
  std::uint32_t seed = 1;
  for (const Fault& fault : faults()) {
    SCOPED_TRACE(fault.name);
    const Bench bench;
    const Blob old = noise(build.bytes, ++seed);
    const Blob wanted = noise(build.bytes, ++seed);
    const Blob others = noise(build.bytes, ++seed);
    const SimCart cart(build, fault.in_cartridge, old);
    const SimCart other(build, "", others);
    std::vector<std::string> words{cart.folder.path(), "--seed", std::to_string(seed), "--silence", "60",
                                   "--hurry",          "1000"};
    words.insert(words.end(), fault.of_line.begin(), fault.of_line.end());
    if (*fault.script != '\0') {
      // What goes over the line before the write is little.
      std::string text = with(fault.script, "MIDDLE", std::to_string(450 + build.bytes / 2));
      std::ofstream(bench / "script") << with(text, "OTHER", other.folder.path()) << '\n';
      words.insert(words.end(), {"--script", bench / "script"});
    }
    const SimReader reader(words);
    const Outcome written = bench.write(reader.path(), wanted);
    const Blob now = cart.chip();
    EXPECT_EQ(written.code == 0, now == wanted) << written.out << written.err;
    EXPECT_EQ(other.chip(), others) << "nothing meant for one goes into the next";
    EXPECT_TRUE(now == old || bench.logbook_has(old));
    const auto said = nlohmann::json::parse(written.out);
    EXPECT_EQ(said.contains("error"), written.code != 0) << written.out;
    switch (fault.ends) {
      case Fault::Ends::well:
        EXPECT_EQ(written.code, 0) << written.err;
        break;
      case Fault::Ends::badly:
        EXPECT_EQ(written.code, 5) << written.err;
        EXPECT_NE(written.err.find("--resume"), std::string::npos) << written.err;
        break;
      case Fault::Ends::refused:
        EXPECT_NE(written.code, 0);
        EXPECT_EQ(now, old) << written.out;
        break;
      case Fault::Ends::cut_off:
        EXPECT_NE(written.code, 0) << written.out;
        break;
    }
    if (now == old || now == wanted) continue;
    // It is said until it is repaired: first what was wrong goes away.
    const SimCart repaired(build, "", now);
    const SimReader again({repaired.folder.path(), "--hurry", "1000"});
    const Outcome look = bench.bayswap({"cart", "look", "--port", again.path()});
    EXPECT_NE((look.out + look.err).find("nfinished"), std::string::npos) << look.out << look.err;
    const Outcome resumed = bench.bayswap({"cart", "write", "--resume", "--port", again.path(), "--yes"});
    EXPECT_EQ(resumed.code, 0) << resumed.err;
    EXPECT_EQ(repaired.chip(), wanted);
    const Outcome after = bench.bayswap({"logbook"});
    EXPECT_EQ(after.err.find("unfinished"), std::string::npos) << after.err;
  }
}

// Under the sanitizers, where each takes fifteen seconds, a third of them: each kind of chip and of line.
std::vector<CartBuild> builds_of_this_run() {
  std::vector<CartBuild> all = cart_builds();
#ifdef BAYSWAP_SANITIZED
  std::set<std::string> kinds;
  std::erase_if(all, [&](const CartBuild& build) {
    return !kinds.insert(std::string(build.kind) + build.lanes).second && std::string(build.platform) != "gb";
  });
#endif
  return all;
}
INSTANTIATE_TEST_SUITE_P(Builds, CartMatrix, testing::ValuesIn(builds_of_this_run()));

TEST(CartCli, LooksDumpsAndWritesBack) {
  const Bench bench;
  const CartBuild build{"gb", "sram", 8192, PartKind::sram};
  const Blob held = noise(8192, 5);
  const SimCart cart(build, "", held, "clock = 1\n");
  SimReader reader({cart.folder.path()});
  const Outcome look = bench.bayswap({"cart", "look", "--port", reader.path()});
  EXPECT_EQ(look.code, 0) << look.err;
  for (const char* piece : {"GULL LEDGER", "5.0 V", "8192", "clock", "kept its bytes"})
    EXPECT_NE(look.out.find(piece), std::string::npos) << piece << look.out;
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", reader.path(), "--volts", "3.3"}).code, 3);
  const Outcome dump = bench.bayswap({"cart", "dump", "--port", reader.path(), "--out", bench / "d/"});
  EXPECT_EQ(dump.code, 0) << dump.err;
  EXPECT_EQ(*LocalStore().read(bench / "d/GULL LEDGER r2.sav"), held);
  EXPECT_EQ(bench.bayswap({"cart", "dump", "--port", reader.path(), "--out", bench / "d/"}).code, 0)
      << "the same files again";
  EXPECT_EQ(bench.bayswap({"cart", "rom", "--port", reader.path(), "--out", bench / "d/"}).code, 1)
      << "the sum over the whole ROM is noise";
  EXPECT_EQ(LocalStore().read(bench / "d/GULL LEDGER r2.gb")->view().size(), 65536U);
  // Another save, and the way back.
  ASSERT_EQ(bench.write(reader.path(), noise(8192, 6)).code, 0);
  EXPECT_EQ(cart.chip(), noise(8192, 6));
  EXPECT_EQ(bench.bayswap({"undo", "--yes"}).code, 0);
  EXPECT_EQ(cart.chip(), held);
  // What is wrong with what is to be written is said, and nothing happens.
  for (const std::size_t size : {std::size_t{0}, std::size_t{100}, std::size_t{8000}, std::size_t{70000}}) {
    const Outcome refused = bench.write(reader.path(), noise(size, 7));
    EXPECT_NE(refused.code, 0) << size;
    EXPECT_NE(refused.err.find("What to do"), std::string::npos) << refused.err;
  }
  EXPECT_NE(bench.bayswap({"cart", "write", "nothing.sav", "--port", reader.path()}).code, 0);
  EXPECT_EQ(bench.bayswap({"cart", "write", "--port", reader.path()}).code, 2);
  EXPECT_EQ(bench.bayswap({"cart", "write", "--resume", "--port", reader.path()}).code, 4);
  // The ROM beside the file is another game's.
  const std::vector<Byte> rom = roms::md_rom({' '});
  std::filesystem::create_directories(bench / "other");
  EXPECT_TRUE(LocalStore().create(bench / "other/Walk.md", rom));
  EXPECT_TRUE(LocalStore().create(bench / "other/Walk.sav", noise(8192, 8).view()));
  EXPECT_EQ(bench.bayswap({"cart", "write", bench / "other/Walk.sav", "--port", reader.path(), "--yes"}).code,
            3);
  EXPECT_EQ(cart.chip(), held);
  reader.command("seat badly");
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", reader.path()}).code, 4);
  reader.command("remove");
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", reader.path()}).code, 4);
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", "/dev/nowhere"}).code, 4);
}

TEST(CartCli, ACartridgeIsABay) {
  const Bench bench;
  const SimCart cart({"gba", "flash", 65536, PartKind::flash}, "", noise(65536, 5));
  const SimReader reader({cart.folder.path(), "--hurry", "1000"});
  std::filesystem::create_directories(bench / "pc");
  EXPECT_TRUE(LocalStore().create(bench / "pc/Moth.gba", cart_rom(cart.build)));
  EXPECT_EQ(
      bench.bayswap({"bay", "add", "port", "--like", "cartridge", "--root", "cart:" + reader.path()}).code,
      0);
  EXPECT_EQ(bench.bayswap({"bay", "add", "pc", "--like", "beside-rom", "--root", bench / "pc"}).code, 0);
  const Outcome kept = bench.bayswap({"backup", "port"});
  EXPECT_EQ(kept.code, 0) << kept.err;
  EXPECT_TRUE(bench.logbook_has(noise(65536, 5)));
  const Outcome out = bench.bayswap({"carry", "MOTH COURIER", "--from", "port", "--to", "pc", "--yes"});
  EXPECT_EQ(out.code, 0) << out.err;
  EXPECT_EQ(*LocalStore().read(bench / "pc/Moth.sav"), noise(65536, 5));
  EXPECT_TRUE(LocalStore().replace(bench / "pc/Moth.sav", noise(65536, 6).view()));
  const Outcome in =
      bench.bayswap({"carry", "MOTH COURIER", "--from", "pc", "--to", "port", "--yes", "--wait"});
  EXPECT_EQ(in.code, 0) << in.err;
  EXPECT_EQ(cart.chip(), noise(65536, 6));
  EXPECT_EQ(bench.bayswap({"undo", "--yes"}).code, 0);
  EXPECT_EQ(cart.chip(), noise(65536, 5));
  std::filesystem::last_write_time(bench / "pc/Moth.sav",
                                   std::filesystem::file_time_type::clock::now() - std::chrono::hours(1));
  const Outcome dump = bench.bayswap({"cart", "dump", "--port", reader.path(), "--to", "pc", "--yes"});
  EXPECT_EQ(dump.code, 0) << dump.err;
  EXPECT_EQ(*LocalStore().read(bench / "pc/Moth.sav"), noise(65536, 5)) << "named by the bay's rule";
}

TEST(CartCli, UnstableBytesAreNamedAndMostReadingsCount) {
  const Bench bench;
  const SimCart cart({"snes", "sram", 8192, PartKind::sram}, "decay = 5", noise(8192, 5));
  const SimReader reader({cart.folder.path()});
  const Outcome refused = bench.bayswap({"cart", "dump", "--port", reader.path(), "--out", bench / "a.srm"});
  EXPECT_EQ(refused.code, 4) << refused.err;
  EXPECT_NE((refused.out + refused.err).find("differed between two readings"), std::string::npos);
  EXPECT_FALSE(LocalStore().read(bench / "a.srm"));
  const Outcome taken =
      bench.bayswap({"cart", "dump", "--port", reader.path(), "--out", bench / "a.srm", "--unstable"});
  EXPECT_EQ(taken.code, 1) << taken.err;
  EXPECT_EQ(*LocalStore().read(bench / "a.srm"), noise(8192, 5)) << "each reading is wrong in other places";
}

TEST(CartCli, ASlowLineIsCalledOut) {
  const Bench bench;
  const SimCart cart({"gbc", "sram", 32768, PartKind::sram}, "", noise(32768, 5));
  const SimReader reader({cart.folder.path(), "--rate", "20000"});
  const Outcome dump = bench.bayswap({"cart", "dump", "--port", reader.path(), "--out", bench / "a.sav"});
  EXPECT_EQ(dump.code, 0) << dump.err;
  EXPECT_NE(dump.err.find("the line is slow"), std::string::npos) << dump.err;
}

TEST(CartCli, CtrlCWaitsForTheAttemptToEnd) {
  const Blob old = noise(8192, 5);
  const Blob wanted = noise(8192, 6);
  for (const int after_ms : {0, 100}) {
    for (const char* faults : {"", "ignored_writes = 1"}) {
      const Bench bench;
      const SimCart cart({"gba", "eeprom", 8192, PartKind::eeprom}, faults, old);
      const SimReader reader({cart.folder.path(), "--hurry", "10"});
      EXPECT_TRUE(LocalStore().create(bench / "wanted.sav", wanted.view()));
      const Outcome outcome = bench.bayswap_stopped(
          {"cart", "write", bench / "wanted.sav", "--port", reader.path(), "--yes"}, "differing", after_ms);
      const Blob now = cart.chip();
      if (after_ms == 100 && *faults == '\0') {
        EXPECT_EQ(now, wanted) << outcome.out;
        EXPECT_NE(outcome.out.find("Done"), std::string::npos) << "it says what became of it";
      }
      EXPECT_TRUE(now == old || bench.logbook_has(old));
      const bool torn = now != old && now != wanted;
      EXPECT_EQ(bench.bayswap({"logbook"}).err.find("unfinished") != std::string::npos, torn);
      if (!torn) continue;
      EXPECT_EQ(bench.bayswap({"cart", "write", "--resume", "--port", reader.path(), "--yes"}).code, 0);
      EXPECT_EQ(cart.chip(), wanted);
    }
  }
}

TEST(CartCli, TakesAStateAndACardsEntry) {
  const Bench bench;
  // A snapshot of some program, with the battery memory in a piece that has a name.
  const CartBuild build{"snes", "sram", 8192, PartKind::sram};
  const SimCart cart(build, "", noise(8192, 5));
  const SimReader reader({cart.folder.path()});
  std::vector<Byte> state(70000);
  const Blob save = noise(8192, 9);
  const std::string head = "PROGRAM1";
  std::copy(head.begin(), head.end(), state.begin());
  const std::vector<Byte> piece{'S', 'R', 'A', 'M', 0x00, 0x20, 0x00, 0x00};
  std::copy(piece.begin(), piece.end(), state.begin() + 30000);
  std::copy(save.view().begin(), save.view().end(), state.begin() + 30008);
  EXPECT_TRUE(LocalStore().create(bench / "orchard.state", state));
  const Outcome taken =
      bench.bayswap({"cart", "write", bench / "orchard.state", "--port", reader.path(), "--yes"});
  EXPECT_EQ(taken.code, 0) << taken.out << taken.err;
  EXPECT_EQ(cart.chip(), save);
  // A note goes from a pak's image onto the pak in the reader.
  EXPECT_EQ(bench.bayswap({"card", "make", "n64", bench / "pak.mpk"}).code, 0);
  const SimCart pak({"n64", "pak", 32768, PartKind::pak}, "", *LocalStore().read(bench / "pak.mpk"));
  const SimReader controller({pak.folder.path()});
  EXPECT_EQ(bench.bayswap({"demo", "--out", bench / "world"}).code, 0);
  const std::string image = bench / "world/quay-tv/saves/Lantern Skiff (Europe).srm";
  const auto list =
      nlohmann::json::parse(bench.bayswap({"card", "list", image, "--json", "--slot", "1"}).out);
  ASSERT_FALSE(list["saves"].empty()) << list;
  const std::string name = list["saves"][0]["name"];
  EXPECT_EQ(
      bench.bayswap({"convert", image, "--to", "n64.pak", "--slot", "1", "--out", bench / "one.mpk"}).code,
      0);
  const Outcome put = bench.bayswap(
      {"cart", "write", (bench / "one.mpk") + ": " + name, "--port", controller.path(), "--yes"});
  EXPECT_EQ(put.code, 0) << put.out << put.err;
  EXPECT_TRUE(LocalStore().create(bench / "after.mpk", pak.chip().view()));
  EXPECT_NE(bench.bayswap({"card", "list", bench / "after.mpk"}).out.find(name), std::string::npos);
}

TEST(CartCli, VoltageSeatAndBatteryAreSaid) {
  const Bench bench;
  // Nobody can tell which voltage it wants: the lowest is tried, which reads garbage.
  const SimCart cart({"gb", "sram", 8192, PartKind::sram}, "", noise(8192, 5), "tells_voltage = 0\n");
  SimReader reader({cart.folder.path()});
  const Outcome low = bench.bayswap({"cart", "look", "--port", reader.path()});
  EXPECT_EQ(low.code, 4) << low.out;
  EXPECT_NE(low.err.find("voltage"), std::string::npos) << low.err;
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", reader.path(), "--volts", "5"}).code, 0);
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", reader.path(), "--volts", "500"}).code, 2);
  EXPECT_FALSE(LocalStore().read(cart.folder / "too-many-volts"));
  reader.command("seat crooked");
  const Outcome crooked = bench.bayswap({"cart", "dump", "--port", reader.path(), "--volts", "5"});
  EXPECT_EQ(crooked.code, 4) << "its header is garbage";
  EXPECT_NE(crooked.err.find("contacts"), std::string::npos) << crooked.err;
  EXPECT_EQ(cart.chip(), noise(8192, 5));
  // Its header tells, once it has power, that this was too much.
  const SimCart small({"gba", "sram", 32768, PartKind::sram}, "", noise(32768, 5), "tells_voltage = 0\n");
  const SimReader third({small.folder.path()});
  const Outcome high = bench.bayswap({"cart", "look", "--port", third.path(), "--volts", "5"});
  EXPECT_EQ(high.code, 3) << high.out;
  EXPECT_NE(high.err.find("made for 3.3 V"), std::string::npos) << high.err;
  EXPECT_EQ(bench.bayswap({"cart", "look", "--port", third.path()}).code, 0);
  const SimCart flat({"snes", "sram", 8192, PartKind::sram}, "flat_battery = 1", noise(8192, 5));
  const SimReader other({flat.folder.path()});
  const Outcome look = bench.bayswap({"cart", "look", "--port", other.path()});
  EXPECT_EQ(look.code, 1);
  EXPECT_NE(look.out.find("blank"), std::string::npos) << look.out;
}

TEST(CartCli, WhatWasCutOffGoesOnOnItsOwnCartridgeAlone) {
  const Bench bench;
  const CartBuild build{"gbc", "sram", 32768, PartKind::sram};
  const SimCart cart(build, "", noise(32768, 1));
  const SimCart same_game(build, "", noise(32768, 2));
  const SimCart other_game({"snes", "sram", 8192, PartKind::sram}, "", noise(8192, 3));
  std::ofstream(bench / "script") << "12000 hang-up-after 0\n";
  {
    const SimReader reader({cart.folder.path(), "--script", bench / "script"});
    EXPECT_EQ(bench.write(reader.path(), noise(32768, 4)).code, 5);
  }
  EXPECT_NE(cart.chip(), noise(32768, 1));
  SimReader reader({same_game.folder.path()});
  const std::vector<std::string> resume{"cart", "write", "--resume", "--port", reader.path(), "--yes"};
  EXPECT_EQ(bench.bayswap(resume).code, 3) << "it holds neither";
  EXPECT_EQ(same_game.chip(), noise(32768, 2));
  reader.command("insert " + other_game.folder.path());
  EXPECT_EQ(bench.bayswap(resume).code, 4);
  EXPECT_EQ(other_game.chip(), noise(8192, 3));
  reader.command("insert " + cart.folder.path());
  EXPECT_EQ(bench.bayswap(resume).code, 0);
  EXPECT_EQ(cart.chip(), noise(32768, 4));
  // Taken back as a whole: to what was there before the first try, and on no other cartridge.
  const std::vector<std::string> undo{"undo", "--yes"};
  reader.command("insert " + same_game.folder.path());
  const Outcome refused = bench.bayswap(undo);
  EXPECT_EQ(refused.code, 3) << refused.out << refused.err;
  EXPECT_EQ(same_game.chip(), noise(32768, 2));
  reader.command("insert " + cart.folder.path());
  EXPECT_EQ(bench.bayswap(undo).code, 0);
  EXPECT_EQ(cart.chip(), noise(32768, 1));
  // A version of it goes onto no other one either, unless that is meant.
  const auto written = bench.bayswap({"logbook", "--json"});
  const std::string entry = std::to_string(nlohmann::json::parse(written.out).back()["id"].get<int>());
  std::vector<std::string> again{"undo", entry, "--yes"};
  reader.command("insert " + same_game.folder.path());
  EXPECT_EQ(bench.bayswap(again).code, 3);
  EXPECT_EQ(same_game.chip(), noise(32768, 2));
  for (const std::vector<std::string>& how :
       std::vector<std::vector<std::string>>{{"--entry", entry}, {"--date", "a second ago"}}) {
    std::vector<std::string> restore{"restore", nlohmann::json::parse(written.out).back()["game"]["title"],
                                     "--yes"};
    restore.insert(restore.end(), how.begin(), how.end());
    EXPECT_NE(bench.bayswap(restore).code, 0) << how.front();
    EXPECT_EQ(same_game.chip(), noise(32768, 2)) << how.front();
  }
  again.insert(again.end(), {"--accept", "odd-target"});
  EXPECT_EQ(bench.bayswap(again).code, 0);
  EXPECT_EQ(same_game.chip(), noise(32768, 1));
}

// Equal while there is power, and gone without it.
TEST(CartCli, AFlatBatteryIsNoticedByTheWrite) {
  const Bench bench;
  const SimCart flat({"gba", "sram", 32768, PartKind::sram}, "flat_battery = 1", noise(32768, 5));
  const SimReader reader({flat.folder.path()});
  const Outcome outcome = bench.write(reader.path(), noise(32768, 6));
  EXPECT_EQ(outcome.code, 5) << outcome.out << outcome.err;
  EXPECT_NE(outcome.err.find("battery is flat"), std::string::npos) << outcome.err;
  EXPECT_EQ(outcome.out.find("Done"), std::string::npos) << outcome.out;
}

TEST(CartCli, AClockGoesWithItsSave) {
  const Bench bench;
  const SimCart cart({"gb", "sram", 8192, PartKind::sram, "odd", true}, "", noise(8192, 5));
  EXPECT_TRUE(LocalStore().create(cart.folder / "clock.txt",
                                  text_blob(std::to_string(std::time(nullptr) - 100000)).view()));
  const SimReader reader({cart.folder.path()});
  std::filesystem::create_directories(bench / "pc");
  EXPECT_TRUE(LocalStore().create(bench / "pc/Gull.gb", cart_rom(cart.build)));
  for (const auto& [name, form, root] :
       {std::tuple{"port", "cartridge", "cart:" + reader.path()}, {"pc", "beside-rom", bench / "pc"}})
    EXPECT_EQ(bench.bayswap({"bay", "add", name, "--like", form, "--root", root}).code, 0);
  const std::vector<std::string> out{"carry", "GULL LEDGER", "--from", "port",
                                     "--to",  "pc",          "--yes",  "--wait"};
  const Outcome carried = bench.bayswap(out);
  EXPECT_EQ(carried.code, 0) << carried.err;
  const Outcome back =
      bench.bayswap({"carry", "GULL LEDGER", "--from", "pc", "--to", "port", "--yes", "--wait"});
  EXPECT_EQ(back.code, 0) << back.err;
  EXPECT_NE(back.out.find("already"), std::string::npos) << "a second's difference is none: " << back.out;
}

TEST(CartCli, ACarryDoesNotOverwriteWhatCanNotBeReadRight) {
  const CartBuild build{"snes", "sram", 8192, PartKind::sram};
  for (const char* fault : {"stuck_bit = 6", "dead_line = 4"}) {
    const Bench bench;
    const SimCart cart(build, fault, noise(8192, 5));
    const SimReader reader({cart.folder.path()});
    std::filesystem::create_directories(bench / "pc");
    EXPECT_TRUE(LocalStore().create(bench / "pc/Orchard.sfc", cart_rom(build)));
    EXPECT_TRUE(LocalStore().create(bench / "pc/Orchard.srm", noise(8192, 6).view()));
    for (const auto& [name, form, root] :
         {std::tuple{"port", "cartridge", "cart:" + reader.path()}, {"pc", "beside-rom", bench / "pc"}})
      EXPECT_EQ(bench.bayswap({"bay", "add", name, "--like", form, "--root", root}).code, 0);
    const Outcome in = bench.bayswap(
        {"carry", "Orchard", "--from", "pc", "--to", "port", "--yes", "--wait", "--accept", "newer"});
    EXPECT_EQ(in.code, 3) << in.out << in.err;
    EXPECT_NE(in.err.find("can't be read right"), std::string::npos) << in.err;
    EXPECT_EQ(cart.chip(), noise(8192, 5));
    EXPECT_EQ(bench.bayswap({"cart", "dump", "--port", reader.path(), "--to", "pc", "--unstable"}).code, 2);
  }
}

}  // namespace
}  // namespace bayswap::test
