// Downloads: archives made here by the same library that others make them with, and hostile ones.
#include <archive.h>
#include <archive_entry.h>

#include "fs/archive_store.hpp"
#include "package/fresh_package.hpp"
#include "support/bays.hpp"
#include "support/cards.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

struct Packed {
  std::string name;
  Blob bytes;
  unsigned type = AE_IFREG;
  std::string link = {};
};

Blob packed(const std::vector<Packed>& files, int (*format)(struct archive*) = archive_write_set_format_zip) {
  std::vector<Byte> out(std::size_t{64} << 20);
  std::size_t used = 0;
  struct archive* a = archive_write_new();
  format(a);
  archive_write_set_bytes_in_last_block(a, 1);
  EXPECT_EQ(archive_write_open_memory(a, out.data(), out.size(), &used), ARCHIVE_OK);
  for (const Packed& file : files) {
    archive_entry* entry = archive_entry_new();
    archive_entry_set_pathname(entry, file.name.c_str());
    archive_entry_set_filetype(entry, file.type);
    archive_entry_set_perm(entry, 0644);
    archive_entry_set_mtime(entry, 1935655200, 0);
    archive_entry_set_size(entry, static_cast<la_int64_t>(file.bytes.size()));
    if (!file.link.empty() && file.type == AE_IFLNK) archive_entry_set_symlink(entry, file.link.c_str());
    if (!file.link.empty() && file.type == AE_IFREG) archive_entry_set_hardlink(entry, file.link.c_str());
    EXPECT_EQ(archive_write_header(a, entry), ARCHIVE_OK) << file.name;
    archive_write_data(a, file.bytes.data(), file.bytes.size());
    archive_entry_free(entry);
  }
  archive_write_close(a);
  archive_write_free(a);
  out.resize(used);
  return Blob::copy_of(out);
}

class Archives : public testing::TestWithParam<int (*)(struct archive*)> {};
INSTANTIATE_TEST_SUITE_P(Formats, Archives,
                         testing::Values(archive_write_set_format_zip, archive_write_set_format_7zip,
                                         archive_write_set_format_pax_restricted));

TEST_P(Archives, AreStoresThatAreOnlyRead) {
  const Blob file = packed(
      {{"a.bin", noise(5000, 1)}, {"deep/er/b.bin", noise(70000, 2)}, {"deep/c", noise(3, 3)}}, GetParam());
  ArchiveLimits limits;
  const auto store = ArchiveStore::open(file, "x.zip", limits);
  ASSERT_TRUE(store) << store.error().message;
  EXPECT_EQ(*(*store)->read("deep/er/b.bin"), noise(70000, 2));
  EXPECT_EQ((*store)->list(".")->size(), 2U);
  EXPECT_EQ((*store)->list("deep")->size(), 2U);
  EXPECT_EQ((*(*store)->stat("a.bin"))->modified, 1935655200);
  EXPECT_EQ((*(*store)->stat("deep"))->kind, FileInfo::Kind::folder);
  EXPECT_FALSE(*(*store)->stat("dee"));
  EXPECT_EQ((*store)->replace("a.bin", {}).error().code, ErrorCode::unsupported);
  for (std::size_t cut = 1; cut < file.size(); cut += 997) {
    ArchiveLimits fresh;
    (void)ArchiveStore::open(file.slice(0, cut), "cut", fresh);
  }
}

TEST(HostileArchives, AreRefusedByName) {
  const auto code = [](const std::vector<Packed>& files, ArchiveLimits limits = {}) {
    const auto store =
        ArchiveStore::open(packed(files, archive_write_set_format_pax_restricted), "x.tar", limits);
    EXPECT_FALSE(store);
    EXPECT_TRUE(store || store.error().message.find(files.back().name.substr(0, 20)) != std::string::npos)
        << store.error().message;
    return store ? ErrorCode::io : store.error().code;
  };
  EXPECT_EQ(code({{"ok", noise(1, 1)}, {"../out", noise(1, 1)}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"a/../../out", noise(1, 1)}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"/etc/passwd", noise(1, 1)}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"link", {}, AE_IFLNK, "/etc/passwd"}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"a", noise(1, 1)}, {"hard", {}, AE_IFREG, "a"}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"pipe", {}, AE_IFIFO}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"device", {}, AE_IFCHR}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"twice", noise(1, 1)}, {"twice", noise(2, 1)}}), ErrorCode::unsafe);
  EXPECT_EQ(code({{"back\\slash\\..\\..\\x", noise(1, 1)}}), ErrorCode::unsafe);
  ArchiveLimits few;
  few.max_entries = 2;
  EXPECT_EQ(code({{"a", {}}, {"b", {}}, {"c", {}}}, few), ErrorCode::unsafe);
  ArchiveLimits small;
  small.max_bytes = 1000;
  small.max_ratio = 0;
  EXPECT_EQ(code({{"large", noise(1001, 1)}}, small), ErrorCode::unsafe);
  ArchiveLimits limits;
  const auto bomb =
      ArchiveStore::open(packed({{"bomb", Blob::filled(std::size_t{40} << 20, 0)}}), "x.zip", limits);
  ASSERT_FALSE(bomb);
  EXPECT_NE(bomb.error().message.find("bomb"), std::string::npos);
}

