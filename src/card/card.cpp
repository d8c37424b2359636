#include <bayswap/card.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>

#include "base/clock.hpp"
#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "card/dc.hpp"
#include "card/disc_name.hpp"
#include "card/kinds.hpp"
#include "card/letter_region.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

std::string order_in_words(std::size_t unit) {
  return unit == 2 ? "the two bytes of each 16-bit word are exchanged"
                   : "the four bytes of each 32-bit word are reversed";
}

// A card inside of something: what is around it comes back with image().
class WrappedCard final : public Card {
 public:
  WrappedCard(std::unique_ptr<Card> card, Blob head, Blob tail, std::size_t unit = 1, std::string note = {})
      : card_(std::move(card)),
        head_(std::move(head)),
        tail_(std::move(tail)),
        unit_(unit),
        note_(std::move(note)) {}
  CardKind kind() const override { return card_->kind(); }
  std::string_view form() const override { return card_->form(); }
  std::size_t block_bytes() const override { return card_->block_bytes(); }
  std::size_t capacity_blocks() const override { return card_->capacity_blocks(); }
  std::size_t free_blocks() const override { return card_->free_blocks(); }
  std::size_t blocks_for(const CardSave& save) const override { return card_->blocks_for(save); }
  std::vector<CardEntry> entries() const override { return card_->entries(); }
  Result<CardSave> read(const std::string& name) const override { return card_->read(name); }
  std::vector<std::string> warnings_for(const CardSave& save) const override {
    return card_->warnings_for(save);
  }
  std::string stale_once_changed() const override {
    return is_hashed() ? std::string(stale_hash) : card_->stale_once_changed();
  }
  Result<void> put(const CardSave& save) override { return card_->put(save); }
  Result<void> drop(const std::string& name) override { return card_->drop(name); }
  Result<void> undelete(const std::string& name) override { return card_->undelete(name); }
  std::vector<std::string> notes() const override {
    std::vector<std::string> all = card_->notes();
    if (unit_ > 1) all.push_back(order_in_words(unit_) + " in the file");
    if (!note_.empty()) all.push_back(note_);
    if (is_hashed())
      all.emplace_back("the head in front of the card has a keyed hash over it, which only a console makes");
    return all;
  }
  std::vector<CardProblem> check() const override { return card_->check(); }
  std::size_t repair() override { return card_->repair(); }
  std::vector<FoundSave> carve(std::size_t present_bytes) const override {
    return card_->carve(present_bytes);
  }
  std::vector<CardBlock> map() const override { return card_->map(); }
  Blob image() const override {
    const Blob inside = card_->image();
    Buffer file(head_.size() + inside.size() + tail_.size());
    auto out = file.bytes().begin();
    for (const Blob& piece : {head_, inside, tail_}) out = std::ranges::copy(piece.view(), out).out;
    Blob whole = std::move(file).freeze();
    return unit_ > 1 ? reversed_in_units(whole.view(), unit_) : whole;
  }

 private:
  // A head of 128 bytes that psp and later consoles put in front of a ps1 card: mark, and a keyed hash at 32.
  [[nodiscard]] bool is_hashed() const {
    constexpr std::array<Byte, 4> head_mark{0x00, 0x50, 0x4d, 0x56};
    constexpr std::size_t head_bytes = 128;
    return card_->kind() == CardKind::ps1 && head_.size() == head_bytes &&
           std::ranges::equal(head_.view().first(head_mark.size()), head_mark);
  }
  static constexpr std::string_view stale_hash =
      "the keyed hash in the head in front of the card does not fit any more once the card changes: a "
      "console "
      "refuses the file; programs read it";
  std::unique_ptr<Card> card_;
  Blob head_;
  Blob tail_;
  std::size_t unit_;
  std::string note_;
};

// Where a run of one filler byte begins that goes on to the end of the file.
std::size_t end_of_content(ByteView file) {
  if (file.empty() || (file.back() != 0x00 && file.back() != 0xff)) return file.size();
  std::size_t end = file.size();
  std::uint64_t filler = 0;
  std::memset(&filler, file.back(), sizeof filler);
  for (std::uint64_t eight = 0; end >= 8; end -= 8) {
    std::memcpy(&eight, file.data() + end - 8, 8);
    if (eight != filler) break;
  }
  while (end > 0 && file[end - 1] == file.back()) --end;
  return end;
}

