#include "bay/detect_survey.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <tuple>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "inspect/disc_sheet.hpp"
#include "inspect/look.hpp"
#include "inspect/packed_rom.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_file_bytes = std::size_t{72} << 20;  // the largest card
constexpr std::size_t min_file_bytes = 8;                      // a clock

bool is_one_of(std::string_view text, std::span<const std::string_view> list) {
  return std::find(list.begin(), list.end(), text) != list.end();
}

std::string join(const std::string& folder, const std::string& name) {
  return folder == "." ? name : join_path(folder, name);
}

class Walker {
 public:
  Walker(Store& store, const DetectOptions& options, Detection& detection)
      : store_(store), options_(options), detection_(detection) {}

  Result<Survey> run() {
    BAYSWAP_CHECK(folder(".", 0));
    sort_by(survey_.files, [](const auto& file) { return std::string_view(file.first); });
    find_roms();
    return std::move(survey_);
  }

 private:
  Result<void> folder(const std::string& path, int depth) {
    auto entries = store_.list(path);
    if (!entries) {
      if (depth == 0) return tl::unexpected(std::move(entries.error()));
      detection_.errors.push_back(std::move(entries.error()));
      return {};
    }
    survey_.folders.push_back(path);
    names_ += entries->size();
    if (names_ > options_.max_names) return stop("there are more names than one look takes");
    if (options_.on_progress && !options_.on_progress(survey_.files.size(), path))
      return stop("it was stopped");
    for (const FileInfo& entry : *entries) {
      if (entry.kind != FileInfo::Kind::file || is_os_metadata(entry.name) || is_own_temporary(entry.name))
        continue;
      survey_.files.emplace_back(join(path, entry.name), entry);
    }
    for (const FileInfo& entry : *entries) {
      if (entry.kind != FileInfo::Kind::folder || entry.link || is_os_metadata(entry.name) ||
          is_left_out(entry.name) || detection_.incomplete)
        continue;
      if (depth == options_.max_depth) {
        detection_.incomplete_why = "some folders are deeper than one look goes";
        continue;
      }
      BAYSWAP_CHECK(folder(join(path, entry.name), depth + 1));
    }
    return {};
  }

  Result<void> stop(const std::string& why) {
    detection_.incomplete = true;
    detection_.incomplete_why = why;
    return {};
  }

  void find_roms() {
    std::set<std::string> tracks;
    for (const auto& [path, info] : survey_.files) {
      if (++looked_ % 64 == 0 && options_.on_progress && !options_.on_progress(looked_, folder_of(path))) {
        (void)stop("it was stopped");
        return;
      }
      if (info.size_bytes < 512 && extension_of(path) != ".cue" && extension_of(path) != ".m3u" &&
          extension_of(path) != ".gdi")
        continue;
      if (is_foreign_extension(extension_of(path))) continue;
      if (const auto sheet = read_disc_sheet(store_, path); sheet && *sheet)
        tracks.insert((*sheet)->files.begin(), (*sheet)->files.end());
      // What was found to be a save was asked before whether it is a ROM; but for one in an archive.
      if (const auto known = options_.known ? options_.known(path) : std::nullopt;
          known && known->kind != FileKind::rom && known->kind != FileKind::unknown)
        if (const auto packed = packed_rom(store_, path); packed && !*packed) continue;
      auto facts = identify_rom(store_, path);
      if (!facts) {
        if (facts.error().code == ErrorCode::io) detection_.errors.push_back(std::move(facts.error()));
        continue;
      }
      survey_.roms.push_back({path, *std::move(facts)});
    }
    std::erase_if(survey_.roms, [&](const RomFile& rom) { return tracks.contains(rom.path); });
    survey_.rom_files = std::move(tracks);
    for (std::size_t i = 0; i < survey_.roms.size(); ++i) {
      const RomFile& rom = survey_.roms[i];
      survey_.rom_files.insert(rom.path);
      survey_.by_stem.emplace(lower(stem_of(rom.path)), i);
      survey_.by_name.emplace(lower(name_of(rom.path)), i);
      survey_.by_title.emplace(normalized_title(stem_of(rom.path)), i);
      const GameId& game = rom.facts.game;
      if (!game.code.empty()) survey_.by_code.emplace(lower(game.code), i);
      if (!game.title.empty()) survey_.by_header_title.emplace(lower(game.title), i);
    }
  }

