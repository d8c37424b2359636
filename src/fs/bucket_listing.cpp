#include "fs/bucket_listing.hpp"

#include <charconv>
#include <chrono>

#include "fs/xml_events.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_bucket_entries = 200000;

class Listing final : public XmlEvents {
 public:
  BucketListing all;
  bool is_listing = false;

  bool start(std::string_view name) override {
    const std::string_view what = own(name);
    if (depth_++ == 0) is_listing = what == "ListBucketResult";
    if (all.objects.size() + all.prefixes.size() >= max_bucket_entries) return false;
    if (what == "Contents") {
      all.objects.emplace_back();
      is_object_ = true;
    }
    if (what == "CommonPrefixes") is_prefix_ = true;
    return true;
  }

  bool end(std::string_view name, const std::string& text) override {
    const std::string_view what = own(name);
    --depth_;
    if (what == "Contents") is_object_ = false;
    if (what == "CommonPrefixes") is_prefix_ = false;
    if (is_prefix_ && what == "Prefix") all.prefixes.push_back(text);
    if (what == "NextContinuationToken") all.next = text;
    if (!is_object_) return true;
    BucketObject& one = all.objects.back();
    if (what == "Key") one.key = text;
    if (what == "Size") (void)std::from_chars(text.data(), text.data() + text.size(), one.size_bytes);
    if (what == "LastModified") one.modified = text;
    if (what == "ETag") one.tag = text;
    return true;
  }

 private:
  // Servers differ in the namespace, and some have none.
  static std::string_view own(std::string_view name) {
    const auto space = name.rfind(' ');
    return space == std::string_view::npos ? name : name.substr(space + 1);
  }

  int depth_ = 0;
  bool is_object_ = false;
  bool is_prefix_ = false;
};

}  // namespace

Result<BucketListing> bucket_listing_from(ByteView xml) {
  Listing listing;
  if (!read_xml(xml, listing) || !listing.is_listing)
    return fail(ErrorCode::damaged, "the server's list of objects can't be read",
                "see that the URL is that of an object store, and names a bucket");
  return std::move(listing.all);
}

std::int64_t seconds_of_timestamp(std::string_view text) {
  // 2026-11-26T20:00:00.000Z; 20261126200000 without the marks.
  std::string digits;
  for (const char c : text) {
    if (c == '.') break;
    if (c >= '0' && c <= '9') digits += c;
  }
  constexpr std::size_t size = 14;
  if (digits.size() != size) return 0;
  const auto number = [&](std::size_t at, std::size_t count) {
    int value = 0;
    (void)std::from_chars(digits.data() + at, digits.data() + at + count, value);
    return value;
  };
  const std::chrono::year_month_day day{std::chrono::year(number(0, 4)),
                                        std::chrono::month(static_cast<unsigned>(number(4, 2))),
                                        std::chrono::day(static_cast<unsigned>(number(6, 2)))};
  if (!day.ok()) return 0;
  constexpr std::int64_t day_seconds = 86400;
  const std::int64_t days = std::chrono::sys_days(day).time_since_epoch().count();
  return days * day_seconds + number(8, 2) * 3600 + number(10, 2) * 60 + number(12, 2);
}

}  // namespace bayswap
