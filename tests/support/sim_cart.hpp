// Cartridges for the simulated reader: every platform's boards, as folders.
#pragma once

#include <bayswap/fs.hpp>

#include "live/programs.hpp"
#include "support/folder.hpp"
#include "support/roms.hpp"
#include "support/sim_reader.hpp"

namespace bayswap::test {

struct CartBuild {
  const char* platform;
  const char* kind;  // of the chip, as the simulated reader calls it
  std::size_t bytes;
  PartKind part;
  const char* lanes = "odd";  // of md boards
  bool has_clock = false;     // of gb boards
};
inline void PrintTo(const CartBuild& build, std::ostream* out) {
  *out << build.platform << ' ' << build.kind << ' ' << build.bytes << ' ' << build.lanes;
}

inline const std::vector<CartBuild>& cart_builds() {
  static const std::vector<CartBuild> all{
      {"gb", "sram", 8192, PartKind::sram},          {"gbc", "sram", 32768, PartKind::sram},
      {"gba", "sram", 32768, PartKind::sram},        {"gba", "fram", 32768, PartKind::sram},
      {"gba", "eeprom", 512, PartKind::eeprom},      {"gba", "eeprom", 8192, PartKind::eeprom},
      {"gba", "flash", 65536, PartKind::flash},      {"gba", "flash", 131072, PartKind::flash},
      {"nes", "sram", 8192, PartKind::sram},         {"snes", "sram", 8192, PartKind::sram},
      {"md", "sram", 8192, PartKind::sram},          {"md", "sram", 8192, PartKind::sram, "even"},
      {"md", "sram", 16384, PartKind::sram, "both"}, {"md", "eeprom", 128, PartKind::eeprom},
      {"n64", "eeprom", 512, PartKind::eeprom},      {"n64", "eeprom", 2048, PartKind::eeprom},
      {"n64", "sram", 32768, PartKind::sram},        {"n64", "flash", 131072, PartKind::flash},
      {"n64", "pak", 32768, PartKind::pak},          {"sms", "sram", 8192, PartKind::sram},
      {"gg", "sram", 8192, PartKind::sram},          {"pce", "sram", 2048, PartKind::sram},
      {"ws", "sram", 8192, PartKind::sram},          {"ws", "eeprom", 1024, PartKind::eeprom},
      {"nds", "eeprom", 512, PartKind::flash},       {"nds", "eeprom", 8192, PartKind::flash},
      {"nds", "fram", 8192, PartKind::flash},        {"nds", "flash", 262144, PartKind::flash}};
  return all;
}

inline std::vector<Byte> cart_rom(const CartBuild& build) {
  using namespace roms;
  const std::string platform = build.platform;
  const std::string kind = build.kind;
  if (platform == "gb") return gb_rom(build.has_clock ? 0x10 : 0x1b, 2);
  if (platform == "gbc") return gb_rom(0x1b, 3, true);
  if (platform == "nes") return nes_rom({2, 1, 0x02, 0, 1});
  if (platform == "snes") return bytes_of(snes_program(1));
  if (platform == "n64") return kind == "pak" ? std::vector<Byte>{} : bytes_of(n64_rom());
  if (platform == "sms") return sms_rom(0x7ff0, 4);
  if (platform == "gg") return sms_rom(0x7ff0, 5);
  if (platform == "pce") return noisy(32768);
  if (platform == "ws") return ws_rom(kind == "sram" ? 0x01 : 0x50);
  if (platform == "nds") return nds_rom();
  if (platform == "md") {
    if (kind == "eeprom") return md_rom({'R', 'A', 0xe8, 0x40, 0, 0x20, 0, 1, 0, 0x20, 0, 1});
    const std::string lanes = build.lanes;
    if (lanes == "even") return md_rom({'R', 'A', 0xf0, 0x20, 0, 0x20, 0, 0, 0, 0x20, 0x3f, 0xfe});
    if (lanes == "both") return md_rom({'R', 'A', 0xe0, 0x20, 0, 0x20, 0, 0, 0, 0x20, 0x3f, 0xff});
    return md_rom({'R', 'A', 0xf8, 0x20, 0, 0x20, 0, 1, 0, 0x20, 0x3f, 0xff});
  }
  return gba_rom(kind == "eeprom"                   ? "EEPROM_V124"
                 : kind == "sram" || kind == "fram" ? "SRAM_V113"
                 : build.bytes == 131072            ? "FLASH1M_V103"
                                                    : "FLASH_V126");
}

/// A cartridge's folder. `faults`: lines of its table of them.
struct SimCart {
  Folder folder;
  CartBuild build;
  SimCart(const CartBuild& what, const std::string& faults, const Blob& chip, const std::string& more = {})
      : build(what) {
    LocalStore disk;
    const std::string platform = what.platform;
    const bool low = platform == "gba" || platform == "n64" || platform == "ws" || platform == "nds";
    const std::vector<Byte> rom = cart_rom(what);
    std::string toml = "platform = \"" + platform + "\"\n" + (rom.empty() ? "" : "rom = \"rom\"\n") +
                       "millivolts = " + (low ? "3300" : "5000") + "\n" +
                       (what.has_clock ? "clock = 1\n" : "") + more + "[chip]\nkind = \"" + what.kind +
                       "\"\nsize = " + std::to_string(what.bytes) + "\nlanes = \"" + what.lanes + "\"\n" +
                       (faults.empty() ? "" : "[faults]\n" + faults + "\n");
    EXPECT_TRUE(disk.create(folder / "cartridge.toml", text_blob(toml).view()));
    EXPECT_TRUE(rom.empty() || disk.create(folder / "rom", rom));
    EXPECT_TRUE(disk.create(folder / "chip.bin", chip.view()));
  }
  [[nodiscard]] Blob chip() const {
    const auto held = LocalStore().read(folder / "chip.bin");
    EXPECT_TRUE(held);
    return held ? *held : Blob();
  }
};

}  // namespace bayswap::test
