// States of arbitrary bytes, and made-up ones with the input laid over them: looked at by the maps, searched,
// converted. What is found is in the file: put back it changes nothing, and another save is found in its
// place.
#include <bayswap/state.hpp>

#include <algorithm>
#include <array>
#include <vector>

#include "fuzz.hpp"

namespace {
using namespace bayswap;

// Small snapshots: named pieces, a table of items, a chip between fillers.
std::vector<Blob> sound_states() {
  std::vector<Byte> chip(512);
  for (std::size_t i = 0; i < chip.size(); ++i) chip[i] = static_cast<Byte>(i * 31 + (i >> 3));
  const auto append = [](std::vector<Byte>& out, std::string_view text, std::uint32_t number,
                         const auto& bytes) {
    out.insert(out.end(), text.begin(), text.end());
    for (int i = 0; i < 4; ++i) out.push_back(static_cast<Byte>(number >> (8 * i)));
    out.insert(out.end(), bytes.begin(), bytes.end());
  };
  std::vector<Byte> named;
  append(named, "CPU ", 16, std::vector<Byte>(16, 1));
  append(named, "SRAM", 512, chip);
  append(named, "END ", 0, std::vector<Byte>());
  std::vector<Byte> table(256, 3);
  append(table, "", 2, std::vector<Byte>());
  append(table, "", 512, std::vector<Byte>{32, 1, 0, 0, 0, 0, 0, 0});
  table.resize(288);
  table.insert(table.end(), chip.begin(), chip.end());
  std::vector<Byte> between(512, 0xff);
  between.insert(between.end(), chip.begin(), chip.end());
  between.resize(2048, 0xff);
  std::vector<Blob> states{Blob::copy_of(named), Blob::copy_of(table), Blob::copy_of(between)};
  states.push_back(wrap(Compression::zlib, states[0]));
  states.push_back(wrap(Compression::gzip, states[1]));
  return states;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const std::vector<Blob> sound = sound_states();
  static const Catalog catalog;
  static const StateMaps maps;
  static const std::array<Platform, 6> platforms{Platform::gb,   Platform::gba, Platform::nes,
                                                 Platform::snes, Platform::md,  Platform::n64};
  if (size < 2 || size > 8192) return 0;
  std::vector<Byte> bytes(data + 2, data + size);
  if (data[0] % 4 != 0) {
    const ByteView own = sound[data[0] / 4U % sound.size()].view();
    bytes.assign(own.begin(), own.end());
    for (std::size_t i = 2; i + 3 <= size; i += 3)
      bytes[(data[i] * std::size_t{256} + data[i + 1]) % bytes.size()] = data[i + 2];
  }
  const Blob file = Blob::copy_of(bytes);
  BatterySearch what;
  what.platform = platforms[data[1] % platforms.size()];
  if (data[1] >= 128) what.chips = {{PartKind::sram, 512, ""}};
  what.maps = &maps;
  (void)look_at_state(maps, file, what.platform, what.chips);
  const BatteryFinds finds = find_batteries(catalog, file, what);
  fuzz::require(finds.candidates.size() < 64);
  std::size_t tried = 0;
  for (const BatteryCandidate& one : finds.candidates) {
    if (++tried > 3) break;
    const auto again = battery_in_state(one.map, file, {});
    fuzz::require(again.has_value() && again->parts.front().bytes == one.save.parts.front().bytes);
    if (const auto same = grafted_state(one.map, file, one.save)) {
      const auto inside = battery_in_state(one.map, *same, {});
      fuzz::require(inside.has_value() && inside->parts.front().bytes == one.save.parts.front().bytes);
    }
  }
  for (const StateMap* map : maps.all()) (void)is_state_of(*map, file);
  (void)rewrapped_state(file, sound.back());
  (void)picture_in_state(file);
  return 0;
}
