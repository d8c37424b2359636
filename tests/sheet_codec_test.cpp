// How single values are stored: numbers, texts, times and scrambles there and back.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "sheet/codec.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using namespace sheets;

NumberForm drawn_form() {
  NumberForm form;
  form.is_bcd = *rc::gen::inRange(0, 4) == 0;
  form.bits = form.is_bcd ? 4 * *rc::gen::inRange(1U, 9U) : *rc::gen::inRange(1U, 57U);
  form.bit = *rc::gen::inRange(0U, 8U);
  form.is_signed = !form.is_bcd && form.bits > 1 && *rc::gen::arbitrary<bool>();
  form.big_endian = *rc::gen::arbitrary<bool>();
  form.times = *rc::gen::element(1, 1, 2, 10, -1);
  form.plus = *rc::gen::inRange(-1000, 1000);
  form.per = *rc::gen::element(1, 1, 10, 60, 256, 3);
  return form;
}

TEST(SheetCodec, NumbersComeBackAndTouchNoOtherBit) {
  expect_property("numbers", [] {
    const NumberForm form = drawn_form();
    const auto [low, high] = range_of(form);
    const auto span = static_cast<std::uint64_t>((high - low) / (form.times < 0 ? -form.times : form.times));
    const auto step = *rc::gen::inRange<std::uint64_t>(0, span + 1 == 0 ? span : span + 1);
    const SheetNumber value = low + SheetNumber{step} * (form.times < 0 ? -form.times : form.times);
    std::vector<Byte> bytes =
        *rc::gen::container<std::vector<Byte>>(form.size_bytes(), rc::gen::arbitrary<Byte>());
    const std::vector<Byte> before = bytes;
    RC_ASSERT(write_number(form, value, bytes).has_value());
    RC_ASSERT(read_number(form, bytes) == value);
    // Bits outside of the field are as they were.
    std::uint64_t changed = 0;
    for (std::size_t i = 0; i < bytes.size(); ++i)
      changed |= std::uint64_t{static_cast<Byte>(bytes[i] ^ before[i])}
                 << 8 * (form.big_endian ? bytes.size() - 1 - i : i);
    const std::uint64_t own = ((std::uint64_t{1} << form.bits) - 1) << form.bit;
    RC_ASSERT((changed & ~own) == 0U);
    // What is written for people is read as the same number.
    const Sheet none;
    for (const Show show : {Show::plain, Show::hex, Show::duration}) {
      NumberForm shown = form;
      shown.show = show;
      RC_ASSERT(number_from_text(none, shown, number_text(none, shown, value)) == value);
    }
    RC_ASSERT(!write_number(form, high + 1, bytes).has_value());
    RC_ASSERT(!write_number(form, low - 1, bytes).has_value());
  });
}

