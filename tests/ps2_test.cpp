// ps2 cards: pages with their spare bytes, clusters, deleted saves.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include "support/card_bytes.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

// The code as its definition has it, a bit at a time.
std::array<Byte, 3> slow_ecc(ByteView chunk) {
  unsigned column = 0;
  unsigned set = 0;
  unsigned clear = 0;
  for (unsigned i = 0; i < 128; ++i)
    for (unsigned bit = 0; bit < 8; ++bit) {
      if (((chunk[i] >> bit) & 1U) == 0) continue;
      column ^= bit | (~bit & 7U) << 4U;
      set ^= i;
      clear ^= ~i & 0x7fU;
    }
  // Columns: the low three bits count the bits whose number has a bit clear, the high three those with it
  // set.
  const unsigned swapped = (column & 7U) << 4U | (column >> 4U);
  return {static_cast<Byte>(~swapped & 0x77U), static_cast<Byte>(~clear & 0x7fU),
          static_cast<Byte>(~set & 0x7fU)};
}

TEST(Ps2Card, SpareBytesAreAsTheDefinitionSays) {
  const auto card = make_card(CardKind::ps2);
  ASSERT_TRUE(card->put(made_save(CardKind::ps2, 1, 40, 1)));
  const Blob image = card->image();
  ASSERT_EQ(image.size(), 8650752U);
  EXPECT_EQ(number(image, 48, 4, false), 8192U);
  EXPECT_EQ(number(image, 52, 4, false), 41U);
  EXPECT_EQ(number(image, 56, 4, false), 8135U);
  EXPECT_EQ(number(image, 64, 4, false), 1023U);
  EXPECT_EQ(number(image, 80, 4, false), 8U);
  for (std::size_t page = 0; page < 16384; page += page < 200 ? 1 : 97) {
    const ByteView raw = image.view().subspan(page * 528, 528);
    if (std::all_of(raw.begin(), raw.end(), [](Byte b) { return b == 0xff; })) continue;  // erased
    for (std::size_t chunk = 0; chunk < 4; ++chunk) {
      const auto code = slow_ecc(raw.subspan(chunk * 128, 128));
      for (std::size_t i = 0; i < 3; ++i) ASSERT_EQ(raw[512 + 3 * chunk + i], code[i]) << "page " << page;
    }
    ASSERT_EQ(number(image, page * 528 + 524, 4, false), 0U);
  }
}

TEST(Ps2Card, OneWrongBitIsMendedTwoAreNamed) {
  const auto card = make_card(CardKind::ps2);
  const CardSave save = made_save(CardKind::ps2, 1, 20, 1);
  ASSERT_TRUE(card->put(save));
  const Blob sound = card->image();
  expect_property_of(20, "a bit flipped anywhere in pages that are in use", [&] {
    const std::size_t page = *rc::gen::element<std::size_t>(0, 16, 82, 84, 88, 100);
    const std::size_t at = page * 528 + *rc::gen::inRange<std::size_t>(0, 524);
    const Blob flipped = changed(sound, at, static_cast<Byte>(1U << *rc::gen::inRange(0, 8)));
    const auto opened = open_card(flipped);
    RC_ASSERT(opened.has_value());
    RC_ASSERT((*opened)->read(save.name)->same_content(save));
    RC_ASSERT((*opened)->image() == flipped);  // nothing changes that nobody changed
    // The top bit of each code byte, and the columns' unused one, mean nothing.
    if (!(*opened)->check().empty()) {
      RC_ASSERT((*opened)->repair() == 1U);
      RC_ASSERT((*opened)->image() == sound);
    }
  });
  const std::size_t data = 100 * 528 + 300;
  const Blob twice = changed(changed(sound, data, 0x01), data + 1, 0x10);
  const auto broken = *open_card(twice);
  EXPECT_TRUE(reports(*broken, "more bits are wrong", false));
  EXPECT_EQ(broken->read(save.name).error().code, ErrorCode::damaged);
  EXPECT_EQ(broken->carve(twice.size()).front().confidence, FoundSave::Confidence::doubtful);
}

