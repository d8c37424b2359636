// Sheets as TOML: read strictly, every word known.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/read_field.hpp"

namespace bayswap::sheets {
namespace {

constexpr std::size_t max_records = 256;
constexpr std::size_t max_fields = 8192;

class SheetReader {
 public:
  SheetReader(TableReader root, Sheet& sheet) : root_(std::move(root)), context_{sheet, false, {}, {}} {}

  Result<void> read() {
    Sheet& sheet = context_.sheet;
    BAYSWAP_TRY(const auto version, root_.integer("sheet"));
    if (version != 1)
      return root_.error(
          "sheet",
          version ? fmt::format("sheets of version {} are unknown here", *version) : "sheet = 1 is missing",
          "write sheet = 1 in the first line");
    BAYSWAP_TRY(sheet.id, root_.needed_text("id"));
    constexpr std::string_view allowed = "abcdefghijklmnopqrstuvwxyz0123456789-.";
    if (sheet.id.find_first_not_of(allowed) != std::string::npos)
      return root_.error("id", "an id has small letters, digits, '-' and '.'");
    BAYSWAP_TRY(sheet.name, read_words(root_, "name"));
    BAYSWAP_TRY(const auto revision, root_.integer("revision"));
    sheet.revision = revision.value_or(1);
    BAYSWAP_TRY(const auto order, read_order(root_, "order"));
    context_.big_endian = order.value_or(false);
    BAYSWAP_TRY(sheet.bound_to_card, read_words(root_, "bound-to-card"));
    BAYSWAP_CHECK(read_game());
    BAYSWAP_CHECK(read_tables());
    BAYSWAP_CHECK(read_encodings());
    BAYSWAP_CHECK(read_records());
    BAYSWAP_CHECK(root_.no_other_keys());
    return check_sheet(sheet);
  }

 private:
  Result<void> read_game() {
    Sheet& sheet = context_.sheet;
    BAYSWAP_TRY(auto game, root_.table("game"));
    if (!game) return root_.error("id", "[game] is missing", "add [game] with platform = \"gba\"");
    BAYSWAP_TRY(const std::string platform, game->needed_text("platform"));
    const auto known = platform_from_tag(platform);
    if (!known) return game->error("platform", fmt::format("unknown platform '{}'", printable(platform)));
    sheet.platform = *known;
    const auto list = [&](std::string_view key, std::vector<std::string>& out) -> Result<void> {
      BAYSWAP_TRY(auto texts, game->texts(key));
      if (texts) out = std::move(*texts);
      return {};
    };
    BAYSWAP_CHECK(list("code", sheet.codes));
    BAYSWAP_CHECK(list("title", sheet.titles));
    BAYSWAP_CHECK(list("rom-sha256", sheet.rom_digests));
    BAYSWAP_TRY(const auto sizes, game->texts_or_integers("size"));
    if (sizes)
      for (const std::string& size : *sizes) {
        const auto parsed = parse_expression(size);
        const auto number = parsed ? parsed->constant() : std::nullopt;
        if (!number || *number < 0)
          return game->error("size", "size is a number of bytes, or a list of them");
        sheet.sizes.push_back(static_cast<std::size_t>(*number));
      }
    BAYSWAP_TRY(auto magics, game->tables("magic"));
    for (TableReader& one : magics) {
      Magic magic;
      BAYSWAP_TRY(auto file, one.text("file"));
      magic.file = file.value_or("");
      BAYSWAP_TRY(const auto at, one.integer("at"));
      if (at && *at < 0) return one.error("at", "at is 0 or more");
      magic.at = static_cast<std::size_t>(at.value_or(0));
      BAYSWAP_TRY(const auto bytes, one.text("bytes"));
      BAYSWAP_TRY(const auto text, one.text("text"));
      if (bytes.has_value() == text.has_value()) return one.error("at", "a magic needs bytes or text");
      if (text) {
        magic.bytes.assign(text->begin(), text->end());
      } else {
        BAYSWAP_TRY(magic.bytes, read_hex(one, "bytes", *bytes));
      }
      BAYSWAP_CHECK(one.no_other_keys());
      sheet.magics.push_back(std::move(magic));
    }
    return game->no_other_keys();
  }

