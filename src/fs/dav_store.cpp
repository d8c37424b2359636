#include "fs/dav_store.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/http_status.hpp"
#include "fs/multistatus.hpp"
#include "fs/remote_common.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_dav_listing = std::size_t{64} << 20;
constexpr std::string_view question =
    "<?xml version=\"1.0\" encoding=\"utf-8\"?><propfind "
    "xmlns=\"DAV:\"><prop><resourcetype/><getcontentlength/>"
    "<getlastmodified/><getetag/></prop></propfind>";

std::string without_slash(std::string text) {
  while (text.ends_with('/')) text.pop_back();
  return text;
}

// The path of a URL or of an href, decoded; servers give either form.
std::optional<std::string> path_of_href(const std::string& href) {
  std::string path = href;
  if (const auto scheme = path.find("://"); scheme != std::string::npos) {
    const auto slash = path.find('/', scheme + 3);
    path = slash == std::string::npos ? "/" : path.substr(slash);
  }
  auto decoded = url_decoded(path);
  if (!decoded) return std::nullopt;
  return without_slash(*std::move(decoded));
}

}  // namespace

Result<std::unique_ptr<DavStore>> DavStore::open(const std::string& url) {
  BAYSWAP_TRY(auto wire, HttpWire::open(url));
  return std::unique_ptr<DavStore>(new DavStore(*url_from(url), std::move(wire)));
}

DavStore::DavStore(const Url& url, std::unique_ptr<HttpWire> wire)
    : place_(url), url_(address_of(url)), shown_(shown_url(url)), wire_(std::move(wire)) {}

std::string DavStore::url_of(const std::string& path) const {
  return is_root(path) ? url_ + "/" : url_ + "/" + url_encoded(path);
}

std::string DavStore::absolute_path(const std::string& path) const {
  return whole_address(place_, path);
}

std::string DavStore::display_path(const std::string& path) const {
  return is_root(path) ? shown_ : join_path(shown_, path);
}

tl::unexpected<Error> DavStore::refused(const HttpAnswer& answer, const std::string& path,
                                        std::string_view doing) const {
  const std::string shown = display_path(path);
  switch (answer.status) {
    case http_not_authorised:
      return wrong_password(shown);
    case http_forbidden:
    case http_method_not_allowed:
      return not_allowed(shown, doing);
    case http_missing:
    case http_conflict:
      return not_there(shown);
    case http_storage_full:
      return server_full(shown);
    default:
      return fail(ErrorCode::io, fmt::format("{}: {}: the server answers {}", shown, doing, answer.status),
                  "try again; if it stays so, look at the server's log");
  }
}

Result<std::vector<FileInfo>> DavStore::propfind(const std::string& path, bool with_children) {
  HttpQuestion ask;
  ask.method = "PROPFIND";
  ask.url = with_children && !is_root(path) ? url_of(path) + "/" : url_of(path);
  ask.headers = {with_children ? "Depth: 1" : "Depth: 0", "Content-Type: application/xml"};
  ask.body = ByteView(reinterpret_cast<const Byte*>(question.data()), question.size());
  ask.limit = max_dav_listing;
  BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
  if (answer.status != http_multi_status) return refused(answer, path, "listing it");
  BAYSWAP_TRY(const auto resources, multistatus_from(answer.body.view()));
  const auto own = path_of_href(ask.url);
  std::vector<FileInfo> all;
  for (const DavResource& one : resources) {
    const auto href = path_of_href(one.href);
    if (!href)
      return fail(ErrorCode::damaged, fmt::format("{}: the server names a file oddly", display_path(path)));
    if (with_children == (href == own)) continue;
    FileInfo info;
    info.name = name_of(*href);
    if (with_children) BAYSWAP_CHECK(check_listed_name(info.name, display_path(path)));
    info.kind = one.is_folder ? FileInfo::Kind::folder : FileInfo::Kind::file;
    if (!one.is_folder) {
      info.size_bytes = one.size_bytes;
      info.modified = wire_->date(one.modified).value_or(0);
      info.modified_ns = within_second(one.tag);
    }
    all.push_back(std::move(info));
  }
  sort_by(all, &FileInfo::name);
  return all;
}

Result<std::optional<FileInfo>> DavStore::stat(const std::string& path) {
  auto found = propfind(path, false);
  if (!found && found.error().code == ErrorCode::not_found) return std::optional<FileInfo>{};
  if (!found) return tl::unexpected(found.error());
  if (found->empty()) return std::optional<FileInfo>{};
  return std::optional<FileInfo>(found->front());
}

Result<std::vector<FileInfo>> DavStore::list(const std::string& folder) {
  return propfind(folder, true);
}

Result<Blob> DavStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
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

Result<void> DavStore::make_folders(const std::string& path) {
  const std::string folder = folder_of(path);
  if (is_root(folder)) return {};
  std::string so_far;
  for (std::size_t at = 0; at != std::string::npos;) {
    at = folder.find('/', at + 1);
    so_far = folder.substr(0, at);
    HttpQuestion ask;
    ask.method = "MKCOL";
    ask.url = url_of(so_far) + "/";
    BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
    if (!is_http_done(answer.status) && answer.status != http_method_not_allowed)
      return refused(answer, so_far, "making it");
  }
  return {};
}

Result<void> DavStore::put(const std::string& path, ByteView bytes, bool only_new) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  for (bool again : {true, false}) {
    HttpQuestion ask;
    ask.method = "PUT";
    ask.url = url_of(path);
    ask.body = bytes;
    if (only_new) ask.headers.emplace_back("If-None-Match: *");
    BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
    if (is_http_done(answer.status)) return {};
    if (only_new && answer.status == http_precondition) return there_already(display_path(path));
    // Its folder is missing: servers say so in several ways.
    if (again && (answer.status == http_conflict || answer.status == http_missing ||
                  answer.status == http_forbidden)) {
      BAYSWAP_CHECK(make_folders(path));
      continue;
    }
    return refused(answer, path, "writing it");
  }
  return {};
}

Result<void> DavStore::create(const std::string& path, ByteView bytes) {
  return put(path, bytes, true);
}

Result<void> DavStore::add(const std::string& path, ByteView bytes) {
  return put(path, bytes, true);
}

Result<void> DavStore::replace(const std::string& path, ByteView bytes) {
  const std::string from = aside_of(path);
  BAYSWAP_CHECK(put(from, bytes, false));
  HttpQuestion ask;
  ask.method = "MOVE";
  ask.url = url_of(from);
  ask.headers = {"Destination: " + url_of(path), "Overwrite: T"};
  BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
  if (is_http_done(answer.status)) return {};
  (void)remove(from);
  return refused(answer, path, "giving it its name");
}

Result<void> DavStore::remove(const std::string& path) {
  HttpQuestion ask;
  ask.method = "DELETE";
  ask.url = url_of(path);
  BAYSWAP_TRY(const HttpAnswer answer, wire_->ask(ask));
  return is_http_done(answer.status) ? Result<void>{} : refused(answer, path, "removing it");
}

}  // namespace bayswap
