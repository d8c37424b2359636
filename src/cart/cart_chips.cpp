// Which chips a cartridge has, its clock, and the voltage that it is made for.
#include <bayswap/cart.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <ctime>

#include "base/try.hpp"
#include "cart/cart_inside.hpp"

namespace bayswap {
namespace {

using namespace cart;

constexpr std::size_t clock_bytes = 5;
constexpr std::int64_t day_seconds = 86400;
constexpr std::int64_t max_days = 512;  // of the counter; then a bit says that there were more
constexpr Byte is_over = 0x80;
constexpr std::int64_t a_moment = 2;  // seconds that asking takes at most

// What cartridges of a platform can have, where nothing tells. Bytes 0: the reader says.
std::vector<ChipFact> kinds_of(Platform platform) {
  const std::string asked = "only its answer shows that it is there";
  switch (platform) {
    case Platform::n64:
      return {{PartKind::eeprom, 0, asked}, {PartKind::flash, 131072, asked}, {PartKind::sram, 32768, asked}};
    case Platform::gba:
      return {{PartKind::flash, 0, asked}, {PartKind::eeprom, 0, asked}, {PartKind::sram, 32768, asked}};
    case Platform::nds:
      return {{PartKind::flash, 0, asked}};
    case Platform::ws:
    case Platform::md:
    case Platform::nes:
      return {{PartKind::eeprom, 0, asked}, {PartKind::sram, 0, asked}};
    default:
      return {{PartKind::sram, 0, asked}};
  }
}

}  // namespace

std::uint16_t volts_of(Platform platform) {
  constexpr std::uint16_t low = 3300;
  constexpr std::uint16_t high = 5000;
  switch (platform) {
    case Platform::gba:
    case Platform::n64:
    case Platform::nds:
    case Platform::n3ds:
    case Platform::ws:
    case Platform::ngp:
      return low;
    default:
      return high;
  }
}

Result<std::vector<CartChip>> CartPort::find_chips(const CartIdentity& game,
                                                   const std::vector<ChipFact>& said) {
  std::vector<ChipFact> asked = said;
  const bool known = !said.empty() || !game.rom.chips.empty() || game.rom.tells_chips;
  if (said.empty()) asked = game.rom.chips;
  if (!known) asked = kinds_of(game.rom.game.platform);
  // A pak is plugged into the reader beside the cartridge: nothing in the cartridge tells of it.
  const bool has_pak =
      std::ranges::any_of(asked, [](const ChipFact& one) { return one.kind == PartKind::pak; });
  if (game.rom.game.platform == Platform::n64 && said.empty() && !has_pak)
    asked.push_back({PartKind::pak, 32768, "a controller pak answers"});
  std::vector<CartChip> chips;
  for (const ChipFact& one : asked) {
    if (one.kind == PartKind::rtc) continue;
    // Of all that a platform's cartridges can have, one has one.
    const bool was_found = !known && !chips.empty();
    if (was_found && one.kind != PartKind::pak) continue;
    auto chip = find_chip(game, one);
    if (chip) {
      chips.push_back(*std::move(chip));
    } else if (chip.error().code != ErrorCode::unsupported) {
      return tl::unexpected(std::move(chip.error()));
    }
  }
  return chips;
}

Result<std::optional<std::int64_t>> CartPort::clock_start(const CartIdentity& game) {
  if (saves_as(game.rom.game.platform) != Platform::gb) return std::nullopt;
  Select what;
  what.space = Select::Space::clock;
  what.platform = tag(game.rom.game.platform);
  what.board = inside_->board;
  const auto said = inside_->select(what);
  if (!said && said.error().code == ErrorCode::unsupported) return std::nullopt;
  if (!said) return tl::unexpected(said.error());
  if (said->bytes != clock_bytes)
    return fail(ErrorCode::io, "the reader's clock makes no sense",
                "look whether there is a newer program for it");
  BAYSWAP_TRY(const Blob registers, read_here(game.counter, clock_bytes, 0, clock_bytes));
  const ByteView r = registers.view();
  const std::int64_t days = r[3] + 256 * (r[4] & 1) + ((r[4] & is_over) != 0 ? max_days : 0);
  return std::time(nullptr) - (r[0] + 60 * r[1] + 3600 * r[2] + day_seconds * days);
}

Result<void> CartPort::set_clock_start(const CartIdentity& game, std::int64_t start) {
  BAYSWAP_TRY(const auto before, clock_start(game));
  if (!before) return fail(ErrorCode::unsupported, "the cartridge has no clock", "");
  const std::int64_t seconds = std::max<std::int64_t>(std::time(nullptr) - start, 0);
  const std::int64_t days = seconds / day_seconds;
  const std::array<Byte, clock_bytes> registers{
      static_cast<Byte>(seconds % 60), static_cast<Byte>(seconds / 60 % 60),
      static_cast<Byte>(seconds / 3600 % 24), static_cast<Byte>(days % 256),
      static_cast<Byte>(days % max_days / 256 + (days >= max_days ? is_over : 0))};
  BAYSWAP_CHECK(inside_->talk.ask(ask_write, body_of_write(game.counter, 0, registers)));
  BAYSWAP_TRY(const auto after, clock_start(game));
  // Over twice the counter's days the bit stays: then the days come out of the counter alone.
  const std::int64_t wanted =
      days < 2 * max_days ? std::min<std::int64_t>(start, std::time(nullptr)) : *after;
  if (!after || *after - wanted > a_moment || wanted - *after > a_moment)
    return fail(ErrorCode::io, "the cartridge's clock was set, and shows another time",
                "its battery may be empty: change it, and set the clock again");
  return {};
}

}  // namespace bayswap
