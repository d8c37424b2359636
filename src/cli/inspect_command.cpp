#include <bayswap/bay_view.hpp>
#include <bayswap/detect.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <new>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/pipes.hpp"
#include "cli/session.hpp"
#include "fs/archive_store.hpp"
#include "inspect/finding_shelf.hpp"

namespace bayswap::cli {
namespace {

std::string sureness(double confidence) {
  const int percent = static_cast<int>(std::lround(confidence * 100));
  const std::string_view word = percent >= 97   ? "certain"
                                : percent >= 75 ? "likely"
                                : percent >= 40 ? "possible"
                                                : "a guess";
  return fmt::format("{}, {} %", word, percent);
}

void print_finding(const std::string& path, const Finding& finding) {
  fmt::print("{}\n", toned(Tone::bold, printable(path)));
  std::string what(to_text(finding.kind));
  if (finding.platform)
    what += fmt::format(" of {} ({})", tag(*finding.platform), sureness(finding.confidence));
  print_field("kind", what);
  print_field("size", fmt::format("{} bytes", finding.size_bytes));
  if (!finding.either.empty()) {
    print_field("layout", either_in_words(finding));
  } else if (finding.layout != nullptr) {
    print_field("layout", fmt::format("{}: {}", finding.layout->id, finding.layout->name));
  }
  if (!finding.state_map.empty()) print_field("map", finding.state_map);
  if (finding.game) print_field("game", in_words(*finding.game));
  bool first = true;
  for (const PartFinding& part : finding.parts) {
    fmt::print("  {}{:<8}{:>8} bytes{}\n", toned(Tone::dim, fmt::format("{:<11}", first ? "parts" : "")),
               to_text(part.role), part.size_bytes, part.blank ? "  blank" : "");
    first = false;
  }
  first = true;
  for (const std::string& sentence : finding.evidence) {
    print_field(first ? "because" : "", printable(sentence));
    first = false;
  }
}

// One line for each file of a folder.
void print_line(const std::string& path, const Finding& finding) {
  std::string what(to_text(finding.kind));
  if (finding.platform) what += fmt::format(" of {}", tag(*finding.platform));
  std::string layout;
  if (finding.either.size() > 2) {
    layout = fmt::format("one of {} layouts", finding.either.size());
  } else if (!finding.either.empty()) {
    layout = either_in_words(finding);
  } else if (finding.layout != nullptr) {
    layout = finding.layout->id;
  }
  if (!finding.state_map.empty()) layout = finding.state_map;
  if (finding.kind == FileKind::rom && finding.game) layout = in_words(*finding.game);
  fmt::print("{:<24} {:>8}  {}{}\n", what, finding.size_bytes, printable(path),
             layout.empty() ? "" : "  " + toned(Tone::dim, layout));
}

Json digests_of(const RomDigests& digests) {
  return {{"crc32", fmt::format("{:08x}", digests.crc32)},
          {"md5", digests.md5},
          {"sha1", digests.sha1},
          {"sha256", digests.sha256}};
}

// A file below a folder, as a look through the folder names it.
std::string path_in(const std::string& folder, const std::string& file) {
  return folder == "." ? file : join_path(folder, file);
}

class Inspection {
 public:
  Inspection(const Globals& globals, const InspectOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    BAYSWAP_TRY(catalog_, catalog_of(globals_));
    BAYSWAP_TRY(maps_, state_maps_of(globals_));
    (void)maps_.all();  // read once, before several threads ask
    BAYSWAP_TRY(said_, chips_from_words(options_.chips));
    for (const std::string& path : options_.files) {
      const auto info = disk_.stat(path);
      const bool folder = info && *info && (*info)->kind == FileInfo::Kind::folder;
      BAYSWAP_TRY(const auto archive, path == "-" || folder ? nullptr : archive_at(path));
      auto done = path == "-"          ? look_at_stdin()
                  : folder             ? look_through(path)
                  : archive != nullptr ? look_into(path, *archive)
                                       : look_at(path);
      if (!done && shown_ > 0) {
        failed(path, done.error());
        break;
      }
      if (!done) return tl::unexpected(std::move(done.error()));
    }
    end_list();
    if (!unknown_.empty())
      report({ErrorCode::not_recognised, fmt::format("not recognised: {}", unknown_),
              "`bayswap layouts` lists the known forms; of a save in another form, `bayswap infer` learns it "
              "from a "
              "pair of files"});
    if (scanned_ > 0)
      say(globals_.quiet,
          fmt::format("{}: {}, {}{}, {}{} unknown.", counted(scanned_, "file"), counted(roms_, "ROM"),
                      counted(saves_, "save"),
                      unsure_ == 0 ? "" : fmt::format(" ({} could be several things)", unsure_),
                      states_ == 0 ? "" : counted(states_, "save state") + ", ",
                      scanned_ - roms_ - saves_ - states_));
    return worst_;
  }

