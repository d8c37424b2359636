// Bays whose folder is on a server: a handheld that is reached by FTP, a box by SSH, a share by WebDAV.
#include "support/player.hpp"
#include "support/servers.hpp"

namespace bayswap::test {
namespace {

class RemoteBays : public Player {
 protected:
  void SetUp() override {
    if (!(DavServer::is_installed() && SshServer::is_installed() && FtpServer::is_installed()) &&
        std::getenv("BAYSWAP_NEEDS_CORES") == nullptr)
      GTEST_SKIP() << "the servers are not installed: scripts/setup does that";
  }
  void remote(const std::string& name, const std::string& url) {
    const Outcome added = bayswap({"bay", "add", name, "--root", url, "--platform", "nes", "--path",
                                   "{rom.folder}/{rom.stem}.sav", "--layout", "nes.raw", "--roms", "."});
    ASSERT_EQ(added.code, 0) << added.out << added.err;
  }
  // On the server's own disk.
  static void place(const std::string& root, const std::string& name, const Blob& bytes) {
    ASSERT_TRUE(LocalStore(root).replace(name, bytes.view()));
    chmod((root + "/" + name).c_str(), 0666);
    static std::int64_t evening = 1100000000;
    const timespec then{++evening, 0};
    const timespec times[2] = {then, then};
    utimensat(AT_FDCWD, (root + "/" + name).c_str(), times, 0);
  }

  const Blob rom = nes_rom(3);
  const Blob save = noise(8192, 1);
  const Blob later = noise(8192, 2);
};

TEST_F(RemoteBays, ASaveThereBackAndUndone) {
  const DavServer dav;
  const SshServer ssh;
  const FtpServer ftp;
  ASSERT_TRUE(dav.runs() && ssh.runs() && ftp.runs());
  const Setting home("HOME", ssh.home());
  const Setting password("BAYSWAP_PASSWORD", FileServer::password);
  put("pc/roms/Tin Orchard (Europe).nes", rom);
  for (const auto& [name, url, root] :
       {std::tuple("share", dav.url(), dav.root()), std::tuple("box", ssh.url(), ssh.root()),
        std::tuple("pocket", ftp.url(), ftp.root())}) {
    SCOPED_TRACE(name);
    put("pc/saves/Tin Orchard (Europe).srm", save);
    const std::string there = "100% tin [orchard].sav";
    place(root, "100% tin [orchard].nes", rom);
    remote(name, url);
    const auto shown = bayswap({"bay", "show", name});
    EXPECT_EQ(shown.code, 0) << shown.err;
    const auto carried = carry("tin orchard", "pc", name);
    ASSERT_EQ(carried.code, 0) << carried.out << carried.err;
    EXPECT_EQ(*LocalStore(root).read(there), save);
    // Played there, and carried back.
    place(root, there, later);
    const auto back = carry("100% tin", name, "pc");
    ASSERT_EQ(back.code, 0) << back.out << back.err;
    EXPECT_EQ(read("pc/saves/Tin Orchard (Europe).srm"), later);
    // Written over there, and undone.
    put("pc/saves/Tin Orchard (Europe).srm", noise(8192, 3));
    const auto over = carry("tin orchard", "pc", name, {"--accept", "newer"});
    ASSERT_EQ(over.code, 0) << over.out << over.err;
    EXPECT_EQ(*LocalStore(root).read(there), noise(8192, 3));
    const auto undone = bayswap({"undo", "--yes"});
    EXPECT_EQ(undone.code, 0) << undone.out << undone.err;
    EXPECT_EQ(*LocalStore(root).read(there), later);
    EXPECT_EQ(bayswap({"logbook"}).code, 0);
    EXPECT_EQ(bayswap({"bay", "check", name}).code, 0);
    EXPECT_EQ(LocalStore(root).list(".")->size(), 2U) << "nothing else is left there";
  }
  const auto bays = json({"bay", "list"});
  EXPECT_EQ(bays.size(), 5U);
}

TEST_F(RemoteBays, OneThatIsSwitchedOffIsLeftAsItIs) {
  put("pc/roms/Tin Orchard (Europe).nes", rom);
  put("pc/saves/Tin Orchard (Europe).srm", save);
  remote("pocket", "ftp://127.0.0.1:" + std::to_string(free_port()) + "/saves");
  const auto refused = carry("tin orchard", "pc", "pocket");
  EXPECT_NE(refused.code, 0);
  EXPECT_NE(refused.err.find("try again"), std::string::npos) << refused.err;
  EXPECT_EQ(read("pc/saves/Tin Orchard (Europe).srm"), save);
  // Others go on without it.
  ASSERT_EQ(bayswap({"sync", "join", folder_ / "sea", "--device", "pc"}).code, 0);
  const auto round = bayswap({"sync", "--yes"});
  EXPECT_EQ(round.code, 0) << round.out << round.err;
  EXPECT_NE(round.err.find("pocket is left as it was"), std::string::npos) << round.err;
}

// A handheld by FTP and a PC, in step.
TEST_F(RemoteBays, InStep) {
  const FtpServer ftp;
  ASSERT_TRUE(ftp.runs());
  const Setting password("BAYSWAP_PASSWORD", FileServer::password);
  put("pc/roms/Tin Orchard (Europe).nes", rom);
  put("pc/saves/Tin Orchard (Europe).srm", save);
  place(ftp.root(), "tin orchard.nes", rom);
  remote("pocket", ftp.url());
  ASSERT_EQ(bayswap({"sync", "join", folder_ / "sea", "--device", "pc"}).code, 0);
  const auto round = bayswap({"sync", "--yes"});
  EXPECT_EQ(round.code, 0) << round.out << round.err;
  EXPECT_EQ(*LocalStore(ftp.root()).read("tin orchard.sav"), save);
  place(ftp.root(), "tin orchard.sav", later);
  const auto second = bayswap({"sync", "--yes"});
  EXPECT_EQ(second.code, 0) << second.out << second.err;
  EXPECT_EQ(read("pc/saves/Tin Orchard (Europe).srm"), later);
}

}  // namespace
}  // namespace bayswap::test
