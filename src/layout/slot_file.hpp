// [[part]] tables, as layout files and state maps have them.
#pragma once

#include <bayswap/layout.hpp>

#include "base/toml_reader.hpp"

namespace bayswap {

/// Reads one table; every mistake is `bad_usage` with its line.
[[nodiscard]] Result<Slot> read_slot(TableReader reader);
/// The same as text, with its heading.
[[nodiscard]] std::string to_toml(const Slot& slot);

/// 1 to 4096 bytes as lower-case hex digits, spaces between them as one likes.
[[nodiscard]] Result<std::vector<Byte>> hex_bytes(const TableReader& reader, std::string_view key,
                                                  std::string_view text);
[[nodiscard]] std::string to_hex(ByteView bytes);

}  // namespace bayswap
