// What a second attack found, each at its root: servers that lie, histories and objects made to hurt, names
// that no disk has.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>
#include <bayswap/keyring.hpp>
#include <bayswap/sheet.hpp>
#include <bayswap/sync.hpp>
#include <bayswap/sync_folder.hpp>

#include <chrono>

#include "fs/url.hpp"
#include "fs/xml_events.hpp"
#include "support/bays.hpp"
#include "support/folder.hpp"

namespace bayswap::test {
namespace {

// A server that says "encrypted" once, and "open" from then on.
TEST(SecondAttack, AnEncryptedSyncFolderIsBelievedOnce) {
  MemoryStore sea;
  const auto about = SyncFolder::make(sea, true);
  ASSERT_TRUE(about && about->is_encrypted);
  const auto encrypted = encrypted_store(sea, Keyring::make());
  const std::string open = "sync_folder = 1\nid = \"" + about->id + "\"\n";
  ASSERT_TRUE(sea.replace("sync-folder.toml", text_blob(open).view()));
  auto sync_folder = SyncFolder::open(*about, sea, encrypted.get());
  ASSERT_TRUE(sync_folder);
  const Blob secret = noise(3000, 5);
  ASSERT_TRUE(sync_folder->objects().put(secret));
  for (const auto& [path, bytes] : sea.files()) {
    const auto found = std::search(bytes.view().begin(), bytes.view().end(), secret.view().begin(),
                                   secret.view().begin() + 64);
    EXPECT_EQ(found, bytes.view().end()) << path << " has it in the clear";
  }
  EXPECT_EQ(SyncFolder::open(sea, encrypted.get()).error().code, ErrorCode::unsafe);
}

// 49 KB that say to be 3 GB, and a small object that becomes more than its kind may have.
TEST(SecondAttack, AnObjectIsNoBomb) {
  MemoryStore sea;
  ObjectShelf shelf(sea, "objects");
  const auto large = shelf.put(Blob::filled(max_manifest_bytes + 1, 0));
  ASSERT_TRUE(large);
  EXPECT_EQ(shelf.get(*large, max_manifest_bytes).error().code, ErrorCode::damaged);
  EXPECT_TRUE(shelf.get(*large, max_page_bytes));
  const std::string path = "objects/" + large->hex().substr(0, 1) + "/" + large->hex();
  const Blob file = *sea.read(path);
  std::vector<Byte> lies(file.view().begin(), file.view().end());
  for (std::size_t i = 8; i < 12; ++i) lies[i] = 0xc0;
  ASSERT_TRUE(sea.replace(path, lies));
  EXPECT_EQ(shelf.get(*large).error().code, ErrorCode::damaged);
}

// Thousands of versions of one game that nothing connects, and as many games of one title.
TEST(SecondAttack, AHistoryIsReadInItsOwnTime) {
  const auto begin = std::chrono::steady_clock::now();
  for (const bool one_game : {true, false}) {
    History history;
    for (int i = 0; i < 4000; ++i) {
      Version version;
      version.save.facts.game.platform = Platform::n64;
      version.save.facts.game.title = "LANTERN SKIFF";
      version.save.facts.game.code = one_game ? "N99P" : "N" + std::to_string(10000 + i);
      version.content = std::to_string(i);
      version.noted = i;
      history.add(with_id(std::move(version)));
    }
    std::size_t heads = 0;
    for (const Lineage& lineage : history.lineages()) {
      const auto differing = differing_heads(lineage);
      heads += differing.size();
      EXPECT_EQ(history.common_ancestor(differing) != nullptr, differing.size() == 1);
    }
    EXPECT_EQ(heads, 4000U);
  }
  // It took five minutes for a tenth of that.
  EXPECT_LT(std::chrono::steady_clock::now() - begin, std::chrono::minutes(1));
}

// A chain with forks, by the definition: the common ancestor that no other one came from.
TEST(SecondAttack, TheLastCommonVersionIsStillTheRightOne) {
  History history;
  const auto add = [&](int number, std::vector<VersionId> parents) {
    Version version;
    version.save.facts.game.platform = Platform::n64;
    version.save.facts.game.code = "N99P";
    version.content = std::to_string(number);
    version.parents = std::move(parents);
    version = with_id(std::move(version));
    const VersionId id = version.id;
    history.add(std::move(version));
    return id;
  };
  const VersionId root = add(1, {});
  const VersionId middle = add(2, {root});
  const VersionId left = add(3, {middle});
  const VersionId right = add(4, {middle, root});
  const Lineage* lineage = history.lineage_of(root);
  ASSERT_EQ(differing_heads(*lineage).size(), 2U);
  EXPECT_EQ(history.common_ancestor({history.find(left), history.find(right)})->id, middle);
  // Pruned, and still known to be older.
  history.prune(root, middle);
  history.prune(middle, left);
  EXPECT_EQ(history.known(root)->id, left);
  EXPECT_TRUE(history.descends(left, root));
  EXPECT_EQ(history.known(VersionId{}), nullptr);
  // Two that say to have come from each other.
  VersionId one;
  VersionId two;
  one.bytes[0] = 1;
  two.bytes[0] = 2;
  history.prune(one, two);
  history.prune(two, one);
  EXPECT_EQ(history.known(one), nullptr);
}

struct Tags final : XmlEvents {
  std::size_t started = 0;
  bool start(std::string_view /*name*/) override { return ++started > 0; }
  bool end(std::string_view /*name*/, const std::string& /*text*/) override { return true; }
};

TEST(SecondAttack, XmlIsBounded) {
  const auto nested = [](std::size_t depth) {
    std::string text;
    for (std::size_t i = 0; i < depth; ++i) text += "<a>";
    for (std::size_t i = 0; i < depth; ++i) text += "</a>";
    return text_blob(text);
  };
  Tags tags;
  EXPECT_TRUE(read_xml(nested(32).view(), tags));
  EXPECT_FALSE(read_xml(nested(33).view(), tags));
  tags.started = 0;
  EXPECT_FALSE(read_xml(nested(100000).view(), tags));
  EXPECT_LE(tags.started, 32U);
  const Blob attribute = text_blob("<a b=\"" + std::string(std::size_t{32} << 20, 'x') + "\"/>");
  const auto begin = std::chrono::steady_clock::now();
  EXPECT_FALSE(read_xml(attribute.view(), tags));
  EXPECT_LT(std::chrono::steady_clock::now() - begin, std::chrono::seconds(5));
  EXPECT_TRUE(read_xml(text_blob("<a b=\"" + std::string(30000, 'x') + "\"/>").view(), tags));
}

TEST(SecondAttack, ThisMachineIsAnAddress) {
  for (const char* here : {"http://127.0.0.1/x", "http://127.9.8.7/x", "http://[::1]/x", "http://localhost/x",
                           "http://LOCALHOST/x"})
    EXPECT_TRUE(url_from(here)->is_this_machine()) << here;
  for (const char* there : {"http://127.example/x", "http://127.0.0.1.example/x", "http://1.127.0.0/x",
                            "http://[::2]/x", "http://localhost.example/x"})
    EXPECT_FALSE(url_from(there)->is_this_machine()) << there;
}

TEST(SecondAttack, ANameThatNoDiskHasIsAnErrorOfItsOwn) {
  const auto rule = NameRule::parse("saves/{rom.stem}.srm");
  ASSERT_TRUE(rule);
  NameFacts facts;
  facts.game.platform = Platform::nes;
  facts.rom_path = std::string(251, 'a') + ".nes";
  EXPECT_TRUE(rule->expand(facts));
  facts.rom_path = std::string(252, 'a') + ".nes";
  EXPECT_EQ(rule->expand(facts).error().code, ErrorCode::does_not_fit);
}

// Each derived value names the one before twice: types, and values, double with every level.
TEST(SecondAttack, ASheetHasOneBudget) {
  std::string toml =
      "sheet = 1\nid = \"gba.test\"\n[game]\nplatform = \"gba\"\n"
      "[[field]]\nname = \"d0\"\nat = 0\ntype = \"u8\"\n";
  for (int i = 1; i < 60; ++i)
    toml += "[[field]]\nname = \"d" + std::to_string(i) + "\"\nderived = \"d" + std::to_string(i - 1) +
            " + d" + std::to_string(i - 1) + "\"\n";
  const auto begin = std::chrono::steady_clock::now();
  const auto sheet = Sheet::parse(toml, "test.toml");
  if (sheet) (void)SheetSave(*sheet, {{"sram", Blob::filled(16, 1)}}).show("d59");
  EXPECT_LT(std::chrono::steady_clock::now() - begin, std::chrono::seconds(20));
}

// Who has a file open to write it would write into a file that no name leads to.
TEST(SecondAttack, AFileThatIsOpenForWritingIsNotExchanged) {
  const Folder folder;
  LocalStore disk(folder.path());
  const Blob old = text_blob("old");
  ASSERT_TRUE(disk.create("a.sav", old.view()));
  ASSERT_TRUE(disk.create("b.sav", old.view()));
  const std::vector<FileChange> changes{{"b.sav", old, text_blob("new")}, {"a.sav", old, text_blob("new")}};
  const std::vector<FileChange> removal{{"a.sav", old, {}}};
  for (const int mode : {O_RDWR, O_WRONLY}) {
    const int fd = open((folder / "a.sav").c_str(), mode | O_CLOEXEC);
    std::vector<bool> placed;
    for (const auto& all : {changes, removal}) {
      const auto applied = disk.apply(all, placed);
      ASSERT_FALSE(applied);
      EXPECT_EQ(applied.error().code, ErrorCode::busy) << applied.error().message;
      EXPECT_EQ(*disk.read("a.sav"), old);
    }
    ASSERT_TRUE(disk.replace("b.sav", old.view()));
    ASSERT_EQ(write(fd, "mine", 4), 4);
    close(fd);
    EXPECT_EQ(*disk.read("a.sav"), text_blob("mine")) << "what it writes is where it is looked for";
    ASSERT_TRUE(disk.replace("a.sav", old.view()));
  }
  // Who only reads loses nothing.
  const int fd = open((folder / "a.sav").c_str(), O_RDONLY | O_CLOEXEC);
  std::vector<bool> placed;
  EXPECT_TRUE(disk.apply(changes, placed));
  close(fd);
}

}  // namespace
}  // namespace bayswap::test
