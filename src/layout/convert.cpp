#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <ranges>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

bool is_empty_or_fill(ByteView bytes) {
  Byte fill = 0x55;
  return bytes.empty() || (is_uniform(bytes, &fill) && (fill == 0x00 || fill == 0xff));
}

// All inputs' parts in one save. A blank part gives way to one that holds something.
Result<Save> join(const std::vector<Save>& inputs, Platform platform) {
  Save joined{platform, {}};
  for (const Save& input : inputs) {
    if (input.platform != platform)
      return fail(ErrorCode::does_not_fit, fmt::format("a save of {} has no place in a layout of {}",
                                                       tag(input.platform), tag(platform)));
    for (const Part& part : input.parts) {
      Part added = part;
      if (added.role == Role{PartKind::pak, 0} && inputs.size() > 1) {
        // Paks in files of their own fill the slots in the order they come in.
        do ++added.role.number;
        while (added.role.number <= 4 && joined.find(added.role) != nullptr);
        if (added.role.number > 4)
          return fail(ErrorCode::does_not_fit, "more than four controller paks", "a console has four ports");
      }
      const auto there = std::ranges::find(joined.parts, added.role, &Part::role);
      if (there == joined.parts.end()) {
        joined.parts.push_back(std::move(added));
      } else if (is_blank(*there)) {
        *there = std::move(added);
      } else if (!is_blank(added)) {
        return fail(ErrorCode::bad_usage, fmt::format("two of the files bring {}", to_text(added.role)),
                    "leave one of them out");
      }
    }
  }
  return joined;
}

class Converter {
 public:
  Converter(const Layout& to, const ConvertRequest& request) : to_(to), request_(request) {}

