// State maps as files.
#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cassert>

#include "base/built_in.hpp"
#include "base/order.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "layout/integrity.hpp"
#include "layout/slot_file.hpp"

namespace bayswap {
namespace {

constexpr std::int64_t max_offset = std::int64_t{96} << 20;
constexpr std::size_t max_rows = 64;

// An offset; 0 if it is not there.
Result<std::size_t> offset(TableReader& reader, std::string_view key) {
  BAYSWAP_TRY(const auto value, reader.integer(key));
  if (value && (*value < 0 || *value > max_offset))
    return reader.error(key, fmt::format("{} is an offset from 0 to {}", key, max_offset));
  return static_cast<std::size_t>(value.value_or(0));
}
Result<bool> flag(TableReader& reader, std::string_view key, std::string_view yes) {
  BAYSWAP_TRY(const auto word, reader.text(key));
  if (word && *word != yes) return reader.error(key, fmt::format("{} is \"{}\", or left out", key, yes));
  return word.has_value();
}

Result<ChunkForm> read_form(TableReader& reader) {
  ChunkForm form;
  BAYSWAP_TRY(form.from, offset(reader, "from"));
  BAYSWAP_TRY(const auto name, reader.integer("name_bytes"));
  BAYSWAP_TRY(const auto length, reader.integer("length_bytes"));
  BAYSWAP_TRY(const auto alignment, reader.integer("alignment"));
  form.name_bytes = static_cast<std::size_t>(name.value_or(4));
  form.length_bytes = static_cast<std::size_t>(length.value_or(4));
  form.alignment = static_cast<std::size_t>(alignment.value_or(1));
  if (form.name_bytes < 1 || form.name_bytes > 64 || form.length_bytes < 1 || form.length_bytes > 8 ||
      form.alignment < 1 || form.alignment > 16)
    return reader.error("name_bytes", "names have 1 to 64 bytes, lengths 1 to 8, alignment is 1 to 16");
  BAYSWAP_TRY(form.big_endian, flag(reader, "order", "big"));
  BAYSWAP_TRY(form.length_first, flag(reader, "first", "length"));
  BAYSWAP_TRY(form.counts_head, flag(reader, "counts", "head"));
  BAYSWAP_TRY(form.decimal, flag(reader, "digits", "decimal"));
  return form;
}

Result<EnvelopeStep> read_step(TableReader reader) {
  EnvelopeStep step;
  BAYSWAP_TRY(const std::string word, reader.needed_text("step"));
  BAYSWAP_TRY(const auto name, reader.text("name"));
  BAYSWAP_TRY(step.index, offset(reader, "index"));
  step.name = name.value_or("");
  if (const auto kind = compression_from_text(word); kind && *kind != Compression::none) {
    step.kind = EnvelopeStep::Kind::stream;
    step.compression = *kind;
    BAYSWAP_TRY(step.at, offset(reader, "at"));
  } else if (word == "zip") {
    step.kind = EnvelopeStep::Kind::zip_entry;
  } else if (word == "png") {
    step.kind = EnvelopeStep::Kind::png_chunk;
  } else if (word == "chunk") {
    step.kind = EnvelopeStep::Kind::chunk;
    BAYSWAP_TRY(step.form, read_form(reader));
  } else {
    return reader.error("step", fmt::format("unknown step '{}'", printable(word)),
                        "steps are gzip, zlib, chunks, zip, png and chunk");
  }
  if ((step.kind == EnvelopeStep::Kind::stream) == name.has_value())
    return reader.error("name", "entries and chunks have a name, streams have none");
  BAYSWAP_CHECK(reader.no_other_keys());
  return step;
}

Result<StateMark> read_mark(TableReader reader) {
  StateMark mark;
  BAYSWAP_TRY(mark.in_file, flag(reader, "in", "file"));
  BAYSWAP_TRY(mark.at, offset(reader, "at"));
  BAYSWAP_TRY(const std::string hex, reader.needed_text("hex"));
  BAYSWAP_TRY(mark.bytes, hex_bytes(reader, "hex", hex));
  BAYSWAP_CHECK(reader.no_other_keys());
  return mark;
}

// What beside the battery save is known of such states: the snapshot itself, and what is kept beside it.
Result<void> read_sections(TableReader& reader, StateMap& map) {
  BAYSWAP_TRY(auto family, reader.text("family"));
  map.family = std::move(family).value_or("");
  BAYSWAP_TRY(const auto tail, reader.text("tail"));
  if (tail) {
    BAYSWAP_TRY(map.tail, hex_bytes(reader, "tail", *tail));
  }
  BAYSWAP_TRY(const auto picture, reader.integers("picture"));
  if (picture) {
    if (picture->size() != 2 || picture->front() < 1 || picture->back() < 1 || picture->front() > 4096 ||
        picture->back() > 4096)
      return reader.error("picture", "picture is a width and a height in pixels, up to 4096");
    map.picture_size = {static_cast<int>(picture->front()), static_cast<int>(picture->back())};
  }
  BAYSWAP_TRY(map.body_bytes, offset(reader, "body_bytes"));
  BAYSWAP_TRY(map.new_bytes, offset(reader, "new_bytes"));
  BAYSWAP_TRY(auto body, reader.tables("body"));
  if (body.size() > EnvelopeLimits{}.max_depth)
    return reader.error("body", "an envelope has at most 4 steps");
  for (TableReader& step : body) {
    BAYSWAP_TRY(auto one, read_step(std::move(step)));
    map.body.push_back(std::move(one));
  }
  if (map.body.empty()) map.body = map.envelope;
  BAYSWAP_TRY(auto items, reader.table("items"));
  if (!items) return {};
  BAYSWAP_TRY(const std::string kind, items->needed_text("kind"));
  if (kind == "table") {
    map.items = StateMap::Items::table;
    BAYSWAP_TRY(map.items_at, offset(*items, "at"));
  } else if (kind == "chunks") {
    map.items = StateMap::Items::chunks;
    BAYSWAP_TRY(map.items_name, items->needed_text("name"));
    if (map.items_name.size() != 4) return items->error("name", "a PNG chunk's name has 4 letters");
  } else {
    return items->error("kind", fmt::format("unknown kind of items '{}'", printable(kind)),
                        "they are in a table or in chunks");
  }
  return items->no_other_keys();
}

Result<IntegrityField> read_integrity(TableReader reader) {
  IntegrityField field;
  BAYSWAP_TRY(const std::string word, reader.needed_text("kind"));
  const auto kind = integrity_from_text(word);
  if (!kind)
    return reader.error("kind", fmt::format("unknown checksum '{}'", printable(word)),
                        "they are crc32, crc16, adler32, sum32, sum16, md5 and sha1");
  field.kind = *kind;
  BAYSWAP_TRY(field.at, offset(reader, "at"));
  BAYSWAP_TRY(field.big_endian, flag(reader, "order", "big"));
  BAYSWAP_TRY(field.from, offset(reader, "from"));
  BAYSWAP_TRY(field.before_end, offset(reader, "before_end"));
  BAYSWAP_CHECK(reader.no_other_keys());
  return field;
}

std::string to_toml(const EnvelopeStep& step, std::string_view heading) {
  std::string out = fmt::format("\n[[{}]]\n", heading);
  const auto line = [&](std::string_view key, const auto& value) {
    out += fmt::format("{} = {}\n", key, value);
  };
  const auto named = [&](std::string_view word) {
    line("step", fmt::format("\"{}\"", word));
    line("name", toml_quoted(step.name));
    if (step.index > 0) line("index", step.index);
  };
  switch (step.kind) {
    case EnvelopeStep::Kind::stream:
      line("step", fmt::format("\"{}\"", to_text(step.compression)));
      if (step.at > 0) line("at", step.at);
      break;
    case EnvelopeStep::Kind::zip_entry:
      named("zip");
      break;
    case EnvelopeStep::Kind::png_chunk:
      named("png");
      break;
    case EnvelopeStep::Kind::chunk: {
      named("chunk");
      const ChunkForm& form = step.form;
      if (form.from > 0) line("from", form.from);
      line("name_bytes", form.name_bytes);
      line("length_bytes", form.length_bytes);
      if (form.alignment > 1) line("alignment", form.alignment);
      if (form.big_endian) line("order", "\"big\"");
      if (form.length_first) line("first", "\"length\"");
      if (form.counts_head) line("counts", "\"head\"");
      if (form.decimal) line("digits", "\"decimal\"");
    }
  }
  return out;
}

}  // namespace

Result<StateMap> parse_state_map(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin));
  TableReader reader(root, origin);
  StateMap map;
  map.origin = origin;
  BAYSWAP_TRY(map.id, reader.needed_text("id"));
  BAYSWAP_TRY(const std::string platform, reader.needed_text("platform"));
  const auto known = platform_from_tag(platform);
  if (!known) return reader.error("platform", fmt::format("unknown platform '{}'", printable(platform)));
  map.platform = *known;
  const std::string prefix = platform + ".";
  if (!map.id.starts_with(prefix) || map.id.size() == prefix.size() || map.id.size() > 64 ||
      !std::all_of(map.id.begin(), map.id.end(), [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '.' || c == '-';
      }))
    return reader.error("id", fmt::format("'{}' is no id for {}", printable(map.id), platform),
                        fmt::format("e.g. \"{}plain-a\": lower-case letters, digits and dashes", prefix));
  BAYSWAP_TRY(auto about, reader.text("about"));
  map.about = std::move(about).value_or("");
  BAYSWAP_TRY(const auto sizes, reader.integers("layer_bytes"));
  for (const std::int64_t size : sizes.value_or(std::vector<std::int64_t>{})) {
    if (size < 1 || size > max_offset ||
        (!map.layer_bytes.empty() && std::cmp_less_equal(size, map.layer_bytes.back())))
      return reader.error("layer_bytes", "layer_bytes are sizes in ascending order");
    map.layer_bytes.push_back(static_cast<std::size_t>(size));
  }
  BAYSWAP_TRY(auto steps, reader.tables("envelope"));
  BAYSWAP_TRY(auto marks, reader.tables("mark"));
  BAYSWAP_TRY(auto parts, reader.tables("part"));
  BAYSWAP_TRY(auto fields, reader.tables("integrity"));
  if (steps.size() > EnvelopeLimits{}.max_depth || marks.size() > max_rows || parts.size() > max_rows ||
      fields.size() > max_rows)
    return reader.error("id", "a map has far fewer tables than this");
  if (parts.empty()) return reader.error("id", "a map needs a [[part]]: where the battery save is");
  for (TableReader& step : steps) {
    BAYSWAP_TRY(auto one, read_step(std::move(step)));
    map.envelope.push_back(std::move(one));
  }
  for (TableReader& mark : marks) {
    BAYSWAP_TRY(auto one, read_mark(std::move(mark)));
    map.marks.push_back(std::move(one));
  }
  for (TableReader& part : parts) {
    BAYSWAP_TRY(auto one, read_slot(part));
    if (one.after_variable && one.file_sizes.size() != 1)
      return part.error("after_variable", "a part after another has one size", "write size = ...");
    map.batteries.push_back(std::move(one));
  }
  for (TableReader& field : fields) {
    BAYSWAP_TRY(auto one, read_integrity(std::move(field)));
    map.integrity.push_back(one);
  }
  BAYSWAP_CHECK(read_sections(reader, map));
  BAYSWAP_CHECK(reader.no_other_keys());
  return map;
}

