// The planner over every way of keeping at once: worlds of two bays, made at random, and what must be so
// whatever is in them.
#include <algorithm>
#include <set>

#include "package/fresh_package.hpp"
#include "support/bays.hpp"
#include "support/cards.hpp"
#include "support/failing_store.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using PlacedFiles = std::map<std::string, Blob>;

Blob nes_rom(std::uint32_t seed) {
  std::vector<Byte> bytes = bytes_of(noise(16 + 32768 + 8192, seed));
  const std::vector<Byte> header{0x4e, 0x45, 0x53, 0x1a, 2, 1, 0x12, 0, 1, 0, 0, 0, 0, 0, 0, 0};
  std::ranges::copy(header, bytes.begin());
  return Blob::copy_of(bytes);
}

// One rule of each way of keeping, and n64 in two layouts.
const std::string source_rules =
    "[platform.nes]\npath = \"nes/{rom.stem}.srm\"\nlayout = \"nes.raw\"\nroms = \"roms\"\n"
    "[platform.n64]\npath = \"n64/{rom.stem}{ext}\"\nlayout = \"n64.separate\"\nroms = \"roms\"\n"
    "[platform.3ds]\npath = \"title/{title.high}/{title.low}/data/{slot.8}\"\nkeeps = \"folder\"\n"
    "[platform.ps1]\npath = \"cards/{save.name}.mcr\"\nkeeps = \"card\"\n"
    "[platform.gc]\npath = \"gc/{game.maker}-{game.code}-{save.name}.gci\"\nkeeps = \"single\"\n"
    "[platform.x360]\npath = \"content/{account}/{title.low}/00000001/{save.name}\"\nkeeps = \"package\"\n"
    "[platform.wii]\npath = \"wii/{game.code}/data.bin\"\nkeeps = \"encrypted\"\n";
const std::string target_rules =
    "[platform.nes]\npath = \"{rom.folder}/{rom.stem}.sav\"\nlayout = \"nes.raw\"\nroms = \"g\"\n"
    "[platform.n64]\npath = \"{rom.folder}/{rom.stem}{ext}\"\nlayout = \"n64.combined\"\nroms = \"g\"\n"
    "[platform.3ds]\npath = \"3ds/{title.low}/slot-{slot}\"\nkeeps = \"folder\"\n"
    "[platform.ps1]\npath = \"one.mcr\"\nkeeps = \"card\"\n"
    "[platform.gc]\npath = \"{region.area}/{game.code}-{save.name}.gci\"\nkeeps = \"single\"\n"
    "[platform.x360]\npath = \"x/{account}/{title.low}/{save.name}\"\nkeeps = \"package\"\n"
    "[platform.wii]\npath = \"{game.code}.bin\"\nkeeps = \"encrypted\"\n";

struct World {
  Bay from_bay;
  Bay to_bay;
  MemoryStore from;
  MemoryStore to;
  explicit World(const std::string& more_source = {}, const std::string& more_target = {})
      : from_bay(*parse_bay("root = \"/from\"\n" + source_rules + more_source, "from", "from.toml", "/")),
        to_bay(*parse_bay("root = \"/to\"\n" + target_rules + more_target, "to", "to.toml", "/")) {}
};

void put_file(Store& store, const std::string& path, const Blob& bytes) {
  RC_ASSERT(store.replace(path, bytes.view()).has_value());
}

Blob n64_combined(std::uint32_t seed) {
  return *pack(**Catalog().find("n64.combined"),
               Save{Platform::n64, {{{PartKind::sram, 0}, noise(32768, seed), true}}});
}

