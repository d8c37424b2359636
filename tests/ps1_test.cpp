// ps1 cards.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/core_files.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(Ps1Card, DeletedSavesStayReadableUntilTheirBlocksAreTaken) {
  const auto card = make_card(CardKind::ps1);
  const CardSave save = made_save(CardKind::ps1, 1, 3, 1);
  ASSERT_TRUE(card->put(save));
  ASSERT_TRUE(card->drop(save.name));
  ASSERT_EQ(card->entries().size(), 1U);
  EXPECT_EQ(card->entries()[0].state, CardEntry::State::deleted);
  ASSERT_TRUE(card->put(made_save(CardKind::ps1, 2, 12, 2))) << "blocks that were never used go first";
  EXPECT_EQ(card->entries()[0].state, CardEntry::State::deleted);
  ASSERT_TRUE(card->put(made_save(CardKind::ps1, 3, 1, 3)));
  EXPECT_EQ(card->entries().size(), 2U) << "now it is gone";
}

TEST(Ps1Card, AFreshOneIsAsALiveCoreFormatsIt) {
  const auto file = core_files().read("ps1/ps1-card/coreR/N/card1.mcd");
  ASSERT_TRUE(file) << file.error().message;
  std::vector<Byte> theirs = bytes_of(*file);
  const std::vector<Byte> ours = bytes_of(make_card(CardKind::ps1)->image());
  // The console leaves what comes after the list of broken frames erased, and the mark in the frame it
  // tests writing with; that core leaves zeros.
  EXPECT_TRUE(is_uniform(ByteView(theirs).subspan(36 * 128, 28 * 128)));
  for (std::size_t at = 36 * 128; at < 63 * 128; ++at) ASSERT_EQ(ours[at], 0xff);
  std::copy_n(ours.begin() + 36 * 128, 28 * 128, theirs.begin() + 36 * 128);
  EXPECT_EQ(Blob::copy_of(ours), Blob::copy_of(theirs));
}

}  // namespace
}  // namespace bayswap::test
