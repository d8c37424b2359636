// What must hold for every layout there is. Walks the catalog, so that a new layout is covered without new
// code.
#include <gtest/gtest.h>
#include <bayswap/layout.hpp>

#include <bit>

#include "layout/byte_order.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

// The largest chips are no other than large ones; a property over them only takes longer.
std::vector<std::size_t> small(std::vector<std::size_t> sizes) {
  std::erase_if(sizes, [&](std::size_t size) { return size > 300000 && size != sizes.front(); });
  return sizes;
}

// How many bytes come after the part of several sizes.
std::size_t behind_bytes(const Layout& layout) {
  const Slot* variable_slot = layout.variable_slot();
  return layout.file_sizes().front() - variable_slot->at - variable_slot->file_sizes.front();
}

class EveryLayout : public testing::TestWithParam<std::string> {
 protected:
  Catalog catalog_;
  const Layout& layout_ = layout(catalog_, GetParam());

  // Megabytes are no other than kilobytes; they only take longer.
  [[nodiscard]] int examples() const { return layout_.file_sizes().front() > 1000000 ? 3 : 100; }
};

// Bytes that a part of that slot can have come out of: all of them, but for clocks that can't be said in its
// form.
bool any_part_fits(const Slot& slot) {
  return slot.encoding == Encoding::plain;
}

TEST_P(EveryLayout, PackAndUnpackAreInverses) {
  expect_property_of(examples(), "pack(unpack(x), x) == x and unpack(pack(s)) == s", [&] {
    const auto size = *rc::gen::elementOf(small(layout_.file_sizes()));
    const Blob file = arbitrary_bytes(size);
    const auto save = unpack(layout_, file);
    RC_ASSERT(save.has_value());
    RC_ASSERT(*pack(layout_, *save, &file) == file);
    const auto packed = pack(layout_, *save);
    RC_ASSERT(packed.has_value());
    RC_ASSERT(packed->size() == size);
    const auto again = unpack(layout_, *packed);
    RC_ASSERT(again.has_value());
    for (std::size_t i = 0; i < save->parts.size(); ++i) {
      RC_ASSERT(save->parts[i].role == again->parts[i].role);
      RC_ASSERT(save->parts[i].bytes == again->parts[i].bytes);
    }
  });
}

