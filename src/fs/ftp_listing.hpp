// Lists of files as FTP servers write them.
#pragma once

#include <bayswap/fs.hpp>

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace bayswap {

/// A line of MLSD, or what MLST answers (RFC 3659, section 7): "type=file;size=8;modify=20261126200000;
/// name". Returns nothing if the line can't be read, or is about the folder itself or its parent.
[[nodiscard]] std::optional<FileInfo> entry_of_facts(std::string_view line);
/// A line of LIST in the usual form of 9 columns ("-rw-r--r-- 1 user group 8 Nov 26 20:00 name"), or in that
/// of 4 ("11-26-26 08:00PM 8 name"). The times in it have no zone and often no seconds: they are left out.
[[nodiscard]] std::optional<FileInfo> entry_of_columns(std::string_view line);
/// All entries of a listing, ordered by name. Fails with `damaged` if it has more than 200,000, or lines and
/// none that can be read.
[[nodiscard]] Result<std::vector<FileInfo>> listing_from(ByteView text, bool has_facts);

}  // namespace bayswap
