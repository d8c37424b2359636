// The status codes of HTTP (RFC 9110, RFC 4918) that the stores on servers look at.
#pragma once

namespace bayswap {

enum HttpStatus : long {
  http_created = 201,
  http_no_content = 204,
  http_partial = 206,
  http_multi_status = 207,
  http_bad_request = 400,
  http_not_authorised = 401,
  http_forbidden = 403,
  http_missing = 404,
  http_method_not_allowed = 405,
  http_conflict = 409,
  http_precondition = 412,
  http_past_the_end = 416,
  http_not_implemented = 501,
  http_storage_full = 507
};

/// Returns whether the server did what it was asked to do.
[[nodiscard]] constexpr bool is_http_done(long status) {
  return status >= 200 && status < 300;
}

}  // namespace bayswap
