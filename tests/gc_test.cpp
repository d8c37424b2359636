// gc cards: two copies of directory and table, with checksums and counters.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

struct GcSystem {
  std::size_t directory[2];
  std::size_t table[2];
};
void expect_gc_sums(const Blob& image, const char* when) {
  const auto pair = [&](std::size_t from, std::size_t to, std::size_t at) {
    unsigned plain = 0;
    unsigned inverse = 0;
    for (std::size_t i = from; i < to; i += 2) {
      plain += static_cast<unsigned>(number(image, i, 2, true));
      inverse += static_cast<unsigned>(number(image, i, 2, true)) ^ 0xffffU;
    }
    plain &= 0xffffU;
    inverse &= 0xffffU;
    EXPECT_EQ(number(image, at, 2, true), plain == 0xffff ? 0 : plain) << when;
    EXPECT_EQ(number(image, at + 2, 2, true), inverse == 0xffff ? 0 : inverse) << when;
  };
  pair(0, 508, 508);
  for (const std::size_t block : {1U, 2U}) pair(block * 8192, block * 8192 + 8188, block * 8192 + 8188);
  for (const std::size_t block : {3U, 4U}) pair(block * 8192 + 4, (block + 1) * 8192, block * 8192);
}
GcSystem counters(const Blob& image) {
  return {{number(image, 8192 + 8186, 2, true), number(image, 16384 + 8186, 2, true)},
          {number(image, 3 * 8192 + 4, 2, true), number(image, 4 * 8192 + 4, 2, true)}};
}

TEST(GcCard, CountersMoveAndBackupsAlternate) {
  const auto card = std::move(*make_card(CardKind::gc, {59, 0, "", 1935655200, true}));
  Blob before = card->image();
  EXPECT_EQ(before.size(), 524288U);
  EXPECT_EQ(number(before, 34, 2, true), 4U) << "megabits";
  EXPECT_EQ(number(before, 36, 2, true), 1U) << "Shift-JIS";
  EXPECT_EQ(number(before, 12, 8, true), (1935655200U - 946684800U) * std::size_t{40500000});
  EXPECT_EQ(number(before, 4 * 8192 + 6, 2, true), 59U);
  EXPECT_EQ(number(before, 4 * 8192 + 8, 2, true), 4U);
  expect_gc_sums(before, "fresh");
  for (int i = 1; i <= 3; ++i) {
    ASSERT_TRUE(card->put(made_save(CardKind::gc, i, 2, 1)));
    const Blob after = card->image();
    expect_gc_sums(after, "after a put");
    const GcSystem was = counters(before);
    const GcSystem is = counters(after);
    const std::size_t newer = was.directory[1] > was.directory[0] ? 0 : 1;  // the older copy is written
    EXPECT_EQ(is.directory[newer], was.directory[1 - newer] + 1);
    EXPECT_EQ(is.table[newer], was.table[1 - newer] + 1);
    EXPECT_EQ(after.slice((2 - newer) * 8192, 8192), before.slice((2 - newer) * 8192, 8192))
        << "the other one stays";
    EXPECT_EQ(number(after, (3 + newer) * 8192 + 6, 2, true), 59U - 2 * static_cast<std::size_t>(i));
    EXPECT_EQ(number(after, (3 + newer) * 8192 + 8, 2, true), 4U + 2 * static_cast<std::size_t>(i))
        << "last given";
    before = after;
  }
  // Blocks are given on from the last one, not from the first free one.
  ASSERT_TRUE(card->drop("G99P99.kelp01"));
  ASSERT_TRUE(card->put(made_save(CardKind::gc, 4, 1, 1)));
  EXPECT_EQ(card->map()[11].use, BlockUse::save);
  EXPECT_EQ(card->map()[5].use, BlockUse::free);
}

TEST(GcCard, OneBrokenCopyIsMendedFromTheOther) {
  const auto card = make_card(CardKind::gc);
  ASSERT_TRUE(card->put(made_save(CardKind::gc, 1, 3, 1)));
  for (const std::size_t block : {1U, 2U, 3U, 4U}) {
    const auto broken = *open_card(changed(card->image(), block * 8192 + 40, 0x40));
    EXPECT_FALSE(broken->check().empty());
    // Where the newer copy was hit the older one counts, as on the console, and there the save has no blocks
    // yet.
    // Block 1 is the newer copy of the directory: the save's blocks have no owner in the other one, so that
    // nothing is freed, and nothing copied over what may still name them.
    const Blob before = broken->image();
    EXPECT_EQ(broken->repair(), block == 1 ? 0U : 1U) << block;
    EXPECT_EQ(broken->image() == before, block == 1) << block;
    EXPECT_EQ(broken->check().empty(), block == 2 || block == 4) << "the older copies are mended whole";
    for (const CardProblem& problem : broken->check()) EXPECT_FALSE(problem.repairable) << problem.text;
    const auto rescue = rescue_card(changed(card->image(), block * 8192 + 40, 0x40));
    ASSERT_TRUE(rescue);
    EXPECT_FALSE(rescue->saves.empty()) << "rescue looks into both";
  }
}

}  // namespace
}  // namespace bayswap::test
