// Reaching files and folders without being led elsewhere by a link.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/handle.hpp"

namespace bayswap {

/// openat2 with RESOLVE_BENEATH: no link on the way may lead out of `folder`. Returns the descriptor, or -1
/// and errno: EXDEV for a path that leads out, ENOSYS if the kernel has no such call.
[[nodiscard]] int open_beneath(int folder, const std::string& path, int flags);

/// Opens the folder at `path`, which is absolute and has no links: a component that is one by now is ELOOP or
/// ENOTDIR. Returns a closed handle, and errno, on failure. With `made`, missing folders are made with
/// permissions `mode` and added to it, the outermost first.
[[nodiscard]] Handle open_folder(const std::string& path, std::vector<std::string>* made, unsigned mode);

/// The path with all links followed; nothing, and errno, if that fails.
[[nodiscard]] std::optional<std::string> resolved_path(const std::string& path);

}  // namespace bayswap
