#include <bayswap/inspect.hpp>

#include <cmath>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

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

std::string_view fit_in_words(Fit fit) {
  switch (fit) {
    case Fit::exact:
      return "exact";
    case Fit::padded:
      return "padded";
    case Fit::trimmed:
      return "trimmed";
  }
  return {};
}

std::string either_in_words(const Finding& finding) {
  std::vector<std::string> ids;
  for (const Layout* layout : finding.either) ids.push_back(layout->id);
  return fmt::format("either {}", joined(ids, " or "));
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

Json to_json(const std::string& path, const Finding& finding) {
  Json parts = Json::array();
  for (const PartFinding& part : finding.parts)
    parts.push_back({{"role", to_text(part.role)}, {"size_bytes", part.size_bytes}, {"blank", part.blank}});
  Json either = Json::array();
  for (const Layout* layout : finding.either) either.push_back(layout->id);
  Json layout = nullptr;
  if (!finding.either.empty()) {
    layout = either_in_words(finding);
  } else if (finding.layout != nullptr) {
    layout = finding.layout->id;
  }
  return {{"path", path},
          {"size_bytes", finding.size_bytes},
          {"kind", to_text(finding.kind)},
          {"platform", finding.platform ? Json(tag(*finding.platform)) : Json(nullptr)},
          {"layout", std::move(layout)},
          {"either", std::move(either)},
          {"compression", to_text(finding.compression)},
          {"fit", fit_in_words(finding.fit)},
          {"confidence", finding.confidence},
          {"evidence", finding.evidence},
          {"parts", std::move(parts)},
          {"state_map", finding.state_map},
          {"game", finding.game ? cli::to_json(*finding.game) : Json(nullptr)}};
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
  fmt::print("{:<24} {:>8}  {}  {}\n", what, finding.size_bytes, printable(path), toned(Tone::dim, layout));
}

Json digests_of(const RomDigests& digests) {
  return {{"crc32", fmt::format("{:08x}", digests.crc32)},
          {"md5", digests.md5},
          {"sha1", digests.sha1},
          {"sha256", digests.sha256}};
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
      auto done = folder ? look_through(path) : look_at(path);
      if (!done) return tl::unexpected(std::move(done.error()));
    }
    if (globals_.json) fmt::print("{}", shown_ > 0 ? "\n]\n" : "[]\n");
    std::fflush(stdout);
    if (!unknown_.empty())
      report({ErrorCode::not_recognised, fmt::format("not recognised: {}", unknown_),
              "`bayswap layouts` lists what is known; a file of 0 bytes or cut short must be copied again"});
    if (scanned_ > 0)
      say(globals_.quiet,
          fmt::format("{} files: {} ROMs, {} saves, {} of which could be several things, {}{} unknown.",
                      scanned_, roms_, saves_, unsure_,
                      states_ == 0 ? "" : fmt::format("{} save states, ", states_),
                      scanned_ - roms_ - saves_ - states_));
    return worst_;
  }

 private:
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
    auto done =
        inspect_folder(catalog_, disk_, folder, hints, [&](const std::string& path, const auto& finding) {
          if (!finding) return failed(path, finding.error());
          ++scanned_;
          roms_ += finding->kind == FileKind::rom ? 1 : 0;
          states_ += finding->kind == FileKind::save_state ? 1 : 0;
          saves_ += finding->kind != FileKind::rom && finding->kind != FileKind::unknown &&
                            finding->kind != FileKind::save_state
                        ? 1
                        : 0;
          unsure_ += finding->either.empty() ? 0 : 1;
          if (globals_.json) {
            add(to_json(path, *finding));
          } else {
            print_line(path, *finding);
          }
        });
    if (!done) failed(folder, done.error());
    return {};
  }

  void failed(const std::string& path, const Error& error) {
    worst_ = std::max(worst_, report(error));
    if (globals_.json) add({{"path", path}, {"error", cli::to_json(error)}});
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
    std::fwrite(indented.data(), 1, indented.size(), stdout);
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
  std::size_t scanned_ = 0;
  std::size_t roms_ = 0;
  std::size_t saves_ = 0;
  std::size_t states_ = 0;
  std::size_t unsure_ = 0;
};

}  // namespace

int inspect_command(const Globals& globals, const InspectOptions& options) {
  const auto code = Inspection(globals, options).run();
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
