// Taking n64.combined apart and putting it together, against memcpy of the same bytes.
// The counter `share_of_memcpy` is memcpy's time divided by ours, both measured in this run.
#include <bayswap/layout.hpp>

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <cstring>
#include <functional>
#include <random>
#include <vector>

namespace {

using bayswap::Blob;

Blob noise(std::size_t size) {
  std::mt19937 generator(1);
  std::vector<bayswap::Byte> bytes(size);
  for (bayswap::Byte& b : bytes) b = static_cast<bayswap::Byte>(generator());
  return Blob::copy_of(bytes);
}

double seconds(const std::function<void()>& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void unpack_and_pack(benchmark::State& state, const char* id) {
  const bayswap::Catalog catalog;
  const bayswap::Layout& layout = **catalog.find(id);
  const Blob file = noise(layout.file_sizes().back());
  std::vector<bayswap::Byte> copy(file.size());
  double copying = 0;
  double ours = 0;
  for (auto _ : state) {
    // In turn, so that both see the same machine.
    copying += seconds([&] {
      std::memcpy(copy.data(), file.data(), file.size());
      benchmark::DoNotOptimize(copy.data());
      benchmark::ClobberMemory();
    });
    ours += seconds([&] {
      const auto save = bayswap::unpack(layout, file);
      const auto packed = bayswap::pack(layout, *save);
      benchmark::DoNotOptimize(packed->data());
      benchmark::ClobberMemory();
    });
  }
  state.SetBytesProcessed(static_cast<std::int64_t>(file.size()) *
                          static_cast<std::int64_t>(state.iterations()));
  state.counters["share_of_memcpy"] = copying / ours;
}

}  // namespace

BENCHMARK_CAPTURE(unpack_and_pack, combined, "n64.combined");
BENCHMARK_CAPTURE(unpack_and_pack, combined_be, "n64.combined-be");
BENCHMARK_CAPTURE(unpack_and_pack, sram_le, "n64.sram-le");
