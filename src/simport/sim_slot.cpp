#include "simport/sim_slot.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>

#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap::simport {
namespace {

using cart::LookAnswer;
using cart::Select;
using cart::Trouble;

Refused refuse(Trouble why, std::uint32_t detail = 0, std::string text = {}) {
  return cart::Refusal{why, detail, std::move(text)};
}

}  // namespace

Result<void> SimSlot::insert(const std::string& folder) {
  BAYSWAP_TRY(auto cartridge, Cartridge::open(folder));
  cartridge_ = std::move(cartridge);
  millivolts_ = 0;
  ++counter_;
  return {};
}

void SimSlot::remove() {
  cartridge_.reset();
  millivolts_ = 0;
  ++counter_;
}

LookAnswer SimSlot::look() {
  LookAnswer look;
  look.seat = !cartridge_ ? LookAnswer::Seat::none : badly_ ? LookAnswer::Seat::badly : LookAnswer::Seat::in;
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

Refused SimSlot::select(const Select& what, cart::SelectAnswer& said) {
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  space_ = what.space;
  if (what.space == Select::Space::rom) {
    said.bytes = static_cast<std::uint32_t>(cartridge_->rom.size());
    return std::nullopt;
  }
  const Chip* chip = cartridge_->chip.get();
  if (what.space != Select::Space::chip || chip == nullptr)
    return refuse(Trouble::unsupported, 0, "the cartridge has none");
  const ChipBuild& build = chip->build();
  // What is looked for in another way than the chip is built answers nothing.
  if (what.chip != to_text(build.kind)) return refuse(Trouble::unsupported, 0, "no such chip answers");
  said.bytes = static_cast<std::uint32_t>(what.bytes != 0 ? std::min<std::size_t>(what.bytes, build.bytes)
                                                          : build.bytes);
  said.write_bytes = static_cast<std::uint32_t>(build.write_bytes);
  said.sector_bytes = static_cast<std::uint32_t>(build.sector_bytes);
  return std::nullopt;
}

bool SimSlot::reads_badly() const {
  return badly_ || millivolts_ < cartridge_->millivolts;
}

Refused SimSlot::read(std::uint32_t at, std::span<Byte> into) {
  if (!cartridge_) return refuse(Trouble::no_cartridge);
  if (space_ == Select::Space::rom) {
    if (at + into.size() > cartridge_->rom.size()) return refuse(Trouble::out_of_range, at);
    std::copy_n(cartridge_->rom.view().begin() + static_cast<std::ptrdiff_t>(at), into.size(), into.begin());
  } else {
    cartridge_->chip->read(at, into);
  }
  if (reads_badly())
    for (Byte& b : into)
      if (dice_() % 4 == 0) b = static_cast<Byte>(dice_());
  return std::nullopt;
}

Refused SimSlot::write(std::uint32_t at, ByteView bytes) {
  if (!cartridge_ || !cartridge_->chip) return refuse(Trouble::no_cartridge);
  if (space_ != Select::Space::chip) return refuse(Trouble::unsupported);
  cartridge_->chip->write(at, bytes);
  wait(cartridge_->chip->take_busy_ms());
  return std::nullopt;
}

Refused SimSlot::erase(std::uint32_t at, std::uint32_t bytes) {
  if (!cartridge_ || !cartridge_->chip) return refuse(Trouble::no_cartridge);
  if (space_ != Select::Space::chip) return refuse(Trouble::unsupported);
  cartridge_->chip->erase(at, bytes);
  wait(cartridge_->chip->take_busy_ms());
  return std::nullopt;
}

}  // namespace bayswap::simport
