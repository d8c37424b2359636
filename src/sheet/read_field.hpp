// What the files of this room that read sheets share.
#pragma once

#include "base/toml_reader.hpp"
#include "sheet/model.hpp"

namespace bayswap::sheets {

/// What a field's words may refer to while a sheet is read.
struct ReadContext {
  Sheet& sheet;
  bool big_endian = false;                                  // where a field does not say
  std::unordered_map<std::string, std::size_t> records;     // by name
  std::unordered_map<std::string, std::size_t> text_forms;  // by name
};

[[nodiscard]] Result<Words> read_words(TableReader& table, std::string_view key);
[[nodiscard]] Result<std::optional<Expression>> read_expression(TableReader& table, std::string_view key);
[[nodiscard]] Result<std::optional<bool>> read_order(TableReader& table, std::string_view key);
[[nodiscard]] Result<Severity> read_severity(TableReader& table);
/// Names of fields, checksums and rules: letters, digits, '-', '_'; they begin with a letter.
[[nodiscard]] bool is_sheet_name(std::string_view text);
[[nodiscard]] Result<std::vector<Byte>> read_hex(const TableReader& table, std::string_view key,
                                                 std::string_view text);

[[nodiscard]] Result<FieldDef> read_field(TableReader& table, ReadContext& context);
[[nodiscard]] Result<std::vector<Scramble>> read_scrambles(TableReader& table);
[[nodiscard]] Result<ChecksumDef> read_checksum(TableReader& table, const ReadContext& context,
                                                const std::vector<ChecksumDef>& before);

}  // namespace bayswap::sheets
