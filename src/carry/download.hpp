// What came from outside, unpacked.
#pragma once

#include <bayswap/bay_saves.hpp>

namespace bayswap {

/// All files of a file, a folder or an archive on the local disk, in the order of their paths; archives
/// within are folders, system files are left out. `not_found`; `unsafe` for archives that are not to be
/// trusted.
[[nodiscard]] Result<std::vector<TreeFile>> files_of_download(const std::string& path);

}  // namespace bayswap