void fill_place(World& world, const std::vector<int>& dice) {
  std::size_t next = 0;
  const auto die = [&](int sides) { return dice[next++ % dice.size()] % sides; };
  for (std::uint32_t i = 0; i < 2; ++i) {
    const std::string number = std::to_string(i);
    if (die(3) > 0) {
      put_file(world.from, "roms/Buoy " + number + ".nes", nes_rom(i));
      const int kind = die(4);
      put_file(world.from, "nes/Buoy " + number + ".srm",
               kind == 0   ? Blob::filled(8192, 0xff)
               : kind == 1 ? noise(100, i)
                           : noise(8192, i));
      const int there = die(4);
      if (there != 3) put_file(world.to, "g/Buoy " + number + " (World).nes", nes_rom(i));
      if (there == 1) put_file(world.to, "g/Buoy " + number + " (World).sav", noise(8192, i));
      if (there == 2)
        put_file(world.to, "g/Buoy " + number + " (World).sav", noise(die(2) == 0 ? 8192 : 77, i + 50));
    }
    if (die(3) > 0) {
      const std::string stem = i == 0 ? "Skiff" : "Skiff (Alt)";
      put_file(world.from, "roms/" + stem + ".z64",
               n64_rom({.title = "SKIFF", .code = die(2) == 0 ? "N99P" : "N98P"}));
      put_file(world.from, "n64/" + stem + ".sra", noise(32768, i));
      if (die(2) == 0) put_file(world.from, "n64/" + stem + ".2.mpk", noise(32768, i + 7));
      if (die(3) > 0) put_file(world.to, "g/Skiff the Boat.z64", n64_rom({.title = "SKIFF"}));
      if (die(3) == 0) put_file(world.to, "g/Skiff the Boat.srm", n64_combined(i));
    }
    if (die(2) == 0) {
      const std::string id = "title/00040000/0ff9920" + number + "/data/0000000" + std::to_string(1 + die(2));
      put_file(world.from, id + "/a.bin", noise(300, i));
      put_file(world.from, id + "/deep/b.bin", noise(30, i));
      if (die(2) == 0)
        put_file(world.to, "3ds/0ff9920" + number + "/slot-1/a.bin", noise(300, die(2) == 0 ? i : 9));
    }
    if (die(2) == 0) {
      const auto card = make_card(CardKind::ps1);
      RC_ASSERT(card->put(made_save(CardKind::ps1, die(2), 1, i)).has_value());
      if (die(2) == 0)
        RC_ASSERT(card->put(made_save(CardKind::ps1, 3 + static_cast<int>(i), 2, i)).has_value());
      put_file(world.from, "cards/" + number + ".mcr", card->image());
    }
    if (die(2) == 0) {
      const CardSave save = made_save(CardKind::gc, static_cast<int>(i), 1, i);
      put_file(world.from, "gc/99-" + describe(save).code + "-n" + number + ".gci", *to_single_save(save));
    }
    if (die(2) == 0) {
      BlockPackage package = fresh_package({0x5A5A0993 + i, 0xE000A11D00000001, "Stone Jetty", "x", 2});
      RC_ASSERT(package.put("jetty.sav", noise(900, i).view(), 0).has_value());
      put_file(world.from, "content/E000A11D00000001/5A5A099" + std::to_string(3 + i) + "/00000001/jetty",
               package.image());
    }
    if (die(2) == 0) put_file(world.from, "wii/HZ" + number + "P/data.bin", noise(500, i));
  }
  if (die(2) == 0) {
    const auto card = make_card(CardKind::ps1);
    RC_ASSERT(card->put(made_save(CardKind::ps1, 0, 1, 77)).has_value());
    put_file(world.to, "one.mcr", card->image());
  }
}

class Worlds : public testing::Test {
 protected:
  static std::vector<int> dice() {
    return *rc::gen::container<std::vector<int>>(60, rc::gen::inRange(0, 12));
  }
  Batch all(World& world) {
    BayView from(catalog_, world.from_bay, world.from);
    BayView to(catalog_, world.to_bay, world.to);
    auto batch = plan_all(from, to, {});
    if (!batch) RC_FAIL(batch.error().message);
    return *std::move(batch);
  }
  // What the target holds once the plans have run.
  static PlacedFiles after(const World& world, const std::vector<Plan>& plans) {
    PlacedFiles files = world.to.files();
    for (const Plan& plan : plans)
      for (const FileChange& change : plan.changes) {
        if (change.after)
          files[change.path] = *change.after;
        else
          files.erase(change.path);
      }
    return files;
  }
  Catalog catalog_;
  MemoryStore outside_;
};

