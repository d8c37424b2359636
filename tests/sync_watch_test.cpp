// `sync --watch` on two devices: what is played on one is on the other in seconds, whatever goes wrong
// between.
#include "support/player.hpp"
#include "support/proxy.hpp"
#include "support/servers.hpp"

namespace bayswap::test {
namespace {

class SyncWatch : public Player {
 protected:
  SyncWatch() {
    for (const std::string name : {"pc", "box"}) {
      const std::string rule =
          name == "pc" ? "path = \"saves/{rom.stem}.srm\"\nlayout = \"nes.raw\"\nroms = \"roms\"\n"
                       : "path = \"{rom.folder}/{rom.stem}.sav\"\nlayout = \"nes.raw\"\nroms = \".\"\n";
      fs::create_directories(folder_ / name);
      put(name + "-home/bays/" + name + ".toml",
          text_blob("root = \"" + (folder_ / name) + "\"\n[platform.nes]\n" + rule));
    }
    put("pc/roms/Tin Orchard (Europe).nes", rom);
    put("box/tin orchard.nes", rom);
    put(on_pc, noise(8192, 1));
  }
  void join(const std::string& url) {
    for (const std::string name : {"pc", "box"}) {
      home_ = name + "-home";
      ASSERT_EQ(bayswap({"sync", "join", url, "--device", name}).code, 0);
    }
  }
  void watch(Child& child, const std::string& name) {
    const Setting home("BAYSWAP_HOME", folder_ / (name + "-home"));
    child.start({BAYSWAP_BINARY, "sync", "--watch"}, 0, folder_ / (name + ".log"));
  }
  [[nodiscard]] std::string log(const std::string& name) const {
    std::ifstream file(folder_ / (name + ".log"));
    std::ostringstream text;
    text << file.rdbuf();
    return text.str();
  }
  // Generous: the machine may be busy. How long it took is what the report says.
  bool comes(const std::function<bool()>& there, int seconds = 60) {
    for (int i = 0; i < seconds * 10; ++i) {
      if (there()) return true;
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    return false;
  }
  bool holds(const std::string& path, const Blob& bytes) {
    const auto now = LocalStore().read(folder_ / path);
    return now && *now == bytes;
  }
  // As a program that saves: now.
  void play(const std::string& path, const Blob& bytes) {
    ASSERT_TRUE(LocalStore().replace(folder_ / path, bytes.view()));
  }
  const Blob rom = nes_rom(3);
  const std::string on_pc = "pc/saves/Tin Orchard (Europe).srm";
  const std::string on_box = "box/tin orchard.sav";
};

TEST_F(SyncWatch, WhatIsPlayedThereIsHereInSeconds) {
  join(folder_ / "sea");
  Child pc;
  Child box;
  watch(pc, "pc");
  watch(box, "box");
  ASSERT_TRUE(comes([&] { return holds(on_box, noise(8192, 1)); })) << log("pc") << log("box");
  const auto start = std::chrono::steady_clock::now();
  play(on_box, noise(8192, 2));
  ASSERT_TRUE(comes([&] { return holds(on_pc, noise(8192, 2)); })) << log("pc") << log("box");
  RecordProperty("milliseconds",
                 static_cast<int>((std::chrono::steady_clock::now() - start) / std::chrono::milliseconds(1)));
  // A second watcher of the same device is told so.
  home_ = "pc-home";
  const Outcome second = bayswap({"sync", "--watch"});
  EXPECT_NE(second.code, 0);
  EXPECT_NE(second.err.find("watch"), std::string::npos) << second.err;
  // The sync folder goes away and comes back; meanwhile both play on, each another game.
  fs::rename(folder_ / "sea", folder_ / "away");
  play(on_pc, noise(8192, 3));
  ASSERT_TRUE(comes([&] { return log("pc").find("unreachable") != std::string::npos; })) << log("pc");
  fs::rename(folder_ / "away", folder_ / "sea");
  ASSERT_TRUE(comes([&] { return holds(on_box, noise(8192, 3)); })) << log("pc") << log("box");
  // The folder of the bay is another one than it was, as on a stick that was plugged in again.
  fs::rename(folder_ / "box", folder_ / "box-away");
  ASSERT_TRUE(comes([&] {
    play(on_pc, noise(8192, 30));
    return log("box").find("away") != std::string::npos;
  })) << log("box");
  ASSERT_EQ(run_program("cp -a '" + (folder_ / "box-away") + "' '" + (folder_ / "box") + "'"), 0);
  ASSERT_TRUE(comes([&] { return holds(on_box, noise(8192, 30)); })) << log("pc") << log("box");
  play(on_box, noise(8192, 31));
  ASSERT_TRUE(comes([&] { return holds(on_pc, noise(8192, 31)); })) << log("pc") << log("box");
  // Killed and started again.
  box.stop();
  play(on_pc, noise(8192, 4));
  ASSERT_TRUE(comes([&] {
    const std::string told = log("pc");
    return std::count(told.begin(), told.end(), '\n') > 0 && told.rfind("sent") > told.rfind("reached");
  }));
  Child again;
  watch(again, "box");
  ASSERT_TRUE(comes([&] { return holds(on_box, noise(8192, 4)); })) << log("pc") << log("box");
  pc.stop();
  again.stop();
  // One line an event.
  const std::string told = log("pc");
  EXPECT_LT(std::count(told.begin(), told.end(), '\n'), 40) << told;
  // Once, for a timer: nothing to say where nothing is new.
  const Outcome once = bayswap({"sync", "--once"});
  EXPECT_EQ(once.code, 0) << once.err;
  EXPECT_EQ(once.out, "");
}

TEST_F(SyncWatch, OverAServerThatComesAndGoes) {
  if (!DavServer::is_installed() && std::getenv("BAYSWAP_NEEDS_CORES") == nullptr)
    GTEST_SKIP() << "the server is not installed: scripts/setup does that";
  const DavServer server;
  ASSERT_TRUE(server.runs());
  Proxy line(server.port());
  join("http://127.0.0.1:" + std::to_string(line.port()));
  Child pc;
  Child box;
  watch(pc, "pc");
  watch(box, "box");
  ASSERT_TRUE(comes([&] { return holds(on_box, noise(8192, 1)); })) << log("pc") << log("box");
  line.set({1, 1000, 0, 0, {}, {}});  // nothing goes through
  play(on_box, noise(8192, 2));
  ASSERT_TRUE(comes([&] { return log("box").find("unreachable") != std::string::npos; })) << log("box");
  line.set({});
  ASSERT_TRUE(comes([&] { return holds(on_pc, noise(8192, 2)); })) << log("pc") << log("box");
}

}  // namespace
}  // namespace bayswap::test