std::string to_toml(const StateMap& map) {
  std::string out =
      fmt::format("id = {}\nplatform = {}\n", toml_quoted(map.id), toml_quoted(tag(map.platform)));
  if (!map.about.empty()) out += fmt::format("about = {}\n", toml_quoted(map.about));
  if (!map.layer_bytes.empty()) out += fmt::format("layer_bytes = [{}]\n", joined(map.layer_bytes, ", "));
  if (!map.family.empty()) out += fmt::format("family = {}\n", toml_quoted(map.family));
  if (map.body_bytes > 0) out += fmt::format("body_bytes = {}\n", map.body_bytes);
  if (map.new_bytes > 0) out += fmt::format("new_bytes = {}\n", map.new_bytes);
  if (!map.tail.empty()) out += fmt::format("tail = \"{}\"\n", to_hex(map.tail));
  if (map.picture_size.first > 0)
    out += fmt::format("picture = [{}, {}]\n", map.picture_size.first, map.picture_size.second);
  if (map.items == StateMap::Items::table)
    out += fmt::format("\n[items]\nkind = \"table\"\nat = {}\n", map.items_at);
  if (map.items == StateMap::Items::chunks)
    out += fmt::format("\n[items]\nkind = \"chunks\"\nname = {}\n", toml_quoted(map.items_name));
  for (const EnvelopeStep& step : map.envelope) out += to_toml(step, "envelope");
  if (map.body != map.envelope)
    for (const EnvelopeStep& step : map.body) out += to_toml(step, "body");
  for (const StateMark& mark : map.marks)
    out += fmt::format("\n[[mark]]\n{}at = {}\nhex = \"{}\"\n", mark.in_file ? "in = \"file\"\n" : "",
                       mark.at, to_hex(mark.bytes));
  for (const Slot& slot : map.batteries) out += to_toml(slot);
  for (const IntegrityField& field : map.integrity)
    out += fmt::format("\n[[integrity]]\nkind = \"{}\"\nat = {}\n{}from = {}\nbefore_end = {}\n",
                       to_text(field.kind), field.at, field.big_endian ? "order = \"big\"\n" : "", field.from,
                       field.before_end);
  return out;
}

