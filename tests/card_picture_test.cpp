// Regions stamped, icons and sheets drawn.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>
#include <bayswap/picture.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(Restamp, CodeNameAndChecksumFollow) {
  for (const CardKind kind : writable_kinds()) {
    const CardSave save = made_save(kind, 1, least_blocks(kind) + 1, 1);
    const bool on_disc = kind == CardKind::ps1 || kind == CardKind::ps2;
    const auto stamped = restamped(save, Region::north_america, on_disc ? "SLUS_999.01" : "");
    if (made_region(kind) == Region::unknown) {
      EXPECT_EQ(stamped.error().code, ErrorCode::unsupported) << to_text(kind);
      continue;
    }
    ASSERT_TRUE(stamped) << to_text(kind);
    EXPECT_EQ(describe(*stamped).region, Region::north_america);
    EXPECT_NE(stamped->name, save.name);
    if (on_disc) {
      EXPECT_EQ(restamped(save, Region::north_america).error().remedy.kind, Remedy::Kind::code);
      EXPECT_EQ(describe(*stamped).code, "SLUS-99901");
    }
    EXPECT_EQ(restamped(*stamped, Region::europe, describe(save).code)->name, save.name);
    EXPECT_FALSE(restamped(save, Region::world)) << "no letter of its own in most cases";
    const auto card = make_card(kind);
    ASSERT_TRUE(card->put(*stamped));
    EXPECT_TRUE(card->check().empty()) << to_text(kind);
  }
}

TEST(Icons, PixelsStandWhereTheConsoleHasThem) {
  // ps1: two pixels a byte, the left one low; colour 1 is pure red, 0 is nothing.
  CardSave save = made_save(CardKind::ps1, 1, 1, 1);
  std::vector<Byte> bytes = bytes_of(save.payload);
  std::fill_n(bytes.begin() + 96, 32 + 128, Byte{0});
  bytes[98] = 0x1f;
  bytes[128] = 0x01;
  save.payload = Blob::copy_of(bytes);
  const SaveIcon ps1 = icon_of(save);
  ASSERT_EQ(ps1.frames.size(), 1U);
  EXPECT_EQ(ps1.frames[0].pixels[0], 0xff0000ffU);
  EXPECT_EQ(ps1.frames[0].pixels[1], 0U);
  // dc: the left one high; 4 bits each of opacity, red, green, blue.
  save = made_save(CardKind::dc, 1, 2, 1);
  bytes = bytes_of(save.payload);
  bytes[98] = 0xf0;
  bytes[99] = 0xf0;
  bytes[128] = 0x10;
  save.payload = Blob::copy_of(bytes);
  ASSERT_EQ(icon_of(save).frames.size(), 1U);
  EXPECT_EQ(icon_of(save).frames[0].pixels[0], 0x00ff00ffU);
  // gc: a banner of 16 bits in tiles of 4 by 4: its 17th word is the fifth pixel of the first row.
  save = made_save(CardKind::gc, 1, 2, 1);
  bytes = bytes_of(save.payload);
  bytes[64 + 32] = 0xfc;
  bytes[64 + 33] = 0x00;
  save.payload = Blob::copy_of(bytes);
  const SaveIcon gc = icon_of(save);
  ASSERT_TRUE(gc.banner);
  EXPECT_EQ(gc.banner->pixels[4], 0xff0000ffU);
  ASSERT_EQ(gc.frames.size(), 1U);
}

TEST(Sheet, EveryKindIsDrawnWhateverItsSavesHold) {
  for (const CardKind kind : writable_kinds()) {
    const auto card = make_card(kind);
    const Picture empty = contact_sheet(*card, "empty");
    for (int i = 1; i <= 4; ++i) ASSERT_TRUE(card->put(made_save(kind, i, least_blocks(kind) + 1, 1)));
    const Picture sheet = contact_sheet(*card, "\xe5\xa1\xa9 and \xff");
    EXPECT_EQ(sheet.width, 1280U);
    EXPECT_GT(sheet.height, empty.height);
    const auto png = to_png(sheet);
    ASSERT_TRUE(png);
    EXPECT_EQ(text_of(png->slice(1, 3)), "PNG");
    EXPECT_EQ(number(*png, 20, 4, true), sheet.height);
  }
  EXPECT_FALSE(to_png(Picture{}));
}

}  // namespace
}  // namespace bayswap::test
