// Whole sticks and home folders at random: several players' places, cards, discs and trees of ids beside each
// other, among documents. Of each, every save is found and nothing else is taken for one, whatever lies
// beside it.
#include <bayswap/card.hpp>
#include <bayswap/detect.hpp>
#include <bayswap/package.hpp>

#include "package/fresh_package.hpp"
#include "support/cards.hpp"
#include "support/random_places.hpp"

namespace bayswap::test {
namespace {

using Saves = std::map<std::string, std::string>;  // the console, by path

struct Disk {
  Files files;
  Saves saves;

  void save(const std::string& tag, const std::string& path, const Blob& bytes) {
    files[path] = bytes;
    saves[path] = tag;
  }
  [[nodiscard]] std::string text() const {
    std::string all;
    for (const auto& [path, bytes] : files)
      all += path + " " + std::to_string(bytes.size()) +
             (saves.contains(path) ? "  <- " + saves.at(path) : "") + "\n";
    return all;
  }
};

Blob card_of(CardKind kind, int number) {
  auto card = make_card(kind);
  for (int i = 0; i <= die(3); ++i)
    RC_ASSERT(
        card->put(made_save(kind, number + i, least_blocks(kind), static_cast<unsigned>(i))).has_value());
  return card->image();
}

Blob whole_parameters(const std::string& title) {
  ParameterFile file;
  RC_ASSERT(file.set("CATEGORY", std::string("MS"), 4).has_value());
  RC_ASSERT(file.set("TITLE", title, 128).has_value());
  return file.encode();
}

void add_cartridges(Disk& disk, const std::string& at) {
  const std::vector<Game> games = some_games();
  Habit habit;
  habit.prefix = at;
  habit.combined = die(2) == 0;
  Place here(games, habit);
  for (std::size_t i = 0; i < games.size(); ++i)
    if (i == 0 || die(3) > 0) {
      here.keep(games[i], static_cast<std::uint32_t>(i));
      here.litter(games[i]);
    }
  disk.files.insert(here.files.begin(), here.files.end());
  disk.saves.insert(here.saves.begin(), here.saves.end());
}

struct CardForm {
  CardKind kind;
  std::string tag;
  std::string extension;
};
void add_cards(Disk& disk, const std::string& at) {
  static const std::vector<CardForm> forms{{CardKind::ps1, "ps1", ".mcr"}, {CardKind::ps1, "ps1", ".mcd"},
                                           {CardKind::ps2, "ps2", ".ps2"}, {CardKind::gc, "gc", ".raw"},
                                           {CardKind::n64, "n64", ".mpk"}, {CardKind::dc, "dc", ".bin"},
                                           {CardKind::sat, "sat", ".bkr"}};
  const CardForm form = one_of(forms);
  const std::string folder = at + one_of<std::string>({"memcards/", "cards/", "", "Memory Cards/", "mc/"});
  const std::string name = one_of<std::string>({"card ", "shared", "Mila-", "slot_"});
  const int count = 1 + die(3);
  for (int i = 1; i <= count; ++i)
    disk.save(form.tag, folder + name + std::to_string(i) + form.extension, card_of(form.kind, i * 4));
}

void add_tree(Disk& disk, const std::string& at) {
  const int number = die(90) + 10;
  const std::string two = std::to_string(number);
  switch (die(6)) {
    case 5: {
      const std::string folder = at + "save/7f4a7c" + two + "/user/80000011";
      disk.files[folder + "/scores.bin"] = noise(900, 1);
      disk.saves[folder] = "wiiu";
      break;
    }
    case 0: {
      const std::string folder = at + "PSP/SAVEDATA/ULES990" + two + "DATA00";
      disk.files[folder + "/PARAM.SFO"] = whole_parameters("Winter Mooring");
      disk.files[folder + "/DATA.BIN"] = noise(4096, 1);
      disk.saves[folder] = "psp";
      break;
    }
    case 1: {
      const std::string folder = at + "title/00040000/0ff99" + two + "0/data/00000001";
      disk.files[folder + "/main"] = noise(20000, 1);
      disk.files[folder + "/sub/second.dat"] = noise(300, 2);
      disk.saves[folder] = "3ds";
      break;
    }
    case 2: {
      const std::string folder = at + "title/00010000/485a39" + two + "/data";
      disk.files[folder + "/banner.bin"] = noise(16384, 1);
      disk.files[folder + "/save.bin"] = noise(8192, 2);
      disk.saves[folder] = "wii";
      break;
    }
    case 3: {
      const std::string folder = at + "usr/save/00050000/1ff993" + two + "/user/";
      disk.files[folder + "80000001/game.dat"] = noise(5000, 1);
      disk.saves[folder + "80000001"] = "wiiu";
      if (die(2) == 0) {
        disk.files[folder + "common/shared.dat"] = noise(5000, 2);
        disk.saves[folder + "common"] = "wiiu";
      }
      break;
    }
    default: {
      BlockPackage package = fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "An evening", 1});
      RC_ASSERT(package.put("save.dat", noise(5000, 1).view(), 0).has_value());
      disk.save("x360", at + "Content/E000A11D00000001/5A5A0993/00000001/EVENING" + two, package.image());
    }
  }
}

