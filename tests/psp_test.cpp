// psp parameter files against their definition, restated here apart from the library.
#include <bayswap/package.hpp>

#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

ParameterFile psp_parameters() {
  ParameterFile file;
  EXPECT_TRUE(file.set("TITLE", std::string("Winter Mooring"), 128));
  EXPECT_TRUE(file.set("PARENTAL_LEVEL", std::uint32_t{3}, 4));
  EXPECT_TRUE(file.set("SAVEDATA_PARAMS", noise(128, 5), 128));
  EXPECT_TRUE(file.set("CATEGORY", std::string("MS"), 4));
  return file;
}

TEST(ParameterFiles, EveryFieldIsWhereTheConsoleLooksForIt) {
  const Blob file = psp_parameters().encode();
  const ByteView f = file.view();
  EXPECT_EQ(text_of(file.slice(0, 4)), std::string("\0PSF", 4));
  EXPECT_EQ(le32(f, 4), 0x101U);
  const std::size_t keys = le32(f, 8);
  const std::size_t values = le32(f, 12);
  ASSERT_EQ(le32(f, 16), 4U);
  EXPECT_EQ(keys, 20U + 4 * 16);
  EXPECT_EQ(values % 4, 0U);
  const std::vector<std::string> names{"CATEGORY", "PARENTAL_LEVEL", "SAVEDATA_PARAMS", "TITLE"};
  const std::vector<unsigned> kinds{0x204, 0x404, 0x004, 0x204};
  const std::vector<unsigned> sizes{3, 4, 128, 15};
  for (std::size_t i = 0; i < 4; ++i) {
    const std::size_t at = 20 + 16 * i;
    EXPECT_EQ(std::string(reinterpret_cast<const char*>(f.data()) + keys + le16(f, at)), names[i]);
    EXPECT_EQ(le16(f, at + 2), kinds[i]);
    EXPECT_EQ(le32(f, at + 4), sizes[i]);
    EXPECT_EQ(le32(f, at + 12) % 4, 0U);
  }
  EXPECT_EQ(le32(f, values + le32(f, 20 + 16 + 12)), 3U);
  EXPECT_EQ(file.size(), values + 4 + 4 + 128 + 128);
}

TEST(ParameterFiles, ComeBackAsTheyWereAndTakeChanges) {
  ParameterFile file = *ParameterFile::parse(psp_parameters().encode().view());
  EXPECT_EQ(file.encode(), psp_parameters().encode());
  EXPECT_EQ(file.text("TITLE"), "Winter Mooring");
  EXPECT_EQ(file.number("PARENTAL_LEVEL"), 3U);
  EXPECT_EQ(std::get<Blob>(file.entries()[2].value), noise(128, 5));
  EXPECT_TRUE(file.set("TITLE", std::string("Summer Mooring")));
  EXPECT_EQ(ParameterFile::parse(file.encode().view())->text("TITLE"), "Summer Mooring");
  EXPECT_EQ(file.set("CATEGORY", std::string("MSX!")).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(file.set("CATEGORY", std::uint32_t{1}).error().code, ErrorCode::bad_usage);
  EXPECT_EQ(file.set("", std::uint32_t{1}).error().code, ErrorCode::bad_usage);
  expect_property("whatever becomes of its bytes, reading it stays within them", [] {
    std::vector<Byte> bytes = bytes_of(psp_parameters().encode());
    for (int i = *rc::gen::inRange(1, 8); i > 0; --i)
      bytes[*rc::gen::inRange<std::size_t>(0, 100)] = *rc::gen::arbitrary<Byte>();
    bytes.resize(*rc::gen::inRange<std::size_t>(0, bytes.size() + 1));
    const auto read = ParameterFile::parse(bytes);
    if (read) RC_ASSERT(ParameterFile::parse(read->encode().view())->encode() == read->encode());
  });
}

}  // namespace
}  // namespace bayswap::test
