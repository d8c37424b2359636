// Wall time and memory of whole processes: looking through a folder of 10,000 files of mixed platforms
// against sha256sum of the same files, and `infer` of a pair of 128 KiB against cmp.
#include <bayswap/layout.hpp>

#include <filesystem>
#include <fstream>
#include <functional>
#include <random>

#include "processes.hpp"

namespace {

using namespace bayswap::bench;
using bayswap::Blob;
using bayswap::Byte;

// In turn, and the medians.
void compare(
    const char* what, const Words& ours, const Words& yardstick, int rounds, double bound,
    const std::function<void()>& before_each = [] {}) {
  std::vector<double> our_times;
  std::vector<double> their_times;
  for (int i = 0; i < rounds; ++i) {
    before_each();
    our_times.push_back(run(ours).seconds);
    their_times.push_back(run(yardstick).seconds);
  }
  const double a = median(our_times) * 1000;
  const double b = median(their_times) * 1000;
  std::printf("%-40s %9.2f ms, yardstick %9.2f ms, ratio %.2f (at most %.1f)\n", what, a, b, a / b, bound);
}

void save(const std::filesystem::path& path, const Blob& bytes) {
  std::ofstream(path, std::ios::binary)
      .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
}

Blob content(std::mt19937& dice, std::size_t size) {
  std::vector<Byte> bytes(size);
  const auto style = dice() % 4;
  for (std::size_t i = 0; i < size; ++i) {
    if (style == 0) bytes[i] = static_cast<Byte>(dice());                               // noise
    if (style == 1) bytes[i] = i < size / 2 ? static_cast<Byte>(dice()) : Byte{0};      // half full
    if (style == 2) bytes[i] = static_cast<Byte>(i * 7 + (i >> 8) * 13);                // tables
    if (style == 3) bytes[i] = i % 9 == 0 ? static_cast<Byte>(dice() % 100) : Byte{0};  // small numbers
  }
  return Blob::copy_of(bytes);
}

void fill(const std::filesystem::path& folder, std::size_t count) {
  constexpr std::size_t sizes[] = {512,    2048,  8192,   16384, 32768, 32816, 65536,
                                   131072, 65552, 296960, 8192,  32768, 8192,  1000};
  constexpr const char* extensions[] = {".sav", ".srm", ".sra", ".eep", ".bin"};
  std::mt19937 dice(2031);
  for (std::size_t i = 0; i < count; ++i) {
    const auto below = folder / ("shelf " + std::to_string(i / 500));
    std::filesystem::create_directories(below);
    save(below / ("save " + std::to_string(i) + extensions[dice() % 5]), content(dice, sizes[dice() % 14]));
  }
}

void scan(const std::filesystem::path& folder) {
  const Words ours{BAYSWAP_BINARY, "inspect", "--json", "--quiet", folder.string()};
  const Words yardstick{"sh", "-c", "find \"$1\" -type f -print0 | xargs -0 sha256sum", "sh",
                        folder.string()};
  compare("inspect --json of 10,000 files", ours, yardstick, 5, 1.5);
  const long peak = run(ours).peak_kib;
  std::filesystem::remove_all(folder);
  fill(folder, 1000);
  std::printf("%-40s %9.1f MB for 10,000 files, %.1f MB for 1,000 (under 64, and flat)\n", "  peak memory",
              static_cast<double>(peak) / 1024, static_cast<double>(run(ours).peak_kib) / 1024);
}

void learn(const std::filesystem::path& folder) {
  std::mt19937 dice(1);
  std::vector<Byte> chip(131072);
  for (Byte& b : chip) b = static_cast<Byte>(dice());
  const Blob a = Blob::copy_of(chip);
  save(folder / "a", a);
  save(folder / "copy", a);
  std::vector<Byte> boxed(16, Byte{'h'});
  for (std::size_t i = 0; i < chip.size(); ++i) boxed.push_back(chip[i ^ 3]);
  boxed.resize(boxed.size() + 100, 0xff);
  save(folder / "swapped", Blob::copy_of(boxed));
  std::vector<Byte> spread(2 * chip.size());
  for (std::size_t i = 0; i < chip.size(); ++i) spread[2 * i + 1] = chip[i];
  save(folder / "spread", Blob::copy_of(spread));
  save(folder / "zlib", bayswap::wrap(bayswap::Compression::zlib, a));
  const std::string out = folder / "out.toml";
  for (const char* form : {"swapped", "spread", "zlib"})
    compare((std::string("infer, 128 KiB, ") + form).c_str(),
            {BAYSWAP_BINARY, "--home", folder.string(), "infer", folder / "a", folder / form, "--id",
             "gba.bench", "--from", "gba.flash", "--out", out},
            {"cmp", folder / "a", folder / "copy"}, 31, 20, [&] { std::filesystem::remove(out); });
}

}  // namespace

int main() {
  const std::filesystem::path folder = std::filesystem::temp_directory_path() / "bayswap-scan-bench";
  std::filesystem::remove_all(folder);
  std::filesystem::create_directories(folder / "many");
  learn(folder);
  fill(folder / "many", 10000);
  scan(folder / "many");
  std::filesystem::remove_all(folder);
}