// `as_read`: the bytes are in the file's own order, so that the file may be nothing but a card.
std::optional<CardGuess> guess_as_it_stands(ByteView file, bool as_read) {
  std::optional<CardGuess> best;
  const std::size_t content = end_of_content(file);
  constexpr std::size_t step = 16;
  for (const CardFormat* format : card_formats()) {
    bool is_possible = true;
    bool is_asked = format->possible == nullptr || file.size() % step != 0;
    for (const std::size_t size : format->image_sizes) {
      if (file.size() < size) continue;
      // Padding may have any length: then the card is at the start.
      const bool padded = file.size() - size > max_wrapper_bytes;
      if (padded && content > size) continue;
      const std::size_t room = padded ? 0 : file.size() - size;
      if (!is_asked && (room > 0 || !as_read)) {
        is_asked = true;
        is_possible = format->possible(file);
      }
      if (!is_possible && (size != file.size() || !as_read)) continue;
      // At the start, at the end, or after a header of a round size.
      for (std::size_t at = 0; at <= room; at = at == room ? room + 1 : std::min(room, at + step)) {
        const ByteView image = file.subspan(at, size);
        const bool is_alone = as_read && image.size() == file.size();
        if (!is_alone && format->promising != nullptr && !format->promising(image)) continue;
        std::string evidence;
        const double confidence = format->score(image, evidence);
        // Of two sizes that are equally good the larger one: it has less wrapper.
        if (confidence > weak_score &&
            (!best || confidence > best->confidence ||
             (confidence == best->confidence && format->save.kind == best->kind && size > best->image_bytes)))
          best =
              CardGuess{format->save.kind, confidence, at, size, file.size() - size, 1, std::move(evidence)};
      }
    }
  }
  return best;
}

}  // namespace

namespace {

template <std::size_t unit>
void reverse_units(ByteView file, Byte* out) {
  std::size_t i = 0;
  for (; i + 8 <= file.size(); i += 8) {  // several units at once
    std::uint64_t all = 0;
    std::memcpy(&all, file.data() + i, 8);
    constexpr std::uint64_t low = 0x00ff00ff00ff00ff;
    constexpr std::uint64_t half = 0x0000ffff0000ffff;
    all = ((all & low) << 8U) | ((all >> 8U) & low);
    if constexpr (unit == 4) all = ((all & half) << 16U) | ((all >> 16U) & half);
    std::memcpy(out + i, &all, 8);
  }
  for (; i + unit <= file.size(); i += unit)
    std::reverse_copy(file.data() + i, file.data() + i + unit, out + i);
  std::copy(file.begin() + static_cast<std::ptrdiff_t>(i), file.end(), out + i);
}

}  // namespace

Blob reversed_in_units(ByteView file, std::size_t unit) {
  Buffer out(file.size());
  if (unit == 4)
    reverse_units<4>(file, out.bytes().data());
  else
    reverse_units<2>(file, out.bytes().data());
  return std::move(out).freeze();
}

Result<void> Card::undelete(const std::string& /*name*/) {
  return fail(ErrorCode::unsupported,
              fmt::format("a {} card keeps no trace of deleted saves", to_text(kind())),
              "the logbook may have it, if Bay Swap deleted it", {Remedy::Kind::show_logbook, {}});
}

std::span<const CardFormat* const> card_formats() {
  static const std::array<const CardFormat*, 8> all{&ps1_format(), &ps2_format(), &gc_format(),
                                                    &n64_format(), &dc_format(),  &sat_format(),
                                                    &pce_format(), &scd_format()};
  return all;
}

const CardFormat& card_format(CardKind kind) {
  return **std::ranges::find(card_formats(), kind,
                             [](const CardFormat* format) { return format->save.kind; });
}

std::string_view to_text(CardKind kind) {
  return card_format(kind).tag;
}
std::optional<CardKind> card_kind_from_text(std::string_view text) {
  for (const CardFormat* format : card_formats())
    if (format->tag == text) return format->save.kind;
  return std::nullopt;
}
std::vector<CardKind> all_card_kinds() {
  std::vector<CardKind> kinds;
  for (const CardFormat* format : card_formats()) kinds.push_back(format->save.kind);
  return kinds;
}

