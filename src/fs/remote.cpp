#include <bayswap/remote_store.hpp>

#include <fmt/format.h>

#include "base/try.hpp"
#include "fs/dav_store.hpp"
#include "fs/path.hpp"

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

Result<std::unique_ptr<Store>> open_remote(const std::string& url) {
  if (url.starts_with("http://") || url.starts_with("https://")) {
    BAYSWAP_TRY(auto store, DavStore::open(url));
    return store;
  }
  if (!is_local_url(url))
    return fail(ErrorCode::unsupported,
                fmt::format("{}: no such store is known", url.substr(0, url.find("://"))),
                "name a folder, or the https URL of a WebDAV folder");
  return std::make_unique<LocalStore>(path_of_url(url));
}

}  // namespace bayswap