  Result<ConvertedFile> run(const Save& save, Converted& report) {
    BAYSWAP_TRY(const Save chosen, choose_paks(save));
    Save fitted{to_.platform, {}};
    std::vector<std::string> left_behind;
    ConvertedFile file;
    file.layout = &to_;
    BAYSWAP_CHECK(open_base(report));
    std::size_t taken = 0;
    for (const Part& part : chosen.parts) {
      const Slot* slot = to_.slot(part.role);
      const bool blank = is_blank(part);
      if (slot == nullptr) {
        if (!blank) left_behind.push_back(to_text(part.role));
        continue;
      }
      ++taken;
      if (blank && request_.base != nullptr) continue;  // never replaces what the target has
      BAYSWAP_TRY(Part fit, fit_to(*slot, part, report));
      if (slot->encoding == Encoding::clock_start) say_what_a_start_lacks(fit, report);
      if (!blank) file.brought.push_back(fit.role);
      for (DumpDefect& defect : defects(part)) report.defects.push_back(std::move(defect));
      fitted.parts.push_back(std::move(fit));
    }
    if (taken == 0)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has no place for {}", to_.id, parts_in_words(save)),
                  fmt::format("it takes {}", slots_in_words()));
    for (const std::string& role : left_behind)
      report.cuts.push_back(
          fmt::format("{} holds data but has no place in {}: it would be lost", role, to_.id));
    BAYSWAP_TRY(const Blob packed,
                pack(to_, fitted, request_.base != nullptr ? &own_.fitted.bytes : nullptr));
    file.bytes = request_.base != nullptr ? wrap(own_.file, with_padding(packed)) : packed;
    describe(file, report);
    warn_of_unknown(report);
    return file;
  }

 private:
  // The time at which a clock was zero says all of one that runs, and nothing of one that is stopped.
  void say_what_a_start_lacks(const Part& clock, Converted& report) const {
    constexpr std::size_t high_days_at = 16;
    constexpr std::uint32_t stopped = 0x40;
    if (clock.bytes.size() > high_days_at && (le32(clock.bytes.view(), high_days_at) & stopped) != 0)
      report.cuts.push_back(
          fmt::format("the clock is stopped, and {} can't say so: there it would run on", to_.id));
  }

  void warn_of_unknown(Converted& report) const {
    std::size_t unknown = 0;
    for (const Field& field : to_.fields) unknown += field.unknown_bytes;
    if (unknown > 0 && request_.base == nullptr)
      report.warnings.push_back(
          fmt::format("{} bytes of {} are known only to the target, and {:02X} without a file of its own: "
                      "better give a base",
                      unknown, to_.id, to_.fill));
  }

  // The target's own file: out of its compression, its padding put aside.
  Result<void> open_base(Converted& report) {
    if (request_.base == nullptr) return {};
    BAYSWAP_TRY(own_, open_save(to_, *request_.base, request_.chips));
    for (const std::string& note : own_.notes) report.notes.push_back("the target's own file: " + note);
    return {};
  }

  [[nodiscard]] Blob with_padding(const Blob& packed) const {
    const Fitted& own = own_.fitted;
    if (own.padding.empty() || packed.size() >= own.bytes.size() + own.padding.size()) return packed;
    Buffer padded(own.bytes.size() + own.padding.size());
    std::ranges::fill(padded.bytes().subspan(packed.size()), own.padding.view().front());
    std::ranges::copy(packed.view(), padded.bytes().begin());
    return std::move(padded).freeze();
  }

  // A lone pak and four numbered ones find each other here.
  [[nodiscard]] Result<Save> choose_paks(const Save& save) const {
    Save out{save.platform, {}};
    std::vector<const Part*> paks;
    for (const Part& part : save.parts) {
      if (part.role.kind != PartKind::pak) {
        out.parts.push_back(part);
      } else if (request_.pak == 0 || part.role.number == 0 || part.role.number == request_.pak) {
        paks.push_back(&part);
      }
    }
    const bool wants_lone = to_.slot({PartKind::pak, 0}) != nullptr;
    if (wants_lone && paks.size() > 1)
      std::erase_if(paks, [&](const Part* pak) { return is_blank(*pak) && pak != paks.front(); });
    if (wants_lone && paks.size() > 1 && is_blank(*paks.front())) paks.erase(paks.begin());
    if (wants_lone && paks.size() > 1) {
      std::string numbers;
      for (const Part* pak : paks)
        numbers += fmt::format("{}{}", numbers.empty() ? "" : ", ", pak->role.number);
      return fail(ErrorCode::bad_usage,
                  fmt::format("controller paks {} hold something, and {} takes one", numbers, to_.id),
                  "say which", {Remedy::Kind::slot, {}});
    }
    for (const Part* pak : paks) {
      Part part = *pak;
      if (wants_lone) {
        part.role.number = 0;
      } else if (part.role.number == 0) {
        part.role.number = std::max(request_.pak, 1);
      }
      out.parts.push_back(std::move(part));
    }
    return out;
  }

  [[nodiscard]] std::optional<std::size_t> known_chip(PartKind kind) const {
    const auto fact = std::ranges::find(request_.chips, kind, &ChipFact::kind);
    if (fact == request_.chips.end() || fact->size_bytes == 0) return std::nullopt;
    return fact->size_bytes;
  }

  Result<Part> fit_to(const Slot& slot, Part part, Converted& report) const {
    const std::vector<std::size_t> rooms = slot.part_sizes();
    if (rooms.size() > 1) return to_one_of(rooms, slot, std::move(part), report);
    const std::size_t room = rooms.front();
    const std::size_t size = part.bytes.size();
    if (size == room) return part;
    if (size > room) return to_one_of(rooms, slot, std::move(part), report);
    if (!std::ranges::binary_search(slot.chip_sizes, size))
      return fail(ErrorCode::does_not_fit, fmt::format("{} has {} bytes, its place in {} has {}",
                                                       to_text(part.role), size, to_.id, room));
    return grow(room, slot, std::move(part), report);
  }

  // A smaller chip in a fixed slot: the rest is what the target's own file has there, if that is filler.
  Result<Part> grow(std::size_t room, const Slot& slot, Part part, Converted& report) const {
    const std::size_t size = part.bytes.size();
    Buffer grown(room);
    std::ranges::copy(part.bytes.view(), grown.bytes().begin());
    const std::span<Byte> rest = grown.bytes().subspan(size);
    std::ranges::fill(rest, slot.fill == DefaultFill::zero ? Byte{0x00} : Byte{0xff});
    if (const Part* own = own_.save.find(part.role); own != nullptr && own->bytes.size() >= room) {
      const ByteView own_rest = own->bytes.view().subspan(size, room - size);
      if (is_empty_or_fill(own_rest)) {
        std::ranges::copy(own_rest, rest.begin());
      } else {
        report.warnings.push_back(
            fmt::format("the target's own {} uses more than the {} bytes brought: is it the same game's?",
                        to_text(part.role), size));
      }
    }
    report.notes.push_back(fmt::format("{}: {} bytes grown to {}", to_text(part.role), size, room));
    part.bytes = std::move(grown).freeze();
    return part;
  }

  // A part that need not be as long as its place: out of a larger slot it may be a smaller chip and filler,
  // and the other way round.
  Result<Part> to_one_of(const std::vector<std::size_t>& rooms, const Slot& slot, Part part,
                         Converted& report) const {
    const std::size_t size = part.bytes.size();
    const Part* own = own_.save.find(part.role);
    std::size_t wanted = size;
    const auto chip = known_chip(part.role.kind);
    const bool fits_own = own != nullptr && (size <= own->bytes.size() ||
                                             is_empty_or_fill(part.bytes.view().subspan(own->bytes.size())));
    if (chip && !fits_own) {
      wanted = *chip;
    } else if (own != nullptr) {
      wanted = own->bytes.size();
    } else {
      const auto leaves_filler = [&](std::size_t room) {
        return room < size && is_empty_or_fill(part.bytes.view().subspan(room));
      };
      if (!part.size_certain) {
        const auto smallest = std::ranges::find_if(rooms, leaves_filler);
        if (smallest != rooms.end()) wanted = *smallest;
      } else if (!std::ranges::binary_search(rooms, size)) {
        for (const std::size_t room : rooms)
          if (leaves_filler(room)) wanted = room;
      }
    }
    if (!std::ranges::binary_search(rooms, wanted))
      return fail(ErrorCode::does_not_fit, fmt::format("{} has {} bytes, in {} it has {}", to_text(part.role),
                                                       wanted, to_.id, joined(rooms, " or ")));
    if (wanted > size) return grow(wanted, slot, std::move(part), report);
    if (wanted < size && !is_empty_or_fill(part.bytes.view().subspan(wanted))) {
      if (!known_chip(part.role.kind))
        return fail(ErrorCode::does_not_fit,
                    fmt::format("{} uses more than {} bytes, the size of the target's own",
                                to_text(part.role), wanted),
                    "is it the same game's? If so, take the target's file away and try again");
      report.cuts.push_back(fmt::format(
          "{}: the game's chip has {} bytes; the {} bytes after them, not blank, would be left out",
          to_text(part.role), wanted, size - wanted));
    }
    if (wanted < size)
      report.notes.push_back(
          fmt::format("{}: {} bytes cut to the chip's {}", to_text(part.role), size, wanted));
    part.bytes = part.bytes.slice(0, wanted);
    return part;
  }

  [[nodiscard]] static std::string parts_in_words(const Save& save) {
    std::vector<std::string> words;
    for (const Part& part : save.parts) words.push_back(to_text(part.role));
    return joined(words, ", ");
  }

  [[nodiscard]] std::string slots_in_words() const {
    std::vector<std::string> words;
    for (const Slot& slot : to_.slots) words.push_back(to_text(slot.role));
    return joined(words, ", ");
  }

  void describe(const ConvertedFile& file, Converted& report) const {
    std::vector<std::string> kept;
    std::vector<std::string> blank;
    for (const Slot& slot : to_.slots) {
      if (std::ranges::find(file.brought, slot.role) != file.brought.end()) {
        report.notes.push_back(
            fmt::format("{} goes to offset {}, {}", to_text(slot.role), slot.at, in_words(slot.order)));
      } else if (request_.base != nullptr) {
        kept.push_back(to_text(slot.role));
      } else {
        blank.push_back(to_text(slot.role));
      }
    }
    if (!kept.empty())
      report.notes.push_back(fmt::format("kept from the target's own file: {}", joined(kept, ", ")));
    if (!blank.empty())
      report.notes.push_back(fmt::format("nothing brought, so left blank: {}", joined(blank, ", ")));
  }

  const Layout& to_;
  const ConvertRequest& request_;
  OpenedSave own_;
};

}  // namespace

