// Save states, whole processes: the battery save found by search in a snapshot of 12 MiB against sha256sum of
// it, by a map against zcat, and 2,000 states listed against cat, and find when nothing has changed.
#include <bayswap/state.hpp>

#include <filesystem>
#include <fstream>
#include <functional>
#include <random>

#include "processes.hpp"

namespace {

using namespace bayswap::bench;
using namespace bayswap;

void save(const std::filesystem::path& path, const Blob& bytes) {
  std::filesystem::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary)
      .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
}

// In turn, and the medians of CPU or wall time.
void compare(
    const char* what, const Words& ours, const Words& yardstick, double bound, double Cost::*time,
    const std::function<void()>& before_each = [] {}) {
  constexpr int rounds = 9;
  std::vector<double> our_times;
  std::vector<double> their_times;
  for (int i = 0; i < rounds; ++i) {
    before_each();
    our_times.push_back(run(ours).*time);
    their_times.push_back(run(yardstick).*time);
  }
  const double a = median(our_times) * 1000;
  const double b = median(their_times) * 1000;
  std::printf("%-44s %9.2f ms, yardstick %9.2f ms, ratio %.2f (at most %.1f)\n", what, a, b, a / b, bound);
}

std::vector<Byte> noise(std::mt19937& dice, std::size_t size, unsigned of) {
  std::vector<Byte> bytes(size);
  for (Byte& b : bytes) b = dice() % of == 0 ? static_cast<Byte>(dice()) : Byte{0};
  return bytes;
}

// A console's memory of 12 MiB as it is in use, a page of 4 KiB each: nothing, a program, pictures, tables of
// small numbers; and near its end the battery memory in a piece with a name.
Blob large_snapshot(std::mt19937& dice) {
  constexpr std::size_t page = 4096;
  std::vector<Byte> out;
  while (out.size() < (std::size_t{12} << 20) - 40000) {
    const auto kind = dice() % 4;
    const std::vector<Byte> bytes = kind == 0   ? std::vector<Byte>(page)
                                    : kind == 1 ? noise(dice, page, 1)
                                    : kind == 2 ? noise(dice, page, 3)
                                                : noise(dice, page, 24);
    out.insert(out.end(), bytes.begin(), bytes.end());
  }
  const std::vector<Byte> chip = noise(dice, 32768, 2);
  for (const char c : std::string("SRAM")) out.push_back(static_cast<Byte>(c));
  out.insert(out.end(), {0x00, 0x80, 0x00, 0x00});
  out.insert(out.end(), chip.begin(), chip.end());
  out.resize(std::size_t{12} << 20);
  return Blob::copy_of(out);
}

Blob mapped_state(const StateMap& map, std::mt19937& dice, bool compressed = true) {
  std::vector<Byte> layer = noise(dice, map.layer_bytes.front(), 3);
  for (const StateMark& mark : map.marks)
    std::copy(mark.bytes.begin(), mark.bytes.end(), layer.begin() + static_cast<std::ptrdiff_t>(mark.at));
  return compressed ? wrap(Compression::gzip, Blob::copy_of(layer)) : Blob::copy_of(layer);
}

}  // namespace

int main() {
  std::mt19937 dice(2031);
  const std::filesystem::path folder = std::filesystem::temp_directory_path() / "bayswap-state-bench";
  std::filesystem::remove_all(folder);
  const std::string home = folder / "home";
  setenv("BAYSWAP_HOME", home.c_str(), 1);
  save(folder / "large", large_snapshot(dice));
  const std::string out = folder / "out";
  const auto clean = [&] { std::filesystem::remove(out); };
  compare("search in a snapshot of 12 MiB, CPU",
          {BAYSWAP_BINARY, "state", "export", folder / "large", "--platform", "snes", "--chip", "sram=32768",
           "--out", out},
          {"sha256sum", folder / "large"}, 10, &Cost::cpu_seconds, clean);
  const StateMaps maps;
  const StateMap& map = **maps.find("snes.gzip-a");
  save(folder / "mapped.gz", mapped_state(map, dice));
  compare("by a map, 480 KiB compressed, CPU",
          {BAYSWAP_BINARY, "state", "export", folder / "mapped.gz", "--out", out},
          {"zcat", folder / "mapped.gz"}, 2, &Cost::cpu_seconds, clean);
  constexpr int games = 100;
  constexpr int slots = 20;
  const auto fill = [&](const std::filesystem::path& place, const StateMap& of, bool compressed, int count) {
    for (int game = 0; game < count; ++game) {
      const std::string name = "Game " + std::to_string(game);
      save(place / (name + ".srm"), Blob::copy_of(noise(dice, 8192, 2)));
      for (int slot = 0; slot < slots; ++slot)
        save(place / (name + ".ss" + std::to_string(slot)), mapped_state(of, dice, compressed));
    }
  };
  fill(folder / "place", **maps.find("gba.plain-a"), false, games);
  fill(folder / "packed", map, true, games / 10);
  const auto forget = [&] { std::filesystem::remove_all(folder / "home"); };
  const Words list{BAYSWAP_BINARY, "state", "list", folder / "place"};
  const Words cat{"sh", "-c", "cat \"$1\"/*", "sh", folder / "place"};
  const Words find{"find", folder / "place", "-type", "f", "-printf", "%p %s %T@\n"};
  compare("list of 2,000 states, new", list, cat, 3, &Cost::seconds, forget);
  run(list);
  compare("list of 2,000 states, nothing changed", list, find, 1.5, &Cost::seconds);
  // Of these the battery save is after nine tenths of what is compressed.
  compare("list of 200 compressed states, new", {BAYSWAP_BINARY, "state", "list", folder / "packed"},
          {"sh", "-c", "zcat \"$1\"/*.ss*", "sh", folder / "packed"}, 1.5, &Cost::seconds, forget);
  std::filesystem::remove_all(folder);
  return 0;
}
