#include "fs/wire_http.hpp"

#include <fmt/format.h>

#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/curl.hpp"

namespace bayswap {
namespace {

class CurlWire final : public HttpWire {
 public:
  CurlWire(CurlConnection connection, HttpProof proof, std::string region)
      : curl_(std::move(connection)), proof_(proof), region_(std::move(region)) {}

  Result<HttpAnswer> ask(const HttpQuestion& question) override {
    HttpAnswer answer;
    CurlConnection::Transfer transfer;
    transfer.url = question.url;
    transfer.body = question.body;
    transfer.limit = question.limit;
    transfer.may_cut = question.may_cut;
    transfer.on_header = [&](std::string_view line) { take_header(answer, line); };
    CURL* const easy = curl_.begin(transfer);
    const auto& set = curl_.library().easy_setopt;
    std::vector<std::string> lines = question.headers;
    const bool is_signed = proof_ == HttpProof::signature;
    const Credentials who = is_signed ? credentials_for(curl_.url()) : curl_.credentials();
    if (is_signed) {
      // libcurl 7.88 signs the host without its port unless it is told.
      lines.push_back("Host: " + curl_.url().authority());
      lines.push_back("x-amz-content-sha256: " + sha256(question.body.value_or(ByteView())).hex());
    }
    const CurlList headers(curl_.library(), lines);
    const std::string signature = fmt::format("aws:amz:{}:s3", region_);
    if (easy != nullptr) {
      set(easy, CURLOPT_HTTPHEADER, headers.get());
      set(easy, CURLOPT_EXPECT_100_TIMEOUT_MS, 1L);  // no waiting before a body
      set(easy, CURLOPT_PROTOCOLS_STR, "http,https");
      // A server that is known by https is not to send us on to an open one.
      if (curl_.url().scheme == "https") set(easy, CURLOPT_PROTOCOLS_STR, "https");
      if (!who.user.empty()) set(easy, CURLOPT_USERNAME, who.user.c_str());
      if (!who.password.empty()) set(easy, CURLOPT_PASSWORD, who.password.c_str());
      if (is_signed && !who.password.empty())
        set(easy, CURLOPT_AWS_SIGV4, signature.c_str());
      else
        set(easy, CURLOPT_HTTPAUTH, static_cast<long>(CURLAUTH_BASIC));
      if (question.method == "HEAD")
        set(easy, CURLOPT_NOBODY, 1L);
      else if (question.method != "GET" && !(question.method == "PUT" && question.body))
        set(easy, CURLOPT_CUSTOMREQUEST, question.method.c_str());
    }
    BAYSWAP_TRY(const CURLcode code, curl_.perform(transfer));
    if (code != CURLE_OK) return curl_.no_answer(code);
    curl_.library().easy_getinfo(easy, CURLINFO_RESPONSE_CODE, &answer.status);
    answer.body = Blob::copy_of(transfer.answer);
    return answer;
  }

  std::size_t asked() const override { return curl_.transfers(); }
  std::optional<std::int64_t> date(const std::string& text) const override {
    const time_t seconds = curl_.library().getdate(text.c_str(), nullptr);
    return seconds == -1 ? std::nullopt : std::optional<std::int64_t>(seconds);
  }

 private:
  static void take_header(HttpAnswer& answer, std::string_view line) {
    if (line.starts_with("HTTP/")) answer.headers.clear();  // of a redirect or an interim answer
    const auto colon = line.find(':');
    constexpr std::size_t many = 200;
    if (colon == std::string_view::npos || answer.headers.size() > many) return;
    std::string_view value = line.substr(colon + 1);
    while (!value.empty() && (value.front() == ' ' || value.front() == '\t')) value.remove_prefix(1);
    while (!value.empty() && value.back() == ' ') value.remove_suffix(1);
    answer.headers[lower(line.substr(0, colon))] = std::string(value);
  }

  CurlConnection curl_;
  HttpProof proof_;
  std::string region_;
};

}  // namespace

Result<std::unique_ptr<HttpWire>> HttpWire::open(const std::string& url, HttpProof proof,
                                                 const std::string& region) {
  BAYSWAP_TRY(CurlConnection connection, CurlConnection::open(url));
  return std::make_unique<CurlWire>(std::move(connection), proof, region);
}

}  // namespace bayswap
