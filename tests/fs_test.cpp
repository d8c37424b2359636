#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>
#include <bayswap/fs.hpp>

#include <array>
#include <filesystem>
#include <fstream>
#include <thread>

#include "base/path.hpp"
#include "support/builders.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

namespace stdfs = std::filesystem;

void put(const std::string& path, std::string_view text) {
  stdfs::create_directories(stdfs::path(path).parent_path());
  std::ofstream(path, std::ios::binary) << text;
}

std::size_t files_in(const std::string& folder) {
  return static_cast<std::size_t>(
      std::distance(stdfs::directory_iterator(folder), stdfs::directory_iterator()));
}

TEST(Path, Pieces) {
  EXPECT_EQ(join_path("a", "b"), "a/b");
  EXPECT_EQ(join_path("a/", "b"), "a/b");
  EXPECT_EQ(join_path("", "b"), "b");
  EXPECT_EQ(join_path("a", "/b"), "/b");
  EXPECT_EQ(folder_of("a/b/c"), "a/b");
  EXPECT_EQ(folder_of("c"), ".");
  EXPECT_EQ(folder_of("/c"), "/");
  EXPECT_EQ(stem_of("x/Lantern Skiff (Rev 1.1).z64"), "Lantern Skiff (Rev 1.1)");
  EXPECT_EQ(stem_of(".hidden"), ".hidden");
  EXPECT_EQ(extension_of("a.b/c"), "");
  EXPECT_EQ(normalized("a/../b/./c/"), "b/c");
  for (const char* wild : {"", "/a", "a//b", "../a", "a/..", "a/./b", "a/"})
    EXPECT_FALSE(is_safe_relative(wild)) << wild;
  EXPECT_FALSE(is_safe_relative(std::string_view("a\0b", 3)));
  EXPECT_TRUE(is_safe_relative("a/b..c/...d"));
}

// One model, two stores: whatever is done to both, they hold the same files and give the same kinds of error.
TEST(Store, LocalAndMemoryBehaveAlike) {
  expect_property("local and memory stores agree", [] {
    const Folder folder;
    LocalStore local(folder.path());
    MemoryStore memory;
    const auto steps = *rc::gen::inRange(1, 25);
    for (int i = 0; i < steps; ++i) {
      const auto path =
          *rc::gen::element<std::string>("a", "b.sav", "saves/a", "saves/deep/er/x", "../out", "saves//y");
      const Blob bytes = noise(*rc::gen::inRange<std::size_t>(0, 300), *rc::gen::arbitrary<std::uint32_t>());
      const auto code = [](const auto& result) {
        return result ? std::string("fine") : std::string(to_text(result.error().code));
      };
      switch (*rc::gen::inRange(0, 4)) {
        case 0:
          RC_ASSERT(code(local.replace(path, bytes.view())) == code(memory.replace(path, bytes.view())));
          break;
        case 1:
          RC_ASSERT(code(local.create(path, bytes.view())) == code(memory.create(path, bytes.view())));
          break;
        case 2:
          if (is_safe_relative(path)) RC_ASSERT(code(local.remove(path)) == code(memory.remove(path)));
          break;
        default:
          if (!is_safe_relative(path)) break;
          RC_ASSERT(code(local.read(path)) == code(memory.read(path)));
          RC_ASSERT(local.stat(path)->has_value() == memory.stat(path)->has_value());
      }
      std::map<std::string, Blob> seen;
      for (const auto& entry : stdfs::recursive_directory_iterator(folder.path()))
        if (entry.is_regular_file())
          seen[stdfs::relative(entry.path(), folder.path())] =
              *local.read(stdfs::relative(entry.path(), folder.path()));
      RC_ASSERT(seen == memory.files());
    }
  });
}