  // What was shown so far stays a list that can be read; false if nothing was.
  bool cut_short(const Error& error) {
    if (shown_ == 0) return false;
    worst_ = report(error);
    if (globals_.json) add({{"path", ""}, {"error", to_json(error)}});
    end_list();
    return true;
  }

 private:
  void end_list() const {
    if (globals_.json) print_document(shown_ > 0 ? "\n]\n" : "[]\n");
    std::fflush(stdout);
  }

  // Begins as an archive does, and can be read as one; a ROM that is alone in one counts as that ROM.
  Result<std::unique_ptr<ArchiveStore>> archive_at(const std::string& path) {
    const auto head = disk_.read_head(path, 512);
    if (!head) return nullptr;
    const ByteView bytes = head->view();
    const auto has = [&](std::size_t at, std::string_view mark) {
      return bytes.size() >= at + mark.size() &&
             std::equal(mark.begin(), mark.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at),
                        [](char c, Byte b) { return static_cast<Byte>(c) == b; });
    };
    constexpr std::size_t tar_mark_at = 257;
    const bool is_one =
        has(0, "PK\x03\x04") || has(0, "7z\xbc\xaf") || has(0, "Rar!") || has(tar_mark_at, "ustar");
    if (!is_one || identify_rom(disk_, path)) return nullptr;
    const auto whole = disk_.read(path);
    ArchiveLimits limits;
    auto archive = whole ? ArchiveStore::open(*whole, path, limits) : tl::unexpected(whole.error());
    if (archive) return *std::move(archive);
    if (archive.error().code == ErrorCode::not_recognised) return nullptr;
    // A save may begin with those bytes as well.
    const std::string extension = lower(extension_of(path));
    constexpr std::array<std::string_view, 6> usual{".zip", ".7z", ".rar", ".tar", ".tgz", ".gz"};
    if (std::ranges::find(usual, extension) == usual.end()) return nullptr;
    return tl::unexpected(std::move(archive.error()));
  }

  Result<void> look_at_stdin() {
    BAYSWAP_TRY(const Blob bytes, read_stdin());
    Hints hints;
    if (!options_.rom.empty() || !said_.empty()) {
      BAYSWAP_TRY(hints, hints_for(globals_, "-", options_.rom, said_));
    }
    hints.states = &maps_;
    const Finding finding = inspect(catalog_, bytes, hints);
    if (finding.kind == FileKind::unknown) {
      worst_ = std::max<int>(worst_, exit_input);
      unknown_ += (unknown_.empty() ? "" : ", ") + std::string("stdin");
    }
    if (globals_.json) {
      add(to_json("-", finding));
    } else {
      if (shown_++ > 0) fmt::print("\n");
      print_finding("stdin", finding);
    }
    return {};
  }

  Result<void> look_at(const std::string& path) {
    BAYSWAP_TRY(Hints hints, hints_for(globals_, path, options_.rom, said_));
    hints.states = &maps_;
    const auto finding = inspect_file(catalog_, disk_, path, hints);
    if (!finding) {
      failed(path, finding.error());
      return {};
    }
    if (finding->kind == FileKind::unknown) {
      worst_ = std::max<int>(worst_, exit_input);
      unknown_ += (unknown_.empty() ? "" : ", ") + path;
    }
    std::optional<RomDigests> whole;
    std::optional<RomDigests> bare;
    if (finding->kind == FileKind::rom) {
      BAYSWAP_TRY(const RomSource source, rom_source(disk_, path));
      BAYSWAP_TRY(whole, digest_rom(source));
      if (const auto facts = identify_rom(disk_, path); facts && facts->header_size_bytes > 0) {
        BAYSWAP_TRY(bare, digest_rom(source, facts->header_size_bytes));
      }
    }
    if (globals_.json) {
      Json json = to_json(path, *finding);
      if (whole) json["digests"] = digests_of(*whole);
      if (bare) json["digests_without_header"] = digests_of(*bare);
      add(json);
      return {};
    }
    if (shown_++ > 0) fmt::print("\n");
    print_finding(path, *finding);
    if (whole) print_digests("digests", *whole);
    if (bare) print_digests("bare", *bare);
    return {};
  }