  Result<void> read_tables() {
    BAYSWAP_TRY(auto tables, root_.table("table"));
    if (!tables) return {};
    BAYSWAP_TRY(const auto names, tables->table_names());
    for (const std::string& name : names) {
      BAYSWAP_TRY(auto one, tables->table(name));
      Table table;
      table.name = name;
      BAYSWAP_TRY(auto columns, one->texts("columns"));
      if (!columns || columns->empty())
        return one->error("columns", "columns is missing: [\"id\", \"name\"]");
      table.columns = std::move(*columns);
      BAYSWAP_TRY(const auto rows, one->rows("rows"));
      for (const auto& cells : rows) {
        if (cells.size() != table.columns.size())
          return one->error("rows", fmt::format("a row of table {} has {} cells, not {}", name, cells.size(),
                                                table.columns.size()));
        std::vector<SheetValue> row;
        for (const auto& cell : cells) {
          const auto* number = std::get_if<std::int64_t>(&cell);
          row.push_back(number != nullptr ? SheetValue(SheetNumber{*number})
                                          : SheetValue(std::get<std::string>(cell)));
        }
        if (table.is_text.empty())
          for (const SheetValue& value : row) table.is_text.push_back(value.index() == 2);
        for (std::size_t i = 0; i < row.size(); ++i)
          if (table.is_text[i] != (row[i].index() == 2))
            return one->error(
                "rows", fmt::format("column {} of table {} has texts and numbers", table.columns[i], name));
        const auto key = number_of(row.front());
        if (!key)
          return one->error("rows", fmt::format("the first column of table {} must be a number", name));
        if (!table.by_key.emplace(*key, table.rows.size()).second)
          return one->error("rows", fmt::format("table {} has row {} twice", name, to_text(row.front())));
        table.rows.push_back(std::move(row));
      }
      if (table.rows.empty()) return one->error("columns", fmt::format("table {} has no rows", name));
      BAYSWAP_CHECK(one->no_other_keys());
      context_.sheet.tables.emplace(name, std::move(table));
    }
    return {};
  }

  void add_form(const std::string& name, TextForm form) {
    context_.text_forms.emplace(name, context_.sheet.text_forms.size());
    context_.sheet.text_forms.push_back(std::move(form));
  }

  Result<void> read_encodings() {
    using Named = TextForm::Named;
    for (const auto& [name, named, unit] :
         {std::tuple("ascii", Named::ascii, 1UL), std::tuple("latin1", Named::latin1, 1UL),
          std::tuple("utf-8", Named::utf8, 1UL), std::tuple("utf-16-little", Named::utf16_little, 2UL),
          std::tuple("utf-16-big", Named::utf16_big, 2UL), std::tuple("shift-jis", Named::shift_jis, 1UL)}) {
      TextForm form;
      form.named = named;
      form.unit_bytes = unit;
      form.unit_big_endian = named == Named::utf16_big;
      add_form(name, std::move(form));
    }
    BAYSWAP_TRY(auto encodings, root_.table("encoding"));
    if (!encodings) return {};
    BAYSWAP_TRY(const auto names, encodings->table_names());
    for (const std::string& name : names) {
      BAYSWAP_TRY(auto one, encodings->table(name));
      BAYSWAP_CHECK(read_encoding(name, *one));
    }
    return {};
  }

  // Runs of characters from a code on, and single codes: from = [[0x80, "ABC..."]], codes = [[0x4F, "PK"]].
  Result<void> read_encoding(const std::string& name, TableReader& table) {
    TextForm form;
    form.named = TextForm::Named::table;
    BAYSWAP_TRY(const auto unit, table.integer("unit"));
    if (unit && *unit != 1 && *unit != 2) return table.error("unit", "unit is 1 or 2 bytes");
    form.unit_bytes = static_cast<std::size_t>(unit.value_or(1));
    BAYSWAP_TRY(const auto order, read_order(table, "order"));
    form.unit_big_endian = order.value_or(context_.big_endian);
    const auto add = [&](std::int64_t code, std::string text) -> Result<void> {
      if (code < 0 || code > (form.unit_bytes == 1 ? 0xff : 0xffff))
        return table.error("from", fmt::format("code {:X} does not fit", code));
      form.longest = std::max(form.longest, text.size());
      form.to_code.emplace(text, static_cast<std::uint32_t>(code));
      if (!form.to_text.emplace(static_cast<std::uint32_t>(code), std::move(text)).second)
        return table.error("from", fmt::format("code {:X} comes twice", code));
      return {};
    };
    for (const std::string_view key : {"from", "codes"}) {
      BAYSWAP_TRY(const auto rows, table.rows(key));
      for (const auto& row : rows) {
        const auto* code = row.size() == 2 ? std::get_if<std::int64_t>(row.data()) : nullptr;
        const auto* text = row.size() == 2 ? std::get_if<std::string>(&row[1]) : nullptr;
        if (code == nullptr || text == nullptr || text->empty())
          return table.error(key, fmt::format("{} is a list of [code, \"text\"]", key));
        if (key == "codes") {
          BAYSWAP_CHECK(add(*code, *text));
          continue;
        }
        std::int64_t at = *code;
        for (std::string_view left = *text; !left.empty(); ++at) {
          const std::size_t length = std::max<std::size_t>(utf8_length(left), 1);
          BAYSWAP_CHECK(add(at, std::string(left.substr(0, length))));
          left.remove_prefix(length);
        }
      }
    }
    if (form.to_text.empty()) return table.error("unit", fmt::format("encoding {} has no characters", name));
    BAYSWAP_CHECK(table.no_other_keys());
    if (context_.text_forms.contains(name))
      return table.error("unit", fmt::format("{} is an encoding already", name));
    add_form(name, std::move(form));
    return {};
  }

