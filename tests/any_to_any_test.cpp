// From any form of bay to any other that keeps the platform, and back: what arrives is what left, whichever
// way it went, and undoing it all leaves every bay as it was.
#include <algorithm>

#include "support/bays.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using Files = std::map<std::string, Blob>;

class Road {
 public:
  explicit Road(const Catalog& catalog) : catalog_(catalog) {}

  // Planned and run; whatever forbids it is a failure of the property.
  void carry(MemoryBay& from, MemoryBay& to, CarryRequest request) {
    request.titles = &titles_;
    const auto plan = plan_carry(catalog_, from.open(), to.open(), outside_, request);
    if (!plan) RC_FAIL(from.bay.name + " to " + to.bay.name + ": " + plan.error().message);
    if (const PlanIssue* refusal = plan->refusal())
      RC_FAIL(from.bay.name + " to " + to.bay.name + ": " + refusal->text);
    if (plan->changes.empty()) return;
    const auto id = run(*plan, to.store, book_);
    if (!id) RC_FAIL(id.error().message);
    done_.push_back({*id, &to});
  }
  void undo_all() {
    for (; !done_.empty(); done_.pop_back()) {
      const auto plan = plan_undo(book_, done_.back().first, done_.back().second->store);
      if (!plan) RC_FAIL(plan.error().message);
      RC_ASSERT(run(*plan, done_.back().second->store, book_).has_value());
    }
  }

 private:
  const Catalog& catalog_;
  TitleBook titles_ = arcade_titles();
  MemoryStore outside_;
  MemoryStore blobs_;
  Logbook book_ = *Logbook::open(blobs_, ":memory:");
  std::vector<std::pair<std::int64_t, MemoryBay*>> done_;
};

Files files_of(const MemoryBay& bay) {
  return bay.store.files();
}

// ---- Folders ------------------------------------------------------------------------------------

struct FolderPlatform {
  std::string what;              // the game, as the arcade's titles have it
  std::string folder;            // where a save of it lies in the tree's own form
  std::string tree;              // that form
  std::vector<std::string> via;  // others that keep it
};
const std::vector<FolderPlatform> folder_platforms{
    {"0ff99200", "title/00040000/0ff99200/data/00000001/", "tree-3ds", {"sd-slots", "tree-3ds"}},
    {"HZ9P", "title/00010000/485a3950/data/", "tree-wii", {"sd-slots", "tree-wii"}},
    {"1ff99300", "usr/save/00050000/1ff99300/user/80000001/", "tree-wiiu", {"tree-wiiu"}},
};

TEST(AnyToAny, FoldersOfFilesComeBackAsTheyWere) {
  const Catalog catalog;
  expect_property_of(120, "out by any road and home again", [&] {
    const FolderPlatform& platform = *rc::gen::elementOf(folder_platforms);
    MemoryBay home("home", platform.tree);
    Files own;
    const int count = *rc::gen::inRange(1, 6);
    for (int i = 0; i < count; ++i) {
      const std::string below = *rc::gen::element<std::string>("", "sub/", "sub/deeper/");
      const std::string name = *rc::gen::element<std::string>("a.bin", "save", "B.dat", "x y", "z.z.z");
      const Blob bytes = noise(*rc::gen::inRange<std::size_t>(1, 3000), static_cast<std::uint32_t>(i + 1));
      home.put(platform.folder + below + name, bytes);
    }
    own = files_of(home);
    Road road(catalog);
    std::vector<std::unique_ptr<MemoryBay>> way;
    MemoryBay* at = &home;
    const int stops = *rc::gen::inRange(1, 4);
    for (int i = 0; i < stops; ++i) {
      const std::string form = *rc::gen::elementOf(platform.via);
      way.push_back(std::make_unique<MemoryBay>(form + std::to_string(i), form));
      CarryRequest request;
      request.what = platform.what;
      road.carry(*at, *way.back(), request);
      at = way.back().get();
      RC_ASSERT(files_of(*at).size() == own.size());
    }
    // Home again, where other progress was made meanwhile.
    home.put(own.begin()->first, noise(77, 99));
    const Files meanwhile = files_of(home);
    CarryRequest request;
    request.what = platform.what;
    road.carry(*at, home, request);
    RC_ASSERT(files_of(home) == own);
    road.undo_all();
    RC_ASSERT(files_of(home) == meanwhile);
    for (const auto& stop : way) RC_ASSERT(files_of(*stop).empty());
  });
}

// ---- Cards --------------------------------------------------------------------------------------

