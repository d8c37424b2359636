#include <gtest/gtest.h>
#include <bayswap/base.hpp>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(Blob, SlicesAreCutAtItsEndAndShareItsBytes) {
  expect_property("a slice is what substr would be", [] {
    const auto text = *rc::gen::arbitrary<std::string>();
    const auto at = *rc::gen::inRange<std::size_t>(0, 40);
    const auto count = *rc::gen::inRange<std::size_t>(0, 40);
    const Blob blob = text_blob(text);
    const Blob slice = blob.slice(at, count);
    RC_ASSERT(text_of(slice) == (at < text.size() ? text.substr(at, count) : ""));
    if (!slice.empty()) RC_ASSERT(slice.data() == blob.data() + at);
    RC_ASSERT(text_of(blob.slice(at, count).slice(1, 5)) ==
              (text_of(slice).empty() ? "" : text_of(slice).substr(1, 5)));
  });
}

TEST(Blob, UniformMeansEveryByte) {
  Byte value = 0;
  EXPECT_FALSE(is_uniform({}));
  EXPECT_TRUE(is_uniform(Blob::filled(1, 7).view(), &value));
  EXPECT_EQ(value, 7);
  expect_property("one byte off and it is not uniform", [] {
    const auto size = *rc::gen::inRange<std::size_t>(2, 3000);
    const auto odd = *rc::gen::inRange<std::size_t>(0, size);
    std::vector<Byte> bytes(size, 0xff);
    RC_ASSERT(is_uniform(bytes));
    bytes[odd] = 0xfe;
    RC_ASSERT(!is_uniform(bytes));
  });
}