TEST_F(Worlds, ADryRunIsTheRunAndEverySaveIsAccountedFor) {
  expect_property_of(50, "the batch has each save of the scan once, and the run does what the plan says",
                     [this] {
                       World world;
                       fill_place(world, dice());
                       const auto source = world.from.files();
                       Batch batch = all(world);
                       const auto saves = scan_bay(catalog_, world.from_bay, world.from);
                       RC_ASSERT(saves.has_value());
                       RC_ASSERT(batch.rows.size() == saves->size());
                       std::set<std::string> paths;
                       for (const BatchRow& row : batch.rows) {
                         RC_ASSERT(paths.insert(row.path).second);
                         RC_ASSERT((row.outcome == BatchRow::Outcome::carried) == row.plan.has_value());
                         RC_ASSERT(row.outcome == BatchRow::Outcome::same || !row.why.empty());
                       }
                       for (const Plan& plan : batch.plans) RC_ASSERT(plan.refusal() == nullptr);
                       const PlacedFiles wanted = after(world, batch.plans);
                       const auto planned = batch.rows;
                       MemoryStore blobs;
                       Logbook book = *Logbook::open(blobs, ":memory:");
                       run_batch(batch, world.to, book);
                       for (std::size_t i = 0; i < planned.size(); ++i)
                         RC_ASSERT(batch.rows[i].outcome == planned[i].outcome);
                       RC_ASSERT(world.to.files() == wanted);
                       RC_ASSERT(world.from.files() == source);
                       // Again: nothing is left to do.
                       for (const BatchRow& row : all(world).rows)
                         RC_ASSERT(row.outcome != BatchRow::Outcome::carried);
                       // And all of it back as one.
                       if (batch.plans.empty()) return;
                       const auto undo = plan_undo(book, {}, world.to);
                       RC_ASSERT(undo.has_value());
                       RC_ASSERT(run(*undo, world.to, book).has_value());
                       PlacedFiles before = wanted;
                       for (const Plan& plan : batch.plans)
                         for (const FileChange& change : plan.changes) {
                           if (change.before)
                             before[change.path] = *change.before;
                           else
                             before.erase(change.path);
                         }
                       RC_ASSERT(world.to.files() == before);
                     });
}

TEST_F(Worlds, AllAtOnceIsEachAlone) {
  expect_property_of(
      50, "a batch says of each save what its own carry says, and ends with the same files", [this] {
        World world;
        fill_place(world, dice());
        World alone;
        for (const auto& [path, bytes] : world.from.files()) put_file(alone.from, path, bytes);
        for (const auto& [path, bytes] : world.to.files()) put_file(alone.to, path, bytes);
        Batch batch = all(world);
        MemoryStore blobs;
        Logbook book = *Logbook::open(blobs, ":memory:");
        for (const BatchRow& row : batch.rows) {
          const auto plan = plan_carry(catalog_, {&alone.from_bay, &alone.from}, {&alone.to_bay, &alone.to},
                                       outside_, {.what = row.path});
          switch (row.outcome) {
            case BatchRow::Outcome::carried:
              RC_ASSERT(plan.has_value());
              RC_ASSERT(plan->refusal() == nullptr);
              if (!plan->changes.empty()) RC_ASSERT(run(*plan, alone.to, book).has_value());
              break;
            case BatchRow::Outcome::same:
              RC_ASSERT(plan.has_value());
              RC_ASSERT(plan->changes.empty());
              break;
            case BatchRow::Outcome::failed:
              RC_ASSERT(!plan.has_value());
              break;
            case BatchRow::Outcome::refused:
              // Carried alone, a save meets no other save at its place.
              if (row.issue == IssueCode::same_place) break;
              RC_ASSERT(!plan.has_value() || plan->refusal() != nullptr);
              break;
            case BatchRow::Outcome::left:
              RC_ASSERT(!plan.has_value() || plan->refusal() != nullptr);
              break;
          }
        }
        run_batch(batch, world.to, book);
        RC_ASSERT(world.to.files() == alone.to.files());
      });
}

TEST_F(Worlds, NoTwoSavesMeetAndNoRuleBesidesChangesAPlan) {
  expect_property_of(50, "each place has one source, and rules of other platforms change nothing", [this] {
    const auto numbers = dice();
    World world;
    fill_place(world, numbers);
    World more("[platform.gba]\npath = \"gba/{rom.stem}.sav\"\nlayout = \"gba.sram\"\nroms = \"roms\"\n",
               "[platform.dc]\npath = \"cards/dc.bin\"\nkeeps = \"card\"\n");
    fill_place(more, numbers);
    const Batch batch = all(world);
    const Batch other = all(more);
    RC_ASSERT(batch.rows.size() == other.rows.size());
    for (std::size_t i = 0; i < batch.rows.size(); ++i) {
      const auto same = std::ranges::find(other.rows, batch.rows[i].path, &BatchRow::path);
      RC_ASSERT(same != other.rows.end());
      RC_ASSERT(same->outcome == batch.rows[i].outcome);
    }
    RC_ASSERT(after(world, batch.plans) == after(more, other.plans));
    std::map<std::string, std::size_t> owners;
    for (std::size_t i = 0; i < batch.plans.size(); ++i)
      for (const FileChange& change : batch.plans[i].changes)
        RC_ASSERT(owners.emplace(change.path, i).second);
  });
}

