// Checksums against the check values that their definitions give for the nine digits, and as properties.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/save_checksum.hpp>

#include <algorithm>

#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

const std::string digits = "123456789";

std::vector<Byte> digits_with_room(std::size_t room) {
  std::vector<Byte> save(digits.begin(), digits.end());
  save.resize(save.size() + room);
  return save;
}

std::uint64_t value_over_digits(const ChecksumForm& form) {
  const std::vector<Byte> save = digits_with_room(size_of(form));
  const auto value = value_of({form, {{0, digits.size()}}, digits.size(), true}, save);
  EXPECT_TRUE(value);
  std::uint64_t number = 0;
  for (const Byte b : *value) number = number << 8 | b;
  return number;
}

TEST(Checksums, CrcsHaveTheirCheckValues) {
  const std::vector<std::pair<std::string, std::uint32_t>> known{{"crc8-07", 0xf4},
                                                                 {"crc16-1021", 0x31c3},
                                                                 {"crc16-1021-ffff", 0x29b1},
                                                                 {"crc16-1021-r", 0x2189},
                                                                 {"crc16-1021-r-ffff", 0x6f91},
                                                                 {"crc16-1021-r-ffff-n", 0x906e},
                                                                 {"crc16-8005", 0xfee8},
                                                                 {"crc16-8005-r", 0xbb3d},
                                                                 {"crc16-8005-r-ffff", 0x4b37},
                                                                 {"crc32", 0xcbf43926},
                                                                 {"crc32-r-ffff", 0x340bc6d9},
                                                                 {"crc32-high-ffff", 0x0376e6e7},
                                                                 {"crc32-high-ffff-n", 0xfc891918}};
  ASSERT_EQ(usual_crcs().size(), known.size());
  for (const auto& [name, value] : known) {
    const auto form = std::ranges::find(usual_crcs(), name, [](const auto& row) { return row.first; });
    ASSERT_NE(form, usual_crcs().end()) << name;
    EXPECT_EQ(value_over_digits({.kind = ChecksumForm::Kind::crc, .crc = form->second}), value) << name;
  }
}

TEST(Checksums, SumsAndDigests) {
  EXPECT_EQ(value_over_digits({.kind = ChecksumForm::Kind::adler32}), 0x091e01deU);
  EXPECT_EQ(value_over_digits({.bits = 16}), 0x1ddU);
  EXPECT_EQ(value_over_digits({.bits = 8, .negated = true}), 0x23U);
  EXPECT_EQ(value_over_digits({.bits = 16, .complemented = true}), 0xfe22U);
  EXPECT_EQ(value_over_digits({.bits = 16, .unit_bytes = 2, .unit_big_endian = true}),
            (0x3132U + 0x3334 + 0x3536 + 0x3738 + 0x3900) & 0xffff);
  EXPECT_EQ(value_over_digits({.bits = 32, .unit_bytes = 4, .start = 7}),
            0x34333231U + 0x38373635U + 0x39U + 7);
  EXPECT_EQ(value_over_digits({.kind = ChecksumForm::Kind::exclusive_or, .bits = 8}), 0x31U);
  const std::vector<Byte> save = digits_with_room(20);
  const auto hex = [&](ChecksumForm::Kind kind) {
    std::string text;
    const auto value = value_of({{.kind = kind}, {{0, 9}}, 9}, save);
    for (const Byte b : *value) text += fmt::format("{:02x}", b);
    return text;
  };
  EXPECT_EQ(hex(ChecksumForm::Kind::md5), "25f9e794323b453885f5181f1b624d0b");
  EXPECT_EQ(hex(ChecksumForm::Kind::sha1), "f7c3bc1d808e04732adf679965ccc34ca7ae3441");
}

TEST(Checksums, InnerOnesAreMadeRightFirst) {
  rc::check("whatever changes, recomputing makes all of them right and touches nothing else", [] {
    std::vector<Byte> save = bytes_of(noise(4096, *rc::gen::inRange<std::uint32_t>(0, 1000)));
    // Records of 64 bytes with a sum each, a CRC over eight of them, a digest over everything.
    std::vector<Checksum> checksums;
    for (std::size_t at = 64; at < 64 + 512; at += 64)
      checksums.push_back({{.bits = 16}, {{at + 2, at + 64}}, at, false});
    checksums.push_back(
        {{.kind = ChecksumForm::Kind::crc, .crc = usual_crcs()[9].second}, {{64, 576}}, 576, true});
    checksums.push_back({{.kind = ChecksumForm::Kind::sha1}, {{0, 2000}, {2020, 4096}}, 2000});
    checksums.push_back({{.bits = 32, .negated = true}, {{0, 4096}}, 4092, false});
    std::rotate(checksums.begin(), checksums.begin() + *rc::gen::inRange<std::ptrdiff_t>(0, 11),
                checksums.end());
    // The last two cover each other unless one leaves the other out.
    for (Checksum& checksum : checksums)
      if (checksum.form.kind == ChecksumForm::Kind::sha1) checksum.ranges = {{0, 2000}, {2020, 4092}};
    ASSERT_TRUE(recompute(checksums, save));
    const std::vector<Byte> before = save;
    const auto where = *rc::gen::inRange<std::size_t>(66, 576);
    save[where] = static_cast<Byte>(save[where] ^ 0x5a);
    const auto wrong = recompute(checksums, save);
    RC_ASSERT(wrong);
    for (const Checksum& checksum : checksums) RC_ASSERT(*holds(checksum, save));
    for (std::size_t i = 0; i < save.size(); ++i) {
      const bool is_checksum = std::ranges::any_of(
          checksums, [&](const Checksum& one) { return i >= one.at && i < one.at + size_of(one.form); });
      if (!is_checksum && i != where) RC_ASSERT(save[i] == before[i]);
    }
    RC_ASSERT(recompute(checksums, save)->empty());
  });
  const std::vector<Checksum> knot{{{.bits = 16}, {{8, 16}}, 0}, {{.bits = 16}, {{0, 8}}, 8}};
  EXPECT_EQ(recompute_order(knot).error().code, ErrorCode::bad_usage);
}

TEST(Checksums, WhatIsOutsideIsRefusedAndNothingWritten) {
  std::vector<Byte> save(100, 7);
  const std::vector<Byte> before = save;
  const std::vector<Checksum> checksums{{{.bits = 16}, {{0, 50}}, 60}, {{.bits = 16}, {{0, 101}}, 70}};
  EXPECT_EQ(recompute(checksums, save).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(save, before);
  EXPECT_FALSE(value_of({{.bits = 32}, {{0, 10}}, 98}, save));
  EXPECT_FALSE(value_of({{.bits = 32}, {{0, 10}}, ~std::size_t{0}}, save));
  EXPECT_FALSE(value_of({{.bits = 32}, {{10, 5}}, 0}, save));
}

}  // namespace
}  // namespace bayswap::test
