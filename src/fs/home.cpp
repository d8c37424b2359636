#include <bayswap/fs.hpp>

#include "base/path.hpp"
#include "fs/url.hpp"

namespace bayswap {
std::string with_home(std::string_view path) {
  const std::string home = from_environment("HOME");
  if (home.empty() || (path != "~" && !path.starts_with("~/"))) return std::string(path);
  return home + std::string(path.substr(1));
}

Home Home::under(const std::string& folder) {
  return {
      join_path(folder, "bays"),       join_path(folder, "layouts"),     join_path(folder, "logbook"),
      join_path(folder, "chips.toml"), join_path(folder, "titles.toml"), join_path(folder, "accounts.toml"),
      join_path(folder, "pairs.toml"), join_path(folder, "states"),      join_path(folder, "sheets")};
}

Result<Home> Home::of_user() {
  if (const std::string own = from_environment("BAYSWAP_HOME"); !own.empty()) return under(own);
  const std::string home = from_environment("HOME");
  std::string config = from_environment("XDG_CONFIG_HOME");
  std::string data = from_environment("XDG_DATA_HOME");
  if (home.empty() && (config.empty() || data.empty()))
    return fail(ErrorCode::bad_usage, "no home folder: neither HOME nor BAYSWAP_HOME is set", "name a folder",
                {Remedy::Kind::home, {}});
  // The XDG rules: a relative path counts as not set.
  if (!config.starts_with('/')) config = join_path(home, ".config");
  if (!data.starts_with('/')) data = join_path(home, ".local/share");
  return Home{join_path(config, "bayswap/bays"),        join_path(config, "bayswap/layouts"),
              join_path(data, "bayswap/logbook"),       join_path(config, "bayswap/chips.toml"),
              join_path(config, "bayswap/titles.toml"), join_path(config, "bayswap/accounts.toml"),
              join_path(config, "bayswap/pairs.toml"),  join_path(config, "bayswap/states"),
              join_path(config, "bayswap/sheets")};
}

}  // namespace bayswap
