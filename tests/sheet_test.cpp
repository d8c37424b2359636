// Sheets: random ones over random saves, as properties; and what each word of the language means.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/sheet.hpp>

#include <algorithm>
#include <random>

#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

Sheet sheet_of(const std::string& toml) {
  auto sheet = Sheet::parse(toml, "test.toml");
  EXPECT_TRUE(sheet) << sheet.error().message << "\n" << toml;
  return *sheet;
}

SheetSave save_of(const Sheet& sheet, std::vector<Byte> bytes) {
  return {sheet, {{"sram", Blob::copy_of(bytes)}}};
}

std::string value_at(const SheetSave& save, const std::string& path) {
  const auto node = save.show(path);
  return node ? node->value : "error: " + node.error().message;
}

constexpr std::string_view head = "sheet = 1\nid = \"gba.test\"\n[game]\nplatform = \"gba\"\n";

// ---- Random sheets

/// Draws a sheet: records within records, scrambled or not, arrays, every type; a checksum over each record,
/// and one over all. Nothing overlaps, so that each value is its own.
class SheetDice {
 public:
  explicit SheetDice(std::uint64_t seed) : random_(seed) {}
  std::size_t below(std::size_t limit) {
    return std::uniform_int_distribution<std::size_t>(0, limit - 1)(random_);
  }
  Byte byte() { return static_cast<Byte>(below(256)); }

  std::string toml() {
    std::string fields;
    const std::size_t size = record("top", 0, fields);
    size_ = 8 + size + 4;
    return fmt::format(
        "{}\n[[field]]\nname = \"key\"\nat = 0\ntype = \"u32\"\n[[field]]\nname = \"top\"\nat = 8\nrecord = "
        "\"top\"\n"
        "[[field]]\nname = \"all\"\nat = {}\ntype = \"u32\"\n"
        "[[checksum]]\nid = \"all\"\nkind = \"crc32\"\nat = {}\nover = [[0, {}]]\n{}"
        "[table.names]\ncolumns = [\"id\", \"name\"]\nrows = [[1, \"one\"], [2, \"two\"], [7, \"seven\"]]\n",
        head, 8 + size, 8 + size, 8 + size, fields);
  }
  [[nodiscard]] std::size_t size() const { return size_; }

 private:
  // Appends the record and those within it; returns how many bytes it has.
  std::size_t record(const std::string& name, std::size_t depth, std::string& out) {
    std::string fields;
    std::size_t at = 0;
    const std::size_t count = 2 + below(5);
    for (std::size_t i = 0; i < count; ++i) {
      const std::string field = fmt::format("f{}", i);
      fields += fmt::format("[[record.{}.field]]\nname = \"{}\"\nat = {}\n", name, field, at);
      if (depth < 2 && below(3) == 0) {
        const std::string inner = fmt::format("{}-{}", name, field);
        std::string rest;
        const std::size_t size = record(inner, depth + 1, rest);
        fields += fmt::format("record = \"{}\"\n", inner);
        std::size_t elements = 1;
        if (below(3) == 0) {
          elements = 1 + below(3);
          fields += fmt::format("count = {}\n", elements);
        }
        if (below(2) == 0) fields += scramble(name, size);
        out += rest;
        at += size * elements;
        continue;
      }
      at += leaf(fields);
    }
    const std::size_t form = below(4);
    const std::string kinds[4] = {"kind = \"sum\"\nbits = 16\n", "kind = \"crc16-1021\"\n",
                                  "kind = \"xor\"\nbits = 8\n", "kind = \"adler32\"\n"};
    const std::size_t sizes[4] = {2, 2, 1, 4};
    out += fmt::format(
        "[record.{}]\nsize = {}\n{}[[record.{}.checksum]]\nid = \"{}-checksum\"\n{}at = {}\nover = [[0, "
        "{}]]\norder "
        "= \"{}\"\n",
        name, at + sizes[form], fields, name, name, kinds[form], at, at, below(2) == 0 ? "big" : "little");
    return at + sizes[form];
  }

