#include <gtest/gtest.h>
#include <bayswap/save.hpp>

#include "save/pak.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(Platform, TagsGoBothWays) {
  for (int i = 0; i <= static_cast<int>(Platform::x360); ++i) {
    const auto platform = static_cast<Platform>(i);
    ASSERT_FALSE(tag(platform).empty());
    EXPECT_EQ(platform_from_tag(tag(platform)), platform);
  }
  EXPECT_EQ(tag(Platform::n3ds), "3ds");
  EXPECT_FALSE(platform_from_tag("N64"));
}

TEST(Role, WordsGoBothWays) {
  for (const char* word : {"eeprom", "sram", "flash", "pak", "pak1", "pak4"})
    EXPECT_EQ(to_text(*role_from_text(word)), word);
  for (const char* word : {"", "pak0", "pak5", "pak12", "sram1", "Eeprom"})
    EXPECT_FALSE(role_from_text(word)) << word;
}

TEST(GameId, ComparesByCodeThenRegionThenRevision) {
  const GameId game{Platform::n64, "N99P", "LANTERN SKIFF", Region::europe, 0};
  GameId other = game;
  EXPECT_EQ(compare(game, other), GameMatch::same);
  other.title = "A TRANSLATION";
  EXPECT_EQ(compare(game, other), GameMatch::same) << "the code decides";
  other.revision = 1;
  EXPECT_EQ(compare(game, other), GameMatch::other_revision);
  other.code = "N99E";
  EXPECT_EQ(compare(game, other), GameMatch::other_region);
  other.code = "N98P";
  EXPECT_EQ(compare(game, other), GameMatch::other_game);
  other = game;
  other.platform = Platform::gb;
  EXPECT_EQ(compare(game, other), GameMatch::other_game);
  const GameId plain{Platform::n64, "", "Home Brew", Region::unknown, 0};
  EXPECT_EQ(compare(plain, GameId{Platform::n64, "", "HOME BREW", Region::unknown, 0}), GameMatch::same);
  EXPECT_EQ(compare(plain, GameId{Platform::n64, "", "OTHER", Region::unknown, 0}), GameMatch::other_game);
  const GameId nameless{Platform::nes, "", "", Region::unknown, 0};
  EXPECT_EQ(compare(nameless, nameless), GameMatch::unknown)
      << "no two cartridges without a name are the same";
}

// The fields of a formatted pak, checked by their definition and not by the code that writes them.
TEST(Pak, FreshOneHoldsWhatAConsoleExpects) {
  for (int number = 1; number <= 4; ++number) {
    const Blob pak = fresh_pak(number);
    ASSERT_EQ(pak.size(), 32768U);
    const ByteView b = pak.view();
    for (const std::size_t id : {0x20U, 0x60U, 0x80U, 0xc0U}) {
      unsigned sum = 0;
      for (std::size_t i = 0; i < 28; i += 2) sum += static_cast<unsigned>(b[id + i] << 8 | b[id + i + 1]);
      EXPECT_EQ(b[id + 28] << 8 | b[id + 29], sum & 0xffff) << "checksum of the ID sector";
      EXPECT_EQ(b[id + 30] << 8 | b[id + 31], (0xfff2 - sum) & 0xffff) << "its inverse";
      EXPECT_EQ(b[id + 25] & 1, 1) << "device: memory";
      EXPECT_EQ(b[id + 26], 1) << "banks";
      EXPECT_TRUE(std::equal(b.begin() + 0x20, b.begin() + 0x40, b.begin() + static_cast<std::ptrdiff_t>(id)))
          << "four copies";
    }
    unsigned index_sum = 0;
    for (std::size_t i = 0x10a; i < 0x200; ++i) index_sum += b[i];
    EXPECT_EQ(b[0x101], index_sum & 0xff) << "index table checksum";
    for (std::size_t i = 0x10a; i < 0x200; i += 2) EXPECT_EQ(b[i] << 8 | b[i + 1], 3) << "free page at " << i;
    EXPECT_TRUE(std::equal(b.begin() + 0x100, b.begin() + 0x200, b.begin() + 0x200))
        << "backup of the index table";
    EXPECT_TRUE(std::all_of(b.begin() + 0x300, b.end(), [](Byte x) { return x == 0; }))
        << "no notes, no data";
    EXPECT_EQ(sound_pak_ids(b), 4);
    EXPECT_TRUE(is_unused_pak(b));
  }
  EXPECT_FALSE(fresh_pak(1) == fresh_pak(2)) << "consoles tell paks apart by their serial number";
  EXPECT_TRUE(fresh_pak(3) == fresh_pak(3));
}

