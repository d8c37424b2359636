#include <bayswap/cart.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <random>
#include <sstream>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cart/talk.hpp"

namespace bayswap {
namespace {

using namespace cart;

// What the ROM's header says of the hardware, for the reader's banks.
std::uint16_t board_of(Platform platform, const Blob& head) {
  if (saves_as(platform) == Platform::gb && head.size() > 0x147) return head.view()[0x147];

  return 0;
}

std::string_view chip_word(PartKind kind) {
  switch (kind) {
    case PartKind::eeprom:
      return "eeprom";
    case PartKind::flash:
      return "flash";
    case PartKind::sram:
    case PartKind::pak:
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

tl::unexpected<Error> nonsense() {
  return fail(ErrorCode::io, "the reader's answer makes no sense",
              "unplug the reader and plug it in again; look whether there is a newer program for it");
}

}  // namespace

struct CartPort::Inside {
  explicit Inside(std::unique_ptr<Line> opened) : line(std::move(opened)), talk(*line) {}
  std::unique_ptr<Line> line;
  Talk talk;
  HelloAnswer reader;
  std::uint16_t board = 0;

  Result<SelectAnswer> select(const Select& what) {
    BAYSWAP_TRY(const auto body, talk.ask(ask_select, body_of(what)));
    const auto said = select_answer_in(body);
    if (!said) return nonsense();
    return *said;
  }
};

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
  BAYSWAP_TRY(inside->reader, inside->talk.hello(std::random_device{}()));
  return std::unique_ptr<CartPort>(new CartPort(std::move(inside)));
}

const std::string& CartPort::reader_name() const {
  return inside_->reader.name;
}
std::uint32_t CartPort::usual_rate() const {
  return inside_->reader.usual_rate;
}
void CartPort::tell(std::string_view what, std::uint64_t done, std::uint64_t total) const {
  if (on_progress) on_progress({what, done, total});
}

Result<CartLook> CartPort::look() {
  BAYSWAP_TRY(const auto body, inside_->talk.ask(ask_look, {}));
  const auto said = look_answer_in(body);
  if (!said) return nonsense();
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
  if (said && now.wanted != 0 && *said != now.wanted)
    return fail(ErrorCode::unsafe,
                fmt::format("the cartridge wants {:.1f} V, not {:.1f} V: it was given no power",
                            now.wanted / 1000.0, *said / 1000.0),
                "leave the voltage out, or set the reader's switch if it is that which is wrong");
  const std::uint16_t chosen =
      now.wanted != 0 ? now.wanted : said.value_or(*std::min_element(now.offered.begin(), now.offered.end()));
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
  std::optional<Error> failed;
  for (const Platform platform : now.platforms) {
    Select what;
    what.platform = tag(platform);
    auto space = inside_->select(what);
    if (!space && space.error().code == ErrorCode::unsupported) continue;
    if (!space) return tl::unexpected(std::move(space.error()));
    game.rom_bytes = space->bytes;
    RomSource source;
    source.size_bytes = space->bytes;
    source.read = [&](std::uint64_t at, std::size_t count) -> Result<Blob> {
      if (at >= space->bytes) return Blob();
      Buffer bytes(std::min<std::uint64_t>(count, space->bytes - at));
      if (bytes.bytes().empty()) return Blob();
      BAYSWAP_CHECK(inside_->talk.read(
          {now.counter, static_cast<std::uint32_t>(at), static_cast<std::uint32_t>(bytes.bytes().size())},
          [&](std::size_t where, ByteView piece) {
            std::copy(piece.begin(), piece.end(),
                      bytes.bytes().begin() + static_cast<std::ptrdiff_t>(where - at));
          }));
      return std::move(bytes).freeze();
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
    failed = std::move(rom.error());
  }
  return fail(ErrorCode::not_recognised, "the cartridge's header can't be read",
              "clean its contacts and put it in again; if the reader can't tell its voltage, say it");
}

Result<CartChip> CartPort::find_chip(const CartIdentity& game, const ChipFact& chip) {
  if (chip.kind == PartKind::pak || chip.kind == PartKind::rtc)
    return fail(ErrorCode::unsupported, "controller paks and clocks are not read through the port yet",
                "read the save chip of the cartridge");
  Select what;
  what.space = Select::Space::chip;
  what.platform = tag(game.rom.game.platform);
  what.bytes = static_cast<std::uint32_t>(chip.size_bytes);
  what.board = inside_->board;
  // Some boards have memory that needs no battery in the place of SRAM.
  std::vector<std::string_view> words{chip_word(chip.kind)};
  if (chip.kind == PartKind::sram) words.push_back("fram");
  std::optional<Error> failed;
  for (const std::string_view word : words) {
    what.chip = word;
    const auto said = inside_->select(what);
    if (!said) {
      failed = said.error();
      if (failed->code != ErrorCode::unsupported) break;
      continue;
    }
    return CartChip{game.counter, chip.kind, said->bytes, said->write_bytes, said->sector_bytes};
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
  tell(what, 0, bytes);
  BAYSWAP_CHECK(inside_->talk.read(
      {counter, 0, static_cast<std::uint32_t>(bytes)}, [&](std::size_t at, ByteView piece) {
        std::copy(piece.begin(), piece.end(), buffer.bytes().begin() + static_cast<std::ptrdiff_t>(at));
        done += piece.size();
        tell(what, done, bytes);
      }));
  return std::move(buffer).freeze();
}

Result<CartDump> CartPort::twice(std::uint32_t counter, std::uint64_t bytes) {
  constexpr std::size_t most_named = 4096;
  BAYSWAP_TRY(const Blob first, read_selected(counter, bytes, "reading"));
  CartDump dump;
  BAYSWAP_TRY(dump.bytes, read_selected(counter, bytes, "checking"));
  for (std::size_t i = 0; i < first.size(); ++i) {
    if (first.view()[i] == dump.bytes.view()[i]) continue;
    ++dump.unstable_count;
    if (dump.unstable.size() < most_named) dump.unstable.push_back(i);
  }
  return dump;
}

Result<CartDump> CartPort::dump_rom(const CartIdentity& game) {
  Select what;
  what.platform = tag(game.rom.game.platform);
  what.board = inside_->board;
  BAYSWAP_TRY(const SelectAnswer said, inside_->select(what));
  return twice(game.counter, said.bytes);
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
      std::max(chip.write_bytes, talk.most_written() / chip.write_bytes * chip.write_bytes);
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
    // Whole sectors after erasing; otherwise as many units as differ in a row.
    std::size_t end = at + bytes;
    if (chip.sector_bytes != 0) {
      BAYSWAP_CHECK(talk.ask(ask_erase, body_of(Range{chip.counter, static_cast<std::uint32_t>(at),
                                                      static_cast<std::uint32_t>(bytes)})));
    } else {
      while (end < chip.bytes && end - at < piece && differs(end, std::min(unit, chip.bytes - end)))
        end += std::min(unit, chip.bytes - end);
    }
    for (std::size_t from = at; from < end; from += piece) {
      const std::size_t count = std::min(piece, end - from);
      BAYSWAP_CHECK(talk.ask(ask_write, body_of_write(chip.counter, static_cast<std::uint32_t>(from),
                                                      wanted.view().subspan(from, count))));
      tell("writing", from + count, chip.bytes);
    }
    at = end;
  }
  BAYSWAP_CHECK(talk.ask(ask_settle, {}));
  return {};
}

Result<CartWrite> CartPort::write(const CartIdentity& game, const CartChip& chip, const Blob& bytes,
                                  int attempts) {
  if (bytes.size() != chip.bytes)
    return fail(ErrorCode::does_not_fit,
                fmt::format("the chip has {} bytes, not {}", chip.bytes, bytes.size()),
                "is it the save of this game?");
  if (chip.write_bytes == 0) return fail(ErrorCode::unsupported, "the reader can't write this chip", "");
  BAYSWAP_CHECK(select_chip(game, chip));
  CartWrite outcome;
  BAYSWAP_TRY(Blob now, read_selected(chip.counter, chip.bytes, "reading"));
  outcome.differing.push_back(count_differing(now.view(), bytes.view(), outcome.first_wrong));
  for (int i = 0; i < attempts && outcome.differing.back() > 0; ++i) {
    if (is_cancelled && is_cancelled()) break;
    // Once begun, an attempt goes to its end: a chip half written is worse than a wait.
    const auto asked = std::exchange(is_cancelled, nullptr);
    auto done = write_once(chip, now, bytes);
    auto read =
        done ? read_selected(chip.counter, chip.bytes, "checking") : tl::unexpected(std::move(done.error()));
    is_cancelled = asked;
    if (!read) return tl::unexpected(std::move(read.error()));
    now = *std::move(read);
    outcome.differing.push_back(count_differing(now.view(), bytes.view(), outcome.first_wrong));
  }
  outcome.equal = outcome.differing.back() == 0;
  return outcome;
}

}  // namespace bayswap
