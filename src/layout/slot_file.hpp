// [[part]] tables, as layout files and state maps have them.
#pragma once

#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {

constexpr std::size_t max_file_size = std::size_t{72} << 20;

// The value of `key` among `words`, or `fallback` where the key is absent.
template <class Words, class Value>
Result<Value> choice(TableReader& reader, std::string_view key, const Words& words, Value fallback) {
  BAYSWAP_TRY(const auto text, reader.text(key));
  if (!text) return fallback;
  std::string known;
  for (const auto& [value, word] : words) {
    if (*text == word) return value;
    known += (known.empty() ? "" : ", ") + std::string(word);
  }
  return reader.error(key, fmt::format("{} is '{}'", key, printable(*text)), "it can be " + known);
}

/// The sizes that a key has: 1 byte to max_file_size.
[[nodiscard]] Result<std::vector<std::size_t>> sizes_from(TableReader& reader, std::string_view key,
                                                          const std::vector<std::int64_t>& values);

/// Reads one table; every mistake is `bad_usage` with its line.
[[nodiscard]] Result<Slot> read_slot(TableReader reader);
/// A [[field]] table.
[[nodiscard]] Result<Field> read_field(TableReader reader);
/// The same as text, with its heading.
[[nodiscard]] std::string to_toml(const Slot& slot);

/// 1 to 4096 bytes as lower-case hex digits, spaces between them as one likes.
[[nodiscard]] Result<std::vector<Byte>> hex_bytes(const TableReader& reader, std::string_view key,
                                                  std::string_view text);
[[nodiscard]] std::string to_hex(ByteView bytes);

}  // namespace bayswap
