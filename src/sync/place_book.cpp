#include "sync/place_book.hpp"

#include <algorithm>

#include "base/try.hpp"
#include "sync/wire.hpp"

namespace bayswap {
namespace {

constexpr std::uint8_t place_book_form = 1;
const std::string file_name = "places";
constexpr std::size_t max_size = std::size_t{256} << 20;

VersionId read_id(WireReader& in) {
  VersionId id;
  std::ranges::copy(in.raw(id.bytes.size()), id.bytes.begin());
  return id;
}

bool read_places(ByteView body, std::map<std::pair<std::string, std::string>, HeldPlace>& places,
                 std::map<std::string, PlaceBook::Rest>& rests) {
  WireReader in(body);
  if (in.u8() != place_book_form) return false;
  const std::uint32_t count = in.count(32);
  for (std::uint32_t i = 0; i < count && in.ok(); ++i) {
    HeldPlace place;
    for (std::string* text : {&place.bay, &place.key, &place.label, &place.path, &place.seen, &place.stamp,
                              &place.coming, &place.banked})
      *text = in.text(65536);
    place.version = read_id(in);
    place.coming_version = read_id(in);
    const std::uint8_t flags = in.u8();
    place.is_lost = (flags & 1) != 0;
    place.is_wanted_back = (flags & 2) != 0;
    place.is_known_lost = (flags & 4) != 0;
    place.is_unheard = (flags & 8) != 0;
    std::pair key(place.bay, place.key);
    places.emplace(std::move(key), std::move(place));
  }
  const std::uint32_t bays = in.count(64);
  for (std::uint32_t i = 0; i < bays && in.ok(); ++i) {
    PlaceBook::Rest& rest = rests[in.text(256)];
    rest.trace = in.text(max_size);
    rest.knowledge = in.digest();
    rest.rules = in.digest();
  }
  return in.at_end();
}

}  // namespace

Result<PlaceBook> PlaceBook::load(Store& store) {
  PlaceBook book;
  BAYSWAP_TRY(const auto file, store.read_if_there(file_name, max_size));
  if (!file || file->size() < sizeof(Digest::bytes)) return book;
  const ByteView body = file->view().first(file->size() - sizeof(Digest::bytes));
  if (!std::ranges::equal(sha256(body).bytes, file->view().last(sizeof(Digest::bytes))) ||
      !read_places(body, book.places_, book.rests_)) {
    book.places_.clear();
    book.rests_.clear();
  }
  return book;
}

Result<void> PlaceBook::save(Store& store) {
  if (!is_changed_) return {};
  WireWriter out;
  out.u8(place_book_form);
  out.u32(static_cast<std::uint32_t>(places_.size()));
  for (const auto& [key, place] : places_) {
    for (const std::string* text : {&place.bay, &place.key, &place.label, &place.path, &place.seen,
                                    &place.stamp, &place.coming, &place.banked})
      out.text(*text);
    out.raw(place.version.bytes);
    out.raw(place.coming_version.bytes);
    out.u8(static_cast<std::uint8_t>((place.is_lost ? 1 : 0) | (place.is_wanted_back ? 2 : 0) |
                                     (place.is_known_lost ? 4 : 0) | (place.is_unheard ? 8 : 0)));
  }
  out.u32(static_cast<std::uint32_t>(rests_.size()));
  for (const auto& [bay, rest] : rests_) {
    out.text(bay);
    out.text(rest.trace);
    out.raw(rest.knowledge.bytes);
    out.raw(rest.rules.bytes);
  }
  const Digest digest = sha256(out.view());
  out.raw(digest.bytes);
  BAYSWAP_CHECK(store.replace(file_name, out.view()));
  is_changed_ = false;
  return {};
}

HeldPlace* PlaceBook::find(const std::string& bay, const std::string& key) {
  const auto found = places_.find({bay, key});
  return found == places_.end() ? nullptr : &found->second;
}

std::vector<HeldPlace*> PlaceBook::of_bay(const std::string& bay) {
  std::vector<HeldPlace*> all;
  for (auto at = places_.lower_bound({bay, ""}); at != places_.end() && at->first.first == bay; ++at)
    all.push_back(&at->second);
  return all;
}

const PlaceBook::Rest* PlaceBook::rest_of(const std::string& bay) const {
  const auto found = rests_.find(bay);
  return found == rests_.end() ? nullptr : &found->second;
}

void PlaceBook::set_rest(const std::string& bay, std::optional<Rest> rest) {
  if (!rest) {
    is_changed_ = rests_.erase(bay) > 0 || is_changed_;
    return;
  }
  rests_.insert_or_assign(bay, *std::move(rest));
  is_changed_ = true;
}

void PlaceBook::set(HeldPlace place) {
  std::pair key(place.bay, place.key);
  places_.insert_or_assign(std::move(key), std::move(place));
  is_changed_ = true;
}

void PlaceBook::remove(const std::string& bay, const std::string& key) {
  is_changed_ = places_.erase({bay, key}) > 0 || is_changed_;
}

}  // namespace bayswap
