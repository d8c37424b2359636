// How people name a save: in one form for every command. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/export.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A save as a user named it: PLACE:GAME, CARD: ENTRY, a path, or a game alone; each with @VERSION.
struct Address {
  std::string place;    // a bay's name, a path, a URL or "cart:" and a line; empty: none was named
  std::string what;     // as find_saves takes it; empty: every save there
  std::string version;  // an entry's number or the beginning of a version's id; empty: as it is now
};

/// Parses an address. What exists in `disk` under the whole text is a path, whatever characters it has. A
/// path that does not exist is left to the commands, which know what should be there. `home` has the bays.
[[nodiscard]] Address address_from_text(const Home& home, Store& disk, const std::string& text);

/// Returns the address as it can be typed. The opposite of address_from_text.
[[nodiscard]] std::string to_text(const Address& address);

}  // namespace bayswap
BAYSWAP_EXPORT_END
