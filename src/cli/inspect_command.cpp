#include <bayswap/inspect.hpp>

#include <cmath>

#include "base/text.hpp"
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

std::string either_in_words(const Finding& finding) {
  std::vector<std::string> ids;
  for (const Layout* layout : finding.either) ids.push_back(layout->id);
  return fmt::format("either {}", fmt::join(ids, " or "));
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
          {"confidence", finding.confidence},
          {"evidence", finding.evidence},
          {"parts", std::move(parts)},
          {"game", finding.game ? cli::to_json(*finding.game) : Json(nullptr)}};
}

}  // namespace

int inspect_command(const Globals& globals, const InspectOptions& options) {
  const auto catalog = catalog_of(globals);
  if (!catalog) return report(catalog.error());
  const auto said = chips_from_words(options.chips);
  if (!said) return report(said.error());
  LocalStore disk;
  Json list = Json::array();
  int worst = exit_done;
  int shown = 0;
  std::string unknown;
  for (const std::string& path : options.files) {
    const auto hints = hints_for(globals, path, options.rom, *said);
    if (!hints) return report(hints.error());
    const auto finding = inspect_file(*catalog, disk, path, *hints);
    if (!finding) {
      worst = std::max(worst, report(finding.error()));
      if (globals.json) list.push_back({{"path", path}, {"error", cli::to_json(finding.error())}});
      continue;
    }
    if (finding->kind == FileKind::unknown) {
      worst = std::max<int>(worst, exit_input);
      unknown += (unknown.empty() ? "" : ", ") + path;
    }
    if (globals.json) {
      list.push_back(to_json(path, *finding));
    } else {
      if (shown++ > 0) fmt::print("\n");
      print_finding(path, *finding);
    }
  }
  if (globals.json) print_json(list);
  std::fflush(stdout);
  if (!unknown.empty())
    report({ErrorCode::not_recognised, fmt::format("not recognised: {}", unknown),
            "`bayswap layouts` lists what is known; a file of 0 bytes or cut short must be copied again"});
  return worst;
}

}  // namespace bayswap::cli
