// The newer machines of the lending arcade: saves that are folders in trees of ids.
#include <bayswap/package.hpp>

#include <algorithm>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "cli/demo_parts.hpp"
#include "package/fresh_package.hpp"

namespace bayswap::cli {
namespace {

Blob noise_after(std::uint32_t seed, std::size_t size, std::string_view head = {}) {
  Buffer buffer(size);
  Dice dice(seed);
  for (Byte& b : buffer.bytes()) b = static_cast<Byte>(dice.next());
  put_text(buffer.bytes(), 0, head);
  return std::move(buffer).freeze();
}

// A title and a second line for the console's own menu, and an icon of 48 by 48.
Blob wii_banner(std::string_view title, std::string_view line) {
  Buffer buffer(0xA0 + 48 * 48 * 2);
  const std::span<Byte> out = buffer.bytes();
  std::ranges::fill(out, Byte{0});
  put_text(out, 0, "WIBN");
  for (std::size_t i = 0; i < title.size(); ++i) put_be16(out, 0x20 + 2 * i, static_cast<Byte>(title[i]));
  for (std::size_t i = 0; i < line.size(); ++i) put_be16(out, 0x60 + 2 * i, static_cast<Byte>(line[i]));
  return std::move(buffer).freeze();
}

// The console-wide avatars: Ida and Suvi.
Blob avatar_database() {
  Buffer buffer(779968);
  const std::span<Byte> out = buffer.bytes();
  std::ranges::fill(out, Byte{0});
  put_text(out, 0, "RNOD");
  Dice dice(12);
  std::size_t at = 4;
  for (const std::string_view name : {"Ida", "Suvi"}) {
    const std::span<Byte> one = out.subspan(at, 74);
    for (Byte& b : one.subspan(32, 22)) b = static_cast<Byte>(dice.next());
    const unsigned month = 1 + dice.next() % 12;
    put_be16(one, 0,
             static_cast<std::uint16_t>(0x4000U | month << 10 | (1 + dice.next() % 28) << 5 |
                                        (dice.next() % 12) << 1));
    for (std::size_t i = 0; i < name.size(); ++i) put_be16(one, 2 + 2 * i, static_cast<Byte>(name[i]));
    for (std::size_t i = 0; i < name.size(); ++i) put_be16(one, 54 + 2 * i, static_cast<Byte>(name[i]));
    one[22] = static_cast<Byte>(40 + dice.next() % 60);
    one[23] = static_cast<Byte>(40 + dice.next() % 60);
    put_be32(one, 24, 0x80000000U | dice.next());
    put_be32(one, 28, 0x99000931);
    at += 74;
  }
  put_be16(out, 0x1F1DE, crc16_ccitt(ByteView(out).first(0x1F1DE)));
  return std::move(buffer).freeze();
}

Blob psp_parameters(const std::string& folder, const std::string& detail) {
  ParameterFile parameters;
  (void)parameters.set("CATEGORY", std::string("MS"), 4);
  (void)parameters.set("PARENTAL_LEVEL", std::uint32_t{1}, 4);
  (void)parameters.set("SAVEDATA_DETAIL", detail, 1024);
  (void)parameters.set("SAVEDATA_DIRECTORY", folder, 64);
  (void)parameters.set("SAVEDATA_TITLE", std::string("Harbour ledger"), 128);
  (void)parameters.set("TITLE", std::string("Winter Mooring"), 128);
  return parameters.encode();
}

class Trees {
 public:
  explicit Trees(std::vector<DemoFile>& files) : files_(files) {}

  void add() {
    handhelds();
    console();
    drive();
    bays();
  }

 private:
  void put(const std::string& path, Blob bytes, int days_ago) {
    files_.push_back({path, std::move(bytes), spring - days_ago * day});
  }

