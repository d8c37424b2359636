#include "fs/wire_http.hpp"

#include <curl/curl.h>
#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr long connect_seconds = 15;
constexpr long silent_seconds = 60;

// What we use of libcurl, by the types of its own header.
struct CurlLibrary {
  decltype(&curl_global_init) global_init = nullptr;
  decltype(&curl_easy_init) easy_init = nullptr;
  decltype(&curl_easy_cleanup) easy_cleanup = nullptr;
  decltype(&curl_easy_reset) easy_reset = nullptr;
  decltype(&curl_easy_setopt) easy_setopt = nullptr;
  decltype(&curl_easy_perform) easy_perform = nullptr;
  decltype(&curl_easy_getinfo) easy_getinfo = nullptr;
  decltype(&curl_easy_strerror) easy_strerror = nullptr;
  decltype(&curl_slist_append) slist_append = nullptr;
  decltype(&curl_slist_free_all) slist_free_all = nullptr;
  decltype(&curl_getdate) getdate = nullptr;

  [[nodiscard]] static const CurlLibrary* get() {
    static const CurlLibrary library = load();
    return library.getdate != nullptr ? &library : nullptr;
  }

 private:
  template <class Function>
  static bool find(void* handle, const char* name, Function& function) {
    function = reinterpret_cast<Function>(dlsym(handle, name));  // NOLINT: what dlsym is for
    return function != nullptr;
  }
  static CurlLibrary load() {
    CurlLibrary all;
    void* const handle = dlopen("libcurl.so.4", RTLD_NOW | RTLD_LOCAL);
    if (handle == nullptr) return all;
    const bool whole =
        find(handle, "curl_global_init", all.global_init) && find(handle, "curl_easy_init", all.easy_init) &&
        find(handle, "curl_easy_cleanup", all.easy_cleanup) &&
        find(handle, "curl_easy_reset", all.easy_reset) &&
        find(handle, "curl_easy_setopt", all.easy_setopt) &&
        find(handle, "curl_easy_perform", all.easy_perform) &&
        find(handle, "curl_easy_getinfo", all.easy_getinfo) &&
        find(handle, "curl_easy_strerror", all.easy_strerror) &&
        find(handle, "curl_slist_append", all.slist_append) &&
        find(handle, "curl_slist_free_all", all.slist_free_all) && find(handle, "curl_getdate", all.getdate);
    if (!whole || all.global_init(CURL_GLOBAL_DEFAULT) != CURLE_OK) return {};
    return all;
  }
};

std::string environment(const char* name) {
  const char* value =
      std::getenv(name);  // NOLINT(concurrency-mt-unsafe): nobody here changes the environment
  return value != nullptr ? value : "";
}

// "https://name@host:1/path" in its pieces.
struct Place {
  std::string scheme;
  std::string user;
  bool has_password = false;
  std::string host;
};
Place place_of(const std::string& url) {
  Place place;
  const auto colon = url.find("://");
  if (colon == std::string::npos) return place;
  place.scheme = lower(url.substr(0, colon));
  std::string authority = url.substr(colon + 3);
  authority = authority.substr(0, authority.find('/'));
  if (const auto at = authority.rfind('@'); at != std::string::npos) {
    place.user = authority.substr(0, at);
    authority = authority.substr(at + 1);
    if (const auto password = place.user.find(':'); password != std::string::npos) {
      place.has_password = true;
      place.user.resize(password);
    }
  }
  if (authority.starts_with('['))
    place.host = authority.substr(1, authority.find(']') - 1);
  else
    place.host = authority.substr(0, authority.find(':'));
  return place;
}

bool is_this_machine(const std::string& host) {
  return host == "localhost" || host == "::1" || host.starts_with("127.");
}

class CurlWire final : public HttpWire {
 public:
  CurlWire(const CurlLibrary& curl, Place place)
      : curl_(curl), place_(std::move(place)), easy_(curl.easy_init(), curl.easy_cleanup) {}