  static void print_digests(std::string_view label, const RomDigests& digests) {
    print_field(label, fmt::format("crc32 {:08x}, md5 {}", digests.crc32, digests.md5));
    print_field("", "sha1 " + digests.sha1);
    print_field("", "sha256 " + digests.sha256);
  }

  Result<void> look_through(const std::string& folder) {
    Hints hints;
    if (!options_.rom.empty() || !said_.empty()) {
      BAYSWAP_TRY(hints, hints_for(globals_, folder, options_.rom, said_));
    }
    hints.states = &maps_;
    neighbours_.reset();
    // What is open is settled by what is near it, which is known once everything was looked at.
    FindingShelf shelf;
    auto done = inspect_folder(
        catalog_, disk_, folder, hints,
        [&](const std::string& path, const Result<Finding>& finding) { shelf.put(path, finding); });
    for (std::size_t i = 0; i < shelf.size(); ++i) {
      const std::string& path = shelf.path(i);
      const auto finding = shelf.at(i);
      if (!finding) {
        failed(path, finding.error());
        continue;
      }
      const bool is_open = !finding->either.empty() || (finding->layout != nullptr && !finding->game);
      const auto better =
          is_open && options_.rom.empty() ? with_neighbours(folder, path, shelf) : std::nullopt;
      if (finding->kind == FileKind::unknown && options_.rom.empty()) {
        learn_neighbours(folder, shelf);
        if (const auto part = part_of_save(path, *finding)) {
          listed(path, *part);
          continue;
        }
      }
      listed(path, better ? *better : *finding);
    }
    if (!done) failed(folder, done.error());
    return {};
  }

  // What ROMs near the folder, and bays that cover it, tell of files that their own bytes do not settle.
  void learn_neighbours(const std::string& folder, const FindingShelf& shelf) {
    if (neighbours_) return;
    neighbours_.emplace();
    folders_.clear();
    LocalStore below(folder);
    DetectOptions what;
    what.states = &maps_;
    if (said_.empty())
      what.known = [&](const std::string& inside) { return shelf.without_game(path_in(folder, inside)); };
    if (const auto detection = detect_place(catalog_, below, what))
      for (const DetectedRule& rule : detection->rules)
        for (const DetectedSave& save : rule.saves) {
          if (save.kind == SaveKind::folder || save.kind == SaveKind::shared_folder ||
              save.kind == SaveKind::package_files)
            folders_.emplace(path_in(folder, save.path), save.platform);
          if (save.kind == SaveKind::card_entry)  // of a card that is a folder
            folders_.emplace(path_in(folder, join_path(save.path, save.entry)), save.platform);
          for (const std::string& file : save.files) {
            Hints& hints = (*neighbours_)[path_in(folder, file)];
            hints.platform = save.platform;
            if (const auto rom = save.rom.empty() ? tl::unexpected(Error{}) : identify_rom(below, save.rom)) {
              hints.game = rom->game;
              hints.chips = rom->chips;
            }
          }
        }
    add_bays(folder);
  }

  // A file below the folder of a save.
  [[nodiscard]] std::optional<Finding> part_of_save(const std::string& path, const Finding& finding) const {
    for (std::string above = folder_of(path); above != "." && above != "/"; above = folder_of(above)) {
      const auto save = folders_.find(above);
      if (save == folders_.end()) continue;
      Finding part = finding;
      part.kind = FileKind::save_part;
      part.platform = save->second;
      part.evidence = {fmt::format("{} is a save", above)};
      return part;
    }
    return std::nullopt;
  }

  std::optional<Finding> with_neighbours(const std::string& folder, const std::string& path,
                                         const FindingShelf& shelf) {
    learn_neighbours(folder, shelf);
    const auto known = neighbours_->find(path);
    if (known == neighbours_->end()) return std::nullopt;
    Hints hints = known->second;
    hints.states = &maps_;
    hints.extension = lower(extension_of(path));
    auto finding = inspect_file(catalog_, disk_, path, hints);
    return finding && finding->kind != FileKind::unknown ? std::optional(*std::move(finding)) : std::nullopt;
  }

