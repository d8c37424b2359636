#include "state/sections.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/endian.hpp"
#include "base/try.hpp"
#include "envelope/containers.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_items = 64;
constexpr std::size_t entry_bytes = 16;      // of a table: number, size, offset of 64 bits
constexpr std::size_t chunk_head_bytes = 8;  // of a chunk: number, size

void append(std::vector<Byte>& out, ByteView bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}

Result<std::vector<StateItem>> items_of_chunks(const StateMap& map, const Blob& file) {
  std::vector<StateItem> items;
  for (const ContainerItem& one : png_container.items(file)) {
    if (one.step.name != map.items_name || one.bytes < chunk_head_bytes) continue;
    const Blob chunk = file.slice(one.at, one.bytes);
    const std::size_t size = le32(chunk.view(), 4);
    auto stream = read_stream(
        Compression::zlib, chunk.slice(chunk_head_bytes, chunk.size() - chunk_head_bytes), max_state_bytes);
    if (!stream || stream->plain.size() != size || items.size() == max_items)
      return fail(ErrorCode::damaged,
                  fmt::format("chunk {} #{} of the picture is damaged", map.items_name, items.size() + 1),
                  "make the state again in its program");
    items.push_back({le32(chunk.view(), 0), stream->plain});
  }
  return items;
}

// The table and the items after it; as long as `least`, or longer where they need more.
std::vector<Byte> with_table(const StateMap& map, ByteView layer, const std::vector<StateItem>& items,
                             std::size_t least) {
  std::vector<Byte> out(layer.begin(),
                        layer.begin() + static_cast<std::ptrdiff_t>(std::min(layer.size(), map.items_at)));
  out.resize(map.items_at);
  std::size_t offset = map.items_at + (items.size() + 1) * entry_bytes;
  for (const StateItem& item : items) {
    std::vector<Byte> entry(entry_bytes);
    put_le(entry, 0, 4, item.number);
    put_le(entry, 4, 4, item.bytes.size());
    put_le(entry, 8, 8, offset);
    append(out, entry);
    offset += item.bytes.size();
  }
  out.resize(out.size() + entry_bytes);
  for (const StateItem& item : items) append(out, item.bytes.view());
  if (out.size() < least) out.resize(least);
  return out;
}

Blob chunk_of(const StateMap& map, const StateItem& item) {
  std::vector<Byte> data(chunk_head_bytes);
  put_le(data, 0, 4, item.number);
  put_le(data, 4, 4, item.bytes.size());
  append(data, wrap(Compression::zlib, item.bytes).view());
  return png_chunk(map.items_name, data);
}

// A picture file's chunks: its own, but for the pixels and the items.
Result<Blob> with_chunks(const StateMap& map, const Blob& file, const StateSections& sections) {
  std::vector<Byte> out(file.view().begin(), file.view().begin() + 8);
  Blob header;
  Blob pixels;
  for (const ContainerItem& one : png_container.items(sections.picture)) {
    if (one.step.name == "IHDR") header = sections.picture.slice(one.at, one.bytes);
    if (one.step.name == "IDAT" && pixels.empty()) pixels = sections.picture.slice(one.at, one.bytes);
  }
  const auto all = png_container.items(file);
  bool drawn = false;
  for (const ContainerItem& one : all) {
    const ByteView whole = file.view().subspan(one.at - 8, one.bytes + 12);
    const bool own_picture = !sections.picture.empty();
    if (one.step.name == map.items_name) continue;
    if (one.step.name == "IEND")
      for (const StateItem& item : sections.items) append(out, chunk_of(map, item).view());
    if (own_picture && one.step.name == "IHDR") {
      append(out, png_chunk("IHDR", header.view()).view());
    } else if (own_picture && one.step.name == "IDAT") {
      if (!drawn)
        for (const ContainerItem& row : png_container.items(sections.picture))
          if (row.step.name == "IDAT")
            append(out, png_chunk("IDAT", sections.picture.view().subspan(row.at, row.bytes)).view());
      drawn = true;
    } else {
      append(out, whole);
    }
  }
  return Blob::copy_of(out);
}

// A picture of nothing: no moment is shown rather than another one.
Blob empty_picture(int width, int height) {
  constexpr std::size_t bytes_a_pixel = 3;
  std::vector<Byte> header(13);
  put_be32(header, 0, static_cast<std::uint32_t>(width));
  put_be32(header, 4, static_cast<std::uint32_t>(height));
  header[8] = 8;  // bits
  header[9] = 2;  // red, green, blue
  const Blob rows = Blob::filled(
      static_cast<std::size_t>(height) * (static_cast<std::size_t>(width) * bytes_a_pixel + 1), 0);
  std::vector<Byte> out{0x89, 'P', 'N', 'G', 0x0d, 0x0a, 0x1a, 0x0a};
  append(out, png_chunk("IHDR", header).view());
  append(out, png_chunk("IDAT", wrap(Compression::zlib, rows).view()).view());
  append(out, png_chunk("IEND", {}).view());
  return Blob::copy_of(out);
}

bool is_picture(const StateMap& map) {
  return !map.body.empty() && map.body.front().kind == EnvelopeStep::Kind::png_chunk;
}

