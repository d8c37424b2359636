// ROM headers of every platform that can be told: built here by their definition, byte for byte, and told
// from noise.
#include <gtest/gtest.h>
#include <bayswap/inspect.hpp>

#include <bit>
#include <filesystem>

#include "support/builders.hpp"
#include "support/core_files.hpp"
#include "support/property.hpp"
#include "support/roms.hpp"

namespace bayswap::test {
namespace {

using namespace roms;

struct Expected {
  Platform platform;
  std::string title;
  std::string code;
  Region region;
  std::optional<std::pair<PartKind, std::size_t>> chip;
};

void expect_facts(const Bytes& rom, const Expected& expected, const char* what) {
  const auto facts = identify_rom(rom);
  ASSERT_TRUE(facts) << what;
  EXPECT_EQ(tag(facts->game.platform), tag(expected.platform)) << what;
  EXPECT_EQ(facts->game.title, expected.title) << what;
  EXPECT_EQ(facts->game.code, expected.code) << what;
  EXPECT_EQ(name(facts->game.region), name(expected.region)) << what;
  EXPECT_GT(facts->confidence, 0.8) << what;
  EXPECT_FALSE(facts->evidence.empty()) << what;
  ASSERT_EQ(!facts->chips.empty(), expected.chip.has_value()) << what;
  if (!expected.chip) return;
  EXPECT_EQ(facts->chips.front().kind, expected.chip->first) << what;
  EXPECT_EQ(facts->chips.front().size_bytes, expected.chip->second) << what;
  EXPECT_FALSE(facts->chips.front().evidence.empty()) << what;
}

TEST(RomHeaders, NesBothGenerations) {
  expect_facts(nes_rom({2, 1, 0x02, 0, 0}), {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 0}}},
               "first, size not said");
  expect_facts(nes_rom({2, 1, 0x02, 0, 1}),
               {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 8192}}}, "first, 8 KiB");
  expect_facts(nes_rom({2, 1, 0x02, 0x44, 0x69, 0x73, 0x6b}),
               {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 0}}}, "a text over bytes 7 to 15");
  expect_facts(nes_rom({2, 1, 0x02, 0, 4}),
               {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 32768}}}, "first, 32 KiB");
  expect_facts(nes_rom({2, 1, 0x02, 0x08, 0, 0, 0x70}),
               {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 8192}}}, "second");
  expect_facts(nes_rom({2, 1, 0x02, 0, 2}), {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 0}}},
               "first, 16 KiB: one chip of two");
  expect_facts(nes_rom({2, 1, 0x02, 0x08, 0, 0, 0x10}),
               {Platform::nes, "", "", Region::unknown, {{PartKind::eeprom, 128}}}, "second, EEPROM");
  expect_facts(nes_rom({2, 1, 0x02, 0x08, 0, 0, 0x40}),
               {Platform::nes, "", "", Region::unknown, {{PartKind::sram, 1024}}}, "second, in the mapper");
  expect_facts(nes_rom({2, 1, 0x00, 0x08, 0, 0, 0x70}), {Platform::nes, "", "", Region::unknown, {}},
               "no battery");
  EXPECT_EQ(identify_rom(nes_rom({2, 1, 0, 0}))->header_size_bytes, 16U);
}

