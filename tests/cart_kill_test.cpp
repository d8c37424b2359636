// Either side of a write to a cartridge is killed at any moment: the next command says what is unfinished,
// and going on mends it.
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>

#include <chrono>
#include <filesystem>
#include <random>
#include <thread>

#include "support/process.hpp"
#include "support/sim_cart.hpp"

namespace bayswap::test {
namespace {

class CartKill : public testing::TestWithParam<int> {
 protected:
  Outcome bayswap(std::vector<std::string> words) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    return run_process(words, folder_.path(), {{"BAYSWAP_HOME", folder_ / "home"}, {"TZ", "UTC"}});
  }
  // Starts a write and leaves it alone.
  [[nodiscard]] pid_t start_write(const std::string& port) const {
    std::vector<std::string> words{
        BAYSWAP_BINARY, "cart",    "write",  folder_ / "wanted.sav", "--port", port,
        "--yes",        "--quiet", "--home", folder_ / "home"};
    std::vector<char*> argv;
    for (std::string& word : words) argv.push_back(word.data());
    argv.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    for (const int fd : {0, 1, 2}) posix_spawn_file_actions_addopen(&actions, fd, "/dev/null", O_RDWR, 0);
    pid_t child = 0;
    EXPECT_EQ(posix_spawn(&child, argv[0], &actions, nullptr, argv.data(), environ), 0);
    posix_spawn_file_actions_destroy(&actions);
    return child;
  }
  Folder folder_;
};

TEST_P(CartKill, TheNextCommandMendsIt) {
  constexpr int rounds = 50;
  std::mt19937 dice(static_cast<unsigned>(GetParam()));
  const std::vector<CartBuild> builds{{"gbc", "sram", 32768, PartKind::sram},
                                      {"gba", "flash", 65536, PartKind::flash},
                                      {"n64", "eeprom", 2048, PartKind::eeprom}};
  int torn = 0;
  for (int round = 0; round < rounds; ++round) {
    const CartBuild& build = builds[dice() % builds.size()];
    const bool kills_reader = dice() % 2 == 0;
    SCOPED_TRACE(std::string(build.platform) + (kills_reader ? ", the reader" : ", the program"));
    const Blob old = noise(build.bytes, static_cast<std::uint32_t>(dice()));
    const Blob wanted = noise(build.bytes, static_cast<std::uint32_t>(dice()));
    const SimCart cart(build, "", old);
    ASSERT_TRUE(LocalStore().replace(folder_ / "wanted.sav", wanted.view()));
    const std::vector<std::string> words{cart.folder.path(), "--hurry", "50", "--silence", "20"};
    {
      SimReader reader(words);
      const pid_t child = start_write(reader.path());
      // At any moment of the command; or, as often, at any moment of the write itself.
      if (dice() % 2 == 0) {
        std::this_thread::sleep_for(std::chrono::microseconds(dice() % 60000));
      } else {
        for (int i = 0; i < 4000 && cart.chip() == old; ++i)
          std::this_thread::sleep_for(std::chrono::microseconds(500));
        std::this_thread::sleep_for(std::chrono::microseconds(dice() % 12000));
      }
      if (kills_reader)
        reader.kill_it();
      else
        kill(child, SIGKILL);
      int status = 0;
      waitpid(child, &status, 0);
      const bool said_so = WIFEXITED(status) && WEXITSTATUS(status) == 0;
      EXPECT_TRUE(!said_so || cart.chip() == wanted);
    }
    const Blob now = cart.chip();
    const bool is_torn = now != old && now != wanted;
    torn += is_torn ? 1 : 0;
    const SimReader again(words);
    const Outcome look = bayswap({"cart", "look", "--port", again.path()});
    const bool is_said = (look.out + look.err).find("nfinished") != std::string::npos;
    EXPECT_TRUE(is_said || !is_torn) << look.out << look.err;
    if (is_said || is_torn) {
      const Outcome resumed = bayswap({"cart", "write", "--resume", "--port", again.path(), "--yes"});
      EXPECT_EQ(resumed.code, 0) << resumed.err;
    } else if (now == old) {
      const Outcome written =
          bayswap({"cart", "write", folder_ / "wanted.sav", "--port", again.path(), "--yes"});
      EXPECT_EQ(written.code, 0) << written.err;
    }
    EXPECT_EQ(cart.chip(), wanted);
    const std::string hex = sha256(old.view()).hex();
    EXPECT_TRUE(std::filesystem::exists(folder_ / ("home/logbook/blobs/" + hex.substr(0, 2) + "/" + hex)))
        << "the old bytes are kept";
    const Outcome after = bayswap({"cart", "look", "--port", again.path()});
    EXPECT_EQ((after.out + after.err).find("nfinished"), std::string::npos) << after.out << after.err;
  }
  EXPECT_GT(torn, 0) << "no round hit a write";
  RecordProperty("torn", torn);
}

// Ten times fifty.
INSTANTIATE_TEST_SUITE_P(Seeds, CartKill, testing::Range(1, 11));

}  // namespace
}  // namespace bayswap::test
