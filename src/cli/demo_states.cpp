// Save states in four forms: pictures at Suvi's computer, chunked ones at the quay, a compressed one and one
// of no known kind in the locker.
#include <bayswap/picture.hpp>
#include <bayswap/state.hpp>

#include "base/endian.hpp"
#include "cli/demo_parts.hpp"
#include "state/sections.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t screen_width = 160;
constexpr std::size_t screen_height = 144;
constexpr std::size_t body_bytes = 71680;

// The harbour on a handheld's screen: four shades, a boat further out the more was played.
Picture harbour(std::size_t played) {
  constexpr std::array<std::uint32_t, 4> shades{0xe6f0d2ff, 0xa3bd8cff, 0x53735aff, 0x1c2f33ff};
  Picture picture{screen_width, screen_height, {}};
  picture.pixels.assign(screen_width * screen_height, shades[0]);
  const auto set = [&](std::size_t x, std::size_t y, std::size_t shade) {
    if (x < screen_width && y < screen_height) picture.pixels[y * screen_width + x] = shades.at(shade);
  };
  for (std::size_t y = 60; y < screen_height; ++y)
    for (std::size_t x = 0; x < screen_width; ++x) set(x, y, (x + y * 3) % 16 < 2 + y / 24 ? 0 : 1);
  for (std::size_t y = 96; y < screen_height; ++y)  // the quay
    for (std::size_t x = 0; x < 48; ++x) set(x, y, y == 96 || x % 12 == 0 ? 3 : 2);
  const std::size_t sun = 20 + 12 * played;
  for (std::size_t y = 0; y < 18; ++y)
    for (std::size_t x = 0; x < 18; ++x)
      if ((x - 9) * (x - 9) + (y - 9) * (y - 9) < 81) set(120 + x, sun % 40 + y, 1);
  const std::size_t boat = 54 + 18 * played;
  for (std::size_t y = 0; y < 10; ++y)
    for (std::size_t x = y; x + y < 34; ++x) set(boat + x, 78 + y, 3);
  for (std::size_t y = 0; y < 26; ++y)
    for (std::size_t x = 0; x < y / 2 + 1; ++x) set(boat + 17 + x, 50 + y, x == 0 ? 3 : 2);
  for (std::size_t gull = 0; gull <= played; ++gull)
    for (std::size_t i = 0; i < 5; ++i) {
      set(16 + 30 * gull + i, 20 + gull * 5 % 14 + i / 2, 3);
      set(16 + 30 * gull + 8 - i, 20 + gull * 5 % 14 + i / 2, 3);
    }
  return picture;
}

// A handheld's memory: the cartridge's title, noise where a game keeps what it counts, nothing elsewhere.
Blob handheld_body(std::string_view title, const Blob& chip, std::uint64_t seed) {
  Buffer body(body_bytes);
  const std::span<Byte> out = body.bytes();
  std::ranges::fill(out, Byte{0});
  put_le(out, 0, 4, 0x00400003);
  put_text(out, 16, title);
  Dice dice(seed);
  for (std::size_t i = 4096; i < 12288; ++i) out[i] = static_cast<Byte>(dice.next());
  // What the game took into its work memory when it began.
  std::ranges::copy(chip.view().first(1024), out.begin() + 40960);
  return std::move(body).freeze();
}

Blob handheld_state(const StateMap& map, const Blob& chip, const Blob& clock, std::optional<Picture> picture,
                    std::uint64_t seed) {
  StateSections sections;
  sections.body = handheld_body("GULL LEDGER", chip, seed);
  std::vector<Byte> memory(chip.view().begin(), chip.view().end());
  if (map.items == StateMap::Items::table) memory.resize(131072, 0xff);
  memory.insert(memory.end(), clock.view().begin(), clock.view().end());
  sections.items.push_back({2, Blob::copy_of(memory)});
  sections.items.push_back({4, Blob::filled(16, 0)});
  if (picture) sections.picture = *to_png(*picture);
  return *new_state(map, sections);
}

