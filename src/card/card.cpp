#include <bayswap/card.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "card/kinds.hpp"

namespace bayswap {
namespace {

const std::array<const CardFormat*, 2>& formats() {
  static const std::array<const CardFormat*, 2> all{&ps1_format(), &n64_format()};
  return all;
}

const CardFormat& format_of(CardKind kind) {
  return **std::ranges::find(formats(), kind, &CardFormat::kind);
}

// A card inside of something: what is around it comes back with image().
class WrappedCard final : public Card {
 public:
  WrappedCard(std::unique_ptr<Card> card, Blob head, Blob tail)
      : card_(std::move(card)), head_(std::move(head)), tail_(std::move(tail)) {}
  CardKind kind() const override { return card_->kind(); }
  std::size_t block_bytes() const override { return card_->block_bytes(); }
  std::size_t capacity_blocks() const override { return card_->capacity_blocks(); }
  std::size_t free_blocks() const override { return card_->free_blocks(); }
  std::vector<CardEntry> entries() const override { return card_->entries(); }
  Result<CardSave> read(const std::string& name) const override { return card_->read(name); }
  Result<void> put(const CardSave& save) override { return card_->put(save); }
  Result<void> drop(const std::string& name) override { return card_->drop(name); }
  std::vector<CardProblem> check() const override { return card_->check(); }
  std::size_t repair() override { return card_->repair(); }
  Blob image() const override {
    const Blob inside = card_->image();
    Buffer file(head_.size() + inside.size() + tail_.size());
    auto out = file.bytes().begin();
    for (const Blob& piece : {head_, inside, tail_}) out = std::ranges::copy(piece.view(), out).out;
    return std::move(file).freeze();
  }

