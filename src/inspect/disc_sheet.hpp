// Sheets that go with a disc's track files: cue sheets, sheets of numbered tracks, and playlists of several
// discs.
#pragma once

#include <bayswap/title.hpp>

namespace bayswap {

class Store;

struct DiscSheet {
  std::vector<std::string> files;  // what it names, as paths in the store; those that are not there too
  std::string data_file;           // the file that tells the game: the first data track, or the first disc
  std::uint64_t data_at = 0;       // where the track begins in it, in bytes
};
/// Reads a sheet, told by its extension (.cue, .gdi, .m3u); nothing if it is none, or names nothing. Paths
/// that lead out of the sheet's folder do not count. Fails if the file can't be read.
[[nodiscard]] Result<std::optional<DiscSheet>> read_disc_sheet(Store& store, const std::string& path);

}  // namespace bayswap
