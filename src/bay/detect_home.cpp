// Places with saves in a home folder, or on a disk.
#include <bayswap/card.hpp>

#include <algorithm>
#include <array>
#include <map>
#include <optional>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_rules.hpp"
#include "bay/detect_survey.hpp"
#include "bay/places.hpp"
#include "fs/forwarding_store.hpp"
#include "fs/sub_store.hpp"

namespace bayswap {
namespace {

// Folders in which programs keep their saves go by such names; the folder above is the program's own.
bool is_general_name(std::string_view name) {
  static constexpr std::array<std::string_view, 26> names{
      "save",     "saves",   "sav",     "savedata", "saved",   "states", "savestates", "cards", "card",
      "memcards", "memcard", "battery", "sram",     "srm",     "roms",   "rom",        "games", "game",
      "title",    "content", "usr",     "psp",      "private", "data",   "dumps",      "dump"};
  const std::string low = lower(name);
  return std::find(names.begin(), names.end(), low) != names.end() || platform_from_tag(low).has_value();
}

// Of these, the ones with saves in them and nothing else: below them each game may have a folder.
bool is_name_for_saves(std::string_view name) {
  static constexpr std::array<std::string_view, 13> names{
      "save",    "saves", "sav", "savedata", "saved",        "memcards",   "memcard",
      "battery", "sram",  "srm", "cards",    "memory cards", "memory card"};
  return std::find(names.begin(), names.end(), lower(name)) != names.end();
}

// In which every program has a folder.
bool is_for_all_programs(std::string_view name) {
  static constexpr std::array<std::string_view, 10> names{
      ".config", ".local", "share", ".var", "app", "documents", "downloads", "desktop", "games", "roaming"};
  return std::find(names.begin(), names.end(), lower(name)) != names.end();
}

// What systems and work keep in a home folder.
bool is_system_folder(const std::string& path) {
  static constexpr std::array<std::string_view, 16> names{"proc", "sys",   "dev", "run", "boot", "etc",
                                                          "lib",  "lib64", "usr", "bin", "sbin", "var",
                                                          "snap", "tmp",   "opt", "srv"};
  return folder_of(path) == "." && std::find(names.begin(), names.end(), path) != names.end();
}

// A home folder with nothing in it but the folders that have such names: `roms` and `saves` in the home
// itself.
class GeneralFolders final : public ForwardingStore {
 public:
  using ForwardingStore::ForwardingStore;
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    auto entries = below_.list(folder);
    if (entries && folder == ".")
      std::erase_if(*entries, [](const FileInfo& entry) {
        return entry.kind != FileInfo::Kind::folder || !is_general_name(entry.name);
      });
    return entries;
  }
};

class PlaceSearch {
 public:
  PlaceSearch(const Catalog& catalog, Store& store, bool is_medium, const DetectOptions& options)
      : catalog_(catalog), store_(store), is_medium_(is_medium), options_(options) {}

  Result<std::vector<DetectedPlace>> run() {
    BAYSWAP_CHECK(walk(".", 0));
    std::vector<DetectedPlace> places;
    for (const std::string& root : roots()) {
      if (is_stopped_) break;
      if (std::any_of(places.begin(), places.end(),
                      [&](const DetectedPlace& place) { return is_within(root, place.root); }))
        continue;
      auto place = look_at(root);
      if (!place) continue;
      std::erase_if(places, [&](const DetectedPlace& other) { return is_within(other.root, place->root); });
      place->suggested_name = name_for(place->root);
      places.push_back(*std::move(place));
    }
    return places;
  }

 private:
  [[nodiscard]] bool is_within(const std::string& path, const std::string& folder) const {
    if (folder == ".") return is_medium_ || is_general_name(path.substr(0, path.find('/')));
    return path == folder || path.starts_with(folder + "/");
  }

  // Where saves are that only their ROMs tell, the folder above that has these is the place.
  [[nodiscard]] std::optional<DetectedPlace> look_at(const std::string& root) const {
    constexpr int levels = 3;
    std::optional<DetectedPlace> found;
    std::string folder = root;
    for (int i = 0; i <= levels; ++i) {
      SubStore below(store_, folder);
      GeneralFolders home(store_);
      const bool is_home = folder == "." && !is_medium_;
      auto detection = detect_place(catalog_, is_home ? static_cast<Store&>(home) : below, options_);
      if (!detection) break;
      const bool is_settled = detection->unsettled.empty();
      const bool has_roms = !detection->roms.empty();
      if (i == 0 || (has_roms && detection->saves() > found->detection.saves()))
        found = DetectedPlace{folder, {}, *std::move(detection)};
      const std::string above = folder_of(folder);
      if (is_settled || has_roms || folder == "." || is_for_all_programs(name_of(above)) ||
          (above == "." && !is_medium_ && !is_general_name(folder)))
        break;
      folder = above;
    }
    if (found && found->detection.saves() == 0 && found->detection.unsettled.empty()) return std::nullopt;
    return found;
  }

