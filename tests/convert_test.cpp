#include <gtest/gtest.h>
#include <bayswap/layout.hpp>

#include "save/pak.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

const Role eeprom{PartKind::eeprom, 0};
const Role sram{PartKind::sram, 0};
const Role flash{PartKind::flash, 0};

Role pak(int number) {
  return {PartKind::pak, number};
}

class Convert : public testing::Test {
 protected:
  Result<Converted> run(std::vector<Save> inputs, std::string_view to, const Blob* base = nullptr,
                        int pak_number = 0, std::vector<ChipFact> chips = {}) {
    return convert(catalog_, {std::move(inputs), &layout(catalog_, to), base, std::move(chips), pak_number});
  }
  Save read(std::string_view id, const Blob& file) { return *unpack(layout(catalog_, id), file); }
  static bool mentions(const std::vector<std::string>& lines, std::string_view word) {
    return std::any_of(lines.begin(), lines.end(),
                       [&](const std::string& line) { return line.find(word) != std::string::npos; });
  }
  Catalog catalog_;
};

TEST_F(Convert, SingleChipsJoinIntoTheCombinedFile) {
  const Blob e = noise(512, 1);
  const Blob s = noise(32768, 2);
  const Blob f = noise(131072, 3);
  const Blob p = noise(32768, 4);
  const auto made =
      run({read("n64.eeprom", e), read("n64.sram", s), read("n64.flash-le", f), read("n64.pak", p)},
          "n64.combined");
  ASSERT_TRUE(made) << made.error().message;
  // Byte for byte as the issue describes the file.
  const Blob expected = joined(
      {e, Blob::filled(1536, 0xff), p, fresh_pak(2), fresh_pak(3), fresh_pak(4), words_reversed(s), f});
  EXPECT_EQ(made->files.front().bytes, expected);
  EXPECT_TRUE(mentions(made->notes, "512 bytes grown to 2048"));
  EXPECT_FALSE(made->empty);
}

TEST_F(Convert, SplitAndJoinGiveTheFileBack) {
  expect_property("separate and back is the identity for what is not blank", [&] {
    Save save{Platform::n64, {}};
    std::vector<Role> roles{eeprom, sram, flash, pak(1), pak(2), pak(3), pak(4)};
    for (const Role role : roles)
      if (*rc::gen::arbitrary<bool>())
        save.parts.push_back({role,
                              noise(layout(catalog_, "n64.combined").slot(role)->file_sizes.front(),
                                    *rc::gen::arbitrary<std::uint32_t>()),
                              true});
    if (save.parts.empty()) return;
    const Blob file = *pack(layout(catalog_, "n64.combined"), save);
    const auto set = *rc::gen::element<std::string>("n64.separate", "n64.separate-le");
    const auto split = run({read("n64.combined", file)}, set);
    RC_ASSERT(split.has_value());
    RC_ASSERT(split->files.size() == save.parts.size());
    std::vector<Save> parts;
    for (const ConvertedFile& part : split->files) {
      parts.push_back(*unpack(*part.layout, part.bytes));
      const std::string name = "stem" + set_suffix(*part.layout, part.role);
      RC_ASSERT(pak_number_in_name(name) == (part.role.number > 1 ? part.role.number : 0));
      if (part.role.kind == PartKind::pak) parts.back().parts.front().role = part.role;
    }
    const auto back = run(parts, "n64.combined");
    RC_ASSERT(back.has_value());
    RC_ASSERT(back->files.front().bytes == file);
  });
}

TEST_F(Convert, EveryLayoutReachesEveryOtherOfTheSameParts) {
  expect_property("there and back again through hardware order", [&] {
    const std::vector<std::pair<std::string, std::string>> ways{
        {"n64.sram", "n64.sram-le"},         {"n64.flash", "n64.flash-le"},
        {"n64.combined", "n64.combined-be"}, {"n64.sram", "n64.combined"},
        {"n64.flash-le", "n64.combined-be"}, {"n64.pak", "n64.combined"},
        {"n64.eeprom", "n64.combined"}};
    const auto [a, b] = ways[*rc::gen::inRange<std::size_t>(0, ways.size())];
    const auto size = *rc::gen::elementOf(layout(catalog_, a).file_sizes());
    const Blob file = noise(size, *rc::gen::arbitrary<std::uint32_t>());
    const auto there = run({read(a, file)}, b);
    RC_ASSERT(there.has_value());
    const auto back = run({read(b, there->files.front().bytes)}, a);
    RC_ASSERT(back.has_value());
    RC_ASSERT(back->files.front().bytes == file);
  });
}

