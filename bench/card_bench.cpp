// ps2 cards of 8 MiB: making and checking ECC against memcpy, and whole processes against cat and cp.
#include <bayswap/card.hpp>
#include <bayswap/fs.hpp>

#include <cstring>
#include <filesystem>
#include <random>

#include "base/ecc.hpp"
#include "processes.hpp"

namespace {

using namespace bayswap;
using namespace bayswap::bench;

constexpr std::size_t card_bytes = std::size_t{8} << 20;
constexpr std::size_t raw_page = ecc_page_bytes + ecc_spare_bytes;

template <class Work>
double seconds_of(Work work) {
  constexpr int rounds = 21;
  std::vector<double> times;
  for (int i = 0; i < rounds; ++i) {
    const auto start = std::chrono::steady_clock::now();
    work();
    times.push_back(std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
  }
  return median(times);
}

void measure_ecc() {
  std::vector<Byte> data(card_bytes);
  std::vector<Byte> copy(card_bytes);
  std::vector<Byte> raw(card_bytes / ecc_page_bytes * raw_page);
  std::mt19937 noise(1);
  for (Byte& b : data) b = static_cast<Byte>(noise());
  const double yardstick = seconds_of([&] { std::memcpy(copy.data(), data.data(), card_bytes); });
  const double making = seconds_of([&] {
    for (std::size_t i = 0; i < card_bytes / ecc_page_bytes; ++i) {
      const std::span<Byte> page = std::span(raw).subspan(i * raw_page, raw_page);
      std::memcpy(page.data(), &data[i * ecc_page_bytes], ecc_page_bytes);
      put_spare(page.subspan(ecc_page_bytes), page.first(ecc_page_bytes));
    }
  });
  std::size_t wrong = 0;
  const double checking = seconds_of([&] {
    for (std::size_t i = 0; i < card_bytes / ecc_page_bytes; ++i) {
      const std::span<Byte> page = std::span(raw).subspan(i * raw_page, raw_page);
      for (const EccState state : repair_page(page.first(ecc_page_bytes), page.subspan(ecc_page_bytes)))
        wrong += state == EccState::sound ? 0 : 1;
    }
  });
  if (wrong > 0 || copy != data) std::exit(1);
  std::printf("%-40s %6.2f of memcpy (at least 0.1)\n", "ECC of 8 MiB, made and written", yardstick / making);
  std::printf("%-40s %6.2f of memcpy (at least 0.1)\n", "ECC of 8 MiB, checked", yardstick / checking);
}

// Medians of CPU time, in turn.
std::pair<double, double> in_turn(const Words& ours, const Words& yardstick, const std::string& out) {
  constexpr int rounds = 41;
  std::vector<double> our_times;
  std::vector<double> their_times;
  for (int i = 0; i < rounds; ++i) {
    std::filesystem::remove(out);
    our_times.push_back(run(ours).cpu_seconds * 1000);
    std::filesystem::remove(out);
    their_times.push_back(run(yardstick).cpu_seconds * 1000);
  }
  return {median(our_times), median(their_times)};
}

}  // namespace

int main() {
  measure_ecc();
  const std::filesystem::path folder = std::filesystem::temp_directory_path() / "bayswap-card-bench";
  std::filesystem::remove_all(folder);
  std::filesystem::create_directories(folder);
  LocalStore disk;
  for (const char* form : {"ecc", "plain"}) {
    const auto card = make_card(CardKind::ps2, {0, 0, form, 0, false});
    std::mt19937 noise(2);
    for (int i = 1; i <= 8; ++i) {
      std::vector<Byte> bytes(700000);
      for (Byte& b : bytes) b = static_cast<Byte>(noise());
      const std::string name = "BESLES-9900" + std::to_string(i);
      if (!(*card)->put(*folder_save(name, {{name, Blob::copy_of(bytes), 0}}))) return 1;
    }
    if (!disk.create((folder / form).string(), (*card)->image().view())) return 1;
  }
  const std::string ecc = folder / "ecc";
  const std::string plain = folder / "plain";
  const std::string out = folder / "out";
  const auto [list, cat] = in_turn({BAYSWAP_BINARY, "card", "list", ecc}, {"cat", ecc}, out);
  std::printf("%-40s %6.2f ms CPU, cat %.2f ms: at most %.2f (2 x cat + 5 ms)\n", "card list, 8 MiB with ECC",
              list, cat, 2 * cat + 5);
  const auto convert = [&](const char* what, const std::string& in, const char* from, const char* to) {
    const auto [ours, cp] =
        in_turn({BAYSWAP_BINARY, "convert", in, "--from", from, "--to", to, "--out", out, "--quiet"},
                {"cp", in, out}, out);
    std::printf("%-40s %6.2f ms CPU, cp %.2f ms, ratio %.2f (at most 2)\n", what, ours, cp, ours / cp);
  };
  convert("convert plain to ECC", plain, "ps2.plain", "ps2.ecc");
  convert("convert ECC to plain", ecc, "ps2.ecc", "ps2.plain");
  std::filesystem::remove_all(folder);
}
