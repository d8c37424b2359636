// Folders that a URL names.
#pragma once

#include <bayswap/fs.hpp>

#include <memory>

namespace bayswap {

/// Opens a folder of the local disk by its path or a file:// URL. Fails with `unsupported` for other URLs.
[[nodiscard]] Result<std::unique_ptr<Store>> open_remote(const std::string& url);
/// Whether it names a folder of the local disk.
[[nodiscard]] bool is_local_url(std::string_view url);
/// The path of such a folder, absolute.
[[nodiscard]] std::string path_of_url(const std::string& url);

}  // namespace bayswap
