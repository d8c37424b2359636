// State maps from arbitrary text: refused with a message, or read, written and read again as the same.
#include <bayswap/state.hpp>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  const auto map = parse_state_map({reinterpret_cast<const char*>(data), size}, "input");
  if (!map) {
    fuzz::require(!map.error().message.empty());
    return 0;
  }
  const std::string text = to_toml(*map);
  const auto again = parse_state_map(text, "input");
  fuzz::require(again.has_value() && to_toml(*again) == text);
  const Blob zeros = Blob::filled(4096, 0);
  (void)is_state_of(*map, zeros);
  (void)battery_in_state(*map, zeros, {});
  return 0;
}
