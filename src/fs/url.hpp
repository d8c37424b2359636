// URLs of places that are not folders of this machine, and who may come in there.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace bayswap {

/// scheme://user@host:port/path?query
struct Url {
  std::string scheme;  // in lower case
  std::string user;    // decoded; empty: none
  bool has_password = false;
  std::string host;  // without the brackets of a numeric one
  int port = 0;      // 0: the usual one
  std::string path;  // from its '/' on, decoded, without one at its end: empty for the root
  std::string query;

  /// "host:port", the port only where one was named.
  [[nodiscard]] std::string authority() const;
  /// Whether it is this very machine: nobody listens on the way there.
  [[nodiscard]] bool is_this_machine() const;
};
/// Nothing if it has no scheme, no host, or a '%' that stands for nothing.
[[nodiscard]] std::optional<Url> url_from(std::string_view text);

struct Credentials {
  std::string user;
  std::string password;  // empty: none is known
};
/// From the environment (BAYSWAP_USER, BAYSWAP_PASSWORD), else from netrc (NETRC names the file, else
/// ~/.netrc); the URL's own user says which of netrc's entries.
[[nodiscard]] Credentials credentials_for(const Url& url);
/// The entry of a netrc file for a host.
[[nodiscard]] std::optional<Credentials> netrc_entry(std::string_view text, std::string_view host,
                                                     std::string_view user);

/// Every byte of a path but letters, digits, "-._~/" as %XX.
[[nodiscard]] std::string url_encoded(std::string_view path);
/// Nothing if it has a '%' without two hex digits after it.
[[nodiscard]] std::optional<std::string> url_decoded(std::string_view text);

/// Empty where it is not set.
[[nodiscard]] std::string from_environment(const char* name);

}  // namespace bayswap