  Result<void> read_records() {
    Sheet& sheet = context_.sheet;
    BAYSWAP_TRY(auto records, root_.table("record"));
    std::vector<std::string> names;
    if (records) {
      BAYSWAP_TRY(names, records->table_names());
    }
    if (names.size() + 1 > max_records)
      return root_.error("record", fmt::format("over {} records", max_records));
    sheet.records.resize(names.size() + 1);
    for (std::size_t i = 0; i < names.size(); ++i) {
      if (!is_sheet_name(names[i]))
        return records->error(names[i], fmt::format("'{}' is not a valid record name", printable(names[i])));
      sheet.records[i + 1].name = names[i];
      context_.records.emplace(names[i], i + 1);
    }
    for (std::size_t i = 0; i < names.size(); ++i) {
      BAYSWAP_TRY(auto table, records->table(names[i]));
      RecordDef& record = sheet.records[i + 1];
      BAYSWAP_TRY(const auto version, table->integer("version"));
      record.version = version.value_or(1);
      BAYSWAP_TRY(const auto size, table->integer("size"));
      if (size && (*size < 1 || *size > (std::int64_t{64} << 20)))
        return table->error("size", "size is 1 or more, in bytes");
      if (size) record.size_bytes = static_cast<std::size_t>(*size);
      BAYSWAP_TRY(const auto own_file, table->truth("own-file"));
      record.own_file = own_file.value_or(false);
      if (record.own_file && !size)
        return table->error("own-file", "a record in a file of its own needs a size");
      BAYSWAP_CHECK(read_members(*table, record));
      BAYSWAP_CHECK(table->no_other_keys());
    }
    BAYSWAP_CHECK(read_files());
    BAYSWAP_CHECK(read_members(root_, sheet.records.front()));
    if (sheet.records.front().fields.empty())
      return root_.error("id", "the sheet has no fields", "add [[field]] with name, at and type");
    return {};
  }

  Result<void> read_files() {
    BAYSWAP_TRY(auto files, root_.tables("file"));
    for (TableReader& one : files) {
      FieldDef field;
      field.kind = FieldKind::record;
      BAYSWAP_TRY(field.name, one.needed_text("name"));
      if (!is_sheet_name(field.name)) return one.error("name", "that is not a valid field name");
      BAYSWAP_TRY(field.label, read_words(one, "label"));
      BAYSWAP_TRY(field.pattern, one.needed_text("pattern"));
      BAYSWAP_TRY(const std::string record, one.needed_text("record"));
      const auto known = context_.records.find(record);
      if (known == context_.records.end())
        return one.error("record", fmt::format("unknown record '{}'", printable(record)));
      field.record = known->second;
      BAYSWAP_TRY(const auto many, one.truth("many"));
      field.is_array = many.value_or(false);
      BAYSWAP_TRY(const auto optional, one.truth("optional"));
      field.is_optional = optional.value_or(false);
      BAYSWAP_TRY(field.free, read_expression(one, "free"));
      BAYSWAP_CHECK(one.no_other_keys());
      context_.sheet.records.front().fields.push_back(std::move(field));
    }
    return {};
  }

