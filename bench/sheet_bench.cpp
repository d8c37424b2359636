// Sheets: `sheet show` of a save of 128 KiB, and the search for checksums over whole saves, against sha256sum
// of the same files and against the plain loop over every range.
#include <bayswap/checksum_search.hpp>
#include <bayswap/fs.hpp>
#include <bayswap/sheet.hpp>

#include <cstring>
#include <ctime>
#include <filesystem>
#include <random>

#include "processes.hpp"

namespace {

using namespace bayswap;
using namespace bayswap::bench;

double cpu_now() {
  timespec now{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &now);
  return static_cast<double>(now.tv_sec) + static_cast<double>(now.tv_nsec) * 1e-9;
}

// 1,200 creatures of 100 bytes, each with a checksum and two rules.
std::string sheet_text() {
  return "sheet = 1\nid = \"gba.bench\"\n[game]\nplatform = \"gba\"\nsize = 131072\n"
         "[[field]]\nname = \"box\"\nat = 0x100\ncount = 1200\nrecord = \"creature\"\n"
         "[record.creature]\nsize = 100\n"
         "[[record.creature.field]]\nname = \"id\"\ntype = \"u32\"\n"
         "[[record.creature.field]]\nname = \"name\"\ntype = \"text\"\nsize = 12\nencoding = \"latin1\"\n"
         "[[record.creature.field]]\nname = \"level\"\ntype = \"u8\"\n"
         "[[record.creature.field]]\nname = \"share\"\ntype = \"u8\"\ncount = 6\n"
         "[[record.creature.field]]\nname = \"kind\"\nat = 40\ntype = \"u16\"\n"
         "[[record.creature.checksum]]\nid = \"sum\"\nkind = \"sum\"\nbits = 16\nat = 98\nover = [[0, 98]]\n"
         "[[record.creature.rule]]\nid = \"shares\"\nrequire = \"sum(share) <= 1530\"\ntext = \"shares\"\n"
         "[[record.creature.rule]]\nid = \"level\"\nrequire = \"level <= 255 and kind >= 0\"\ntext = "
         "\"level\"\n";
}

std::vector<Blob> versions(std::size_t size, std::size_t count, std::uint64_t seed) {
  std::mt19937_64 random(seed);
  std::vector<Byte> save(size);
  for (Byte& b : save) b = static_cast<Byte>(random());
  const std::vector<Checksum> checksums{{{.bits = 32}, {{64, size / 2}}, 16, false},
                                        {{.kind = ChecksumForm::Kind::crc, .crc = usual_crcs()[9].second},
                                         {{size / 2 + 64, size - 64}},
                                         size / 2 + 8,
                                         true}};
  std::vector<Blob> out;
  for (std::size_t v = 0; v < count; ++v) {
    for (int i = 0; i < 60; ++i) {
      const std::size_t at = 128 + random() % (size - 256);
      for (int b = 0; b < 8; ++b) save[at + static_cast<std::size_t>(b)] = static_cast<Byte>(random());
    }
    if (!recompute(checksums, save)) std::exit(1);
    out.push_back(Blob::copy_of(save));
  }
  return out;
}

void measure_search(std::size_t size, std::size_t count, double allowed) {
  const auto blobs = versions(size, count, 5);
  const double start = cpu_now();
  const auto search = find_checksums(blobs);
  const double seconds = cpu_now() - start;
  if (!search || search->checksums.empty()) std::exit(1);
  std::printf(
      "checksum search, %zu versions of %4zu KiB       %6.2f s of CPU (at most %.0f), %.2g ranges tried%s\n",
      count, size >> 10, seconds, allowed, search->tried, search->left_out.empty() ? "" : ", some left out");
}

// What the search would be without prefixes: every range of one form, added up as it grows.
void measure_plain_loop() {
  constexpr std::size_t size = 8192;
  const auto blobs = versions(size, 2, 5);
  const ByteView save = blobs[0].view();
  const double start = cpu_now();
  std::uint64_t hits = 0;
  for (std::size_t from = 0; from < size; ++from) {
    std::uint16_t sum = 0;
    for (std::size_t to = from; to < size; ++to) {
      sum = static_cast<std::uint16_t>(sum + save[to]);
      hits += sum == 0x1234 ? 1 : 0;
    }
  }
  const double seconds = cpu_now() - start;
  constexpr double forms = 200;
  const double scale = 64.0 * 64 / (8 * 8);
  std::printf(
      "the plain loop: one form, one place, 8 KiB  %6.3f s; all forms, one place, 64 KiB would take %.0f s "
      "(%llu)\n",
      seconds, seconds * scale * forms, static_cast<unsigned long long>(hits));
}

}  // namespace

int main() {
  const std::string folder = "/tmp/bayswap-sheet-bench";
  std::filesystem::remove_all(folder);
  std::filesystem::create_directories(folder);
  std::mt19937 random(3);
  std::vector<Byte> save(131072);
  for (Byte& b : save) b = static_cast<Byte>(random());
  const std::string text = sheet_text();
  const auto sheet = Sheet::parse(text, "bench");
  if (!sheet) return 1;
  const auto encrypted = SheetSave(*sheet, {{"sram", Blob::copy_of(save)}}).recompute();
  if (!encrypted) return 1;
  LocalStore disk;
  if (!disk.replace(folder + "/big.sav", encrypted->files.front().bytes.view()) ||
      !disk.replace(folder + "/big.toml", {reinterpret_cast<const Byte*>(text.data()), text.size()}))
    return 1;
  constexpr int rounds = 21;
  std::vector<double> ours;
  std::vector<double> yardstick;
  for (int i = 0; i < rounds; ++i) {
    ours.push_back(run({BAYSWAP_BINARY, "--home", folder + "/home", "sheet", "show", folder + "/big.sav",
                        "--sheet", folder + "/big.toml"})
                       .cpu_seconds);
    yardstick.push_back(run({"sha256sum", folder + "/big.sav"}).cpu_seconds);
  }
  std::printf("sheet show of 128 KiB, 1,200 records        %6.1f ms of CPU (at most 20), sha256sum %.1f ms\n",
              median(ours) * 1000, median(yardstick) * 1000);
  measure_search(65536, 2, 10);
  measure_search(65536, 3, 10);
  measure_search(524288, 2, 60);
  measure_search(524288, 3, 60);
  measure_plain_loop();
}
