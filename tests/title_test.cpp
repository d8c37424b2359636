#include <gtest/gtest.h>
#include <bayswap/title.hpp>

#include <map>

#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(N64Rom, ReadsTheSameInAllThreeByteOrders) {
  expect_property("order changes nothing but itself", [] {
    RomWords words;
    words.title = *rc::gen::container<std::string>(rc::gen::inRange('A', 'Z'));
    words.title.resize(std::min<std::size_t>(words.title.size(), 20));
    words.code = {"NCDE"[*rc::gen::inRange(0, 4)], '9', *rc::gen::inRange('0', '9'),
                  "JEPUDFX"[*rc::gen::inRange(0, 7)]};
    words.revision = static_cast<Byte>(*rc::gen::inRange(0, 16));
    for (const RomOrder order : {RomOrder::native, RomOrder::swap16, RomOrder::swap32}) {
      words.order = order;
      const auto facts = identify_rom(n64_rom(words).view());
      RC_ASSERT(facts.has_value());
      RC_ASSERT(facts->order == order);
      RC_ASSERT(facts->game.platform == Platform::n64);
      RC_ASSERT(facts->game.title == words.title);
      RC_ASSERT(facts->game.code == words.code);
      RC_ASSERT(facts->game.revision == words.revision);
      RC_ASSERT(facts->game.region != Region::unknown);
      RC_ASSERT(facts->confidence > 0.9);
      RC_ASSERT(!facts->evidence.empty());
    }
  });
}

TEST(N64Rom, RegionIsTheCodesLastLetter) {
  const auto region = [](char letter) {
    RomWords words;
    words.code.back() = letter;
    return identify_rom(n64_rom(words).view())->game.region;
  };
  EXPECT_EQ(region('E'), Region::north_america);
  EXPECT_EQ(region('J'), Region::japan);
  EXPECT_EQ(region('P'), Region::europe);
  EXPECT_EQ(region('D'), Region::germany);
  EXPECT_EQ(region('U'), Region::australia);
  EXPECT_EQ(region('7'), Region::unknown);
}

TEST(RegionLetters, AreOneTableForEachFamily) {
  const std::string north_america = "North America";
  const std::map<Platform, std::map<char, std::string>> wanted{
      {Platform::nds,
       {{'O', "World"},
        {'V', "Europe"},
        {'L', north_america},
        {'M', "Scandinavia"},
        {'N', "Scandinavia"},
        {'Q', "Scandinavia"},
        {'R', "Europe"},
        {'T', north_america},
        {'W', "Europe"},
        {'P', "Europe"}}},
      {Platform::wii,
       {{'A', "World"},
        {'W', "Asia"},
        {'N', north_america},
        {'L', "Europe"},
        {'M', "Europe"},
        {'Q', "Korea"},
        {'T', "Korea"},
        {'E', north_america}}},
      {Platform::n3ds, {{'A', "World"}, {'P', "Europe"}, {'J', "Japan"}}},
      {Platform::n64, {{'A', "Asia"}, {'W', "Scandinavia"}, {'N', "Canada"}, {'B', "Brazil"}}}};
  for (const auto& [platform, letters] : wanted)
    for (const auto& [letter, region] : letters) {
      EXPECT_EQ(name(region_of_letter(platform, letter)), region) << tag(platform) << letter;
      EXPECT_EQ(name(region_of_code(platform, std::string("AB9") + letter)), region)
          << tag(platform) << letter;
    }
}

TEST(N64Rom, OtherBusSettingsNeedTitleAndCode) {
  std::vector<Byte> rom = bytes_of(n64_rom());
  rom[1] = 0x27;
  rom[2] = 0x07;
  ASSERT_TRUE(identify_rom(rom));
  EXPECT_LT(identify_rom(rom)->confidence, 0.9);
  rom[0x3c] = 0;
  EXPECT_FALSE(identify_rom(rom));
}

TEST(N64Rom, BlankCodeIsAProgramWithoutOne) {
  RomWords words;
  words.code = std::string(4, '\0');
  const auto facts = identify_rom(n64_rom(words).view());
  ASSERT_TRUE(facts);
  EXPECT_EQ(facts->game.code, "");
  EXPECT_EQ(facts->game.region, Region::unknown);
}

TEST(Rom, AnythingElseIsRefusedWithAHint) {
  for (const std::size_t size : {0U, 1U, 63U})
    EXPECT_FALSE(identify_rom(n64_rom().slice(0, size).view())) << size;
  EXPECT_TRUE(identify_rom(n64_rom().slice(0, 64).view())) << "the header alone is enough";
  expect_property("noise is no ROM, and never read past its end", [] {
    const auto size = *rc::gen::inRange<std::size_t>(0, 200);
    auto bytes = noise(size, *rc::gen::arbitrary<std::uint32_t>());
    const auto facts = identify_rom(bytes.view());
    if (facts) RC_ASSERT(bytes.view()[0] == 0x80 || bytes.view()[1] == 0x80 || bytes.view()[3] == 0x80);
    if (!facts) RC_ASSERT(facts.error().code == ErrorCode::not_recognised && !facts.error().hint.empty());
  });
}

}  // namespace
}  // namespace bayswap::test