  void add_bays(const std::string& folder) {
    const auto home = home_of(globals_);
    const auto bays = home ? list_bays(*home) : tl::unexpected(home.error());
    if (!bays) return;
    const std::string whole = normalized(disk_.absolute_path(folder));
    for (const auto& [name, bay] : *bays) {
      if (!bay || !is_on_disk(bay->root)) continue;
      const std::string root = normalized(disk_.absolute_path(bay->root));
      const bool covers = whole == root || whole.starts_with(root + "/") || root.starts_with(whole + "/");
      const auto store = covers ? open_place(*bay) : tl::unexpected(Error{});
      if (!store) continue;
      BayView view(catalog_, *bay, **store);
      const auto saves = view.saves(BayView::Depth::names);
      if (!saves) continue;
      for (const HeldSave& save : **saves) {
        const std::string whole_path = join_path(root, save.path);
        if (save.held.empty() && whole_path.starts_with(whole + "/")) {
          const std::string own = path_in(folder, whole_path.substr(whole.size() + 1));
          folders_.emplace(save.entry.empty() ? own : join_path(own, save.entry), save.rule->platform);
        }
        for (const HeldFile& file : save.held) {
          const std::string at = join_path(root, file.path);
          if (!at.starts_with(whole + "/")) continue;
          Hints& hints = (*neighbours_)[path_in(folder, at.substr(whole.size() + 1))];
          if (!hints.platform) hints.platform = save.rule->platform;
          if (!hints.game && save.has_rom) hints.game = save.facts.game;
        }
      }
    }
  }

  Result<void> look_into(const std::string& path, ArchiveStore& archive) {
    Hints hints;
    if (!options_.rom.empty() || !said_.empty()) {
      BAYSWAP_TRY(hints, hints_for(globals_, path, options_.rom, said_));
    }
    hints.states = &maps_;
    auto done =
        inspect_folder(catalog_, archive, ".", hints, [&](const std::string& inside, const auto& finding) {
          const std::string name = path + ": " + inside;
          if (!finding) return failed(name, finding.error());
          listed(name, *finding);
        });
    if (!done) failed(path, done.error());
    return {};
  }

  // One of the files of a folder or an archive.
  void listed(const std::string& path, const Finding& finding) {
    ++scanned_;
    roms_ += finding.kind == FileKind::rom ? 1 : 0;
    states_ += finding.kind == FileKind::save_state ? 1 : 0;
    saves_ += finding.kind != FileKind::rom && finding.kind != FileKind::unknown &&
                      finding.kind != FileKind::save_state
                  ? 1
                  : 0;
    unsure_ += finding.either.empty() ? 0 : 1;
    if (globals_.json) {
      add(to_json(path, finding));
      return;
    }
    if (shown_++ == 0)
      fmt::print("{}\n", toned(Tone::bold, fmt::format("{:<24} {:>8}  {}", "kind", "bytes",
                                                       "file, and its layout or game")));
    print_line(path, finding);
  }

  void failed(const std::string& path, const Error& error) {
    worst_ = std::max(worst_, report(error));
    if (globals_.json) add({{"path", path}, {"error", to_json(error)}});
  }

  // The array goes out entry by entry, so that memory does not grow with it.
  void add(const Json& json) {
    std::string text = json_text(json);
    text.pop_back();
    std::string indented = shown_++ > 0 ? ",\n  " : "[\n  ";
    indented.reserve(text.size() + text.size() / 4);
    for (const char c : text) {
      indented += c;
      if (c == '\n') indented += "  ";
    }
    print_document(indented);
  }

  const Globals& globals_;
  const InspectOptions& options_;
  Catalog catalog_;
  StateMaps maps_;
  std::vector<ChipFact> said_;
  LocalStore disk_;
  int worst_ = exit_done;
  int shown_ = 0;
  std::string unknown_;
  std::optional<std::map<std::string, Hints>> neighbours_;  // of the files of the folder at hand
  std::map<std::string, Platform> folders_;                 // that are saves, there
  std::size_t scanned_ = 0;
  std::size_t roms_ = 0;
  std::size_t saves_ = 0;
  std::size_t states_ = 0;
  std::size_t unsure_ = 0;
};

}  // namespace

int inspect_command(const Globals& globals, const InspectOptions& options) {
  Inspection inspection(globals, options);
  try {
    return exit_code_of(inspection.run());
  } catch (const std::bad_alloc&) {
    const Error error{ErrorCode::io, "out of memory", "name fewer files at once, or end other programs", {}};
    if (!inspection.cut_short(error)) throw;
    return exit_code(error.code);
  }
}

}  // namespace bayswap::cli
