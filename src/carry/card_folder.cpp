#include <bayswap/card_folder.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_single_bytes = std::size_t{16} << 20;
constexpr std::string_view description = "icon.sys";

}  // namespace

std::string file_name_for(std::string_view save_name) {
  std::string out;
  for (const char c : printable(save_name))
    out += std::string_view("/\\:*?\"<>|").find(c) == std::string_view::npos ? c : '_';
  return out.empty() || out.starts_with('.') ? "_" + out : out;
}

Result<CardSave> save_from_folder(Store& store, const std::string& folder) {
  BAYSWAP_TRY(const auto inside, store.list(folder));
  std::vector<FolderFile> files;
  for (const FileInfo& file : inside) {
    if (file.kind != FileInfo::Kind::file)
      return fail(ErrorCode::not_recognised,
                  fmt::format("{}: {} in it is not a file", store.display_path(folder), printable(file.name)),
                  "a ps2 save is a folder of files and nothing else");
    BAYSWAP_TRY(const Blob bytes, store.read(join_path(folder, file.name), max_single_bytes));
    files.push_back({file.name, bytes, file.modified});
  }
  return folder_save(std::string(name_of(normalized(folder))), files);
}

Result<std::unique_ptr<CardFolder>> CardFolder::open(Store& store, std::optional<CardKind> kind) {
  auto folder = std::unique_ptr<CardFolder>(new CardFolder());
  BAYSWAP_TRY(const auto inside, store.list("."));
  std::vector<std::size_t> of_kind(all_card_kinds().size());
  for (const FileInfo& file : inside) {
    const std::string& at = file.name;
    if (file.link) continue;
    if (file.kind == FileInfo::Kind::folder) {
      BAYSWAP_TRY(const auto described, store.stat(join_path(at, description)));
      if (!described) continue;
      auto save = save_from_folder(store, at);
      if (save) folder->saves_.push_back({*std::move(save), at, true, true});
    } else if (file.kind == FileInfo::Kind::file && file.size_bytes <= max_single_bytes) {
      BAYSWAP_TRY(const Blob bytes, store.read(at, max_single_bytes));
      auto save = single_save_from(bytes);
      if (save) folder->saves_.push_back({*std::move(save), at, true, false});
    }
  }
  for (const Held& held : folder->saves_) ++of_kind[static_cast<std::size_t>(held.save.kind)];
  const auto most = std::ranges::max_element(of_kind);
  if (*most == 0 && !kind)
    return fail(ErrorCode::not_recognised,
                fmt::format("{} holds no single saves we know", store.display_path("")),
                "name a folder of parcels, of single saves with their directory entry, or of ps2 folders");
  folder->kind_ = *most > 0 ? static_cast<CardKind>(most - of_kind.begin()) : *kind;
  std::erase_if(folder->saves_, [&](const Held& held) { return held.save.kind != folder->kind_; });
  for (const Held& held : folder->saves_) {
    folder->before_.push_back(held);
    if (!held.folder) folder->extension_ = extension_of(held.path);
  }
  return folder;
}

CardEntry CardFolder::entry_of(const CardSave& save) const {
  CardEntry entry = describe(save);
  entry.blocks = blocks_for(save);
  // On an empty ps2 card the root folder has to grow as well; that is not the save's.
  if (kind_ == CardKind::ps2) entry.blocks -= blocks_for(CardSave{kind_, {}, {}, {}, {}, {}}) - 1;
  return entry;
}
std::vector<CardEntry> CardFolder::entries() const {
  std::vector<CardEntry> list;
  list.reserve(saves_.size());
  for (const Held& held : saves_) list.push_back(entry_of(held.save));
  return list;
}

