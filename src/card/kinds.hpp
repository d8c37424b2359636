// What a kind of card is to the rest of the room: one table of functions for its medium, one for a save off
// it.
#pragma once

#include <bayswap/card.hpp>

#include <array>
#include <span>

namespace bayswap {

/// A header and trailer around an image may have so many bytes together.
inline constexpr std::size_t max_wrapper_bytes = 65536;

/// One save off its card. In src/card/<tag>_save.cpp.
struct SaveFormat {
  CardKind kind{};
  /// How long a directory entry is; `is_save` is asked with no other.
  std::size_t entry_bytes = 0;
  /// The entry is before the payload in the trade's usual form.
  bool usual_single = false;
  /// An entry that a console would have written; asked while carving, where anything can be.
  bool (*plausible)(ByteView entry) = nullptr;
  /// Entry, payload and files can be those of a save.
  bool (*is_save)(const CardSave& save) = nullptr;
  CardEntry (*describe)(const CardSave& save) = nullptr;
  SaveIcon (*icon)(const CardSave& save) = nullptr;
  /// The entry and payload changed; nothing where there is no sign for that region.
  std::optional<CardSave> (*restamped)(const CardSave& save, Region region, std::string_view code) = nullptr;
  /// Each region's game has another product code, which restamped needs.
  bool code_by_region = false;
  /// A payload is a whole number of these.
  std::size_t payload_unit = 1;
  /// An entry for a save of which only the data are there; nothing where `name` can be none. `modified`:
  /// seconds since 1970 on the console's clock.
  std::optional<std::vector<Byte>> (*fresh_entry)(std::string_view name, std::int64_t modified) = nullptr;
  /// What `name` has to look like; part of a sentence.
  std::string_view name_form;
  /// Makes the entry say how long the payload is.
  void (*set_size)(std::span<Byte> entry, std::size_t payload_bytes) = nullptr;
  /// The trade's form for one save in a file, where it is not the entry before the payload. Nothing for a
  /// save that has none.
  std::optional<Blob> (*to_file)(const CardSave& save) = nullptr;
  std::optional<CardSave> (*from_file)(const Blob& file) = nullptr;
};

/// The medium. In src/card/<tag>.cpp.
struct CardFormat {
  const SaveFormat& save;
  std::string_view tag;
  std::span<const CardSize> sizes;          // the usual one first; of the first form
  std::span<const std::string_view> forms;  // the usual one first
  /// The sizes that a file with such a card can have, whatever its form.
  std::span<const std::size_t> image_sizes;
  /// How sure these bytes, as many as one of the sizes, are to be such a card: 0 to 1, and why.
  double (*score)(ByteView image, std::string& evidence) = nullptr;
  std::unique_ptr<Card> (*open)(const Blob& image) = nullptr;
  Blob (*fresh)(const CardSize& size, const NewCardOptions& options) = nullptr;
  /// Whether the image shows the format's own mark, by a few comparisons: asked at the thousands of places
  /// where a card could be inside of a file, or with its bytes exchanged. At so many, a checksum that fits is
  /// chance. False for a card with a mark only if its score() is at most `weak_score`.
  bool (*promising)(ByteView image) = nullptr;
  /// Whether `promising` can be true of an image that begins at a multiple of 16 of the file: one pass over
  /// it instead of one for each of the sizes.
  bool (*possible)(ByteView file) = nullptr;
};
/// What is at most as sure as this is no card, though rescue may find something in it.
inline constexpr double weak_score = 0.4;

[[nodiscard]] const CardFormat& ps1_format();
[[nodiscard]] const CardFormat& ps2_format();
[[nodiscard]] const CardFormat& gc_format();
[[nodiscard]] const CardFormat& n64_format();
[[nodiscard]] const CardFormat& dc_format();
[[nodiscard]] const CardFormat& sat_format();
[[nodiscard]] const CardFormat& pce_format();
[[nodiscard]] const CardFormat& scd_format();

[[nodiscard]] const SaveFormat& ps1_save();
[[nodiscard]] const SaveFormat& ps2_save();
[[nodiscard]] const SaveFormat& gc_save();
[[nodiscard]] const SaveFormat& n64_save();
[[nodiscard]] const SaveFormat& dc_save();
[[nodiscard]] const SaveFormat& sat_save();
[[nodiscard]] const SaveFormat& pce_save();
[[nodiscard]] const SaveFormat& scd_save();

/// The bytes reversed in units of 2 or 4; what is left at the end stays.
[[nodiscard]] Blob reversed_in_units(ByteView file, std::size_t unit);
/// Where in a file one of its cards is.
struct CardSlot {
  CardKind kind{};
  std::size_t at = 0;
  std::size_t bytes = 0;
};
/// The cards of a file that has several: four controller paks, alone or after the EEPROM and before the other
/// chips; the internal memory of a sat or scd console, then its cartridge's. Nothing if there is one at most.
/// `by_size`: paks that show no sign of being one as well.
[[nodiscard]] std::vector<CardSlot> card_slots_of(ByteView file, bool by_size = false);
[[nodiscard]] const CardFormat& card_format(CardKind kind);
[[nodiscard]] std::span<const CardFormat* const> card_formats();
/// A save out of a file of its own: its content in the order that the console has.
[[nodiscard]] CardSave single_save(CardKind kind, Blob entry, Blob payload);
/// A save with its name and title told by its entry and payload.
/// Plain ASCII of at most as many bytes as `field` has, 00 after it. False where `text` is not.
[[nodiscard]] bool put_name(std::span<Byte> field, std::string_view text, Byte filler = 0);
[[nodiscard]] CardSave named_save(CardKind kind, Blob entry, Blob payload, std::vector<CardFile> files = {});

}  // namespace bayswap