  std::string scramble(const std::string& record, std::size_t size) {
    const std::string table = fmt::format("[[record.{}.field.scramble]]\n", record);
    std::string out = fmt::format("size = {}\n", size);
    switch (below(4)) {
      case 0:
        return out + table + "kind = \"xor\"\nunit = 2\nkey = \"key\"\n";
      case 1:
        return out + table +
               "kind = \"xor-stream\"\nkey = \"key + 1\"\nmultiply = 69069\nadd = 7\nshift = 8\n";
      case 2:
        if (size >= 4)
          return out + table +
                 fmt::format("kind = \"permute\"\ncount = 2\nblock = {}\nkey = \"key % 2\"\n", size / 2) +
                 table + "kind = \"add\"\nkey = \"key\"\n";
        [[fallthrough]];
      default:
        return out + table + "kind = \"add\"\nunit = 1\nkey = 77\n";
    }
  }

  // A value; returns its bytes.
  std::size_t leaf(std::string& out) {
    const std::string order = below(2) == 0 ? "order = \"big\"\n" : "order = \"little\"\n";
    switch (below(9)) {
      case 0: {
        const std::size_t bits = 1 + below(64);
        out += fmt::format("type = \"u{}\"\n{}", bits, order);
        return (bits + 7) / 8;
      }
      case 1: {
        const std::size_t bits = 2 + below(40);
        const std::size_t bit = below(8);
        out += fmt::format("type = \"s{}\"\nbit = {}\n{}", bits, bit, order);
        return (bit + bits + 7) / 8;
      }
      case 2:
        out += "type = \"u16\"\nper = 256\n" + order;
        return 2;
      case 3:
        out += "type = \"u8\"\nvalues = \"names\"\n";
        return 1;
      case 4:
        out += "type = \"u8\"\nflags = [\"a\", \"b\", \"\", \"c\"]\n";
        return 1;
      case 5:
        out += "type = \"text\"\nsize = 7\nencoding = \"latin1\"\n";
        return 7;
      case 6:
        out += "type = \"bytes\"\nsize = 3\n";
        return 3;
      case 7:
        out += "type = \"u32\"\nshow = \"time\"\nepoch = \"2000-01-01\"\n" + order;
        return 4;
      default:
        out += "type = \"flag\"\nbit = 5\n";
        return 1;
    }
  }

  std::mt19937_64 random_;
  std::size_t size_ = 0;
};

void collect_leaves(const SheetNode& node, std::vector<SheetNode>& out) {
  for (const SheetNode& one : node.children) collect_leaves(one, out);
  const bool is_value = node.kind != SheetNode::Kind::record && node.kind != SheetNode::Kind::array;
  if (is_value && node.problem.empty() && !node.is_derived) out.push_back(node);
}
std::vector<SheetNode> leaves_of(const SheetSave& save) {
  std::vector<SheetNode> out;
  collect_leaves(*save.show(), out);
  return out;
}
bool all_hold(const SheetSave& save) {
  return std::ranges::all_of(save.findings(),
                             [](const SheetFinding& one) { return one.holds.value_or(true); });
}

struct RandomSave {
  SheetSave save;
  SheetDice dice;
};
RandomSave random_save(std::uint64_t seed) {
  SheetDice dice(seed);
  const Sheet sheet = sheet_of(dice.toml());
  std::vector<Byte> bytes(dice.size());
  for (Byte& b : bytes) b = dice.byte();
  const SheetSave rough = save_of(sheet, bytes);
  const auto encrypted = rough.recompute();
  EXPECT_TRUE(encrypted) << encrypted.error().message;
  return {SheetSave(sheet, encrypted->files), std::move(dice)};
}