Blob compressed_state(const StateMap& map, const Blob& chip) {
  Buffer snapshot(map.layer_bytes.front());
  const std::span<Byte> out = snapshot.bytes();
  std::ranges::fill(out, Byte{0});
  for (const StateMark& mark : map.marks)
    std::ranges::copy(mark.bytes, out.begin() + static_cast<std::ptrdiff_t>(mark.at));
  Dice dice(41);
  for (std::size_t i = 4096; i < 65536; ++i) out[i] = static_cast<Byte>(dice.next() % 64);
  std::ranges::copy(chip.view(), out.begin() + static_cast<std::ptrdiff_t>(map.batteries.front().at));
  return wrap(Compression::gzip, std::move(snapshot).freeze());
}

// A program of nobody's: named pieces, compressed as a whole.
Blob snapshot_of_no_known_kind(const Blob& chip) {
  std::vector<Byte> out;
  const auto piece = [&](std::string_view name, ByteView bytes) {
    std::vector<Byte> head(12);
    put_text(head, 0, name);
    put_le(head, 8, 4, bytes.size());
    out.insert(out.end(), head.begin(), head.end());
    out.insert(out.end(), bytes.begin(), bytes.end());
  };
  Buffer memory(2048);
  Dice dice(42);
  for (Byte& b : memory.bytes()) b = static_cast<Byte>(dice.next() % 9 == 0 ? dice.next() : 0);
  piece("CPU", Blob::filled(32, 7).view());
  piece("RAM", std::move(memory).freeze().view());
  piece("PPU", Blob::filled(4096, 3).view());
  piece("SRAM", chip.view());
  piece("END", {});
  return wrap(Compression::zlib, Blob::copy_of(out));
}

}  // namespace

void add_states(const Catalog& catalog, std::vector<DemoFile>& files) {
  const StateMaps maps;
  const StateMap& pictures = **maps.find("gb.picture-a");
  const StateMap& chunked = **maps.find("gb.chunked-a");
  const Blob clock = gull_ledger_clock();
  const auto book = [](std::uint64_t seed) { return ledger(8192, "GULL", "SUVI", seed); };
  const Save saved{Platform::gb, {{{PartKind::sram, 0}, book(52), true}, {{PartKind::rtc, 0}, clock, true}}};
  const std::string game = "Gull Ledger (World)";
  files.push_back({"home-pc/roms/" + game + ".gb", gull_ledger_rom(), spring - 90 * day});
  files.push_back(
      {"home-pc/saves/" + game + ".sav", *pack(**catalog.find("gb.rtc48"), saved), spring - 5 * day});
  const auto snapshot = [&](const std::string& name, std::uint64_t seed, std::size_t played,
                            std::int64_t when) {
    files.push_back({"home-pc/states/" + game + name,
                     handheld_state(pictures, book(seed), clock, harbour(played), seed), when});
  };
  snapshot(", slot 1.png", 51, 1, spring - 12 * day);
  snapshot(", slot 2.png", 52, 2, spring - 5 * day + 900);
  snapshot(", slot 4.png", 53, 4, spring - 2 * day);
  // Written by itself weeks ago, and copied about by a service ever since.
  snapshot(", last.png", 50, 0, spring - 40 * day);
  const Blob quay = ledger(8192, "GULL", "MAREK", 54);
  files.push_back(
      {"quay-tv/states/" + game + ".0", handheld_state(chunked, quay, {}, {}, 54), spring - 6 * day});
  files.push_back(
      {"quay-tv/states/" + game + ".3", handheld_state(chunked, quay, {}, {}, 55), spring - 4 * day});
  files.push_back({"locker/Tin Orchard.state",
                   compressed_state(**maps.find("snes.gzip-a"), ledger(8192, "ORCHARD", "IDA", 25)),
                   spring - 29 * day});
  files.push_back({"locker/Cinder Quay.snapshot",
                   snapshot_of_no_known_kind(ledger(8192, "CINDER", "SUVI", 24)), spring - 31 * day});
}

}  // namespace bayswap::cli