// A file from outside and the same file in a place: the same content, the same issues.
TEST_F(Worlds, AFileRaisesTheIssuesOfACarry) {
  const Folder folder;
  expect_property("carry and carry of the same bytes raise the same issues", [&] {
    World world;
    const int kind = *rc::gen::inRange(0, 5);
    const Blob save = kind == 0   ? Blob::filled(8192, 0xff)
                      : kind == 1 ? noise(16384, 3)
                      : kind == 2 ? Blob::copy_of([] {
                          std::vector<Byte> bytes(8192);
                          for (std::size_t i = 0; i < bytes.size(); ++i)
                            bytes[i] = i / 64 % 2 == 0 ? 0x00 : 0xff;
                          return bytes;
                        }())
                      : kind == 3 ? joined({noise(4096, 1), noise(4096, 1)})
                                  : noise(8192, 3);
    const int target = *rc::gen::inRange(0, 4);
    put_file(world.from, "roms/Buoy.nes", nes_rom(1));
    put_file(world.from, "nes/Buoy.srm", save);
    put_file(world.to, "g/Buoy.nes", nes_rom(1));
    if (target == 1) put_file(world.to, "g/Buoy.sav", noise(8192, 9));
    if (target == 2) put_file(world.to, "g/Buoy.sav", noise(777, 9));
    if (target == 3) put_file(world.to, "g/Buoy.sav", Blob());
    const auto codes = [](const Result<Plan>& plan) {
      std::set<std::string> found;
      if (!plan) return std::set<std::string>{"error"};
      for (const PlanIssue& issue : plan->issues)
        if (issue.code != IssueCode::one_rom)  // there is no other bay
          found.insert(std::string(to_text(issue.level)) + " " + std::string(to_text(issue.code)));
      return found;
    };
    const auto carried = plan_carry(catalog_, {&world.from_bay, &world.from}, {&world.to_bay, &world.to},
                                    outside_, {.what = "Buoy"});
    RC_ASSERT(LocalStore().replace(folder / "Buoy.srm", save.view()).has_value());
    BayView view(catalog_, world.to_bay, world.to);
    const auto found = find_candidates(view, folder / "Buoy.srm", "");
    if (!found) {
      RC_ASSERT(!carried || carried->refusal() != nullptr);
      return;
    }
    const auto one = std::ranges::find(*found, Platform::nes,
                                       [](const Candidate& candidate) { return candidate.rule->platform; });
    if (one == found->end()) return;
    Candidate candidate = *one;
    for (TreeFile& file : candidate.files) file.modified = 0;  // a MemoryStore keeps no dates
    const auto of_file = plan_file_carry(view, candidate, {});
    RC_ASSERT(codes(of_file) == codes(carried));
    if (of_file && carried && carried->refusal() == nullptr) {
      RC_ASSERT(of_file->changes.size() == carried->changes.size());
      for (std::size_t i = 0; i < carried->changes.size(); ++i)
        RC_ASSERT(of_file->changes[i].after == carried->changes[i].after);
    }
  });
}

// The same save has the same digest in every container.
TEST(ContentDigest, IsTheSameInEveryContainer) {
  const Catalog catalog;
  const Blob chip = joined({noise(500, 3), Blob::filled(12, 0xff)});
  const auto chips_in = [&](const char* layout, const Blob& file) {
    IssueList issues;
    OpenOptions options;
    options.said = *catalog.find(layout);
    options.hints.platform = Platform::n64;
    const auto opened = open_chips(catalog, file, options, issues);
    EXPECT_TRUE(opened) << layout;
    Content content;
    content.kind = Content::Kind::chips;
    if (opened) content.chips = opened->save;
    return digest_of(content);
  };
  // The combined file has room for the larger chip.
  const Save save{Platform::n64, {{{PartKind::eeprom, 0}, joined({chip, Blob::filled(1536, 0xff)}), true}}};
  const Digest raw = chips_in("n64.eeprom", chip);
  const auto combined = pack(**catalog.find("n64.combined"), save);
  ASSERT_TRUE(combined) << combined.error().message;
  EXPECT_EQ(raw, chips_in("n64.combined", *combined));
  EXPECT_NE(raw, chips_in("n64.eeprom", noise(512, 4)));

  const auto made = folder_save("BESLES-99001X", {{"icon.sys", noise(964, 1), 0}, {"data", noise(90, 2), 0}});
  ASSERT_TRUE(made) << made.error().message;
  const CardSave& folder = *made;
  Content on_card;
  on_card.kind = Content::Kind::item;
  on_card.item = folder;
  Content in_folder;
  in_folder.kind = Content::Kind::tree;
  for (const CardFile& file : folder.files) in_folder.tree.push_back({file.name, file.bytes, 5});
  EXPECT_EQ(digest_of(on_card), digest_of(in_folder));
}