TEST(Sheets, SettingWhatIsShownChangesNothing) {
  expect_property("SettingWhatIsShownChangesNothing", [](std::uint64_t seed) {
    const RandomSave random = random_save(seed);
    RC_ASSERT(all_hold(random.save));
    std::vector<SheetChange> changes;
    for (const SheetNode& leaf : leaves_of(random.save)) changes.emplace_back(leaf.path, leaf.value);
    const auto edit = random.save.change(changes);
    if (!edit) RC_FAIL(edit.error().message);
    RC_ASSERT(edit->files.front().bytes == random.save.files().front().bytes);
    RC_ASSERT(edit->changes.empty());
    RC_ASSERT(edit->recomputed.empty());
  });
}

TEST(Sheets, WhatIsSetIsShownAndChecksumed) {
  expect_property("WhatIsSetIsShownAndSealed", [](std::uint64_t seed) {
    RandomSave random = random_save(seed);
    RandomSave other = random_save(seed);  // the same sheet; values to take come from other bytes
    std::vector<Byte> bytes(random.save.files().front().bytes.size());
    for (Byte& b : bytes) b = random.dice.byte();
    const SheetSave donor = save_of(random.save.sheet(), bytes);
    const auto leaves = leaves_of(random.save);
    const SheetNode& leaf = leaves[random.dice.below(leaves.size())];
    const bool is_key = leaf.path == "key" || leaf.path == "all";
    const std::string value = value_at(donor, leaf.path);
    const auto edit = random.save.change({{leaf.path, value}});
    if (leaf.path == "all") {  // a checksum is what it must be
      RC_ASSERT(!edit || value == leaf.value);
      return;
    }
    if (!edit) RC_FAIL(edit.error().message);
    const SheetSave after(random.save.sheet(), edit->files);
    RC_ASSERT(value_at(after, leaf.path) == value);
    RC_ASSERT(all_hold(after));
    for (const SheetNode& one : leaves)  // nothing else is another value
      if (one.path != leaf.path && one.path != "all") RC_ASSERT(value_at(after, one.path) == one.value);
    (void)is_key;
  });
}

TEST(Sheets, ARecordMovesWholeAndAlone) {
  expect_property("ARecordMovesWholeAndAlone", [](std::uint64_t seed) {
    const RandomSave from = random_save(seed);
    SheetDice dice(seed + 1);
    std::vector<Byte> bytes(from.save.files().front().bytes.size());
    for (Byte& b : bytes) b = dice.byte();
    const auto encrypted = save_of(from.save.sheet(), bytes).recompute();
    const SheetSave to(from.save.sheet(), encrypted->files);
    // The first record within "top", if there is one, or "top" itself.
    std::string path = "top";
    const auto top = from.save.show("top");
    for (const SheetNode& one : top->children) {
      if (one.kind == SheetNode::Kind::record) path = one.path;
      if (one.kind == SheetNode::Kind::array) path = one.children.front().path;
    }
    const auto record = from.save.take(path);
    if (!record) RC_FAIL(record.error().message);
    const auto edit = to.put(path, *record);
    if (!edit) RC_FAIL(edit.error().message);
    const SheetSave after(to.sheet(), edit->files);
    RC_ASSERT(all_hold(after));
    for (const SheetNode& leaf : leaves_of(to)) {
      const bool is_within = leaf.path.starts_with(path + ".");
      if (leaf.path != "all")
        RC_ASSERT(value_at(after, leaf.path) == value_at(is_within ? from.save : to, leaf.path));
    }
    // By names alone it comes to the same values.
    SheetRecord by_name = *record;
    by_name.bytes.clear();
    const auto named = to.put(path, by_name);
    if (!named) RC_FAIL(named.error().message);
    for (const SheetDifference& one : differences(after, SheetSave(to.sheet(), named->files)))
      RC_ASSERT(one.path == "all");  // bits that no field has
  });
}

// ---- What the words mean

