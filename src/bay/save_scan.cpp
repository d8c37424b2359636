// Every save of a bay: found along its path rules, opened as its rules keep it.
#include <bayswap/bay_saves.hpp>
#include <bayswap/inspect.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/save_list.hpp"
#include "fs/path.hpp"
#include "fs/read_errors.hpp"

namespace bayswap {
namespace {

constexpr int max_depth = 16;

class BayScanner {
 public:
  BayScanner(const Catalog& catalog, const Bay& bay, Store& store, const ScanOptions& wish)
      : catalog_(catalog), bay_(bay), store_(store), wish_(wish) {}

  Result<std::vector<BaySave>> run() {
    for (const PlatformRule& rule : bay_.rules) {
      if (!list_.is_wanted(rule)) continue;
      std::vector<BaySave>& saves = list_.saves();
      const std::size_t before = saves.size();
      if (rule.keeping == Keeping::file) continue;
      std::set<std::string> taken;  // by the rule's further places
      for (const auto& [what, path] : rule.also) {
        BAYSWAP_TRY(const auto places, find_places(store_, path, rule.platform, wish_.on_error));
        for (const Place& place : places)
          if (place.info.kind == FileInfo::Kind::folder && taken.insert(place.path).second)
            folder(rule, place, what);
      }
      BAYSWAP_TRY(const auto places, find_places(store_, rule.path, rule.platform, wish_.on_error));
      const std::vector<RomFile> roms = roms_of(rule, places);
      for (const Place& place : places)
        if (!taken.contains(place.path)) one(rule, place, roms);
      join_places(before);
      std::stable_sort(saves.begin() + static_cast<std::ptrdiff_t>(before), saves.end(),
                       [](const BaySave& a, const BaySave& b) { return a.path < b.path; });
    }
    BAYSWAP_CHECK(scan_files(catalog_, bay_, store_, wish_, list_));
    return std::move(list_.saves());
  }

 private:
  std::vector<RomFile> roms_of(const PlatformRule& rule, const std::vector<Place>& places) {
    if (rule.roms.empty() || places.empty()) return {};
    auto roms = list_roms(store_, rule);
    return roms ? *std::move(roms) : std::vector<RomFile>{};
  }

  // A further place whose path has less than the whole id belongs to the save that it is beside.
  void join_places(std::size_t first) {
    std::vector<BaySave>& saves = list_.saves();
    for (std::size_t i = first; i < saves.size(); ++i) {
      BaySave& part = saves[i];
      if (part.place.empty() || part.facts.game.title_id != 0) continue;
      for (std::size_t k = first; k < saves.size(); ++k) {
        const BaySave& whole = saves[k];
        const std::uint64_t id = whole.facts.game.title_id;
        const bool same_folder = !part.facts.folder.empty() && part.facts.folder == whole.facts.folder;
        const bool same_id = part.facts.unique != 0 && id != 0 && (id & 0xFFFFFFFF) >> 8 == part.facts.unique;
        if (!whole.place.empty() || (!same_folder && !same_id)) continue;
        part.facts.game = whole.facts.game;
        if (part.label.empty()) part.label = whole.label;
        break;
      }
    }
  }

  void one(const PlatformRule& rule, const Place& place, const std::vector<RomFile>& roms) {
    const bool is_folder = place.info.kind == FileInfo::Kind::folder;
    switch (rule.keeping) {
      case Keeping::folder:
        if (is_folder) folder(rule, place, "");
        return;
      case Keeping::package:
        is_folder ? folder(rule, place, "") : package(rule, place);
        return;
      default:
        break;
    }
    if (is_folder) return;
    if (rule.keeping == Keeping::card) card(rule, place, roms);
    if (rule.keeping == Keeping::single) single(rule, place);
    if (rule.keeping == Keeping::opaque) {
      BaySave save = SaveList::begin(rule, place);
      save.kind = "sealed save";
      save.health = place.info.size_bytes == 0 ? "empty" : "sealed";
      save.health_note = "only the console it belongs to can read it";
      list_.finish(std::move(save));
    }
  }

  // ---- Folders ----------------------------------------------------------------------------------

  struct Listed {
    std::size_t files = 0;
    std::uint64_t bytes = 0;
    std::int64_t newest = 0;
    std::string key;
  };
  void list(const std::string& folder, int depth, Listed& listed) {
    const auto entries = depth > max_depth ? fail(ErrorCode::unsupported, "") : store_.list(folder);
    if (!entries) return;
    for (const FileInfo& entry : *entries) {
      if (entry.link || is_own_temporary(entry.name) || is_os_metadata(entry.name)) continue;
      if (entry.kind == FileInfo::Kind::folder) list(join_path(folder, entry.name), depth + 1, listed);
      if (entry.kind != FileInfo::Kind::file) continue;
      ++listed.files;
      listed.bytes += entry.size_bytes;
      listed.newest = std::max(listed.newest, entry.modified);
      if (wish_.memory != nullptr) listed.key += SaveList::key_of(entry.name, entry);
    }
  }
  void folder(const PlatformRule& rule, const Place& place, const std::string& what) {
    Listed listed;
    if (!wish_.names_only) list(place.path, 0, listed);
    if (listed.files == 0 && !what.empty() && !wish_.names_only) return;
    BaySave save = SaveList::begin(rule, place);
    save.place = what;
    save.kind =
        what.empty() ? (rule.keeping == Keeping::package ? "package's files" : "folder") : "shared folder";
    save.files = listed.files;
    save.size_bytes = listed.bytes;
    if (listed.files > 0) save.modified = listed.newest;
    const std::string key = place.path + '\n' + listed.key;
    if (wish_.names_only) {
      if (rule.platform == Platform::wiiu) save.facts.game.code = code_beside(place.path);
      list_.finish(std::move(save));
      return;
    }
    if (list_.recall(key, save)) return;
    const auto tree = read_tree(store_, place.path);
    FolderLabel label;
    if (tree) {
      label = label_of_folder(rule.platform, *tree);
    } else {
      label.health = "damaged";
      label.note = tree.error().message;
    }
    if (label.code.empty() && rule.platform == Platform::wiiu) label.code = code_beside(place.path);
    list_.remember(key, save, {label.title, label.health, label.note, label.code, "", label.thumbnail});
  }

