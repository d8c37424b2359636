#include "cli/demo_world.hpp"

#include <bayswap/layout.hpp>
#include <bayswap/title.hpp>

#include <algorithm>
#include <cstring>

#include "base/endian.hpp"
#include "cli/demo_parts.hpp"
#include "layout/byte_order.hpp"
#include "save/pak.hpp"

namespace bayswap::cli {
namespace {

Blob rom(std::string_view title, std::string_view code, ByteOrder order) {
  constexpr std::size_t size = 65536;
  Buffer native(size);
  const std::span<Byte> out = native.bytes();
  Dice dice(static_cast<Byte>(code[3]));
  for (std::size_t i = 0; i < size; ++i) out[i] = static_cast<Byte>(dice.next());
  put_be32(out, 0x00, 0x80371240);
  put_be32(out, 0x04, 0x0000000f);
  put_be32(out, 0x08, 0x80001000);
  std::ranges::fill(out.subspan(0x18, 8), Byte{0});
  std::ranges::fill(out.subspan(0x20, 20), Byte{' '});
  put_text(out, 0x20, title);
  std::ranges::fill(out.subspan(0x34, 7), Byte{0});
  put_text(out, 0x3b, code);
  out[0x3f] = 0;
  Buffer turned(size);
  copy_ordered(order, out, turned.bytes());
  return std::move(turned).freeze();
}

// Lantern Skiff's battery memory: a page a member with name, days at sea, lanterns lit and a log of the bay.
Blob lantern_skiff_sram() {
  Buffer sram(32768);
  const std::span<Byte> out = sram.bytes();
  std::ranges::fill(out, Byte{0xff});
  Dice dice(2031);
  std::size_t at = 0;
  for (const std::string_view member : {"IDA", "MAREK", "OYELARAN", "SUVI"}) {
    const std::span<Byte> page = out.subspan(at, 4096);
    std::ranges::fill(page, Byte{0});
    put_text(page, 0, "LSKF");
    put_text(page, 4, member);
    put_be32(page, 0x10, dice.next() % 90000);                               // seconds played
    put_be16(page, 0x14, static_cast<std::uint16_t>(1 + dice.next() % 60));  // days at sea
    put_be16(page, 0x16, static_cast<std::uint16_t>(dice.next() % 120));     // lanterns lit
    for (std::size_t i = 0x40; i < 0xc00; i += 4)
      put_be32(page, i, dice.next() % 3 == 0 ? dice.next() % 500 : 0);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 0xffc; ++i) sum += page[i];
    put_be32(page, 0xffc, sum);
    at += 4096;
  }
  return std::move(sram).freeze();
}

// A controller pak with one note of two pages, as a console would leave it.
Blob pak_with_note() {
  const Blob fresh = fresh_pak(1);
  Buffer pak(fresh.size());
  const std::span<Byte> out = pak.bytes();
  std::ranges::copy(fresh.view(), out.begin());
  for (const std::size_t index : {std::size_t{0x100}, std::size_t{0x200}}) {
    put_be16(out, index + 2 * 5, 6);
    put_be16(out, index + 2 * 6, 1);
    unsigned sum = 0;
    for (std::size_t i = 10; i < 256; ++i) sum += out[index + i];
    out[index + 1] = static_cast<Byte>(sum);
  }
  const std::span<Byte> note = out.subspan(0x300, 32);
  put_text(note, 0, "N99P");
  put_text(note, 4, "99");
  put_be16(note, 6, 5);
  note[8] = 2;
  for (std::size_t i = 0; const char c : std::string_view("SUVI"))
    note[0x10 + i++] = static_cast<Byte>(c - 'A' + 0x1a);
  Dice dice(77);
  for (Byte& b : out.subspan(0x500, 0x200)) b = static_cast<Byte>(dice.next());
  return std::move(pak).freeze();
}

}  // namespace

std::vector<DemoFile> demo_world() {
  const Catalog catalog;
  Save own{Platform::n64, {{{PartKind::pak, 1}, pak_with_note(), true}}};
  const auto combined = pack(**catalog.find("n64.combined"), own);

  std::vector<DemoFile> files;
  files.push_back({"bench/roms/Lantern Skiff (Europe).z64", rom("LANTERN SKIFF", "N99P", ByteOrder::chip),
                   spring - 400 * day});
  files.push_back({"bench/dumps/N99P.sra", lantern_skiff_sram(), spring});
  files.push_back({"bench/flat-battery.sra", Blob::filled(32768, 0xff), spring});
  files.push_back({"quay-tv/roms/Lantern Skiff (Europe).v64", rom("LANTERN SKIFF", "N99P", ByteOrder::swap16),
                   spring - 300 * day});
  files.push_back({"quay-tv/saves/Lantern Skiff (Europe).srm", *combined, spring - 9 * day});
  files.push_back({"ferry/n64/Lantern Skiff (North America).z64",
                   rom("LANTERN SKIFF", "N99E", ByteOrder::chip), spring - 200 * day});
  files.push_back({"home-pc/roms/lantern-skiff.n64", rom("LANTERN SKIFF", "N99P", ByteOrder::swap32),
                   spring - 100 * day});
  files.push_back({"home/bays/bench.toml",
                   text_blob(R"(about = "The repair bench, where old cartridges are read"
root = "../../bench"

[platform.n64]
path = "dumps/{game.code}{ext}"
layout = "n64.separate"
roms = "roms"

[platform.gb]
path = "dumps/{game.title}{ext}"
layout = "gb.rtc48"
roms = "roms"

[platform.gba]
path = "dumps/{game.code}{ext}"
layout = "gba.sram"
roms = "roms"
)"),
                   spring});
  files.push_back({"home/bays/quay-tv.toml", text_blob(R"(about = "The TV box on the quay"
root = "../../quay-tv"

[platform.n64]
path = "saves/{rom.stem}{ext}"
layout = "n64.combined"
roms = "roms"

[platform.gb]
path = "saves/{rom.stem}{ext}"
layout = "gb.separate-clock8"
roms = "roms"
states = "states/{rom.stem}.{slot}"

[platform.gba]
path = "saves/{rom.stem}{ext}"
layout = "gba.sram-64k"
roms = "roms"
)"),
                   spring});
  files.push_back({"home/bays/ferry.toml", text_blob(R"(about = "The handheld that goes out with the ferry"
root = "../../ferry"

[platform.n64]
path = "n64/{rom.stem}{ext}"
layout = "n64.separate-le"
roms = "n64"
)"),
                   spring});
  files.push_back({"home/bays/home-pc.toml",
                   text_blob(R"(about = "Suvi's computer at home, which names saves by the game's title"
root = "../../home-pc"

[platform.n64]
path = "saves/{game.title} ({region}){ext}"
layout = "n64.separate-le"
roms = "roms"

[platform.gb]
path = "saves/{rom.stem}{ext}"
layout = "gb.rtc48"
roms = "roms"
states = ["states/{rom.stem}, slot {slot}.png", "states/{rom.stem}, last.png"]
)"),
                   spring});
  add_cartridges(catalog, files);
  add_bench_cartridges(rom("LANTERN SKIFF", "N99P", ByteOrder::chip), lantern_skiff_sram(), files);
  add_states(catalog, files);
  add_cards(files);
  add_trees(files);
  add_games(files);
  return files;
}

}  // namespace bayswap::cli
