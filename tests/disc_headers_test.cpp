// Discs and newer programs, told by what their consoles look for; each built here by its definition.
#include <bayswap/title.hpp>

#include "base/endian.hpp"
#include "support/property.hpp"
#include "support/roms.hpp"

namespace bayswap::test {
namespace {

using roms::disc;

class Image {
 public:
  explicit Image(std::size_t size) : bytes_(bytes_of(noise(size, 9))) {}
  Image& text(std::size_t at, std::string_view words) {
    std::ranges::copy(words, bytes_.begin() + static_cast<std::ptrdiff_t>(at));
    return *this;
  }
  Image& field(std::size_t at, std::size_t size, std::string_view words, char fill = ' ') {
    std::fill_n(bytes_.begin() + static_cast<std::ptrdiff_t>(at), size, static_cast<Byte>(fill));
    return text(at, words);
  }
  Image& word(std::size_t at, std::uint32_t value) {
    put_be32(bytes_, at, value);
    return *this;
  }
  Image& little(std::size_t at, std::size_t count, std::uint64_t value) {
    put_le(bytes_, at, count, value);
    return *this;
  }
  std::vector<Byte> bytes_;
};

RomFacts facts_of(const std::vector<Byte>& bytes) {
  const auto facts = identify_rom(ByteView(bytes));
  EXPECT_TRUE(facts) << facts.error().message;
  return facts ? *facts : RomFacts{};
}

TEST(DiscHeaders, GcAndWii) {
  Image gc(0x2000);
  gc.field(0, 8, std::string_view("G99P99\0\2", 8), 0)
      .word(0x18, 0)
      .word(0x1C, 0xC2339F3D)
      .field(0x20, 64, "KELP PARADE", 0);
  const RomFacts kelp = facts_of(gc.bytes_);
  EXPECT_EQ(kelp.game.platform, Platform::gc);
  EXPECT_EQ(kelp.game.code, "G99P");
  EXPECT_EQ(kelp.game.maker, "99");
  EXPECT_EQ(kelp.game.title, "KELP PARADE");
  EXPECT_EQ(kelp.game.region, Region::europe);
  EXPECT_EQ(kelp.game.revision, 2);
  Image wii(0x2000);
  wii.field(0, 8, std::string_view("HZ9E99\0\0", 8), 0)
      .word(0x18, 0x5D1C9EA3)
      .word(0x1C, 0)
      .field(0x20, 64, "HARBOUR LIGHT", 0);
  const RomFacts light = facts_of(wii.bytes_);
  EXPECT_EQ(light.game.platform, Platform::wii);
  EXPECT_EQ(title_id_text(light.game), "00010000/485A3945") << "the lower half is the code";
  EXPECT_EQ(light.game.region, Region::north_america);
}

// The words that the consoles look for are makers' names, so they are given as bytes.
const std::string sat_magic = "\x53\x45\x47\x41\x20\x53\x45\x47\x41\x53\x41\x54\x55\x52\x4E\x20";
const std::string dc_magic = "\x53\x45\x47\x41\x20\x53\x45\x47\x41\x4B\x41\x54\x41\x4E\x41\x20";
const std::string scd_magic = "\x53\x45\x47\x41\x44\x49\x53\x43\x53\x59\x53\x54\x45\x4D\x20\x20";

TEST(DiscHeaders, TheFirstSectorPlainAndRaw) {
  Image sat(0x4000);
  sat.text(0, sat_magic).field(0x20, 10, "T-99001H").field(0x40, 10, "E").field(0x60, 112, "LOW TIDE RALLY");
  EXPECT_EQ(facts_of(sat.bytes_).game.title, "LOW TIDE RALLY");
  EXPECT_EQ(facts_of(sat.bytes_).game.region, Region::europe);
  std::vector<Byte> raw{0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0, 2, 0, 1};
  raw.insert(raw.end(), sat.bytes_.begin(), sat.bytes_.end());
  EXPECT_EQ(facts_of(raw).game.code, "T-99001H") << "behind synchronisation and address";
  Image dc(0x4000);
  dc.text(0, dc_magic).field(0x30, 8, "JUE").field(0x40, 10, "T99002D").field(0x80, 128, "BRASS TERN");
  EXPECT_EQ(facts_of(dc.bytes_).game.platform, Platform::dc);
  EXPECT_EQ(facts_of(dc.bytes_).game.region, Region::world);
  EXPECT_EQ(facts_of(dc.bytes_).game.title, "BRASS TERN");
  Image scd(0x4000);
  scd.text(0, scd_magic)
      .field(0x150, 48, "ROPEWALK CD")
      .field(0x180, 14, "GM T-99003-00")
      .field(0x1F0, 3, "J");
  EXPECT_EQ(facts_of(scd.bytes_).game.platform, Platform::scd);
  EXPECT_EQ(facts_of(scd.bytes_).game.region, Region::japan);
}

TEST(DiscHeaders, TheFileThatNamesTheProgram) {
  const std::string one = "BOOT = cdrom:\\SLES_990.01;1\r\nTCB = 4\r\n";
  for (const auto& [stride, lead] : {std::pair<std::size_t, std::size_t>{2048, 0}, {2352, 16}, {2352, 24}}) {
    const RomFacts facts = facts_of(disc("SYSTEM.CNF", one, stride, lead));
    EXPECT_EQ(facts.game.platform, Platform::ps1);
    EXPECT_EQ(facts.game.code, "SLES-99001");
    EXPECT_EQ(facts.game.region, Region::europe);
  }
  const RomFacts two = facts_of(disc("SYSTEM.CNF", "BOOT2 = cdrom0:\\SLUS_990.02;1\r\nVER = 1.00\r\n"));
  EXPECT_EQ(two.game.platform, Platform::ps2);
  EXPECT_EQ(two.game.code, "SLUS-99002");
  EXPECT_EQ(two.game.region, Region::north_america);
  const RomFacts psp = facts_of(disc("UMD_DATA.BIN", "ULJM-99031|0123456789ABCDEF|0001|G"));
  EXPECT_EQ(psp.game.platform, Platform::psp);
  EXPECT_EQ(psp.game.code, "ULJM99031") << "as its saves' folders have it";
  EXPECT_EQ(psp.game.region, Region::japan);
  EXPECT_FALSE(identify_rom(ByteView(disc("SYSTEM.CNF", "nothing here"))));
  EXPECT_FALSE(identify_rom(ByteView(disc("SYSTEM.CNF", "BOOT = cdrom:\\\x1b[31m.01;1"))));
  expect_property("whatever becomes of a disc's folders, they are read within it", [&] {
    std::vector<Byte> bytes = disc("SYSTEM.CNF", one);
    for (int i = *rc::gen::inRange(1, 10); i > 0; --i)
      bytes[16 * 2048 + *rc::gen::inRange<std::size_t>(0, 3 * 2048)] = *rc::gen::arbitrary<Byte>();
    bytes.resize(*rc::gen::inRange<std::size_t>(0, bytes.size() + 1));
    (void)identify_rom(ByteView(bytes));
  });
}

TEST(ProgramHeaders, CartridgesOf3dsAndProgramsOfX360) {
  Image card(0x8000);
  card.word(0x100, 0x4E435344).little(0x120, 4, 0x4000 / 512);
  card.word(0x4100, 0x4E434348)
      .field(0x4110, 2, "99")
      .little(0x4118, 8, 0x000400000FF99200)
      .field(0x4150, 16, "CTR-P-AB9P", 0);
  const RomFacts brine = facts_of(card.bytes_);
  EXPECT_EQ(brine.game.platform, Platform::n3ds);
  EXPECT_EQ(brine.game.code, "AB9P");
  EXPECT_EQ(title_id_text(brine.game), "00040000/0FF99200");
  EXPECT_EQ(brine.game.region, Region::europe);
  card.little(0x120, 4, 0xFFFFFFFF);
  EXPECT_FALSE(identify_rom(ByteView(card.bytes_)));
  Image program(0x4000);
  program.word(0, 0x58455832)
      .word(20, 2)
      .word(24, 0x000103FF)
      .word(28, 0)
      .word(32, 0x00040006)
      .word(36, 0x1000)
      .word(0x100C, 0x5A5A0993);
  EXPECT_EQ(facts_of(program.bytes_).game.title_id, 0x5A5A0993U);
  program.word(20, 0xFFFFFFFF);
  EXPECT_FALSE(identify_rom(ByteView(program.bytes_)));
}

}  // namespace
}  // namespace bayswap::test
