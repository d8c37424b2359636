// PLACE:GAME, CARD: ENTRY, a path or a game alone, each with @VERSION.
#include <bayswap/address.hpp>
#include <bayswap/cart_store.hpp>
#include <bayswap/remote_store.hpp>

#include <algorithm>

#include "base/text.hpp"

namespace bayswap {
namespace {

std::optional<FileInfo::Kind> kind_of(Store& disk, const std::string& path) {
  const auto info = path.empty() ? Result<std::optional<FileInfo>>(std::nullopt) : disk.stat(path);
  return info && *info ? std::optional((*info)->kind) : std::nullopt;
}

// "7", or as much of a version's id as is shown.
bool is_version(std::string_view text) {
  constexpr std::size_t shown = 8;
  constexpr std::size_t whole = 32;
  const bool is_number = std::ranges::all_of(text, is_digit);
  const bool is_hex = std::ranges::all_of(
      text, [](char c) { return is_digit(c) || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F'); });
  return !text.empty() && (is_number || (is_hex && text.size() >= shown)) && text.size() <= whole;
}

// The place before a colon, and what comes after it.
bool split_place(const Home& home, Store& disk, const std::string& text, Address& address) {
  for (std::size_t colon = text.find(':'); colon != std::string::npos; colon = text.find(':', colon + 1)) {
    if (colon == 0) continue;
    const std::string before = text.substr(0, colon);
    const std::string after = text.substr(colon + 1);
    const auto kind = kind_of(disk, before);
    const bool is_card = kind == FileInfo::Kind::file && after.starts_with(' ');
    const bool is_folder = kind == FileInfo::Kind::folder;
    if (!is_card && !is_folder && !has_bay_file(home, before) &&
        !(is_bay_name(before) && find_bay(home, before)))
      continue;
    address.place = before;
    // An entry's name alone can be on several cards of the place.
    address.what = is_card ? text : after;
    return true;
  }
  return false;
}

}  // namespace

Address address_from_text(const Home& home, Store& disk, const std::string& text) {
  Address address;
  if (kind_of(disk, text)) {
    address.what = text;
    return address;
  }
  if (is_cart_path(text) || !is_local_url(text)) {
    address.place = text;
    return address;
  }
  std::string rest = text;
  if (const auto at = rest.rfind('@'); at != std::string::npos && at > 0 && is_version(rest.substr(at + 1))) {
    address.version = rest.substr(at + 1);
    rest.resize(at);
  }
  if (kind_of(disk, rest) || !split_place(home, disk, rest, address)) address.what = rest;
  return address;
}

std::string to_text(const Address& address) {
  std::string text = address.what;
  if (!address.place.empty() && !text.starts_with(address.place + ": "))
    text = address.place + (text.empty() ? "" : ":" + text);
  return address.version.empty() ? text : text + "@" + address.version;
}

}  // namespace bayswap
