// Questions to HTTP servers, over libcurl.
#pragma once

#include <bayswap/base.hpp>

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace bayswap {

struct HttpQuestion {
  std::string method = "GET";
  std::string url;
  std::vector<std::string> headers;  // "Name: value"
  std::optional<ByteView> body;
  std::size_t limit = std::size_t{1} << 20;  // of the answer's body, bytes
  bool may_cut = false;                      // what is over the limit is not wanted, and no error
};
struct HttpAnswer {
  long status = 0;
  std::map<std::string, std::string> headers;  // names in lower case
  Blob body;
};

/// How a server is told who asks.
enum class HttpProof {
  password,  // Basic (RFC 7617): over TLS or to this machine only
  signature  // AWS Signature Version 4: the secret itself does not go over the wire
};

/// A connection that is kept open between questions. Names and passwords come from the environment
/// (BAYSWAP_USER, BAYSWAP_PASSWORD) or from netrc; certificates are verified.
class HttpWire {
 public:
  /// `region`: of a signature. Fails with `unsupported` if libcurl is not installed, `bad_usage` if the URL
  /// has a password in it.
  [[nodiscard]] static Result<std::unique_ptr<HttpWire>> open(const std::string& url,
                                                              HttpProof proof = HttpProof::password,
                                                              const std::string& region = {});
  virtual ~HttpWire() = default;
  /// Fails with `io` if there is no answer, whatever its status. The error never names a password.
  [[nodiscard]] virtual Result<HttpAnswer> ask(const HttpQuestion& question) = 0;
  /// How many questions were asked.
  [[nodiscard]] virtual std::size_t asked() const = 0;
  /// Seconds since 1970 of a date as HTTP has it; nothing if it is none.
  [[nodiscard]] virtual std::optional<std::int64_t> date(const std::string& text) const = 0;
};

}  // namespace bayswap
