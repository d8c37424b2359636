#include "sheet/read_field.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/codec.hpp"

namespace bayswap::sheets {
namespace {

constexpr unsigned max_bits = 64;
constexpr std::int64_t max_stride = std::int64_t{64} << 20;

struct TypeWord {
  FieldKind kind = FieldKind::number;
  NumberForm number;
};

// "u16", "s8", "bcd6" (digits), "flag", "text", "bytes".
std::optional<TypeWord> type_from_word(std::string_view word) {
  TypeWord type;
  if (word == "flag") {
    type.kind = FieldKind::truth;
    type.number.bits = 1;
    return type;
  }
  if (word == "text" || word == "bytes") {
    type.kind = word == "text" ? FieldKind::text : FieldKind::bytes;
    return type;
  }
  std::string_view digits;
  if (word.starts_with("bcd")) {
    type.number.is_bcd = true;
    digits = word.substr(3);
  } else if (word.starts_with("u") || word.starts_with("s")) {
    type.number.is_signed = word.front() == 's';
    digits = word.substr(1);
  }
  unsigned count = 0;
  const auto end = std::from_chars(digits.data(), digits.data() + digits.size(), count);
  if (digits.empty() || end.ptr != digits.data() + digits.size() || count == 0) return std::nullopt;
  if (type.number.is_bcd && count > max_bits / 4) return std::nullopt;
  type.number.bits = type.number.is_bcd ? count * 4 : count;
  return type.number.bits > max_bits ? std::nullopt : std::optional(type);
}

Result<SheetNumber> whole(TableReader& table, std::string_view key, SheetNumber otherwise) {
  BAYSWAP_TRY(const auto value, table.integer(key));
  return value ? SheetNumber{*value} : otherwise;
}

class FieldReader {
 public:
  FieldReader(TableReader& table, ReadContext& context) : table_(table), context_(context) {}

  Result<FieldDef> read() {
    BAYSWAP_TRY(field_.name, table_.needed_text("name"));
    if (!is_sheet_name(field_.name))
      return table_.error("name", fmt::format("'{}' is not a valid field name", printable(field_.name)),
                          "use letters, digits, '-' and '_', a letter first");
    BAYSWAP_TRY(field_.label, read_words(table_, "label"));
    BAYSWAP_TRY(field_.unit, read_words(table_, "unit"));
    BAYSWAP_TRY(auto was, table_.texts("was"));
    if (was) field_.was = std::move(*was);
    BAYSWAP_CHECK(read_type());
    BAYSWAP_CHECK(read_place());
    BAYSWAP_CHECK(read_array());
    BAYSWAP_TRY(const auto hidden, table_.truth("hidden"));
    field_.is_hidden = hidden.value_or(false);
    BAYSWAP_TRY(const auto unique, table_.truth("unique"));
    field_.is_unique = unique.value_or(false);
    if (field_.is_unique && (field_.kind != FieldKind::number || field_.is_array))
      return table_.error("unique", "only a number can be unique");
    BAYSWAP_CHECK(table_.no_other_keys());
    return std::move(field_);
  }

 private:
  Result<void> read_type() {
    BAYSWAP_TRY(const auto type, table_.text("type"));
    BAYSWAP_TRY(const auto record, table_.text("record"));
    BAYSWAP_TRY(auto derived, read_expression(table_, "value"));
    if ((type ? 1 : 0) + (record ? 1 : 0) + (derived ? 1 : 0) != 1)
      return table_.error("name", fmt::format("field {} needs one of type, record and value", field_.name),
                          "add type = \"u16\", record = \"...\", or value = \"an expression\"");
    if (derived) {
      field_.kind = FieldKind::derived;
      field_.derived = std::move(*derived);
      return read_number_looks();
    }
    if (record) return read_record(*record);
    const auto word = type_from_word(*type);
    if (!word)
      return table_.error("type", fmt::format("unknown type '{}'", printable(*type)),
                          "types are u1 to u64, s2 to s64, bcd1 to bcd16, flag, text and bytes");
    field_.kind = word->kind;
    field_.number = word->number;
    if (field_.kind == FieldKind::text || field_.kind == FieldKind::bytes) return read_text();
    return read_number();
  }

