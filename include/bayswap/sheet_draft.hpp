// A first sheet out of what was found in a save's versions.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/hunt.hpp>
#include <bayswap/seal_search.hpp>
#include <bayswap/sheet.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

struct SheetDraft {
  std::string id;
  std::string name;
  GameId game;                 // its platform, and its code or title where there is one
  std::size_t size_bytes = 0;  // of the save
  std::string mark;            // plain text that every version begins with; may be empty
  std::vector<std::pair<std::string, HuntFind>> fields;  // by name
  std::vector<SealFind> seals;
};
/// Returns the text that every version begins with, up to 16 characters; empty if there is none of 4.
[[nodiscard]] std::string common_mark(std::span<const Blob> versions);
/// Returns the sheet as TOML. Fails with `unsupported` if the language has no word for a find: digits of a
/// byte each.
[[nodiscard]] Result<std::string> draft_sheet(const SheetDraft& draft);
/// Returns `sheet` with one field more at its end. Fails as draft_sheet, and with `bad_usage` if the outcome
/// is no sheet: the name is taken.
[[nodiscard]] Result<std::string> with_field(std::string_view sheet, const std::string& origin,
                                             const std::string& name, const HuntFind& find);

}  // namespace bayswap
BAYSWAP_EXPORT_END
