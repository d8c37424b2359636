// Walking a bay's tree along a path rule.
#pragma once

#include <bayswap/bay_saves.hpp>

#include <set>

namespace bayswap {

/// How many folders deep below their folder ROMs are looked for, and {rom.folder} is.
inline constexpr int max_rom_depth = 8;

/// Whether files of that layout have the extensions that a rule names: those with the memory. A clock or a
/// pak in a file of its own is known by its own extension.
[[nodiscard]] bool takes_extension(const Layout& layout);

/// A name on the disk that fits a whole path rule.
struct Place {
  std::string path;  // below the bay's root
  NameRule::Words words;
  FileInfo info;
};
/// Everything that fits the rule, in the order of the paths. Links to folders are not followed. Folders that
/// can't be read go to `on_error`. {rom.folder} is looked for in `roms` and below it, caches left out.
/// `does_not_fit` over 200,000 names.
[[nodiscard]] Result<std::vector<Place>> find_places(
    Store& store, const NameRule& rule, Platform platform,
    const std::function<void(const std::string& path, const Error& error)>& on_error = {},
    const std::string& roms = ".");

/// Returns a path of a console's own tree ("shared2/menu/...", as in data/companions.toml) as it is in a
/// place whose tree begins elsewhere: below what the rule's path has before the shipped one, or without what
/// it lacks. nullopt if that is outside of the place. The path as it is, if the rule follows no shipped tree.
[[nodiscard]] std::optional<NameRule> in_tree_of(const PlatformRule& rule, const NameRule& path);

/// Returns whether a folder with these names in it holds the saves of a wiiu's accounts, and nothing else.
[[nodiscard]] bool holds_accounts(const std::set<std::string>& names);

/// The label of a save that is a folder, as its own files have it.
struct FolderLabel {
  std::string title;
  std::string code;  // product code, where the files have it
  Health health = Health::good;
  std::string note;
  bool thumbnail = false;
};
[[nodiscard]] FolderLabel label_of_folder(Platform platform, const std::vector<TreeFile>& files);

}  // namespace bayswap
