// Forms in which hosts keep one and the same chip, from bay to bay: what the bytes are decides, and what the
// target's own file, or most of its files, has.
#include <gtest/gtest.h>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <functional>

#include "support/bays.hpp"
#include "support/cards.hpp"

namespace bayswap::test {
namespace {

using Bytes = std::vector<Byte>;

// An md cartridge: the console's name, a title, one RAM entry.
Blob md_rom_of_forms(std::string_view title, std::uint32_t last, Byte type = 0xf8) {
  Bytes rom = bytes_of(noise(65536, static_cast<std::uint32_t>(title.size())));
  std::fill(rom.begin() + 0x100, rom.begin() + 0x200, Byte{' '});
  const Bytes name{0x53, 0x45, 0x47, 0x41};
  std::ranges::copy(name, rom.begin() + 0x100);
  std::ranges::copy(title, rom.begin() + 0x150);
  std::ranges::copy(title, rom.begin() + 0x183);
  const Bytes entry{'R',
                    'A',
                    type,
                    0x20,
                    0,
                    0x20,
                    0,
                    1,
                    static_cast<Byte>(last >> 24),
                    static_cast<Byte>(last >> 16),
                    static_cast<Byte>(last >> 8),
                    static_cast<Byte>(last)};
  std::ranges::copy(entry, rom.begin() + 0x1b0);
  return Blob::copy_of(rom);
}

Blob gb_rom(std::string_view title, Byte type, Byte ram, Byte colour = 0x80) {
  Bytes rom = bytes_of(noise(65536, 9));
  std::fill(rom.begin() + 0x134, rom.begin() + 0x150, Byte{0});
  std::ranges::copy(title, rom.begin() + 0x134);
  const Bytes rest{colour, '9', '9', 0, type, 1, ram, 1, 0x33, 2};
  std::ranges::copy(rest, rom.begin() + 0x143);
  Byte sum = 0;
  for (std::size_t i = 0x134; i <= 0x14c; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
  rom[0x14d] = sum;
  return Blob::copy_of(rom);
}

enum class Beside { zero, ff, same };
Blob spread(const Blob& chip, Beside beside, bool odd = true) {
  Bytes out;
  for (const Byte b : chip.view()) {
    const Byte filler = beside == Beside::zero ? Byte{0} : beside == Beside::ff ? Byte{0xff} : b;
    out.push_back(odd ? filler : b);
    out.push_back(odd ? b : filler);
  }
  return Blob::copy_of(out);
}
Blob swapped(const Blob& chip) {
  Bytes out = bytes_of(chip);
  for (std::size_t i = 0; i + 1 < out.size(); i += 2) std::swap(out[i], out[i + 1]);
  return Blob::copy_of(out);
}
// Text with the game's name in it, so that the order of its bytes can be told.
Blob written(std::size_t size, const std::string& title = "ROPE WALK") {
  const std::string words = title + " AT LOW TIDE, DAY 12. KEEPER: IDA. ";
  Bytes out;
  for (std::size_t i = 0; i < size; ++i)
    out.push_back(static_cast<Byte>(words[(i + i / 3000) % words.size()]));
  for (std::size_t i = 0; i < size; i += 64) out[i] = static_cast<Byte>(i / 64);
  return Blob::copy_of(out);
}

class Forms : public testing::Test {
 protected:
  Plan planned(MemoryBay& from, MemoryBay& to, const std::string& what) {
    CarryRequest request;
    request.what = what;
    request.accept = {IssueCode::newer, IssueCode::short_file};
    auto plan = plan_carry(catalog_, from.open(), to.open(), to.store, request);
    EXPECT_TRUE(plan) << (plan ? "" : plan.error().message);
    return plan ? *std::move(plan) : Plan{};
  }
  void carry(MemoryBay& from, MemoryBay& to, const std::string& what) {
    const Plan plan = planned(from, to, what);
    if (const PlanIssue* refusal = plan.refusal()) ADD_FAILURE() << refusal->text;
    for (const FileChange& change : plan.changes) to.put(change.path, *change.after);
  }
  Catalog catalog_;
};

TEST_F(Forms, OfMdAreToldByTheBytesAndKeptAtTheTarget) {
  using Form = std::function<Blob(const Blob&)>;
  const std::vector<std::pair<std::string, Form>> forms{
      {"packed", [](const Blob& chip) { return chip; }},
      {"spread 00", [](const Blob& chip) { return spread(chip, Beside::zero); }},
      {"spread ff", [](const Blob& chip) { return spread(chip, Beside::ff); }},
      {"doubled", [](const Blob& chip) { return spread(chip, Beside::same); }},
      {"even 00", [](const Blob& chip) { return spread(chip, Beside::zero, false); }},
      {"even ff", [](const Blob& chip) { return spread(chip, Beside::ff, false); }},
      {"swapped", [](const Blob& chip) { return swapped(chip); }}};
  const Blob chip = written(8192, "ROPE WALK");
  for (const auto& [name, as_there] : forms)
    for (const auto& [there, as_here] : forms) {
      MemoryBay from("from", "stem-folder");
      MemoryBay to("to", "stem-folder");
      for (MemoryBay* bay : {&from, &to}) {
        bay->put("roms/Rope Walk.md", md_rom_of_forms("ROPE WALK", 0x203fff));
        bay->put("roms/Other.md", md_rom_of_forms("OTHER GAME", 0x203fff));
      }
      from.put("saves/Rope Walk.srm", as_there(chip));
      // Another save in the form that this host writes.
      to.put("saves/Other.srm", as_here(written(8192, "OTHER GAME")));
      carry(from, to, "Rope Walk");
      EXPECT_EQ(to.read("saves/Rope Walk.srm"), as_here(chip)) << name << " to " << there;
    }
}

TEST_F(Forms, AFileInPlaceKeepsItsForm) {
  const Blob chip = written(8192);
  Bytes old = bytes_of(chip);
  old[100] ^= 0x20;
  MemoryBay from("from", "stem-folder");
  MemoryBay to("to", "stem-folder");
  for (MemoryBay* bay : {&from, &to}) bay->put("roms/Rope Walk.md", md_rom_of_forms("ROPE WALK", 0x203fff));
  from.put("saves/Rope Walk.srm", chip);
  to.put("saves/Rope Walk.srm", spread(Blob::copy_of(old), Beside::ff));
  carry(from, to, "Rope Walk");
  EXPECT_EQ(to.read("saves/Rope Walk.srm"), spread(chip, Beside::ff));
}

TEST_F(Forms, SmallAndTrimmedMdChips) {
  // 512 addresses on odd ones: a chip of 256 bytes.
  const Blob small = written(256);
  MemoryBay from("from", "stem-folder");
  MemoryBay to("to", "stem-folder");
  for (MemoryBay* bay : {&from, &to}) bay->put("roms/Rope Walk.md", md_rom_of_forms("ROPE WALK", 0x2001ff));
  from.put("saves/Rope Walk.srm", spread(small, Beside::ff));
  carry(from, to, "Rope Walk");
  EXPECT_EQ(to.read("saves/Rope Walk.srm"), small);
  // Cut off after the last byte that says something, wherever that is.
  Bytes chip(8192, 0xff);
  std::ranges::copy(bytes_of(written(777)), chip.begin());
  for (const bool spread_out : {false, true})
    for (const std::size_t cut : {777U, 778U, 1001U}) {
      MemoryBay host("host", "stem-folder");
      MemoryBay bench("bench", "stem-folder");
      for (MemoryBay* bay : {&host, &bench})
        bay->put("roms/Rope Walk.md", md_rom_of_forms("ROPE WALK", 0x203fff));
      const Blob whole = Blob::copy_of(chip);
      const Blob file = spread_out ? spread(whole, Beside::ff).slice(0, 2 * cut) : whole.slice(0, cut);
      host.put("saves/Rope Walk.srm", file);
      carry(host, bench, "Rope Walk");
      EXPECT_EQ(bench.read("saves/Rope Walk.srm"), whole) << spread_out << cut;
    }
}

TEST_F(Forms, FourPaksInOneFileAreFourPaks) {
  std::vector<Blob> paks;
  for (int i = 1; i <= 4; ++i) {
    const auto pak = make_card(CardKind::n64);
    EXPECT_TRUE(pak->put(made_save(CardKind::n64, i, 2, static_cast<std::uint32_t>(i))));
    paks.push_back(pak->image());
  }
  const Blob file = joined(paks);
  ASSERT_EQ(file.size(), 131072U);
  const Finding finding = inspect(catalog_, file);
  ASSERT_NE(finding.layout, nullptr);
  EXPECT_EQ(finding.layout->id, "n64.paks");
  EXPECT_EQ(finding.parts.size(), 4U);
  // Split, and joined again.
  MemoryBay one("one", "stem-folder");
  MemoryBay set("set", "flash-cart");
  one.put("roms/Skiff.z64", n64_rom());
  set.put("Skiff.z64", n64_rom());
  one.put("saves/Skiff.mpk", file);
  carry(one, set, "Skiff");
  EXPECT_EQ(set.read("saves/Skiff.mpk"), paks[0]);
  EXPECT_EQ(set.read("saves/Skiff.4.mpk"), paks[3]);
  MemoryBay back("back", "n64", "path = \"{rom.stem}{ext}\"\nlayout = \"n64.paks\"\nroms = \".\"\n");
  back.put("Skiff.z64", n64_rom());
  carry(set, back, "Skiff");
  EXPECT_EQ(back.read("Skiff.mpk"), file);
}

TEST_F(Forms, SramIn64KibibytesKeepsTheTargetsFiller) {
  for (const Byte filler : {Byte{0x00}, Byte{0xff}}) {
    MemoryBay from("from", "gba", "path = \"{rom.stem}.sav\"\nlayout = \"gba.sram\"\nroms = \".\"\n");
    MemoryBay to("to", "gba", "path = \"{rom.stem}.sav\"\nlayout = \"gba.sram-64k\"\nroms = \".\"\n");
    const Blob before = joined({noise(32768, 1), Blob::filled(32768, filler)});
    from.put("Quay.sav", noise(32768, 2));
    to.put("Quay.sav", before);
    CarryRequest request;
    request.what = "Quay";
    request.accept = {IssueCode::newer, IssueCode::no_rom};
    const auto plan = plan_carry(catalog_, from.open(), to.open(), to.store, request);
    ASSERT_TRUE(plan) << plan.error().message;
    EXPECT_EQ(issue_of(*plan, IssueCode::half_empty), nullptr);
    ASSERT_EQ(plan->changes.size(), 1U);
    EXPECT_EQ(*plan->changes[0].after, joined({noise(32768, 2), Blob::filled(32768, filler)}));
    // And what comes out of it is the chip.
    const auto opened = open_save(layout(catalog_, "gba.sram-64k"), before);
    ASSERT_TRUE(opened);
    EXPECT_EQ(opened->save.parts.front().bytes, noise(32768, 1));
  }
  // 64 KiB of flash, padded to 128: no half that was not read.
  const Blob padded = joined({noise(65536, 3), Blob::filled(65536, 0xff)});
  const auto opened = open_save(layout(catalog_, "gba.flash"), padded, {{PartKind::flash, 65536, ""}});
  ASSERT_TRUE(opened);
  EXPECT_EQ(opened->save.parts.front().bytes, noise(65536, 3));
  EXPECT_EQ(opened->fitted.fit, Fit::padded);
}

TEST_F(Forms, AClockThatNobodyBringsStartsAnew) {
  MemoryBay dump("dump", "gb",
                 "path = \"{rom.stem}.sav\"\nlayout = [\"gb.raw\", \"gb.rtc48\"]\nroms = \".\"\n");
  MemoryBay emu("emu", "gb", "path = \"{rom.stem}.sav\"\nlayout = \"gb.rtc48\"\nroms = \".\"\n");
  for (MemoryBay* bay : {&dump, &emu}) bay->put("Gull.gb", gb_rom("GULL LEDGER", 0x10, 3));
  dump.put("Gull.sav", noise(32768, 1));
  const Plan plan = planned(dump, emu, "Gull");
  EXPECT_EQ(plan.refusal(), nullptr);
  EXPECT_NE(issue_of(plan, IssueCode::conversion), nullptr);
  ASSERT_EQ(plan.changes.size(), 1U);
  EXPECT_EQ(plan.changes[0].after->slice(0, 32768), noise(32768, 1));
  EXPECT_EQ(plan.changes[0].after->size(), 32816U);
  // The target's own clock goes on.
  const Blob clock = Blob::filled(48, 7);
  emu.put("Gull.sav", joined({noise(32768, 2), clock}));
  EXPECT_EQ(*planned(dump, emu, "Gull").changes[0].after, joined({noise(32768, 1), clock}));
  // A file without a clock in a bay that says there is one.
  emu.put("Gull.sav", noise(32768, 3));
  dump.put("Gull.sav", noise(32768, 4));
  EXPECT_EQ(*planned(emu, dump, "Gull").changes[0].after, noise(32768, 3));
}

TEST_F(Forms, AMotionBoardsEepromHasALayout) {
  MemoryBay from("from", "stem-folder");
  MemoryBay to("to", "flash-cart");
  from.put("roms/Tumble.gb", gb_rom("TUMBLE", 0x22, 0));
  to.put("Tumble.gb", gb_rom("TUMBLE", 0x22, 0));
  from.put("saves/Tumble.sav", written(256));
  carry(from, to, "Tumble");
  EXPECT_EQ(to.read("saves/Tumble.sav"), written(256));
}

TEST_F(Forms, GbAndGbcAreOneInBothDirections) {
  for (const char* first : {"gb", "gbc"})
    for (const Byte colour : {Byte{0x00}, Byte{0xc0}}) {
      const std::string second = std::string(first) == "gb" ? "gbc" : "gb";
      MemoryBay from("from", first, "path = \"{rom.stem}.sav\"\nlayout = \"gb.raw\"\nroms = \".\"\n");
      MemoryBay to("to", second, "path = \"s/{rom.stem}.srm\"\nlayout = \"gb.raw\"\nroms = \".\"\n");
      from.put("Gull (E).gbc", gb_rom("GULL LEDGER", 0x1b, 3, colour));
      to.put("Gull Ledger.gb", gb_rom("GULL LEDGER", 0x1b, 3, colour));
      from.put("Gull (E).sav", noise(32768, 5));
      ASSERT_EQ((*from.view(catalog_)->saves())->size(), 1U);
      carry(from, to, "Gull");
      EXPECT_EQ(to.read("s/Gull Ledger.srm"), noise(32768, 5)) << first;
    }
}

// "Quay.sav" beside Quay.gba and Quay.nds: its size says whose it is.
TEST_F(Forms, ROMsOfOneNameShareNoSave) {
  Bytes gba = bytes_of(noise(65536, 4));
  std::fill(gba.begin() + 0xa0, gba.begin() + 0xc0, Byte{0});
  std::ranges::copy(std::string_view("QUAY"), gba.begin() + 0xa0);
  std::ranges::copy(std::string_view("A99P99"), gba.begin() + 0xac);
  gba[0xb2] = 0x96;
  int sum = 0;
  for (std::size_t i = 0xa0; i <= 0xbc; ++i) sum -= gba[i];
  gba[0xbd] = static_cast<Byte>(sum - 0x19);
  std::ranges::copy(std::string_view("SRAM_V113"), gba.begin() + 0x8000);
  Bytes md = bytes_of(md_rom_of_forms("QUAY", 0x203fff));
  for (const auto& [size, platform] : {std::pair{32768U, "gba"}, {16384U, "md"}}) {
    MemoryBay bay("bay", "beside-rom");
    bay.put("Quay.gba", Blob::copy_of(gba));
    bay.put("Quay.md", Blob::copy_of(md));
    bay.put("Quay.srm", noise(100, 1));  // not of a size that either has
    MemoryBay other("other", "gba",
                    "path = \"{rom.stem}.sav\"\nlayout = \"gba.sram\"\nroms = \".\"\n[platform.md]\npath = "
                    "\"{rom.stem}.sav\"\nlayout = [\"md.packed\", \"md.spread-ff\"]\nroms = \".\"\n");
    other.put("Quay.gba", Blob::copy_of(gba));
    other.put("Quay.md", Blob::copy_of(md));
    other.put("Quay.sav", size == 32768 ? noise(size, 2) : spread(noise(8192, 2), Beside::ff));
    const auto view = other.view(catalog_);
    const auto saves = view->saves();
    ASSERT_EQ((*saves)->size(), 1U);
    EXPECT_EQ(tag((*saves)->front().rule->platform), platform);
  }
}

TEST_F(Forms, NamelessRomsArePairedByTheirBytes) {
  MemoryBay from("from", "stem-folder");
  MemoryBay to("to", "stem-folder");
  from.put("roms/buoy-final2.nes", nes_rom(1));
  from.put("saves/buoy-final2.sav", noise(8192, 1));
  for (std::uint32_t i = 0; i < 4; ++i) to.put("roms/Title " + std::to_string(i) + ".nes", nes_rom(i));
  carry(from, to, "buoy-final2");
  EXPECT_EQ(to.read("saves/Title 1.sav"), noise(8192, 1));
  EXPECT_FALSE(to.has("saves/Title 0.sav"));
}

TEST_F(Forms, RomsWithoutHeadersAreKnownByTheirExtensions) {
  for (const char* platform : {"sms", "gg"}) {
    const std::string rule =
        "path = \"{rom.stem}.sav\"\nlayout = \"" + std::string(platform) + ".raw\"\nroms = \".\"\n";
    MemoryBay from("from", platform, rule);
    MemoryBay to("to", platform, rule);
    from.put("Buoy." + std::string(platform), noise(32768, 3));
    to.put("The Buoy." + std::string(platform), noise(32768, 3));
    from.put("Buoy.sav", noise(8192, 1));
    carry(from, to, "Buoy");
    EXPECT_EQ(to.read("The Buoy.sav"), noise(8192, 1)) << platform;
  }
  MemoryStore odd;
  ASSERT_TRUE(odd.replace("x.gg", noise(1000, 1).view()));
  EXPECT_FALSE(identify_rom(odd, "x.gg")) << "no whole pages";
}

TEST_F(Forms, SerialEepromsOfNes) {
  Bytes rom = bytes_of(nes_rom(5));
  rom[7] = 0x08;
  rom[8] = 0;
  rom[10] = 0x20;  // 256 bytes
  MemoryBay from("from", "stem-folder");
  MemoryBay to("to", "beside-rom");
  from.put("roms/Dory.nes", Blob::copy_of(rom));
  to.put("Dory (Alt).nes", Blob::copy_of(rom));
  from.put("saves/Dory.sav", written(256));
  carry(from, to, "Dory");
  EXPECT_EQ(to.read("Dory (Alt).sav"), written(256));
}

TEST_F(Forms, DiscsAreNamedAfterTheirSheets) {
  Bytes disc = bytes_of(noise(2048 * 20, 8));
  const std::string_view magic = "\x53\x45\x47\x41\x44\x49\x53\x43\x53\x59\x53\x54\x45\x4D\x20\x20";
  std::ranges::copy(magic, disc.begin());
  std::fill(disc.begin() + 0x150, disc.begin() + 0x200, Byte{' '});
  std::ranges::copy(std::string_view("LOW TIDE RALLY"), disc.begin() + 0x150);
  std::ranges::copy(std::string_view("GM T-99001 -00"), disc.begin() + 0x180);
  std::ranges::copy(std::string_view("E"), disc.begin() + 0x1f0);
  Bytes raw;  // sectors of 2352 bytes: 16 before the data, the rest after
  for (std::size_t i = 0; i < 20; ++i) {
    const Bytes lead{
        0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0, 2, static_cast<Byte>(i), 1};
    raw.insert(raw.end(), lead.begin(), lead.end());
    raw.insert(raw.end(), disc.begin() + static_cast<std::ptrdiff_t>(2048 * i),
               disc.begin() + static_cast<std::ptrdiff_t>(2048 * (i + 1)));
    raw.resize(raw.size() + 288);
  }
  const Blob sound = noise(2352 * 10, 1);
  const auto roms_of = [&](MemoryBay& bay) {
    const auto view = bay.view(catalog_);
    std::vector<std::string> names;
    for (const RomFile& rom : **view->roms(*bay.bay.rule(Platform::scd)))
      names.push_back(rom.path + "=" + rom.facts.game.title);
    return names;
  };
  const std::string rule = "path = \"{rom.stem}.brm\"\nlayout = \"scd.raw\"\nroms = \".\"\n";
  using Names = std::vector<std::string>;
  MemoryBay tracks("tracks", "scd", rule);
  tracks.put("Rally (Track 2).bin", Blob::copy_of(raw));
  tracks.put("rally (track 1).bin", sound);
  tracks.put("Rally.cue",
             text_blob("FILE \"Rally (Track 1).bin\" BINARY\r\n  TRACK 01 AUDIO\r\n    INDEX 01 00:00:00\r\n"
                       "FILE \"Rally (Track 2).bin\" BINARY\r\n  TRACK 02 MODE1/2352\r\n    INDEX 01 "
                       "00:00:00\r\n"));
  EXPECT_EQ(roms_of(tracks), (Names{"Rally.cue=LOW TIDE RALLY"}));
  MemoryBay one("one", "scd", rule);  // all tracks in one file: the data begin after 10 sectors
  one.put("all.bin", joined({sound, Blob::copy_of(raw)}));
  one.put("Rally.cue", text_blob("FILE all.bin BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00\nTRACK 02 "
                                 "MODE1/2352\nINDEX 00 00:00:08\nINDEX 01 00:00:10\n"));
  EXPECT_EQ(roms_of(one), (Names{"Rally.cue=LOW TIDE RALLY"}));
  MemoryBay list("list", "scd", rule);
  for (const char* disc_name : {"Rally (Disc 1)", "Rally (Disc 2)"}) {
    list.put(std::string(disc_name) + ".bin", Blob::copy_of(raw));
    list.put(std::string(disc_name) + ".cue",
             text_blob(std::string("FILE \"") + disc_name +
                       ".bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n"));
  }
  list.put("Rally.m3u", text_blob("# discs\nRally (Disc 1).cue\nRally (Disc 2).cue\n"));
  EXPECT_EQ(roms_of(list), (Names{"Rally.m3u=LOW TIDE RALLY"}));
  MemoryBay hostile("hostile", "scd", rule);
  hostile.put("a.m3u", text_blob("a.m3u\n../../etc/passwd\n"));
  hostile.put("b.cue", text_blob("FILE ../b.bin BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n"));
  hostile.put("c.cue", text_blob("FILE \"gone.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 99999:99:99\n"));
  EXPECT_EQ(roms_of(hostile), Names{});
}

}  // namespace
}  // namespace bayswap::test