TEST(RomHeaders, GbBoardsAndSizes) {
  const Expected sram{Platform::gb, "GULL LEDGER", "", Region::unknown, {{PartKind::sram, 32768}}};
  expect_facts(gb_rom(0x1b, 3), sram, "32 KiB");
  expect_facts(gb_rom(0x06, 0), {Platform::gb, "GULL LEDGER", "", Region::unknown, {{PartKind::sram, 512}}},
               "half-bytes");
  expect_facts(gb_rom(0x22, 0), {Platform::gb, "GULL LEDGER", "", Region::unknown, {{PartKind::eeprom, 256}}},
               "motion");
  expect_facts(gb_rom(0x01, 0), {Platform::gb, "GULL LEDGER", "", Region::unknown, {}}, "nothing");
  const auto clock = identify_rom(gb_rom(0x10, 3));
  ASSERT_EQ(clock->chips.size(), 2U);
  EXPECT_EQ(clock->chips[1].kind, PartKind::rtc);
  EXPECT_EQ(identify_rom(gb_rom(0x1b, 3, true))->game.platform, Platform::gbc);
  for (const Byte other_clock : {Byte{0xfe}, Byte{0xfd}}) {
    const auto other = identify_rom(gb_rom(other_clock, 3));
    for (const ChipFact& chip : other->chips)
      EXPECT_NE(chip.kind, PartKind::rtc) << "these boards have no such registers";
  }
  const auto titled = [](std::string_view title, Byte maker) {
    Bytes rom = gb_rom(0x1b, 3, true);
    put(rom, 0x134, title);
    rom[0x14b] = maker;
    Byte sum = 0;
    for (std::size_t i = 0x134; i <= 0x14c; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
    rom[0x14d] = sum;
    return identify_rom(rom)->game;
  };
  EXPECT_EQ(titled("TINORCHARDTREES", 0x33).title, "TINORCHARDTREES") << "15 letters are a title";
  EXPECT_EQ(titled("TINORCHARDTREES", 0x33).code, "");
  EXPECT_EQ(titled("TIN ORCHARDB99P", 0x33).title, "TIN ORCHARD") << "11 letters and a code";
  EXPECT_EQ(titled("TIN ORCHARDB99P", 0x33).code, "B99P");
  EXPECT_EQ(titled("TIN ORCHARDB99P", 0x01).code, "") << "an early cartridge has none";
  Bytes cut = gb_rom(0x1b, 3);
  cut.resize(40000);
  EXPECT_FALSE(identify_rom(cut)) << "neither picture nor size";
  put(cut, 0x104, {0xce, 0xed, 0x66, 0x66});
  EXPECT_TRUE(identify_rom(cut));
}

TEST(RomHeaders, GbaWithTheTagsOfItsSaveLibrary) {
  expect_facts(gba_rom(), {Platform::gba, "MOTH COURIER", "A99P", Region::europe, {}}, "no tag");
  const std::vector<std::pair<std::string, std::pair<PartKind, std::size_t>>> rows{
      {"EEPROM_V124", {PartKind::eeprom, 0}},      {"SRAM_V113", {PartKind::sram, 32768}},
      {"SRAM_F_V102", {PartKind::sram, 32768}},    {"FLASH_V126", {PartKind::flash, 65536}},
      {"FLASH512_V130", {PartKind::flash, 65536}}, {"FLASH1M_V103", {PartKind::flash, 131072}}};
  for (const auto& [text, chip] : rows) {
    const Bytes rom = gba_rom(text);
    auto facts = identify_rom(rom);
    find_chip_tags(rom_source(rom), *facts);
    ASSERT_EQ(facts->chips.size(), 1U) << text;
    EXPECT_EQ(facts->chips.front().kind, chip.first) << text;
    EXPECT_EQ(facts->chips.front().size_bytes, chip.second) << text;
  }
  Bytes crooked = gba_rom();
  put(crooked, 0x9001, "FLASH1M_V103");
  auto facts = identify_rom(crooked);
  find_chip_tags(rom_source(crooked), *facts);
  EXPECT_TRUE(facts->chips.empty()) << "a tag begins a word";
}

TEST(RomHeaders, GbaTagsAreFoundAcrossPieces) {
  Bytes rom = gba_rom();
  rom.resize(3 << 20, 0);
  for (const std::size_t at : {(1U << 20) - 4, (1U << 20) - 8, (1U << 20) - 16, (2U << 20) - 36}) {
    Bytes one = rom;
    put(one, at, "FLASH1M_V103");
    auto facts = identify_rom(one);
    find_chip_tags(rom_source(one), *facts);
    EXPECT_EQ(facts->chips.size(), 1U) << at;
  }
}

TEST(RomHeaders, NdsMdNgp) {
  expect_facts(nds_rom(), {Platform::nds, "TIN ORCHARD", "Y99E", Region::north_america, {}}, "nds");
  const Expected md{Platform::md, "ROPE WALK", "GM 00099999-00", Region::europe, {}};
  expect_facts(md_rom({' '}), md, "md");
  Expected odd = md;
  odd.chip = {PartKind::sram, 8192};
  expect_facts(md_rom({'R', 'A', 0xf8, 0x20, 0, 0x20, 0, 1, 0, 0x20, 0x3f, 0xff}), odd, "odd addresses");
  odd.chip = {PartKind::sram, 16384};
  expect_facts(md_rom({'R', 'A', 0xe0, 0x20, 0, 0x20, 0, 0, 0, 0x20, 0x3f, 0xff}), odd, "all addresses");
  expect_facts(md_rom({'R', 'A', 0xb8, 0x20, 0, 0x20, 0, 1, 0, 0x20, 0x3f, 0xff}), md, "no battery");
  expect_facts(md_rom({'R', 'A', 0xf8, 0x20, 0xff, 0x20, 0, 1, 0, 0x20, 0x3f, 0xff}), md,
               "last before first");
  Expected serial = md;
  serial.chip = {PartKind::eeprom, 0};
  expect_facts(md_rom({'R', 'A', 0xe8, 0x40, 0, 0x20, 0, 1, 0, 0x20, 0, 1}), serial, "serial EEPROM");
  odd.chip = {PartKind::sram, 256};
  expect_facts(md_rom({'R', 'A', 0xf8, 0x20, 0, 0x20, 0, 1, 0, 0x20, 1, 0xff}), odd, "a small one");
  const std::vector<std::pair<std::string, Region>> fields{
      {"1  ", Region::japan},  {"4  ", Region::north_america}, {"8  ", Region::europe},
      {"F  ", Region::world},  {"5  ", Region::world},         {"C  ", Region::world},
      {"E  ", Region::europe}, {"JUE", Region::world},         {"U  ", Region::north_america}};
  for (const auto& [field, region] : fields) {
    Bytes rom = md_rom({' '});
    put(rom, 0x1f0, field);
    EXPECT_EQ(name(identify_rom(rom)->game.region), name(region)) << field;
  }
  expect_facts(ngp_rom(), {Platform::ngp, "STONE JETTY", "1234", Region::world, {{PartKind::flash, 0}}},
               "ngp");
}

TEST(RomHeaders, SmsAndGgAtTheirThreePlaces) {
  for (const std::size_t at : {0x1ff0U, 0x3ff0U, 0x7ff0U}) {
    expect_facts(sms_rom(at, 4), {Platform::sms, "", "09999", Region::world, {}}, "sms");
    expect_facts(sms_rom(at, 5), {Platform::gg, "", "09999", Region::japan, {}}, "gg");
  }
  Bytes behind = sms_rom(0x7ff0, 4);
  behind.insert(behind.begin(), 512, Byte{0});
  EXPECT_EQ(identify_rom(behind)->header_size_bytes, 512U);
}

TEST(RomHeaders, VbStandsBeforeItsEnd) {
  Bytes rom = noisy(131072);
  const std::size_t at = rom.size() - 0x220;
  std::fill_n(rom.begin() + static_cast<std::ptrdiff_t>(at), 32, Byte{0});
  put(rom, at, "TIDE GLASS          ");
  put(rom, at + 25, "99");
  put(rom, at + 27, "V99J");
  rom[at + 31] = 2;
  const auto facts = identify_rom(rom);
  ASSERT_TRUE(facts) << facts.error().message;
  EXPECT_EQ(facts->game.platform, Platform::vb);
  EXPECT_EQ(facts->game.title, "TIDE GLASS");
  EXPECT_EQ(facts->game.code, "V99J");
  EXPECT_EQ(facts->game.region, Region::japan);
  EXPECT_EQ(facts->game.revision, 2);
  rom[at + 22] = 1;
  EXPECT_FALSE(identify_rom(rom)) << "the reserved bytes are 00";
}

TEST(RomHeaders, SnesMappings) {
  const Expected orchard{Platform::snes, "TIN ORCHARD", "", Region::europe, {{PartKind::sram, 8192}}};
  expect_facts(snes_rom(0x7fc0, 0x20, 0x80000), orchard, "32 KiB banks");
  expect_facts(snes_rom(0xffc0, 0x31, 0x80000), orchard, "64 KiB banks");
  expect_facts(snes_rom(0x40ffc0, 0x35, 0x600000), orchard, "over 4 MiB, 64 KiB banks");
  expect_facts(snes_rom(0x407fc0, 0x32, 0x600000), orchard, "over 4 MiB, 32 KiB banks");
  expect_facts(snes_rom(0x7fc0, 0x32, 0x400000), orchard, "mode 32 at the first place");
  expect_facts(snes_rom(0xffc0, 0x3a, 0x400000), orchard, "mode 3A at the second");
  for (const Byte type : {Byte{0x13}, Byte{0x14}, Byte{0x15}, Byte{0x1a}}) {
    Bytes graphics = snes_rom(0x7fc0, 0x20, 0x80000, type, 0);
    graphics[0x7fbd] = 5;
    Expected own = orchard;
    const bool battery = type == 0x15 || type == 0x1a;
    own.chip = battery ? std::optional(std::pair{PartKind::sram, std::size_t{32768}}) : std::nullopt;
    expect_facts(graphics, own, "the graphics processor's RAM");
  }
  Bytes katakana = snes_rom(0x7fc0, 0x20, 0x80000);
  put(katakana, 0x7fc0, {0xb6, 0xb7, 0xb8, 0xb9, 0xba});
  std::fill_n(katakana.begin() + 0x7fc5, 16, Byte{' '});
  katakana[0x7fc0 + 0x15] = 0;  // with a wrong mode the title has to tell
  ASSERT_TRUE(identify_rom(katakana));
  EXPECT_EQ(identify_rom(katakana)->game.title, "\uff76\uff77\uff78\uff79\uff7a");
  Bytes behind = snes_rom(0x7fc0, 0x20, 0x80000);
  behind.insert(behind.begin(), 512, Byte{0});
  expect_facts(behind, orchard, "behind a copier's header");
  EXPECT_EQ(identify_rom(behind)->header_size_bytes, 512U);
  Expected none = orchard;
  none.chip.reset();
  expect_facts(snes_rom(0x7fc0, 0x20, 0x80000, 0, 0), none, "no battery");
}

TEST(RomHeaders, WsByItsChecksumOverAll) {
  expect_facts(ws_rom(0x02), {Platform::ws, "", "9942", Region::japan, {{PartKind::sram, 32768}}}, "sram");
  expect_facts(ws_rom(0x20), {Platform::ws, "", "9942", Region::japan, {{PartKind::eeprom, 2048}}}, "eeprom");
  Bytes wrong = ws_rom(0x02);
  wrong[1000] ^= 1;
  EXPECT_FALSE(identify_rom(wrong));
}

TEST(RomHeaders, NumbersAreNoProductCodes) {
  const auto game = [](Platform platform, const char* code) {
    return GameId{platform, code, "", Region::world};
  };
  for (const Platform platform : {Platform::ws, Platform::ngp}) {
    EXPECT_EQ(compare(game(platform, "1234"), game(platform, "1235")), GameMatch::other_game);
    EXPECT_EQ(compare(game(platform, "1234"), game(platform, "1234")), GameMatch::same);
    EXPECT_FALSE(code_in_region(platform, "123J", Region::europe));
    EXPECT_EQ(region_of_code(platform, "123J"), Region::unknown);
  }
  EXPECT_EQ(compare(game(Platform::gba, "A99E"), game(Platform::gba, "A99P")), GameMatch::other_region);
  EXPECT_EQ(compare(game(Platform::gb, "B99P"), game(Platform::gbc, "B99P")), GameMatch::same)
      << "one cartridge in two machines";
}

TEST(RomHeaders, CutAndTurnedOnesAreRefusedOrRead) {
  const std::vector<Bytes> roms{nes_rom({2, 1, 2, 0}),
                                gb_rom(0x1b, 3),
                                gba_rom("SRAM_V113"),
                                nds_rom(),
                                md_rom({' '}),
                                sms_rom(0x7ff0, 4),
                                snes_rom(0x7fc0, 0x20, 0x10000),
                                ws_rom(2),
                                ngp_rom()};
  expect_property("cut short or with bytes changed: an answer with reasons, or an error with a hint", [&] {
    Bytes rom = roms[*rc::gen::inRange<std::size_t>(0, roms.size())];
    rom.resize(*rc::gen::inRange<std::size_t>(0, rom.size() + 1));
    for (int i = *rc::gen::inRange(0, 4); i > 0 && !rom.empty(); --i)
      rom[*rc::gen::inRange<std::size_t>(0, rom.size())] = *rc::gen::arbitrary<Byte>();
    auto facts = identify_rom(rom);
    if (facts) {
      find_chip_tags(rom_source(rom), *facts);
      RC_ASSERT(!facts->evidence.empty() && facts->confidence > 0 && facts->confidence <= 1);
    } else {
      RC_ASSERT(!facts.error().hint.empty());
    }
  });
}

TEST(RomHeaders, SavesAreNotTakenForRoms) {
  int taken = 0;
  for (std::uint32_t seed = 0; seed < 2000; ++seed) {
    constexpr std::size_t sizes[] = {512, 2048, 8192, 32768, 65536, 131072};
    if (identify_rom(noise(sizes[seed % 6], seed).view())) ++taken;
  }
  EXPECT_EQ(taken, 0);
  for (const Byte fill : {Byte{0x00}, Byte{0xff}})
    for (const std::size_t size : {8192U, 32768U, 131072U})
      EXPECT_FALSE(identify_rom(Blob::filled(size, fill).view())) << size;
}

TEST(RomDigests, WithAndWithoutTheHeader) {
  const Blob rom = joined({text_blob("0123456789abcdef"), text_blob("abc")});
  const auto whole = digest_rom(rom_source(rom.view()));
  const auto own = digest_rom(rom_source(rom.view()), 16);
  ASSERT_TRUE(whole && own);
  EXPECT_EQ(own->crc32, 0x352441c2U);
  EXPECT_EQ(own->md5, "900150983cd24fb0d6963f7d28e17f72");
  EXPECT_EQ(own->sha1, "a9993e364706816aba3e25717850c26c9cd0d89d");
  EXPECT_EQ(own->sha256, sha256(text_blob("abc").view()).hex());
  EXPECT_NE(whole->md5, own->md5);
  const RomSource broken{100, [](std::uint64_t, std::size_t) { return Blob(); }};
  EXPECT_EQ(digest_rom(broken).error().code, ErrorCode::io);
}

// Programs that real cores ran.
TEST(RomHeaders, ProgramsOfLiveCores) {
  const std::map<std::string, std::pair<Platform, std::size_t>> expected{
      {"gb-mbc2", {Platform::gb, 512}},       {"gb-mbc3rtc", {Platform::gb, 32768}},
      {"gb-mbc5-32k", {Platform::gb, 32768}}, {"snes-8k", {Platform::snes, 8192}},
      {"n64-sram", {Platform::n64, 0}},       {"n64-eep16k", {Platform::n64, 0}}};
  std::size_t seen = 0;
  for (const auto& [path, file] : core_files().files()) {
    if (!path.starts_with("roms/")) continue;
    const std::string program = component(path, 2);
    const auto found = expected.find(program);
    if (found == expected.end()) continue;
    ++seen;
    const auto facts = identify_rom(core_files(), path);
    ASSERT_TRUE(facts) << path;
    EXPECT_EQ(tag(facts->game.platform), tag(found->second.first)) << path;
    if (found->second.second == 0) continue;
    ASSERT_FALSE(facts->chips.empty()) << path;
    EXPECT_EQ(facts->chips.front().size_bytes, found->second.second) << path;
  }
  EXPECT_GE(seen, 12U);
}

std::uint32_t plain_sum(const Bytes& bytes, std::size_t from, std::size_t end) {
  std::uint32_t sum = 0;
  for (std::size_t i = from; i < end; ++i) sum += bytes[i];
  return sum;
}

// As the address lines have it: the part over a power of two again and again.
Bytes filled_up(Bytes rom) {
  const std::size_t whole = std::bit_floor(rom.size());
  Bytes rest(rom.begin() + static_cast<std::ptrdiff_t>(whole), rom.end());
  if (rest.empty()) return rom;
  rest = filled_up(rest);
  while (rom.size() < 2 * whole) {
    const std::size_t at = rom.size() - whole;
    rom.push_back(rest[at % rest.size()]);
  }
  return rom;
}

TEST(RomSums, AreThoseOfTheWholeRom) {
  std::vector<std::pair<Platform, Bytes>> roms;
  Bytes gb = gb_rom(0x1b, 3);
  std::uint32_t sum = plain_sum(gb, 0, gb.size()) - gb[0x14e] - gb[0x14f];
  put(gb, 0x14e, {static_cast<Byte>(sum >> 8), static_cast<Byte>(sum)});
  roms.emplace_back(Platform::gb, gb);
  roms.emplace_back(Platform::gba, gba_rom());
  Bytes md = md_rom({' '});
  put(md, 0x1a0, {0, 0, 0, 0, 0, 0, 0xef, 0xff});
  sum = 0;
  for (std::size_t i = 0x200; i < 0xf000; i += 2) sum += md[i] * 256U + md[i + 1];
  put(md, 0x18e, {static_cast<Byte>(sum >> 8), static_cast<Byte>(sum)});
  roms.emplace_back(Platform::md, md);
  for (const std::size_t size : {0x80000U, 0xc0000U, 0xa0000U}) {
    Bytes snes = snes_rom(0x7fc0, 0x20, size);
    put(snes, 0x7fdc, {0xff, 0xff, 0, 0});
    // The two fields always add up to the same.
    sum = plain_sum(filled_up(snes), 0, filled_up(snes).size());
    put_le16(snes, 0x7fdc, 0xffff - (sum & 0xffff));
    put_le16(snes, 0x7fde, sum & 0xffff);
    roms.emplace_back(Platform::snes, snes);
  }
  Bytes sms = sms_rom(0x7ff0, 4);
  put_le16(sms, 0x7ffa, plain_sum(sms, 0, 0x7ff0) & 0xffff);
  roms.emplace_back(Platform::sms, sms);
  roms.emplace_back(Platform::ws, ws_rom(1));
  roms.emplace_back(Platform::nds, nds_rom());
  for (auto& [platform, rom] : roms) {
    const auto sums = check_rom(platform, rom_source(rom));
    ASSERT_TRUE(sums);
    ASSERT_FALSE(sums->empty()) << tag(platform);
    for (const RomSum& one : *sums) EXPECT_EQ(one.stored, one.computed) << tag(platform) << ' ' << one.what;
    // One bit that fell over.
    rom[platform == Platform::gba || platform == Platform::nds ? 0xa4 : 0x2345] ^= 0x10;
    const auto wrong = check_rom(platform, rom_source(rom));
    EXPECT_TRUE(std::ranges::any_of(*wrong, [](const RomSum& one) { return one.stored != one.computed; }))
        << tag(platform) << ' ' << rom.size();
  }
}

}  // namespace
}  // namespace bayswap::test