TEST(SheetCodec, TimesOfACalendar) {
  const Sheet none;
  NumberForm time;
  time.bits = 32;
  time.show = Show::time;
  for (const auto& [seconds, text] : {std::pair<SheetNumber, std::string>{0, "1970-01-01 00:00:00"},
                                      {951782400, "2000-02-29 00:00:00"},
                                      {1935655200, "2031-05-04 10:00:00"},
                                      {4294967295, "2106-02-07 06:28:15"}}) {
    EXPECT_EQ(number_text(none, time, seconds), text);
    EXPECT_EQ(number_from_text(none, time, text), seconds);
  }
  time.epoch = *time_from_text("2000-01-01");
  EXPECT_EQ(number_text(none, time, 0), "2000-01-01 00:00:00");
  EXPECT_FALSE(number_from_text(none, time, "2031-13-01"));
  EXPECT_FALSE(number_from_text(none, time, "yesterday"));
  NumberForm dos;
  dos.bits = 32;
  dos.show = Show::dos_time;
  EXPECT_EQ(number_text(none, dos, 0x66A4'5008), "2031-05-04 10:00:16");
  EXPECT_EQ(number_from_text(none, dos, "2031-05-04 10:00:16"), SheetNumber{0x66A45008});
  NumberForm played;
  played.bits = 32;
  played.per = 60;
  played.show = Show::duration;
  EXPECT_EQ(number_text(none, played, 60 * 3661), "01:01:01");
  EXPECT_EQ(number_from_text(none, played, "1:01:01"), SheetNumber{60 * 3661});
  EXPECT_EQ(number_from_text(none, played, "01:01:01.5"), SheetNumber{60 * 3661 + 30});
}

TEST(SheetCodec, BrokenDecimalsAreNoNumber) {
  NumberForm form;
  form.bits = 16;
  form.is_bcd = true;
  form.big_endian = true;
  const std::vector<Byte> broken{0x1a, 0x23};
  EXPECT_FALSE(read_number(form, broken));
  const std::vector<Byte> right{0x12, 0x50};
  EXPECT_EQ(read_number(form, right), SheetNumber{1250});
}

TextForm letters() {
  TextForm form;
  form.named = TextForm::Named::table;
  for (std::uint32_t i = 0; i < 26; ++i) {
    form.to_text[0x80 + i] = std::string(1, static_cast<char>('A' + i));
    form.to_code[std::string(1, static_cast<char>('A' + i))] = 0x80 + i;
  }
  form.to_text[0xa0] = "PK";  // one code for two letters
  form.to_code["PK"] = 0xa0;
  form.longest = 2;
  return form;
}

TEST(SheetCodec, TextsComeBackWhateverTheBytes) {
  expect_property("texts", [](const std::vector<Byte>& bytes) {
    using Named = TextForm::Named;
    FieldDef field;
    for (const Named named : {Named::ascii, Named::latin1, Named::utf8, Named::utf16_little, Named::utf16_big,
                              Named::shift_jis, Named::table}) {
      TextForm form = named == Named::table ? letters() : TextForm{};
      form.named = named;
      if (named == Named::utf16_little || named == Named::utf16_big) form.unit_bytes = 2;
      form.unit_big_endian = named == Named::utf16_big;
      field.end = named == Named::table ? std::optional<Byte>(0xff) : std::nullopt;
      const std::string text = read_text(form, field, bytes);
      // Every text can be read; what is written of it is read as the same one, or refused.
      const auto written = write_text(form, field, text, bytes.size());
      if (!written) continue;
      RC_ASSERT(written->size() == bytes.size());
      RC_ASSERT(read_text(form, field, *written) == text);
    }
  });
  FieldDef field;
  field.end = Byte{0xff};
  const TextForm form = letters();
  const auto written = write_text(form, field, "SPKZ", 6);
  ASSERT_TRUE(written);
  EXPECT_EQ(*written, (std::vector<Byte>{0x92, 0xa0, 0x99, 0xff, 0xff, 0xff}));
  EXPECT_FALSE(write_text(form, field, "small", 6)) << "letters that the game does not have";
  EXPECT_FALSE(write_text(form, field, "SEVENTH", 6)) << "too long";
  EXPECT_EQ(read_text(form, field, std::vector<Byte>{0x80, 0x4f, 0xff}), "A{4F}");
}

TEST(SheetCodec, ScramblesUndoThemselves) {
  expect_property("scrambles", [](std::vector<Byte> bytes, std::uint32_t key) {
    std::vector<Scramble> all;
    for (const auto kind : {Scramble::Kind::xor_key, Scramble::Kind::xor_stream, Scramble::Kind::add_key,
                            Scramble::Kind::substitute, Scramble::Kind::rotate}) {
      Scramble one;
      one.kind = kind;
      one.unit_bytes = *rc::gen::element(std::size_t{1}, std::size_t{2}, std::size_t{4});
      one.big_endian = *rc::gen::arbitrary<bool>();
      one.multiply = 69069;
      one.add = 11;
      one.shift = 5;
      one.step_first = *rc::gen::arbitrary<bool>();
      for (std::size_t i = 0; i < 256; ++i) {
        one.substitute.at(i) = static_cast<Byte>(i * 77 + 3);
        one.substitute_back.at(static_cast<Byte>(i * 77 + 3)) = static_cast<Byte>(i);
      }
      one.block_bytes = std::max<std::size_t>(bytes.size() / 3, 1);
      one.orders = {{0, 1, 2}, {1, 2, 0}, {2, 0, 1}};
      if (kind != Scramble::Kind::rotate || bytes.size() >= 3) all.push_back(std::move(one));
    }
    std::vector<SheetNumber> keys;
    for (const Scramble& one : all) keys.push_back(one.kind == Scramble::Kind::rotate ? key % 3 : key);
    const std::vector<Byte> before = bytes;
    RC_ASSERT(unscramble(all, keys, bytes).has_value());
    RC_ASSERT(scramble(all, keys, bytes).has_value());
    RC_ASSERT(bytes == before);
    if (bytes.size() >= 3) {  // an order that does not exist
      keys.back() = 3;
      RC_ASSERT(!unscramble(all, keys, bytes).has_value());
    }
  });
}

}  // namespace
}  // namespace bayswap::test