  Result<void> read_members(TableReader& table, RecordDef& record) {
    BAYSWAP_TRY(auto fields, table.tables("field"));
    const bool has_files = !record.fields.empty();
    for (TableReader& one : fields) {
      BAYSWAP_TRY(FieldDef field, read_field(one, context_));
      if (has_files && field.kind != FieldKind::derived)
        return one.error("name", "a sheet with [[file]] has fields in records alone",
                         "move the field to the record of the file");
      if (std::ranges::any_of(record.fields, [&](const FieldDef& other) { return other.name == field.name; }))
        return one.error("name", fmt::format("two fields are called {}", field.name));
      record.fields.push_back(std::move(field));
      if (++field_count_ > max_fields) return one.error("name", fmt::format("over {} fields", max_fields));
    }
    BAYSWAP_TRY(auto checksums, table.tables("checksum"));
    for (TableReader& one : checksums) {
      BAYSWAP_TRY(ChecksumDef checksum, read_checksum(one, context_, record.checksums));
      BAYSWAP_CHECK(check_id(one, checksum.id));
      record.checksums.push_back(std::move(checksum));
    }
    BAYSWAP_TRY(auto rules, table.tables("rule"));
    for (TableReader& one : rules) {
      RuleDef rule;
      BAYSWAP_TRY(rule.id, one.needed_text("id"));
      if (!is_sheet_name(rule.id))
        return one.error("id", fmt::format("'{}' is not a valid rule name", printable(rule.id)));
      BAYSWAP_CHECK(check_id(one, rule.id));
      BAYSWAP_TRY(rule.text, read_words(one, "text"));
      if (rule.text.empty())
        return one.error("id", fmt::format("rule {} has no text: a sentence that says it", rule.id));
      BAYSWAP_TRY(rule.severity, read_severity(one));
      BAYSWAP_TRY(auto require, read_expression(one, "require"));
      if (!require) return one.error("id", fmt::format("rule {} has no require", rule.id));
      rule.require = std::move(*require);
      BAYSWAP_TRY(rule.condition, read_expression(one, "if"));
      BAYSWAP_CHECK(one.no_other_keys());
      record.rules.push_back(std::move(rule));
    }
    return {};
  }

  // Checksums and rules are accepted by their ids.
  Result<void> check_id(const TableReader& table, const std::string& id) {
    if (std::ranges::find(ids_, id) != ids_.end())
      return table.error("id", fmt::format("two checksums or rules are called {}", id));
    ids_.push_back(id);
    return {};
  }

  TableReader root_;
  ReadContext context_;
  std::vector<std::string> ids_;
  std::size_t field_count_ = 0;
};

}  // namespace

bool is_marked(const Magic& magic, ByteView bytes) {
  return magic.at <= bytes.size() && magic.bytes.size() <= bytes.size() - magic.at &&
         std::equal(magic.bytes.begin(), magic.bytes.end(),
                    bytes.begin() + static_cast<std::ptrdiff_t>(magic.at));
}

const std::string& Words::in(std::string_view language) const {
  static const std::string none;
  const std::pair<std::string, std::string>* best = nullptr;
  for (const auto& one : texts_) {
    if (one.first == language) return one.second;
    // Without the language asked for: the one that has none, then English, then the first.
    if (best == nullptr || one.first.empty() || (one.first == "en" && !best->first.empty())) best = &one;
  }
  return best == nullptr ? none : best->second;
}

std::optional<std::size_t> Table::column(std::string_view wanted) const {
  const auto found = std::ranges::find(columns, wanted);
  return found == columns.end() ? std::nullopt
                                : std::optional(static_cast<std::size_t>(found - columns.begin()));
}

SheetValue Table::cell(SheetNumber key, std::string_view wanted) const {
  const auto row = by_key.find(key);
  const auto at = column(wanted);
  return row == by_key.end() || !at ? SheetValue{} : rows[row->second][*at];
}

std::string Table::name_of(SheetNumber key, std::string_view language) const {
  SheetValue found = language.empty() ? SheetValue{} : cell(key, fmt::format("name.{}", language));
  if (found.index() == 0) found = cell(key, "name");
  const auto* text = std::get_if<std::string>(&found);
  return text == nullptr ? std::string{} : *text;
}

std::optional<SheetNumber> Table::key_of(std::string_view text_wanted) const {
  const std::string wanted = lower(text_wanted);
  std::optional<SheetNumber> found;
  for (const auto& row : rows)
    for (std::size_t i = 0; i < columns.size(); ++i) {
      if (columns[i] != "name" && !columns[i].starts_with("name.")) continue;
      const auto* text = std::get_if<std::string>(&row[i]);
      if (text == nullptr || lower(*text) != wanted) continue;
      const auto key = number_of(row.front());
      if (found && found != key) return std::nullopt;
      found = key;
    }
  return found;
}

FoundField find_field(const Sheet& sheet, const RecordDef& record, std::string_view name) {
  for (const FieldDef& field : record.fields)
    if (field.name == name) return {&field, {}};
  for (const FieldDef& field : record.fields) {
    if (!field.flat) continue;
    FoundField inner = find_field(sheet, sheet.records[field.record], name);
    if (inner.field == nullptr) continue;
    inner.through.insert(inner.through.begin(), &field);
    return inner;
  }
  return {};
}

Result<Sheet> read_sheet(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile file, parse_toml(toml, origin, max_sheet_size_bytes));
  Sheet sheet;
  sheet.origin = origin;
  BAYSWAP_CHECK(SheetReader(TableReader(file, origin), sheet).read());
  return sheet;
}

}  // namespace bayswap::sheets
