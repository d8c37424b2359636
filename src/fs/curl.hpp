// libcurl, loaded when it is first needed: commands that need no network start without it.
#pragma once

#include <curl/curl.h>
#include <bayswap/base.hpp>

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "fs/url.hpp"

namespace bayswap {

/// What we use of libcurl, by the types of its own header.
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

  /// Nothing if it is not installed.
  [[nodiscard]] static const CurlLibrary* get();
};

/// One connection of libcurl that is kept between transfers. Credentials go over TLS, or to this machine
/// only; certificates are verified, by SSL_CERT_FILE where it is set. Not for several threads at once.
class CurlConnection {
 public:
  /// Fails with `unsupported` if libcurl is not installed, `bad_usage` if the URL has a password in it or is
  /// none.
  [[nodiscard]] static Result<CurlConnection> open(const std::string& url);

  /// What is sent and what comes back in one transfer.
  struct Transfer {
    std::string url;
    std::optional<ByteView> body;              // sent, if there is one
    std::size_t limit = std::size_t{1} << 20;  // of the answer, bytes
    bool may_cut = false;                      // what is over the limit is not wanted, and no error
    std::vector<Byte> answer;
    std::function<void(std::string_view line)> on_header;  // without its line end
    // How far it is.
    std::size_t sent = 0;
    bool too_large = false;
  };
  /// Starts a transfer: the handle with everything set that all protocols need. The transfer, and what is
  /// set on the handle besides, have to live until perform() has returned.
  [[nodiscard]] CURL* begin(Transfer& transfer);
  /// Fails with `does_not_fit` if the answer is over the limit. Otherwise what libcurl says of it.
  [[nodiscard]] Result<CURLcode> perform(Transfer& transfer);
  /// In words, without a password.
  [[nodiscard]] tl::unexpected<Error> no_answer(CURLcode code) const;

  [[nodiscard]] const CurlLibrary& library() const { return *library_; }
  [[nodiscard]] const Url& url() const { return url_; }
  [[nodiscard]] Credentials credentials() const;
  /// How many transfers there were.
  [[nodiscard]] std::size_t transfers() const { return transfers_; }

 private:
  CurlConnection(const CurlLibrary& library, Url url)
      : library_(&library), url_(std::move(url)), easy_(library.easy_init(), library.easy_cleanup) {}

  const CurlLibrary* library_;
  Url url_;
  std::unique_ptr<CURL, decltype(CurlLibrary::easy_cleanup)> easy_;
  std::size_t transfers_ = 0;
};

/// Strings for libcurl, freed with it.
class CurlList {
 public:
  CurlList(const CurlLibrary& library, const std::vector<std::string>& lines);
  [[nodiscard]] curl_slist* get() const { return list_.get(); }

 private:
  std::unique_ptr<curl_slist, decltype(CurlLibrary::slist_free_all)> list_;
};

}  // namespace bayswap
