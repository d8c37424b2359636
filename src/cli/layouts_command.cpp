#include <bayswap/card.hpp>
#include <bayswap/layout.hpp>

#include <algorithm>

#include "base/order.hpp"
#include "base/text.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

std::string sizes_in_words(const Layout& layout) {
  if (layout.is_set()) return "a file a part";
  const auto sizes = layout.file_sizes();
  constexpr std::size_t max_listed = 3;
  if (sizes.size() > max_listed) return fmt::format("{} to {}", sizes.front(), sizes.back());
  return joined(sizes, " or ");
}

std::string absent_in_words(DefaultFill absent) {
  switch (absent) {
    case DefaultFill::ff:
      return "FF";
    case DefaultFill::zero:
      return "00";
    case DefaultFill::fresh_pak:
      return "a freshly formatted pak";
  }
  return {};
}

std::string sizes_in_words(const std::vector<std::size_t>& sizes) {
  constexpr std::size_t max_listed = 4;
  if (sizes.size() > max_listed) return fmt::format("{} to {} bytes", sizes.front(), sizes.back());
  return fmt::format("{} bytes", joined(sizes, " or "));
}

std::string form_in_words(Encoding form) {
  switch (form) {
    case Encoding::plain:
      return {};
    case Encoding::nibbles:
      return "one half-byte a byte";
    case Encoding::nibbles_packed:
      return "two half-bytes a byte, low half first";
    case Encoding::clock44:
      return "ten registers, then 32-bit Unix seconds";
    case Encoding::clock_start:
      return "64-bit Unix seconds when it was zero";
    case Encoding::pages_ecc:
      return "pages of 512 bytes, each with 16 spare bytes";
  }
  return {};
}

std::string spread_in_words(const Slot& slot) {
  const std::string lane(to_text(slot.parity));
  switch (slot.interleave) {
    case Interleave::none:
      return {};
    case Interleave::zero:
      return fmt::format("on {} addresses, 00 on the others", lane);
    case Interleave::ff:
      return fmt::format("on {} addresses, FF on the others", lane);
    case Interleave::doubled:
      return "each byte twice";
  }
  return {};
}

std::vector<std::string> lines_of(const Slot& slot) {
  std::vector<std::string> lines{fmt::format("{}, {}", to_text(slot.role), sizes_in_words(slot.file_sizes))};
  if (slot.is_straight() || slot.order != ByteOrder::chip) lines.emplace_back(in_words(slot.order));
  if (slot.encoding != Encoding::plain) lines.push_back(form_in_words(slot.encoding));
  if (slot.interleave != Interleave::none) lines.push_back(spread_in_words(slot));
  if (slot.chip_sizes != slot.file_sizes) lines.push_back("chips of " + sizes_in_words(slot.chip_sizes));
  lines.push_back(fmt::format("when nothing is brought: {}", absent_in_words(slot.fill)));
  return lines;
}

std::vector<std::string> lines_of(const Field& field) {
  if (!field.bytes.empty()) return {fmt::format("{} bytes, always the same", field.bytes.size())};
  if (field.unknown_bytes != 0)
    return {fmt::format("{} bytes that only the target's own file has", field.unknown_bytes)};
  if (field.checksum) {
    const IntegrityField& sum = *field.checksum;
    return {fmt::format("{} of all from {} on{}", to_text(sum.kind), sum.from,
                        sum.before_end > 0 ? fmt::format(", but the last {} bytes", sum.before_end) : "")};
  }
  if (field.number_bytes != 0) return {fmt::format("the part's size, in {} bytes", field.number_bytes)};
  return {fmt::format("{} bytes that go by the part's size", field.size_bytes())};
}

