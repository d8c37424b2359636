#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <map>
#include <set>

#include "base/endian.hpp"
#include "base/order.hpp"
#include "layout/clock_signs.hpp"
#include "layout/integrity.hpp"
#include "layout/transform.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

using Says = OrderVerdict::Says;

// Nothing between the two weights: no evidence.
constexpr double strong = 50;
constexpr double fair = 4;

class Recogniser {
 public:
  // `owner`: the one platform whose layouts have the file's extension; `settled`: only one platform comes
  // into question.
  Recogniser(const Blob& file, const Hints& hints, std::optional<Platform> owner, bool settled)
      : file_(file),
        hints_(hints),
        owner_(owner),
        settled_(settled),
        platform_known_(hints.platform || hints.game) {}

  // How much likelier this layout became by looking at the content.
  double score(LayoutMatch& match) {
    const Layout& layout = *match.layout;
    Blob bytes = file_;
    double weight = 1;
    if (match.fit != Fit::exact) {
      const auto fitted = fit(layout, file_, hints_.chips);
      if (!fitted) return 0;
      bytes = fitted->bytes;
      match.evidence.push_back(fitted->in_words(layout));
      weight = match.fit == Fit::padded ? 0.2 : 0.05;
    }
    weight *= score_extension(layout, match.evidence);
    if (counts_itself(file_.view())) return 0;
    for (const Slot& slot : layout.slots) {
      const auto place = layout.place(slot, bytes.size());
      const ByteView own = bytes.view().subspan(place.at, place.size);
      weight *= score_chip(slot, own.size(), match.evidence);
      weight *= score_mark(layout, slot, own, match.evidence);
      if (slot.role.kind == PartKind::pak) {
        weight *= score_pak(slot, own, layout.slots.size() == 1, match.evidence);
      } else if (slot.role.kind == PartKind::rtc) {
        weight *= score_clock(slot, own, match.evidence);
      } else {
        weight *= score_spread(slot, own, match.evidence) * score_nibbles(slot, own, match.evidence);
        if (slot.interleave == Interleave::none && slot.encoding == Encoding::plain)
          weight *= score_order(layout, slot, place.at, own, match.evidence);
      }
    }
    weight *= score_rest(layout, bytes.view(), match.evidence);
    weight *= score_fields(layout, bytes.view(), match.evidence);
    return weight;
  }

 private:
  // Files of blocks begin with a mark, how many blocks there are, and how long the file is: what chance does
  // not make.
  static bool counts_itself(ByteView file) {
    constexpr std::uint16_t block_mark = 0x0053;
    return file.size() >= 16 && le16(file, 0) == block_mark && le32(file, 4) == file.size();
  }

  double score_extension(const Layout& layout, std::vector<std::string>& evidence) const {
    if (!owner_) return 1;  // such as .sav, which stands for anything
    if (layout.platform != *owner_) return 0.05;
    if (layout.extension != hints_.extension) return 0.5;
    if (!platform_known_)
      evidence.push_back(
          fmt::format("the extension {} is usual on {} alone", hints_.extension, tag(*owner_)));
    return fair;
  }

  // What the ROM's header, or the user, says of the chip.
  double score_chip(const Slot& slot, std::size_t file_bytes, std::vector<std::string>& evidence) const {
    const auto fact = std::ranges::find(hints_.chips, slot.role.kind, &ChipFact::kind);
    if (fact == hints_.chips.end()) return hints_.chips.empty() || slot.role.kind == PartKind::pak ? 1 : 0.2;
    if (fact->size_bytes == 0) return fair;
    const std::size_t room = slot.part_size(file_bytes);
    if (fact->size_bytes == room ||
        (room > fact->size_bytes && std::ranges::binary_search(slot.chip_sizes, fact->size_bytes))) {
      evidence.push_back(fmt::format("the game has {} of {} bytes: {}", to_text(slot.role), fact->size_bytes,
                                     fact->evidence.empty() ? "so it was learned" : fact->evidence));
      return fact->size_bytes == room ? 2 * fair : fair;
    }
    return 0.1;
  }

  // What a formatted memory of that kind always holds. One that was never formatted has no mark.
  static double score_mark(const Layout& layout, const Slot& slot, ByteView bytes,
                           std::vector<std::string>& evidence) {
    if (slot.mark.empty()) return 1;
    std::vector<Byte> part(slot.part_size(bytes.size()));
    read_slot(slot, bytes, part);
    const auto size = static_cast<std::int64_t>(part.size());
    const std::int64_t at = slot.mark_at < 0 ? size + slot.mark_at : slot.mark_at;
    if (at < 0 || at + static_cast<std::int64_t>(slot.mark.size()) > size) return 1;
    if (!std::ranges::equal(ByteView(part).subspan(static_cast<std::size_t>(at), slot.mark.size()),
                            slot.mark))
      return is_uniform(part) ? 0.5 : 0.1;
    evidence.push_back(fmt::format("the mark of {} is at {}", layout.id, at));
    return strong;
  }

