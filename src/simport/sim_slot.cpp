#include "simport/sim_slot.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <ctime>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap::simport {
namespace {

using cart::LookAnswer;
using cart::Select;
using cart::Trouble;

Refused refuse(Trouble why, std::uint32_t detail = 0, std::string text = {}) {
  return cart::Refusal{why, detail, std::move(text)};
}

// An md header's RAM type: which half of each word the memory is wired to.
Lanes lanes_of(std::uint16_t board) {
  switch (board & 0x18U) {
    case 0:
      return Lanes::both;
    case 0x10:
      return Lanes::even;
    default:
      return Lanes::odd;
  }
}

}  // namespace

Result<void> SimSlot::insert(const std::string& folder) {
  BAYSWAP_TRY(auto cartridge, Cartridge::open(folder));
  cartridge_ = std::move(cartridge);
  chip_ = nullptr;
  millivolts_ = 0;
  ++counter_;
  return {};
}

void SimSlot::remove() {
  cartridge_.reset();
  chip_ = nullptr;
  millivolts_ = 0;
  ++counter_;
}

LookAnswer SimSlot::look() {
  LookAnswer look;
  look.seat = !cartridge_            ? LookAnswer::Seat::none
              : seat_ == Seat::badly ? LookAnswer::Seat::badly
                                     : LookAnswer::Seat::in;
  look.counter = counter_;
  look.millivolts = millivolts_;
  look.offered = {3300, 5000};
  look.platforms = "gb gbc gba nes snes md n64 sms gg pce ws nds";
  if (cartridge_ && cartridge_->tells_voltage) {
    look.wanted = cartridge_->millivolts;
    look.platforms = cartridge_->platform;
  }
  return look;
}