TEST(AnyToAny, CardsAndSingleSavesHoldTheSame) {
  const Catalog catalog;
  const std::map<CardKind, std::vector<std::string>> forms{
      {CardKind::ps1, {"shared-card", "card-per-game"}},
      {CardKind::ps2, {"shared-card", "card-per-game"}},
      {CardKind::gc, {"shared-card", "card-per-game", "single-save-tree"}},
      {CardKind::dc, {"shared-card", "card-per-game"}},
      {CardKind::sat, {"shared-card", "card-per-game"}}};
  const std::map<CardKind, std::string> first_card{{CardKind::ps1, "cards/ps1-card-1.mcr"},
                                                   {CardKind::ps2, "cards/ps2-card-1.ps2"},
                                                   {CardKind::gc, "cards/gc-card-1.raw"},
                                                   {CardKind::dc, "cards/dc-card-1.bin"},
                                                   {CardKind::sat, "cards/sat-card-1.bkr"}};
  expect_property_of(12, "one save by any road, and home onto the card", [&] {
    const auto& [kind, roads] = *rc::gen::elementOf(
        std::vector<std::pair<CardKind, std::vector<std::string>>>(forms.begin(), forms.end()));
    MemoryBay home("home", "shared-card");
    const auto card = make_card(kind);
    const CardSave save = made_save(kind, 1, least_blocks(kind) + *rc::gen::inRange<std::size_t>(0, 3), 7);
    const CardSave other = made_save(kind, 2, least_blocks(kind), 8);
    RC_ASSERT(card->put(save).has_value());
    RC_ASSERT(card->put(other).has_value());
    home.put(first_card.at(kind), card->image());
    const Files own = files_of(home);
    Road road(catalog);
    std::vector<std::unique_ptr<MemoryBay>> way;
    MemoryBay* at = &home;
    const int stops = *rc::gen::inRange(1, 4);
    CarryRequest request;
    request.what = save.name;
    for (int i = 0; i < stops; ++i) {
      const std::string form = *rc::gen::elementOf(roads);
      way.push_back(std::make_unique<MemoryBay>(form + std::to_string(i), form));
      road.carry(*at, *way.back(), request);
      at = way.back().get();
      RC_ASSERT(files_of(*at).size() == 1U);
    }
    // The card at home lost it; the other save stays where it is.
    RC_ASSERT(card->drop(save.name).has_value());
    home.put(first_card.at(kind), card->image());
    const Files without = files_of(home);
    road.carry(*at, home, request);
    const auto back = open_card(home.read(first_card.at(kind)));
    RC_ASSERT(back.has_value());
    RC_ASSERT((*back)->check().empty());
    RC_ASSERT((*back)->read(save.name)->same_content(save));
    RC_ASSERT((*back)->read(other.name)->same_content(other));
    RC_ASSERT(describe(*(*back)->read(save.name)).modified == describe(save).modified);
    road.undo_all();
    RC_ASSERT(files_of(home) == without);
    for (const auto& stop : way) RC_ASSERT(files_of(*stop).empty());
  });
}

// ---- Files of layouts ---------------------------------------------------------------------------

TEST(AnyToAny, BatterySavesKeepEveryByteOfTheChips) {
  const Catalog catalog;
  const std::vector<std::string> forms{"beside-rom", "stem-folder", "stem-hash", "code-folder", "flash-cart"};
  expect_property_of(60, "chips by any road and home again", [&] {
    // The ROM has another name and another byte order in each bay.
    const auto furnish = [&](MemoryBay& bay, int number) {
      RomWords words;
      words.order = *rc::gen::element(RomOrder::native, RomOrder::swap16, RomOrder::swap32);
      const std::string& roms = bay.bay.rule(Platform::n64)->roms;
      bay.put((roms == "." ? "" : roms + "/") + "Skiff " + std::to_string(number) + " (Europe).n64",
              n64_rom(words));
    };
    Save save{Platform::n64, {}};
    const auto add = [&](PartKind kind, std::size_t size) {
      if (*rc::gen::arbitrary<bool>() || (save.parts.empty() && kind == PartKind::flash))
        save.parts.push_back({{kind, 0}, noise(size, static_cast<std::uint32_t>(size))});
    };
    add(PartKind::eeprom, 2048);
    add(PartKind::sram, 32768);
    add(PartKind::flash, 131072);
    MemoryBay home("home", "beside-rom");
    furnish(home, 0);
    ConvertRequest request;
    request.inputs.push_back(save);
    request.to = *catalog.find("n64.combined");
    const auto made = convert(catalog, request);
    RC_ASSERT(made.has_value());
    const std::string path = "Skiff 0 (Europe)" + request.to->extension;
    home.put(path, made->files.front().bytes);
    const Files own = files_of(home);
    Road road(catalog);
    std::vector<std::unique_ptr<MemoryBay>> way;
    MemoryBay* at = &home;
    const int stops = *rc::gen::inRange(1, 4);
    CarryRequest carry;
    carry.what = "N99P";
    for (int i = 0; i < stops; ++i) {
      const std::string form = *rc::gen::elementOf(forms);
      way.push_back(std::make_unique<MemoryBay>(form + std::to_string(i), form));
      furnish(*way.back(), i + 1);
      road.carry(*at, *way.back(), carry);
      at = way.back().get();
      RC_ASSERT(files_of(*at).size() > 1U);
    }
    home.put(path, Blob::filled(made->files.front().bytes.size(), 0xff));  // a cartridge that forgot
    const Files blank = files_of(home);
    road.carry(*at, home, carry);
    const auto back = open_save(*request.to, home.read(path), {});
    RC_ASSERT(back.has_value());
    for (const Part& part : save.parts) {
      const Part* there = back->save.find(part.role);
      RC_ASSERT(there != nullptr);
      RC_ASSERT(there->bytes == part.bytes);
    }
    road.undo_all();
    RC_ASSERT(files_of(home) == blank);
  });
}

}  // namespace
}  // namespace bayswap::test
