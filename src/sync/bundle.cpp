#include "sync/bundle.hpp"

#include <algorithm>
#include <array>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "sync/wire.hpp"

namespace bayswap {
namespace {

constexpr std::uint8_t bundle_form = 1;
constexpr std::size_t max_parts = 64;

// Bytes follow, or they are those of a part.
constexpr std::uint8_t own_bytes = 0xFF;

void write_bytes(WireWriter& out, const Blob& bytes) {
  out.u64(bytes.size());
  out.raw(bytes.view());
}

Blob read_bytes(WireReader& in, const Blob& all) {
  const std::uint64_t size = in.u64();
  const std::size_t at = in.at();
  const ByteView bytes = in.raw(size);
  return all.slice(at, bytes.size());
}

tl::unexpected<Error> damaged_bundle() {
  return fail(ErrorCode::damaged, "the bytes of a version are damaged");
}

// As versions have it: not to change with the order in the header.
constexpr std::array<Content::Kind, 4> kinds_on_the_wire{Content::Kind::chips, Content::Kind::tree,
                                                         Content::Kind::item, Content::Kind::encrypted};

std::uint8_t wire_kind(Content::Kind kind) {
  return static_cast<std::uint8_t>(std::ranges::find(kinds_on_the_wire, kind) - kinds_on_the_wire.begin());
}

Result<void> read_content(WireReader& in, const Blob& bytes, Content& content) {
  switch (content.kind) {
    case Content::Kind::chips: {
      const auto platform = platform_from_tag(in.text(16));
      if (!platform) return damaged_bundle();
      content.chips.platform = *platform;
      content.recognised = in.u8() != 0;
      const std::uint32_t count = in.count(10);
      if (count > max_parts) return damaged_bundle();
      for (std::uint32_t i = 0; i < count && in.ok(); ++i) {
        const auto role = role_from_text(in.text(16));
        const bool certain = in.u8() != 0;
        Blob part = read_bytes(in, bytes);
        if (!role || content.chips.find(*role) != nullptr) return damaged_bundle();
        content.chips.parts.push_back({*role, std::move(part), certain});
      }
      return {};
    }
    case Content::Kind::tree: {
      const std::uint32_t count = in.count(20);
      for (std::uint32_t i = 0; i < count && in.ok(); ++i) {
        TreeFile file;
        file.path = in.text();
        file.modified = in.i64();
        file.bytes = read_bytes(in, bytes);
        if (in.ok() && (!is_safe_relative(file.path) || printable(file.path) != file.path))
          return fail(ErrorCode::unsafe, "a version has a file whose name leads out of its folder",
                      "it is left alone; look which device sent it");
        content.tree.push_back(std::move(file));
      }
      if (in.u8() != 0) content.whole = read_bytes(in, bytes);
      return {};
    }
    case Content::Kind::item: {
      const Blob parcel = read_bytes(in, bytes);
      if (!in.ok()) return damaged_bundle();
      BAYSWAP_TRY(content.item, single_save_from(parcel));
      return {};
    }
    case Content::Kind::encrypted:
      content.whole = read_bytes(in, bytes);
      return {};
  }
  return damaged_bundle();
}

}  // namespace

Blob to_bytes(const Bundle& bundle) {
  WireWriter out;
  const Content& content = bundle.content;
  out.u8(bundle_form);
  out.u8(wire_kind(content.kind));
  switch (content.kind) {
    case Content::Kind::chips:
      out.text(tag(content.chips.platform));
      out.u8(content.recognised ? 1 : 0);
      out.u32(static_cast<std::uint32_t>(content.chips.parts.size()));
      for (const Part& part : content.chips.parts) {
        out.text(to_text(part.role));
        out.u8(part.size_certain ? 1 : 0);
        write_bytes(out, part.bytes);
      }
      break;
    case Content::Kind::tree:
      out.u32(static_cast<std::uint32_t>(content.tree.size()));
      for (const TreeFile& file : content.tree) {
        out.text(file.path);
        out.i64(file.modified);
        write_bytes(out, file.bytes);
      }
      out.u8(content.whole ? 1 : 0);
      if (content.whole) write_bytes(out, *content.whole);
      break;
    case Content::Kind::item:
      write_bytes(out, content.item ? to_parcel(*content.item) : Blob());
      break;
    case Content::Kind::encrypted:
      write_bytes(out, content.whole.value_or(Blob()));
      break;
  }
  out.u32(static_cast<std::uint32_t>(content.layouts.size()));
  for (const Layout* layout : content.layouts) out.text(layout->id);
  out.u32(static_cast<std::uint32_t>(bundle.shell.size()));
  for (const ShellFile& file : bundle.shell) {
    out.text(file.name);
    out.text(file.layout);
    const auto& parts = content.chips.parts;
    const auto same = std::ranges::find_if(parts, [&](const Part& part) { return part.bytes == file.bytes; });
    out.u8(same == parts.end() ? own_bytes : static_cast<std::uint8_t>(same - parts.begin()));
    if (same == parts.end()) write_bytes(out, file.bytes);
  }
  return out.blob();
}

Result<Bundle> bundle_from_bytes(const Blob& bytes, const Catalog& catalog) {
  WireReader in(bytes.view());
  Bundle bundle;
  Content& content = bundle.content;
  if (in.u8() != bundle_form) return damaged_bundle();
  const std::uint8_t kind = in.u8();
  if (kind >= kinds_on_the_wire.size()) return damaged_bundle();
  content.kind = kinds_on_the_wire.at(kind);
  BAYSWAP_CHECK(read_content(in, bytes, content));
  const std::uint32_t layouts = in.count(4);
  for (std::uint32_t i = 0; i < layouts && in.ok(); ++i)
    if (const auto layout = catalog.find(in.text(256))) content.layouts.push_back(*layout);
  const std::uint32_t files = in.count(9);
  for (std::uint32_t i = 0; i < files && in.ok(); ++i) {
    ShellFile file;
    file.name = in.text();
    file.layout = in.text(256);
    const std::uint8_t part = in.u8();
    if (part == own_bytes)
      file.bytes = read_bytes(in, bytes);
    else if (part < content.chips.parts.size())
      file.bytes = content.chips.parts[part].bytes;
    else
      return damaged_bundle();
    bundle.shell.push_back(std::move(file));
  }
  if (!in.at_end()) return damaged_bundle();
  return bundle;
}

}  // namespace bayswap