std::string_view to_text(CardEntry::State state) {
  switch (state) {
    case CardEntry::State::good:
      return "good";
    case CardEntry::State::damaged:
      return "damaged";
    case CardEntry::State::deleted:
      return "deleted";
  }
  return "good";
}
std::string_view to_text(FoundSave::Confidence confidence) {
  switch (confidence) {
    case FoundSave::Confidence::certain:
      return "certain";
    case FoundSave::Confidence::likely:
      return "likely";
    case FoundSave::Confidence::doubtful:
      return "doubtful";
  }
  return "doubtful";
}

std::string card_time(CardKind kind, std::int64_t modified) {
  const ClockTime time = clock_time(modified);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}{}", time.year, time.month, time.day, time.hour,
                     time.minute, time.second, kind == CardKind::ps2 ? "+09:00" : "");
}

std::size_t CardSave::size_bytes() const {
  std::size_t total = payload.size();
  for (const CardFile& file : files) total += file.bytes.size();
  return total;
}
bool CardSave::same_content(const CardSave& other) const {
  return kind == other.kind && payload == other.payload &&
         std::ranges::equal(files, other.files, [](const CardFile& a, const CardFile& b) {
           return a.name == b.name && a.bytes == b.bytes;
         });
}

CardEntry describe(const CardSave& save) {
  const SaveFormat& format = card_format(save.kind).save;
  if (save.entry.size() == format.entry_bytes) return format.describe(save);
  CardEntry nameless;  // a chain that was found without an entry
  nameless.name = save.name;
  nameless.size_bytes = save.size_bytes();
  return nameless;
}
bool put_name(std::span<Byte> field, std::string_view text, Byte filler) {
  const auto plain = [](char c) { return c >= 0x20 && c < 0x7f; };
  if (text.empty() || text.size() > field.size() || !std::ranges::all_of(text, plain)) return false;
  std::ranges::fill(field, filler);
  std::ranges::transform(text, field.begin(), [](char c) { return static_cast<Byte>(c); });
  return true;
}

Result<CardSave> payload_save(CardKind kind, const std::string& name, const Blob& payload,
                              std::int64_t modified, const CardSave* like) {
  const SaveFormat& format = card_format(kind).save;
  if (format.fresh_entry == nullptr)
    return fail(
        ErrorCode::unsupported, fmt::format("the data alone are no {} save", to_text(kind)),
        kind == CardKind::ps2 ? "a ps2 save is a folder of files: add that" : "nothing can be added to it");
  if (payload.empty()) return fail(ErrorCode::bad_usage, "there is no data", "check the file");
  std::optional<std::vector<Byte>> entry;
  if (like != nullptr && like->kind == kind && like->entry.size() == format.entry_bytes)
    entry.emplace(like->entry.view().begin(), like->entry.view().end());
  else
    entry = format.fresh_entry(name, modified);
  if (!entry)
    return fail(ErrorCode::bad_usage,
                fmt::format("'{}' can be no name on a {} card", printable(name), to_text(kind)),
                fmt::format("it takes {}", format.name_form));
  const std::size_t units = (payload.size() + format.payload_unit - 1) / format.payload_unit;
  Buffer whole(units * format.payload_unit);
  std::ranges::fill(std::ranges::copy(payload.view(), whole.bytes().begin()).out, whole.bytes().end(),
                    Byte{0});
  format.set_size(*entry, whole.bytes().size());
  return named_save(kind, Blob::copy_of(*entry), std::move(whole).freeze());
}

CardSave single_save(CardKind kind, Blob entry, Blob payload) {
  if (kind == CardKind::dc)
    if (auto turned = dc::in_true_order(entry.view(), payload)) payload = *std::move(turned);
  return named_save(kind, std::move(entry), std::move(payload));
}

