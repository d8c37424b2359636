// scd memories, of which only the last block is known.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(ScdCard, ItsFooterIsReadAndMendedAndItsSavesAreLeftAlone) {
  const auto card = make_card(CardKind::scd);
  const Blob image = card->image();
  ASSERT_EQ(image.size(), 8192U);
  for (std::size_t i = 0; i < 4; ++i) EXPECT_EQ(number(image, 8192 - 48 + 2 * i, 2, true), 125U);
  const auto broken = *open_card(changed(image, 8192 - 48, 0x01));
  EXPECT_EQ(broken->free_blocks(), 125U) << "three of four agree";
  EXPECT_EQ(broken->repair(), 1U);
  EXPECT_EQ(broken->image(), image);
  EXPECT_EQ(card->read("ANY").error().code, ErrorCode::unsupported);
  EXPECT_EQ(card->put(CardSave{CardKind::scd, "ANY", {}, {}, {}, {}}).error().code, ErrorCode::unsupported);
}

}  // namespace
}  // namespace bayswap::test
