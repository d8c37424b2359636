#include "fs/bucket_store.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/bucket_listing.hpp"
#include "fs/http_status.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_bucket_listing = std::size_t{64} << 20;
constexpr int max_pages = 10000;
constexpr std::string_view usual_region = "us-east-1";

// In a query, and so in what is signed, a '/' is encoded too.
std::string query_encoded(std::string_view text) {
  std::string out;
  for (const char c : url_encoded(text)) out += c == '/' ? std::string("%2F") : std::string(1, c);
  return out;
}

// What is in <Code> of an error's body.
std::string code_of(const Blob& body) {
  constexpr std::string_view start = "<Code>";
  constexpr std::size_t longest = 64;
  const std::string_view text(reinterpret_cast<const char*>(body.data()), body.size());
  const auto at = text.find(start);
  if (at == std::string_view::npos) return {};
  const std::string_view rest = text.substr(at + start.size(), longest);
  return printable(rest.substr(0, rest.find('<')));
}

std::string region_of(const Url& url) {
  constexpr std::string_view key = "region=";
  return url.query.starts_with(key) ? url.query.substr(key.size()) : std::string(usual_region);
}

}  // namespace

Result<std::unique_ptr<BucketStore>> BucketStore::open(const std::string& url) {
  const auto parsed = url_from(url);
  if (!parsed || parsed->path.size() < 2)
    return fail(ErrorCode::bad_usage, "this URL names no bucket",
                "write it as s3+https://HOST/BUCKET/FOLDER, followed by ?region=NAME if its store has one");
  const std::string region = region_of(*parsed);
  if (!std::ranges::all_of(region, [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-';
      }))
    return fail(ErrorCode::bad_usage, "a region is made of letters, digits and '-'");
  BAYSWAP_TRY(auto wire, HttpWire::open(url, HttpProof::signature, region));
  return std::unique_ptr<BucketStore>(new BucketStore(*parsed, std::move(wire)));
}

BucketStore::BucketStore(const Url& url, std::unique_ptr<HttpWire> wire)
    : place_(url), shown_(shown_url(url)), wire_(std::move(wire)) {
  const auto slash = url.path.find('/', 1);
  Url bucket = url;
  bucket.path = url.path.substr(0, slash);
  bucket_url_ = address_of(bucket, url.scheme.ends_with("https") ? "https" : "http");
  if (slash != std::string::npos) prefix_ = url.path.substr(slash + 1) + "/";
}

std::string BucketStore::key_of(const std::string& path) const {
  return is_root(path) ? prefix_ : prefix_ + path;
}

std::string BucketStore::url_of(const std::string& path) const {
  return bucket_url_ + "/" + url_encoded(key_of(path));
}

std::string BucketStore::absolute_path(const std::string& path) const {
  return whole_address(place_, path);
}

std::string BucketStore::display_path(const std::string& path) const {
  return is_root(path) ? shown_ : join_path(shown_, path);
}

tl::unexpected<Error> BucketStore::refused(const HttpAnswer& answer, const std::string& path,
                                           std::string_view doing) const {
  const std::string shown = display_path(path);
  const std::string code = code_of(answer.body);
  if (code == "RequestTimeTooSkewed")
    return fail(ErrorCode::io,
                fmt::format("{}: the clocks of this machine and the server differ too much", shown),
                "set this machine's clock");
  if (code == "NoSuchBucket")
    return fail(ErrorCode::not_found, fmt::format("{}: there is no such bucket", shown),
                "make the bucket first, with the tools of that store");
  switch (answer.status) {
    case http_not_authorised:
      return wrong_password(shown);
    case http_forbidden:
      if (code == "AccessDenied" || code.empty()) return not_allowed(shown, doing);
      return wrong_password(shown);
    case http_missing:
      return not_there(shown);
    case http_storage_full:
      return server_full(shown);
    default:
      return fail(ErrorCode::io,
                  fmt::format("{}: {}: the server answers {} {}", shown, doing, answer.status, code),
                  "try again; if it stays so, look at the server's log");
  }
}

Result<std::vector<FileInfo>> BucketStore::below(const std::string& path, bool is_one_enough) {
  const std::string prefix = is_root(path) ? prefix_ : key_of(path) + "/";
  std::vector<FileInfo> all;
  std::string next;
  for (int page = 0; page < max_pages; ++page) {
    HttpQuestion ask;
    // In the order of the alphabet, as it is signed.
    ask.url = bucket_url_ + "?";
    if (!next.empty()) ask.url += "continuation-token=" + query_encoded(next) + "&";
    ask.url += "delimiter=%2F&list-type=2";
    if (is_one_enough) ask.url += "&max-keys=1";
    if (!prefix.empty()) ask.url += "&prefix=" + query_encoded(prefix);
    ask.limit = max_bucket_listing;
    BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
    if (!is_http_done(answer.status)) return refused(answer, path, "listing it");
    BAYSWAP_TRY(const BucketListing listing, bucket_listing_from(answer.body.view()));
    for (const BucketObject& one : listing.objects) {
      if (!one.key.starts_with(prefix) || one.key.size() == prefix.size()) continue;
      FileInfo info;
      info.name = one.key.substr(prefix.size());
      BAYSWAP_CHECK(check_listed_name(info.name, display_path(path)));
      info.size_bytes = one.size_bytes;
      info.modified = seconds_of_timestamp(one.modified);
      info.modified_ns = within_second(one.tag);
      all.push_back(std::move(info));
    }
    for (const std::string& one : listing.prefixes) {
      if (!one.starts_with(prefix) || one.size() < prefix.size() + 2) continue;
      FileInfo info;
      info.name = one.substr(prefix.size(), one.size() - prefix.size() - 1);
      BAYSWAP_CHECK(check_listed_name(info.name, display_path(path)));
      info.kind = FileInfo::Kind::folder;
      all.push_back(std::move(info));
    }
    if (listing.next.empty() || listing.next == next || is_one_enough) {
      sort_by(all, &FileInfo::name);
      return all;
    }
    next = listing.next;
  }
  return fail(ErrorCode::damaged, fmt::format("{}: the server's list does not end", display_path(path)));
}