  static double score_pak(const Slot& slot, ByteView bytes, bool alone, std::vector<std::string>& evidence) {
    const int sound = sound_pak_ids(bytes);
    if (sound > 0) {
      evidence.push_back(
          fmt::format("{} of 4 controller pak ID sectors are sound in {}", sound, to_text(slot.role)));
      return strong * 4 * sound;
    }
    if (is_uniform(bytes)) return alone ? 0.3 : 1;
    evidence.push_back(fmt::format("{} holds no sound controller pak ID sector", to_text(slot.role)));
    return 0.03;
  }

  // The order in which the same memory also comes on that platform; chip order where it does not.
  static ByteOrder order_of_twin(const Layout& layout, const Slot& slot) {
    const PartKind kind = slot.role.kind;
    if (layout.platform == Platform::n64 && kind != PartKind::eeprom) return ByteOrder::swap32;
    if (layout.platform == Platform::md && kind == PartKind::sram) return ByteOrder::swap16;
    if (layout.platform == Platform::gba && kind == PartKind::eeprom) return ByteOrder::swap64;
    if (layout.platform == Platform::gb && kind == PartKind::eeprom) return ByteOrder::swap16;
    return ByteOrder::chip;
  }

  double score_order(const Layout& layout, const Slot& slot, std::size_t at, ByteView bytes,
                     std::vector<std::string>& evidence) {
    const ByteOrder twin = order_of_twin(layout, slot);
    const ByteOrder other = slot.order != ByteOrder::chip ? slot.order : twin;
    if (other == ByteOrder::chip) return 1;
    auto [found, is_new] = verdicts_.try_emplace({at, other});
    if (is_new) found->second = judge_word_order(bytes, hints_.game, other);
    const OrderVerdict& verdict = found->second;
    if (verdict.says != Says::nothing || twin != ByteOrder::chip)
      evidence.push_back(fmt::format("{}: {}", to_text(slot.role), verdict.evidence));
    if (verdict.says == Says::nothing) return 1;
    const bool agrees = (verdict.says == Says::reversed) == (slot.order == other);
    // It decides between twins, and says nothing against other platforms.
    const double most = settled_ ? 2 : 1;
    return (agrees ? verdict.confidence : 1 - verdict.confidence) * most;
  }

  // Fillers that are what they ought to be, beside bytes that are not all the same.
  static double score_spread(const Slot& slot, ByteView bytes, std::vector<std::string>& evidence) {
    if (slot.interleave == Interleave::none) return 1;
    const std::size_t lane = slot.parity == AddressParity::odd ? 1 : 0;
    bool blank = true;
    std::size_t telling = 0;
    for (std::size_t i = 0; i + 2 <= bytes.size(); i += 2) {
      const Byte own = bytes[i + lane];
      const Byte beside = bytes[i + 1 - lane];
      const Byte wanted = slot.interleave == Interleave::doubled ? own
                          : slot.interleave == Interleave::ff    ? 0xff
                                                                 : 0x00;
      if (beside != wanted) return 0.001;
      const bool is_filler = own == 0 || own == 0xff;
      blank = blank && own == bytes[lane] && is_filler;
      telling += is_filler ? 0 : 1;
    }
    if (blank) return 0.3;
    // A fresh save with a few bytes in it looks so on any console.
    constexpr std::size_t enough = 64;
    if (telling < enough) return 1;
    evidence.push_back(fmt::format("every other byte is {}", slot.interleave == Interleave::doubled
                                                                 ? "the same as the one beside it"
                                                             : slot.interleave == Interleave::ff ? "FF"
                                                                                                 : "00"));
    return strong;
  }

  static double score_nibbles(const Slot& slot, ByteView bytes, std::vector<std::string>& evidence) {
    if (slot.encoding != Encoding::nibbles) return 1;
    if (is_uniform(bytes)) return 0.5;
    const Byte upper = bytes.front() & 0xf0;
    // Where the halves that no cell is behind differ, something else wrote them.
    if (!std::ranges::all_of(bytes, [&](Byte b) { return (b & 0xf0) == upper; })) return 0.01;
    evidence.emplace_back("the upper half of every byte is the same: memory of 4-bit cells");
    // Open lines read as ones; small numbers have upper halves of zeros as well.
    return upper == 0xf0 ? strong / 2 : 1;
  }

