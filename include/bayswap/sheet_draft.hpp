// Drafts a sheet from what was found in versions of a save. Belongs to bayswap::core.
#pragma once

#include <bayswap/checksum_search.hpp>
#include <bayswap/export.hpp>
#include <bayswap/sheet.hpp>
#include <bayswap/value_search.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The content of a sheet to draft.
struct SheetDraft {
  std::string id;
  std::string name;
  GameId game;                 // its platform, and its code or title where there is one
  std::size_t size_bytes = 0;  // of the save
  std::string mark;            // plain text that every version begins with; may be empty
  std::vector<std::pair<std::string, ValueFind>> fields;  // by name
  std::vector<ChecksumFind> checksums;
  std::vector<CopyFind> copies;  // what is in the largest becomes a record that is written to all of them
};
/// Returns the text that every version begins with, up to 16 characters; empty if there is none of 4.
[[nodiscard]] std::string common_mark(std::span<const Blob> versions);
/// Returns the sheet as TOML. Fails with `unsupported` if the language can't express a find: one digit per
/// byte.
[[nodiscard]] Result<std::string> draft_sheet(const SheetDraft& draft);
/// Returns `sheet` with a field added at its end. Fails as draft_sheet, and with `bad_usage` if the result is
/// not a sheet, as when the name exists.
[[nodiscard]] Result<std::string> with_field(std::string_view sheet, const std::string& origin,
                                             const std::string& name, const ValueFind& find);

}  // namespace bayswap
BAYSWAP_EXPORT_END
