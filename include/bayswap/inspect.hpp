// What is this file? Asks every room that knows formats and answers with reasons.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>
#include <bayswap/layout.hpp>
#include <bayswap/title.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

enum class FileKind {
  unknown,
  rom,
  battery_save,
  controller_pak,
  memory_card,
  single_save,  // of a memory card, in a file of its own
  package,
  parameter_file,
  avatar_database,
  save_state
};
/// "battery save", ...: words of the trade, the same in tables and JSON.
[[nodiscard]] std::string_view to_text(FileKind kind);

struct PartFinding {
  Role role;
  std::size_t size_bytes = 0;
  bool blank = false;
};

struct Finding {
  std::size_t size_bytes = 0;
  FileKind kind = FileKind::unknown;
  std::optional<Platform> platform;   // nothing where the best layouts are of several
  const Layout* layout = nullptr;     // the best one; nothing for ROMs and unknown files
  std::vector<const Layout*> either;  // two or more where nothing decides between them
  Compression compression = Compression::none;
  Fit fit = Fit::exact;
  double confidence = 0;              // 0 to 1
  std::vector<std::string> evidence;  // one sentence each
  std::vector<PartFinding> parts;
  std::optional<GameId> game;
  std::string state_map;  // id of the map that describes a save state; empty: none does
};

/// What `bytes` are. Never fails: what nobody recognises is FileKind::unknown with the reasons.
[[nodiscard]] Finding inspect(const Catalog& catalog, const Blob& bytes, const Hints& hints = {});

/// The same for a file. Where no game is given, the ROM beside it is asked. Fails where the file can't be
/// read.
[[nodiscard]] Result<Finding> inspect_file(const Catalog& catalog, Store& store, const std::string& path,
                                           const Hints& hints = {});

/// Looks at every file of a folder and those below it, up to 32 deep, and hands each over in the order of the
/// paths. A ROM lends its name to the files beside it that share its stem. Uses all processors; `report` is
/// called from this thread only. Memory grows with the number of files in one folder, not with that of all.
/// What can't be read is handed over as its error; links to folders are not followed.
using ScanReport = std::function<void(const std::string& path, const Result<Finding>& finding)>;
[[nodiscard]] Result<void> inspect_folder(const Catalog& catalog, Store& store, const std::string& folder,
                                          const Hints& hints, const ScanReport& report);

/// What a file's name, and the ROM beside it, tell of it before it is opened.
[[nodiscard]] Hints hints_beside(Store& store, const std::string& path);

/// A file as a ROM, read piece by piece; the store must outlive it. What can't be read later is missing from
/// its pieces.
[[nodiscard]] Result<RomSource> rom_source(Store& store, const std::string& path);
/// Its header. Errors name the file.
[[nodiscard]] Result<RomFacts> identify_rom(Store& store, const std::string& path);

/// The ROM that lies in the same folder under the same stem, told by its header; its path and facts.
[[nodiscard]] std::optional<std::pair<std::string, RomFacts>> rom_beside(Store& store,
                                                                         const std::string& save_path);

}  // namespace bayswap
BAYSWAP_EXPORT_END