TEST(Sheets, ExpressionsHaveTheirValues) {
  const std::vector<std::pair<std::string, std::string>> known{{"1 + 2 * 3", "7"},
                                                               {"(1 + 2) * 3", "9"},
                                                               {"7 / 2", "3"},
                                                               {"-7 % 3", "-1"},
                                                               {"0x10 | 3 ^ 1", "18"},
                                                               {"1 << 4 & 0xFF", "16"},
                                                               {"if a > 3 then 10 else 20", "10"},
                                                               {"min(a, b, 2)", "2"},
                                                               {"abs(-a)", "5"},
                                                               {"sum(list)", "6"},
                                                               {"sum(list, list[1])", "3"},
                                                               {"count(list)", "3"},
                                                               {"find(places, x == 9)", "2"},
                                                               {"places[find(places, x == 9)].x", "9"},
                                                               {"find(places, x == 77)", ""},
                                                               {"bits(a, 0, 2)", "1"},
                                                               {"ones(a)", "2"},
                                                               {"length('abc')", "3"},
                                                               {"lookup('t', 2, 'n')", "20"},
                                                               {"list[2] + inner.x", "11"},
                                                               {"size", "16"},
                                                               {"a / 0", ""},
                                                               {"lookup('t', 9, 'n')", ""},
                                                               {"list[9]", ""}};
  for (const auto& [text, value] : known) {
    const Sheet sheet =
        sheet_of(std::string(head) +
                 "[[field]]\nname = \"a\"\nat = 0\ntype = \"u8\"\n[[field]]\nname = \"b\"\ntype = \"u8\"\n"
                 "[[field]]\nname = \"list\"\ntype = \"u8\"\ncount = 3\n[[field]]\nname = \"inner\"\nrecord "
                 "= \"inner\"\n"
                 "[[field]]\nname = \"places\"\nat = 4\ncount = 2\nrecord = \"inner\"\n[[field]]\nname = "
                 "\"v\"\nvalue = \"" +
                 text +
                 "\"\n[record.inner]\n[[record.inner.field]]\nname = \"x\"\ntype = \"u8\"\n"
                 "[table.t]\ncolumns = [\"id\", \"n\"]\nrows = [[1, 10], [2, 20]]\n");
    std::vector<Byte> bytes(16);
    bytes[0] = 5;
    bytes[1] = 9;
    bytes[2] = 1;
    bytes[3] = 2;
    bytes[4] = 3;
    bytes[5] = 9;
    EXPECT_EQ(value_at(save_of(sheet, bytes), "v"), value) << text;
  }
}

TEST(Sheets, MistakesAreNamed) {
  const std::vector<std::pair<std::string, std::string>> wrong{
      {"[[field]]\nname = \"a\"\ntype = \"u99\"\n", "unknown type 'u99'"},
      {"[[field]]\nname = \"a\"\n", "needs one of type, record and value"},
      {"[[field]]\nname = \"a\"\ntype = \"u8\"\ncolour = 1\n", "unknown word 'colour'"},
      {"[[field]]\nname = \"a\"\nrecord = \"b\"\n", "unknown record 'b'"},
      {"[[field]]\nname = \"a\"\ntype = \"u8\"\nat = \"lenght\"\n", "unknown name 'lenght'"},
      {"[[field]]\nname = \"a\"\ntype = \"u8\"\nif = \"a\"\n", "is a number and should be a truth"},
      {"[[field]]\nname = \"a\"\ntype = \"u8\"\n[[rule]]\nid = \"r\"\ntext = \"t\"\nrequire = \"a == 'x'\"\n",
       "needs a number and not a text"},
      {"[[field]]\nname = \"a\"\nrecord = \"r\"\n[record.r]\n[[record.r.field]]\nname = \"b\"\nrecord = "
       "\"r\"\n",
       "within themselves"},
      {"[[field]]\nname = \"a\"\ntype = \"u8\"\n[[field]]\nname = \"a\"\ntype = \"u8\"\n",
       "two fields are called a"},
      {"[[field]]\nname = \"a\"\nrecord = \"r\"\nsize = 4\n[[field.scramble]]\nkind = \"substitute\"\ntable "
       "= \"00 00\"\n[record.r]\n[[record.r.field]]\nname = \"b\"\ntype = \"u8\"\n",
       "a substitution has 256 bytes"},
      {"[[field]]\nname = \"a\"\ntype = \"u8\"\nat = "
       "\"((((((((((((((((((((((((((((((((((1))))))))))))))))))))))))))))))))))\"\n",
       "deep"}};
  for (const auto& [toml, message] : wrong) {
    const auto sheet = Sheet::parse(std::string(head) + toml, "test.toml");
    ASSERT_FALSE(sheet) << toml;
    EXPECT_NE(sheet.error().message.find(message), std::string::npos) << sheet.error().message;
  }
}

