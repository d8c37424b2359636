#include <fmt/format.h>

#include <array>

#include "base/endian.hpp"
#include "cli/demo_parts.hpp"

namespace bayswap::cli {
namespace {

Blob noise_of_rom(std::size_t size, std::uint64_t seed) {
  Buffer buffer(size);
  Dice dice(seed);
  for (Byte& b : buffer.bytes()) b = static_cast<Byte>(dice.next());
  return std::move(buffer).freeze();
}

Blob moth_courier_rom() {
  const Blob rest = noise_of_rom(65536, 12);
  Buffer rom(rest.size());
  const std::span<Byte> out = rom.bytes();
  std::ranges::copy(rest.view(), out.begin());
  std::ranges::fill(out.subspan(0xa0, 0x20), Byte{0});
  put_text(out, 0xa0, "MOTH COURIER");
  put_text(out, 0xac, "A99P99");
  out[0xb2] = 0x96;
  Byte sum = 0x19;
  for (std::size_t i = 0xa0; i < 0xbd; ++i) sum = static_cast<Byte>(sum + out[i]);
  out[0xbd] = static_cast<Byte>(-sum);
  put_text(out, 0x400, "SRAM_V113");
  return std::move(rom).freeze();
}

// How the ferry's handheld keeps a save: a head with a mark and a stamp, then each 32-bit word reversed, then
// FF.
Blob ferry_box(const Blob& sram, std::uint32_t stamp) {
  Buffer box(40960);
  const std::span<Byte> out = box.bytes();
  std::ranges::fill(out, Byte{0xff});
  std::ranges::fill(out.first(32), Byte{0});
  put_text(out, 0, "FERRYBOX");
  put_le(out, 12, 4, stamp);
  for (std::size_t i = 0; i < sram.size(); ++i) out[32 + i] = sram.view()[i ^ 3];
  return std::move(box).freeze();
}

}  // namespace

Blob gull_ledger_rom() {
  const Blob rest = noise_of_rom(32768, 11);
  Buffer rom(rest.size());
  const std::span<Byte> out = rom.bytes();
  std::ranges::copy(rest.view(), out.begin());
  std::ranges::fill(out.subspan(0x100, 0x50), Byte{0});
  put_text(out, 0x134, "GULL LEDGER");
  out[0x147] = 0x10;  // RAM, battery and clock
  out[0x149] = 0x02;  // 8 KiB
  out[0x14a] = 0x01;  // sold everywhere
  Byte sum = 0;
  for (std::size_t i = 0x134; i < 0x14d; ++i) sum = static_cast<Byte>(sum - out[i] - 1);
  out[0x14d] = sum;
  return std::move(rom).freeze();
}

Blob ledger(std::size_t size, std::string_view mark, std::string_view member, std::uint64_t seed) {
  Buffer memory(size);
  const std::span<Byte> out = memory.bytes();
  std::ranges::fill(out, Byte{0});
  Dice dice(seed);
  for (std::size_t page = 0; page + 1024 <= size * 3 / 4; page += 1024) {
    put_text(out, page, mark);
    put_text(out, page + 8, member);
    for (std::size_t i = 32; i < 900; i += 2)
      put_le(out, page + i, 2, dice.next() % 5 == 0 ? dice.next() % 900 : 0);
  }
  return std::move(memory).freeze();
}

// 289 days, 5:34:13 on the clock on 4 May 2031.
Blob gull_ledger_clock() {
  Buffer clock(48);
  const std::span<Byte> out = clock.bytes();
  std::ranges::fill(out, Byte{0});
  constexpr std::array<std::uint32_t, 5> registers{13, 34, 5, 33, 1};
  for (std::size_t i = 0; i < 10; ++i) put_le(out, 4 * i, 4, registers.at(i % 5));
  put_le(out, 40, 8, static_cast<std::uint64_t>(spring));
  return std::move(clock).freeze();
}

void add_bench_cartridges(const Blob& skiff_rom, const Blob& skiff_sram, std::vector<DemoFile>& files) {
  const Blob moth = moth_courier_sram("MAREK", 11, 23);
  const Blob gull = ledger(8192, "GULL", "OYELARAN", 21);
  const std::int64_t then = spring - 2 * day;
  const auto add = [&](const std::string& folder, const std::string& rom_name, const Blob& rom,
                       const Blob& chip, std::string_view toml) {
    files.push_back({"port/" + folder + "/" + rom_name, rom, then});
    files.push_back({"port/" + folder + "/chip.bin", chip, then});
    files.push_back({"port/" + folder + "/cartridge.toml",
                     text_blob(fmt::format("rom = \"{}\"\n{}", rom_name, toml)), then});
  };
  add("moth", "Moth Courier (Europe).gba", moth_courier_rom(), moth,
      "platform = \"gba\"\nmillivolts = 3300\n[chip]\nkind = \"sram\"\nsize = 32768\n"
      "[faults]\nignored_writes = 30  # dirty contacts: the third attempt holds\n");
  add("gull", "Gull Ledger (World).gb", gull_ledger_rom(), gull,
      "platform = \"gb\"\nmillivolts = 5000\nclock = 1\n[chip]\nkind = \"sram\"\nsize = 8192\n"
      "[faults]\ndecay = 3  # its battery is nearly empty\n");
  files.push_back({"port/gull/clock.txt", text_blob("1790000000"), then});
  add("skiff", "Lantern Skiff (Europe).z64", skiff_rom, skiff_sram,
      "platform = \"n64\"\nmillivolts = 3300\n[chip]\nkind = \"sram\"\nsize = 32768\n");
  files.push_back(
      {"port/evening.txt",
       text_blob("# Faults for bayswap-simport --script: the plug is pulled in the middle of a write.\n"
                 "20000 hang-up-after 0\n"),
       then});
}

void add_cartridges(const Catalog& catalog, std::vector<DemoFile>& files) {
  const auto packed = [&](std::string_view id, PartKind kind, const Blob& bytes) {
    const Layout& layout = **catalog.find(id);
    return *pack(layout, Save{layout.platform, {{{kind, 0}, bytes, true}}});
  };
  const Save gull{Platform::gb,
                  {{{PartKind::sram, 0}, ledger(8192, "GULL", "OYELARAN", 21), true},
                   {{PartKind::rtc, 0}, gull_ledger_clock(), true}}};
  files.push_back({"bench/roms/Gull Ledger (World).gb", gull_ledger_rom(), spring - 390 * day});
  files.push_back({"bench/dumps/GULL LEDGER.sav", *pack(**catalog.find("gb.rtc48"), gull), spring});
  files.push_back({"quay-tv/roms/Gull Ledger (World).gb", gull_ledger_rom(), spring - 290 * day});

  const Blob ida = moth_courier_sram("IDA", 7, 22);
  const Blob marek = moth_courier_sram("MAREK", 11, 23);
  files.push_back({"bench/roms/Moth Courier (Europe).gba", moth_courier_rom(), spring - 380 * day});
  files.push_back({"bench/dumps/A99P.sav", ida, spring});
  files.push_back({"quay-tv/roms/Moth Courier (Europe).gba", moth_courier_rom(), spring - 280 * day});
  files.push_back({"ferry/gba/ida.box", ferry_box(ida, 0x7a11), spring - 3 * day});
  files.push_back({"ferry/gba/marek.box", ferry_box(marek, 0x7b52), spring - 2 * day});
  files.push_back({"ferry/gba/marek.sav", marek, spring - 2 * day});

  files.push_back({"locker/Cinder Quay.sav",
                   packed("nes.raw", PartKind::sram, ledger(8192, "CINDER", "SUVI", 24)), spring - 30 * day});
  files.push_back(
      {"locker/Tin Orchard.srm",
       wrap(Compression::chunks, packed("snes.raw", PartKind::sram, ledger(8192, "ORCHARD", "IDA", 25))),
       spring - 29 * day});
  files.push_back({"locker/Ropewalk.srm",
                   packed("md.spread-ff", PartKind::sram, ledger(8192, "ROPE", "MAREK", 26)),
                   spring - 28 * day});
  Buffer fog(2048);
  std::ranges::fill(fog.bytes(), Byte{0});
  put_text(fog.bytes(), 0, std::string_view("HUBM\x00\x88\x10\x80", 8));
  files.push_back({"locker/Fog Signal.sav", std::move(fog).freeze(), spring - 27 * day});
  files.push_back({"locker/shopping list.txt", text_blob("lamp oil, twine, two fuses\n"), spring - 26 * day});
}

}  // namespace bayswap::cli