TEST(LocalStore, ReplaceKeepsPermissionsAndLeavesNothingBehind) {
  const Folder folder;
  put(folder / "save", "old");
  chmod((folder / "save").c_str(), 0640);
  LocalStore store(folder.path());
  ASSERT_TRUE(store.replace("save", text_blob("new").view()));
  EXPECT_EQ(text_of(*store.read("save")), "new");
  struct stat st {};
  ASSERT_EQ(stat((folder / "save").c_str(), &st), 0);
  EXPECT_EQ(st.st_mode & 0777U, 0640U);
  EXPECT_EQ(files_in(folder.path()), 1U);
}

TEST(LocalStore, CreateNeverWritesOver) {
  const Folder folder;
  LocalStore store(folder.path());
  ASSERT_TRUE(store.create("save", text_blob("first").view()));
  const auto again = store.create("save", text_blob("second").view());
  ASSERT_FALSE(again);
  EXPECT_EQ(again.error().code, ErrorCode::unsafe);
  EXPECT_EQ(text_of(*store.read("save")), "first");
}

TEST(LocalStore, FoldersPipesAndMissingThingsAreErrors) {
  const Folder folder;
  stdfs::create_directory(folder / "folder");
  ASSERT_EQ(mkfifo((folder / "pipe").c_str(), 0600), 0);
  LocalStore store(folder.path());
  EXPECT_EQ(store.read("folder").error().code, ErrorCode::bad_usage);
  EXPECT_EQ(store.read("pipe").error().code, ErrorCode::bad_usage) << "and does not hang";
  EXPECT_EQ(store.read("none").error().code, ErrorCode::not_found);
  EXPECT_EQ(store.list("none").error().code, ErrorCode::not_found);
  EXPECT_EQ(store.replace("folder", {}).error().code, ErrorCode::bad_usage);
  EXPECT_EQ(store.replace("pipe", {}).error().code, ErrorCode::bad_usage);
  put(folder / "file", "x");
  EXPECT_FALSE(store.replace("file/below", {}));
  EXPECT_EQ(store.read("file", 0).error().code, ErrorCode::does_not_fit);
  for (const char* path : {"folder", "pipe", "none"}) EXPECT_FALSE(store.read(path).error().hint.empty());
}

TEST(LocalStore, LinksAreFollowedButNeverOutOfTheRoot) {
  const Folder folder;
  put(folder / "outside/save", "outside");
  put(folder / "root/real/save", "inside");
  stdfs::create_symlink("real/save", folder / "root/link");
  stdfs::create_symlink("../outside/save", folder / "root/escape");
  stdfs::create_symlink("../outside", folder / "root/folder");
  stdfs::create_symlink("nowhere", folder / "root/dangling");
  stdfs::create_symlink("loop", folder / "root/loop");
  LocalStore store(folder / "root");
  ASSERT_TRUE(store.replace("link", text_blob("new").view()));
  EXPECT_TRUE(stdfs::is_symlink(folder / "root/link")) << "the link stays a link";
  EXPECT_EQ(text_of(*store.read("real/save")), "new");
  for (const char* path : {"escape", "folder/save", "folder/new", "dangling"}) {
    const auto refused = store.replace(path, text_blob("bad").view());
    ASSERT_FALSE(refused) << path;
    EXPECT_EQ(refused.error().code, ErrorCode::unsafe) << path;
  }
  EXPECT_FALSE(store.replace("loop", text_blob("bad").view()));
  EXPECT_EQ(text_of(*LocalStore(folder.path()).read("outside/save")), "outside");
  EXPECT_EQ(files_in(folder / "outside"), 1U);
}

