#include "fs/url.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <fstream>
#include <mutex>
#include <sstream>
#include <vector>

#include "base/path.hpp"
#include "base/text.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_netrc = std::size_t{1} << 20;

int hex_digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

// The words of a netrc file; one in quotes may have spaces and, after a backslash, quotes.
std::vector<std::string> netrc_words(std::string_view text) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at < text.size();) {
    const char c = text[at];
    if (c == ' ' || c == '\t' || c == '\r' || c == '\n') {
      ++at;
      continue;
    }
    if (c == '#') {
      at = std::min(text.find('\n', at), text.size());
      continue;
    }
    std::string word;
    const bool is_quoted = c == '"';
    if (is_quoted) ++at;
    for (; at < text.size(); ++at) {
      if (is_quoted ? text[at] == '"' : std::string_view(" \t\r\n").find(text[at]) != std::string_view::npos)
        break;
      if (is_quoted && text[at] == '\\' && at + 1 < text.size()) ++at;
      word += text[at];
    }
    if (is_quoted) ++at;
    words.push_back(std::move(word));
  }
  return words;
}

}  // namespace

std::string from_environment(const char* name) {
  const char* value =
      std::getenv(name);  // NOLINT(concurrency-mt-unsafe): nobody here changes the environment
  return value != nullptr ? value : "";
}

std::string url_encoded(std::string_view path) {
  std::string out;
  for (const char c : path) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       std::string_view("-._~/").find(c) != std::string_view::npos;
    out += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return out;
}

std::optional<std::string> url_decoded(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      out += text[i];
      continue;
    }
    if (text.size() - i < 3 || hex_digit(text[i + 1]) < 0 || hex_digit(text[i + 2]) < 0) return std::nullopt;
    out += static_cast<char>(hex_digit(text[i + 1]) * 16 + hex_digit(text[i + 2]));
    i += 2;
  }
  return out;
}

std::string Url::authority() const {
  const std::string shown = host.find(':') == std::string::npos ? host : "[" + host + "]";
  return port == 0 ? shown : fmt::format("{}:{}", shown, port);
}

bool Url::is_this_machine() const {
  // An address as a whole, not the beginning of a name: "127.example" is anybody's.
  in_addr four{};
  in6_addr six{};
  if (inet_pton(AF_INET, host.c_str(), &four) == 1) return ntohl(four.s_addr) >> 24 == 127;
  if (inet_pton(AF_INET6, host.c_str(), &six) == 1) return IN6_IS_ADDR_LOOPBACK(&six);
  return lower(host) == "localhost";
}

std::optional<Url> url_from(std::string_view text) {
  const auto colon = text.find("://");
  if (colon == std::string_view::npos || colon == 0) return std::nullopt;
  Url url;
  url.scheme = lower(text.substr(0, colon));
  text.remove_prefix(colon + 3);
  std::string_view authority = text.substr(0, text.find_first_of("/?#"));
  std::string_view rest = text.substr(authority.size());
  if (const auto at = authority.rfind('@'); at != std::string_view::npos) {
    std::string_view user = authority.substr(0, at);
    authority.remove_prefix(at + 1);
    if (const auto password = user.find(':'); password != std::string_view::npos) {
      url.has_password = true;
      user = user.substr(0, password);
    }
    auto decoded = url_decoded(user);
    if (!decoded) return std::nullopt;
    url.user = *std::move(decoded);
  }
  std::string_view port;
  if (authority.starts_with('[')) {
    const auto end = authority.find(']');
    if (end == std::string_view::npos) return std::nullopt;
    url.host = authority.substr(1, end - 1);
    port = authority.substr(end + 1);
  } else {
    url.host = authority.substr(0, authority.find(':'));
    port = authority.substr(url.host.size());
  }
  if (url.host.empty()) return std::nullopt;
  if (!port.empty()) {
    constexpr int last_port = 65535;
    const auto read = std::from_chars(port.data() + 1, port.data() + port.size(), url.port);
    if (port.front() != ':' || read.ec != std::errc() || read.ptr != port.data() + port.size() ||
        url.port < 1 || url.port > last_port)
      return std::nullopt;
  }
  rest = rest.substr(0, rest.find('#'));
  if (const auto query = rest.find('?'); query != std::string_view::npos) {
    url.query = rest.substr(query + 1);
    rest = rest.substr(0, query);
  }
  auto path = url_decoded(rest);
  if (!path || path->find('\0') != std::string::npos) return std::nullopt;
  url.path = *std::move(path);
  while (url.path.ends_with('/')) url.path.pop_back();
  return url;
}

std::optional<Credentials> netrc_entry(std::string_view text, std::string_view host, std::string_view user) {
  const std::vector<std::string> words = netrc_words(text.substr(0, std::min(text.size(), max_netrc)));
  for (std::size_t at = 0; at < words.size();) {
    const bool is_default = words[at] == "default";
    if (!is_default && words[at] != "machine") {
      ++at;
      continue;
    }
    const bool is_host = is_default || (at + 1 < words.size() && lower(words[at + 1]) == lower(host));
    at += is_default ? 1 : 2;
    Credentials found;
    for (; at + 1 < words.size() && words[at] != "machine" && words[at] != "default"; at += 2) {
      if (words[at] == "macdef") break;
      if (words[at] == "login") found.user = words[at + 1];
      if (words[at] == "password") found.password = words[at + 1];
    }
    if (is_host && (user.empty() || found.user.empty() || found.user == user)) {
      if (found.user.empty()) found.user = user;
      return found;
    }
  }
  return std::nullopt;
}

namespace {

// Whether the password in the environment is for that host: the one it names, else the first that was asked.
bool is_meant(const std::string& host) {
  static std::mutex mutex;
  static std::string first;
  if (const std::string named = from_environment("BAYSWAP_HOST"); !named.empty())
    return lower(named) == lower(host);
  const std::scoped_lock lock(mutex);
  if (first.empty()) first = lower(host);
  return first == lower(host);
}

}  // namespace

Credentials credentials_for(const Url& url) {
  const std::string user = from_environment("BAYSWAP_USER");
  const std::string password = from_environment("BAYSWAP_PASSWORD");
  if (!password.empty() && is_meant(url.host)) return {user.empty() ? url.user : user, password};
  std::string path = from_environment("NETRC");
  if (path.empty()) path = with_home("~/.netrc");
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  if (file) text << file.rdbuf();
  const std::string& wanted = url.user.empty() ? user : url.user;
  return netrc_entry(text.str(), url.host, wanted).value_or(Credentials{wanted, {}});
}

}  // namespace bayswap