TEST_F(Convert, EepromShrinksOnlyWhereNothingIsLost) {
  const Blob small = noise(512, 1);
  const Blob big = noise(2048, 2);
  const Blob small_combined = run({read("n64.eeprom", small)}, "n64.combined")->files.front().bytes;
  const Blob big_combined = run({read("n64.eeprom", big)}, "n64.combined")->files.front().bytes;
  EXPECT_EQ(run({read("n64.combined", small_combined)}, "n64.eeprom")->files.front().bytes, small);
  EXPECT_EQ(run({read("n64.combined", big_combined)}, "n64.eeprom")->files.front().bytes, big);
  // A file of 2048 bytes has the large chip, whatever is at its end.
  const Blob big_with_blank_tail = joined({small, Blob::filled(1536, 0xff)});
  EXPECT_EQ(run({read("n64.eeprom", big_with_blank_tail)}, "n64.eeprom")->files.front().bytes,
            big_with_blank_tail);
  // The chip is known to be small: what comes after it is left out, and said so.
  const auto cut =
      run({read("n64.combined", big_combined)}, "n64.eeprom", nullptr, 0, {{PartKind::eeprom, 512}});
  ASSERT_TRUE(cut);
  EXPECT_EQ(cut->files.front().bytes, big.slice(0, 512));
  EXPECT_TRUE(mentions(cut->cuts, "not blank"));
  // Known to be large: not cut.
  EXPECT_EQ(run({read("n64.combined", small_combined)}, "n64.eeprom", nullptr, 0, {{PartKind::eeprom, 2048}})
                ->files.front()
                .bytes.size(),
            2048U);
}

TEST_F(Convert, TheTargetsOwnFileTellsTheChip) {
  const Blob combined = run({read("n64.eeprom", noise(2048, 1))}, "n64.combined")->files.front().bytes;
  const Blob own = noise(512, 9);
  const auto refused = run({read("n64.combined", combined)}, "n64.eeprom", &own);
  ASSERT_FALSE(refused) << "1536 bytes would be lost";
  EXPECT_EQ(refused.error().code, ErrorCode::does_not_fit);
  const Blob own_large = noise(2048, 9);
  const Blob small_combined = run({read("n64.eeprom", noise(512, 1))}, "n64.combined")->files.front().bytes;
  EXPECT_EQ(run({read("n64.combined", small_combined)}, "n64.eeprom", &own_large)->files.front().bytes.size(),
            2048U);
}

TEST_F(Convert, GraftKeepsWhatNobodyBrings) {
  const Blob base = noise(296960, 5);
  const Blob s = noise(32768, 6);
  const auto made = run({read("n64.sram", s)}, "n64.combined", &base);
  ASSERT_TRUE(made);
  EXPECT_EQ(made->files.front().bytes,
            joined({base.slice(0, 133120), words_reversed(s), base.slice(165888, 131072)}));
  EXPECT_EQ(made->files.front().brought, std::vector<Role>{sram});
  EXPECT_TRUE(mentions(made->notes, "kept from the target's own file: eeprom, pak1"));
}

TEST_F(Convert, BlankPartsNeverReplaceTheTargets) {
  const Blob base = noise(296960, 5);
  const Blob source =
      *pack(layout(catalog_, "n64.combined-be"), Save{Platform::n64, {{flash, noise(131072, 7), true}}});
  const auto made = run({read("n64.combined-be", source)}, "n64.combined", &base);
  ASSERT_TRUE(made);
  EXPECT_EQ(made->files.front().bytes.slice(0, 165888), base.slice(0, 165888));
  const auto empty = run({read("n64.sram", Blob::filled(32768, 0xff))}, "n64.combined", &base);
  ASSERT_TRUE(empty);
  EXPECT_TRUE(empty->empty);
  EXPECT_EQ(empty->files.front().bytes, base);
}

