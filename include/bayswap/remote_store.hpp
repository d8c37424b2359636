// Stores on servers, opened by URL. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>

#include <memory>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Opens a folder of the local disk by its path or a file:// URL, or one on a server:
///   https://HOST/FOLDER                          WebDAV (http:// on this machine)
///   sftp://USER@HOST/FOLDER                      SSH; /~/FOLDER from the folder of the login on
///   ftps://HOST/FOLDER, ftp://HOST/FOLDER        FTP with and without TLS
///   s3+https://HOST/BUCKET/FOLDER?region=NAME    an S3-style object store
/// Nothing is asked of a server yet. Names and passwords come from the environment (BAYSWAP_USER,
/// BAYSWAP_PASSWORD), netrc or an SSH agent, and go over encrypted connections or to this machine only
/// (ftp:// with BAYSWAP_OPEN_PASSWORD=1: over any); certificates and the keys of hosts are verified. Fails
/// with `unsupported` for other URLs or without libcurl or libssh, `bad_usage` for a URL with a password in
/// it. Such a store is for one thread at a time.
[[nodiscard]] Result<std::unique_ptr<Store>> open_remote(const std::string& url);
/// Makes the folder of a URL, and those it is in, on a server. Succeeds if it exists. Writes and removes an
/// empty file in it.
[[nodiscard]] Result<void> make_remote_folder(const std::string& url);
/// A URL divided into that of the server's root and the path of a file below it. Equal servers have equal
/// texts.
struct RemotePath {
  std::string server;
  std::string path;  // "." for the root itself
};
[[nodiscard]] RemotePath split_remote(const std::string& url);
/// Returns whether a URL names a folder of the local disk.
[[nodiscard]] bool is_local_url(std::string_view url);
/// Returns the absolute path of such a folder.
[[nodiscard]] std::string path_of_url(const std::string& url);

}  // namespace bayswap
BAYSWAP_EXPORT_END
