#include <bayswap/bay_view.hpp>
#include <bayswap/cart_store.hpp>
#include <bayswap/remote_store.hpp>

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <set>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/keeper.hpp"
#include "bay/rom_list.hpp"
#include "content/sketch.hpp"
#include "fs/archive_store.hpp"
#include "fs/read_errors.hpp"

namespace bayswap {

struct BayView::Impl {
  explicit Impl(Store& below) : store(below) {}

  ReadErrors store;
  std::map<std::string, std::vector<RomFile>> folders;                      // every ROM, by the rule's folder
  std::map<const PlatformRule*, std::vector<RomFile>> roms;                 // those of the rule's platform
  std::map<const PlatformRule*, std::map<std::string, std::size_t>> index;  // of `roms`, by path
  std::map<std::string, RomFacts> facts;                                    // with chip tags, by path
  std::optional<std::vector<HeldSave>> names;
  std::optional<std::vector<HeldSave>> whole;
  std::map<std::string, TreeSketch> sketches;
  std::map<const PlatformRule*, std::vector<const Layout*>> layouts_in_use;
  using ExtensionCounts = std::map<std::string, std::vector<std::size_t>>;  // by folder, in lower case
  std::map<const PlatformRule*, ExtensionCounts> extensions_in_use;
  std::map<std::string, std::multimap<std::string, std::string>> listed;  // names by lower case, by folder