  Result<void> read_number() {
    NumberForm& number = field_.number;
    BAYSWAP_TRY(const auto order, read_order(table_, "order"));
    number.big_endian = order.value_or(context_.big_endian);
    BAYSWAP_TRY(const auto bit, table_.integer("bit"));
    if (bit && (*bit < 0 || *bit > 63)) return table_.error("bit", "bit is 0 to 63");
    number.has_bit = bit.has_value();
    number.bit = static_cast<unsigned>(bit.value_or(0));
    if (number.bit + number.bits > max_bits)
      return table_.error("bit", "a number and the bits before it have at most 64 bits");
    BAYSWAP_TRY(number.times, whole(table_, "times", 1));
    BAYSWAP_TRY(number.plus, whole(table_, "plus", 0));
    if (number.times == 0) return table_.error("times", "times can't be 0");
    BAYSWAP_TRY(const auto min, table_.integer("min"));
    BAYSWAP_TRY(const auto max, table_.integer("max"));
    if (min) number.min = *min;
    if (max) number.max = *max;
    return read_number_looks();
  }

  Result<void> read_number_looks() {
    NumberForm& number = field_.number;
    BAYSWAP_TRY(number.per, whole(table_, "per", 1));
    if (number.per < 1) return table_.error("per", "per is 1 or more");
    BAYSWAP_TRY(const auto show, table_.text("show"));
    if (show) {
      static const std::vector<std::pair<std::string, Show>> words{{"plain", Show::plain},
                                                                   {"hex", Show::hex},
                                                                   {"time", Show::time},
                                                                   {"duration", Show::duration},
                                                                   {"dos-time", Show::dos_time}};
      const auto found = std::ranges::find(words, *show, [](const auto& one) { return one.first; });
      if (found == words.end())
        return table_.error("show", fmt::format("unknown way to show '{}'", printable(*show)),
                            "use plain, hex, time, duration or dos-time");
      number.show = found->second;
    }
    BAYSWAP_TRY(const auto epoch, table_.text("epoch"));
    if (epoch) {
      const auto seconds = time_from_text(*epoch);
      if (!seconds) return table_.error("epoch", "epoch is a date, \"2000-01-01\"");
      number.epoch = *seconds;
    }
    if (table_.is_table("values")) return read_own_values();
    BAYSWAP_TRY(const auto values, table_.text("values"));
    if (values) {
      number.table = *values;
      if (!context_.sheet.tables.contains(*values))
        return table_.error("values", fmt::format("unknown table '{}'", printable(*values)),
                            "add [table.NAME] with columns and rows");
    }
    BAYSWAP_TRY(auto flags, table_.texts("flags"));
    if (flags) {
      number.flags = std::move(*flags);
      if (number.flags.size() > number.bits)
        return table_.error("flags", fmt::format("{} names for {} bits", number.flags.size(), number.bits));
      for (const std::string& flag : number.flags)
        if (!flag.empty() && !is_sheet_name(flag))
          return table_.error("flags", fmt::format("'{}' is not a valid flag name", printable(flag)));
    }
    return {};
  }

  // values = { 0 = "none", 1 = "moth" }: a table of this field alone.
  Result<void> read_own_values() {
    BAYSWAP_TRY(auto own, table_.table("values"));
    BAYSWAP_TRY(const auto keys, own->keys());
    Table table;
    table.name = fmt::format("{}#{}", field_.name, context_.sheet.tables.size());
    table.columns = {"id", "name"};
    table.is_text = {false, true};
    for (const std::string& key : keys) {
      std::int64_t number = 0;
      const auto end = std::from_chars(key.data(), key.data() + key.size(), number);
      if (end.ptr != key.data() + key.size())
        return own->error(key, fmt::format("'{}' is not a number", printable(key)));
      BAYSWAP_TRY(const auto name, own->text(key));
      table.by_key.emplace(number, table.rows.size());
      table.rows.push_back({SheetNumber{number}, *name});
    }
    field_.number.table = table.name;
    const std::string name = table.name;
    context_.sheet.tables.emplace(name, std::move(table));
    return {};
  }

  Result<void> read_text() {
    BAYSWAP_TRY(auto size, read_expression(table_, "size"));
    if (!size)
      return table_.error("name", fmt::format("field {} needs a size", field_.name),
                          "add size = 16, in bytes");
    field_.size = std::move(*size);
    if (field_.kind == FieldKind::bytes) return {};
    BAYSWAP_TRY(const auto encoding, table_.text("encoding"));
    const std::string name = encoding.value_or("ascii");
    const auto form = context_.text_forms.find(name);
    if (form == context_.text_forms.end())
      return table_.error(
          "encoding", fmt::format("unknown encoding '{}'", printable(name)),
          "use ascii, latin1, utf-8, utf-16-little, utf-16-big, shift-jis or an [encoding.NAME]");
    field_.text_form = form->second;
    BAYSWAP_TRY(const auto end, table_.integer("end"));
    BAYSWAP_TRY(const auto fill, table_.integer("fill"));
    for (const auto& [key, value] : {std::pair("end", end), std::pair("fill", fill)})
      if (value && (*value < 0 || *value > 0xff)) return table_.error(key, "a byte is 0 to 255");
    if (end) field_.end = static_cast<Byte>(*end);
    if (fill) field_.fill = static_cast<Byte>(*fill);
    return {};
  }