TEST_F(Convert, GrownEepromKeepsTheBasesFiller) {
  std::vector<Byte> bytes = bytes_of(noise(296960, 5));
  std::fill(bytes.begin() + 512, bytes.begin() + 2048, Byte{0});
  const Blob zero_filled = Blob::copy_of(bytes);
  const auto made = run({read("n64.eeprom", noise(512, 1))}, "n64.combined", &zero_filled);
  EXPECT_EQ(made->files.front().bytes.slice(512, 1536), Blob::filled(1536, 0));
  EXPECT_TRUE(made->warnings.empty());
  const Blob busy = noise(296960, 5);
  EXPECT_TRUE(
      mentions(run({read("n64.eeprom", noise(512, 1))}, "n64.combined", &busy)->warnings, "same game"));
}

TEST_F(Convert, OnePakOutOfFour) {
  const Save two{Platform::n64, {{pak(2), noise(32768, 1), true}, {pak(4), noise(32768, 2), true}}};
  const Blob file = *pack(layout(catalog_, "n64.combined"), two);
  const auto unclear = run({read("n64.combined", file)}, "n64.pak");
  ASSERT_FALSE(unclear);
  EXPECT_EQ(unclear.error().code, ErrorCode::bad_usage);
  EXPECT_NE(unclear.error().message.find("2, 4"), std::string::npos);
  EXPECT_EQ(run({read("n64.combined", file)}, "n64.pak", nullptr, 4)->files.front().bytes, noise(32768, 2));
  const Save one{Platform::n64, {{pak(3), noise(32768, 3), true}}};
  EXPECT_EQ(run({read("n64.combined", *pack(layout(catalog_, "n64.combined"), one))}, "n64.pak")
                ->files.front()
                .bytes,
            noise(32768, 3));
  const auto third = run({read("n64.pak", noise(32768, 8))}, "n64.combined", nullptr, 3);
  EXPECT_EQ(third->files.front().bytes.slice(2048 + 2 * 32768, 32768), noise(32768, 8));
}

TEST_F(Convert, SeveralLonePaksFillThePortsInOrder) {
  const auto made = run({read("n64.pak", noise(32768, 1)), read("n64.pak", noise(32768, 2))}, "n64.combined");
  ASSERT_TRUE(made);
  EXPECT_EQ(made->files.front().bytes.slice(2048, 65536), joined({noise(32768, 1), noise(32768, 2)}));
  EXPECT_FALSE(run(std::vector<Save>(5, read("n64.pak", noise(32768, 1))), "n64.combined")) << "four ports";
}

TEST_F(Convert, WhatDoesNotGoTogetherIsRefusedOrNamed) {
  EXPECT_EQ(run({read("n64.sram", noise(32768, 1)), read("n64.sram", noise(32768, 2))}, "n64.combined")
                .error()
                .code,
            ErrorCode::bad_usage);
  EXPECT_EQ(run({read("n64.sram", noise(32768, 1))}, "n64.flash").error().code, ErrorCode::does_not_fit);
  const Save both{Platform::n64, {{sram, noise(32768, 1), true}, {flash, noise(131072, 2), true}}};
  const auto made = run({both}, "n64.sram");
  ASSERT_TRUE(made);
  EXPECT_TRUE(mentions(made->cuts, "flash holds data"));
  const Blob base = noise(32768, 1);
  EXPECT_FALSE(run({both}, "n64.separate", &base));
  const Save foreign{Platform::gb, {{sram, noise(32768, 1), true}}};
  EXPECT_EQ(run({foreign}, "n64.sram").error().code, ErrorCode::does_not_fit);
  const auto blank =
      run({read("n64.combined", *pack(layout(catalog_, "n64.combined"), Save{Platform::n64, {}}))},
          "n64.separate");
  ASSERT_TRUE(blank);
  EXPECT_TRUE(blank->empty && blank->files.empty());
}

}  // namespace
}  // namespace bayswap::test
