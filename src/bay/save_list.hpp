// The saves that a scan has found so far, and what is known of them.
#pragma once

#include <bayswap/bay_saves.hpp>

#include "bay/places.hpp"

namespace bayswap {

class SaveList {
 public:
  explicit SaveList(const ScanOptions& wish) : wish_(wish) {}

  /// A save by its rule and by what its path tells.
  [[nodiscard]] static BaySave begin(const PlatformRule& rule, const Place& place);
  /// What a file looked like: the same again, and it need not be read.
  [[nodiscard]] static std::string key_of(const std::string& path, const FileInfo& info);
  /// Whose save that is, by the stem of its name or by its code and title.
  [[nodiscard]] static const RomFile* rom_of(const BaySave& save, const std::vector<RomFile>& roms);
  [[nodiscard]] bool is_wanted(const PlatformRule& rule) const;

  /// Adds it, with what the titles' book knows, and a label from the title where the save itself has none.
  void finish(BaySave save);
  /// Adds it, where what it holds was read before.
  [[nodiscard]] bool recall(const std::string& key, BaySave& save);
  /// Adds it with what was read, for the next time too.
  void remember(const std::string& key, BaySave& save, ScanMemory::Row row);

  [[nodiscard]] std::vector<BaySave>& saves() { return saves_; }

 private:
  const ScanOptions& wish_;
  std::vector<BaySave> saves_;
};

/// The saves that rules keep as files of layouts.
[[nodiscard]] Result<void> scan_files(const Catalog& catalog, const Bay& bay, Store& store,
                                      const ScanOptions& wish, SaveList& list);

}  // namespace bayswap
