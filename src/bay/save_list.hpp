// The saves that a scan has found so far, and what is known of them.
#pragma once

#include <bayswap/bay_view.hpp>

#include "bay/places.hpp"
#include "bay/scan_memory.hpp"

namespace bayswap {

class SaveList {
 public:
  explicit SaveList(const ViewOptions& options) : options_(options) {}

  /// A save by its rule and by what its path tells.
  [[nodiscard]] static HeldSave begin(const PlatformRule& rule, const Place& place);
  /// What a file looked like: the same again, and it need not be read.
  [[nodiscard]] static std::string key_of(const std::string& path, const FileInfo& info);
  /// Whose save that is, by the stem of its name or by its code and title.
  [[nodiscard]] static const RomFile* rom_of(const HeldSave& save, const std::vector<RomFile>& roms);

  /// Adds it, with what the titles' book knows, and a label from the title where the save itself has none.
  void finish(HeldSave save);
  /// Adds it, where what it holds was read before.
  [[nodiscard]] bool recall(const std::string& key, HeldSave& save);
  /// Adds it with what was read, for the next time too.
  void remember(const std::string& key, HeldSave& save, ScanRow row);

  [[nodiscard]] std::vector<HeldSave>& saves() { return saves_; }

 private:
  const ViewOptions& options_;
  std::vector<HeldSave> saves_;
};

}  // namespace bayswap
