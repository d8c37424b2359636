#include <bayswap/title.hpp>

#include <algorithm>
#include <array>
#include <vector>

#include "fuzz.hpp"

// The first bytes choose how long the file is and where in it the rest is, among zeros: headers lie far
// after a file's beginning, too. What is not asked for is never made.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  constexpr std::array<std::uint64_t, 9> places{0,        0x100,  0x1ff0, 0x7fb0, 0xffb0,
                                                0x407fb0, 0x8000, 0x9310, 0};
  constexpr std::array<std::uint64_t, 4> sizes{65536, 131072, 0x600000, 0x600200};
  if (size < 2) return 0;
  std::uint64_t whole = sizes[data[1] % sizes.size()];
  const std::size_t which = data[0] % (places.size() + 1);
  const std::uint64_t given = size - 2;
  std::uint64_t place =
      which < places.size() ? places.at(which) : whole - std::min<std::uint64_t>(whole, given);
  if (data[1] % 8 == 7) place = whole - std::min<std::uint64_t>(whole, 0x220);
  if (data[1] % 16 < 4) whole = place + given;
  const RomSource rom{
      whole, [&](std::uint64_t at, std::size_t count) -> Result<Blob> {
        Buffer bytes(static_cast<std::size_t>(std::min<std::uint64_t>(count, whole - std::min(whole, at))));
        std::ranges::fill(bytes.bytes(), Byte{0});
        for (std::size_t i = 0; i < bytes.bytes().size(); ++i)
          if (at + i >= place && at + i < place + given) bytes.bytes()[i] = data[2 + at + i - place];
        return std::move(bytes).freeze();
      }};
  const auto facts = identify_rom(rom);
  if (!facts) {
    fuzz::require(!facts.error().message.empty());
    return 0;
  }
  fuzz::require(facts->confidence > 0 && facts->confidence <= 1 && !facts->evidence.empty());
  for (const char c : facts->game.title + facts->game.code)
    fuzz::require(static_cast<unsigned char>(c) >= 0x20);
  if (given < 4096 && whole < 8192) {
    RomFacts tagged = *facts;
    fuzz::require(find_chip_tags(rom, tagged).has_value());
    fuzz::require(digest_rom(rom, facts->header_size_bytes).has_value());
  }
  return 0;
}