TEST_P(EveryLayout, PartsStandWhereTheLayoutSays) {
  // By the definition, one byte at a time: chip byte `i` turned within its word is at `at + i`, or on its
  // lane of every other address, or in half a byte.
  expect_property_of(examples(), "each chip byte comes from its place", [&] {
    const auto size = *rc::gen::elementOf(small(layout_.file_sizes()));
    const Blob file = noise(size, *rc::gen::arbitrary<std::uint32_t>());
    const ByteView bytes = file.view();
    const auto save = unpack(layout_, file);
    for (const Slot& slot : layout_.slots) {
      const Part* part = save->find(slot.role);
      const std::size_t mask = slot.order == ByteOrder::swap16   ? 1
                               : slot.order == ByteOrder::swap32 ? 3
                               : slot.order == ByteOrder::swap64 ? 7
                                                                 : 0;
      const std::size_t at = slot.after_variable ? size - behind_bytes(layout_) + slot.at : slot.at;
      for (std::size_t i = 0; i < part->bytes.size(); i += 1 + i / 64) {
        const Byte chip = part->bytes.view()[i];
        std::size_t from = i ^ mask;
        if (slot.interleave != Interleave::none)
          from = 2 * from + (slot.parity == AddressParity::odd ? 1 : 0);
        switch (slot.encoding) {
          case Encoding::plain:
            RC_ASSERT(chip == bytes[at + from]);
            break;
          case Encoding::nibbles:
            RC_ASSERT((chip & 0x0f) == (bytes[at + from] & 0x0f));
            break;
          case Encoding::nibbles_packed:
            RC_ASSERT((chip & 0x0f) == (i % 2 == 0 ? bytes[at + i / 2] & 0x0f : bytes[at + i / 2] >> 4));
            break;
          case Encoding::clock44:
            RC_ASSERT(chip == (i < 44 ? bytes[at + i] : 0));
            break;
          case Encoding::clock_start:
            RC_ASSERT(chip == (i < 40 ? 0 : bytes[at + i - 40]));
            break;
          case Encoding::pages_ecc:  // but for bits that its ECC sets right, one a chunk
            RC_ASSERT(std::popcount(static_cast<unsigned>(chip ^ bytes[at + i / 512 * 528 + i % 512])) <= 1);
            break;
        }
      }
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
  expect_property_of(examples(), "bytes outside the part's slot stay", [&] {
    const auto size = *rc::gen::elementOf(small(layout_.file_sizes()));
    const Blob shell = noise(size, 1);
    const auto own = unpack(layout_, shell);
    const Slot& slot = *rc::gen::elementOf(layout_.slots);
    const std::size_t room = own->find(slot.role)->bytes.size();
    const Save save{layout_.platform, {{slot.role, noise(room, 2), true}}};
    const auto file = pack(layout_, save, &shell);
    RC_ASSERT(file.has_value());
    const auto place = layout_.place(slot, size);
    RC_ASSERT(file->slice(0, place.at) == shell.slice(0, place.at));
    RC_ASSERT(file->slice(place.at + place.size, size) == shell.slice(place.at + place.size, size));
    if (any_part_fits(slot))
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

TEST(Layout, WhatMeansNothingIsShell) {
  const Catalog catalog;
  const Layout& nibbles = layout(catalog, "gb.nibbles");
  const Save save{Platform::gb, {{{PartKind::sram, 0}, Blob::filled(512, 0xf5), true}}};
  EXPECT_EQ(*pack(nibbles, save), Blob::filled(512, 0xf5)) << "an open bus reads F";
  const Blob shell = Blob::filled(512, 0xa7);
  EXPECT_EQ(*pack(nibbles, save, &shell), Blob::filled(512, 0xa5)) << "upper halves are kept";

  const Layout& doubled = layout(catalog, "md.doubled");
  std::vector<Byte> own(16384, 0x11);
  own[0] = 0x99;  // beside a byte that stays
  const Blob odd = Blob::copy_of(own);
  auto parts = unpack(doubled, odd);
  std::vector<Byte> chip = bytes_of(parts->parts.front().bytes);
  chip[1] = 0x22;
  parts->parts.front().bytes = Blob::copy_of(chip);
  own[2] = own[3] = 0x22;
  EXPECT_EQ(*pack(doubled, *parts, &odd), Blob::copy_of(own))
      << "the double follows its byte, the rest stays";
}

TEST(Layout, TheClockSaysTheSameTimeInEveryForm) {
  const Catalog catalog;
  expect_property("registers and the time they were written, against the time the clock stood at zero", [&] {
    const std::uint64_t now = *rc::gen::inRange<std::uint64_t>(800000000, 4000000000);
    const std::uint64_t elapsed = *rc::gen::inRange<std::uint64_t>(0, 512 * 86400 - 1);
    std::vector<Byte> clock(48);
    const std::uint64_t days = elapsed / 86400;
    const std::uint64_t registers[] = {elapsed % 60, elapsed / 60 % 60, elapsed / 3600 % 24, days % 256,
                                       days / 256};
    for (std::size_t i = 0; i < 5; ++i) clock[4 * i] = clock[20 + 4 * i] = static_cast<Byte>(registers[i]);
    for (std::size_t i = 0; i < 8; ++i) clock[40 + i] = static_cast<Byte>(now >> (8 * i));
    const Save save{Platform::gb, {{{PartKind::rtc, 0}, Blob::copy_of(clock), true}}};
    const Blob start = *pack(layout(catalog, "gb.clock8"), save);
    std::uint64_t zero = 0;
    for (std::size_t i = 8; i-- > 0;) zero = zero << 8 | start.view()[i];
    RC_ASSERT(zero == now - elapsed);
    const auto back = unpack(layout(catalog, "gb.clock8"), start);
    RC_ASSERT(*pack(layout(catalog, "gb.clock8"), *back) == start);
    const auto in_44 = unpack(layout(catalog, "gb.rtc44"), *pack(layout(catalog, "gb.rtc44"), save));
    RC_ASSERT(in_44->find({PartKind::rtc, 0})->bytes == Blob::copy_of(clock));
  });
}

TEST(Layout, ATrailerMovesWithThePartInFrontOfIt) {
  const Catalog catalog;
  const Layout& trailer = layout(catalog, "nds.trailer");
  const auto chip = [](std::size_t size, std::uint32_t seed) {
    return Save{Platform::nds, {{{PartKind::flash, 0}, noise(size, seed), true}}};
  };
  const Blob small = *pack(trailer, chip(512, 1));
  const Blob large = *pack(trailer, chip(8192, 2));
  EXPECT_EQ(small.size(), 512U + 122);
  EXPECT_EQ(small.slice(0, 512), noise(512, 1));
  // Onto a shell of another size: the fixed words are the shell's, the sizes are new.
  std::vector<Byte> marked = bytes_of(small);
  marked[512 + 3] = '#';
  const Blob shell = Blob::copy_of(marked);
  const Blob grown = *pack(trailer, chip(8192, 2), &shell);
  EXPECT_EQ(grown.slice(0, 8192), large.slice(0, 8192));
  EXPECT_EQ(grown.view()[8192 + 3], '#');
  EXPECT_EQ(grown.slice(8192 + 82, 200), large.slice(8192 + 82, 200));
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