  Store& store_;
  const DetectOptions& options_;
  Detection& detection_;
  Survey survey_;
  std::size_t names_ = 0;
  std::size_t looked_ = 0;
};

// Signatures of files that are never saves, whatever they are called.
bool is_foreign(ByteView bytes) {
  using namespace std::string_view_literals;
  static constexpr std::array<std::string_view, 22> marks{"\x89PNG"sv,
                                                          "\xff\xd8\xff"sv,
                                                          "GIF8"sv,
                                                          "BM"sv,
                                                          "PK\x03\x04"sv,
                                                          "7z\xbc\xaf"sv,
                                                          "Rar!"sv,
                                                          "\x7f"
                                                          "ELF"sv,
                                                          "%PDF"sv,
                                                          "RIFF"sv,
                                                          "OggS"sv,
                                                          "fLaC"sv,
                                                          "ID3"sv,
                                                          "SQLite format 3"sv,
                                                          "MZ"sv,
                                                          "PATCH"sv,
                                                          "UPS1"sv,
                                                          "BPS1"sv,
                                                          "<?xml"sv,
                                                          "#!"sv,
                                                          "MThd"sv,
                                                          "\xca\xfe\xba\xbe"sv};
  return std::any_of(marks.begin(), marks.end(), [&](std::string_view mark) {
    return bytes.size() >= mark.size() &&
           std::equal(mark.begin(), mark.end(), bytes.begin(),
                      [](char c, Byte b) { return static_cast<Byte>(c) == b; });
  });
}

// Lines for people: text from one end to the other.
bool is_text(ByteView bytes) {
  return !bytes.empty() && std::all_of(bytes.begin(), bytes.end(), [](Byte b) {
    return (b >= 0x20 && b != 0x7f) || b == '\n' || b == '\r' || b == '\t';
  }) && std::any_of(bytes.begin(), bytes.end(), [](Byte b) { return b == '\n'; });
}

// A size that cards have: a power of two, with spare bytes or without, or with a header in front.
bool is_card_size(std::uint64_t size) {
  constexpr std::uint64_t smallest = 32768;
  constexpr std::uint64_t header = 8192;
  if (size < smallest || size > max_file_bytes) return false;
  const std::uint64_t floor = std::bit_floor(size);
  return size - floor <= header || (size % 528 == 0 && std::has_single_bit(size / 528));
}

// ROMs of one name that are asked whether a file is their save.
constexpr std::size_t max_namesakes = 8;

class Looker {
 public:
  Looker(const Catalog& catalog, Store& store, const Survey& survey, const std::set<std::string>& claimed,
         const DetectOptions& options, Detection& detection)
      : catalog_(catalog),
        store_(store),
        survey_(survey),
        claimed_(claimed),
        options_(options),
        detection_(detection) {}

  std::vector<SurveyedFile> run() {
    std::size_t looked = 0;
    for (const auto& [path, info] : survey_.files) {
      if (++looked % 64 == 0 && options_.on_progress &&
          !options_.on_progress(survey_.files.size() + looked, folder_of(path))) {
        detection_.incomplete = true;
        detection_.incomplete_why = "it was stopped";
        break;
      }
      if (!survey_.rom_files.contains(path) && !is_below_claimed(path)) look(path, info);
    }
    return std::move(found_);
  }

 private:
  [[nodiscard]] bool is_below_claimed(const std::string& path) const {
    for (std::string folder = path; folder != "." && folder != "/"; folder = folder_of(folder))
      if (claimed_.contains(folder)) return true;
    return claimed_.contains(".");
  }

