// One header reader a platform; nothing where the bytes are not that platform's.
#pragma once

#include <bayswap/title.hpp>
#include <optional>

namespace bayswap {

[[nodiscard]] std::optional<RomFacts> read_n64_header(ByteView head);

}  // namespace bayswap