Refused SimSlot::power(std::uint16_t millivolts) {
  if (millivolts == 0) {
    if (cartridge_ && millivolts_ != 0)
      for (const auto& chip : {cartridge_->chip.get(), cartridge_->pak.get()})
        if (chip != nullptr) chip->lose_power();
    millivolts_ = 0;
    return std::nullopt;
  }
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  if (millivolts != 3300 && millivolts != 5000)
    return refuse(Trouble::voltage, millivolts, "it has 3300 and 5000");
  if (millivolts > cartridge_->millivolts) {
    if (cartridge_->tells_voltage)
      return refuse(Trouble::voltage, millivolts, "the switch is at another one");
    // Nobody could know: a test sees that it has happened.
    const int fd =
        ::open(join_path(cartridge_->folder, "too-many-volts").c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
    if (fd >= 0) close(fd);
  }
  millivolts_ = millivolts;
  return std::nullopt;
}

Refused SimSlot::select_clock(cart::SelectAnswer& said) {
  if (!cartridge_->clock) return refuse(Trouble::unsupported, 0, "the cartridge has no clock");
  latched_ = cartridge_->clock->registers(std::time(nullptr));
  said.bytes = RunningClock::bytes;
  said.write_bytes = RunningClock::bytes;
  return std::nullopt;
}

Refused SimSlot::select(const Select& what, cart::SelectAnswer& said) {
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  space_ = what.space;
  if (what.space == Select::Space::clock) return select_clock(said);
  if (what.space == Select::Space::rom) {
    if (cartridge_->rom.empty()) return refuse(Trouble::unsupported, 0, "there is no ROM");
    said.bytes = static_cast<std::uint32_t>(cartridge_->rom.size());
    return std::nullopt;
  }
  const bool wants_pak = what.chip == to_text(ChipKind::pak);
  chip_ = wants_pak && cartridge_->pak ? cartridge_->pak.get() : cartridge_->chip.get();
  if (chip_ == nullptr) return refuse(Trouble::unsupported, 0, "the cartridge has none");
  const ChipBuild& build = chip_->build();
  asked_lanes_ =
      cartridge_->platform == "md" && build.kind == ChipKind::sram ? lanes_of(what.board) : cartridge_->lanes;
  // What is looked for in another way than the chip is built answers nothing.
  if (what.chip != to_text(build.kind)) return refuse(Trouble::unsupported, 0, "no such chip answers");
  // Serial chips and flash say how large they are. Memory on the bus does not: it comes again and again.
  const bool tells_size = build.kind == ChipKind::eeprom || build.kind == ChipKind::flash;
  if (tells_size && what.bytes != 0 && what.bytes != build.bytes)
    return refuse(Trouble::unsupported, static_cast<std::uint32_t>(build.bytes), "the chip has another size");
  said.bytes = static_cast<std::uint32_t>(what.bytes != 0 ? what.bytes : build.bytes);
  said.write_bytes = static_cast<std::uint32_t>(build.write_bytes);
  said.sector_bytes = static_cast<std::uint32_t>(build.sector_bytes);
  return std::nullopt;
}

bool SimSlot::reads_badly() const {
  return seat_ != Seat::well || millivolts_ < cartridge_->millivolts;
}

Refused SimSlot::read(std::uint32_t at, std::span<Byte> into) {
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  if (space_ == Select::Space::rom) {
    if (at + into.size() > cartridge_->rom.size()) return refuse(Trouble::out_of_range, at);
    std::copy_n(cartridge_->rom.view().begin() + static_cast<std::ptrdiff_t>(at), into.size(), into.begin());
  } else if (space_ == Select::Space::clock) {
    if (at + into.size() > latched_.size()) return refuse(Trouble::out_of_range, at);
    std::copy_n(latched_.begin() + at, into.size(), into.begin());
  } else {
    read_lanes(at, into);
  }
  if (reads_badly())
    for (Byte& b : into)
      if (dice_() % 4 == 0) b = static_cast<Byte>(dice_());
  return std::nullopt;
}

std::optional<std::size_t> SimSlot::on_lanes(std::size_t at) const {
  if (asked_lanes_ == cartridge_->lanes) return at;
  if (cartridge_->lanes == Lanes::both) return 2 * at + (asked_lanes_ == Lanes::odd ? 1 : 0);
  const bool is_odd = at % 2 == 1;
  if (asked_lanes_ == Lanes::both && is_odd == (cartridge_->lanes == Lanes::odd)) return at / 2;
  return std::nullopt;
}

void SimSlot::read_lanes(std::uint32_t at, std::span<Byte> into) {
  if (asked_lanes_ == cartridge_->lanes) {
    chip_->read(at, into);
    return;
  }
  for (std::size_t i = 0; i < into.size(); ++i) {
    into[i] = 0xff;
    if (const auto where = on_lanes(at + i)) chip_->read(*where, into.subspan(i, 1));
  }
}

Refused SimSlot::write(std::uint32_t at, ByteView bytes) {
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  if (space_ == Select::Space::clock) {
    std::array<Byte, RunningClock::bytes> registers{};
    if (!cartridge_->clock || at != 0 || bytes.size() != registers.size())
      return refuse(Trouble::out_of_range, at);
    std::copy(bytes.begin(), bytes.end(), registers.begin());
    cartridge_->clock->set(registers, std::time(nullptr));
    return std::nullopt;
  }
  if (space_ != Select::Space::chip || chip_ == nullptr) return refuse(Trouble::unsupported);
  if (asked_lanes_ == cartridge_->lanes) {
    chip_->write(at, bytes);
  } else {
    for (std::size_t i = 0; i < bytes.size(); ++i)
      if (const auto where = on_lanes(at + i)) chip_->write(*where, bytes.subspan(i, 1));
  }
  wait(chip_->take_busy_ms());
  return std::nullopt;
}

Refused SimSlot::erase(std::uint32_t at, std::uint32_t bytes) {
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  if (space_ != Select::Space::chip || chip_ == nullptr) return refuse(Trouble::unsupported);
  chip_->erase(at, bytes);
  wait(chip_->take_busy_ms());
  return std::nullopt;
}

}  // namespace bayswap::simport