  // What is outside of slots and fields should hold nothing.
  static double score_rest(const Layout& layout, ByteView file, std::vector<std::string>& evidence) {
    if (layout.size == 0 || !layout.fields.empty()) return 1;
    std::size_t end = 0;
    for (const Slot& slot : layout.slots) end = std::max(end, slot.at + slot.file_sizes.back());
    Byte fill = 1;
    if (end >= file.size()) return 1;
    if (is_uniform(file.subspan(end), &fill) && (fill == 0 || fill == 0xff)) {
      evidence.push_back(fmt::format("nothing but {:02X} after byte {}", fill, end));
      // Of gba, where there is flash twice as large, an erased half is FF as well.
      const bool may_be_erased = fill == 0xff && layout.platform == Platform::gba;
      return is_uniform(file.first(end)) || may_be_erased ? 1 : 2;
    }
    return 0.001;
  }

  static double score_clock(const Slot& slot, ByteView bytes, std::vector<std::string>& evidence) {
    const bool plausible = slot.encoding == Encoding::clock_start ? is_recent(le64(bytes, 0))
                           : bytes.size() == 16                   ? is_calendar(bytes)
                                                                  : is_clock(bytes);
    if (!plausible) return is_uniform(bytes) ? 0.3 : 0.02;
    evidence.emplace_back("the clock's registers hold a time");
    // Small numbers are a time as well, of the years before there was anything to write them.
    constexpr Byte least_year = 0x08;
    const bool is_small =
        slot.encoding != Encoding::clock_start && bytes.size() == 16 && bytes[0] < least_year;
    return is_small ? 1 : strong;
  }

  // The known bytes of header and trailer. All of them together count once: a form learned from a single
  // example may have taken bytes of that save for its own.
  static double score_fields(const Layout& layout, ByteView file, std::vector<std::string>& evidence) {
    if (layout.fields.empty()) return 1;
    constexpr std::size_t telling = 4;
    const Slot* variable_slot = layout.variable_slot();
    const Slot& sized = variable_slot != nullptr ? *variable_slot : layout.slots.front();
    const std::size_t part_bytes = sized.part_size(layout.place(sized, file.size()).size);
    std::size_t right = 0;
    double weight = 1;
    for (const Field& field : layout.fields) {
      if (field.unknown_bytes != 0) continue;
      if (field.checksum) {
        const bool is_made = is_right(placed(layout, field, file.size()), file);
        right += is_made ? field.size_bytes() : 0;
        weight *= is_made ? 2 : 0.3;
        evidence.push_back(is_made ? fmt::format("its {} is right", to_text(field.checksum->kind))
                                   : fmt::format("its {} is wrong: the file is damaged, or another form",
                                                 to_text(field.checksum->kind)));
        continue;
      }
      const auto place = layout.place(field, file.size());
      const bool same = std::ranges::equal(file.subspan(place.at, place.size), field.value(part_bytes));
      if (field.bytes.empty()) {
        weight *= same ? 1.5 : 0.7;
      } else if (same) {
        right += place.size;
      } else {
        weight *= place.size >= telling ? 0.01 : 0.3;
      }
    }
    if (right > 0)
      evidence.push_back(fmt::format("{} bytes of its header and trailer are those of {}", right, layout.id));
    return weight * (right >= telling ? strong : right > 0 ? fair : 1);
  }

  const Blob& file_;
  const Hints& hints_;
  std::optional<Platform> owner_;
  bool settled_;
  bool platform_known_;
  std::map<std::pair<std::size_t, ByteOrder>, OrderVerdict> verdicts_;
};

bool is_built_in(const Layout& layout) {
  return layout.origin == "built in";
}

// A layout that somebody added has a header or a trailer of its own, and the file has those bytes.
bool has_own_marks(const Layout& layout, const Blob& file) {
  constexpr std::size_t telling = 4;
  if (layout.stream.kind != Compression::none) return true;
  const Slot* variable_slot = layout.variable_slot();
  const Slot& sized = variable_slot != nullptr ? *variable_slot : layout.slots.front();
  const std::size_t part_bytes = sized.part_size(layout.place(sized, file.size()).size);
  std::size_t right = 0;
  for (const Field& field : layout.fields) {
    if (field.bytes.empty()) continue;
    const auto place = layout.place(field, file.size());
    if (!std::ranges::equal(file.view().subspan(place.at, place.size), field.value(part_bytes))) return false;
    right += place.size;
  }
  return right >= telling;
}

// "32768 bytes is the size of A, B and C", or of how many.
std::string size_sentence(std::size_t size, const std::vector<LayoutMatch>& matches) {
  constexpr std::size_t max_named = 6;
  std::string ids;
  std::set<Platform> platforms;
  std::size_t count = 0;
  for (const LayoutMatch& match : matches) {
    if (match.fit != Fit::exact) continue;
    ++count;
    platforms.insert(match.layout->platform);
    ids += (ids.empty() ? "" : ", ") + match.layout->id;
  }
  if (count > max_named) ids = fmt::format("{} layouts of {} platforms", count, platforms.size());
  return count == 0 ? "" : fmt::format("{} bytes is the size of {}", size, ids);
}