  // The ROMs whose name the file or its folder has: with another extension, with one more, or with the number
  // of a controller pak. Of several, those nearest to it.
  std::vector<std::size_t> find_roms(SurveyedFile& file) const {
    const std::string stem = lower(stem_of(file.path));
    std::vector<std::size_t> roms;
    const auto nearness = [&](std::size_t rom) {
      const std::string& path = survey_.roms[rom].path;
      return std::pair(folder_of(path) == folder_of(file.path), shared_folders(path, file.path));
    };
    const auto take = [&](const std::unordered_multimap<std::string, std::size_t>& index,
                          const std::string& name, std::string_view word) {
      if (!roms.empty() || name.empty()) return;
      const auto [first, last] = index.equal_range(name);
      for (auto one = first; one != last; ++one) {
        if (!roms.empty() && nearness(one->second) > nearness(roms.front())) roms.clear();
        if (roms.empty() || nearness(one->second) == nearness(roms.front())) roms.push_back(one->second);
        file.rom_word = word;
      }
    };
    take(survey_.by_stem, stem, "rom.stem");
    take(survey_.by_name, stem, "rom.name");
    if (pak_number_in_name(name_of(file.path)) > 0 && stem.size() > 2)
      take(survey_.by_stem, stem.substr(0, stem.size() - 2), "rom.stem");
    constexpr std::size_t md5 = 33;
    if (stem.size() > md5 && stem[stem.size() - md5] == '.')
      take(survey_.by_stem, stem.substr(0, stem.size() - md5), "rom.stem}.{rom.md5");
    if (is_save_extension(extension_of(file.path), catalog_)) {
      take(survey_.by_code, stem, "game.code");
      take(survey_.by_header_title, stem, "game.title");
      const std::string title = normalized_title(stem_of(file.path));
      if (survey_.by_title.count(title) == 1) take(survey_.by_title, title, "");
      // A folder for each game.
      const std::string folder = lower(name_of(folder_of(file.path)));
      take(survey_.by_stem, folder, "");
      take(survey_.by_code, folder, "");
    }
    std::sort(roms.begin(), roms.end());
    roms.resize(std::min<std::size_t>(roms.size(), max_namesakes));
    return roms;
  }

  void look(const std::string& path, const FileInfo& info) {
    const std::string extension = lower(extension_of(path));
    const bool is_named = is_save_extension(extension, catalog_);
    SurveyedFile file{path, info, {}, {}, {}, false};
    const std::vector<std::size_t> roms = find_roms(file);
    if (info.size_bytes == 0) {
      if (is_named) detection_.empty.push_back(path);
      return;
    }
    if (info.size_bytes < min_file_bytes || info.size_bytes > max_file_bytes ||
        is_foreign_extension(extension))
      return;
    if (!is_named && roms.empty() && !is_card_size(info.size_bytes) && !is_small_binary(info.size_bytes))
      return;
    const auto bytes = store_.read(path);
    if (!bytes) {
      detection_.errors.push_back(bytes.error());
      return;
    }
    if (is_text(bytes->view())) return;
    Hints hints;
    hints.extension = extension;
    hints.states = options_.states;
    if (roms.empty()) {
      auto known = options_.known ? options_.known(path) : std::nullopt;
      file.finding = known ? *std::move(known) : inspect_save(catalog_, *bytes, hints);
    }
    // Of games of one name on several consoles, the one whose save it can be.
    for (const std::size_t index : roms) {
      const RomFile& rom = survey_.roms[index];
      hints.game = rom.facts.game;
      hints.chips = rom.facts.chips;
      if (rom.facts.game.platform == Platform::gba) add_tags(rom, hints.chips);
      Finding finding = inspect_save(catalog_, *bytes, hints);
      if (file.rom && likelihood(finding) <= likelihood(file.finding)) continue;
      file.rom = index;
      file.finding = std::move(finding);
    }
    if (is_foreign(bytes->view()) && file.finding.kind != FileKind::save_state) return;
    // The name misled: another game's ROM has it.
    if (file.rom && file.finding.kind == FileKind::unknown) {
      hints.game.reset();
      hints.chips.clear();
      Finding other = inspect_save(catalog_, *bytes, hints);
      if (other.kind != FileKind::unknown && other.confidence > 0.5) {
        file.finding = std::move(other);
        file.rom.reset();
        file.rom_word.clear();
      }
    }
    found_.push_back(std::move(file));
  }

  static std::tuple<bool, bool, double> likelihood(const Finding& finding) {
    const bool is_known = finding.kind != FileKind::unknown;
    return {is_known, is_known && finding.fit == Fit::exact, finding.confidence};
  }

  // Small enough to be read for the marks that single saves and parameter files have.
  static bool is_small_binary(std::uint64_t size) { return size <= 1024 * 1024; }

  void add_tags(const RomFile& rom, std::vector<ChipFact>& chips) const {
    RomFacts facts = rom.facts;
    const auto source = rom_source(store_, rom.path);
    if (!source || !find_chip_tags(*source, facts)) return;
    chips = facts.chips;
  }

