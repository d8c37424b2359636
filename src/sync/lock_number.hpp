// The names of locks in a sync folder.
#pragma once

#include <cstdint>
#include <optional>
#include <string_view>

namespace bayswap {

/// "12.0123456789abcdef.toml": the highest number is the newest; of two, the later name. Nothing for any
/// other name.
[[nodiscard]] std::optional<std::uint64_t> number_of_lock(std::string_view name);

}  // namespace bayswap
