// What a round asks of a save that a bay holds.
#include <fmt/format.h>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sync/plain.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_folder_depth = 16;

void stamp_file(std::string& stamp, const std::string& path, const FileInfo& info) {
  stamp += fmt::format("{}|{}|{}.{}\n", path, info.size_bytes, info.modified, info.modified_ns);
}

Result<void> stamp_folder(Store& store, const std::string& folder, std::size_t depth, std::string& stamp) {
  if (depth > max_folder_depth) return {};
  BAYSWAP_TRY(const auto entries, store.list(folder));
  for (const FileInfo& info : entries) {
    const std::string path = join_path(folder, info.name);
    if (info.kind == FileInfo::Kind::folder)
      BAYSWAP_CHECK(stamp_folder(store, path, depth + 1, stamp));
    else
      stamp_file(stamp, path, info);
  }
  return {};
}

}  // namespace

Version::Kind kind_of(const HeldSave& save) {
  switch (save.kind) {
    case SaveKind::battery:
      return Version::Kind::battery;
    case SaveKind::state:
      return Version::Kind::state;
    case SaveKind::config:
      return Version::Kind::config;
    case SaveKind::card:
    case SaveKind::card_entry:
    case SaveKind::single:
      return Version::Kind::card;
    default:
      return Version::Kind::folder;
  }
}

Hints hints_for(BayView& view, const HeldSave& save, const SyncRequest& request) {
  Hints hints;
  if (save.facts.rom_path)
    if (const RomFile* rom = view.rom(*save.rule, *save.facts.rom_path)) {
      const RomFacts& facts = view.facts_of(*rom);
      hints.game = facts.game;
      add_chips(hints.chips, facts.chips);
    }
  if (request.carry.book != nullptr) add_chips(hints.chips, request.carry.book->chips_of(save.facts.game));
  return hints;
}

std::string key_text(const HeldSave& save) {
  if (is_plain(save.kind)) return fmt::format("{}\t{}", to_text(save.kind), save.path);
  const SaveKey key = save.key();
  return fmt::format("{}\t{}\t{}\t{}\t{}\t{}\t{}", tag(key.platform), key.game, key.account, key.name,
                     key.place, key.slot, save.facts.rom_path ? lower(stem_of(*save.facts.rom_path)) : "");
}

std::string label_of(const HeldSave& save) {
  if (!save.label.empty()) return save.label;
  const GameId& game = save.facts.game;
  if (!game.title.empty()) return game.title;
  const std::string id = game.title_id != 0 ? title_id_text(game) : game.code;
  return id.empty() ? save.name() : fmt::format("{} {}", id, save.name());
}

Result<std::string> stamp_of(BayView& view, const HeldSave& save, bool* has_no_time) {
  Store& store = view.store();
  std::string stamp;
  std::vector<std::string> paths;
  for (const HeldFile& file : save.held) paths.push_back(file.path);
  if (paths.empty()) paths.push_back(save.path);
  for (const std::string& path : paths) {
    BAYSWAP_TRY(const auto info, store.stat(path));
    if (!info) continue;
    if (info->kind == FileInfo::Kind::folder)
      BAYSWAP_CHECK(stamp_folder(store, path, 0, stamp));
    else
      stamp_file(stamp, path, *info);
    if (info->kind != FileInfo::Kind::file || info->modified != 0 || info->modified_ns != 0) continue;
    // A chip of a cartridge, or a server that tells no times: only its bytes say whether it is the same.
    BAYSWAP_TRY(const Blob bytes, store.read(path));
    stamp += sha256(bytes.view()).hex();
    if (has_no_time != nullptr) *has_no_time = true;
  }
  return sha256(ByteView(reinterpret_cast<const Byte*>(stamp.data()), stamp.size())).hex();
}

std::vector<std::string> paths_of(BayView& view, const HeldSave& save) {
  std::vector<std::string> paths;
  for (const HeldFile& file : save.held) paths.push_back(view.store().absolute_path(file.path));
  if (paths.empty()) paths.push_back(view.store().absolute_path(save.path));
  return paths;
}

}  // namespace bayswap
