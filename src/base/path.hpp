// Paths as text.
#pragma once

#include <string>
#include <string_view>

namespace bayswap {

/// a/b; b alone where a is empty or b is absolute.
[[nodiscard]] std::string join_path(std::string_view a, std::string_view b);
/// Without "." and "..", doubled and trailing '/', as far as the text alone tells.
[[nodiscard]] std::string normalized(std::string_view path);
/// With the user's home folder for a leading "~/", where HOME is set.
[[nodiscard]] std::string with_home(std::string_view path);
/// What is before the last '/': "." for a bare name, "/" for a file in the root.
[[nodiscard]] std::string folder_of(std::string_view path);
/// What comes after the last '/'.
[[nodiscard]] std::string_view name_of(std::string_view path);
/// The name without its last extension; a leading dot starts no extension.
[[nodiscard]] std::string_view stem_of(std::string_view path);
/// The last extension with its dot, or nothing.
[[nodiscard]] std::string_view extension_of(std::string_view path);
/// How many folders, from the root on, two paths have in common.
[[nodiscard]] std::size_t shared_folders(std::string_view a, std::string_view b);
/// Relative, no empty, "." or ".." component, no NUL: can't lead out of the folder it is used in.
[[nodiscard]] bool is_safe_relative(std::string_view path);
/// What operating systems leave in folders by the way: thumbnails, views, forks of other disks' files.
[[nodiscard]] bool is_os_metadata(std::string_view name);
/// A file that a replace in progress, or one that was killed, has beside its target.
[[nodiscard]] bool is_own_temporary(std::string_view name);

}  // namespace bayswap