  Result<HttpAnswer> ask(const HttpQuestion& question) override {
    ++asked_;
    CURL* const easy = easy_.get();
    if (easy == nullptr) return fail(ErrorCode::io, "libcurl has no memory", "end other programs");
    curl_.easy_reset(easy);
    Transfer transfer{question.body.value_or(ByteView()), 0, {}, {}, question.limit, false};
    curl_slist* list = nullptr;
    for (const std::string& header : question.headers) list = curl_.slist_append(list, header.c_str());
    list = curl_.slist_append(list, "Expect:");  // no round trip before a body
    const std::unique_ptr<curl_slist, decltype(curl_.slist_free_all)> headers(list, curl_.slist_free_all);
    curl_.easy_setopt(easy, CURLOPT_URL, question.url.c_str());
    curl_.easy_setopt(easy, CURLOPT_HTTPHEADER, headers.get());
    curl_.easy_setopt(easy, CURLOPT_NOSIGNAL, 1L);
    curl_.easy_setopt(easy, CURLOPT_CONNECTTIMEOUT, connect_seconds);
    curl_.easy_setopt(easy, CURLOPT_LOW_SPEED_LIMIT, 1L);
    curl_.easy_setopt(easy, CURLOPT_LOW_SPEED_TIME, silent_seconds);
    curl_.easy_setopt(easy, CURLOPT_PROTOCOLS_STR, place_.scheme.c_str());
    curl_.easy_setopt(easy, CURLOPT_WRITEFUNCTION, &CurlWire::take);
    curl_.easy_setopt(easy, CURLOPT_WRITEDATA, &transfer);
    curl_.easy_setopt(easy, CURLOPT_HEADERFUNCTION, &CurlWire::take_header);
    curl_.easy_setopt(easy, CURLOPT_HEADERDATA, &transfer);
    set_trust(easy);
    set_credentials(easy);
    if (question.body) {
      curl_.easy_setopt(easy, CURLOPT_UPLOAD, 1L);
      curl_.easy_setopt(easy, CURLOPT_READFUNCTION, &CurlWire::give);
      curl_.easy_setopt(easy, CURLOPT_READDATA, &transfer);
      curl_.easy_setopt(easy, CURLOPT_INFILESIZE_LARGE, static_cast<curl_off_t>(question.body->size()));
    }
    if (question.method == "HEAD")
      curl_.easy_setopt(easy, CURLOPT_NOBODY, 1L);
    else if (question.method != "GET")
      curl_.easy_setopt(easy, CURLOPT_CUSTOMREQUEST, question.method.c_str());
    const CURLcode code = curl_.easy_perform(easy);
    if (transfer.too_large)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} answers with more than {} bytes", place_.host, question.limit));
    if (code != CURLE_OK) return no_answer(code);
    HttpAnswer answer;
    curl_.easy_getinfo(easy, CURLINFO_RESPONSE_CODE, &answer.status);
    answer.headers = std::move(transfer.headers);
    answer.body = Blob::copy_of(transfer.answer);
    return answer;
  }

  std::size_t asked() const override { return asked_; }
  std::optional<std::int64_t> date(const std::string& text) const override {
    const time_t seconds = curl_.getdate(text.c_str(), nullptr);
    return seconds == -1 ? std::nullopt : std::optional<std::int64_t>(seconds);
  }

 private:
  struct Transfer {
    ByteView body;
    std::size_t sent = 0;
    std::vector<Byte> answer;
    std::map<std::string, std::string> headers;
    std::size_t limit = 0;
    bool too_large = false;
  };

  static std::size_t take(char* bytes, std::size_t size, std::size_t count, void* user) {
    auto& transfer = *static_cast<Transfer*>(user);
    const std::size_t all = size * count;
    if (all > transfer.limit - transfer.answer.size()) {
      transfer.too_large = true;
      return 0;
    }
    const auto* first = reinterpret_cast<const Byte*>(bytes);
    transfer.answer.insert(transfer.answer.end(), first, first + all);
    return all;
  }
  static std::size_t take_header(char* bytes, std::size_t size, std::size_t count, void* user) {
    auto& transfer = *static_cast<Transfer*>(user);
    const std::string_view line(bytes, size * count);
    if (line.starts_with("HTTP/")) transfer.headers.clear();  // of a redirect or an interim answer
    const auto colon = line.find(':');
    constexpr std::size_t many = 200;
    if (colon == std::string_view::npos || transfer.headers.size() > many) return line.size();
    std::string_view value = line.substr(colon + 1);
    while (!value.empty() && (value.front() == ' ' || value.front() == '\t')) value.remove_prefix(1);
    while (!value.empty() && (value.back() == '\r' || value.back() == '\n' || value.back() == ' '))
      value.remove_suffix(1);
    transfer.headers[lower(line.substr(0, colon))] = std::string(value);
    return line.size();
  }
  static std::size_t give(char* bytes, std::size_t size, std::size_t count, void* user) {
    auto& transfer = *static_cast<Transfer*>(user);
    const std::size_t all = std::min(size * count, transfer.body.size() - transfer.sent);
    std::copy_n(transfer.body.data() + transfer.sent, all, reinterpret_cast<Byte*>(bytes));
    transfer.sent += all;
    return all;
  }

  // A club's own authority is named the way other programs are told of it.
  void set_trust(CURL* easy) const {
    for (const char* name : {"CURL_CA_BUNDLE", "SSL_CERT_FILE"})
      if (const std::string file = environment(name); !file.empty()) {
        curl_.easy_setopt(easy, CURLOPT_CAINFO, file.c_str());
        return;
      }
  }

  void set_credentials(CURL* easy) const {
    if (place_.scheme == "http" && !is_this_machine(place_.host)) return;
    const std::string user = environment("BAYSWAP_USER");
    const std::string password = environment("BAYSWAP_PASSWORD");
    if (!password.empty()) {
      curl_.easy_setopt(easy, CURLOPT_USERNAME, (user.empty() ? place_.user : user).c_str());
      curl_.easy_setopt(easy, CURLOPT_PASSWORD, password.c_str());
    } else {
      if (!place_.user.empty()) curl_.easy_setopt(easy, CURLOPT_USERNAME, place_.user.c_str());
      if (const std::string file = environment("NETRC"); !file.empty())
        curl_.easy_setopt(easy, CURLOPT_NETRC_FILE, file.c_str());
      curl_.easy_setopt(easy, CURLOPT_NETRC, static_cast<long>(CURL_NETRC_OPTIONAL));
    }
    curl_.easy_setopt(easy, CURLOPT_HTTPAUTH, static_cast<long>(CURLAUTH_BASIC));
  }

  [[nodiscard]] tl::unexpected<Error> no_answer(CURLcode code) const {
    std::string hint = "see that the network and the server are there, and try again";
    if (code == CURLE_PEER_FAILED_VERIFICATION || code == CURLE_SSL_CACERT_BADFILE)
      hint =
          "its certificate is not one that this machine trusts; SSL_CERT_FILE names the authority of your "
          "own "
          "server";
    return fail(ErrorCode::io, fmt::format("{}: {}", place_.host, curl_.easy_strerror(code)), hint);
  }

  const CurlLibrary& curl_;
  Place place_;
  std::unique_ptr<CURL, decltype(CurlLibrary::easy_cleanup)> easy_;
  std::size_t asked_ = 0;
};

}  // namespace