class FileCarry : public testing::Test {
 protected:
  Result<std::vector<Candidate>> find(const std::string& name, const Blob& bytes,
                                      const std::string& game = {}) {
    EXPECT_TRUE(LocalStore().replace(folder_ / name, bytes.view()));
    view_ = bay_->view(catalog_, &titles_);
    return find_candidates(*view_, folder_ / name, game);
  }
  Plan carry_file(const Candidate& one) {
    CarryRequest request;
    request.titles = &titles_;
    request.what = one.where;
    const auto plan = plan_file_carry(*view_, one, request);
    EXPECT_TRUE(plan) << plan.error().message;
    if (!plan || plan->refusal() != nullptr) return plan ? *plan : Plan{};
    EXPECT_TRUE(run(*plan, bay_->store, book_));
    return *plan;
  }
  Folder folder_;
  Catalog catalog_;
  TitleBook titles_ = arcade_titles();
  std::optional<MemoryBay> bay_{std::in_place, "sd", "tree-3ds"};
  std::unique_ptr<BayView> view_;
  MemoryStore blobs_;
  Logbook book_ = *Logbook::open(blobs_, ":memory:");
};

TEST_F(FileCarry, TheFolderMostLikeTheSaveInPlaceIsTaken) {
  const std::string brine = "title/00040000/0ff99200/data/00000001/";
  bay_->put(brine + "world.bin", joined({text_blob("BRNB"), noise(996, 1)}));
  bay_->put(brine + "stamps.bin", noise(64, 2));
  const Blob inner = packed({{"Brine 100%/world.bin", joined({text_blob("BRNB"), noise(996, 7)})},
                             {"Brine 100%/stamps.bin", noise(64, 8)},
                             {"Brine 100%/.DS_Store", noise(9, 9)},
                             {"Brine 100%/Thumbs.db", noise(9, 9)},
                             {"__MACOSX/Brine 100%/._world.bin", noise(9, 9)},
                             {"old/world.bin", noise(10, 9)},
                             {"readme.txt", noise(30, 1)}});
  const auto found = find("outer.zip", packed({{"inner.zip", inner}}));
  ASSERT_TRUE(found) << found.error().message;
  EXPECT_TRUE(found->front().where.ends_with("Brine 100%")) << found->front().where;
  EXPECT_EQ(found->front().facts.game.code, "AB9P") << "whose it is follows from what it is like";
  EXPECT_GT(found->front().score, (*found)[1].score);
  carry_file(found->front());
  EXPECT_EQ(bay_->read(brine + "stamps.bin"), noise(64, 8));
  EXPECT_EQ(bay_->store.list(brine.substr(0, brine.size() - 1))->size(), 2U) << "clutter stays behind";
  EXPECT_EQ((*book_.newest())->kind, EntryKind::carry_file);
  EXPECT_EQ(find("junk.zip", packed({{"a.txt", noise(3, 1)}})).error().code, ErrorCode::not_recognised);
  EXPECT_EQ(find("empty.zip", Blob()).error().code, ErrorCode::not_recognised);
}

TEST_F(FileCarry, ContentSaysWhoseItIs) {
  bay_.emplace("stick", "tree-psp");
  ParameterFile parameters;
  ASSERT_TRUE(parameters.set("SAVEDATA_DIRECTORY", std::string("ULES99031MOOR00"), 64));
  const auto found =
      find("any name.7z",
           packed({{"x/whatever/PARAM.SFO", parameters.encode()}, {"x/whatever/DATA.BIN", noise(50, 1)}},
                  archive_write_set_format_7zip));
  ASSERT_TRUE(found) << found.error().message;
  carry_file(found->front());
  EXPECT_EQ(bay_->read("PSP/SAVEDATA/ULES99031MOOR00/DATA.BIN"), noise(50, 1));

  bay_.emplace("drive", "tree-x360");
  BlockPackage package = fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "x", 2});
  ASSERT_TRUE(package.put("jetty.sav", noise(900, 1).view(), 0));
  BlockPackage own = fresh_package({0x5A5A0993, 0xE000B22D00000002, "Stone Jetty", "y", 2});
  ASSERT_TRUE(own.put("jetty.sav", noise(10, 2).view(), 0));
  const std::string place = "content/E000B22D00000002/5A5A0993/00000001/jetty";
  bay_->put(place, own.image());
  const auto packages = find("download", package.image());
  ASSERT_TRUE(packages) << packages.error().message;
  carry_file(packages->front());
  const auto now = BlockPackage::open(bay_->read(place));
  EXPECT_EQ(*now->read("jetty.sav"), noise(900, 1));
  EXPECT_EQ(now->profile_id(), 0xE000B22D00000002U) << "into the target's own package";
}

TEST_F(FileCarry, ABatterySaveGoesToTheRomItIsNamedAfterAndACardSaveOntoItsCard) {
  bay_.emplace("pc", "n64", "path = \"saves/{rom.stem}{ext}\"\nlayout = \"n64.combined\"\nroms = \"roms\"\n");
  bay_->put("roms/Skiff (EU).z64", n64_rom());
  const Blob save = noise(32768, 3);
  const auto found = find("skiff [100%].sra", save);
  ASSERT_TRUE(found) << found.error().message;
  carry_file(found->front());
  const auto unpacked = unpack(layout(catalog_, "n64.combined"), bay_->read("saves/Skiff (EU).srm"));
  EXPECT_EQ(unpacked->find({PartKind::sram, 0})->bytes, save);

  bay_.emplace("club", "shared-card");
  const CardSave one = made_save(CardKind::ps1, 1, 1, 7);
  const auto singles = find("thing.bin", *to_single_save(one));
  ASSERT_TRUE(singles) << singles.error().message;
  carry_file(singles->front());
  EXPECT_TRUE((*open_card(bay_->read("cards/ps1-card-1.mcr")))->read(one.name)->same_content(one));
}

}  // namespace
}  // namespace bayswap::test