TEST(Digest, KnownAnswers) {
  // FIPS 180-4 examples.
  EXPECT_EQ(sha256({}).hex(), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
  EXPECT_EQ(sha256(text_blob("abc").view()).hex(),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
  const Digest digest = sha256(text_blob("abc").view());
  EXPECT_EQ(*digest_from_hex(digest.hex()), digest);
  EXPECT_FALSE(digest_from_hex("ba78"));
  EXPECT_FALSE(digest_from_hex(std::string(64, 'g')));
  EXPECT_FALSE(digest_from_hex(std::string(64, 'A'))) << "only our own spelling";
}

TEST(Text, ShiftJisBecomesUtf8) {
  const auto utf8 = [](std::string_view text) {
    return to_utf8(text_blob(text).view(), TextEncoding::shift_jis);
  };
  EXPECT_EQ(utf8("LANTERN SKIFF       "), "LANTERN SKIFF");
  EXPECT_EQ(utf8("A\\B~"), "A\\B~") << "ASCII stays ASCII";
  EXPECT_EQ(utf8("\xc4\xb3\xb3\xd0"), "ﾄｳｳﾐ") << "half-width katakana";
  EXPECT_EQ(utf8("\x8a\x43"), "海") << "two bytes a character";
  EXPECT_EQ(utf8(std::string_view("AB\0CD", 5)), "AB");
  EXPECT_EQ(utf8("A\x01"), "A\xEF\xBF\xBD") << "control characters don't get through";
  EXPECT_EQ(utf8("\x8a"), "\xEF\xBF\xBD") << "half a character";
}

TEST(Text, NearestWord) {
  const std::vector<std::string> words{"n64.combined", "n64.sram", "n64.eeprom"};
  EXPECT_EQ(did_you_mean("n64.combind", words), "did you mean 'n64.combined'?");
  EXPECT_EQ(did_you_mean("completely-else", words), "");
  expect_property("the distance is a metric on single edits", [] {
    const auto a = *rc::gen::arbitrary<std::string>();
    auto b = a;
    b.insert(*rc::gen::inRange<std::size_t>(0, a.size() + 1), 1, 'x');
    RC_ASSERT(edit_distance(a, a) == 0U);
    RC_ASSERT(edit_distance(a, b) == 1U);
    RC_ASSERT(edit_distance(b, a) == 1U);
  });
}

TEST(Toml, NamesAndBracketsOfAnyDepthAreRefusedNotFollowed) {
  const auto refused = [](const std::string& text) {
    const auto parsed = parse_toml(text, "x.toml", std::size_t{4} << 20);
    return !parsed && parsed.error().code == ErrorCode::bad_usage;
  };
  const auto many = [](std::string_view piece, int times) {
    std::string out;
    for (int i = 0; i < times; ++i) out += piece;
    return out;
  };
  EXPECT_TRUE(refused(many("a.", 100000) + "a = 1"));
  EXPECT_TRUE(refused("[" + many("a.", 100000) + "a]"));
  EXPECT_TRUE(refused("a = " + many("[", 100000)));
  EXPECT_TRUE(refused("a = " + many("{ a = ", 100000)));
  EXPECT_TRUE(refused(many("a=1\n", 100000))) << "far too many for its size";
  EXPECT_FALSE(refused("a = \"" + many("[.", 1000) + "\" # " + many(".", 1000)));
  EXPECT_FALSE(refused("a = '''\n" + many("[.\n", 1000) + "'''\nb = \"\\\"" + many("{", 99) + "\""));
  EXPECT_FALSE(refused("[a.b.c.d]\ne = [[1, 2], [3.5]]\nf = { g = 1 }"));
}

TEST(Text, TitlesAreComparedWithoutWhatDiffersFromListToList) {
  for (const char* name :
       {"Brine and Bellows", "Brine & Bellows (Europe)", "brine_and_bellows [!]", "The Brine & Bellows",
        "Brine and  Bellows (Rev 1) (EU)", "BRINE AND BELLOWS.", "Br\xc3\xadne \xc3\xa0nd B\xc3\xa9llows"})
    EXPECT_EQ(normalized_title(name), "brine and bellows") << name;
  EXPECT_EQ(normalized_title("Marek's Quay 2"), "mareks quay 2");
  EXPECT_NE(normalized_title("Quay 2"), normalized_title("Quay 3"));
  EXPECT_EQ(normalized_title("\xe6\xb8\xaf"), "\xe6\xb8\xaf") << "other scripts as they are";
  EXPECT_EQ(normalized_title("\xc5\xbb\xc3\x93\xc5\x81W \xc5\x93"), "zolw o");
}

TEST(Text, NamesAreSafeOrNot) {
  for (const char* safe : {"a", "save.sav", "caf\xc3\xa9", "...", "-rf", "a b"})
    EXPECT_TRUE(is_safe_name(safe)) << safe;
  for (const std::string& odd :
       std::vector<std::string>{"", ".", "..", "a/b", "/", "a\\b", std::string("a\0b", 3), "\x1b[31m", "\xff",
                                "\xe2\x80\xae", std::string(256, 'n')})
    EXPECT_FALSE(is_safe_name(odd)) << odd;
  EXPECT_EQ(printable("a\xe2\x80\xae"
                      "b\xe2\x80\xa8\xe2\x81\xa6\x7f\x9b\xe9"),
            "a?b????\xe9");
}

TEST(Text, Utf8IsToldFromWhatIsNone) {
  for (const std::string_view one : {"a", "\x7f", "\xc2\x80", "\xdf\xbf", "\xe0\xa0\x80", "\xed\x9f\xbf",
                                     "\xef\xbf\xbf", "\xf0\x90\x80\x80", "\xf4\x8f\xbf\xbf"}) {
    EXPECT_EQ(utf8_length(one), one.size());
    EXPECT_EQ(utf8_length(one.substr(0, one.size() - 1)), 0U) << "cut short";
    EXPECT_EQ(utf8_length(std::string(one) + "\x80"), one.size());
  }
  for (const std::string_view none : {"\x80", "\xc1\xbf", "\xe0\x9f\xbf", "\xed\xa0\x80", "\xf0\x8f\xbf\xbf",
                                      "\xf4\x90\x80\x80", "\xff", "\xc3("})
    EXPECT_EQ(utf8_length(none), 0U);
  EXPECT_EQ(printable("a\x1b[31m\xc2\x9b"
                      "2J\xc2\xa0"),
            "a?[31m?2J\xc2\xa0");
}

TEST(Toml, TextsOfAnyBytesComeBack) {
  expect_property("quoted and read again", [] {
    const auto bytes = *rc::gen::container<std::vector<Byte>>(rc::gen::element<Byte>(
        0, 1, 'a', '"', '\\', 0x7f, 0x80, 0x9f, 0xbe, 0xbf, 0xc2, 0xc3, 0xed, 0xf0, 0xf4, 0x8f, 0xff));
    const std::string text(bytes.begin(), bytes.end());
    const auto table = parse_toml("a = " + toml_quoted(text) + "\nb = [" + toml_quoted(text) + "]", "x");
    RC_ASSERT(table.has_value());
    TableReader reader(*table, "x");
    RC_ASSERT(*reader.text("a") == text);
    RC_ASSERT((*reader.texts("b"))->front() == text);
  });
  EXPECT_EQ(toml_quoted("caf\xe9"), "\"caf\\U0010FFE9\"");
  EXPECT_EQ(toml_quoted("café"), "\"café\"") << "what is UTF-8 stays as it is";
}

}  // namespace
}  // namespace bayswap::test