  // Brine and Bellows (3ds) with extra data, Winter Mooring (psp) from two regions.
  void handhelds() {
    const std::string brine = "ferry-sd/title/00040000/0ff99200/data/00000001/";
    put(brine + "harbour.bin", brine_harbour(9, 31), 3);
    put(brine + "world/tides.dat", brine_world("Low Quay", 41, 32), 3);
    put("ferry-sd/extdata/00000000/000ff992/user/stamps.bin", noise_after(33, 512), 8);
    const std::string older = "home-trees/title/00040000/0ff99200/data/00000001/";
    put(older + "harbour.bin", brine_harbour(2, 31), 30);
    put(older + "notes.txt", text_blob("Oyelaran's notes stay here\n"), 30);
    const std::string winter = "ferry-sd/PSP/SAVEDATA/ULES99031MOOR00/";
    put(winter + "PARAM.SFO", psp_parameters("ULES99031MOOR00", "Day 41, all ropes dry"), 5);
    put(winter + "DATA.BIN", noise_after(35, 4096, "WMOR"), 5);
    put(winter + "ICON0.PNG", noise_after(36, 900, "\x89PNG"), 5);
    const std::string american = "home-trees/PSP/SAVEDATA/ULUS99031MOOR00/";
    put(american + "PARAM.SFO", psp_parameters("ULUS99031MOOR00", "Day 2"), 60);
    put(american + "DATA.BIN", noise_after(37, 4096, "WMOR"), 60);
  }

  // Harbour Light: the wii one leans on the avatars, the wiiu one is several members'.
  void console() {
    const std::string light = "clubroom-console/title/00010000/485a3950/data/";
    put(light + "banner.bin", wii_banner("Harbour Light", "Suvi's lamp"), 4);
    put(light + "lamp.dat", noise_after(41, 3000, "HLIT"), 4);
    put("clubroom-console/shared2/menu/FaceLib/RFL_DB.dat", avatar_database(), 90);
    const std::string newer = "clubroom-console/usr/save/00050000/1ff99300/";
    put(newer + "meta/meta.xml",
        text_blob("<?xml version=\"1.0\"?>\n<menu><product_code type=\"string\" "
                  "length=\"32\">WUP-P-AHLP</product_code>"
                  "<longname_en type=\"string\" length=\"512\">Harbour Light</longname_en></menu>\n"),
        200);
    put(newer + "user/80000001/save.bin", noise_after(42, 2500, "HLU1"), 2);
    put(newer + "user/80000002/save.bin", noise_after(43, 2500, "HLU1"), 7);
    put(newer + "user/common/rank.bin", noise_after(44, 700, "RANK"), 2);
    const std::string hashed = "home-trees/save/9e3779b9/user/";
    put(hashed + "80000011/save.bin", noise_after(45, 2500, "HLU1"), 40);
    put(hashed + "80000012/save.bin", noise_after(46, 2500, "HLU1"), 40);
    put(hashed + "common/rank.bin", noise_after(47, 700, "RANK"), 40);
    put("home-trees/save/7f4a7c15/user/80000011/scores.bin", noise_after(48, 9000, "OTHR"), 50);
  }

  // Stone Jetty (x360): a package on the console's drive, the folder of its files in an emulator.
  void drive() {
    BlockPackage package = fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "Marek's jetty", 2});
    (void)package.put("jetty.sav", noise_after(51, 9000, "SJTY").view(), spring - 6 * day);
    (void)package.put("photos/lamp.bin", noise_after(52, 1500).view(), spring - 6 * day);
    put("clubroom-drive/content/E000A11D00000001/5A5A0993/00000001/jetty", package.image(), 6);
    const std::string folder = "home-trees/content/E000B22D00000002/5A5A0993/00000001/jetty/";
    put(folder + "jetty.sav", noise_after(53, 8000, "SJTY"), 25);
  }

