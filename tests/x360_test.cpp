// x360 packages against their definition, restated here apart from the library.
#include <bayswap/package.hpp>

#include <map>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "package/fresh_package.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

// A reader of its own: tables found by counting through the file, not by the library's sums.
class PackageReader {
 public:
  explicit PackageReader(const Blob& image) : image_(image), b_(image.view()) {
    base_ = (be32(b_, 0x340) + 0xFFFU) / 0x1000 * 0x1000;
    copies_ = (b_[0x37B] & 1) != 0 ? 1 : 2;
    total_ = be32(b_, 0x395);
    // Walk over the whole package: groups of 170 blocks after their table; after the first group of a
    // package that has more comes the table of tables.
    std::size_t at = 0;
    for (std::uint32_t block = 0; block < total_; ++block) {
      if (block % 170 == 0) {
        if (block == 170) {
          top_ = at;
          at += copies_;
        }
        tables_.push_back(at);
        at += copies_;
      }
      blocks_.push_back(at++);
    }
  }
  // Every hash from the blocks up to the header is right.
  void verify() const {
    EXPECT_EQ(hash(ByteView(b_).subspan(0x344, base_ - 0x344)), slice(0x32C, 20)) << "header";
    const bool second = copies_ == 2 && (b_[0x37B] & 2) != 0;
    const std::size_t top = total_ > 170 ? top_ : tables_.front();
    EXPECT_EQ(hash(page(top + (second ? 1 : 0))), slice(0x381, 20)) << "top table";
    for (std::size_t t = 0; t < tables_.size(); ++t)
      if (total_ > 170) {
        EXPECT_EQ(hash(page(active(t))), slice(at_of(top + (second ? 1 : 0)) + t * 24, 20)) << "table " << t;
      }
    for (std::uint32_t block = 0; block < total_; ++block)
      if ((status(block) & 0x80) != 0) {
        EXPECT_EQ(hash(page(blocks_[block])), slice(entry_at(block), 20)) << "block " << block;
      }
  }
  std::map<std::string, Blob> files() const {
    std::vector<Byte> table;
    for (const std::uint32_t block : chain(le24(b_, 0x37E), le16(b_, 0x37C)))
      table.insert(table.end(), page(blocks_[block]).begin(), page(blocks_[block]).end());
    std::map<std::string, Blob> files;
    for (std::size_t i = 0; i * 64 < table.size(); ++i) {
      if (table[i * 64 + 40] == 0 || (table[i * 64 + 40] & 0x80) != 0) continue;
      std::string path = name(table, i);
      for (std::uint16_t up = be16(table, i * 64 + 50); up != 0xFFFF; up = be16(table, up * 64U + 50))
        path = name(table, up) + "/" + path;
      const std::size_t size = be32(table, i * 64 + 52);
      std::vector<Byte> bytes;
      for (const std::uint32_t block :
           chain(le24(table, i * 64 + 47), static_cast<std::uint32_t>((size + 4095) / 4096)))
        bytes.insert(bytes.end(), page(blocks_[block]).begin(), page(blocks_[block]).end());
      bytes.resize(size);
      files[path] = Blob::copy_of(bytes);
    }
    return files;
  }

 private:
  static std::uint32_t le24(ByteView bytes, std::size_t at) { return le32(bytes, at) & 0xFFFFFFU; }
  static std::string name(const std::vector<Byte>& table, std::size_t i) {
    const auto from = table.begin() + static_cast<std::ptrdiff_t>(i * 64);
    return {from, from + (table[i * 64 + 40] & 0x3F)};
  }
  static std::vector<Byte> hash(ByteView bytes) {
    const auto digest = sha1(bytes);
    return {digest.begin(), digest.end()};
  }
  std::vector<Byte> slice(std::size_t at, std::size_t count) const {
    return bytes_of(image_.slice(at, count));
  }
  std::size_t at_of(std::size_t place) const { return base_ + place * 0x1000; }
  ByteView page(std::size_t place) const { return b_.subspan(at_of(place), 0x1000); }
  std::size_t active(std::size_t table) const {
    if (copies_ == 1) return tables_[table];
    if (total_ <= 170) return tables_[table] + ((b_[0x37B] & 2) != 0 ? 1U : 0U);
    const std::size_t top = at_of(top_ + ((b_[0x37B] & 2) != 0 ? 1 : 0));
    return tables_[table] + ((b_[top + table * 24 + 20] & 0x40) != 0 ? 1U : 0U);
  }
  std::size_t entry_at(std::uint32_t block) const { return at_of(active(block / 170)) + block % 170 * 24; }
  unsigned status(std::uint32_t block) const { return b_[entry_at(block) + 20]; }
  std::vector<std::uint32_t> chain(std::uint32_t block, std::uint32_t count) const {
    std::vector<std::uint32_t> blocks;
    for (; count > 0; --count) {
      blocks.push_back(block);
      block = be32(b_, entry_at(block) + 20) & 0xFFFFFF;
    }
    if (!blocks.empty()) {
      EXPECT_EQ(block, 0xFFFFFFU) << "the chain ends";
    }
    return blocks;
  }