  const Catalog& catalog_;
  Store& store_;
  const Survey& survey_;
  const std::set<std::string>& claimed_;
  const DetectOptions& options_;
  Detection& detection_;
  std::vector<SurveyedFile> found_;
};

}  // namespace

bool looks_like_code(std::string_view name) {
  return name.size() == 4 &&
         std::all_of(name.begin(), name.end(),
                     [](char c) { return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9'); }) &&
         std::any_of(name.begin(), name.end(), [](char c) { return c >= '0' && c <= '9'; });
}

bool is_left_out(std::string_view folder_name) {
  static constexpr std::array<std::string_view, 14> names{
      "cache",        ".cache", "caches", "code cache",  "gpucache", "shadercache", "shader_cache",
      "node_modules", ".git",   ".svn",   "__pycache__", "trash",    ".trash",      "lost.dir"};
  const std::string low = lower(folder_name);
  return is_one_of(low, names);
}

bool is_backup_folder(const std::string& path) {
  static constexpr std::array<std::string_view, 8> names{"backup",  "backups", "bak",    "old",
                                                         "archive", "history", "copies", "copy"};
  for (std::string folder = folder_of(path); folder != "." && folder != "/"; folder = folder_of(folder)) {
    const std::string low = lower(name_of(folder));
    if (is_one_of(low, names) || low.starts_with("backup") || low.ends_with(".bak") || low.ends_with(".old"))
      return true;
  }
  return false;
}

bool is_save_extension(std::string_view extension, const Catalog& catalog) {
  static constexpr std::array<std::string_view, 6> usual{".sav", ".srm", ".ram", ".sra", ".eep", ".fla"};
  const std::string low = lower(extension);
  if (low.empty()) return false;
  if (is_one_of(low, usual)) return true;
  const auto all = catalog.all();
  return std::any_of(all.begin(), all.end(),
                     [&](const Layout* layout) { return lower(layout->extension) == low; });
}

bool is_foreign_extension(std::string_view extension) {
  static constexpr std::array<std::string_view, 61> all{
      ".txt",  ".json", ".xml",  ".html", ".htm",    ".css",    ".js",  ".ts",   ".py",  ".c",    ".h",
      ".cpp",  ".hpp",  ".o",    ".a",    ".so",     ".dll",    ".exe", ".sh",   ".bat", ".cfg",  ".ini",
      ".conf", ".opt",  ".toml", ".yaml", ".yml",    ".log",    ".jpg", ".jpeg", ".gif", ".webp", ".svg",
      ".mp3",  ".ogg",  ".flac", ".wav",  ".mp4",    ".mkv",    ".avi", ".webm", ".pdf", ".doc",  ".docx",
      ".odt",  ".ttf",  ".otf",  ".db",   ".sqlite", ".lua",    ".cht", ".ips",  ".ups", ".bps",  ".xdelta",
      ".bak",  ".old",  ".orig", ".tmp",  ".part",   ".desktop"};
  const std::string low = lower(extension);
  return is_one_of(low, all) || low.ends_with('~');
}

bool Survey::has_file_below(const std::string& folder) const {
  const std::string prefix = folder + "/";
  const auto first =
      std::lower_bound(files.begin(), files.end(), prefix,
                       [](const auto& file, const std::string& wanted) { return file.first < wanted; });
  return first != files.end() && first->first.starts_with(prefix);
}

Result<Survey> survey_place(Store& store, const DetectOptions& options, Detection& detection) {
  BAYSWAP_TRY(Survey survey, Walker(store, options, detection).run());
  detection.files = survey.files.size();
  return survey;
}

std::vector<SurveyedFile> survey_saves(const Catalog& catalog, Store& store, const Survey& survey,
                                       const std::set<std::string>& claimed, const DetectOptions& options,
                                       Detection& detection) {
  return Looker(catalog, store, survey, claimed, options, detection).run();
}

std::string common_folder(const std::vector<std::string>& paths) {
  if (paths.empty()) return ".";
  std::string common = folder_of(paths.front());
  for (const std::string& path : paths)
    while (common != "." && !path.starts_with(common + "/")) common = folder_of(common);
  return common;
}

}  // namespace bayswap
