#include "fs/remote_common.hpp"

#include <fmt/format.h>

#include <functional>
#include <random>

#include "base/path.hpp"
#include "base/text.hpp"

namespace bayswap {

std::string address_of(const Url& url, std::string_view scheme) {
  return fmt::format("{}://{}{}", scheme.empty() ? std::string_view(url.scheme) : scheme, url.authority(),
                     url_encoded(url.path));
}

std::string whole_address(const Url& url, const std::string& below) {
  std::string user = url_encoded(url.user);
  for (std::size_t at = 0; (at = user.find('/', at)) != std::string::npos; at += 3)
    user.replace(at, 1, "%2F");
  return fmt::format("{}://{}{}{}{}{}{}", url.scheme, user, user.empty() ? "" : "@", url.authority(),
                     url_encoded(is_root(below) ? url.path : url.path + "/" + below),
                     url.query.empty() ? "" : "?", url.query);
}

std::string shown_url(const Url& url) {
  return fmt::format("{}://{}{}", url.scheme, url.authority(), url.path);
}

std::uint32_t within_second(const std::string& tag) {
  constexpr std::size_t second = 1000000000;
  return tag.empty() ? 0 : static_cast<std::uint32_t>(std::hash<std::string>()(tag) % second);
}

std::string aside_of(const std::string& path) {
  std::random_device source;
  const std::string name = fmt::format(".bayswap-{:08x}{:08x}.tmp", source(), source());
  const std::string folder = folder_of(path);
  return is_root(folder) ? name : join_path(folder, name);
}

Result<void> check_listed_name(const std::string& name, const std::string& shown_folder) {
  if (is_safe_relative(name) && name.find('/') == std::string::npos) return {};
  return fail(ErrorCode::unsafe, fmt::format("{} has a file called '{}'", shown_folder, printable(name)),
              "rename it on the server");
}

Result<void> check_inside(const std::string& path, const std::string& shown_root) {
  if (is_safe_relative(path)) return {};
  return fail(ErrorCode::unsafe, fmt::format("'{}' leads out of {}", printable(path), shown_root));
}

tl::unexpected<Error> not_there(const std::string& shown) {
  return fail(ErrorCode::not_found, fmt::format("{} does not exist", shown), "check the path");
}

tl::unexpected<Error> there_already(const std::string& shown) {
  return fail(ErrorCode::unsafe, fmt::format("{} exists already", shown), "choose another name",
              {Remedy::Kind::replace, {}});
}

tl::unexpected<Error> wrong_password(const std::string& shown) {
  return fail(ErrorCode::io, fmt::format("{}: wrong name or password", shown),
              "put them into ~/.netrc, or into the environment as BAYSWAP_USER and BAYSWAP_PASSWORD; they "
              "are sent over an encrypted connection only");
}

tl::unexpected<Error> not_allowed(const std::string& shown, std::string_view doing) {
  return fail(ErrorCode::io, fmt::format("{}: the server does not allow {}", shown, doing),
              "see which rights this user has there");
}

tl::unexpected<Error> server_full(const std::string& shown) {
  return fail(ErrorCode::io, fmt::format("{}: the server is full", shown), "make room there");
}

StoreTraits remote_traits() {
  StoreTraits traits;
  traits.one_thread = true;
  return traits;
}

}  // namespace bayswap
