// Controller paks.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(PakCard, FourInAFileAreOpenedBySlot) {
  const auto pak = make_card(CardKind::n64);
  ASSERT_TRUE(pak->put(made_save(CardKind::n64, 7, 3, 1)));
  const Blob blank = make_card(CardKind::n64)->image();
  for (const Blob& file : {joined({blank, blank, pak->image(), blank}),
                           joined({noise(2048, 1), blank, blank, pak->image(), blank, noise(163840, 2)})}) {
    EXPECT_EQ(card_slots(file.view()), 4);
    EXPECT_TRUE((*open_card(file))->entries().empty());
    const auto third = *open_card(file, 3);
    EXPECT_EQ(third->entries()[0].name, "N99P.SKIFF07");
    EXPECT_EQ(third->image(), file);
    ASSERT_TRUE(third->drop("N99P.SKIFF07"));
    EXPECT_TRUE((*open_card(third->image(), 3))->entries().empty());
    EXPECT_EQ(open_card(file, 5).error().code, ErrorCode::bad_usage);
  }
  EXPECT_EQ(open_card(blank, 2).error().code, ErrorCode::bad_usage);
}

}  // namespace
}  // namespace bayswap::test
