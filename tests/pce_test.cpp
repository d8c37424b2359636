// pce memories.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/core_files.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(PceCard, AFreshOneIsAsALiveCoreFormatsIt) {
  const auto file = core_files().read("pce/pce-fresh/coreF/N/Tideward (World).srm");
  ASSERT_TRUE(file) << file.error().message;
  EXPECT_EQ(make_card(CardKind::pce)->image(), *file);
}

TEST(PceCard, EntriesMoveUpAndThePointerFollows) {
  const auto card = make_card(CardKind::pce);
  for (int i = 1; i <= 3; ++i) ASSERT_TRUE(card->put(made_save(CardKind::pce, i, 100, 1)));
  EXPECT_EQ(number(card->image(), 6, 2, false), 0x8010U + 300);
  ASSERT_TRUE(card->drop("0099.FOG SIG02"));
  const Blob image = card->image();
  EXPECT_EQ(number(image, 6, 2, false), 0x8010U + 200);
  EXPECT_EQ(number(image, 16 + 200, 2, false), 0U) << "no entry behind the last one";
  EXPECT_EQ(image.slice(16 + 100 + 4, 12), made_save(CardKind::pce, 3, 100, 1).entry.slice(4, 12));
}

}  // namespace
}  // namespace bayswap::test