  Result<void> walk(const std::string& folder, int depth) {
    const auto entries = store_.list(folder);
    if (!entries) return depth == 0 ? Result<void>(tl::unexpected(entries.error())) : Result<void>{};
    names_ += entries->size();
    if (names_ > options_.max_names || is_stopped_) return {};
    if (options_.on_progress && !options_.on_progress(names_, folder)) {
      is_stopped_ = true;
      return {};
    }
    const auto join = [&](const std::string& name) { return folder == "." ? name : join_path(folder, name); };
    bool is_candidate = false;
    for (const FileInfo& entry : *entries)
      is_candidate = is_candidate || (entry.kind == FileInfo::Kind::file &&
                                      (may_be_save(folder, entry) || is_card(join(entry.name), entry)));
    for (const FileInfo& entry : *entries) {
      if (entry.kind != FileInfo::Kind::folder || entry.link || is_os_metadata(entry.name) ||
          is_left_out(entry.name))
        continue;
      const std::string path = join(entry.name);
      // All of a home folder is not a place: a tree that begins in it is one.
      const bool is_tree = is_tree_begin(path, entry.name);
      if (is_tree) candidates_.insert(depth == 0 && !is_medium_ ? path : folder);
      if (!is_medium_ && !is_tree && is_system_folder(path) && depth == 0) continue;
      if (depth < options_.max_depth) BAYSWAP_CHECK(walk(path, depth + 1));
    }
    if (is_candidate) candidates_.insert(folder);
    return {};
  }

  [[nodiscard]] bool may_be_save(const std::string& folder, const FileInfo& entry) const {
    if (entry.size_bytes < 16 || entry.size_bytes > (std::uint64_t{72} << 20)) return false;
    const std::string_view extension = extension_of(entry.name);
    if (is_save_extension(extension, catalog_)) return true;
    const std::string low = lower(entry.name);
    if (is_name_for_saves(name_of(folder)) && !is_foreign_extension(extension)) return true;
    static constexpr std::array<std::string_view, 10> cards{".mcr", ".mcd", ".ps2", ".raw", ".gci",
                                                            ".gcs", ".mpk", ".bkr", ".vmu", ".parcel"};
    return std::find(cards.begin(), cards.end(), lower(extension)) != cards.end() || low == "param.sfo";
  }

  // Dumps of anything are called .bin: of those as large as a card some are read.
  [[nodiscard]] bool is_card(const std::string& path, const FileInfo& entry) {
    constexpr std::uint64_t smallest = 131072;
    constexpr std::uint64_t largest = 8 << 20;
    constexpr int most = 256;
    const bool has_size = entry.size_bytes >= smallest && entry.size_bytes <= largest &&
                          (entry.size_bytes & (entry.size_bytes - 1)) == 0;
    if (!has_size || lower(extension_of(path)) != ".bin" || cards_read_ == most) return false;
    ++cards_read_;
    const auto bytes = store_.read(path);
    return bytes && guess_card(bytes->view());
  }

  // The first folders of trees by ids.
  [[nodiscard]] bool is_tree_begin(const std::string& path, const std::string& name) {
    const std::string low = lower(name);
    const auto has = [&](const std::string& below) {
      const auto info = store_.stat(in_case_of_disk(store_, path + "/" + below));
      return info && *info;
    };
    if (low == "psp") return has("SAVEDATA");
    if (low == "private") return has("wii/title");
    if (low == "usr") return has("save");
    if (low == "title") {
      for (const char* high : {"00040000", "00010000", "00010001", "00010004", "00050000"})
        if (has(high)) return true;
      return false;
    }
    if (low != "content" && low != "save") return false;
    const auto entries = store_.list(path);  // of profiles, or of titles by the hash of their ids
    return entries && std::any_of(entries->begin(), entries->end(), [&](const FileInfo& entry) {
             if (entry.kind != FileInfo::Kind::folder) return false;
             return low == "content" ? entry.name.size() == 16
                                     : entry.name.size() == 8 && has(join_path(entry.name, "user"));
           });
  }

  [[nodiscard]] std::vector<std::string> roots() const {
    std::set<std::string> roots;
    for (const std::string& folder : candidates_) {
      if (folder == "." && !is_medium_) continue;
      roots.insert(program_folder(folder, is_medium_ ? "" : "."));  // all of a home folder is not a place
    }
    std::vector<std::string> outermost;
    for (const std::string& root : roots) {
      const bool is_inner = std::any_of(roots.begin(), roots.end(), [&](const std::string& other) {
        return other != root && (other == "." || root.starts_with(other + "/"));
      });
      if (!is_inner) outermost.push_back(root);
    }
    return outermost;
  }

  std::string name_for(const std::string& root) {
    std::string name;
    for (const char c : lower(root == "." ? name_of(normalized(store_.absolute_path("."))) : name_of(root))) {
      const bool is_kept = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
      if (is_kept)
        name += c;
      else if (!name.empty() && name.back() != '-')
        name += '-';
    }
    while (name.ends_with('-')) name.pop_back();
    if (name.empty()) name = "place";
    name.resize(std::min<std::size_t>(name.size(), 40));
    const int number = ++names_given_[name];
    return number == 1 ? name : name + "-" + std::to_string(number);
  }

  const Catalog& catalog_;
  Store& store_;
  bool is_medium_;
  const DetectOptions& options_;
  std::set<std::string> candidates_;
  std::map<std::string, int> names_given_;
  std::size_t names_ = 0;
  int cards_read_ = 0;
  bool is_stopped_ = false;
};

}  // namespace

std::string program_folder(std::string folder, const std::string& top) {
  for (std::string above = folder; above != "." && above != "/" && above != top; above = folder_of(above))
    if (is_name_for_saves(name_of(above))) {
      folder = above;
      break;
    }
  while (folder != "." && folder != "/" && folder != top && is_general_name(name_of(folder))) {
    std::string above = folder_of(folder);
    if (above == top || above == "/") break;
    folder = std::move(above);
  }
  return folder;
}

Result<std::vector<DetectedPlace>> find_places_with_saves(const Catalog& catalog, Store& store,
                                                          bool is_medium, const DetectOptions& options) {
  bool is_stopped = false;
  const DetectOptions own = with_lasting_stop(options, is_stopped);
  auto places = PlaceSearch(catalog, store, is_medium, own).run();
  if (is_stopped) return cancelled_look();
  return places;
}

}  // namespace bayswap
