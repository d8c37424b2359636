// dc memories: data from the top, games from the bottom.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(DcCard, DataFromTheTopGamesFromTheBottom) {
  const auto card = make_card(CardKind::dc);
  const Blob fresh = card->image();
  for (std::size_t block = 0; block < 241; ++block)
    ASSERT_EQ(number(fresh, 254 * 512 + 2 * block, 2, false), 0xfffcU);
  EXPECT_EQ(number(fresh, 254 * 512 + 2 * 255, 2, false), 0xfffaU);
  EXPECT_EQ(number(fresh, 254 * 512 + 2 * 253, 2, false), 252U);
  EXPECT_EQ(number(fresh, 254 * 512 + 2 * 241, 2, false), 0xfffaU);
  EXPECT_EQ(number(fresh, 255 * 512, 2, false), 0x5555U);
  EXPECT_EQ(number(fresh, 255 * 512 + 0x46, 2, false), 254U);
  EXPECT_EQ(number(fresh, 255 * 512 + 0x50, 2, false), 200U);
  ASSERT_TRUE(card->put(made_save(CardKind::dc, 1, 3, 1)));
  Blob image = card->image();
  EXPECT_EQ(number(image, 253 * 512 + 2, 2, false), 199U);
  EXPECT_EQ(number(image, 254 * 512 + 2 * 199, 2, false), 198U);
  EXPECT_EQ(number(image, 254 * 512 + 2 * 197, 2, false), 0xfffaU);
  CardSave game = made_save(CardKind::dc, 2, 5, 2);
  std::vector<Byte> entry = bytes_of(game.entry);
  entry[0] = 0xcc;
  entry[26] = 1;
  game.entry = Blob::copy_of(entry);
  ASSERT_TRUE(card->put(game));
  image = card->image();
  EXPECT_EQ(number(image, 253 * 512 + 32 + 2, 2, false), 0U);
  EXPECT_EQ(number(image, 254 * 512, 2, false), 1U);
  EXPECT_TRUE(card->check().empty());
  entry[5] = 'X';
  game.entry = Blob::copy_of(entry);
  const auto second = card->put(game);
  ASSERT_FALSE(second);
  EXPECT_EQ(second.error().code, ErrorCode::does_not_fit) << "a second game has no place";
}

TEST(DcCard, AFilesChecksumIsLookedAt) {
  const auto card = make_card(CardKind::dc);
  ASSERT_TRUE(card->put(made_save(CardKind::dc, 1, 4, 1)));
  const auto broken = *open_card(changed(card->image(), 197 * 512 + 7, 1));
  EXPECT_TRUE(reports(*broken, "TERN_01: checksum", false));
  EXPECT_EQ(broken->carve(131072).front().confidence, FoundSave::Confidence::doubtful);
  EXPECT_EQ(card->entries()[0].modified, 1935664200) << "2031-05-04 12:30 on its clock";
}

}  // namespace
}  // namespace bayswap::test
