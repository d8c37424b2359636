// Finding out how a place keeps its saves, by looking: which folders, which platforms, which layouts.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/inspect.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

struct DetectOptions {
  int max_depth = 16;                    // folders below the place
  std::size_t max_names = 200000;        // files and folders; what comes after them is not looked at
  std::optional<Platform> unsettled_as;  // the platform of files that nothing else settles
  const StateMaps* states = nullptr;     // maps of save states beside the built-in ones
  /// Called from the calling thread with the number of files looked at so far and the folder at hand. Returns
  /// false to stop: what was found so far is returned then, marked as incomplete.
  std::function<bool(std::size_t files, const std::string& folder)> on_progress;
};

/// A save, as found.
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

/// A rule of a bay, and why.
struct DetectedRule {
  PlatformRule rule;
  std::vector<DetectedSave> saves;
  std::vector<std::string> evidence;  // a sentence each
};

/// ROMs or discs of one platform.
struct DetectedRoms {
  Platform platform{};
  std::string folder;  // the deepest that contains all of them
  std::size_t count = 0;
};

/// Files that could be saves, where one thing is missing to say so.
struct UnsettledFiles {
  std::string folder;
  std::vector<std::string> paths;
  std::string reason;                 // a sentence
  std::vector<PlatformRule> choices;  // rules that would take them, one for each platform it could be
};

struct Detection {
  std::vector<DetectedRule> rules;  // by platform, those with the most saves first
  std::vector<DetectedRoms> roms;   // by platform
  std::vector<UnsettledFiles> unsettled;
  std::vector<std::string> aside;  // saves in folders of backups: not part of any rule
  std::vector<std::string> empty;  // files of 0 bytes named as saves are
  std::vector<Error> errors;       // folders and files that could not be read
  std::size_t files = 0;           // how many were looked at
  bool incomplete = false;         // a limit was reached, or it was stopped
  std::string incomplete_why;

  [[nodiscard]] std::size_t saves() const;
};

/// Looks at everything below the store's root. Reads only. Fails with `not_found` if the root does not exist.
[[nodiscard]] Result<Detection> detect_place(const Catalog& catalog, Store& store,
                                             const DetectOptions& options = {});
/// A bay of what was found. Its rules are those of the detection; it has none if nothing was found.
[[nodiscard]] Bay bay_of(const Detection& detection, const std::string& name, const std::string& root);

/// A folder that holds what one program, or one console, keeps.
struct DetectedPlace {
  std::string root;            // below the folder that was looked at; "." is that folder itself
  std::string suggested_name;  // a bay's name; not used by any other place of the list
  Detection detection;
};
/// Looks for places in `folder` of the store, such as a home folder or a disk. First by names alone, then at
/// what is in the folders that could hold saves. System folders, caches and sources are left out.
/// `is_medium`: the folder is a disk of its own, and may itself be a place.
[[nodiscard]] Result<std::vector<DetectedPlace>> find_places_with_saves(const Catalog& catalog, Store& store,
                                                                        bool is_medium,
                                                                        const DetectOptions& options = {});

/// Returns a bay for one use out of a path: a folder or an archive, looked at; a memory card's image, a
/// package or a single save by itself; a battery save with the place it is in. Its name is `path`. Fails with
/// `not_found`, and with `not_recognised` if nothing there tells how saves are kept.
[[nodiscard]] Result<Bay> bay_for_path(const Catalog& catalog, const std::string& path,
                                       const DetectOptions& options = {});

}  // namespace bayswap
BAYSWAP_EXPORT_END