 private:
  std::unique_ptr<Card> card_;
  Blob head_;
  Blob tail_;
};

constexpr std::string_view parcel_magic = "PARCEL1\n";
constexpr std::size_t most_parcel_head = 16384;

// ---- Parcels: magic, length of the head, the head as TOML, the entry, the payload ------------------

Result<CardSave> read_parcel(const Blob& file) {
  const auto damaged = [](std::string what) {
    return fail(ErrorCode::damaged, "the parcel is damaged: " + std::move(what),
                "copy it again from where it came from");
  };
  const ByteView bytes = file.view();
  if (bytes.size() < parcel_magic.size() + 4) return damaged("it ends in its head");
  const std::size_t head = le32(bytes, parcel_magic.size());
  const std::size_t from = parcel_magic.size() + 4;
  if (head > most_parcel_head || head > bytes.size() - from) return damaged("its head runs over the end");
  const std::string text(bytes.begin() + static_cast<std::ptrdiff_t>(from),
                         bytes.begin() + static_cast<std::ptrdiff_t>(from + head));
  BAYSWAP_TRY(const toml::table root, parse_toml(text, "the parcel's head"));
  TableReader reader(root, "the parcel's head");
  CardSave save;
  BAYSWAP_TRY(const std::string kind, reader.needed_text("kind"));
  const auto known = card_kind_from_text(kind);
  if (!known)
    return fail(ErrorCode::not_recognised,
                fmt::format("a parcel of '{}', which is no card we know", printable(kind)));
  save.kind = *known;
  BAYSWAP_TRY(save.name, reader.needed_text("name"));
  BAYSWAP_TRY(auto title, reader.text("title"));
  save.title = std::move(title).value_or("");
  std::size_t at = from + head;
  for (const auto& [what, blob] : {std::pair{"entry", &save.entry}, std::pair{"payload", &save.payload}}) {
    BAYSWAP_TRY(const auto size, reader.integer(fmt::format("{}_bytes", what)));
    BAYSWAP_TRY(const std::string digest, reader.needed_text(fmt::format("{}_sha256", what)));
    if (!size || *size < 0 || std::cmp_greater(*size, bytes.size() - at))
      return damaged(fmt::format("its {} is cut short", what));
    *blob = file.slice(at, static_cast<std::size_t>(*size));
    at += blob->size();
    if (sha256(blob->view()).hex() != digest)
      return damaged(fmt::format("the digest of its {} is wrong", what));
  }
  if (at != bytes.size()) return damaged(fmt::format("{} bytes too many", bytes.size() - at));
  BAYSWAP_CHECK(reader.no_other_keys());
  return save;
}

}  // namespace

std::string_view to_text(CardKind kind) {
  return format_of(kind).tag;
}
std::optional<CardKind> card_kind_from_text(std::string_view text) {
  for (const CardFormat* format : formats())
    if (format->tag == text) return format->kind;
  return std::nullopt;
}
std::vector<CardKind> all_card_kinds() {
  std::vector<CardKind> kinds;
  for (const CardFormat* format : formats()) kinds.push_back(format->kind);
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

std::optional<CardGuess> guess_card(ByteView file) {
  constexpr std::size_t most_wrapper_bytes = 65536;
  std::optional<CardGuess> best;
  for (const CardFormat* format : formats()) {
    if (file.size() < format->image_bytes || file.size() - format->image_bytes > most_wrapper_bytes) continue;
    const std::size_t room = file.size() - format->image_bytes;
    // At the start, at the end, or behind a header of a round size.
    for (std::size_t at = 0; at <= room; at = at == room ? room + 1 : std::min(room, at + 16)) {
      std::string evidence;
      const double confidence = format->weigh(file.subspan(at, format->image_bytes), evidence);
      if (confidence > 0.4 && (!best || confidence > best->confidence))
        best = CardGuess{format->kind, confidence, at, room, std::move(evidence)};
    }
  }
  return best;
}

Result<std::unique_ptr<Card>> open_card(const Blob& file) {
  const auto guess = guess_card(file.view());
  if (!guess)
    return fail(ErrorCode::not_recognised,
                fmt::format("{} bytes that are no memory card we know", file.size()),
                "`bayswap inspect` tells what the file looks like");
  const CardFormat& format = format_of(guess->kind);
  const Blob image = file.slice(guess->at, format.image_bytes);
  auto card = format.open({image.view().begin(), image.view().end()});
  if (image.size() == file.size()) return card;
  return std::make_unique<WrappedCard>(std::move(card), file.slice(0, guess->at),
                                       file.slice(guess->at + image.size(), file.size()));
}

std::unique_ptr<Card> make_card(CardKind kind) {
  const CardFormat& format = format_of(kind);
  return format.open(format.fresh());
}

Blob to_parcel(const CardSave& save) {
  const std::string head = fmt::format(
      "kind = {}\nname = {}\ntitle = {}\nentry_bytes = {}\nentry_sha256 = \"{}\"\npayload_bytes = "
      "{}\npayload_sha256 = \"{}\"\n",
      toml_quoted(to_text(save.kind)), toml_quoted(save.name), toml_quoted(save.title), save.entry.size(),
      sha256(save.entry.view()).hex(), save.payload.size(), sha256(save.payload.view()).hex());
  std::vector<Byte> file(parcel_magic.begin(), parcel_magic.end());
  file.resize(file.size() + 4);
  put_le(file, parcel_magic.size(), 4, head.size());
  file.insert(file.end(), head.begin(), head.end());
  for (const Blob& piece : {save.entry, save.payload})
    file.insert(file.end(), piece.view().begin(), piece.view().end());
  return Blob::copy_of(file);
}

Result<Blob> to_single_save(const CardSave& save) {
  if (format_of(save.kind).single_entry_bytes == 0)
    return fail(ErrorCode::unsupported,
                fmt::format("{} saves have no usual form of their own", to_text(save.kind)),
                "a parcel has everything");
  Buffer file(save.entry.size() + save.payload.size());
  std::ranges::copy(save.payload.view(), std::ranges::copy(save.entry.view(), file.bytes().begin()).out);
  return std::move(file).freeze();
}

Result<CardSave> single_save_from(const Blob& file) {
  if (file.size() >= parcel_magic.size() &&
      std::equal(parcel_magic.begin(), parcel_magic.end(), file.view().begin(),
                 [](char a, Byte b) { return a == static_cast<char>(b); }))
    return read_parcel(file);
  for (const CardFormat* format : formats()) {
    const std::size_t head = format->single_entry_bytes;
    if (head == 0 || file.size() <= head) continue;
    if (auto save = format->from_entry(file.view().first(head), file.slice(head, file.size())))
      return *std::move(save);
  }
  return fail(ErrorCode::not_recognised, fmt::format("{} bytes that are no single save we know", file.size()),
              "a parcel, or the console's directory entry in front of the data");
}

}  // namespace bayswap
