#include <bayswap/layout.hpp>

#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

std::string sizes_in_words(const Layout& layout) {
  return layout.is_set() ? "a file a part" : fmt::format("{}", fmt::join(layout.file_sizes(), " or "));
}

std::string absent_in_words(Absent absent) {
  switch (absent) {
    case Absent::ff:
      return "FF";
    case Absent::zero:
      return "00";
    case Absent::fresh_pak:
      return "a freshly formatted pak";
  }
  return {};
}

// The file from offset 0 to its end, a line for each seam and one for each part between two seams.
void draw(const Layout& layout) {
  const auto seam = [](std::size_t at, const char* note = "") {
    fmt::print("  {:>8} +{:-<50}+{}\n", at, "", note);
  };
  const auto row = [](const std::string& text) { fmt::print("  {:>8} | {:<48} |\n", "", text); };
  std::size_t at = 0;
  seam(0);
  for (const Slot& slot : layout.slots) {
    if (slot.at > at) {
      row(fmt::format("shell, {} bytes: kept as they are", slot.at - at));
      seam(slot.at);
    }
    row(fmt::format("{}, {} bytes", to_text(slot.role), fmt::join(slot.file_sizes, " or ")));
    row(std::string(in_words(slot.order)));
    if (slot.chip_sizes != slot.file_sizes)
      row(fmt::format("chips of {} bytes", fmt::join(slot.chip_sizes, " or ")));
    row(fmt::format("when nothing is brought: {}", absent_in_words(slot.absent)));
    at = slot.at + slot.file_sizes.back();
    const std::string shorter = slot.file_sizes.size() > 1
                                    ? fmt::format("  or {}", slot.at + slot.file_sizes.front())
                                    : std::string{};
    seam(at, shorter.c_str());
  }
  if (layout.size > at) {
    row(fmt::format("shell, {} bytes: kept as they are", layout.size - at));
    seam(layout.size);
  }
}

Json to_json(const Layout& layout) {
  Json parts = Json::array();
  for (const Slot& slot : layout.slots)
    parts.push_back({{"role", to_text(slot.role)},
                     {"at", slot.at},
                     {"file_sizes", slot.file_sizes},
                     {"chip_sizes", slot.chip_sizes},
                     {"order", to_text(slot.order)},
                     {"absent", to_text(slot.absent)}});
  return {
      {"id", layout.id},           {"platform", tag(layout.platform)}, {"name", layout.name},
      {"about", layout.about},     {"extension", layout.extension},    {"file_sizes", layout.file_sizes()},
      {"parts", std::move(parts)}, {"members", layout.members},        {"origin", layout.origin}};
}

int explain(const Globals& globals, const Catalog& catalog, const std::string& id) {
  const auto found = catalog.find(id);
  if (!found) return report(found.error());
  const Layout& layout = **found;
  if (globals.json) {
    print_json(to_json(layout));
    return exit_done;
  }
  fmt::print("{}\n", toned(Tone::bold, fmt::format("{}: {}", layout.id, layout.name)));
  if (!layout.about.empty()) print_field("about", layout.about);
  print_field("size", layout.is_set() ? sizes_in_words(layout) : sizes_in_words(layout) + " bytes");
  if (!layout.extension.empty()) print_field("extension", layout.extension);
  if (layout.is_set()) print_field("files", fmt::format("{}", fmt::join(layout.members, ", ")));
  print_field("origin", layout.origin);
  if (!layout.is_set()) draw(layout);
  return exit_done;
}

}  // namespace

int layouts_command(const Globals& globals, const std::string& id) {
  const auto catalog = catalog_of(globals);
  if (!catalog) return report(catalog.error());
  if (!id.empty()) return explain(globals, *catalog, id);
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  for (const Layout* layout : catalog->all()) {
    list.push_back(to_json(*layout));
    rows.push_back({layout->id, sizes_in_words(*layout), layout->extension, layout->name});
  }
  if (globals.json) {
    print_json(list);
  } else {
    print_table({"layout", "bytes", "ext.", "what it is"}, rows, {1});
    say(globals.quiet, "`bayswap layouts ID` explains one.");
  }
  return exit_done;
}

}  // namespace bayswap::cli
