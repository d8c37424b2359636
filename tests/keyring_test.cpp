// Sync folders that only their own devices can read.
#include <bayswap/keyring.hpp>
#include <bayswap/replica.hpp>

#include "base/path.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

const std::string phrase = "gulls over nine moths";

// All bytes and names of a store, in one text.
std::string everything_in(const MemoryStore& store) {
  std::string all;
  for (const auto& [path, bytes] : store.files()) {
    all += path + "\n";
    all.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  }
  return all;
}

TEST(Keyrings, ALockOpensWithItsPassphraseAlone) {
  const Keyring keys = Keyring::make();
  const auto locked = keys.locked(phrase, "0123456789abcdef");
  ASSERT_TRUE(locked);
  EXPECT_EQ(*Keyring::unlocked(*locked, phrase, "0123456789abcdef"), keys);
  const auto wrong = Keyring::unlocked(*locked, phrase + " ", "0123456789abcdef");
  ASSERT_FALSE(wrong);
  EXPECT_EQ(wrong.error().remedy.kind, Remedy::Kind::enter_passphrase);
  EXPECT_FALSE(Keyring::unlocked(*locked, phrase, "fedcba9876543210")) << "of another sync folder";
  EXPECT_EQ(locked->find(phrase), std::string::npos);
  EXPECT_EQ(*Keyring::from_bytes(keys.bytes().view()), keys);
  // What a server could answer instead: no more memory or time than is usual is spent on it.
  for (const auto& [old, now] :
       {std::pair("passes = 6", "passes = 100000"), std::pair("memory = 67108864", "memory = 68719476736"),
        std::pair("passes = 6", "passes = 0"), std::pair("lock = 1", "lock = 2")}) {
    std::string text = *locked;
    text.replace(text.find(old), std::string(old).size(), now);
    EXPECT_FALSE(Keyring::unlocked(text, phrase, "0123456789abcdef")) << now;
  }
  expect_property("any lock", [](const std::string& text) { (void)Keyring::unlocked(text, "x", "y"); });
  expect_property("any ring",
                  [](const std::vector<std::uint8_t>& bytes) { (void)Keyring::from_bytes(bytes); });
}

TEST(Keyrings, NamesSizesAndContentsAreHidden) {
  MemoryStore below;
  const Keyring keys = Keyring::make();
  const auto store = encrypted_store(below, keys);
  const Blob small = noise(700, 1);
  const Blob large = noise(3000, 2);
  ASSERT_TRUE(store->add("objects/a/gull-ledger", small.view()));
  ASSERT_TRUE(store->create("objects/a/moth courier", large.view()));
  ASSERT_TRUE(store->replace("devices/the box in the hall", text_blob("tin orchard tin orchard").view()));
  EXPECT_EQ(*store->read("objects/a/gull-ledger"), small);
  EXPECT_EQ(*store->read_range("objects/a/moth courier", 2990, 100), large.slice(2990, 10));
  EXPECT_EQ(store->list("objects/a")->front().name, "gull-ledger");
  EXPECT_EQ(store->list("devices")->front().name, "the box in the hall");
  EXPECT_EQ(store->create("objects/a/gull-ledger", small.view()).error().code, ErrorCode::unsafe);
  const std::string all = everything_in(below);
  for (const std::string word : {"gull", "moth", "hall", "orchard"})
    EXPECT_EQ(all.find(word), std::string::npos) << word;
  EXPECT_EQ(all.find(std::string(reinterpret_cast<const char*>(small.data()), 16)), std::string::npos);
  std::set<std::size_t> sizes;
  for (const auto& [path, bytes] : below.files()) sizes.insert(bytes.size());
  EXPECT_EQ(sizes.size(), 1U) << "the three are of one size";
  // Another ring sees nothing, and says so.
  const auto other = encrypted_store(below, Keyring::make());
  EXPECT_TRUE(other->list("objects/a")->empty());
  EXPECT_EQ(other->read("objects/a/gull-ledger").error().code, ErrorCode::not_found);
  // The same names and other contents' keys: damaged, never wrong bytes.
  const auto later = encrypted_store(below, keys.with_new_key());
  EXPECT_EQ(*later->read("objects/a/gull-ledger"), small) << "old keys stay good";
  ASSERT_TRUE(later->replace("objects/a/gull-ledger", large.view()));
  EXPECT_EQ(store->read("objects/a/gull-ledger").error().code, ErrorCode::damaged);
}

