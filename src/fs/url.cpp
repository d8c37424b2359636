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

// Reads a netrc file word by word. A comment begins with '#' where a word of the file's own is due: a
// password may begin with it.
class NetrcReader {
 public:
  explicit NetrcReader(std::string_view text) : text_(text) {}

  // "machine", "login" and their like; nothing at the end.
  std::optional<std::string> keyword() {
    for (;;) {
      skip_spaces();
      if (text_.empty()) return std::nullopt;
      if (text_.front() != '#') return value();
      text_.remove_prefix(std::min(text_.find('\n'), text_.size()));
    }
  }

  // What a keyword says: any word; one in quotes may have spaces and, after a backslash, quotes.
  std::optional<std::string> value() {
    skip_spaces();
    if (text_.empty()) return std::nullopt;
    const bool is_quoted = text_.front() == '"';
    if (is_quoted) text_.remove_prefix(1);
    std::string word;
    while (!text_.empty() && (is_quoted ? text_.front() != '"' : spaces.find(text_.front()) == spaces.npos)) {
      if (is_quoted && text_.front() == '\\' && text_.size() > 1) text_.remove_prefix(1);
      word += text_.front();
      text_.remove_prefix(1);
    }
    if (is_quoted && !text_.empty()) text_.remove_prefix(1);
    return word;
  }

  // A macro ends with an empty line; nothing in it counts.
  void skip_macro() {
    skip_line();
    while (!text_.empty()) {
      const std::string_view line = text_.substr(0, text_.find('\n'));
      skip_line();
      if (line.empty() || line == "\r") return;
    }
  }

 private:
  static constexpr std::string_view spaces = " \t\r\n";

  void skip_spaces() { text_.remove_prefix(std::min(text_.find_first_not_of(spaces), text_.size())); }
  void skip_line() {
    const auto end = text_.find('\n');
    text_.remove_prefix(end == std::string_view::npos ? text_.size() : end + 1);
  }

  std::string_view text_;
};

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
  NetrcReader reader(text.substr(0, std::min(text.size(), max_netrc)));
  std::optional<Credentials> entry;  // of this host, as far as it has been read
  const auto is_it = [&] { return entry && (user.empty() || entry->user.empty() || entry->user == user); };
  while (auto word = reader.keyword()) {
    if (*word == "macdef") {
      reader.skip_macro();
      continue;
    }
    if (*word != "machine" && *word != "default") {
      const auto value = reader.value();
      if (!value) break;
      if (entry && *word == "login") entry->user = *value;
      if (entry && *word == "password") entry->password = *value;
      continue;
    }
    if (is_it()) break;
    entry.reset();
    const auto name = *word == "default" ? std::nullopt : reader.value();
    const bool is_ours = *word == "default" || (name && lower(*name) == lower(host));
    if (is_ours) entry.emplace();
  }
  if (!is_it()) return std::nullopt;
  if (entry->user.empty()) entry->user = user;
  return entry;
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