  // A wiiu tree keeps what it knows of a title in a folder beside those of the accounts.
  std::string code_beside(const std::string& path) {
    const std::string meta = join_path(folder_of(folder_of(path)), "meta/meta.xml");
    const auto there = store_.stat(meta);
    if (!there || !*there) return {};
    const auto text = store_.read(meta, std::size_t{64} << 10);
    return text ? label_of_folder(Platform::wiiu, {{"meta.xml", *text, 0}}).code : std::string();
  }

  // ---- Files ------------------------------------------------------------------------------------

  void package(const PlatformRule& rule, const Place& place) {
    BaySave save = SaveList::begin(rule, place);
    save.kind = "package";
    if (wish_.names_only) {
      list_.finish(std::move(save));
      return;
    }
    const std::string key = SaveList::key_of(place.path, place.info);
    if (list_.recall(key, save)) return;
    ScanMemory::Row row;
    row.health = "good";
    const auto bytes = store_.read(place.path);
    const auto opened = bytes ? BlockPackage::open(*bytes) : tl::unexpected(bytes.error());
    if (opened) {
      row.label = opened->title_name();
      if (!opened->display_name().empty())
        row.label += (row.label.empty() ? "" : " / ") + opened->display_name();
      row.thumbnail = !opened->thumbnail().empty();
      if (const auto problems = opened->check(); !problems.empty()) {
        row.health = "damaged";
        row.health_note = problems.front();
      }
    } else {
      row.health = "damaged";
      row.health_note = opened.error().message;
    }
    list_.remember(key, save, std::move(row));
  }

  void card(const PlatformRule& rule, const Place& place, const std::vector<RomFile>& roms) {
    const auto bytes = store_.read(place.path);
    const auto card = bytes ? open_card(*bytes) : tl::unexpected(bytes.error());
    if (!card) {
      BaySave save = SaveList::begin(rule, place);
      save.kind = "memory card";
      save.health = "damaged";
      save.health_note = card.error().message;
      list_.finish(std::move(save));
      return;
    }
    if (tag(rule.platform) != to_text((*card)->kind())) return;
    for (const CardEntry& entry : (*card)->entries()) {
      BaySave save = SaveList::begin(rule, place);
      save.kind = "memory card entry";
      save.entry = entry.name;
      save.label = entry.title;
      save.size_bytes = entry.size_bytes;
      if (entry.modified) save.modified = entry.modified;
      save.health = to_text(entry.state);
      save.thumbnail = rule.platform != Platform::n64;
      save.facts.game.code = entry.code;
      save.facts.game.region = entry.region;
      if (const RomFile* rom = SaveList::rom_of(save, roms)) save.facts.game = rom->facts.game;
      list_.finish(std::move(save));
    }
  }

  void single(const PlatformRule& rule, const Place& place) {
    BaySave save = SaveList::begin(rule, place);
    save.kind = "single save";
    save.health = "damaged";
    const auto bytes = store_.read(place.path);
    const auto read = bytes ? single_save_from(*bytes) : tl::unexpected(bytes.error());
    if (read) {
      const CardEntry entry = describe(*read);
      save.health = "good";
      save.entry = entry.name;
      save.label = entry.title;
      save.facts.game.code = entry.code;
      save.facts.game.region = entry.region;
      save.thumbnail = true;
    } else {
      save.health_note = read.error().message;
    }
    list_.finish(std::move(save));
  }

  const Catalog& catalog_;
  const Bay& bay_;
  Store& store_;
  const ScanOptions& wish_;
  SaveList list_{wish_};
};

}  // namespace

std::string BaySave::name() const {
  return entry.empty() || rule->keeping == Keeping::single ? std::string(name_of(path)) : entry;
}

Result<std::vector<BaySave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store,
                                      const ScanOptions& wish) {
  ReadErrors noted(store);
  auto saves = BayScanner(catalog, bay, noted, wish).run();
  // Who asks for errors gets them one by one; for all others a list with a gap is none.
  if (!wish.on_error) BAYSWAP_CHECK(noted.check());
  return saves;
}

std::vector<std::string> accounts_of(const std::vector<BaySave>& saves) {
  std::set<std::string> accounts;
  for (const BaySave& save : saves)
    if (!save.facts.account.empty() && save.place.empty()) accounts.insert(save.facts.account);
  return {accounts.begin(), accounts.end()};
}

}  // namespace bayswap
