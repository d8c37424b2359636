// What all stores on servers share.
#pragma once

#include <bayswap/fs.hpp>

#include "fs/url.hpp"

namespace bayswap {

/// scheme://host:port/path, encoded, without a user or a '/' at its end. `scheme` instead of the URL's own.
[[nodiscard]] std::string address_of(const Url& url, std::string_view scheme = {});
/// The same with the user and the query: enough to find the file from anywhere.
[[nodiscard]] std::string whole_address(const Url& url, const std::string& below = {});
/// The same for people: not encoded, without a '?'.
[[nodiscard]] std::string shown_url(const Url& url);
/// Whether a path of a store means its root.
[[nodiscard]] inline bool is_root(std::string_view path) {
  return path.empty() || path == ".";
}
/// From this many bytes on, a file is asked for whole: no server needs to know ranges for that.
inline constexpr std::size_t whole_from = std::size_t{1} << 20;
/// No answer is larger, whatever was asked for.
inline constexpr std::size_t max_answer = std::size_t{600} << 20;
/// Bytes that a reading of `count` bytes at `at` can take, of a server that knows no ranges as well.
[[nodiscard]] constexpr std::size_t answer_limit(std::uint64_t at, std::size_t count) {
  return at >= max_answer || count >= max_answer - at ? max_answer : static_cast<std::size_t>(at) + count;
}
/// Nanoseconds for a file whose time has seconds: two writes within one differ in the server's tag of it.
[[nodiscard]] std::uint32_t within_second(const std::string& tag);
/// A name beside a file, at random, for what is not whole yet.
[[nodiscard]] std::string aside_of(const std::string& path);
/// The name of a file in a listing, if it is one that can be asked for again.
[[nodiscard]] Result<void> check_listed_name(const std::string& name, const std::string& shown_folder);

[[nodiscard]] Result<void> check_inside(const std::string& path, const std::string& shown_root);
[[nodiscard]] tl::unexpected<Error> not_there(const std::string& shown);
[[nodiscard]] tl::unexpected<Error> there_already(const std::string& shown);
[[nodiscard]] tl::unexpected<Error> wrong_password(const std::string& shown);
[[nodiscard]] tl::unexpected<Error> not_allowed(const std::string& shown, std::string_view doing);
[[nodiscard]] tl::unexpected<Error> server_full(const std::string& shown);

/// Of a store with one connection.
[[nodiscard]] StoreTraits remote_traits();

}  // namespace bayswap
