// The cartridge port over a pseudo-terminal: bytes a second of a ROM that is read, against `cat` through the
// same kind of line; and the memory that a large one takes.
#include <bayswap/cart.hpp>

#include <fcntl.h>
#include <signal.h>
#include <termios.h>

#include <array>
#include <filesystem>
#include <fstream>
#include <random>

#include "processes.hpp"

namespace {

using namespace bayswap;
using namespace bayswap::bench;

double seconds_now() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

// The simulated reader with that cartridge in it, and the path of its line.
struct Reader {
  pid_t child = 0;
  int to = -1;
  std::string path;
  explicit Reader(const std::string& cartridge) {
    std::array<int, 2> in{};
    std::array<int, 2> out{};
    if (pipe2(in.data(), O_CLOEXEC) != 0 || pipe2(out.data(), O_CLOEXEC) != 0) std::exit(1);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, in[0], STDIN_FILENO);
    posix_spawn_file_actions_adddup2(&actions, out[1], STDOUT_FILENO);
    std::string program = BAYSWAP_SIMPORT;
    std::string folder = cartridge;
    std::array<char*, 3> argv{program.data(), folder.data(), nullptr};
    if (posix_spawn(&child, argv[0], &actions, nullptr, argv.data(), environ) != 0) std::exit(1);
    posix_spawn_file_actions_destroy(&actions);
    close(in[0]);
    close(out[1]);
    to = in[1];
    char c = 0;
    while (::read(out[0], &c, 1) == 1 && c != '\n') path += c;
    close(out[0]);
  }
  ~Reader() {
    kill(child, SIGKILL);
    waitpid(child, nullptr, 0);
    close(to);
  }
  Reader(const Reader&) = delete;
  Reader& operator=(const Reader&) = delete;
};

std::string cartridge(const std::filesystem::path& folder, std::size_t bytes) {
  std::filesystem::create_directories(folder);
  // In pieces: what this process has taken counts for those that it starts.
  constexpr std::size_t piece = std::size_t{1} << 20;
  std::mt19937 dice(2031);
  std::vector<Byte> rom(piece);
  std::ofstream file(folder / "rom", std::ios::binary);
  for (std::size_t at = 0; at < bytes; at += piece) {
    for (Byte& b : rom) b = static_cast<Byte>(dice());
    if (at == 0) {
      // A header: the title, the fixed byte, and its sum.
      std::fill(rom.begin() + 0xa0, rom.begin() + 0xc0, Byte{0});
      const std::string title = "BENCH";
      std::copy(title.begin(), title.end(), rom.begin() + 0xa0);
      rom[0xb2] = 0x96;
      int sum = -0x19;
      for (std::size_t i = 0xa0; i < 0xbd; ++i) sum -= rom[i];
      rom[0xbd] = static_cast<Byte>(sum);
    }
    file.write(reinterpret_cast<const char*>(rom.data()), static_cast<std::streamsize>(rom.size()));
  }
  file.close();
  std::ofstream(folder / "cartridge.toml") << "platform = \"gba\"\nrom = \"rom\"\nmillivolts = 3300\n";
  return folder;
}

double our_seconds(const std::string& line, std::size_t bytes) {
  auto port = CartPort::open(line);
  if (!port || !(*port)->power_up()) std::exit(1);
  CartIdentity game;
  game.counter = (*port)->look()->counter;
  game.rom.game.platform = Platform::gba;
  std::size_t came = 0;
  const double start = seconds_now();
  const auto done =
      (*port)->read_whole_rom(game, "reading", [&](std::uint64_t, ByteView piece) -> Result<void> {
        came += piece.size();
        return {};
      });
  const double seconds = seconds_now() - start;
  if (!done || came != bytes) {
    std::fprintf(stderr, "the ROM was not read\n");
    std::exit(1);
  }
  return seconds;
}

// `cat FILE` into the master's side of a raw pseudo-terminal, read at the other one.
double cat_seconds(const std::string& file, std::size_t bytes) {
  const int master = posix_openpt(O_RDWR | O_NOCTTY | O_CLOEXEC);
  std::array<char, 128> name{};
  if (master < 0 || grantpt(master) != 0 || unlockpt(master) != 0 ||
      ptsname_r(master, name.data(), name.size()) != 0)
    std::exit(1);
  const int slave = open(name.data(), O_RDWR | O_NOCTTY | O_CLOEXEC);
  termios settings{};
  tcgetattr(slave, &settings);
  cfmakeraw(&settings);
  tcsetattr(slave, TCSANOW, &settings);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_adddup2(&actions, master, STDOUT_FILENO);
  std::string program = "cat";
  std::string path = file;
  std::array<char*, 3> argv{program.data(), path.data(), nullptr};
  pid_t child = 0;
  const double start = seconds_now();
  if (posix_spawnp(&child, "cat", &actions, nullptr, argv.data(), environ) != 0) std::exit(1);
  std::vector<char> buffer(65536);
  std::size_t came = 0;
  while (came < bytes) {
    const ssize_t count = ::read(slave, buffer.data(), buffer.size());
    if (count <= 0) std::exit(1);
    came += static_cast<std::size_t>(count);
  }
  const double seconds = seconds_now() - start;
  waitpid(child, nullptr, 0);
  posix_spawn_file_actions_destroy(&actions);
  close(slave);
  close(master);
  return seconds;
}

}  // namespace

int main() {
  const std::filesystem::path folder = std::filesystem::temp_directory_path() / "bayswap-cart-bench";
  std::filesystem::remove_all(folder);
  setenv("BAYSWAP_HOME", (folder / "home").c_str(), 1);
  constexpr std::size_t bytes = std::size_t{16} << 20;
  const std::string middle = cartridge(folder / "middle", bytes);
  {
    const Reader reader(middle);
    std::vector<double> ours;
    std::vector<double> theirs;
    for (int i = 0; i < 7; ++i) {
      ours.push_back(our_seconds(reader.path, bytes));
      theirs.push_back(cat_seconds(middle + "/rom", bytes));
    }
    const double a = static_cast<double>(bytes) / median(ours) / 1e6;
    const double b = static_cast<double>(bytes) / median(theirs) / 1e6;
    std::printf(
        "ROM over a pseudo-terminal                   %9.1f MB/s, cat %9.1f MB/s, ratio %.2f (at least "
        "0.5)\n",
        a, b, a / b);
  }
  std::array<long, 2> peak{};
  for (const int i : {0, 1}) {
    const std::string large = cartridge(folder / std::to_string(i), std::size_t{i == 0 ? 1U : 64U} << 20);
    const Reader reader(large);
    peak.at(static_cast<std::size_t>(i)) = run({BAYSWAP_BINARY, "cart", "rom", "--port", reader.path, "--out",
                                                folder / ("out" + std::to_string(i))})
                                               .peak_kib;
  }
  std::printf(
      "memory, ROM of 64 MiB                        %9ld KiB, of 1 MiB %ld KiB, ratio %.2f (at most 1.5)\n",
      peak[1], peak[0], static_cast<double>(peak[1]) / static_cast<double>(peak[0]));
  std::filesystem::remove_all(folder);
}