  const std::multimap<std::string, std::string>& names_in(const std::string& folder) {
    const auto [known, is_new] = listed.try_emplace(folder);
    if (is_new)
      if (const auto entries = store.list(folder))
        for (const FileInfo& entry : *entries) known->second.emplace(lower(entry.name), entry.name);
    return known->second;
  }
};

BayView::BayView(const Catalog& catalog, const Bay& bay, Store& store, ViewOptions options)
    : catalog_(catalog), bay_(bay), options_(std::move(options)), impl_(std::make_unique<Impl>(store)) {}
BayView::~BayView() = default;

Store& BayView::store() const {
  return impl_->store;
}

Result<void> BayView::check() const {
  BAYSWAP_CHECK(check_root(bay_, impl_->store));
  return impl_->store.check();
}

Result<const std::vector<RomFile>*> BayView::roms(const PlatformRule& rule) {
  if (const auto known = impl_->roms.find(&rule); known != impl_->roms.end()) return &known->second;
  std::vector<RomFile> own;
  if (!rule.roms.empty()) {
    auto folder = impl_->folders.find(rule.roms);
    if (folder == impl_->folders.end()) {
      auto all = list_all_roms(impl_->store, rule.roms);
      if (!all && all.error().code != ErrorCode::not_found) return tl::unexpected(std::move(all.error()));
      folder = impl_->folders.emplace(rule.roms, all ? *std::move(all) : std::vector<RomFile>{}).first;
    }
    for (const RomFile& rom : folder->second)
      if (saves_as(rom.facts.game.platform) == saves_as(rule.platform)) own.push_back(rom);
  }
  if (options_.titles != nullptr)
    for (RomFile& rom : own) options_.titles->complete(rom.facts.game);
  const auto& kept = impl_->roms.emplace(&rule, std::move(own)).first->second;
  for (std::size_t i = 0; i < kept.size(); ++i) impl_->index[&rule].emplace(kept[i].path, i);
  return &kept;
}

const RomFile* BayView::rom(const PlatformRule& rule, const std::string& path) {
  const auto all = roms(rule);
  if (!all) return nullptr;
  const auto& index = impl_->index[&rule];
  const auto found = index.find(path);
  return found == index.end() ? nullptr : &(**all)[found->second];
}

const RomFacts& BayView::facts_of(const RomFile& rom) {
  const auto [facts, is_new] = impl_->facts.emplace(rom.path, rom.facts);
  if (is_new && rom.facts.game.platform == Platform::gba)  // the only ones with tags
    if (const auto source = rom_source(impl_->store, rom.path)) (void)find_chip_tags(*source, facts->second);
  return facts->second;
}

namespace {

// A file that several rules take is a save of one of them: of the one that has its ROM, the nearest of
// several, or can open it; of single saves off cards, the one that reads the most out of its name.
void drop_doubles(std::vector<HeldSave>& saves) {
  const auto may_double = [](const HeldSave& save) {
    return save.kind == SaveKind::battery || save.kind == SaveKind::single;
  };
  const auto weight = [](const HeldSave& save) {
    const std::size_t near =
        save.has_rom && save.facts.rom_path ? shared_folders(save.path, *save.facts.rom_path) : 0;
    return std::tuple(save.kind != SaveKind::battery, save.misplaced.empty(), save.has_rom,
                      save.health != Health::damaged, near, save.rule->path.uses("game.code"));
  };
  std::map<std::string, const HeldSave*> owners;
  for (const HeldSave& save : saves) {
    const auto [owner, is_first] = owners.emplace(save.path, &save);
    if (!is_first && weight(save) > weight(*owner->second)) owner->second = &save;
  }
  std::set<const HeldSave*> lost;
  for (const HeldSave& save : saves)
    if (may_double(save) && owners.at(save.path) != &save) lost.insert(&save);
  std::vector<HeldSave> kept;
  for (HeldSave& save : saves)
    if (!lost.contains(&save)) kept.push_back(std::move(save));
  saves = std::move(kept);
}

}  // namespace

Result<const std::vector<HeldSave>*> BayView::saves(Depth depth) {
  // What was scanned whole has the names as well.
  if (impl_->whole) return &*impl_->whole;
  if (depth == Depth::names && impl_->names) return &*impl_->names;
  SaveList list(options_);
  ScanContext scan{*this, impl_->store, list, depth == Depth::names};
  std::set<std::string> done;  // path rules of files
  for (const PlatformRule& rule : bay_.rules) {
    std::vector<HeldSave>& saves = list.saves();
    const std::size_t before = saves.size();
    if (rule.keeping == Keeping::file) continue;
    const PlatformRule* const one = &rule;
    BAYSWAP_CHECK(keeper_of(rule.keeping).scan(scan, {&one, 1}));
    join_places(saves, before);
  }
  sort_by(list.saves(),
          [](const HeldSave& save) { return std::pair(save.rule, std::string_view(save.path)); });
  for (const PlatformRule& rule : bay_.rules) {
    if (rule.keeping != Keeping::file || !done.insert(rule.path.text()).second) continue;
    std::vector<const PlatformRule*> same;
    for (const PlatformRule& other : bay_.rules)
      if (other.keeping == Keeping::file && other.path.text() == rule.path.text()) same.push_back(&other);
    BAYSWAP_CHECK(file_keeper.scan(scan, same));
  }
  drop_doubles(list.saves());
  auto& kept = depth == Depth::whole ? impl_->whole : impl_->names;
  kept = std::move(list.saves());
  return &*kept;
}

std::string BayView::extension_in_use(const PlatformRule& rule, const std::string& folder) {
  const auto [found, is_new] = impl_->extensions_in_use.try_emplace(&rule);
  if (is_new)
    if (const auto all = saves(Depth::names))
      for (const HeldSave& save : **all) {
        if (save.rule != &rule) continue;
        auto& counts = found->second[lower(folder_of(save.path))];
        counts.resize(rule.extensions.size());
        for (std::size_t i = 0; i < counts.size(); ++i)
          if (lower(extension_of(save.path)) == lower(rule.extensions[i])) ++counts[i];
      }
  const auto own = found->second.find(lower(folder));
  if (own == found->second.end()) return {};
  const auto most = std::max_element(own->second.begin(), own->second.end());
  return most == own->second.end() || *most == 0
             ? std::string()
             : rule.extensions[static_cast<std::size_t>(most - own->second.begin())];
}

const std::vector<const Layout*>& BayView::layouts_in_use(const PlatformRule& rule) {
  constexpr int enough = 8;
  const auto [found, is_new] = impl_->layouts_in_use.try_emplace(&rule);
  if (!is_new) return found->second;
  const auto all = saves(Depth::names);
  if (!all) return found->second;
  std::map<const Layout*, int> counts;
  int looked = 0;
  for (const HeldSave& save : **all) {
    if (save.rule != &rule || save.kind != SaveKind::battery || looked == enough) continue;
    ++looked;
    Hints hints;
    if (save.facts.rom_path)
      if (const RomFile* own = rom(rule, *save.facts.rom_path)) {
        hints.game = own->facts.game;
        hints.chips = own->facts.chips;
      }
    IssueList ignored;
    const auto content = load_save(*this, save, hints, ignored);
    if (!content || content->chips.is_blank()) continue;
    for (const Layout* layout : content->layouts) ++counts[layout];
  }
  for (const auto& [layout, count] : counts) found->second.push_back(layout);
  sort_by(found->second, [&](const Layout* layout) { return std::pair(-counts[layout], layout->id); });
  return found->second;
}

std::string BayView::path_on_disk(const std::string& path) {
  const std::string parent = folder_of(path);
  const std::string folder = parent == "." ? parent : path_on_disk(parent);
  const auto& names = impl_->names_in(folder);
  const std::string own(name_of(path));
  const auto [first, last] = names.equal_range(lower(own));
  const bool is_exact = std::any_of(first, last, [&](const auto& one) { return one.second == own; });
  // Two names that differ in case alone: neither is meant for sure.
  const std::string& name = !is_exact && std::distance(first, last) == 1 ? first->second : own;
  return folder == "." ? name : join_path(folder, name);
}

std::vector<std::string> BayView::beside(const std::string& path) {
  const std::string folder = folder_of(path);
  const auto& names = impl_->names_in(folder);
  const std::string stem = lower(stem_of(path)) + ".";
  std::vector<std::string> paths;
  for (auto one = names.lower_bound(stem); one != names.end() && one->first.starts_with(stem); ++one)
    if (lower(stem_of(one->second)) + "." == stem && one->second != name_of(path))
      paths.push_back(folder == "." ? one->second : join_path(folder, one->second));
  return paths;
}

const TreeSketch& sketch_in(BayView& view, const HeldSave& save) {
  std::map<std::string, TreeSketch>& sketches = view.impl_->sketches;
  const auto known = sketches.find(save.path);
  if (known != sketches.end()) return known->second;
  IssueList issues;
  const auto content = load_save(view, save, {}, issues);
  return sketches.emplace(save.path, content ? sketch_of(content->tree) : TreeSketch{}).first->second;
}

bool is_on_disk(std::string_view root) {
  return !is_cart_path(root) && is_local_url(root);
}

Result<std::unique_ptr<Store>> open_place(const Bay& bay) {
  if (is_cart_path(bay.root)) {
    auto cartridge = std::make_unique<CartStore>(bay.root);
    BAYSWAP_CHECK(cartridge->game());
    return std::unique_ptr<Store>(std::move(cartridge));
  }
  if (!is_local_url(bay.root)) {
    // The files below it would not have the root's text before theirs.
    if (bay.root.find('?') != std::string::npos)
      return fail(ErrorCode::unsupported,
                  fmt::format("{}: a bay's root can't have a '?' in its URL", bay.root),
                  fmt::format("correct root in {}; a sync folder can be there", bay.origin));
    BAYSWAP_TRY(auto remote, open_remote(bay.root));
    BAYSWAP_CHECK(check_root(bay, *remote));
    return remote;
  }
  LocalStore disk;
  BAYSWAP_TRY(const auto info, disk.stat(bay.root));
  if (info && info->kind == FileInfo::Kind::file) {
    BAYSWAP_TRY(const Blob bytes, disk.read(bay.root));
    ArchiveLimits limits;
    BAYSWAP_TRY(auto archive, ArchiveStore::open(bytes, bay.root, limits));
    return std::unique_ptr<Store>(std::move(archive));
  }
  auto store = std::make_unique<LocalStore>(bay.root);
  BAYSWAP_CHECK(check_root(bay, *store));
  return std::unique_ptr<Store>(std::move(store));
}

Result<std::vector<HeldSave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store,
                                       const ScanOptions& options) {
  ViewOptions seen;
  seen.titles = options.titles;
  seen.memory = options.memory;
  seen.pairs = options.pairs;
  seen.on_error = options.on_error;
  BayView view(catalog, bay, store, seen);
  BAYSWAP_TRY(const auto saves, view.saves());
  // Who asks for errors gets them one by one; for all others a list with a gap is none.
  if (!options.on_error) BAYSWAP_CHECK(view.check());
  return *saves;
}

std::vector<std::string> accounts_of(const std::vector<HeldSave>& saves) {
  std::set<std::string> accounts;
  for (const HeldSave& save : saves)
    if (!save.facts.account.empty() && save.place.empty()) accounts.insert(save.facts.account);
  return {accounts.begin(), accounts.end()};
}

}  // namespace bayswap