// The body's layer, from nothing: the snapshot, and a table where there is one.
Blob new_layer(const StateMap& map, const StateSections& sections) {
  if (map.items != StateMap::Items::table) return sections.body;
  std::vector<Byte> layer = with_table(map, sections.body.view(), sections.items, 0);
  if (layer.size() < map.new_bytes) layer.resize(map.new_bytes);
  return Blob::copy_of(layer);
}

}  // namespace

Result<std::vector<StateItem>> items_of_table(const StateMap& map, const Blob& layer) {
  std::vector<StateItem> items;
  const ByteView bytes = layer.view();
  for (std::size_t at = map.items_at; at + entry_bytes <= bytes.size(); at += entry_bytes) {
    const std::uint32_t number = le32(bytes, at);
    if (number == 0) return items;
    const std::size_t size = le32(bytes, at + 4);
    const std::uint64_t offset = le64(bytes, at + 8);
    if (items.size() == max_items || offset > bytes.size() || size > bytes.size() - offset)
      return fail(ErrorCode::damaged,
                  fmt::format("the table at {} has an item that leads out of the state", at),
                  "make the state again in its program");
    items.push_back({number, layer.slice(static_cast<std::size_t>(offset), size)});
  }
  return items;
}

Result<StateSections> read_sections(const StateMap& map, const Blob& file) {
  BAYSWAP_TRY(const Blob layer, open_envelope(file, map.body));
  StateSections sections;
  const std::size_t bytes = map.body_bytes == 0 ? layer.size() : map.body_bytes;
  if (bytes > layer.size())
    return fail(ErrorCode::not_recognised,
                fmt::format("its snapshot has {} bytes, not the {} of {}", layer.size(), bytes, map.id),
                "name another map");
  sections.body = layer.slice(0, bytes);
  if (map.items == StateMap::Items::table) {
    BAYSWAP_TRY(sections.items, items_of_table(map, layer));
  } else if (map.items == StateMap::Items::chunks) {
    BAYSWAP_TRY(sections.items, items_of_chunks(map, file));
  }
  if (is_picture(map)) sections.picture = file;
  return sections;
}

Result<Blob> write_sections(const StateMap& map, const Blob& base, const StateSections& sections) {
  BAYSWAP_TRY(const Blob layer, open_envelope(base, map.body));
  std::vector<Byte> changed(layer.view().begin(), layer.view().end());
  if (changed.size() < sections.body.size()) changed.resize(sections.body.size());
  if (map.body_bytes == 0) changed.resize(sections.body.size());
  std::ranges::copy(sections.body.view(), changed.begin());
  if (map.items == StateMap::Items::table) changed = with_table(map, changed, sections.items, layer.size());
  BAYSWAP_TRY(const Blob file, close_envelope(base, map.body, Blob::copy_of(changed)));
  if (map.items == StateMap::Items::chunks) return with_chunks(map, file, sections);
  return file;
}

Result<Blob> new_state(const StateMap& map, const StateSections& sections) {
  const auto needs_base = [&] {
    return fail(ErrorCode::does_not_fit,
                fmt::format("the map {} does not describe all of such a file", map.id),
                "name a state that the other program wrote: its form is taken");
  };
  Blob file = new_layer(map, sections);
  if (is_picture(map)) {
    if (map.picture_size.first == 0 || map.body.size() != 2 ||
        map.body.back().kind != EnvelopeStep::Kind::stream)
      return needs_base();
    const Blob picture = sections.picture.empty()
                             ? empty_picture(map.picture_size.first, map.picture_size.second)
                             : sections.picture;
    // The snapshot's chunk before the last one, then the items.
    std::vector<Byte> out;
    for (const ContainerItem& one : png_container.items(picture)) {
      if (one.step.name != "IEND") continue;
      append(out, picture.view().first(one.at - 8));
      append(out, png_chunk(map.body.front().name, wrap(map.body.back().compression, file).view()).view());
      append(out, picture.view().subspan(one.at - 8));
    }
    StateSections beside = sections;
    beside.picture = {};
    return with_chunks(map, Blob::copy_of(out), beside);
  }
  for (auto step = map.body.rbegin(); step != map.body.rend(); ++step) {
    if (step->kind == EnvelopeStep::Kind::stream && step->at == 0) {
      file = wrap(step->compression, file);
      continue;
    }
    const auto head = std::find_if(map.marks.begin(), map.marks.end(),
                                   [](const StateMark& mark) { return mark.in_file && mark.at == 0; });
    const ChunkForm& form = step->form;
    if (step->kind != EnvelopeStep::Kind::chunk || form.decimal || form.length_first || form.counts_head ||
        head == map.marks.end() || head->bytes.size() != form.from || map.tail.empty())
      return needs_base();
    std::vector<Byte> out(head->bytes);
    out.resize(out.size() + form.name_bytes + form.length_bytes, ' ');
    std::copy(step->name.begin(), step->name.end(), out.begin() + static_cast<std::ptrdiff_t>(form.from));
    for (std::size_t i = 0; i < form.length_bytes; ++i)
      out[form.from + form.name_bytes + (form.big_endian ? form.length_bytes - 1 - i : i)] =
          static_cast<Byte>(i < 8 ? std::uint64_t{file.size()} >> (8 * i) : 0);
    append(out, file.view());
    out.resize((out.size() + form.alignment - 1) / form.alignment * form.alignment);
    append(out, map.tail);
    file = Blob::copy_of(out);
  }
  return file;
}

}  // namespace bayswap