TEST(Sheets, ARuleThatHeldIsNotBrokenUnasked) {
  const Sheet sheet =
      sheet_of(std::string(head) +
               "[[field]]\nname = \"most\"\nat = 0\ntype = \"u8\"\n[[field]]\nname = \"now\"\ntype = "
               "\"u8\"\n[[field]]\nname = \"other\"\ntype = \"u8\"\n"
               "[[rule]]\nid = \"now-most\"\nrequire = \"now <= most\"\ntext = \"now is at most most\"\n");
  const SheetSave sound = save_of(sheet, {10, 5, 0, 0});
  const auto refused = sound.change({{"now", "11"}});
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error().code, ErrorCode::unsafe);
  EXPECT_EQ(refused.error().remedy.values, std::vector<std::string>{"now-most"});
  EXPECT_TRUE(sound.change({{"now", "11"}}, {"now-most"}));
  EXPECT_TRUE(sound.change({{"now", "11"}, {"most", "12"}}));
  // One that is broken already is no reason to refuse.
  EXPECT_TRUE(save_of(sheet, {1, 5, 0, 0}).change({{"other", "3"}}));
}

TEST(Sheets, ABrokenChecksumIsNotCoveredUp) {
  const Sheet sheet = sheet_of(
      std::string(head) +
      "[[field]]\nname = \"a\"\nat = 0\ntype = \"u8\"\n[[field]]\nname = \"b\"\nat = 4\ntype = \"u8\"\n"
      "[[checksum]]\nid = \"first\"\nkind = \"sum\"\nbits = 8\nat = 1\nover = [[0, 1]]\n"
      "[[checksum]]\nid = \"second\"\nkind = \"sum\"\nbits = 8\nat = 5\nover = [[4, 5]]\n");
  const SheetSave save = save_of(sheet, {7, 99, 0, 0, 3, 3});
  const auto refused = save.change({{"a", "8"}});
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error().remedy.values, std::vector<std::string>{"first"});
  const auto beside = save.change({{"b", "4"}});
  ASSERT_TRUE(beside);
  EXPECT_EQ(beside->files.front().bytes, Blob::copy_of(std::vector<Byte>{7, 99, 0, 0, 4, 4}));
  const auto repaired = save.recompute();
  ASSERT_TRUE(repaired);
  EXPECT_EQ(repaired->files.front().bytes, Blob::copy_of(std::vector<Byte>{7, 7, 0, 0, 3, 3}));
}

