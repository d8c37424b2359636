// Recognises files of every known format, with the reasons. Belongs to bayswap::bayswap.
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
  save_state,
  save_part  // one of the files of a save that is a folder; only what is around it tells
};
/// Returns e.g. "battery save", the same in tables and JSON.
[[nodiscard]] std::string_view to_text(FileKind kind);

struct PartFinding {
  Role role;
  std::size_t size_bytes = 0;
  bool blank = false;
};

/// What a file is, as far as its bytes and the hints show.
struct Finding {
  std::size_t size_bytes = 0;
  FileKind kind = FileKind::unknown;
  std::optional<Platform> platform;   // nothing if the best layouts are of several
  const Layout* layout = nullptr;     // the best one; nothing for ROMs and unknown files
  std::vector<const Layout*> either;  // two or more if nothing decides between them
  Compression compression = Compression::none;
  Fit fit = Fit::exact;
  double confidence = 0;              // 0 to 1
  std::vector<std::string> evidence;  // one sentence each
  std::vector<PartFinding> parts;
  std::optional<GameId> game;
  std::string state_map;  // id of the map that describes a save state; empty: none
};

/// Recognises bytes. Never fails: unrecognised bytes are FileKind::unknown, with the reasons. The catalog
/// must outlive the finding.
[[nodiscard]] Finding inspect(const Catalog& catalog, const Blob& bytes, const Hints& hints = {});

/// Recognises a file. If `hints` has no game, uses the ROM beside the file. Fails if the file can't be read.
[[nodiscard]] Result<Finding> inspect_file(const Catalog& catalog, Store& store, const std::string& path,
                                           const Hints& hints = {});

/// Receives the finding of one file, or the error if it can't be read.
using ScanReport = std::function<void(const std::string& path, const Result<Finding>& finding)>;
/// Recognises every file below a folder, up to 32 folders deep, and reports them in the order of their paths.
/// A ROM identifies the files beside it that share its stem. Uses all processors; calls `report` from the
/// calling thread only. Memory grows with the number of files in one folder, not with the total. Does not
/// follow links to folders.
[[nodiscard]] Result<void> inspect_folder(const Catalog& catalog, Store& store, const std::string& folder,
                                          const Hints& hints, const ScanReport& report);

/// Returns what a file's name and the ROM beside it show of the file.
[[nodiscard]] Hints hints_beside(Store& store, const std::string& path);

/// Returns a file as a ROM that is read piece by piece. The store must outlive it. Read errors come from
/// RomSource::read.
[[nodiscard]] Result<RomSource> rom_source(Store& store, const std::string& path);
/// Reads the header of a ROM. Errors name the file.
[[nodiscard]] Result<RomFacts> identify_rom(Store& store, const std::string& path);

/// Returns the path and the facts of the ROM in the same folder with the same stem, recognised by its header.
[[nodiscard]] std::optional<std::pair<std::string, RomFacts>> rom_beside(Store& store,
                                                                         const std::string& save_path);

}  // namespace bayswap
BAYSWAP_EXPORT_END
