// What the demo world is made with.
#pragma once

#include <bayswap/layout.hpp>

#include <algorithm>

#include "cli/demo_world.hpp"

namespace bayswap::cli {

inline constexpr std::int64_t spring = 1935655200;  // 2031-05-04 10:00 UTC
inline constexpr std::int64_t day = 86400;

/// A small generator with a fixed sequence on every machine.
class Dice {
 public:
  explicit Dice(std::uint64_t seed) : state_(seed) {}
  std::uint32_t next() {
    state_ = state_ * 6364136223846793005U + 1442695040888963407U;
    return static_cast<std::uint32_t>(state_ >> 33);
  }

 private:
  std::uint64_t state_;
};

inline void put_text(std::span<Byte> out, std::size_t at, std::string_view text) {
  std::ranges::copy(text, out.begin() + static_cast<std::ptrdiff_t>(at));
}

inline Blob text_blob(std::string_view text) {
  return Blob::copy_of({reinterpret_cast<const Byte*>(text.data()), text.size()});
}

[[nodiscard]] Blob gull_ledger_rom();
[[nodiscard]] Blob gull_ledger_clock();
/// A battery memory with a page a member: a name, counters, and a log.
[[nodiscard]] Blob ledger(std::size_t size, std::string_view mark, std::string_view member,
                          std::uint64_t seed);

/// Moth Courier's memory after `saved` saves: two copies, the newer one scrambled block by block.
[[nodiscard]] Blob moth_courier_sram(std::string_view courier, std::uint32_t saved, std::uint64_t seed);
/// Brine and Bellows: the file of profiles, and a world.
[[nodiscard]] Blob brine_harbour(std::uint32_t played, std::uint64_t seed);
[[nodiscard]] Blob brine_world(std::string_view title, std::uint32_t of_voyage, std::uint64_t seed);
/// The sheets of these, and saves of a game that has none.
void add_games(std::vector<DemoFile>& files);

/// The cartridges of the other platforms: Gull Ledger with its clock, Moth Courier, and what lies in the
/// locker.
void add_cartridges(const Catalog& catalog, std::vector<DemoFile>& files);
/// What lies on the bench for the reader: a folder a cartridge, as bayswap-simport takes them. One has dirty
/// contacts, one a battery that is nearly empty.
void add_bench_cartridges(const Blob& skiff_rom, const Blob& skiff_sram, std::vector<DemoFile>& files);
/// The clubroom's disc consoles: memory cards of several kinds, and a folder of saves.
void add_cards(std::vector<DemoFile>& files);
/// Save states of some of them.
void add_states(const Catalog& catalog, std::vector<DemoFile>& files);
/// And the newer machines: trees of ids, packages, their bays and titles.
void add_trees(std::vector<DemoFile>& files);

}  // namespace bayswap::cli
