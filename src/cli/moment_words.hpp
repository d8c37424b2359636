// Times as people type them.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap::cli {

/// "2026-11-23" (the end of that day), "2026-11-23 18:30", "yesterday", "a week ago", "3 days ago", in local
/// time, as seconds since 1970. `now`: the same. Fails with `bad_usage` for anything else, and for the
/// future.
[[nodiscard]] Result<std::int64_t> moment_from_words(const std::string& text, std::int64_t now);

}  // namespace bayswap::cli