std::vector<CardFolder::Held>::const_iterator CardFolder::find(const std::string& name) const {
  return std::ranges::find(saves_, name, [](const Held& held) { return held.save.name; });
}
tl::unexpected<Error> CardFolder::not_there(const std::string& name) const {
  std::vector<std::string> names;
  for (const Held& held : saves_) names.push_back(held.save.name);
  const std::string hint = did_you_mean(name, names);
  return fail(ErrorCode::not_found, fmt::format("no save called '{}' is in the folder", printable(name)),
              hint, {Remedy::Kind::list_card, {}});
}
Result<CardSave> CardFolder::read(const std::string& name) const {
  const auto held = find(name);
  if (held == saves_.end()) return not_there(name);
  return held->save;
}
Result<void> CardFolder::put(const CardSave& save) {
  if (save.kind != kind_)
    return fail(ErrorCode::bad_usage, fmt::format("{} is not a save of a {} card", save.name, to_text(kind_)),
                "a save of another platform has no place there");
  if (find(save.name) != saves_.end())
    return fail(ErrorCode::unsafe, fmt::format("{} is in the folder already", save.name), "drop it first",
                {Remedy::Kind::replace, {}});
  if (const auto odd =
          std::ranges::find_if(save.files, [](const CardFile& file) { return !is_safe_name(file.name); });
      odd != save.files.end())
    return fail(ErrorCode::damaged,
                fmt::format("{}: '{}' in it is not a file name", save.name, printable(odd->name)), "",
                {Remedy::Kind::rescue_card, {}});
  Held held{save, {}, false, kind_ == CardKind::ps2};
  // One that was there under this name goes back to its own file.
  const auto old = std::ranges::find(before_, save.name, [](const Held& other) { return other.save.name; });
  if (old != before_.end()) {
    held.path = old->path;
    held.folder = old->folder;
  } else {
    const std::string usual = to_single_save(save) ? ".single" : ".parcel";
    held.path = file_name_for(save.name);
    if (!held.folder) held.path += extension_.empty() ? usual : extension_;
  }
  saves_.push_back(std::move(held));
  return {};
}
Result<void> CardFolder::drop(const std::string& name) {
  const auto held = find(name);
  if (held == saves_.end()) return not_there(name);
  saves_.erase(held);
  return {};
}
std::size_t CardFolder::blocks_for(const CardSave& save) const {
  if (!measure_) measure_ = make_card(kind_);
  return measure_->blocks_for(save);
}
std::size_t CardFolder::block_bytes() const {
  if (!measure_) measure_ = make_card(kind_);
  return measure_->block_bytes();
}

namespace {

// The files a save has on the disk, below the folder.
std::vector<std::pair<std::string, Blob>> files_of(const CardSave& save, const std::string& path,
                                                   bool folder) {
  std::vector<std::pair<std::string, Blob>> files;
  if (!folder) {
    const auto single = to_single_save(save);
    const bool parcel = !single || extension_of(path) == ".parcel";
    files.emplace_back(path, parcel ? to_parcel(save) : *single);
    return files;
  }
  if (save.files.empty()) files.emplace_back(path, save.payload);
  for (const CardFile& file : save.files) files.emplace_back(join_path(path, file.name), file.bytes);
  return files;
}

}  // namespace

Result<std::vector<FileChange>> CardFolder::changes(Store& store) const {
  std::vector<FileChange> list;
  std::vector<std::string> written;
  for (const Held& held : saves_) {
    if (held.on_disk) continue;
    for (const auto& [path, bytes] : files_of(held.save, held.path, held.folder)) {
      written.push_back(path);
      BAYSWAP_TRY(const auto info, store.stat(path));
      FileChange change{path, std::nullopt, bytes};
      if (info) {
        BAYSWAP_TRY(change.before, store.read(path));
      }
      if (change.before != change.after) list.push_back(std::move(change));
    }
  }
  for (const Held& old : before_) {
    const bool kept =
        std::ranges::any_of(saves_, [&](const Held& held) { return held.on_disk && held.path == old.path; });
    if (kept) continue;
    std::vector<std::string> paths{old.path};
    if (old.folder) {
      paths.clear();
      for (const CardFile& file : old.save.files) paths.push_back(join_path(old.path, file.name));
    }
    for (const std::string& path : paths) {
      if (std::ranges::find(written, path) != written.end()) continue;
      BAYSWAP_TRY(const Blob bytes, store.read(path));
      list.push_back({path, bytes, std::nullopt});
    }
  }
  return list;
}

}  // namespace bayswap