TEST(LocalStore, ARootThatIsAwayIsNeverMade) {
  const Folder folder;
  LocalStore store(folder / "stick");
  std::vector<bool> placed;
  const std::vector<FileChange> changes{{"saves/x", std::nullopt, text_blob("x")}};
  EXPECT_EQ(store.replace("saves/x", text_blob("x").view()).error().code, ErrorCode::not_found);
  EXPECT_EQ(store.create("x", text_blob("x").view()).error().code, ErrorCode::not_found);
  EXPECT_EQ(store.apply(changes, placed).error().code, ErrorCode::not_found);
  EXPECT_EQ(store.list(".").error().code, ErrorCode::not_found);
  EXPECT_FALSE(stdfs::exists(folder / "stick"));
  stdfs::create_directory(folder / "stick");
  EXPECT_TRUE(store.apply(changes, placed)) << "plugged in";
  EXPECT_EQ(placed, std::vector<bool>{true});
}

TEST(LocalStore, NothingOutOfTheRootIsReadThroughALink) {
  const Folder folder;
  put(folder / "outside/save", "outside");
  put(folder / "root/real/save", "inside");
  stdfs::create_symlink("../outside/save", folder / "root/relative");
  stdfs::create_symlink(folder / "outside/save", folder / "root/absolute");
  stdfs::create_directory_symlink("../outside", folder / "root/folder");
  stdfs::create_symlink(folder / "root/real/save", folder / "root/back-inside");
  LocalStore store(folder / "root");
  for (const char* path : {"relative", "absolute", "folder/save", "../outside/save"})
    EXPECT_EQ(store.read(path).error().code, ErrorCode::unsafe) << path;
  EXPECT_EQ(store.list("folder").error().code, ErrorCode::unsafe);
  EXPECT_EQ(text_of(*store.read("back-inside")), "inside");
}

TEST(LocalStore, ApplyChangesAllOrSaysWhichWereChanged) {
  const Folder folder;
  put(folder / "b", "b0");
  put(folder / "c", "c0");
  LocalStore store(folder.path());
  std::vector<bool> placed;
  const std::vector<FileChange> changes{{"a", std::nullopt, text_blob("a1")},
                                        {"b", text_blob("b0"), text_blob("b1")},
                                        {"c", text_blob("c0"), std::nullopt},
                                        {"deep/er/d", std::nullopt, text_blob("d1")}};
  ASSERT_TRUE(store.apply(changes, placed));
  EXPECT_EQ(placed, (std::vector<bool>{true, true, true, true}));
  EXPECT_EQ(text_of(*store.read("b")), "b1");
  EXPECT_FALSE(*store.stat("c"));
  EXPECT_EQ(text_of(*store.read("deep/er/d")), "d1");
  EXPECT_EQ(files_in(folder.path()), 3U) << "nothing is left lying about";
  // Another program was faster: its bytes stay, and so does what comes after.
  put(folder / "b", "played on");
  const auto late = store.apply(std::vector<FileChange>{{"a", text_blob("a1"), text_blob("a2")},
                                                        {"b", text_blob("b1"), text_blob("b2")},
                                                        {"deep/er/d", text_blob("d1"), std::nullopt}},
                                placed);
  EXPECT_EQ(late.error().code, ErrorCode::busy);
  EXPECT_EQ(placed, (std::vector<bool>{true, false, false}));
  EXPECT_EQ(text_of(*store.read("b")), "played on");
  EXPECT_EQ(text_of(*store.read("deep/er/d")), "d1");
  const auto removal = store.apply(std::vector<FileChange>{{"b", text_blob("b1"), std::nullopt}}, placed);
  EXPECT_EQ(removal.error().code, ErrorCode::busy);
  EXPECT_EQ(text_of(*store.read("b")), "played on");
  EXPECT_EQ(files_in(folder.path()), 3U);
  // Hundreds of files at once, more than may be open.
  std::vector<FileChange> many;
  for (int i = 0; i < 3000; ++i)
    many.push_back({"many/" + std::to_string(i % 7) + "/" + std::to_string(i), std::nullopt, noise(9, 1)});
  ASSERT_TRUE(store.apply(many, placed));
  EXPECT_EQ(*store.read("many/3/2999"), noise(9, 1));
}