  void bays() {
    const auto bay = [&](const std::string& name, std::string_view text) {
      put("home/bays/" + name + ".toml", text_blob(text), 0);
    };
    bay("clubroom", R"(about = "The clubroom's memory cards"
root = "../../clubroom"

[platform.ps1]
path = "cards/{game.title}.card"
keeps = "card"

[platform.gc]
path = "cards/{game.title}.card"
keeps = "card"

[platform.dc]
path = "cards/{game.title}.card"
keeps = "card"

[platform.sat]
path = "cards/{game.title}.card"
keeps = "card"
)");
    bay("clubroom-console", R"(about = "The clubroom's consoles: their own memory"
root = "../../clubroom-console"

[platform.wii]
path = "title/{title.high}/{code.hex}/data"
keeps = "folder"

[platform.wiiu]
path = "usr/save/{title.high}/{title.low}/user/{account}"
keeps = "folder"

[platform.wiiu.also]
common = "usr/save/{title.high}/{title.low}/user/common"
)");
    bay("clubroom-drive", R"(about = "The clubroom's console with a drive"
root = "../../clubroom-drive"

[platform.x360]
path = "content/{account}/{title.low}/00000001/{save.name}"
keeps = "package"
)");
    bay("ferry-sd", R"(about = "The ferry handhelds' SD card and memory stick"
root = "../../ferry-sd"

[platform.3ds]
path = "title/{title.high}/{title.low}/data/{slot.8}"
keeps = "folder"

[platform.3ds.also]
extra = "extdata/00000000/{title.unique}"

[platform.psp]
path = "PSP/SAVEDATA/{game.code}{suffix}"
keeps = "folder"
)");
    bay("home-trees", R"(about = "Suvi's computer at home: emulators with trees like a console's"
root = "../../home-trees"

[platform.3ds]
path = "title/{title.high}/{title.low}/data/{slot.8}"
keeps = "folder"

[platform.3ds.also]
extra = "extdata/00000000/{title.unique}"

[platform.psp]
path = "PSP/SAVEDATA/{game.code}{suffix}"
keeps = "folder"

[platform.wii]
path = "title/{title.high}/{code.hex}/data"
keeps = "folder"

[platform.wiiu]
path = "save/{folder}/user/{account}"
keeps = "folder"

[platform.wiiu.also]
common = "save/{folder}/user/common"

[platform.x360]
path = "content/{account}/{title.low}/00000001/{save.name}"
keeps = "package"

[platform.gc]
path = "{region.area}/Card {slot.letter}/{game.maker}-{game.code}-{save.name}.gci"
keeps = "single"
)");
    bay("locker-sd", R"(about = "The backup disk: numbered slots"
root = "../../locker-sd"

[platform.3ds]
path = "backups/3ds/{title.low}/slot-{slot}"
keeps = "folder"

[platform.wii]
path = "backups/wii/{game.code}/slot-{slot}"
keeps = "folder"

[platform.psp]
path = "backups/psp/{game.code}{suffix}/slot-{slot}"
keeps = "folder"
)");
    put("locker-sd/readme.txt", text_blob("Backups of Pell Harbour's lending arcade\n"), 300);
    put("home/titles.toml",
        text_blob(R"(# Titles by id and code. Bay Swap adds what it learns; you may edit it (docs/titles.md).

[[title]]
platform = "3ds"
title = "Brine and Bellows"
region = "Europe"
code = "AB9P"
id = "00040000/0FF99200"

[[title]]
platform = "wiiu"
title = "Harbour Light"
region = "Europe"
code = "AHLP"
id = "00050000/1FF99300"

[[title]]
platform = "psp"
title = "Winter Mooring"
region = "Europe"
code = "ULES99031"

[[title]]
platform = "psp"
title = "Winter Mooring"
region = "North America"
code = "ULUS99031"

[[title]]
platform = "x360"
title = "Stone Jetty"
id = "5A5A0993"
)"),
        0);
  }

  std::vector<DemoFile>& files_;
};

}  // namespace

void add_trees(std::vector<DemoFile>& files) {
  Trees(files).add();
}

}  // namespace bayswap::cli
