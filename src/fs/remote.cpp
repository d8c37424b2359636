#include <bayswap/remote_store.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/bucket_store.hpp"
#include "fs/dav_store.hpp"
#include "fs/ftp_store.hpp"
#include "fs/remote_common.hpp"
#include "fs/sftp_store.hpp"
#include "fs/url.hpp"

namespace bayswap {
namespace {

constexpr std::string_view file_scheme = "file://";

}  // namespace

bool is_local_url(std::string_view url) {
  return url.starts_with(file_scheme) || url.find("://") == std::string_view::npos;
}

std::string path_of_url(const std::string& url) {
  const std::string path = url.starts_with(file_scheme) ? url.substr(file_scheme.size()) : with_home(url);
  return LocalStore(path).root();
}

RemotePath split_remote(const std::string& url) {
  const auto parsed = url_from(url);
  if (!parsed) return {url, "."};
  // What is before all paths: a bucket, or the folder of the login.
  std::size_t fixed = 0;
  if (parsed->scheme.starts_with("s3+")) fixed = std::min(parsed->path.find('/', 1), parsed->path.size());
  if (parsed->path == "/~" || parsed->path.starts_with("/~/")) fixed = 2;
  Url server = *parsed;
  server.path = parsed->path.substr(0, fixed);
  std::string path = parsed->path.substr(fixed);
  path.erase(0, std::min(path.find_first_not_of('/'), path.size()));
  return {whole_address(server), path.empty() ? "." : path};
}

Result<std::unique_ptr<Store>> open_remote(const std::string& url) {
  if (is_local_url(url)) return std::make_unique<LocalStore>(path_of_url(url));
  const std::string scheme = lower(url.substr(0, url.find("://")));
  if (scheme == "http" || scheme == "https") {
    BAYSWAP_TRY(auto store, DavStore::open(url));
    return store;
  }
  if (scheme == "sftp") {
    BAYSWAP_TRY(auto store, SftpStore::open(url));
    return store;
  }
  if (scheme == "ftp" || scheme == "ftps") {
    BAYSWAP_TRY(auto store, FtpStore::open(url));
    return store;
  }
  if (scheme == "s3+http" || scheme == "s3+https") {
    BAYSWAP_TRY(auto store, BucketStore::open(url));
    return store;
  }
  return fail(ErrorCode::unsupported, fmt::format("{}: no such store is known", printable(scheme)),
              "name a folder, or a URL that starts with https, sftp, ftps, ftp or s3+https");
}

Result<void> make_remote_folder(const std::string& url) {
  const RemotePath whole = split_remote(url);
  const auto url_at = [&](const std::string& path) {
    return is_root(path) ? whole.server : whole.server + "/" + url_encoded(path);
  };
  // Up to a folder that is there; its store makes those below it.
  std::string there = whole.path;
  for (;;) {
    BAYSWAP_TRY(const auto store, open_remote(url_at(there)));
    const auto listed = store->list(".");
    if (listed && there == whole.path) return {};
    if (listed || is_root(there)) {
      const std::string below = is_root(there) ? whole.path : whole.path.substr(there.size() + 1);
      const std::string probe = aside_of(join_path(below, "x"));
      BAYSWAP_CHECK(store->create(probe, {}));
      return store->remove(probe);
    }
    if (listed.error().code != ErrorCode::not_found) return tl::unexpected(listed.error());
    there = folder_of(there);
  }
}

}  // namespace bayswap