TEST(LocalStore, ReplaceKeepsFurtherAttributesAndCountsNames) {
  const Folder folder;
  put(folder / "save", "old");
  const bool has_attributes = setxattr((folder / "save").c_str(), "user.note", "mine", 4, 0) == 0;
  stdfs::create_hard_link(folder / "save", folder / "other name");
  LocalStore store(folder.path());
  EXPECT_EQ((*store.stat("save"))->hard_links, 2U);
  ASSERT_TRUE(store.replace("save", text_blob("new").view()));
  EXPECT_EQ(text_of(*store.read("other name")), "old");
  std::array<char, 16> value{};
  if (has_attributes) {
    ASSERT_EQ(getxattr((folder / "save").c_str(), "user.note", value.data(), value.size()), 4);
    EXPECT_STREQ(value.data(), "mine");
  }
}

TEST(LocalStore, ARootBelowALinkIsAsGoodAsAnyOther) {
  const Folder folder;
  stdfs::create_directories(folder / "real/root");
  stdfs::create_directory_symlink("real", folder / "link");
  LocalStore store(folder / "link/root");
  ASSERT_TRUE(store.replace("deep/save", text_blob("x").view()));
  EXPECT_EQ(text_of(*store.read("deep/save")), "x");
  EXPECT_EQ(store.list("deep")->size(), 1U);
  ASSERT_TRUE(store.remove("deep/save"));
}

TEST(LocalStore, TwoWritersOfOneFileDontMix) {
  const Folder folder;
  std::vector<std::jthread> writers;
  for (int w = 0; w < 4; ++w)
    writers.emplace_back([&folder, w] {
      LocalStore store(folder.path());
      for (int i = 0; i < 50; ++i) {
        const auto done = store.replace("save", Blob::filled(60000, static_cast<Byte>(w)).view());
        EXPECT_TRUE(done || done.error().code == ErrorCode::busy);
      }
    });
  writers.clear();
  LocalStore store(folder.path());
  const Blob bytes = *store.read("save");
  EXPECT_EQ(bytes.size(), 60000U);
  EXPECT_TRUE(is_uniform(bytes.view())) << "one writer's bytes, whole";
  EXPECT_EQ(files_in(folder.path()), 1U);
}

TEST(FileLock, OneHolderAtATime) {
  const Folder folder;
  const std::string path = folder / "made/on/the/way/lock";
  bool waited = false;
  {
    const auto held = FileLock::acquire(path, 0);
    ASSERT_TRUE(held) << held.error().message;
    const auto second = FileLock::acquire(path, 0, [&] { waited = true; });
    ASSERT_FALSE(second);
    EXPECT_EQ(second.error().code, ErrorCode::busy);
    EXPECT_TRUE(waited);
  }
  EXPECT_TRUE(FileLock::acquire(path, 0));
}

TEST(Home, FollowsItsVariables) {
  const auto with = [](std::initializer_list<std::pair<const char*, const char*>> values) {
    for (const char* name : {"BAYSWAP_HOME", "HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"}) unsetenv(name);
    for (const auto& [name, value] : values) setenv(name, value, 1);
    return Home::of_user();
  };
  EXPECT_EQ(with({{"BAYSWAP_HOME", "/x"}})->bays, "/x/bays");
  EXPECT_EQ(with({{"HOME", "/h"}})->bays, "/h/.config/bayswap/bays");
  EXPECT_EQ(with({{"HOME", "/h"}})->data, "/h/.local/share/bayswap/logbook");
  EXPECT_EQ(with({{"HOME", "/h"}, {"XDG_CONFIG_HOME", "/c"}, {"XDG_DATA_HOME", "relative"}})->layouts,
            "/c/bayswap/layouts");
  EXPECT_EQ(with({{"HOME", "/h"}, {"XDG_DATA_HOME", "relative"}})->data, "/h/.local/share/bayswap/logbook");
  EXPECT_FALSE(with({}));
  setenv("HOME", "/tmp", 1);
}

}  // namespace
}  // namespace bayswap::test