CardSave named_save(CardKind kind, Blob entry, Blob payload, std::vector<CardFile> files) {
  CardSave save{kind, {}, {}, std::move(entry), std::move(payload), std::move(files)};
  CardEntry told = describe(save);
  save.name = std::move(told.name);
  save.title = std::move(told.title);
  return save;
}
SaveIcon icon_of(const CardSave& save) {
  const SaveFormat& format = card_format(save.kind).save;
  if (format.icon == nullptr || save.entry.size() != format.entry_bytes) return {};
  return format.icon(save);
}
Result<CardSave> restamped(const CardSave& save, Region region, std::string_view code) {
  const SaveFormat& format = card_format(save.kind).save;
  if (format.restamped == nullptr)
    return fail(ErrorCode::unsupported,
                fmt::format("a {} card keeps no region with its saves", to_text(save.kind)),
                "only the game's own data may, and that is not touched");
  const bool other = describe(save).region != region;
  if (format.code_by_region && other && disc_code(code).empty())
    return fail(ErrorCode::bad_usage,
                code.empty() ? fmt::format("{}: in {} the game has another product code",
                                           printable(save.name), name(region))
                             : fmt::format("'{}' is not a product code such as SLES-99001", printable(code)),
                "a game looks for its saves under its own code, so this one needs the code of that region",
                {Remedy::Kind::code, {}});
  if (!format.code_by_region && !code.empty()) {
    const auto platform = platform_from_tag(to_text(save.kind));
    if (!is_letter_code(code))
      return fail(
          ErrorCode::bad_usage, fmt::format("'{}' is not a code of a game", printable(code)),
          "it has four letters and digits, the last of which is the region's; the maker's two may follow",
          {Remedy::Kind::code, {}});
    const Region of_code = region_of_letter(*platform, code[region_letter_at]);
    if (of_code != region)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is a code of {}, not of {}", printable(code), name(of_code), name(region)),
                  "name the code that the game has there", {Remedy::Kind::code, {}});
  }
  if (save.entry.size() == format.entry_bytes)
    if (auto stamped = format.restamped(save, region, code))
      return named_save(stamped->kind, stamped->entry, stamped->payload, std::move(stamped->files));
  return fail(ErrorCode::unsupported, fmt::format("{} has no place for region {}", save.name, name(region)),
              "Japan, North America and Europe have a sign of their own");
}

// ---- Finding one --------------------------------------------------------------------------------

std::optional<CardGuess> guess_card(ByteView file) {
  auto guess = guess_as_it_stands(file, true);
  constexpr double clear = 0.6;
  if ((guess && guess->confidence > clear) || file.size() < 2048 || file.size() > (std::size_t{80} << 20))
    return guess;
  // Some readers exchange bytes, and some programs keep them as their machine has its words.
  std::vector<Byte> reversed(file.size());
  for (const std::size_t unit : {std::size_t{2}, std::size_t{4}}) {
    if (unit == 4)
      reverse_units<4>(file, reversed.data());
    else
      reverse_units<2>(file, reversed.data());
    auto turned = guess_as_it_stands(reversed, false);
    if (!turned || (guess && turned->confidence <= guess->confidence)) continue;
    guess = std::move(turned);
    guess->reversed_in = unit;
    guess->evidence += "; " + order_in_words(unit);
  }
  return guess;
}

namespace {

bool is_surely(const CardFormat& format, ByteView image) {
  std::string evidence;
  constexpr double sure = 0.9;
  return format.score(image, evidence) > sure;
}

// An internal memory of that size, and a cartridge of one of the kind's sizes after it.
std::vector<CardSlot> internal_and_cartridge(const CardFormat& format, ByteView file, std::size_t internal) {
  if (file.size() <= internal) return {};
  const std::size_t rest = file.size() - internal;
  if (std::ranges::find(format.image_sizes, rest) == format.image_sizes.end() ||
      !is_surely(format, file.first(internal)) || !is_surely(format, file.subspan(internal)))
    return {};
  return {{format.save.kind, 0, internal}, {format.save.kind, internal, rest}};
}

}  // namespace

std::vector<CardSlot> card_slots_of(ByteView file, bool by_size) {
  constexpr std::size_t alone_bytes = 131072;
  constexpr std::size_t combined_bytes = 296960;
  constexpr std::size_t eeprom_bytes = 2048;
  constexpr std::size_t sat_bytes = 32768;
  constexpr std::size_t scd_bytes = 8192;
  for (const std::size_t step : {std::size_t{1}, std::size_t{2}})
    if (auto two = internal_and_cartridge(sat_format(), file, step * sat_bytes); !two.empty()) return two;
  if (auto two = internal_and_cartridge(scd_format(), file, scd_bytes); !two.empty()) return two;
  if (file.size() != alone_bytes && file.size() != combined_bytes) return {};
  const std::size_t first = file.size() == alone_bytes ? 0 : eeprom_bytes;
  std::vector<CardSlot> paks;
  bool is_any = by_size;
  std::string evidence;
  for (std::size_t i = 0; i < 4; ++i) {
    paks.push_back({CardKind::n64, first + i * pak_size_bytes, pak_size_bytes});
    is_any =
        is_any || n64_format().score(file.subspan(paks.back().at, pak_size_bytes), evidence) > weak_score;
  }
  if (!is_any) return {};
  if (!by_size && first == 0 && n64_format().score(file, evidence) > weak_score) return {};  // of four banks
  return paks;
}