TEST(Keyrings, NothingThatWasChangedPasses) {
  MemoryStore below;
  const auto store = encrypted_store(below, Keyring::make());
  const Blob bytes = noise(5000, 3);
  ASSERT_TRUE(store->add("objects/a/one", bytes.view()));
  ASSERT_TRUE(store->add("objects/a/two", noise(5000, 4).view()));
  const auto files = below.files();
  const std::string one = [&] {
    for (const auto& [path, encrypted] : files)
      if (*store->read("objects/a/one") == bytes && store->display_path("objects/a/one") == path) return path;
    return std::string();
  }();
  ASSERT_FALSE(one.empty());
  const Blob good = files.at(one);
  expect_property("one bit", [&](std::uint32_t where, std::uint8_t bit) {
    std::vector<Byte> bad(good.data(), good.data() + good.size());
    bad[where % bad.size()] ^= static_cast<Byte>(1U << (bit % 8));
    (void)below.replace(one, bad);
    RC_ASSERT(store->read("objects/a/one").error().code == ErrorCode::damaged);
  });
  for (const std::size_t size :
       {std::size_t{0}, std::size_t{1}, std::size_t{40}, good.size() / 2, good.size() - 1}) {
    (void)below.replace(one, good.slice(0, size).view());
    EXPECT_EQ(store->read("objects/a/one").error().code, ErrorCode::damaged) << size;
  }
  // A file under another's name.
  for (const auto& [path, encrypted] : files)
    if (path != one) (void)below.replace(one, encrypted.view());
  EXPECT_EQ(store->read("objects/a/one").error().code, ErrorCode::damaged);
  // What others left there is not in the list.
  ASSERT_TRUE(below.create("objects/a/readme", text_blob("x").view()));
  ASSERT_TRUE(below.create("objects/a/00112233445566778899aabbccddeeff00", text_blob("x").view()));
  EXPECT_EQ(store->list("objects/a")->size(), 2U);
}

TEST(Keyrings, TwoDevicesChangeThePassphrase) {
  MemoryStore sea;
  const auto about = SyncFolder::make(sea, true);
  ASSERT_TRUE(about && about->is_encrypted);
  EXPECT_EQ(SyncFolder::open(sea).error().code, ErrorCode::bad_usage) << "nothing goes in open";
  const auto first = put_lock(sea, Keyring::make(), phrase, about->id);
  ASSERT_TRUE(first);
  const auto other = open_lock(sea, phrase, about->id);
  ASSERT_TRUE(other);
  EXPECT_EQ(*other, *first);
  const auto changed = put_lock(sea, first->with_new_key(), "another phrase", about->id);
  ASSERT_TRUE(changed);
  EXPECT_NE(*newest_lock(sea), other->lock) << "the other device sees that it was changed";
  EXPECT_FALSE(open_lock(sea, phrase, about->id));
  EXPECT_EQ(*open_lock(sea, "another phrase", about->id), *changed);
  EXPECT_EQ(sea.list("keys")->size(), 1U);
  // What the other one encrypted meanwhile, with a key of its own, is not lost when the rings come together.
  const Keyring own = other->with_new_key();
  ASSERT_TRUE(encrypted_store(sea, own)->add("objects/a/x", text_blob("evening").view()));
  const Keyring both = own.joined_with(*changed);
  EXPECT_EQ(both.contents().back(), changed->contents().back());
  EXPECT_EQ(*encrypted_store(sea, both)->read("objects/a/x"), text_blob("evening"));
}

}  // namespace
}  // namespace bayswap::test