  Result<void> read_record(const std::string& name) {
    field_.kind = FieldKind::record;
    const auto record = context_.records.find(name);
    if (record == context_.records.end()) {
      std::vector<std::string> known;
      for (const auto& [one, at] : context_.records) known.push_back(one);
      return table_.error("record", fmt::format("unknown record '{}'", printable(name)),
                          did_you_mean(name, known));
    }
    field_.record = record->second;
    BAYSWAP_TRY(const auto flat, table_.truth("flat"));
    field_.flat = flat.value_or(false);
    BAYSWAP_TRY(auto size, read_expression(table_, "size"));
    if (size) field_.size = std::move(*size);
    BAYSWAP_TRY(field_.scrambles, read_scrambles(table_));
    BAYSWAP_TRY(auto blocks, table_.table("blocks"));
    if (!field_.scrambles.empty() && (!size || blocks))
      return table_.error(
          "name",
          fmt::format("field {} is scrambled: it needs a size, and can't have blocks too", field_.name),
          "add size = 48, in bytes");
    if (!blocks) return {};
    return read_blocks(*blocks);
  }

  Result<void> read_blocks(TableReader& table) {
    Blocks blocks;
    BAYSWAP_TRY(auto at, read_expression(table, "at"));
    blocks.at = at ? std::move(*at) : constant_expression(0);
    const auto size = [&](std::string_view key, std::size_t& out, std::int64_t otherwise) -> Result<void> {
      BAYSWAP_TRY(const auto value, table.integer(key));
      const std::int64_t said = value.value_or(otherwise);
      if (said < 0 || said > max_stride) return table.error(key, fmt::format("{} is missing or wrong", key));
      out = static_cast<std::size_t>(said);
      return {};
    };
    BAYSWAP_CHECK(size("size", blocks.block_bytes, -1));
    BAYSWAP_CHECK(size("count", blocks.count, -1));
    BAYSWAP_CHECK(size("data", blocks.data_bytes, static_cast<std::int64_t>(blocks.block_bytes)));
    BAYSWAP_CHECK(size("number-at", blocks.number_at, -1));
    BAYSWAP_TRY(const auto type, table.text("number-type"));
    const auto word = type_from_word(type.value_or("u16"));
    if (!word || word->kind != FieldKind::number || word->number.bits % 8 != 0)
      return table.error("number-type", "number-type is u8, u16 or u32");
    blocks.number_bits = word->number.bits;
    BAYSWAP_TRY(const auto order, read_order(table, "order"));
    blocks.number_big_endian = order.value_or(context_.big_endian);
    BAYSWAP_TRY(blocks.first, whole(table, "first", 0));
    constexpr std::size_t max_blocks = 4096;
    if (blocks.count == 0 || blocks.count > max_blocks || blocks.block_bytes == 0 ||
        blocks.data_bytes > blocks.block_bytes ||
        blocks.number_at + blocks.number_bits / 8 > blocks.block_bytes)
      return table.error("size",
                         "blocks: data and number must lie within a block, of which there are 1 to 4096");
    BAYSWAP_CHECK(table.no_other_keys());
    field_.blocks = std::move(blocks);
    return {};
  }

  Result<void> read_place() {
    BAYSWAP_TRY(field_.at, read_expression(table_, "at"));
    BAYSWAP_TRY(const auto from, table_.text("from"));
    if (from && *from != "start" && *from != "record")
      return table_.error("from", "from is \"record\" or \"start\"");
    field_.from_start = from == "start";
    BAYSWAP_TRY(field_.condition, read_expression(table_, "if"));
    return {};
  }

