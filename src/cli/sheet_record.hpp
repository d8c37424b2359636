// Records as files: JSON of our own, docs/sheets.md.
#pragma once

#include <bayswap/sheet.hpp>

#include "answer/json.hpp"

namespace bayswap::cli {

[[nodiscard]] Json record_json(const SheetRecord& record);
/// Fails with `not_recognised` if the text is no record, and says what is missing.
[[nodiscard]] Result<SheetRecord> record_from_json(std::string_view text, const std::string& origin);

}  // namespace bayswap::cli