TEST(Sheets, TheNewestCopyIsShownAndTheOtherOneWritten) {
  const Sheet sheet = sheet_of(
      std::string(head) +
      "[[field]]\nname = \"save\"\nplaces = [0, 16]\nrecord = \"copy\"\ncounter = \"count\"\nwrite "
      "= \"other\"\n"
      "[record.copy]\nsize = 16\n[[record.copy.field]]\nname = \"count\"\nat = 0\ntype = \"u8\"\n"
      "[[record.copy.field]]\nname = \"coins\"\nat = 1\ntype = \"u8\"\n"
      "[[record.copy.checksum]]\nid = \"sum\"\nkind = \"sum\"\nbits = 8\nat = 15\nover = [[0, 15]]\n");
  std::vector<Byte> bytes(32);
  bytes[0] = 255;  // the counter goes round: 0 comes after 255
  bytes[1] = 10;
  bytes[16] = 0;
  bytes[17] = 20;
  const SheetSave save(sheet, save_of(sheet, bytes).recompute()->files);
  EXPECT_EQ(value_at(save, "save.coins"), "20");
  const auto edit = save.change({{"save.coins", "21"}});
  ASSERT_TRUE(edit) << edit.error().message;
  const SheetSave after(sheet, edit->files);
  EXPECT_EQ(value_at(after, "save.coins"), "21");
  EXPECT_EQ(value_at(after, "save[1].coins"), "21");
  EXPECT_EQ(value_at(after, "save[1].count"), "1");
  EXPECT_EQ(value_at(after, "save[2].coins"), "20");
  // What is so already is no change: no copy is begun for it.
  const auto same = after.change({{"save.coins", "21"}});
  ASSERT_TRUE(same);
  EXPECT_EQ(same->files.front().bytes, edit->files.front().bytes);
  EXPECT_TRUE(same->notes.empty());
  // A copy that is torn does not count, however high its counter.
  std::vector<Byte> torn(edit->files.front().bytes.view().begin(), edit->files.front().bytes.view().end());
  torn[1] = 99;
  EXPECT_EQ(value_at(save_of(sheet, torn), "save.coins"), "20");
}

TEST(Sheets, BlocksAreReadInTheOrderOfTheirNumbers) {
  const Sheet sheet = sheet_of(
      std::string(head) +
      "[[field]]\nname = \"content\"\nrecord = \"content\"\nblocks = { size = 8, count = 3, data = 4, "
      "number-at = 6 }\n"
      "[record.content]\n[[record.content.field]]\nname = \"word\"\nat = 2\ntype = \"text\"\nsize = 8\n");
  std::vector<Byte> bytes{'l', 'l', 'o', '!', 0, 0, 1, 0, 0, 0, 'h', 'e', 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 0};
  const SheetSave save = save_of(sheet, bytes);
  EXPECT_EQ(value_at(save, "content.word"), "hello!");
  const auto edit = save.change({{"content.word", "holla?"}});
  ASSERT_TRUE(edit);
  EXPECT_EQ(edit->files.front().bytes.view()[0], 'l');
  EXPECT_EQ(edit->files.front().bytes.view()[11], 'o');
  bytes[22] = 1;  // two blocks of one number
  EXPECT_NE(save_of(sheet, bytes).show("content")->problem, "");
}

TEST(Sheets, ARecordFindsAFreePlaceAndANumberOfItsOwn) {
  const Sheet sheet =
      sheet_of(std::string(head) +
               "[[field]]\nname = \"box\"\nat = 0\ncount = 4\nrecord = \"thing\"\nfree = \"id == 0\"\n"
               "[record.thing]\nversion = 2\nsize = 4\n[[record.thing.field]]\nname = \"id\"\ntype = "
               "\"u8\"\nunique = true\n"
               "[[record.thing.field]]\nname = \"level\"\ntype = \"u8\"\nwas = [\"grade\"]\n");
  const SheetSave save = save_of(sheet, {5, 50, 0, 9, 0, 0, 0, 0, 7, 70, 0, 0, 0, 0, 0, 0});
  const auto record = save.take("box[1]");
  ASSERT_TRUE(record);
  const auto edit = save.put("box", *record);
  ASSERT_TRUE(edit) << edit.error().message;
  EXPECT_EQ(edit->files.front().bytes,
            Blob::copy_of(std::vector<Byte>{5, 50, 0, 9, 8, 50, 0, 9, 7, 70, 0, 0, 0, 0, 0, 0}));
  // Of an older version it goes by names; what is not known any more is refused by name.
  SheetRecord old = *record;
  old.version = 1;
  old.values = {{"id", "1"}, {"grade", "44"}};
  const auto mapped = save.put("box[4]", old);
  ASSERT_TRUE(mapped) << mapped.error().message;
  EXPECT_EQ(mapped->files.front().bytes.view()[13], 44);
  old.values.emplace_back("smell", "3");
  const auto unknown = save.put("box[4]", old);
  ASSERT_FALSE(unknown);
  EXPECT_NE(unknown.error().message.find("smell"), std::string::npos);
}