// ---- All of them -----------------------------------------------------------------------------------------

Result<void> StateMaps::add(StateMap map) {
  for (const StateMap* known : all())
    if (known->id == map.id)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{}: the id '{}' is taken ({})", map.origin, map.id, known->origin),
                  "give the map another id");
  added_.push_back(std::make_shared<const StateMap>(std::move(map)));
  return {};
}

std::vector<const StateMap*> StateMaps::all(std::optional<Platform> platform) const {
  const auto rows = built_in_states();
  if (built_in_.empty())
    for (const BuiltInText& row : rows) {
      auto map = parse_state_map(row.toml, "built in");
      assert(map && map->id == row.id);  // a test reads them all
      built_in_.push_back(std::make_shared<const StateMap>(*std::move(map)));
    }
  std::vector<const StateMap*> maps;
  const auto add_from = [&](const std::vector<std::shared_ptr<const StateMap>>& list) {
    for (const auto& map : list)
      if (!platform || saves_as(map->platform) == saves_as(*platform)) maps.push_back(map.get());
  };
  add_from(built_in_);
  add_from(added_);
  sort_by(maps, &StateMap::id);
  return maps;
}

Result<const StateMap*> StateMaps::find(std::string_view id) const {
  std::vector<std::string> ids;
  for (const StateMap* map : all()) {
    if (map->id == id) return map;
    ids.push_back(map->id);
  }
  return fail(ErrorCode::bad_usage, fmt::format("no state map is called '{}'", printable(id)),
              did_you_mean(id, ids));
}

}  // namespace bayswap