Result<std::optional<FileInfo>> BucketStore::stat(const std::string& path) {
  if (!is_root(path)) {
    HttpQuestion ask;
    ask.method = "HEAD";
    ask.url = url_of(path);
    BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
    if (is_http_done(answer.status)) {
      FileInfo info;
      info.name = name_of(path);
      const auto header = [&](const std::string& name) {
        const auto found = answer.headers.find(name);
        return found == answer.headers.end() ? std::string() : found->second;
      };
      info.size_bytes = std::strtoull(header("content-length").c_str(), nullptr, 10);
      info.modified = wire_->date(header("last-modified")).value_or(0);
      info.modified_ns = within_second(header("etag"));
      return info;
    }
    if (answer.status != http_missing) return refused(answer, path, "looking at it");
  }
  auto inside = below(path, true);
  if (!inside && inside.error().code == ErrorCode::not_found) return std::optional<FileInfo>{};
  if (!inside) return tl::unexpected(inside.error());
  if (inside->empty() && !is_root(path)) return std::optional<FileInfo>{};
  FileInfo folder;
  folder.name = name_of(path);
  folder.kind = FileInfo::Kind::folder;
  return folder;
}

Result<std::vector<FileInfo>> BucketStore::list(const std::string& folder) {
  BAYSWAP_TRY(auto all, below(folder, false));
  if (all.empty() && !is_root(folder)) return not_there(display_path(folder));
  return all;
}

Result<Blob> BucketStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  if (count == 0) return Blob();
  HttpQuestion ask;
  ask.url = url_of(path);
  const bool is_whole = at == 0 && count > whole_from;
  if (!is_whole) ask.headers.push_back(fmt::format("Range: bytes={}-{}", at, at + count - 1));
  // A server that knows no ranges sends the beginning as well; never more than was asked for.
  ask.limit = answer_limit(at, count);
  ask.may_cut = ask.limit < max_answer;
  BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
  if (answer.status == http_past_the_end) return Blob();
  if (!is_http_done(answer.status)) return refused(answer, path, "reading it");
  if (answer.status == http_partial) return answer.body.slice(0, count);
  const auto first = static_cast<std::size_t>(std::min<std::uint64_t>(at, answer.body.size()));
  return answer.body.slice(first, count);
}

Result<void> BucketStore::put(const std::string& path, ByteView bytes, bool only_new) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  HttpQuestion ask;
  ask.method = "PUT";
  ask.url = url_of(path);
  ask.body = bytes;
  if (only_new) ask.headers.emplace_back("If-None-Match: *");
  BAYSWAP_TRY(HttpAnswer answer, wire_->ask(ask));
  // Not every store knows the condition.
  if (only_new && (answer.status == http_not_implemented || answer.status == http_bad_request)) {
    BAYSWAP_TRY(const auto there, stat(path));
    if (there) return there_already(display_path(path));
    ask.headers.clear();
    BAYSWAP_TRY(answer, wire_->ask(ask));
  }
  if (only_new && (answer.status == http_precondition || answer.status == http_conflict))
    return there_already(display_path(path));
  if (!is_http_done(answer.status)) return refused(answer, path, "writing it");
  return {};
}

Result<void> BucketStore::replace(const std::string& path, ByteView bytes) {
  return put(path, bytes, false);
}

Result<void> BucketStore::create(const std::string& path, ByteView bytes) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  // A store that passes over the condition would write over what is there.
  BAYSWAP_TRY(const auto there, stat(path));
  if (there) return there_already(display_path(path));
  return put(path, bytes, true);
}

Result<void> BucketStore::add(const std::string& path, ByteView bytes) {
  return put(path, bytes, true);
}

Result<void> BucketStore::remove(const std::string& path) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  BAYSWAP_TRY(const auto there, stat(path));
  if (!there || there->kind != FileInfo::Kind::file) return not_there(display_path(path));
  HttpQuestion ask;
  ask.method = "DELETE";
  ask.url = url_of(path);
  BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
  return is_http_done(answer.status) ? Result<void>{} : refused(answer, path, "removing it");
}

}  // namespace bayswap
