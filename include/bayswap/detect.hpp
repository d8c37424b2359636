// Detects how a place stores its saves: in which folders, of which platforms, in which layouts. Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/inspect.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

struct DetectOptions {
  int max_depth = 16;                    // folders below the place
  std::size_t max_names = 200000;        // files and folders; further ones are not looked at
  std::optional<Platform> unsettled_as;  // the platform of files that nothing else determines
  const StateMaps* states = nullptr;     // maps of save states beside the built-in ones
  /// Returns what a file below the place was found to be by its bytes, its extension and `states` alone, if
  /// that is known already; nothing if not. Spares looking at the same bytes twice. May be empty.
  std::function<std::optional<Finding>(const std::string& path)> known;
  /// Called from the calling thread with the number of files looked at so far and the current folder. Return
  /// false to stop: the look then fails with `cancelled`.
  std::function<bool(std::size_t files, const std::string& folder)> on_progress;
};

/// A save that was found.
struct DetectedSave {
  std::string path;                // below the place; of a card entry, the card's
  std::vector<std::string> files;  // of SaveKind::battery: all its files, `path` among them
  std::string entry;
  Platform platform{};
  SaveKind kind{};
  std::string layout;  // id; of SaveKind::battery
  std::string rom;     // path of its ROM; empty if none is known
  std::uint64_t size_bytes = 0;
  Health health = Health::good;
};

/// A rule for a bay, with its evidence.
struct DetectedRule {
  PlatformRule rule;
  std::vector<DetectedSave> saves;
  std::vector<std::string> evidence;  // a sentence each
};

/// ROMs or discs of one platform.
struct DetectedRoms {
  Platform platform{};
  std::string folder;  // the deepest folder that contains all of them
  std::size_t count = 0;
};

/// Files that may be saves, but one fact is missing.
struct UnsettledFiles {
  std::string folder;
  std::vector<std::string> paths;
  std::string reason;                 // a sentence
  std::vector<PlatformRule> choices;  // rules that fit them, one for each possible platform
};

/// What was found in a place.
struct Detection {
  std::vector<DetectedRule> rules;  // by platform, those with the most saves first
  std::vector<DetectedRoms> roms;   // by platform
  std::vector<UnsettledFiles> unsettled;
  std::vector<std::string> aside;  // copies: in folders of backups, or apart from their ROMs
  std::vector<std::string> empty;  // files of 0 bytes with names of saves
  std::vector<Error> errors;       // folders and files that could not be read
  std::size_t files = 0;           // how many were looked at
  bool incomplete = false;         // a limit was reached
  std::string incomplete_why;

  [[nodiscard]] std::size_t saves() const;
};

/// Looks at everything below the store's root. Writes nothing. Fails with `not_found` if the root does not
/// exist, `cancelled` if `on_progress` stopped it.
[[nodiscard]] Result<Detection> detect_place(const Catalog& catalog, Store& store,
                                             const DetectOptions& options = {});
/// Returns a bay with the rules of the detection; without rules if nothing was found.
[[nodiscard]] Bay bay_of(const Detection& detection, const std::string& name, const std::string& root);

/// A folder with the saves of one program or one console; or without any, but with files that may be saves:
/// see its `unsettled`.
struct DetectedPlace {
  std::string root;            // below the folder that was looked at; "." is that folder itself
  std::string suggested_name;  // a bay's name, unique in the list
  Detection detection;
};
/// Searches the store, such as a home folder or a disk, for places with saves: first by names, then in the
/// folders that may contain saves. Leaves out system folders, caches and source trees. `is_medium`: the
/// root is a disk of its own and may itself be a place. Fails as detect_place.
[[nodiscard]] Result<std::vector<DetectedPlace>> find_places_with_saves(const Catalog& catalog, Store& store,
                                                                        bool is_medium,
                                                                        const DetectOptions& options = {});

/// Returns a bay for a path, for one use; its name is `path`. A folder or an archive is detected; a memory
/// card's image, a package or a single save is a place of its own; a battery save gives the place that
/// contains it. Fails with `not_found` if the path does not exist, `not_recognised` if nothing there shows
/// how saves are stored, `unsafe` if a folder has more in it than one look takes, `cancelled` if
/// `on_progress` stopped it: a part of its rules is never taken for all.
[[nodiscard]] Result<Bay> bay_for_path(const Catalog& catalog, const std::string& path,
                                       const DetectOptions& options = {});

}  // namespace bayswap
BAYSWAP_EXPORT_END