TEST(Sheets, AChecksumThatCanNotBeMadeRightIsNamed) {
  const Sheet sheet =
      sheet_of(std::string(head) +
               "[[field]]\nname = \"a\"\nat = 0\ntype = \"u8\"\n"
               "[[checksum]]\nid = \"near\"\nkind = \"sum\"\nbits = 8\nat = 1\nover = [[0, 1]]\n"
               "[[checksum]]\nid = \"far\"\nkind = \"sum\"\nbits = 8\nat = 2\nover = [[0, 99]]\n");
  const auto encrypted = save_of(sheet, {7, 0, 0, 0}).recompute();
  ASSERT_TRUE(encrypted);
  EXPECT_EQ(encrypted->recomputed, std::vector<std::string>{"near"});
  ASSERT_EQ(encrypted->not_recomputed.size(), 1U);
  EXPECT_TRUE(encrypted->not_recomputed.front().starts_with("far"));
}

TEST(Sheets, OnlyASheetOfThatGameFits) {
  const Sheet sheet = sheet_of(
      "sheet = 1\nid = \"gba.test\"\n[game]\nplatform = \"gba\"\ncode = \"A99P\"\nsize = 4\n"
      "[[game.magic]]\nat = 1\ntext = \"M\"\n[[field]]\nname = \"a\"\ntype = \"u8\"\n");
  const auto fits = [&](std::optional<GameId> game, std::vector<Byte> bytes) {
    const std::vector<SheetFile> files{{"sram", Blob::copy_of(bytes)}};
    EXPECT_EQ(sheet.misfit(game, files).has_value(), !sheet.fit(game, files).has_value());
    return sheet.fit(game, files).has_value();
  };
  GameId game;
  game.platform = Platform::gba;
  game.code = "A99P";
  EXPECT_TRUE(fits(game, {0, 'M', 0, 0}));
  EXPECT_TRUE(fits(std::nullopt, {0, 'M', 0, 0})) << "the mark tells";
  EXPECT_FALSE(fits(game, {0, 'N', 0, 0}));
  EXPECT_FALSE(fits(game, {0, 'M', 0, 0, 0}));
  game.code = "A99E";
  EXPECT_FALSE(fits(game, {0, 'M', 0, 0}));
  game.platform = Platform::n64;
  EXPECT_FALSE(fits(game, {0, 'M', 0, 0}));
  EXPECT_FALSE(fits(std::nullopt, {}));
}

TEST(Sheets, ForeignBytesNeverHurt) {
  SheetDice dice(5);
  const std::string toml =
      dice.toml() + "[[field]]\nname = \"far\"\nat = \"key\"\ncount = \"key\"\ntype = \"u8\"\n";
  const Sheet sheet = sheet_of(toml);
  for (std::size_t size : {std::size_t{1}, std::size_t{7}, dice.size() / 2, dice.size() + 9}) {
    std::vector<Byte> bytes(size);
    for (Byte& b : bytes) b = dice.byte();
    const SheetSave save = save_of(sheet, bytes);
    (void)save.findings();
    for (const SheetNode& leaf : leaves_of(save)) (void)save.change({{leaf.path, "1"}});
    const auto encrypted = save.recompute();
    EXPECT_TRUE(!encrypted || encrypted->files.front().bytes.size() == size);
  }
}

}  // namespace
}  // namespace bayswap::test