int card_slots(ByteView file) {
  return static_cast<int>(std::max<std::size_t>(1, card_slots_of(file).size()));
}

Result<std::unique_ptr<Card>> open_card(const Blob& file, int slot) {
  const std::vector<CardSlot> slots = card_slots_of(file.view());
  if (slot < 0 || slot > static_cast<int>(std::max<std::size_t>(1, slots.size())))
    return fail(ErrorCode::bad_usage, fmt::format("no slot {} in it", slot),
                slots.empty() ? "it holds one card" : fmt::format("slots are 1 to {}", slots.size()));
  if (!slots.empty()) {
    const CardSlot& one = slots.at(slot == 0 ? 0U : static_cast<std::size_t>(slot) - 1);
    const std::size_t end = one.at + one.bytes;
    std::string note;
    if (one.kind != CardKind::n64)
      note = fmt::format(
          "the file holds the internal memory (slot 1) and a cartridge's (slot 2); this is slot {}",
          std::max(1, slot));
    return std::make_unique<WrappedCard>(card_format(one.kind).open(file.slice(one.at, one.bytes)),
                                         file.slice(0, one.at), file.slice(end, file.size()), 1,
                                         std::move(note));
  }
  const auto guess = guess_card(file.view());
  if (!guess)
    return fail(ErrorCode::not_recognised, fmt::format("not a supported memory card ({} bytes)", file.size()),
                "inspect the file to see what it is", {Remedy::Kind::rescue_card, {}});
  const Blob whole = guess->reversed_in > 1 ? reversed_in_units(file.view(), guess->reversed_in) : file;
  const Blob image = whole.slice(guess->at, guess->image_bytes);
  auto card = card_format(guess->kind).open(image);
  if (image.size() == file.size() && guess->reversed_in == 1) return card;
  return std::make_unique<WrappedCard>(std::move(card), whole.slice(0, guess->at),
                                       whole.slice(guess->at + image.size(), whole.size()),
                                       guess->reversed_in);
}

// ---- Making one ---------------------------------------------------------------------------------

std::vector<CardSize> card_sizes(CardKind kind) {
  const auto sizes = card_format(kind).sizes;
  return {sizes.begin(), sizes.end()};
}
std::vector<std::string_view> card_forms(CardKind kind) {
  const auto forms = card_format(kind).forms;
  return {forms.begin(), forms.end()};
}

Result<std::unique_ptr<Card>> make_card(CardKind kind, const NewCardOptions& options) {
  const CardFormat& format = card_format(kind);
  const auto size = std::ranges::find_if(format.sizes, [&](const CardSize& one) {
    return (options.blocks == 0 || one.blocks == options.blocks) &&
           (options.image_bytes == 0 || one.image_bytes == options.image_bytes);
  });
  if (size == format.sizes.end()) {
    std::vector<std::size_t> blocks;
    for (const CardSize& one : format.sizes) blocks.push_back(one.blocks);
    sort_by(blocks, std::identity{});
    return fail(ErrorCode::bad_usage,
                options.blocks > 0
                    ? fmt::format("there is no {} card of {} blocks", format.tag, options.blocks)
                    : fmt::format("there is no {} card of {} bytes", format.tag, options.image_bytes),
                fmt::format("they have {} blocks", joined(blocks, ", ")));
  }
  NewCardOptions sure = options;
  if (sure.form.empty()) sure.form = format.forms.front();
  if (std::ranges::find(format.forms, sure.form) == format.forms.end())
    return fail(ErrorCode::bad_usage,
                fmt::format("a {} card has no form called '{}'", format.tag, printable(options.form)),
                fmt::format("it is {}", joined(format.forms, " or ")));
  return format.open(format.fresh(*size, sure));
}
std::unique_ptr<Card> make_card(CardKind kind) {
  return std::move(*make_card(kind, NewCardOptions{}));
}

}  // namespace bayswap