TEST(Ps2Card, DeletedSavesStayUntilTheirClustersAreTaken) {
  for (const std::string& form : {std::string("plain"), std::string("ecc")}) {
    const auto card = std::move(*make_card(CardKind::ps2, {0, 0, form, 1935655200, false}));
    const CardSave save = made_save(CardKind::ps2, 1, 30, 1);
    ASSERT_TRUE(card->put(save));
    ASSERT_TRUE(card->drop(save.name));
    ASSERT_EQ(card->entries().size(), 1U);
    EXPECT_EQ(card->entries()[0].state, CardEntry::State::deleted);
    const auto found = card->carve(card->image().size());
    ASSERT_EQ(found.size(), 1U);
    EXPECT_TRUE(found[0].deleted);
    EXPECT_TRUE(found[0].save.same_content(save));
    EXPECT_EQ(describe(found[0].save).modified, 1935748800 + 9 * 3600)
        << "the clock is nine hours ahead of UTC";
  }
}

TEST(Ps2Card, EverySizeIsLaidOutAsItsOwn) {
  for (const CardSize& size : card_sizes(CardKind::ps2)) {
    const auto card = std::move(*make_card(CardKind::ps2, {size.blocks, 0, "plain", 0, false}));
    EXPECT_EQ(card->image().size(), size.image_bytes);
    EXPECT_EQ(card->free_blocks(), size.blocks);
    ASSERT_TRUE(card->put(made_save(CardKind::ps2, 1, 300, 1)));
    EXPECT_TRUE(card->check().empty());
  }
}

// As programs exchange it: entries and whole clusters, one after the other.
TEST(Ps2Card, ASaveInOneFileIsReadAndWritten) {
  const auto card = make_card(CardKind::ps2);
  const CardSave made = made_save(CardKind::ps2, 1, 40, 1);
  ASSERT_TRUE(card->put(made));
  const CardSave save = *card->read(made.name);
  const auto file = to_single_save(save);
  ASSERT_TRUE(file) << file.error().message;
  EXPECT_EQ(number(*file, 0, 2, false), 0x8427U);
  EXPECT_EQ(number(*file, 4, 4, false), save.files.size() + 2);
  EXPECT_EQ(number(*file, 16, 4, false), 0U) << "no place on a card";
  EXPECT_EQ((*file).view()[512 + 64], '.');
  EXPECT_EQ((*file).view()[1024 + 65], '.');
  std::size_t at = 1536;
  for (const CardFile& one : save.files) {
    EXPECT_EQ(number(*file, at + 4, 4, false), one.bytes.size());
    EXPECT_EQ(file->slice(at + 512, one.bytes.size()), one.bytes);
    at += 512 + (one.bytes.size() + 1023) / 1024 * 1024;
  }
  EXPECT_EQ(file->size(), at);
  const auto fresh = make_card(CardKind::ps2);
  ASSERT_TRUE(fresh->put(*single_save_from(*file)));
  EXPECT_TRUE(fresh->check().empty());
  EXPECT_TRUE(fresh->read(save.name)->same_content(save));

  // The last file may end where its bytes do; what ends earlier is no save.
  const std::size_t bare =
      at - ((save.files.back().bytes.size() + 1023) / 1024 * 1024 - save.files.back().bytes.size());
  ASSERT_TRUE(single_save_from(file->slice(0, bare)));
  EXPECT_TRUE(single_save_from(file->slice(0, bare))->same_content(save));
  expect_property_of(
      200, "a file that ends early, or has a wrong entry, is no save; nothing runs over the end", [&] {
        const std::size_t end = *rc::gen::inRange<std::size_t>(0, bare);
        if (const auto cut = single_save_from(file->slice(0, end))) RC_ASSERT(cut->kind != CardKind::ps2);
        const std::size_t where =
            *rc::gen::element<std::size_t>(0, 4, 5, 6, 512, 576, 577, 1088, 1089, 1090, 1536, 1540, 1600);
        const Blob odd = changed(*file, where, *rc::gen::arbitrary<Byte>());
        if (const auto read = single_save_from(odd)) RC_ASSERT(read->files.size() <= save.files.size());
      });
  // Names that lead out, or come twice.
  for (const std::string_view name : {"..", ".", "a/b", ""}) {
    std::vector<Byte> bytes(file->view().begin(), file->view().end());
    std::fill_n(bytes.begin() + 1536 + 64, 32, Byte{0});
    std::ranges::copy(name, bytes.begin() + 1536 + 64);
    const auto read = single_save_from(Blob::copy_of(bytes));
    EXPECT_TRUE(!read || read->kind != CardKind::ps2) << name;
  }
}

}  // namespace
}  // namespace bayswap::test
