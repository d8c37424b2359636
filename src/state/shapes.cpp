#include "state/shapes.hpp"

#include <algorithm>

namespace bayswap {
namespace {

class Shapes {
 public:
  Shapes(const Catalog& catalog, const BatterySearch& what) : what_(what) {
    for (const Layout* layout : catalog.all(what.platform)) {
      if (what.platform && saves_as(layout->platform) != saves_as(*what.platform)) continue;
      for (const Slot& slot : layout->slots) add(slot);
    }
    // A chip of a size that no layout has, as it is.
    for (const ChipFact& chip : what.chips) {
      const bool known = std::any_of(all_.begin(), all_.end(), [&](const Shape& one) {
        return one.slot.role.kind == chip.kind && one.part() == chip.size_bytes;
      });
      if (known || !is_battery_memory(chip.kind) || chip.size_bytes == 0) continue;
      Slot slot;
      slot.role.kind = chip.kind;
      slot.file_sizes = {chip.size_bytes};
      slot.chip_sizes = {chip.size_bytes};
      keep(slot);
    }
  }
  [[nodiscard]] std::vector<Shape> take() { return std::move(all_); }

 private:
  void add(const Slot& from) {
    if (!is_battery_memory(from.role.kind) || from.encoding == Encoding::pages_ecc) return;
    for (const std::size_t bytes : from.file_sizes) {
      Slot slot;
      slot.role.kind = from.role.kind;
      slot.file_sizes = {bytes};
      slot.order = from.order;
      slot.encoding = from.encoding;
      slot.interleave = from.interleave;
      slot.parity = from.parity;
      slot.chip_sizes = {slot.part_size(bytes)};
      keep(slot);
      // A snapshot keeps memory as the machine has it, whatever order the platform's save files have.
      if (slot.order != ByteOrder::chip) {
        slot.order = ByteOrder::chip;
        keep(slot);
      }
    }
  }
  void keep(const Slot& slot) {
    Shape shape{slot, false};
    bool fits = what_.chips.empty() && !what_.tells_chips;
    for (const ChipFact& chip : what_.chips) {
      if (chip.kind != slot.role.kind) continue;
      if (chip.size_bytes != 0 && chip.size_bytes != shape.part()) continue;
      fits = true;
      shape.of_rom = chip.size_bytes != 0;
    }
    if (!fits) return;
    for (const Shape& known : all_)
      if (same_shape(known.slot, slot)) return;
    all_.push_back(std::move(shape));
  }

  const BatterySearch& what_;
  std::vector<Shape> all_;
};

}  // namespace

bool same_shape(const Slot& a, const Slot& b) {
  return a.role == b.role && a.file_sizes == b.file_sizes && a.order == b.order && a.encoding == b.encoding &&
         a.interleave == b.interleave && (a.interleave == Interleave::none || a.parity == b.parity);
}

bool is_battery_memory(PartKind kind) {
  return kind != PartKind::rtc && kind != PartKind::pak;
}

std::vector<Shape> shapes_of(const Catalog& catalog, const BatterySearch& what) {
  return Shapes(catalog, what).take();
}

}  // namespace bayswap
