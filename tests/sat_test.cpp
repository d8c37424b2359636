// sat memories: spread and packed, internal and cartridge.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(SatCard, SpreadMemoryKeepsWhatStandsBetween) {
  const auto card = std::move(*make_card(CardKind::sat, {0, 0, "spread", 0, false}));
  std::vector<Byte> image = bytes_of(card->image());
  ASSERT_EQ(image.size(), 65536U);
  for (std::size_t i = 0; i < image.size(); i += 2) {
    ASSERT_EQ(image[i], 0xff);
    image[i] = static_cast<Byte>(i / 2);
  }
  const auto odd = *open_card(Blob::copy_of(image));
  EXPECT_EQ(odd->form(), "spread");
  const CardSave save = made_save(CardKind::sat, 1, 40, 1);
  ASSERT_TRUE(odd->put(save));
  const Blob after = odd->image();
  for (std::size_t i = 0; i < image.size(); i += 2) ASSERT_EQ(after.view()[i], image[i]);
  const std::size_t first = 2 * 64 * 2 + 1;
  EXPECT_EQ(after.view()[first], 0x80);
  EXPECT_EQ(after.view()[first + 2 * 4], 'L');
  // The list of 39 further blocks goes on in the second block after its tag.
  EXPECT_EQ(after.view()[first + 2 * (0x22 + 1)], 3) << "the second block";
  EXPECT_EQ((*open_card(after))->read(save.name)->payload, save.payload);
  EXPECT_EQ((*open_card(after))->entries()[0].language, "en");
}

TEST(SatCard, CartridgesHaveLargerBlocks) {
  for (const CardSize& size : card_sizes(CardKind::sat)) {
    const auto card = std::move(*make_card(CardKind::sat, {size.blocks, size.image_bytes, "", 0, false}));
    EXPECT_EQ(card->image().size(), size.image_bytes);
    EXPECT_EQ(card->block_bytes() * (card->capacity_blocks() + 2), size.image_bytes);
    ASSERT_TRUE(card->put(made_save(CardKind::sat, 1, 9, 1)));
    EXPECT_TRUE(card->check().empty());
  }
}

}  // namespace
}  // namespace bayswap::test
