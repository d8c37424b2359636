// Everything below a place, looked at once: the first step of detection.
#pragma once

#include <bayswap/detect.hpp>

#include <map>
#include <set>
#include <unordered_map>

namespace bayswap {

/// A file that could be a save, or of a save.
struct SurveyedFile {
  std::string path;
  FileInfo info;
  Finding finding;
  std::optional<std::size_t> rom;  // index of the ROM that has its name
  std::string rom_word;            // the word of a path rule that the ROM gives its name by: "rom.stem", ...
  bool is_claimed = false;         // a rule takes it
};

struct Survey {
  std::vector<std::string> folders;                     // below the root, in order; "." is the first
  std::vector<std::pair<std::string, FileInfo>> files;  // by path
  std::vector<RomFile> roms;
  std::unordered_multimap<std::string, std::size_t> by_stem;   // lower case; into `roms`
  std::unordered_multimap<std::string, std::size_t> by_name;   // with the extension
  std::unordered_multimap<std::string, std::size_t> by_title;  // normalised stem
  std::unordered_multimap<std::string, std::size_t> by_code;   // lower case
  std::unordered_multimap<std::string, std::size_t> by_header_title;
  std::set<std::string> rom_files;  // ROMs, and what their sheets name

  [[nodiscard]] bool has_file_below(const std::string& folder) const;
};

/// Four capital letters and digits, at least one digit: a product code, as some consoles' games have.
[[nodiscard]] bool looks_like_code(std::string_view name);
/// Names that programs and systems give to folders in which nobody's saves are.
[[nodiscard]] bool is_left_out(std::string_view folder_name);
/// A folder of copies: saves in it are copies too.
[[nodiscard]] bool is_backup_folder(const std::string& path);
/// The extension is one that saves have: a layout's, or one in general use.
[[nodiscard]] bool is_save_extension(std::string_view extension, const Catalog& catalog);
/// The extension is one of texts, pictures, sounds, programs: nothing to look into.
[[nodiscard]] bool is_foreign_extension(std::string_view extension);

/// Lists folders and finds the ROMs. `detection` gets errors and limits.
[[nodiscard]] Result<Survey> survey_place(Store& store, const DetectOptions& options, Detection& detection);
/// Looks into the files that are no ROMs and could be saves, cards, states. Those below `claimed` folders are
/// left out.
[[nodiscard]] std::vector<SurveyedFile> survey_saves(const Catalog& catalog, Store& store,
                                                     const Survey& survey,
                                                     const std::set<std::string>& claimed,
                                                     const DetectOptions& options, Detection& detection);

/// The folder that is a program's own: the first one above whose name says more than what is in it. Stops
/// below `top`.
[[nodiscard]] std::string program_folder(std::string folder, const std::string& top);

/// The folder that contains all these paths.
[[nodiscard]] std::string common_folder(const std::vector<std::string>& paths);

}  // namespace bayswap
