// Folders that a URL names.
#pragma once

#include <bayswap/fs.hpp>

#include <memory>

namespace bayswap {

/// Opens a folder of the local disk by its path or a file:// URL, or a WebDAV folder by its http or https
/// URL. Nothing is asked of a server yet. Names and passwords come from the environment (BAYSWAP_USER,
/// BAYSWAP_PASSWORD) or netrc, over TLS or on this machine only; certificates are verified. Fails with
/// `unsupported` for other URLs or without libcurl, `bad_usage` for a URL with a password in it.
[[nodiscard]] Result<std::unique_ptr<Store>> open_remote(const std::string& url);
/// Whether it names a folder of the local disk.
[[nodiscard]] bool is_local_url(std::string_view url);
/// The path of such a folder, absolute.
[[nodiscard]] std::string path_of_url(const std::string& url);

}  // namespace bayswap
