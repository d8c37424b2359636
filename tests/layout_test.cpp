// What must hold for every layout there is. Walks the catalog, so that a new layout is covered without new
// code.
#include <gtest/gtest.h>
#include <bayswap/layout.hpp>

#include "layout/byte_order.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

class EveryLayout : public testing::TestWithParam<std::string> {
 protected:
  Catalog catalog_;
  const Layout& layout_ = layout(catalog_, GetParam());
};

TEST_P(EveryLayout, PackAndUnpackAreInverses) {
  expect_property("pack(unpack(x), x) == x and unpack(pack(s)) == s", [&] {
    const auto size = *rc::gen::elementOf(layout_.file_sizes());
    const Blob file = arbitrary_bytes(size);
    const auto save = unpack(layout_, file);
    RC_ASSERT(save.has_value());
    RC_ASSERT(*pack(layout_, *save, &file) == file);
    const auto packed = pack(layout_, *save);
    RC_ASSERT(packed.has_value());
    const auto again = unpack(layout_, *packed);
    RC_ASSERT(again.has_value());
    for (std::size_t i = 0; i < save->parts.size(); ++i) {
      RC_ASSERT(save->parts[i].role == again->parts[i].role);
      RC_ASSERT(save->parts[i].bytes == again->parts[i].bytes);
    }
  });
}

TEST_P(EveryLayout, PartsStandWhereTheLayoutSays) {
  // By the definition, one byte at a time: file byte `at + i` belongs to chip byte `i` turned within its
  // word.
  expect_property("each chip byte comes from its place", [&] {
    const auto size = *rc::gen::elementOf(layout_.file_sizes());
    const Blob file = noise(size, *rc::gen::arbitrary<std::uint32_t>());
    const auto save = unpack(layout_, file);
    for (const Slot& slot : layout_.slots) {
      const Part* part = save->find(slot.role);
      const std::size_t mask = slot.order == ByteOrder::swap16   ? 1
                               : slot.order == ByteOrder::swap32 ? 3
                               : slot.order == ByteOrder::swap64 ? 7
                                                                 : 0;
      for (std::size_t i = 0; i < part->bytes.size(); i += 1 + i / 64)
        RC_ASSERT(part->bytes.view()[i] == file.view()[slot.at + (i ^ mask)]);
    }
  });
}

TEST_P(EveryLayout, OtherSizesAreRefused) {
  for (const std::size_t size : layout_.file_sizes())
    for (const std::size_t wrong : {std::size_t{0}, std::size_t{1}, size / 2, size - 1, size + 1, 2 * size}) {
      const auto sizes = layout_.file_sizes();
      if (std::find(sizes.begin(), sizes.end(), wrong) != sizes.end()) continue;
      const auto save = unpack(layout_, Blob::filled(wrong, 0x5a));
      ASSERT_FALSE(save) << wrong;
      EXPECT_EQ(save.error().code, ErrorCode::does_not_fit);
      EXPECT_FALSE(save.error().hint.empty());
      const Blob odd_shell = Blob::filled(wrong, 0x5a);
      EXPECT_FALSE(pack(layout_, Save{layout_.platform, {}}, &odd_shell)) << wrong;
    }
}

TEST_P(EveryLayout, NothingBroughtMakesABlankFile) {
  const auto file = pack(layout_, Save{layout_.platform, {}});
  ASSERT_TRUE(file);
  const auto save = unpack(layout_, *file);
  ASSERT_TRUE(save);
  EXPECT_TRUE(save->is_blank());
}

TEST_P(EveryLayout, GraftChangesOnlyTheGraftedPart) {
  expect_property("bytes outside the part's slot stay", [&] {
    const auto size = *rc::gen::elementOf(layout_.file_sizes());
    const Blob shell = noise(size, 1);
    const auto own = unpack(layout_, shell);
    const Slot& slot = *rc::gen::elementOf(layout_.slots);
    const std::size_t room = own->find(slot.role)->bytes.size();
    const Save save{layout_.platform, {{slot.role, noise(room, 2), true}}};
    const auto file = pack(layout_, save, &shell);
    RC_ASSERT(file.has_value());
    RC_ASSERT(file->slice(0, slot.at) == shell.slice(0, slot.at));
    RC_ASSERT(file->slice(slot.at + room, size) == shell.slice(slot.at + room, size));
    RC_ASSERT(unpack(layout_, *file)->find(slot.role)->bytes == save.parts.front().bytes);
  });
}

std::vector<std::string> single_files() {
  static const Catalog catalog;
  std::vector<std::string> ids;
  for (const Layout* layout : catalog.all())
    if (!layout->is_set()) ids.push_back(layout->id);
  return ids;
}

INSTANTIATE_TEST_SUITE_P(Catalog, EveryLayout, testing::ValuesIn(single_files()), [](const auto& row) {
  std::string name = row.param;
  for (char& c : name)
    if (c == '.' || c == '-') c = '_';
  return name;
});

TEST(Layout, ShellAndFillAroundTheParts) {
  const auto mine = parse_layout(R"(id = "n64.mine"
platform = "n64"
name = "a header, a gap and a trailer"
size = 40
fill = 85
[[part]]
role = "sram"
at = 24
size = 8
order = "swap64"
[[part]]
role = "eeprom"
at = 4
size = 8
order = "swap16"
)",
                                 "f");
  ASSERT_TRUE(mine) << mine.error().message;
  const Save save{Platform::n64,
                  {{{PartKind::eeprom, 0}, text_blob("abcdefgh"), true},
                   {{PartKind::sram, 0}, text_blob("12345678"), true}}};
  EXPECT_EQ(text_of(*pack(*mine, save)), "UUUUbadcfehgUUUUUUUUUUUU87654321UUUUUUUU");
  const Blob shell = text_blob("HEAD........-- the gap -........TRAILER!");
  EXPECT_EQ(text_of(*pack(*mine, save, &shell)), "HEADbadcfehg-- the gap -87654321TRAILER!");
}

TEST(Layout, APartOfTheWrongSizeOrPlaceIsRefused) {
  const Catalog catalog;
  const Save small{Platform::n64, {{{PartKind::sram, 0}, noise(512, 1), true}}};
  EXPECT_EQ(pack(layout(catalog, "n64.sram"), small).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(pack(layout(catalog, "n64.flash"), small).error().code, ErrorCode::does_not_fit);
  const Save odd{Platform::n64, {{{PartKind::eeprom, 0}, noise(1000, 1), true}}};
  EXPECT_EQ(pack(layout(catalog, "n64.eeprom"), odd).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(unpack(layout(catalog, "n64.separate"), noise(512, 1)).error().code, ErrorCode::bad_usage);
}

TEST(ByteOrder, IsItsOwnInverse) {
  expect_property("twice turned is as before", [] {
    const auto order =
        *rc::gen::element(ByteOrder::chip, ByteOrder::swap16, ByteOrder::swap32, ByteOrder::swap64);
    const Blob in = noise(8 * *rc::gen::inRange<std::size_t>(0, 100), *rc::gen::arbitrary<std::uint32_t>());
    std::vector<Byte> once(in.size());
    std::vector<Byte> twice(in.size());
    copy_ordered(order, in.view(), once);
    copy_ordered(order, once, twice);
    RC_ASSERT(Blob::copy_of(twice) == in);
  });
}

}  // namespace
}  // namespace bayswap::test
