#include "fs/curl.hpp"

#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>

namespace bayswap {
namespace {

constexpr long connect_seconds = 15;
constexpr long silent_seconds = 30;
constexpr long least_bytes_a_second = 256;
constexpr long whole_seconds = 60;
constexpr std::size_t slow_bytes_a_second = 16384;

template <class Function>
bool find(void* handle, const char* name, Function& function) {
  function = reinterpret_cast<Function>(dlsym(handle, name));  // NOLINT: what dlsym is for
  return function != nullptr;
}

CurlLibrary load_curl() {
  CurlLibrary all;
  void* const handle = dlopen("libcurl.so.4", RTLD_NOW | RTLD_LOCAL);
  if (handle == nullptr) return all;
  const bool whole =
      find(handle, "curl_global_init", all.global_init) && find(handle, "curl_easy_init", all.easy_init) &&
      find(handle, "curl_easy_cleanup", all.easy_cleanup) &&
      find(handle, "curl_easy_reset", all.easy_reset) && find(handle, "curl_easy_setopt", all.easy_setopt) &&
      find(handle, "curl_easy_perform", all.easy_perform) &&
      find(handle, "curl_easy_getinfo", all.easy_getinfo) &&
      find(handle, "curl_easy_strerror", all.easy_strerror) &&
      find(handle, "curl_slist_append", all.slist_append) &&
      find(handle, "curl_slist_free_all", all.slist_free_all) && find(handle, "curl_getdate", all.getdate);
  if (!whole || all.global_init(CURL_GLOBAL_DEFAULT) != CURLE_OK) return {};
  return all;
}

std::size_t take(char* bytes, std::size_t size, std::size_t count, void* user) {
  auto& transfer = *static_cast<CurlConnection::Transfer*>(user);
  const std::size_t all = size * count;
  const std::size_t room = transfer.limit - transfer.answer.size();
  transfer.too_large = all > room;
  const auto* first = reinterpret_cast<const Byte*>(bytes);
  transfer.answer.insert(transfer.answer.end(), first, first + std::min(all, room));
  return transfer.too_large ? 0 : all;
}

std::size_t take_header(char* bytes, std::size_t size, std::size_t count, void* user) {
  const auto& transfer = *static_cast<CurlConnection::Transfer*>(user);
  std::string_view line(bytes, size * count);
  while (!line.empty() && (line.back() == '\r' || line.back() == '\n')) line.remove_suffix(1);
  if (transfer.on_header) transfer.on_header(line);
  return size * count;
}

std::size_t give(char* bytes, std::size_t size, std::size_t count, void* user) {
  auto& transfer = *static_cast<CurlConnection::Transfer*>(user);
  const std::size_t all = std::min(size * count, transfer.body->size() - transfer.sent);
  std::copy_n(transfer.body->data() + transfer.sent, all, reinterpret_cast<Byte*>(bytes));
  transfer.sent += all;
  return all;
}

}  // namespace

const CurlLibrary* CurlLibrary::get() {
  static const CurlLibrary library = load_curl();
  return library.getdate != nullptr ? &library : nullptr;
}

Result<CurlConnection> CurlConnection::open(const std::string& url) {
  auto parsed = url_from(url);
  if (!parsed) return fail(ErrorCode::bad_usage, "this is not a URL", "write it as scheme://host/folder");
  if (parsed->has_password)
    return fail(ErrorCode::bad_usage, "a password in a URL is seen by everybody on this machine",
                "put it into ~/.netrc, or into the environment as BAYSWAP_PASSWORD");
  const CurlLibrary* library = CurlLibrary::get();
  if (library == nullptr)
    return fail(ErrorCode::unsupported, "network stores need libcurl, which is not installed",
                "install the package libcurl4");
  return CurlConnection(*library, *std::move(parsed));
}

Credentials CurlConnection::credentials() const {
  // Over an open network nothing that is secret.
  const bool is_open = url_.scheme == "http" || url_.scheme == "ftp";
  if (is_open && !url_.is_this_machine() && from_environment("BAYSWAP_OPEN_PASSWORD") != "1") return {};
  return credentials_for(url_);
}

CURL* CurlConnection::begin(Transfer& transfer) {
  ++transfers_;
  CURL* const easy = easy_.get();
  if (easy == nullptr) return nullptr;
  const CurlLibrary& curl = *library_;
  curl.easy_reset(easy);
  curl.easy_setopt(easy, CURLOPT_URL, transfer.url.c_str());
  curl.easy_setopt(easy, CURLOPT_NOSIGNAL, 1L);
  curl.easy_setopt(easy, CURLOPT_CONNECTTIMEOUT, connect_seconds);
  curl.easy_setopt(easy, CURLOPT_LOW_SPEED_LIMIT, least_bytes_a_second);
  // As a whole, too: a server that answers a byte at a time would hold this device for days.
  const std::size_t most = transfer.limit + (transfer.body ? transfer.body->size() : 0);
  curl.easy_setopt(easy, CURLOPT_TIMEOUT, whole_seconds + static_cast<long>(most / slow_bytes_a_second));
  if (url_.is_this_machine()) curl.easy_setopt(easy, CURLOPT_NOPROXY, "*");
  curl.easy_setopt(easy, CURLOPT_LOW_SPEED_TIME, silent_seconds);
  curl.easy_setopt(easy, CURLOPT_WRITEFUNCTION, &take);
  curl.easy_setopt(easy, CURLOPT_WRITEDATA, &transfer);
  curl.easy_setopt(easy, CURLOPT_HEADERFUNCTION, &take_header);
  curl.easy_setopt(easy, CURLOPT_HEADERDATA, &transfer);
  // A club's own authority is named the way other programs are told of it.
  for (const char* name : {"SSL_CERT_FILE", "CURL_CA_BUNDLE"})
    if (const std::string file = from_environment(name); !file.empty()) {
      curl.easy_setopt(easy, CURLOPT_CAINFO, file.c_str());
      break;
    }
  if (transfer.body) {
    curl.easy_setopt(easy, CURLOPT_UPLOAD, 1L);
    curl.easy_setopt(easy, CURLOPT_READFUNCTION, &give);
    curl.easy_setopt(easy, CURLOPT_READDATA, &transfer);
    curl.easy_setopt(easy, CURLOPT_INFILESIZE_LARGE, static_cast<curl_off_t>(transfer.body->size()));
  }
  return easy;
}

Result<CURLcode> CurlConnection::perform(Transfer& transfer) {
  if (easy_ == nullptr) return fail(ErrorCode::io, "libcurl has no memory", "end other programs");
  const CURLcode code = library_->easy_perform(easy_.get());
  if (transfer.too_large && transfer.may_cut) return CURLE_OK;
  if (transfer.too_large)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} answers with more than {} bytes", url_.host, transfer.limit));
  return code;
}

tl::unexpected<Error> CurlConnection::no_answer(CURLcode code) const {
  std::string hint = "see that the network and the server are there, and try again";
  if (code == CURLE_PEER_FAILED_VERIFICATION || code == CURLE_SSL_CACERT_BADFILE)
    hint =
        "its certificate is not one that this machine trusts: see that the clock here is right; "
        "SSL_CERT_FILE names the authority of your own server";
  return fail(ErrorCode::io, fmt::format("{}: {}", url_.host, library_->easy_strerror(code)), hint);
}

CurlList::CurlList(const CurlLibrary& library, const std::vector<std::string>& lines)
    : list_(nullptr, library.slist_free_all) {
  for (const std::string& line : lines) {
    curl_slist* const longer = library.slist_append(list_.get(), line.c_str());
    if (longer == nullptr) continue;
    (void)list_.release();
    list_.reset(longer);
  }
}

}  // namespace bayswap
