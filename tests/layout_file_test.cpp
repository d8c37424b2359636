#include <gtest/gtest.h>
#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include "base/built_in.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(LayoutFile, EveryBuiltInOneReadsAndWritesBack) {
  ASSERT_GE(built_in_layouts().size(), 10U);
  for (const BuiltInText& row : built_in_layouts()) {
    const auto layout = parse_layout(row.toml, "built in");
    ASSERT_TRUE(layout) << layout.error().message;
    EXPECT_EQ(layout->id, row.id) << "the file's name is its id";
    EXPECT_FALSE(layout->name.empty());
    const auto again = parse_layout(to_toml(*layout), "again");
    ASSERT_TRUE(again) << again.error().message;
    EXPECT_EQ(to_toml(*again), to_toml(*layout));
    EXPECT_EQ(again->file_sizes(), layout->file_sizes());
  }
}

TEST(LayoutFile, SizesOfTheIssue) {
  const Catalog catalog;
  const std::vector<std::pair<const char*, std::vector<std::size_t>>> expected{
      {"n64.eeprom", {512, 2048}}, {"n64.sram", {32768}},         {"n64.sram-le", {32768}},
      {"n64.flash", {131072}},     {"n64.flash-le", {131072}},    {"n64.pak", {32768}},
      {"n64.combined", {296960}},  {"n64.combined-be", {296960}}, {"n64.separate", {}}};
  for (const auto& [id, sizes] : expected) EXPECT_EQ(layout(catalog, id).file_sizes(), sizes) << id;
  // Offsets follow from the order and the sizes of the parts.
  const Layout& combined = layout(catalog, "n64.combined");
  std::size_t at = 0;
  for (const char* role : {"eeprom", "pak1", "pak2", "pak3", "pak4", "sram", "flash"}) {
    const Slot* slot = combined.slot(*role_from_text(role));
    ASSERT_NE(slot, nullptr) << role;
    EXPECT_EQ(slot->at, at) << role;
    at += slot->file_sizes.front();
  }
  EXPECT_EQ(at, 296960U);
}

constexpr std::string_view good_layout = R"(id = "n64.mine"
platform = "n64"
name = "Mine"
size = 600
fill = 85
[[part]]
role = "eeprom"
at = 16
size = 512
)";

std::string layout_with(std::string_view from, std::string_view to) {
  std::string text(good_layout);
  const auto at = text.find(from);
  EXPECT_NE(at, std::string::npos) << from;
  return text.replace(at, from.size(), to);
}

TEST(LayoutFile, MistakesAreNamedWithTheirLine) {
  ASSERT_TRUE(parse_layout(good_layout, "f"));
  struct Row {
    std::string toml;
    std::string expected;  // a piece of the message
  };
  const std::vector<Row> rows{
      {layout_with("id =", "idd ="), "id is missing"},
      {layout_with("\"n64.mine\"", "\"mine\""), "line 1: the id 'mine'"},
      {layout_with("\"n64.mine\"", "\"n64.Mine\""), "line 1"},
      {layout_with("\"n64\"", "\"n65\""), "line 2: unknown platform 'n65'"},
      {layout_with("fill = 85", "fill = 256"), "line 5: fill is one byte"},
      {layout_with("fill = 85", "fil = 85"), "line 5: unknown word 'fil'"},
      {layout_with("\"eeprom\"", "\"eprom\""), "line 7: unknown role 'eprom'"},
      {layout_with("at = 16", "at = -1"), "line 8: at must be"},
      {layout_with("at = 16", "at = 100"), "after the file's end"},
      {layout_with("at = 16", "at = \"16\""), "line 8: at must be a whole number"},
      {layout_with("size = 512", "size = 0"), "line 9"},
      {layout_with("size = 512", "size = 99999999999"), "line 9"},
      {layout_with("size = 512", "sizes = []"), "line 9"},
      {layout_with("size = 512", "size = 512\nsizes = [512]"), "either size"},
      {layout_with("size = 512", "sizes = [256, 512]"), "several sizes"},
      {layout_with("size = 512", "size = 511\norder = \"swap16\""), "line 10: 511 bytes are no whole number"},
      {layout_with("size = 512", "size = 512\norder = \"swap24\""), "line 10: order is 'swap24'"},
      {layout_with("size = 512", "size = 512\nabsent = \"fresh-pak\""), "only a controller pak"},
      {layout_with("size = 512", "size = 512\nchips = [1024]"), "a chip of 1024 bytes"},
      {layout_with("[[part]]", "[part]"), "[[part]]"},
      {layout_with("name = \"Mine\"", "name = \"Mine"), "line 3"},
      {layout_with("name = \"Mine\"", "name = \"Mine\"\nextension = \"sav\""), "line 4: an extension starts"},
      {layout_with("name = \"Mine\"", "name = \"Mine\"\nmembers = [\"n64.sram\"]"), "either parts"},
      {std::string(good_layout) + "[[part]]\nrole = \"eeprom\"\nat = 540\nsize = 16\n", "twice"},
      {std::string(good_layout) + "[[part]]\nrole = \"sram\"\nat = 500\nsize = 16\n", "overlaps"},
      {"", "id is missing"},
      {"...", "line 1"},
      {"a = 1\n.b = 2", "line 2"},
      {"[.]", "line 1"},
      {"\xCC\x9D = 1", "line 1"},
      {std::string(300000, '#'), "over the"},
  };
  for (const Row& row : rows) {
    const auto layout = parse_layout(row.toml, "f");
    ASSERT_FALSE(layout) << row.toml;
    EXPECT_EQ(layout.error().code, ErrorCode::bad_usage);
    EXPECT_NE(layout.error().message.find(row.expected), std::string::npos)
        << layout.error().message << "\nwanted: " << row.expected;
    EXPECT_TRUE(layout.error().message.starts_with("f")) << layout.error().message;
  }
}

TEST(LayoutFile, NoTextBringsItDown) {
  expect_property("mutated files are read or refused", [] {
    std::string text(good_layout);
    const auto edits = *rc::gen::inRange(1, 6);
    for (int i = 0; i < edits; ++i)
      text[*rc::gen::inRange<std::size_t>(0, text.size())] = *rc::gen::arbitrary<char>();
    const auto layout = parse_layout(text, "f");
    if (layout) RC_ASSERT(parse_layout(to_toml(*layout), "again").has_value());
  });
}

TEST(Catalog, UsersLayoutsJoinTheBuiltInOnes) {
  Catalog catalog;
  ASSERT_TRUE(catalog.add(*parse_layout(good_layout, "mine.toml")));
  EXPECT_EQ(layout(catalog, "n64.mine").origin, "mine.toml");
  const auto taken = catalog.add(*parse_layout(good_layout, "again.toml"));
  ASSERT_FALSE(taken);
  EXPECT_NE(taken.error().message.find("mine.toml"), std::string::npos);
  EXPECT_FALSE(catalog.add(*parse_layout(layout_with("n64.mine", "n64.sram"), "x")));
  const auto unknown = catalog.find("n64.srm");
  ASSERT_FALSE(unknown);
  EXPECT_NE(unknown.error().hint.find("n64.sram"), std::string::npos) << unknown.error().hint;
}

}  // namespace
}  // namespace bayswap::test
