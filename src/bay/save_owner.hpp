// Whose save is a file? Of the rules that share a path, and of their ROMs.
#pragma once

#include <bayswap/bay_view.hpp>

#include <unordered_map>
#include <unordered_set>

namespace bayswap {

struct FileRule {
  const PlatformRule* rule = nullptr;
  std::vector<const Layout*> layouts;
  const std::vector<RomFile>* roms = nullptr;
  std::unordered_multimap<std::string, const RomFile*> by_stem;   // lower case
  std::unordered_multimap<std::string, const RomFile*> by_name;   // with the extension
  std::unordered_multimap<std::string, const RomFile*> by_title;  // normalised stem
  std::unordered_set<std::string> rom_folders;                    // lower case
  bool by_extension = false;
  bool is_set = false;
};

struct RomMatch {
  const RomFile* rom = nullptr;
  bool exact = false;  // the name is the ROM's, as the rule wants it
};

/// Fills the indices with the rule's ROMs.
void index_roms(FileRule& rule);
/// Whether files of that layout can have the path's extension.
[[nodiscard]] bool fits(const FileRule& rule, const Layout& layout, const std::string& path);
/// By a pair that was said, by the ROM's own name, by one that reads the same; of several the nearest.
/// `words`: of the path rule.
[[nodiscard]] RomMatch rom_for(BayView& view, const FileRule& rule, const NameRule::Words& words,
                               const std::string& path);
/// Stems, in lower case, of the ROMs of other consoles than `platform` whose rules keep single files in the
/// same folder as `path` does: a file under such a name is theirs.
[[nodiscard]] std::unordered_set<std::string> stems_of_others(BayView& view, Platform platform,
                                                              const NameRule& path);
/// Of ROMs of one name and several platforms the one whose chip is as large as the file; then one whose
/// layouts have that size; then the first.
[[nodiscard]] const std::pair<const FileRule*, RomMatch>& likeliest(
    BayView& view, const std::vector<std::pair<const FileRule*, RomMatch>>& named, const std::string& path);

}  // namespace bayswap
