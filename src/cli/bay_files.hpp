// Bay files that give way to others.
#pragma once

#include <bayswap/fs.hpp>

namespace bayswap::cli {

/// Makes the folder of the bay files, for its owner alone: they name servers and users.
void make_bays_folder(const Home& home);
/// Copies a bay file into the folder of old ones, under a name that is free. Returns the copy's path.
[[nodiscard]] Result<std::string> keep_old_bay_file(const Home& home, const std::string& path);
/// A bay file with these names as its former ones.
[[nodiscard]] std::string with_former_names(const std::string& toml, const std::vector<std::string>& names);

}  // namespace bayswap::cli