Result<std::unique_ptr<HttpWire>> HttpWire::open(const std::string& url) {
  Place place = place_of(url);
  if (place.has_password)
    return fail(ErrorCode::bad_usage, "a password in a URL is seen by everybody on this machine",
                "put it into ~/.netrc, or into the environment as BAYSWAP_PASSWORD");
  const CurlLibrary* curl = CurlLibrary::get();
  if (curl == nullptr)
    return fail(ErrorCode::unsupported, "network stores need libcurl, which is not installed",
                "install the package libcurl4");
  return std::make_unique<CurlWire>(*curl, std::move(place));
}

std::string url_encoded(std::string_view path) {
  std::string out;
  for (const char c : path) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       std::string_view("-._~/").find(c) != std::string_view::npos;
    out += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<Byte>(c));
  }
  return out;
}

std::optional<std::string> url_decoded(std::string_view text) {
  const auto digit = [](char c) {
    return c >= '0' && c <= '9'   ? c - '0'
           : c >= 'a' && c <= 'f' ? c - 'a' + 10
           : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                  : -1;
  };
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      out += text[i];
      continue;
    }
    if (text.size() - i < 3 || digit(text[i + 1]) < 0 || digit(text[i + 2]) < 0) return std::nullopt;
    out += static_cast<char>(digit(text[i + 1]) * 16 + digit(text[i + 2]));
    i += 2;
  }
  return out;
}

}  // namespace bayswap
