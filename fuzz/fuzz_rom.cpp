#include <bayswap/title.hpp>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const auto facts = bayswap::identify_rom({data, size});
  if (facts) {
    bayswap::fuzz::require(facts->confidence > 0 && facts->confidence <= 1 && !facts->evidence.empty());
    for (const char c : facts->game.title + facts->game.code)
      bayswap::fuzz::require(static_cast<unsigned char>(c) >= 0x20);
  } else {
    bayswap::fuzz::require(!facts.error().message.empty());
  }
  return 0;
}
