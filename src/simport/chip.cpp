#include "simport/chip.hpp"

#include <algorithm>
#include <array>
#include <utility>

namespace bayswap::simport {
namespace {

constexpr std::array<std::string_view, 5> kind_words{"sram", "fram", "eeprom", "flash", "pak"};

}  // namespace

std::optional<ChipKind> chip_kind_from_text(std::string_view text) {
  for (std::size_t i = 0; i < kind_words.size(); ++i)
    if (kind_words.at(i) == text) return static_cast<ChipKind>(i);
  return std::nullopt;
}
std::string_view to_text(ChipKind kind) {
  return kind_words.at(static_cast<std::size_t>(kind));
}

ChipBuild build_of(std::string_view platform, ChipKind kind, std::size_t bytes) {
  ChipBuild build;
  build.kind = kind;
  build.bytes = bytes;
  switch (kind) {
    case ChipKind::sram:
    case ChipKind::fram:
      break;
    case ChipKind::pak:
      build.write_bytes = 32;  // goes over the controller's line with a checksum
      break;
    case ChipKind::eeprom:
      // gba and n64 write 64 bits at once, nds a page, the others a word or a byte.
      build.write_bytes = platform == "gba" || platform == "n64" ? 8
                          : platform == "nds"                    ? (bytes <= 512    ? 16
                                                                    : bytes <= 8192 ? 32
                                                                                    : 128)
                          : platform == "ws"                     ? 2
                                                                 : 1;
      build.write_ms = 5;
      break;
    case ChipKind::flash:
      build.write_bytes = platform == "n64" ? 128 : platform == "nds" ? 256 : 1;
      build.sector_bytes = platform == "n64" ? 16384 : platform == "nds" ? 65536 : 4096;
      build.erase_ms = 20;
      break;
  }
  build.sector_bytes = std::min(build.sector_bytes, bytes);
  return build;
}

Chip::Chip(const ChipBuild& build, std::vector<Byte> image, const ChipFaults& faults,
           std::function<void(std::size_t at, ByteView bytes)> changed)
    : build_(build), image_(std::move(image)), faults_(faults), changed_(std::move(changed)) {
  image_.resize(build_.bytes, 0xff);
  lose_power();
}

void Chip::lose_power() {
  if (!faults_.flat_battery || (build_.kind != ChipKind::sram && build_.kind != ChipKind::pak)) return;
  std::fill(image_.begin(), image_.end(), Byte{0xff});
  notify(0, image_.size());
}

std::size_t Chip::wired(std::size_t at) const {
  at %= build_.bytes;
  return faults_.dead_line ? at & ~(std::size_t{1} << *faults_.dead_line) : at;
}

void Chip::read(std::size_t at, std::span<Byte> into) {
  for (std::size_t i = 0; i < into.size(); ++i) {
    Byte value = image_[wired(at + i)];
    if (faults_.stuck_bit) value = static_cast<Byte>(value | 1U << *faults_.stuck_bit);
    into[i] = value;
  }
  // A reading of the whole chip has `decay` wrong bytes, in other places each time.
  for (int i = 0; i < faults_.decay; ++i) {
    const std::size_t where = dice_() % build_.bytes;
    if (where >= at && where < at + into.size())
      into[where - at] = static_cast<Byte>(into[where - at] ^ (1U << dice_() % 8));
  }
}

void Chip::put(std::size_t at, Byte value) {
  const std::size_t where = wired(at);
  if (faults_.worn_cell == where) return;
  image_[where] = value;
}

// Whether this write is one of those that do nothing.
bool Chip::ignores() {
  if (faults_.ignored_writes == 0) return false;
  --faults_.ignored_writes;
  return true;
}

// All that lies between the first and the last byte that was touched.
void Chip::notify(std::size_t at, std::size_t bytes) const {
  std::size_t first = image_.size();
  std::size_t end = 0;
  for (std::size_t i = at; i < at + bytes; ++i) {
    first = std::min(first, wired(i));
    end = std::max(end, wired(i) + 1);
  }
  if (changed_ && first < end) changed_(first, ByteView(image_).subspan(first, end - first));
}

void Chip::write(std::size_t at, ByteView bytes) {
  busy_ms_ += build_.write_ms * static_cast<int>(bytes.size() / build_.write_bytes);
  if (ignores()) return;
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    // Programming flash only clears bits; what is to be set has to be erased.
    const Byte own = image_[wired(at + i)];
    put(at + i, build_.kind == ChipKind::flash ? static_cast<Byte>(own & bytes[i]) : bytes[i]);
  }
  notify(at, bytes.size());
}

void Chip::erase(std::size_t at, std::size_t bytes) {
  busy_ms_ += build_.erase_ms * static_cast<int>(bytes / build_.sector_bytes);
  if (ignores()) return;
  for (std::size_t i = 0; i < bytes; ++i) put(at + i, 0xff);
  notify(at, bytes);
}

int Chip::take_busy_ms() {
  return std::exchange(busy_ms_, 0);
}

}  // namespace bayswap::simport