// The file from offset 0 to its end, a line for each seam and some for each part or field between two seams.
// What comes after a part of several sizes is drawn where it is in the shortest file.
void draw(const Layout& layout) {
  const auto seam = [](std::size_t at, const std::string& note = {}) {
    fmt::print("  {:>8} +{:-<50}+{}\n", at, "", note);
  };
  const auto row = [](const std::string& text) { fmt::print("  {:>8} | {:<48} |\n", "", text); };
  struct Piece {
    Layout::Place place;
    std::vector<std::string> lines;
  };
  std::vector<Piece> pieces;
  const std::vector<std::size_t> sizes = layout.file_sizes();
  for (const Slot& slot : layout.slots) pieces.push_back({layout.place(slot, sizes.front()), lines_of(slot)});
  for (const Field& field : layout.fields)
    pieces.push_back({layout.place(field, sizes.front()), lines_of(field)});
  sort_by(pieces, [](const Piece& piece) { return piece.place.at; });
  std::size_t at = 0;
  seam(0);
  for (const Piece& piece : pieces) {
    if (piece.place.at > at) {
      row(fmt::format("shell, {} bytes: kept as they are", piece.place.at - at));
      seam(piece.place.at);
    }
    for (const std::string& line : piece.lines) row(line);
    at = piece.place.at + piece.place.size;
    seam(at, sizes.size() > 1 ? fmt::format("  up to {}", at + sizes.back() - sizes.front()) : "");
  }
  if (layout.size > at) {
    row(fmt::format("{:02X} where nothing else is known, {} bytes", layout.fill, layout.size - at));
    seam(layout.size);
  }
}

Json layout_json(const Layout& layout) {
  Json parts = Json::array();
  for (const Slot& slot : layout.slots)
    parts.push_back({{"role", to_text(slot.role)},
                     {"at", slot.at},
                     {"file_sizes", slot.file_sizes},
                     {"chip_sizes", slot.chip_sizes},
                     {"after_variable", slot.after_variable},
                     {"order", to_text(slot.order)},
                     {"form", to_text(slot.encoding)},
                     {"spread", to_text(slot.interleave)},
                     {"lane", to_text(slot.parity)},
                     {"absent", to_text(slot.fill)}});
  return {
      {"id", layout.id},           {"platform", tag(layout.platform)}, {"name", layout.name},
      {"about", layout.about},     {"extension", layout.extension},    {"file_sizes", layout.file_sizes()},
      {"parts", std::move(parts)}, {"members", layout.members},        {"origin", layout.origin}};
}

// Consoles whose saves are on cards have no layouts, or few.
void point_to_cards(const Globals& globals, Platform platform) {
  if (card_kind_from_text(tag(platform)))
    say(globals.quiet,
        fmt::format("Memory cards of {} are read whatever form they have: `bayswap card list IMAGE`.",
                    tag(platform)));
}

int list(const Globals& globals, const Catalog& catalog, std::optional<Platform> platform) {
  const auto layouts = catalog.all(platform);
  if (globals.json) {
    Json list = Json::array();
    for (const Layout* layout : layouts) list.push_back(layout_json(*layout));
    print_json(list);
    return exit_done;
  }
  std::vector<std::vector<std::string>> rows;
  rows.reserve(layouts.size());
  for (const Layout* layout : layouts)
    rows.push_back({layout->id, sizes_in_words(*layout), layout->extension, layout->name});
  if (rows.empty())
    fmt::print("{} has no layouts of cartridge saves.\n", tag(*platform));
  else
    print_table({"layout", "bytes", "extension", "what it is"}, rows, {1});
  if (platform) point_to_cards(globals, *platform);
  if (!rows.empty()) say(globals.quiet, "`bayswap layouts ID` explains one.");
  return exit_done;
}

int explain(const Globals& globals, Catalog& catalog, const std::string& id) {
  const auto found = layout_named(catalog, id);
  if (!found) return report(found.error());
  const Layout& layout = **found;
  if (globals.json) {
    print_json(layout_json(layout));
    return exit_done;
  }
  fmt::print("{}\n", toned(Tone::bold, fmt::format("{}: {}", layout.id, layout.name)));
  if (!layout.about.empty()) print_field("about", layout.about);
  print_field("size", layout.is_set() ? sizes_in_words(layout) : sizes_in_words(layout) + " bytes");
  if (!layout.extension.empty()) print_field("extension", layout.extension);
  if (layout.is_set()) print_field("files", joined(layout.members, ", "));
  print_field("origin", layout.origin);
  if (layout.stream.kind != Compression::none)
    print_field("stream", fmt::format("{} from byte {} on; what is drawn is what comes out of it",
                                      to_text(layout.stream.kind), layout.stream.at));
  if (!layout.is_set()) draw(layout);
  return exit_done;
}

}  // namespace

int layouts_command(const Globals& globals, const std::string& id) {
  auto catalog = catalog_of(globals);
  if (!catalog) return report(catalog.error());
  if (id.empty()) return list(globals, *catalog, std::nullopt);
  if (const auto platform = platform_from_tag(id)) return list(globals, *catalog, platform);
  return explain(globals, *catalog, id);
}

}  // namespace bayswap::cli