// How likely each of these is, the best first.
Recognition scored(const Blob& file, const Hints& hints, std::optional<Platform> owner,
                   std::optional<Platform> platform, std::vector<LayoutMatch> matches) {
  Recognition result;
  result.matches = std::move(matches);
  const std::string sizes = size_sentence(file.size(), result.matches);
  const bool settled = std::ranges::all_of(result.matches, [&](const LayoutMatch& match) {
    return owner || match.layout->platform == result.matches.front().layout->platform;
  });
  Recogniser recogniser(file, hints, owner, settled);
  double sum = 0;
  for (LayoutMatch& match : result.matches) {
    if (match.layout->stream.kind != Compression::none) {
      match.evidence.push_back(fmt::format("a {} stream of the right size begins at {}",
                                           to_text(match.layout->stream.kind), match.layout->stream.at));
      match.confidence = strong;
    } else {
      if (match.fit == Fit::exact) match.evidence.push_back(sizes);
      match.confidence = recogniser.score(match);
    }
    sum += match.confidence;
  }
  // What is not in the catalog could have that size too: likely for round sizes, hardly for odd ones.
  const double unknown = platform ? 0.1 : (std::has_single_bit(file.size()) ? 0.8 : 0.05);
  for (LayoutMatch& match : result.matches) match.confidence /= sum + unknown;
  sort_by_descending(result.matches, &LayoutMatch::confidence);
  for (const LayoutMatch& match : result.matches)
    if (match.confidence > 0.67 * result.matches.front().confidence) ++result.alike;
  return result;
}

}  // namespace

Recognition recognise(const Catalog& catalog, const Blob& file, const Hints& hints) {
  Recognition result;
  std::optional<Platform> platform = hints.platform;
  if (!platform && hints.game) platform = hints.game->platform;
  std::set<Platform> owners;  // of the file's extension
  bool any_exact = false;
  const auto layouts = catalog.all(platform);
  for (const Layout* layout : layouts) {
    if (layout->is_set()) continue;
    if (!hints.extension.empty() && layout->extension == hints.extension && is_built_in(*layout))
      owners.insert(layout->platform);
    if (layout->stream.kind != Compression::none) continue;
    if (!std::ranges::binary_search(layout->file_sizes(), file.size())) continue;
    result.matches.push_back({layout, Fit::exact, 0, {}});
    any_exact = any_exact || is_built_in(*layout);
  }
  // Compressed streams inside of something have any size; and a file may be padded, or end early.
  for (const Layout* layout : layouts) {
    if (layout->is_set()) continue;
    if (layout->stream.kind != Compression::none) {
      if (unpack(*layout, file)) result.matches.push_back({layout, Fit::exact, strong, {}});
      continue;
    }
    const bool guess = any_exact ? !hints.chips.empty() : platform || std::has_single_bit(file.size());
    if (!guess || std::ranges::binary_search(layout->file_sizes(), file.size())) continue;
    const auto fitted = fit(*layout, file, hints.chips);
    // To the next power of two, or to the end of a sector.
    constexpr std::size_t sector = 512;
    const bool whole = fitted && (fitted->fit != Fit::padded || std::has_single_bit(file.size()) ||
                                  (file.size() % sector == 0 && fitted->padding.size() < sector));
    if (whole && (fitted->fit == Fit::padded || platform))
      result.matches.push_back({layout, fitted->fit, 0, {}});
  }
  const std::optional<Platform> owner = owners.size() == 1 ? std::optional(*owners.begin()) : std::nullopt;
  // What a size alone says stays as it is, however many layouts of that size somebody adds: they count if
  // they have marks of their own, or if no built-in one is likely.
  std::vector<LayoutMatch> kept;
  std::ranges::copy_if(result.matches, std::back_inserter(kept), [&](const LayoutMatch& match) {
    return is_built_in(*match.layout) || (match.fit == Fit::exact && has_own_marks(*match.layout, file));
  });
  const bool any_built_in =
      std::ranges::any_of(kept, [](const LayoutMatch& match) { return is_built_in(*match.layout); });
  Recognition with = scored(file, hints, owner, platform, result.matches);
  if (!any_built_in || kept.size() == result.matches.size()) return with;
  const auto best_built_in =
      std::ranges::find_if(with.matches, [](const LayoutMatch& match) { return is_built_in(*match.layout); });
  constexpr double clearly = 2;
  const bool is_clear = !std::has_single_bit(file.size()) &&
                        with.matches.front().confidence > clearly * best_built_in->confidence;
  return is_clear ? with : scored(file, hints, owner, platform, std::move(kept));
}

}  // namespace bayswap