TEST(Pak, AnythingLeftInItMakesItNotBlank) {
  expect_property("one byte in tables or pages and the pak is in use", [] {
    const Blob fresh = fresh_pak(1);
    std::vector<Byte> bytes = bytes_of(fresh);
    auto at = *rc::gen::inRange<std::size_t>(0x10a, bytes.size());
    if (at >= 0x200 && at < 0x20a)
      at += 10;  // the copy's entries for the system's own pages hold nothing of a game's
    bytes[at] = static_cast<Byte>(bytes[at] ^ *rc::gen::inRange(1, 255));
    const Part part{{PartKind::pak, 1}, Blob::copy_of(bytes), true};
    RC_ASSERT(!is_blank(part));
  });
}

TEST(Part, BlankIsAllZeroOrAllOnes) {
  const auto blank = [](Blob bytes) { return is_blank(Part{{PartKind::sram, 0}, std::move(bytes), true}); };
  EXPECT_TRUE(blank(Blob::filled(512, 0x00)));
  EXPECT_TRUE(blank(Blob::filled(512, 0xff)));
  EXPECT_FALSE(blank(Blob::filled(512, 0x55)));
  EXPECT_FALSE(blank(joined({Blob::filled(511, 0xff), Blob::filled(1, 0)})));
  EXPECT_FALSE(blank(fresh_pak(1))) << "only a pak can be a formatted pak";
  EXPECT_TRUE(is_blank(Part{{PartKind::pak, 0}, fresh_pak(2), true}));
}

class Health : public testing::Test {
 protected:
  static std::vector<std::string> codes(const Blob& bytes, PartKind kind = PartKind::sram) {
    std::vector<std::string> out;
    for (const DumpDefect& defect : defects(Part{{kind, 0}, bytes, true})) {
      EXPECT_EQ(defect.certain, defect.code == "unwritten");
      EXPECT_FALSE(defect.text.empty() || defect.hint.empty());
      if (out.empty() || out.back() != defect.code) out.push_back(defect.code);
    }
    return out;
  }
  using Codes = std::vector<std::string>;
};

TEST_F(Health, PowerOnPatternsHoldNoSave) {
  std::vector<Byte> bytes(32768);
  for (const std::size_t stretch : {1U, 2U, 16U, 128U}) {
    for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = (i / stretch) % 2 == 0 ? 0x00 : 0xff;
    EXPECT_EQ(codes(Blob::copy_of(bytes)), Codes{"unwritten"}) << stretch;
    bytes[20000] ^= 1;
    EXPECT_EQ(codes(Blob::copy_of(bytes)), Codes{}) << "a single byte of the game's";
  }
}

TEST_F(Health, MirrorsAreSuspicious) {
  const Blob small = noise(8192, 1);
  EXPECT_EQ(codes(joined({small, small})), Codes{"mirrored"});
  EXPECT_EQ(codes(joined({small, small, small, small})), Codes{"mirrored"});
  EXPECT_EQ(codes(joined({noise(512, 1), noise(512, 1)}), PartKind::eeprom), Codes{"mirrored"});
}

TEST_F(Health, AStuckBitIsFoundInEitherState) {
  for (int bit = 0; bit < 8; ++bit)
    for (const bool high : {false, true}) {
      std::vector<Byte> bytes = bytes_of(noise(32768, 7));
      const auto mask = static_cast<Byte>(1 << bit);
      for (Byte& b : bytes) b = static_cast<Byte>(high ? b | mask : b & ~mask);
      EXPECT_EQ(codes(Blob::copy_of(bytes)), Codes{"stuck-bit"}) << bit << high;
    }
  const std::string text = "LANTERN SKIFF 0123456789 lantern skiff ";
  std::string file;
  while (file.size() < 8191) file += text + static_cast<char>(' ' + file.size() % 90);
  EXPECT_EQ(codes(text_blob(file.substr(0, 8191))), Codes{}) << "text has no bit 7, and needs none";
}

TEST_F(Health, AnEmptyHalfBesideAFullOne) {
  EXPECT_EQ(codes(joined({noise(16384, 1), Blob::filled(16384, 0xff)})), Codes{"half-empty"});
  EXPECT_EQ(codes(joined({Blob::filled(16384, 0), noise(16384, 1)})), Codes{"half-empty"});
}

TEST_F(Health, SoundPartsBlankOnesAndPaksAreLeftAlone) {
  for (std::uint32_t seed = 0; seed < 50; ++seed) EXPECT_EQ(codes(noise(32768, seed)), Codes{});
  EXPECT_EQ(codes(Blob::filled(32768, 0xff)), Codes{}) << "blank is said elsewhere";
  EXPECT_EQ(codes(pattern(32768, 0x31)), Codes{});
  EXPECT_EQ(codes(joined({noise(16384, 1), noise(16384, 1)}), PartKind::pak), Codes{});
  EXPECT_EQ(codes(Blob()), Codes{});
  EXPECT_EQ(codes(noise(511, 1)), Codes{});
}

}  // namespace
}  // namespace bayswap::test