Result<Converted> convert(const Catalog& catalog, const ConvertRequest& request) {
  if (request.to == nullptr || request.inputs.empty())
    return fail(ErrorCode::bad_usage, "nothing to convert, or no layout to convert to");
  BAYSWAP_TRY(const Save save, join(request.inputs, request.to->platform));
  Converted result;
  if (!request.to->is_set()) {
    Converter converter(*request.to, request);
    BAYSWAP_TRY(auto file, converter.run(save, result));
    result.empty = file.brought.empty();
    result.files.push_back(std::move(file));
    return result;
  }
  if (request.base != nullptr)
    return fail(ErrorCode::bad_usage,
                fmt::format("{} is a set of files; it takes no single base file", request.to->id));
  for (const Part& part : save.parts) {
    if (is_blank(part) ||
        (part.role.kind == PartKind::pak && request.pak != 0 && part.role.number != request.pak))
      continue;
    BAYSWAP_TRY(const Layout* member, member_for(catalog, *request.to, part.role));
    Converter converter(*member, request);
    BAYSWAP_TRY(auto file, converter.run(Save{save.platform, {part}}, result));
    file.role = part.role;
    result.files.push_back(std::move(file));
  }
  result.empty = result.files.empty();
  return result;
}

Result<const Layout*> member_for(const Catalog& catalog, const Layout& set, Role role) {
  for (const std::string& id : set.members) {
    BAYSWAP_TRY(const Layout* member, catalog.find(id));
    if (member->slots.size() == 1 && member->slots.front().role.kind == role.kind) return member;
  }
  return fail(ErrorCode::does_not_fit, fmt::format("{} has no place for {}", set.id, to_text(role)));
}

std::string set_suffix(const Layout& member, Role role) {
  return role.number > 1 ? fmt::format(".{}{}", role.number, member.extension) : member.extension;
}

int pak_number_in_name(std::string_view file_name) {
  const auto dot = file_name.rfind('.');
  if (dot == std::string_view::npos || dot < 2 || file_name[dot - 2] != '.') return 0;
  const char digit = file_name[dot - 1];
  return digit >= '1' && digit <= '4' ? digit - '0' : 0;
}

}  // namespace bayswap
