#include <bayswap/title.hpp>

#include "fuzz.hpp"

#include <algorithm>
#include <array>
#include <vector>

// The first byte chooses where the rest stands in a file of zeros: headers lie far behind a file's beginning,
// too.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  constexpr std::array<std::size_t, 6> places{0, 0, 0x1ff0, 0x7fb0, 0xffb0, 65536 - 16};
  if (size == 0) return 0;
  const std::size_t place = places[data[0] % places.size()];
  std::vector<bayswap::Byte> rom(data[0] % 2 == 0 ? 65536 : place + size - 1);
  std::copy_n(data + 1, std::min(size - 1, rom.size() - std::min(place, rom.size())),
              rom.begin() + static_cast<std::ptrdiff_t>(std::min(place, rom.size())));
  auto facts = bayswap::identify_rom(rom);
  if (facts) {
    bayswap::find_chip_tags(bayswap::rom_source(rom), *facts);
    bayswap::fuzz::require(facts->confidence > 0 && facts->confidence <= 1 && !facts->evidence.empty());
    for (const char c : facts->game.title + facts->game.code)
      bayswap::fuzz::require(static_cast<unsigned char>(c) >= 0x20);
    bayswap::fuzz::require(
        bayswap::digest_rom(bayswap::rom_source(rom), facts->header_size_bytes).has_value());
  } else {
    bayswap::fuzz::require(!facts.error().message.empty());
  }
  return 0;
}
