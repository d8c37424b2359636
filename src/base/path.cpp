#include "base/path.hpp"

#include <algorithm>
#include <array>
#include <filesystem>

namespace bayswap {

std::string join_path(std::string_view a, std::string_view b) {
  if (a.empty() || b.starts_with('/')) return std::string(b);
  std::string out(a);
  if (b.empty()) return out;
  if (!out.ends_with('/')) out += '/';
  return out.append(b);
}

std::string normalized(std::string_view path) {
  // The two '/' after a scheme are no doubled one.
  if (const auto scheme = path.find("://");
      scheme != std::string_view::npos && path.find('/') == scheme + 1) {
    const auto slash = std::min(path.find('/', scheme + 3), path.size());
    return std::string(path.substr(0, slash)) +
           (slash + 1 < path.size() ? normalized(path.substr(slash)) : std::string());
  }
  std::string out = std::filesystem::path(path).lexically_normal().string();
  while (out.size() > 1 && out.ends_with('/')) out.pop_back();
  return out;
}

std::string folder_of(std::string_view path) {
  const auto slash = path.rfind('/');
  if (slash == std::string_view::npos) return ".";
  return std::string(slash == 0 ? "/" : path.substr(0, slash));
}

std::string_view name_of(std::string_view path) {
  const auto slash = path.rfind('/');
  return slash == std::string_view::npos ? path : path.substr(slash + 1);
}

std::string_view extension_of(std::string_view path) {
  const std::string_view name = name_of(path);
  const auto dot = name.rfind('.');
  return dot == std::string_view::npos || dot == 0 ? std::string_view{} : name.substr(dot);
}

std::string_view stem_of(std::string_view path) {
  const std::string_view name = name_of(path);
  return name.substr(0, name.size() - extension_of(path).size());
}

bool is_safe_relative(std::string_view path) {
  if (path.empty() || path.find('\0') != std::string_view::npos) return false;
  while (true) {
    const auto slash = path.find('/');
    const std::string_view component = path.substr(0, slash);
    if (component.empty() || component == "." || component == "..") return false;
    if (slash == std::string_view::npos) return true;
    path.remove_prefix(slash + 1);
  }
}

std::size_t shared_folders(std::string_view a, std::string_view b) {
  std::size_t folders = 0;
  for (std::size_t i = 0; i < std::min(a.size(), b.size()) && a[i] == b[i]; ++i)
    folders += a[i] == '/' ? 1 : 0;
  return folders;
}

bool is_os_metadata(std::string_view name) {
  constexpr std::array<std::string_view, 9> names{
      ".DS_Store",  "Thumbs.db",    "desktop.ini", "__MACOSX",       "System Volume Information",
      "lost+found", "$RECYCLE.BIN", ".Trashes",    ".Spotlight-V100"};
  return std::ranges::find(names, name) != names.end() || name.starts_with("._") ||
         name.starts_with(".Trash-");
}

bool is_own_temporary(std::string_view name) {
  return name.starts_with(".bayswap-") && name.ends_with(".tmp");
}

}  // namespace bayswap