  Blob image_;
  ByteView b_;
  std::size_t base_ = 0;
  std::size_t copies_ = 1;
  std::uint32_t total_ = 0;
  std::size_t top_ = 0;
  std::vector<std::size_t> tables_;
  std::vector<std::size_t> blocks_;
};

constexpr std::int64_t spring = 1935655200;

class Packages : public testing::TestWithParam<int> {
 protected:
  BlockPackage fresh() const {
    return fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "Marek's jetty", GetParam()});
  }
};
INSTANTIATE_TEST_SUITE_P(Copies, Packages, testing::Values(1, 2));

TEST_P(Packages, SayWhoseTheyAre) {
  BlockPackage package = fresh();
  EXPECT_EQ(package.signer(), "CON ");
  EXPECT_EQ(package.content_type(), 1U);
  EXPECT_EQ(package.title_id(), 0x5A5A0993U);
  EXPECT_EQ(package.profile_id(), 0xE000A11D00000001U);
  EXPECT_EQ(package.title_name(), "Stone Jetty");
  EXPECT_EQ(package.display_name(), "Marek's jetty");
  EXPECT_EQ(package.table_copies(), GetParam());
  const std::string longest(127, 'm');
  EXPECT_EQ(fresh_package({1, 2, "", longest, GetParam()}).display_name(), longest)
      << "128 units of 16 bits a language";
  package.set_profile_id(0x1122334455667788);
  EXPECT_EQ(BlockPackage::open(package.image())->profile_id(), 0x1122334455667788U);
  PackageReader(package.image()).verify();
}

TEST_P(Packages, HoldWhatIsPutIntoThem) {
  expect_property_of(40, "puts and drops against a map, every hash right after each", [this] {
    BlockPackage package = fresh();
    std::map<std::string, Blob> model;
    for (int step = *rc::gen::inRange(1, 8); step > 0; --step) {
      const std::string name = *rc::gen::element<std::string>("a", "b.sav", "photos/c", "photos/deep/d", "e");
      if (model.contains(name) && *rc::gen::inRange(0, 3) == 0) {
        RC_ASSERT(package.drop(name).has_value());
        model.erase(name);
      } else {
        const Blob bytes = noise(*rc::gen::element<std::size_t>(0, 1, 4095, 4096, 4097, 30000, 200000), 3);
        RC_ASSERT(package.put(name, bytes.view(), spring).has_value());
        model[name] = bytes;
      }
      const auto again = BlockPackage::open(package.image());
      RC_ASSERT(again.has_value());
      RC_ASSERT(again->check().empty());
      for (const auto& [path, bytes] : model) RC_ASSERT(*again->read(path) == bytes);
      const PackageReader reader(package.image());
      reader.verify();
      RC_ASSERT(reader.files() == model);
    }
  });
}

