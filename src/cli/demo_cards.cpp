#include <bayswap/card.hpp>

#include <fmt/format.h>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "cli/demo_parts.hpp"

namespace bayswap::cli {
namespace {

std::vector<Byte> noise(std::size_t size, std::uint64_t seed) {
  Dice dice(seed);
  std::vector<Byte> bytes(size);
  for (Byte& b : bytes) b = static_cast<Byte>(dice.next());
  return bytes;
}

// ---- A picture of the harbour in sixteen colours: sky, sun, sea, a boat that rocks from frame to frame ----

struct Shade {
  unsigned red;
  unsigned green;
  unsigned blue;
};
using Palette = std::array<Shade, 16>;

// Sky from `high` to `low`, then sun, sea light and dark, hull, sail.
Palette palette_of(Shade high, Shade low, Shade sail) {
  Palette palette{};
  for (unsigned i = 0; i < 8; ++i)
    palette.at(i) = {(high.red * (7 - i) + low.red * i) / 7, (high.green * (7 - i) + low.green * i) / 7,
                     (high.blue * (7 - i) + low.blue * i) / 7};
  palette[8] = {255, 226, 130};
  palette[9] = {46, 120, 140};
  palette[10] = {24, 74, 96};
  palette[11] = {92, 58, 40};
  palette[12] = sail;
  palette[13] = {240, 240, 230};
  return palette;
}

// Which colour a pixel of a picture `side` pixels wide has.
std::size_t harbour_pixel(std::size_t x, std::size_t y, std::size_t side, std::size_t frame) {
  const auto u = static_cast<int>(x * 64 / side);
  const auto v = static_cast<int>(y * 64 / side);
  const int rock = frame % 2 == 0 ? 0 : 3;
  const int hull_top = 40 + rock;
  if (v >= hull_top && v < hull_top + 9 && u > 14 + (v - hull_top) && u < 50 - (v - hull_top)) return 11;
  if (v > 10 + rock && v < hull_top - 2 && u >= 31 && u <= 33) return 13;
  if (v > 12 + rock && v < hull_top - 3 && u > 33 && u < 33 + (v - 10 - rock) * 3 / 5) return 12;
  const int sea = 46 + ((u + 8 * static_cast<int>(frame)) / 8 % 2 == 0 ? 0 : 2);
  if (v >= sea) return (u / 6 + v / 4 + static_cast<int>(frame)) % 2 == 0 ? 9 : 10;
  const int du = u - 52;
  const int dv = v - 12;
  if (du * du + dv * dv < 50) return 8;
  return static_cast<std::size_t>(v / 6 % 8);
}
// Two pixels a byte.
void put_nibbles(std::span<Byte> out, std::size_t side, std::size_t frame, bool left_is_high) {
  for (std::size_t i = 0; i < side * side / 2; ++i) {
    const std::size_t left = harbour_pixel(2 * i % side, 2 * i / side, side, frame);
    const std::size_t right = harbour_pixel(2 * i % side + 1, 2 * i / side, side, frame);
    out[i] = static_cast<Byte>(left_is_high ? left * 16 + right : right * 16 + left);
  }
}
std::uint16_t rgb15(const Shade& shade, bool red_is_low) {
  const unsigned red = shade.red / 8;
  const unsigned blue = shade.blue / 8;
  return static_cast<std::uint16_t>(0x8000U | (red_is_low ? blue << 10U | shade.green / 8 << 5U | red
                                                          : red << 10U | shade.green / 8 << 5U | blue));
}

CardSave save_of(CardKind kind, const std::vector<Byte>& entry, const std::vector<Byte>& payload) {
  return {kind, {}, {}, Blob::copy_of(entry), Blob::copy_of(payload), {}};
}

// ---- Saltglass: its title, an icon of two pictures, and the member's progress
// ---------------------------------

CardSave saltglass(std::string_view member, std::size_t blocks, std::uint64_t seed) {
  std::vector<Byte> payload = noise(blocks * 8192, seed);
  std::fill_n(payload.begin(), 384, Byte{0});
  put_text(payload, 0, "SC");
  payload[2] = 0x12;
  payload[3] = static_cast<Byte>(blocks);
  put_text(payload, 4, std::string("Saltglass: ") + std::string(member));
  const Palette palette = palette_of({38, 70, 110}, {236, 150, 90}, {220, 70, 60});
  for (std::size_t i = 0; i < 16; ++i) put_le(payload, 96 + 2 * i, 2, rgb15(palette.at(i), true));
  for (const std::size_t frame : {0U, 1U})
    put_nibbles(std::span(payload).subspan(128 + 128 * frame), 16, frame, false);
  std::vector<Byte> entry(128);
  entry[0] = 0x51;
  put_le(entry, 4, 4, payload.size());
  put_le(entry, 8, 2, 0xffff);
  put_text(entry, 10, std::string("BESLPS-99001") + std::string(member));
  for (std::size_t i = 0; i < 127; ++i) entry[127] ^= entry[i];
  return save_of(CardKind::ps1, entry, payload);
}

// ---- Kelp Parade: a comment, a banner of 16 bits, icons of 256 colours with one palette
// -------------------------

CardSave kelp_parade(std::string_view name, std::string_view about, std::size_t blocks, std::uint64_t seed) {
  constexpr std::size_t pictures_at = 64;
  constexpr std::size_t banner_width = 96;
  constexpr std::size_t side = 32;
  constexpr std::size_t frames = 4;
  std::vector<Byte> payload = noise(blocks * 8192, seed);
  std::fill_n(payload.begin(), pictures_at, Byte{0});
  put_text(payload, 0, "Kelp Parade");
  put_text(payload, 32, about);
  const Palette palette = palette_of({20, 90, 100}, {190, 220, 170}, {240, 200, 60});
  std::size_t at = pictures_at;
  for (std::size_t tile = 0; tile < banner_width / 4 * side / 4; ++tile)
    for (std::size_t i = 0; i < 16; ++i, at += 2) {
      const std::size_t x = tile % (banner_width / 4) * 4 + i % 4;
      const std::size_t y = tile / (banner_width / 4) * 4 + i / 4;
      put_be16(payload, at, rgb15(palette.at(harbour_pixel(x % side, y, side, x / side)), false));
    }
  for (std::size_t frame = 0; frame < frames; ++frame)
    for (std::size_t i = 0; i < side * side; ++i, ++at) {
      const std::size_t tile = i / 32;  // 8 by 4 pixels
      payload[at] =
          static_cast<Byte>(harbour_pixel(tile % 4 * 8 + i % 8, tile / 4 * 4 + i % 32 / 8, side, frame));
    }
  for (std::size_t i = 0; i < 256; ++i, at += 2)
    put_be16(payload, at, i < 16 ? rgb15(palette.at(i), false) : 0);
  std::vector<Byte> entry(64);
  put_text(entry, 0, "G99P99");
  entry[6] = 0xff;
  entry[7] = 2;
  put_text(entry, 8, name);
  put_be32(entry, 40, static_cast<std::uint32_t>(spring - 946684800 - 6 * day));
  put_be32(entry, 44, pictures_at);
  put_be16(entry, 48, 0x0055);
  put_be16(entry, 50, 0x00aa);
  entry[52] = 4;
  put_be16(entry, 54, 5);
  put_be16(entry, 56, static_cast<std::uint16_t>(blocks));
  put_be16(entry, 58, 0xffff);
  return save_of(CardKind::gc, entry, payload);
}

// ---- Brass Tern: a header with a checksum, two icons
// ---------------------------------------------------------------

CardSave brass_tern(std::string_view name, std::string_view title, std::size_t blocks, std::uint64_t seed) {
  constexpr std::size_t header = 128;
  constexpr std::size_t icon = 512;
  std::vector<Byte> payload = noise(blocks * 512, seed);
  std::fill_n(payload.begin(), header, Byte{0});
  put_text(payload, 0, "BRASS TERN");
  put_text(payload, 16, title);
  put_text(payload, 48, "BRASS_TERN");
  payload[64] = 2;
  payload[66] = 12;
  put_le(payload, 72, 4, payload.size() - header - 2 * icon);
  const Palette palette = palette_of({90, 60, 120}, {250, 190, 150}, {90, 180, 200});
  for (std::size_t i = 0; i < 16; ++i) {
    const Shade& shade = palette.at(i);
    put_le(payload, 96 + 2 * i, 2, 0xf000U | shade.red / 16 << 8U | shade.green / 16 << 4U | shade.blue / 16);
  }
  for (const std::size_t frame : {0U, 1U})
    put_nibbles(std::span(payload).subspan(header + icon * frame), 32, frame, true);
  put_le(payload, 70, 2, crc16_ccitt(payload));
  std::vector<Byte> entry(32);
  entry[0] = 0x33;
  put_text(entry, 4, name);
  put_text(entry, 16, std::string_view("\x20\x31\x04\x28\x19\x05\x00\x00", 8));
  put_le(entry, 24, 2, blocks);
  return save_of(CardKind::dc, entry, payload);
}

CardSave low_tide_rally(std::string_view name, std::string_view comment, std::size_t size, Byte language) {
  std::vector<Byte> entry(34);
  entry[0] = 0x80;
  put_text(entry, 4, name);
  entry[15] = language;
  put_text(entry, 16, comment);
  put_be32(entry, 26, static_cast<std::uint32_t>((spring - 315532800) / 60 - 4000));
  put_be32(entry, 30, static_cast<std::uint32_t>(size));
  return save_of(CardKind::sat, entry, noise(size, size));
}

// ---- Ninefold Pier: a folder with a description, a model with a texture in runs, and the game's data
// -----------------

std::vector<Byte> pier_model() {
  constexpr std::size_t side = 128;
  std::vector<Byte> model(20 + 3 * 24 + 20 + 16);
  put_le(model, 0, 4, 0x10000);
  put_le(model, 4, 4, 1);
  put_le(model, 8, 4, 0xf);
  put_le(model, 16, 4, 3);
  const std::size_t animation = 20 + 3 * 24;
  put_le(model, animation, 4, 1);
  put_le(model, animation + 4, 4, 1);
  put_le(model, animation + 16, 4, 1);
  put_le(model, animation + 24, 4, 1);
  const Palette palette = palette_of({60, 110, 170}, {235, 225, 200}, {200, 90, 60});
  std::vector<Byte> runs;
  for (std::size_t i = 0; i < side * side;) {
    const std::size_t colour = harbour_pixel(i % side, i / side, side, 0);
    std::size_t count = 1;
    while (i + count < side * side && count < 200 &&
           harbour_pixel((i + count) % side, (i + count) / side, side, 0) == colour)
      ++count;
    runs.resize(runs.size() + 4);
    put_le(runs, runs.size() - 4, 2, count);
    put_le(runs, runs.size() - 2, 2, rgb15(palette.at(colour), true));
    i += count;
  }
  model.resize(model.size() + 4);
  put_le(model, model.size() - 4, 4, runs.size());
  model.insert(model.end(), runs.begin(), runs.end());
  return model;
}

void add_pier(std::vector<DemoFile>& files, const std::string& member, std::uint64_t seed) {
  const std::string name = "BESLES-99001" + member;
  const std::string folder = "clubroom/cards/ninefold-pier/" + name;
  std::vector<Byte> description(964);
  put_text(description, 0, "PS2D");
  put_le(description, 6, 2, 14);
  put_text(description, 192, "Ninefold Pier " + member);
  for (const std::size_t at : {260U, 324U, 388U}) put_text(description, at, "pier.icn");
  files.push_back({folder + "/icon.sys", Blob::copy_of(description), spring - 8 * day});
  files.push_back({folder + "/pier.icn", Blob::copy_of(pier_model()), spring - 8 * day});
  files.push_back({folder + "/" + name, Blob::copy_of(noise(21000, seed)), spring - 7 * day});
}

}  // namespace

void add_cards(std::vector<DemoFile>& files) {
  const auto keep = [&](const std::string& name, const Card& card, std::int64_t days) {
    files.push_back({"clubroom/cards/" + name, card.image(), spring - days * day});
  };
  const auto glass = make_card(CardKind::ps1);
  (void)glass->put(saltglass("IDA", 1, 31));
  (void)glass->put(saltglass("MAREK", 2, 32));
  (void)glass->put(saltglass("SUVI", 3, 33));
  (void)glass->drop("BESLPS-99001MAREK");
  keep("saltglass.card", *glass, 5);

  const std::int64_t winter = spring - 120 * day;
  if (const auto kelp = make_card(CardKind::gc, {59, 0, "", winter, false})) {
    (void)(*kelp)->put(kelp_parade("parade_ida", "Ida's float, evening 12", 3, 41));
    (void)(*kelp)->put(kelp_parade("parade_oyelaran", "Oyelaran's float, evening 31", 3, 42));
    (void)(*kelp)->put(kelp_parade("parade_band", "The brass band", 9, 43));
    keep("kelp-parade.card", **kelp, 6);
  }
  if (const auto tern = make_card(CardKind::dc, {0, 0, "", winter, false})) {
    (void)(*tern)->put(brass_tern("TERN_MAREK", "Brass Tern: Marek", 12, 51));
    (void)(*tern)->put(brass_tern("TERN_SUVI", "Brass Tern: Suvi", 8, 52));
    keep("brass-tern.card", **tern, 7);
  }
  const auto rally = make_card(CardKind::sat);
  (void)rally->put(low_tide_rally("LOWTIDE_001", "Lap times", 900, 1));
  (void)rally->put(low_tide_rally("LOWTIDE_GHO", "Ghost car", 5200, 3));
  keep("low-tide-rally.card", *rally, 9);
  add_pier(files, "IDA", 61);
  add_pier(files, "SUVI", 62);
}

}  // namespace bayswap::cli