void add_documents(Disk& disk, const std::string& at) {
  const std::string pixels(9000, 'p');
  const Files all{{"Pictures/quay.jpg", text_blob("\xff\xd8\xff\xe0" + pixels)},
                  {"Documents/letter.odt", noise(8192, 40)},
                  {"Documents/taxes/2030.dat", noise(32768, 41)},
                  {"Music/tide.mp3", text_blob("ID3" + pixels)},
                  {"src/game/build/main.bin", noise(32768, 42)},
                  {"Videos/scan.raw", text_blob("\x89PNG\r\n" + pixels)},
                  {"Documents/My Games/Adventure/slot1.sav", noise(8192, 44)},
                  {"notes.sav.txt", text_blob(std::string(8192, 'n'))},
                  {".cache/kite/x.sav", noise(8192, 43)}};
  for (const auto& [path, bytes] : all)
    if (die(2) == 0) disk.files[at + path] = bytes;
}

Disk some_disk(const std::vector<std::string>& places) {
  Disk disk;
  for (const std::string& at : places) {
    switch (die(3)) {
      case 0:
        add_cartridges(disk, at);
        break;
      case 1:
        add_cards(disk, at);
        break;
      default:
        add_tree(disk, at);
    }
  }
  add_documents(disk, "");
  if (die(3) == 0) add_tree(disk, "");
  return disk;
}

void compare(const Disk& disk, const Saves& found, const std::string& said) {
  if (found == disk.saves) return;
  std::string all = said;
  for (const auto& [path, tag] : disk.saves)
    if (!found.contains(path) || found.at(path) != tag) all += "not found: " + path + " (" + tag + ")\n";
  for (const auto& [path, tag] : found)
    if (!disk.saves.contains(path)) all += "taken for one: " + path + " (" + tag + ")\n";
  RC_FAIL(disk.text() + all);
}

void add(const Detection& detection, const std::string& root, Saves& found, std::string& said) {
  for (const DetectedRule& rule : detection.rules) {
    said += std::string(tag(rule.rule.platform)) + " " + root + rule.rule.path.text() + " " +
            rule.rule.layout + "\n";
    for (const DetectedSave& one : rule.saves) found[root + one.path] = tag(one.platform);
  }
  for (const UnsettledFiles& files : detection.unsettled)
    said += "? " + root + files.paths.front() + " " + files.reason + "\n";
}

#ifdef BAYSWAP_SANITIZED
constexpr int whole_examples = 8;
#else
constexpr int whole_examples = 40;
#endif

TEST(WholeDisks, OfAStickEverySaveIsFound) {
  const Catalog catalog;
  expect_property_of(whole_examples, "what was put there is what is found", [&] {
    const Disk disk = some_disk({"emulators/kite/", "handheld/", "Ida's stuff/", "console/my disk/"});
    const auto store = store_of(disk.files);
    const auto found = detect_place(catalog, *store);
    RC_ASSERT(found.has_value());
    Saves saves;
    std::string said;
    add(*found, "", saves, said);
    compare(disk, saves, said);
    // As a bay file it is what a scan of it finds.
    const auto bay = parse_bay(to_toml(bay_of(*found, "stick", "/stick")), "stick", "stick.toml", "/");
    RC_ASSERT(bay.has_value());
    const auto scanned = scan_bay(catalog, *bay, *store);
    RC_ASSERT(scanned.has_value());
    Saves in_bay;
    for (const HeldSave& save : *scanned)
      if (save.misplaced.empty()) in_bay[save.path] = tag(save.rule->platform);
    compare(disk, in_bay, said + "of the bay file:\n");
    for (const UnsettledFiles& files : found->unsettled)
      RC_ASSERT(files.paths == std::vector<std::string>{"Documents/My Games/Adventure/slot1.sav"});
  });
}

TEST(WholeDisks, OfAHomeFolderEverySaveIsInOnePlace) {
  const Catalog catalog;
  expect_property_of(whole_examples, "what was put there is what is found", [&] {
    const Disk disk = some_disk(
        {".config/kite/", ".local/share/lantern/", "Games/Ida/", "Emulation/", "pc 2019/handheld/"});
    const auto store = store_of(disk.files);
    const auto places = find_places_with_saves(catalog, *store, false);
    RC_ASSERT(places.has_value());
    Saves saves;
    std::string said;
    for (const DetectedPlace& place : *places) {
      said += "place " + place.root + "\n";
      Saves of_place;
      add(place.detection, place.root + "/", of_place, said);
      for (const auto& [path, console] : of_place) RC_ASSERT(saves.emplace(path, console).second);
    }
    compare(disk, saves, said);
  });
}

}  // namespace
}  // namespace bayswap::test
