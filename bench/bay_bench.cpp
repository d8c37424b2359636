// Scanning a bay of 20,000 saves against find, and one carry of 1 MiB against cp and sync: whole processes.
#include <bayswap/fs.hpp>

#include <filesystem>
#include <fstream>
#include <functional>
#include <random>

#include "processes.hpp"

namespace {

using namespace bayswap::bench;
namespace fs = std::filesystem;

constexpr int saves = 20000;

void write_file(const fs::path& path, const std::string& bytes) {
  fs::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary) << bytes;
}

std::string noise(std::mt19937& dice, std::size_t size) {
  std::string bytes(size, '\0');
  for (char& c : bytes) c = static_cast<char>(dice());
  return bytes;
}

double wall_of(
    const Words& words, int rounds, const std::function<void()>& before = [] {}) {
  std::vector<double> times;
  for (int i = 0; i < rounds; ++i) {
    before();
    times.push_back(run(words).seconds * 1000);
  }
  return median(times);
}

void measure_scans(const fs::path& folder, const std::string& form) {
  std::mt19937 dice(5);
  const fs::path root = folder / form;
  char name[64];
  for (int i = 0; i < saves; ++i) {
    if (form == "tree-3ds") {
      std::snprintf(name, sizeof name, "title/00040000/%08x/data/00000001/save.bin", 0x0f000000 + i * 256);
    } else {
      std::snprintf(name, sizeof name, "saves/Game %05d.srm", i);
    }
    write_file(root / name, noise(dice, 8192));
  }
  const std::string home = folder / "home";
  const std::string bay = "--home";
  fs::create_directories(root / "roms");
  run({BAYSWAP_BINARY, bay, home, "bay", "add", form, "--like", form, "--root", root});
  const Words scan{BAYSWAP_BINARY, bay, home, "list", form};
  const auto forget = [&] { fs::remove_all(folder / "home/scans"); };
  const double cold = wall_of(scan, 5, forget);
  const double cat = wall_of({"find", root, "-type", "f", "-exec", "cat", "{}", "+"}, 5);
  std::printf("%-34s %7.1f ms, find and cat %6.1f ms, ratio %.2f (at most 2)\n",
              ("first scan, " + form).c_str(), cold, cat, cold / cat);
  const double warm = wall_of(scan, 9);
  const double list = wall_of({"find", root, "-type", "f", "-printf", "%s %T@\n"}, 9);
  std::printf("%-34s %7.1f ms, find        %6.1f ms, ratio %.2f (at most 1.5)\n",
              ("second scan, " + form).c_str(), warm, list, warm / list);
}

void measure_carry(const fs::path& folder) {
  std::mt19937 dice(6);
  const fs::path from = folder / "from";
  const fs::path to = folder / "to";
  const std::string path = "title/00040000/0ff99200/data/00000001/save.bin";
  write_file(to / path, noise(dice, 1 << 20));
  const std::string home = folder / "home2";
  for (const auto& [name, root] : {std::pair{"from", from}, {"to", to}})
    run({BAYSWAP_BINARY, "--home", home, "bay", "add", name, "--like", "tree-3ds", "--root", root});
  const Words carry{BAYSWAP_BINARY, "--home", home, "carry", "0ff99200", "--from",
                    "from",         "--to",   "to", "--yes", "--quiet"};
  const double ours = wall_of(carry, 15, [&] {
    write_file(from / path, noise(dice, 1 << 20));
    // Both at rest, and the source the newer one.
    const auto then = fs::file_time_type::clock::now() - std::chrono::minutes(10);
    fs::last_write_time(to / path, then);
    fs::last_write_time(from / path, then + std::chrono::minutes(5));
  });
  const std::string a = folder / "a";
  const std::string b = folder / "b";
  const double theirs = wall_of({"sh", "-c",
                                 "cp " + (from / path).string() + " " + a + " && sync -f " + a + " && cp " +
                                     (to / path).string() + " " + b + " && sync -f " + b},
                                15, [&] {
                                  fs::remove(a);
                                  fs::remove(b);
                                });
  std::printf("%-34s %7.1f ms, cp and sync -f, twice %6.1f ms, ratio %.2f (at most 3)\n", "carry of 1 MiB",
              ours, theirs, ours / theirs);
}

}  // namespace

int main() {
  const fs::path folder = fs::temp_directory_path() / "bayswap-bay-bench";
  fs::remove_all(folder);
  measure_carry(folder);
  for (const char* form : {"tree-3ds", "stem-folder"}) measure_scans(folder, form);
  fs::remove_all(folder);
}
