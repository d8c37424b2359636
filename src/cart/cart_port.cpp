#include <bayswap/cart.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <random>
#include <sstream>
#include <thread>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cart/cart_inside.hpp"

namespace bayswap {
namespace {

using namespace cart;

// What the ROM's header says of the hardware, for the reader's banks.
std::uint16_t board_of(Platform platform, const Blob& head) {
  if (saves_as(platform) == Platform::gb && head.size() > 0x147) return head.view()[0x147];
  // The type in the entry of external RAM: whether it is wired to odd, even or all addresses.
  if (platform == Platform::md && head.size() > 0x1b2 && head.view()[0x1b0] == 'R') return head.view()[0x1b2];

  return 0;
}

// As the reader can tell, or as all cartridges are that fit its slot.
std::uint16_t wanted_by(const CartLook& look) {
  if (look.wanted != 0 || look.platforms.empty()) return look.wanted;
  const std::uint16_t first = volts_of(look.platforms.front());
  const bool all = std::ranges::all_of(look.platforms, [&](Platform one) { return volts_of(one) == first; });
  return all ? first : std::uint16_t{0};
}

constexpr std::size_t small_gap = 64;  // bytes; a question takes about as many

std::string_view chip_word(PartKind kind) {
  switch (kind) {
    case PartKind::eeprom:
      return "eeprom";
    case PartKind::flash:
      return "flash";
    case PartKind::pak:
      return "pak";
    case PartKind::sram:
    case PartKind::rtc:
      break;
  }
  return "sram";
}

std::size_t count_differing(ByteView a, ByteView b, std::size_t& first) {
  std::size_t count = 0;
  for (std::size_t i = 0; i < a.size(); ++i) {
    if (a[i] == b[i]) continue;
    if (count++ == 0) first = i;
  }
  return count;
}

}  // namespace

CartPort::CartPort(std::unique_ptr<Inside> inside) : inside_(std::move(inside)) {
  inside_->talk.is_cancelled = [this] { return is_cancelled && is_cancelled(); };
}

CartPort::~CartPort() {
  is_cancelled = nullptr;
  (void)power_down();
}

Result<std::unique_ptr<CartPort>> CartPort::open(const std::string& device) {
  BAYSWAP_TRY(auto line, open_serial(device));
  auto inside = std::make_unique<Inside>(std::move(line));
  auto hello = inside->talk.hello(std::random_device{}());
  if (!hello) {
    hello.error().message = fmt::format("{}: {}", device, hello.error().message);
    return tl::unexpected(std::move(hello.error()));
  }
  inside->reader = *std::move(hello);
  return std::unique_ptr<CartPort>(new CartPort(std::move(inside)));
}

const std::string& CartPort::reader_name() const {
  return inside_->reader.name;
}
std::uint32_t CartPort::usual_rate() const {
  return inside_->reader.usual_rate;
}
void CartPort::report_progress(std::string_view what, std::uint64_t done, std::uint64_t total) const {
  if (on_progress) on_progress({what, done, total});
}

Result<CartLook> CartPort::look() {
  BAYSWAP_TRY(const auto body, inside_->talk.ask(ask_look, {}));
  const auto said = look_answer_in(body);
  if (!said) return cart::nonsense();
  CartLook look;
  look.seat = static_cast<CartLook::Seat>(said->seat);
  look.counter = said->counter;
  look.millivolts = said->millivolts;
  look.wanted = said->wanted;
  look.offered = said->offered;
  std::istringstream words(said->platforms);
  for (std::string word; words >> word;)
    if (const auto platform = platform_from_tag(word)) look.platforms.push_back(*platform);
  return look;
}

Result<void> CartPort::power_up(std::optional<std::uint16_t> said) {
  BAYSWAP_TRY(const CartLook now, look());
  if (now.seat == CartLook::Seat::empty)
    return fail(ErrorCode::not_found, "no cartridge is in the reader",
                "put one in, straight and all the way");
  if (now.seat == CartLook::Seat::badly)
    return fail(ErrorCode::not_found, "the cartridge sits badly",
                "take it out, clean its contacts, and put it in straight and all the way");
  if (now.offered.empty()) return nonsense();
  const std::uint16_t wanted = wanted_by(now);
  if (said && wanted != 0 && *said != wanted)
    return fail(ErrorCode::unsafe,
                fmt::format("the cartridge wants {:.1f} V, not {:.1f} V: it was given no power",
                            wanted / 1000.0, *said / 1000.0),
                "leave the voltage out, or set the reader's switch if it is that which is wrong");
  const std::uint16_t chosen =
      wanted != 0 ? wanted : said.value_or(*std::min_element(now.offered.begin(), now.offered.end()));
  if (std::find(now.offered.begin(), now.offered.end(), chosen) == now.offered.end())
    return fail(ErrorCode::unsupported, fmt::format("the reader has no {:.1f} V", chosen / 1000.0),
                "choose one that it has");
  BAYSWAP_CHECK(inside_->talk.ask(ask_power, body_of_voltage(chosen)));
  return {};
}

Result<void> CartPort::power_down() {
  BAYSWAP_CHECK(inside_->talk.ask(ask_power, body_of_voltage(0)));
  return {};
}

Result<CartIdentity> CartPort::identify() {
  BAYSWAP_TRY(const CartLook now, look());
  CartIdentity game;
  game.counter = now.counter;
  for (const Platform platform : now.platforms) {
    Select what;
    what.platform = tag(platform);
    auto space = inside_->select(what);
    if (!space && space.error().code == ErrorCode::unsupported) {
      if (now.platforms.size() == 1) {
        game.rom.game.platform = platform;
        return game;
      }
      continue;
    }
    if (!space) return tl::unexpected(std::move(space.error()));
    game.rom_bytes = space->bytes;
    RomSource source;
    source.size_bytes = space->bytes;
    source.read = [&](std::uint64_t at, std::size_t count) {
      constexpr std::uint64_t header = 0x10000;
      if (at >= header)
        report_progress("looking", at, space->bytes);  // for a library's name, through all of it
      return read_here(now.counter, space->bytes, at, count);
    };
    auto rom = identify_rom(source);
    if (rom) {
      BAYSWAP_CHECK(find_chip_tags(source, *rom));
      BAYSWAP_TRY(const Blob head, source.read(0, 0x200));
      inside_->board = board_of(rom->game.platform, head);
      game.rom = *std::move(rom);
      return game;
    }
    if (rom.error().code != ErrorCode::not_recognised) return tl::unexpected(std::move(rom.error()));
    if (platform == Platform::pce && now.platforms.size() == 1) {
      game.rom.game.platform = platform;
      game.rom.evidence.emplace_back("the slot takes pce cards, which have no header");
      return game;
    }
  }
  return fail(ErrorCode::not_recognised, "the cartridge's header can't be read",
              "clean its contacts and put it in again; if the reader can't detect its voltage, pass it");
}

Result<CartChip> CartPort::find_chip(const CartIdentity& game, const ChipFact& chip) {
  if (chip.kind == PartKind::rtc) return fail(ErrorCode::unsupported, "a clock is no save chip", "");
  Select what;
  what.space = Select::Space::chip;
  what.platform = tag(game.rom.game.platform);
  what.bytes = static_cast<std::uint32_t>(chip.size_bytes);
  what.board = inside_->board;
  // Some boards have memory that needs no battery in the place of SRAM.
  std::vector<std::string_view> words{chip_word(chip.kind)};
  if (chip.kind == PartKind::sram) words.push_back("fram");
  // The saves of nds cartridges are alike, whatever the chip.
  if (game.rom.game.platform == Platform::nds) words = {"flash", "eeprom", "fram"};
  std::optional<Error> failed;
  for (const std::string_view word : words) {
    what.chip = word;
    const auto said = inside_->select(what);
    if (!said) {
      failed = said.error();
      if (failed->code != ErrorCode::unsupported) break;
      continue;
    }
    CartChip found{game.counter,      chip.kind,          said->bytes,
                   said->write_bytes, said->sector_bytes, word == "sram" || word == "pak",
                   chip.evidence};
    if (chip.size_bytes == 0) {
      if (!found.evidence.empty()) found.evidence += "; ";
      found.evidence += fmt::format("{} of {} bytes answers", word, found.bytes);
    }
    return found;
  }
  return tl::unexpected(*std::move(failed));
}

Result<void> CartPort::select_chip(const CartIdentity& game, const CartChip& chip) {
  BAYSWAP_TRY(const CartChip now, find_chip(game, {chip.kind, chip.bytes, {}}));
  if (now.bytes != chip.bytes || now.write_bytes != chip.write_bytes || now.sector_bytes != chip.sector_bytes)
    return fail(ErrorCode::busy, "the reader sees another chip than a moment ago",
                "look what is in it, and start again");
  return {};
}

Result<Blob> CartPort::read_selected(std::uint32_t counter, std::uint64_t bytes, std::string_view what) {
  if (bytes == 0 || bytes > 0xffffffff)
    return fail(ErrorCode::does_not_fit, "there is nothing to read there", "");
  Buffer buffer(static_cast<std::size_t>(bytes));
  std::uint64_t done = 0;
  report_progress(what, 0, bytes);
  BAYSWAP_CHECK(inside_->talk.read(
      {counter, 0, static_cast<std::uint32_t>(bytes)}, [&](std::size_t at, ByteView piece) {
        std::copy(piece.begin(), piece.end(), buffer.bytes().begin() + static_cast<std::ptrdiff_t>(at));
        done += piece.size();
        report_progress(what, done, bytes);
      }));
  return std::move(buffer).freeze();
}

Result<Blob> CartPort::read_here(std::uint32_t counter, std::uint64_t end, std::uint64_t at,
                                 std::size_t count) {
  if (at >= end || count == 0) return Blob();
  Buffer bytes(static_cast<std::size_t>(std::min<std::uint64_t>(count, end - at)));
  BAYSWAP_CHECK(inside_->talk.read(
      {counter, static_cast<std::uint32_t>(at), static_cast<std::uint32_t>(bytes.bytes().size())},
      [&](std::size_t where, ByteView piece) {
        std::copy(piece.begin(), piece.end(),
                  bytes.bytes().begin() + static_cast<std::ptrdiff_t>(where - at));
      }));
  return std::move(bytes).freeze();
}

Result<Blob> CartPort::read_rom(const CartIdentity& game, std::uint64_t at, std::size_t count) {
  Select what;
  what.platform = tag(game.rom.game.platform);
  what.board = inside_->board;
  BAYSWAP_TRY(const SelectAnswer said, inside_->select(what));
  return read_here(game.counter, said.bytes, at, count);
}

Result<CartDump> CartPort::twice(std::uint32_t counter, std::uint64_t bytes) {
  constexpr std::size_t max_named = 4096;
  BAYSWAP_TRY(const Blob first, read_selected(counter, bytes, "reading"));
  CartDump dump;
  BAYSWAP_TRY(dump.bytes, read_selected(counter, bytes, "checking"));
  for (std::size_t i = 0; i < first.size(); ++i) {
    if (first.view()[i] == dump.bytes.view()[i]) continue;
    ++dump.unstable_count;
    if (dump.unstable.size() < max_named) dump.unstable.push_back(i);
  }
  return dump;
}

Result<void> CartPort::read_whole_rom(const CartIdentity& game, std::string_view what, const TakeRom& take) {
  Select rom;
  rom.platform = tag(game.rom.game.platform);
  rom.board = inside_->board;
  BAYSWAP_TRY(const SelectAnswer said, inside_->select(rom));
  std::uint64_t done = 0;
  std::optional<Error> failed;
  report_progress(what, 0, said.bytes);
  BAYSWAP_CHECK(inside_->talk.read({game.counter, 0, said.bytes}, [&](std::size_t at, ByteView piece) {
    if (failed) return;
    if (auto taken = take(at, piece); !taken) failed = std::move(taken.error());
    done += piece.size();
    report_progress(what, done, said.bytes);
  }));
  if (failed) return tl::unexpected(*std::move(failed));
  return {};
}

Result<CartDump> CartPort::dump(const CartIdentity& game, const CartChip& chip) {
  BAYSWAP_CHECK(select_chip(game, chip));
  return twice(chip.counter, chip.bytes);
}

Result<void> CartPort::write_once(const CartChip& chip, const Blob& now, const Blob& wanted) {
  Talk& talk = inside_->talk;
  const std::size_t unit =
      chip.sector_bytes != 0 ? chip.sector_bytes : std::max<std::size_t>(chip.write_bytes, 1);
  const std::size_t piece =
      std::max(chip.write_bytes, talk.max_write_bytes() / chip.write_bytes * chip.write_bytes);
  const auto differs = [&](std::size_t at, std::size_t bytes) {
    return !std::equal(wanted.view().begin() + static_cast<std::ptrdiff_t>(at),
                       wanted.view().begin() + static_cast<std::ptrdiff_t>(at + bytes),
                       now.view().begin() + static_cast<std::ptrdiff_t>(at));
  };
  for (std::size_t at = 0; at < chip.bytes;) {
    const std::size_t bytes = std::min(unit, chip.bytes - at);
    if (!differs(at, bytes)) {
      at += bytes;
      continue;
    }
    // Whole sectors after erasing; otherwise as many units as differ in a row. Memory on the bus does not
    // wear: a few bytes that are right already are written again, which is faster than another question.
    std::size_t end = at + bytes;
    const std::size_t gap = chip.kind == PartKind::sram ? small_gap : 0;
    if (chip.sector_bytes != 0) {
      BAYSWAP_CHECK(talk.ask(ask_erase, body_of(Range{chip.counter, static_cast<std::uint32_t>(at),
                                                      static_cast<std::uint32_t>(bytes)})));
    } else {
      for (std::size_t next = end; next < chip.bytes && next - at < piece && next - end <= gap;) {
        const std::size_t one = std::min(unit, chip.bytes - next);
        const bool differs_there = differs(next, one);
        next += one;
        if (differs_there) end = next;
      }
    }
    for (std::size_t from = at; from < end; from += piece) {
      const std::size_t count = std::min(piece, end - from);
      BAYSWAP_CHECK(talk.ask(ask_write, body_of_write(chip.counter, static_cast<std::uint32_t>(from),
                                                      wanted.view().subspan(from, count))));
      report_progress("writing", from + count, chip.bytes);
    }
    at = end;
  }
  BAYSWAP_CHECK(talk.ask(ask_settle, {}));
  return {};
}

Result<CartWrite> CartPort::write(const CartIdentity& game, const CartChip& chip, const Blob& bytes,
                                  int attempts, const Blob* only_if) {
  if (bytes.size() != chip.bytes)
    return fail(ErrorCode::does_not_fit,
                fmt::format("the chip has {} bytes, not {}", chip.bytes, bytes.size()),
                "is it the save of this game?");
  if (chip.write_bytes == 0) return fail(ErrorCode::unsupported, "the reader can't write this chip", "");
  BAYSWAP_CHECK(select_chip(game, chip));
  CartWrite outcome;
  BAYSWAP_TRY(Blob now, read_selected(chip.counter, chip.bytes, "reading"));
  if (only_if != nullptr && now != *only_if)
    return fail(ErrorCode::busy, "the chip does not hold what it held a moment ago",
                "is it another cartridge of the same game? Look what is in it, and start again");
  const auto count = [&](int attempt) {
    outcome.differing.push_back(count_differing(now.view(), bytes.view(), outcome.first_wrong));
    if (on_attempt) on_attempt(attempt, outcome.differing.back());
  };
  count(0);
  for (int i = 0; i < attempts && outcome.differing.back() > 0; ++i) {
    if (is_cancelled && is_cancelled()) break;
    // Once begun, an attempt goes to its end: a chip half written is worse than a wait.
    const auto asked = std::exchange(is_cancelled, nullptr);
    auto done = write_once(chip, now, bytes);
    auto read =
        done ? read_selected(chip.counter, chip.bytes, "checking") : tl::unexpected(std::move(done.error()));
    is_cancelled = asked;
    if (!read) {
      // Whatever it was, bytes may have changed.
      read.error().code = ErrorCode::io;
      return tl::unexpected(std::move(read.error()));
    }
    now = *std::move(read);
    count(i + 1);
  }
  outcome.equal = outcome.differing.back() == 0;
  if (!outcome.equal || outcome.differing.size() == 1) return outcome;
  // A flat battery keeps what was written for as long as there is power; so does a reader's own memory.
  const auto asked = std::exchange(is_cancelled, nullptr);
  auto kept = read_after_power_off(game, chip);
  is_cancelled = asked;
  if (!kept) {
    kept.error().code = ErrorCode::io;
    return tl::unexpected(std::move(kept.error()));
  }
  now = *std::move(kept);
  if (now == bytes) return outcome;
  outcome.differing.push_back(count_differing(now.view(), bytes.view(), outcome.first_wrong));
  outcome.equal = false;
  outcome.forgets = true;
  return outcome;
}

Result<Blob> CartPort::read_after_power_off(const CartIdentity& game, const CartChip& chip) {
  BAYSWAP_TRY(const CartLook powered, look());
  BAYSWAP_CHECK(power_down());
  constexpr std::chrono::milliseconds off{
      200};  // beside what the reader itself waits (docs/cart-protocol.md)
  std::this_thread::sleep_for(off);
  BAYSWAP_CHECK(power_up(powered.millivolts));
  BAYSWAP_CHECK(select_chip(game, chip));
  return read_selected(chip.counter, chip.bytes, "checking");
}

}  // namespace bayswap