  Result<void> read_array() {
    BAYSWAP_TRY(field_.count, read_expression(table_, "count"));
    BAYSWAP_TRY(const auto places, table_.texts_or_integers("places"));
    if (places)
      for (const std::string& place : *places) {
        auto parsed = parse_expression(place);
        if (!parsed) return table_.error("places", parsed.error().message);
        field_.places.push_back(std::move(*parsed));
      }
    field_.is_array = field_.count || places;
    BAYSWAP_TRY(const auto stride, table_.integer("stride"));
    if (stride && (*stride < 1 || *stride > max_stride)) return table_.error("stride", "stride is 1 or more");
    field_.stride = static_cast<std::size_t>(stride.value_or(0));
    BAYSWAP_TRY(field_.first, whole(table_, "first", 1));
    BAYSWAP_TRY(const auto labels, table_.text("labels"));
    if (labels) {
      field_.labels = *labels;
      if (!context_.sheet.tables.contains(*labels))
        return table_.error("labels", fmt::format("unknown table '{}'", printable(*labels)));
    }
    BAYSWAP_TRY(field_.free, read_expression(table_, "free"));
    BAYSWAP_TRY(const auto counter, table_.text("counter"));
    if (counter) field_.counter = *counter;
    BAYSWAP_TRY(const auto write, table_.text("write"));
    if (write && *write != "newest" && *write != "other" && *write != "all")
      return table_.error("write", "write is \"newest\", \"other\" or \"all\"");
    if (counter || write)
      field_.write = write == "other" ? CopyWrite::other
                     : write == "all" ? CopyWrite::all
                                      : CopyWrite::newest;
    if (field_.write == CopyWrite::other && !counter)
      return table_.error("write", "without a counter, the newest copy is unknown",
                          "add counter = \"...\", or use write = \"all\"");
    if (!field_.is_array && (stride || labels || field_.free || counter || write))
      return table_.error("name", fmt::format("field {} is not an array", field_.name),
                          "add count = 6 or places = [0, 0x1000]");
    if (field_.kind == FieldKind::derived && field_.is_array)
      return table_.error("value", "a derived field can't be an array");
    if ((field_.is_copies() || field_.free) && field_.kind != FieldKind::record)
      return table_.error("name", "counter and free are of records");
    if (field_.is_array && field_.flat) return table_.error("flat", "an array can't be flat");
    return {};
  }

  TableReader& table_;
  ReadContext& context_;
  FieldDef field_;
};

}  // namespace

bool is_sheet_name(std::string_view text) {
  constexpr std::size_t max_name = 64;
  const auto is_letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); };
  const auto is_part = [&](char c) { return is_letter(c) || (c >= '0' && c <= '9') || c == '_' || c == '-'; };
  static constexpr std::array<std::string_view, 10> kept{"if",  "then", "else",  "and",   "or",
                                                         "not", "true", "false", "index", "size"};
  return !text.empty() && text.size() <= max_name && is_letter(text.front()) && text.back() != '-' &&
         std::ranges::all_of(text, is_part) && std::ranges::find(kept, text) == kept.end();
}

Result<Words> read_words(TableReader& table, std::string_view key) {
  Words words;
  if (!table.is_table(key)) {
    BAYSWAP_TRY(auto text, table.text(key));
    if (text) words.add({}, std::move(*text));
    return words;
  }
  BAYSWAP_TRY(auto several, table.table(key));
  BAYSWAP_TRY(const auto languages, several->keys());
  for (const std::string& language : languages) {
    BAYSWAP_TRY(auto text, several->text(language));
    words.add(language, std::move(*text));
  }
  return words;
}

Result<std::optional<Expression>> read_expression(TableReader& table, std::string_view key) {
  BAYSWAP_TRY(const auto text, table.text_or_integer(key));
  if (!text) return std::optional<Expression>{};
  auto parsed = parse_expression(*text);
  if (!parsed) return table.error(key, fmt::format("{}: {}", key, parsed.error().message));
  return std::optional(std::move(*parsed));
}

Result<std::optional<bool>> read_order(TableReader& table, std::string_view key) {
  BAYSWAP_TRY(const auto word, table.text(key));
  if (!word) return std::optional<bool>{};
  if (*word != "big" && *word != "little") return table.error(key, "order is \"big\" or \"little\"");
  return std::optional(*word == "big");
}

Result<Severity> read_severity(TableReader& table) {
  BAYSWAP_TRY(const auto word, table.text("severity"));
  if (!word || *word == "error") return Severity::error;
  if (*word == "warning") return Severity::warning;
  if (*word == "note") return Severity::note;
  return table.error("severity", "severity is error, warning or note");
}

Result<std::vector<Byte>> read_hex(const TableReader& table, std::string_view key, std::string_view text) {
  std::vector<Byte> out;
  int high = -1;
  for (const char c : text) {
    if (c == ' ' || c == '\n') continue;
    int digit = -1;
    if (c >= '0' && c <= '9') digit = c - '0';
    if (c >= 'a' && c <= 'f') digit = c - 'a' + 10;
    if (c >= 'A' && c <= 'F') digit = c - 'A' + 10;
    if (digit < 0) return table.error(key, fmt::format("{} must be bytes in hex, \"4D 4F\"", key));
    if (high < 0) {
      high = digit;
    } else {
      out.push_back(static_cast<Byte>(high * 16 + digit));
      high = -1;
    }
  }
  if (high >= 0 || out.empty())
    return table.error(key, fmt::format("{} must be bytes in hex, \"4D 4F\"", key));
  return out;
}

Result<FieldDef> read_field(TableReader& table, ReadContext& context) {
  return FieldReader(table, context).read();
}

}  // namespace bayswap::sheets