TEST_P(Packages, GrowOverTheFirstTableAndKeepWhatWasThere) {
  BlockPackage package = fresh();
  const Blob first = noise(100 * 4096, 1);
  const Blob second = noise(250 * 4096 + 7, 2);
  ASSERT_TRUE(package.put("first", first.view(), spring));
  ASSERT_TRUE(package.put("second", second.view(), spring));
  PackageReader reader(package.image());
  reader.verify();
  EXPECT_EQ(reader.files()["first"], first);
  EXPECT_EQ(reader.files()["second"], second);
  EXPECT_EQ(package.files()[0].modified, spring);
  // At FF0 each table has the number of blocks under it: of the groups of 170, and of the table over them.
  const Blob image = package.image();
  const std::uint32_t total = be32(image.view(), 0x395);
  ASSERT_GT(total, 340U);
  const auto copies = static_cast<std::size_t>(GetParam());
  const auto count_in = [&](std::size_t place) { return be32(image.view(), 0xA000 + place * 4096 + 0xFF0); };
  EXPECT_EQ(count_in(0), 170U);
  EXPECT_EQ(count_in(170 + copies), total);
  EXPECT_EQ(count_in(170 + copies + copies), 170U);
  EXPECT_EQ(count_in(2 * (170 + copies) + copies), total - 340);
  EXPECT_EQ(package.put("too much", noise(70 << 20, 1).view(), spring).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(PackageReader(package.image()).files().size(), 2U) << "nothing half done";
}

TEST_P(Packages, OfTwoTablesTheOneThatCountsIsReadAndWritten) {
  if (GetParam() == 1) return;
  BlockPackage package = fresh();
  ASSERT_TRUE(package.put("a", noise(9000, 1).view(), spring));
  // As a console leaves it after a second write: the other copy counts, and the first is out of date.
  std::vector<Byte> image = bytes_of(package.image());
  std::copy_n(image.begin() + 0xA000, 0x1000, image.begin() + 0xB000);
  std::fill_n(image.begin() + 0xA000, 0x1000, Byte{0x77});
  image[0x37B] |= 2;
  auto other = BlockPackage::open(Blob::copy_of(image));
  ASSERT_TRUE(other);
  EXPECT_EQ(*other->read("a"), noise(9000, 1));
  ASSERT_TRUE(other->put("a", noise(5000, 2).view(), spring));
  PackageReader(other->image()).verify();
  ASSERT_TRUE(other->put("big", noise(200 * 4096, 2).view(), spring));
  PackageReader(other->image()).verify();
}

TEST_P(Packages, DamageIsNamedAndHostileOnesAreRefused) {
  BlockPackage package = fresh();
  ASSERT_TRUE(package.put("a", noise(9000, 1).view(), spring));
  std::vector<Byte> image = bytes_of(package.image());
  image.back() ^= 1;
  const auto damaged = BlockPackage::open(Blob::copy_of(image));
  ASSERT_EQ(damaged->check().size(), 1U);
  EXPECT_NE(damaged->check()[0].find("block"), std::string::npos);
  // What was wrong before a change stays wrong, and is still told.
  BlockPackage changed = *damaged;
  ASSERT_TRUE(changed.put("b", noise(10, 1).view(), spring));
  EXPECT_EQ(changed.check().size(), 1U);
  EXPECT_EQ(package.read("b").error().code, ErrorCode::not_found);
  EXPECT_EQ(package.put(std::string(41, 'x'), {}, 0).error().code, ErrorCode::does_not_fit);
  EXPECT_EQ(package.put("a/b", {}, 0).error().code, ErrorCode::bad_usage);
  EXPECT_EQ(BlockPackage::open(Blob::copy_of(image).slice(0, 0xA800)).error().code, ErrorCode::damaged);
  expect_property("whatever becomes of its bytes, it is read within them", [&] {
    std::vector<Byte> bytes = image;
    for (int i = *rc::gen::inRange(1, 12); i > 0; --i) {
      const auto at =
          *rc::gen::element<std::size_t>(0x340, 0x379, 0x37B, 0x37C, 0x37E, 0x395, 0xA014, 0xB000, 0xC000);
      bytes[at + *rc::gen::inRange<std::size_t>(0, 64)] = *rc::gen::arbitrary<Byte>();
    }
    auto read = BlockPackage::open(Blob::copy_of(bytes));
    if (!read) return;
    for (const PackagedFile& file : read->files()) (void)read->read(file.path);
    (void)read->check();
    (void)read->put("x", ByteView(bytes).first(9000), 0);
  });
}

}  // namespace
}  // namespace bayswap::test