// A batch over a target that fails at its n-th change, in every way, at every change: each file is the old or
// the new one, whole, and the old bytes are to be had.
class BatchFailures : public Worlds, public testing::WithParamInterface<FailingStore::Mode> {};
INSTANTIATE_TEST_SUITE_P(Modes, BatchFailures,
                         testing::Values(FailingStore::Mode::error, FailingStore::Mode::error_late,
                                         FailingStore::Mode::intruder, FailingStore::Mode::silent));

TEST_P(BatchFailures, StopNothingAndLoseNothing) {
  const auto make = [](World& world) {
    for (std::uint32_t i = 0; i < 3; ++i) {
      const std::string number = std::to_string(i);
      ASSERT_TRUE(world.from.replace("roms/Buoy " + number + ".nes", nes_rom(i).view()));
      ASSERT_TRUE(world.from.replace("nes/Buoy " + number + ".srm", noise(8192, i).view()));
      ASSERT_TRUE(world.to.replace("g/Buoy " + number + ".nes", nes_rom(i).view()));
      const auto card = make_card(CardKind::ps1);
      ASSERT_TRUE(card->put(made_save(CardKind::ps1, static_cast<int>(i), 1, i)));
      ASSERT_TRUE(world.from.replace("cards/" + number + ".mcr", card->image().view()));
    }
    for (const char* name : {"a", "b", "c"})
      ASSERT_TRUE(world.from.replace(std::string("title/00040000/0ff99200/data/00000001/") + name,
                                     noise(40, static_cast<unsigned>(name[0])).view()));
    ASSERT_TRUE(world.to.replace("g/Buoy 1.sav", noise(8192, 91).view()));
    ASSERT_TRUE(world.to.replace("3ds/0ff99200/slot-1/b", noise(40, 92).view()));
  };
  World reference;
  make(reference);
  const Batch wanted = all(reference);
  ASSERT_EQ(wanted.count(BatchRow::Outcome::carried), 7U);
  const PlacedFiles new_files = after(reference, wanted.plans);
  const PlacedFiles old_files = reference.to.files();
  bool done = false;
  for (int at = 1; !done && at < 60; ++at) {
    World world;
    make(world);
    Batch batch = all(world);
    FailingStore failing(world.to);
    failing.fail_at(at, GetParam());
    MemoryStore blobs;
    Logbook book = *Logbook::open(blobs, ":memory:");
    run_batch(batch, failing, book);
    for (const auto& [path, bytes] : world.to.files()) {
      const bool is_old = old_files.contains(path) && old_files.at(path) == bytes;
      const bool is_new = new_files.contains(path) && new_files.at(path) == bytes;
      EXPECT_TRUE(is_old || is_new || bytes == Blob::filled(5, 7)) << at << " " << path;
    }
    // A tree is whole: all of its files are old, or all are new.
    std::set<bool> tree;
    for (const char* name : {"a", "b", "c"}) {
      const std::string path = std::string("3ds/0ff99200/slot-1/") + name;
      if (GetParam() != FailingStore::Mode::intruder)
        tree.insert(world.to.files().contains(path) && world.to.files().at(path) == new_files.at(path));
    }
    EXPECT_LE(tree.size(), 1U) << at;
    for (const auto& [path, bytes] : old_files)
      if (!world.to.files().contains(path) || world.to.files().at(path) != bytes) {
        EXPECT_TRUE(book.bytes(sha256(bytes.view()))) << at << " " << path;
      }
    // What says that it was carried is there.
    for (const BatchRow& row : batch.rows)
      if (row.outcome == BatchRow::Outcome::carried) {
        EXPECT_TRUE(row.entry);
        for (const FileChange& change : batch.plans[*row.plan].changes) {
          EXPECT_TRUE(world.to.files().contains(change.path) &&
                      world.to.files().at(change.path) == *change.after)
              << at << " " << row.save;
        }
      }
    done = failing.operations() < at;
  }
  EXPECT_TRUE(done) << "every change was made to fail once";
}

}  // namespace
}  // namespace bayswap::test
