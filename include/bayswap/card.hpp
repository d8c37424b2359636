// Memory cards: many games' saves in one file, each kind with a file system of its own. Belongs to
// bayswap::core.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/save.hpp>

#include <memory>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

enum class CardKind { ps1, ps2, gc, n64, dc, sat, pce, scd };
/// "ps1", "n64", ...: the platform's tag.
[[nodiscard]] std::string_view to_text(CardKind kind);
[[nodiscard]] std::optional<CardKind> card_kind_from_text(std::string_view text);
[[nodiscard]] std::vector<CardKind> all_card_kinds();

struct CardEntry {
  enum class State { good, damaged, deleted };
  std::string name;   // identifies the save on its card; unique among those that are not deleted
  std::string title;  // from the save itself or the directory; UTF-8, may be empty
  std::string code;   // product code, may be empty
  Region region = Region::unknown;
  std::string language;  // ISO 639-1, if the card has one
  std::size_t blocks = 0;
  std::size_t size_bytes = 0;  // of the payload, or of all files
  std::optional<std::int64_t>
      modified;  // seconds since 1970 as the console's clock shows them; nothing where it keeps none
  State state = State::good;
};
[[nodiscard]] std::string_view to_text(CardEntry::State state);
/// Returns e.g. "2031-05-04 12:30:00"; followed by "+09:00" for ps2, whose cards store the time of that zone.
[[nodiscard]] std::string card_time(CardKind kind, std::int64_t modified);

/// A violation of the card's own rules.
struct CardProblem {
  std::size_t at = 0;       // offset in the image, without its wrapper
  bool repairable = false;  // can be repaired without guessing
  std::string text;         // a sentence
};

/// A file of a save that is a folder (ps2).
struct CardFile {
  std::string name;
  Blob entry;  // its directory entry as the medium holds it
  Blob bytes;
  [[nodiscard]] bool operator==(const CardFile&) const = default;
};

/// One save taken off its card. It contains nothing about its place there.
struct CardSave {
  CardKind kind{};
  std::string name;
  std::string title;
  Blob entry;    // its directory entry as the medium holds it
  Blob payload;  // all its blocks, in their order; empty for a folder
  std::vector<CardFile> files;

  [[nodiscard]] std::size_t size_bytes() const;
  /// The same bytes inside, wherever they come from.
  [[nodiscard]] bool same_content(const CardSave& other) const;
};

/// Returns the entry of a save off its card, without blocks and state.
[[nodiscard]] CardEntry describe(const CardSave& save);
/// Returns a copy with another region in its code and its directory name. On discs (ps1, ps2) the game has
/// another product code in each region: pass it in `code` ("SLES-99001"). Where the code's last letter is the
/// region (gc, n64), `code` is what the game is called there ("GZ9X", with its maker "GZ9X01"); if it is
/// empty, only the letter changes, to the region's usual one. Fails with `unsupported` if the kind stores no
/// region or cannot express that one, `bad_usage` if the code is needed and missing, is none, or is of
/// another region.
[[nodiscard]] Result<CardSave> restamped(const CardSave& save, Region region, std::string_view code = {});
/// Returns the time of a file in a save, in seconds since 1970, UTC; nothing if its entry has none.
[[nodiscard]] std::optional<std::int64_t> modified_of(const CardFile& file);

/// A save that was found on a card in any condition.
struct FoundSave {
  enum class Confidence {
    certain,  // every sign agrees
    likely,   // one sign is missing or had to be guessed, and the others agree
    doubtful  // bytes are missing, or may be another save's
  };
  CardSave save;
  Confidence confidence = Confidence::certain;
  bool deleted = false;
  std::vector<std::string> notes;  // sentences: what is missing, what was guessed
};
[[nodiscard]] std::string_view to_text(FoundSave::Confidence confidence);

/// What a block of a card is used for.
enum class BlockUse { free, save, system, lost };
struct CardBlock {
  BlockUse use = BlockUse::free;
  std::size_t entry = 0;  // index into entries(), for BlockUse::save
};

/// A card image in memory. Changes apply to this copy; image() returns it. Not for several threads at once.
class Card {
 public:
  Card() = default;
  Card(const Card&) = delete;
  Card& operator=(const Card&) = delete;
  virtual ~Card() = default;

  [[nodiscard]] virtual CardKind kind() const = 0;
  /// Returns what is worth knowing of the image and violates no rule, a sentence each.
  [[nodiscard]] virtual std::vector<std::string> notes() const { return {}; }
  /// Returns the form of the image: "plain"; "ecc" (with spare bytes); "packed", "spread".
  [[nodiscard]] virtual std::string_view form() const { return "plain"; }
  [[nodiscard]] virtual std::size_t block_bytes() const = 0;
  /// Returns the number of blocks that saves can use.
  [[nodiscard]] virtual std::size_t capacity_blocks() const = 0;
  [[nodiscard]] virtual std::size_t free_blocks() const = 0;
  /// Returns how many free blocks the save would take now.
  [[nodiscard]] virtual std::size_t blocks_for(const CardSave& save) const = 0;
  /// Returns the entries in the directory's order, including deleted ones that can still be read.
  [[nodiscard]] virtual std::vector<CardEntry> entries() const = 0;
  /// Returns a save. Fails with `not_found`, and the nearest name, if it does not exist, `damaged` if not all
  /// of its blocks can be determined.
  [[nodiscard]] virtual Result<CardSave> read(const std::string& name) const = 0;
  /// Returns what around the card does not fit any more once the card changes, a sentence; empty: nothing.
  [[nodiscard]] virtual std::string stale_once_changed() const { return {}; }
  /// Returns why a console may not find the save on this card, a sentence each.
  [[nodiscard]] virtual std::vector<std::string> warnings_for(const CardSave& /*save*/) const { return {}; }
  /// Adds a save. Fails with `does_not_fit`, and the number of missing blocks, if there is no room;
  /// `bad_usage` for a save of another kind; `unsafe` if the name exists.
  [[nodiscard]] virtual Result<void> put(const CardSave& save) = 0;
  /// Deletes a save the way the console does. Fails with `not_found` if it does not exist.
  [[nodiscard]] virtual Result<void> drop(const std::string& name) = 0;
  /// Brings a deleted save back. Fails with `not_found` if no deleted save has that name, `unsafe` if another
  /// save has it now, `damaged` if its blocks are no longer all its own, `unsupported` if the kind keeps no
  /// trace of what was deleted.
  [[nodiscard]] virtual Result<void> undelete(const std::string& name);
  /// Returns every violation; none for a sound card.
  [[nodiscard]] virtual std::vector<CardProblem> check() const = 0;
  /// Repairs what can be repaired without guessing. Returns how many violations are gone.
  virtual std::size_t repair() = 0;
  /// Returns every save that left a trace, including deleted ones. Only the first `present_bytes` bytes of
  /// the image are real; the others fill in for missing ones.
  [[nodiscard]] virtual std::vector<FoundSave> carve(std::size_t present_bytes) const = 0;
  /// Returns the use of each block, from the start of the medium.
  [[nodiscard]] virtual std::vector<CardBlock> map() const = 0;
  [[nodiscard]] virtual Blob image() const = 0;
};

/// Opens a card image of any kind, recognised by its content. A header or trailer around the image is kept
/// and returned by image(). Opens a damaged card as far as possible. Fails with `not_recognised` if it is not
/// a card. `slot`: which of the cards of a file with several (see card_slots), from 1 on; 0: the first.
[[nodiscard]] Result<std::unique_ptr<Card>> open_card(const Blob& file, int slot = 0);
/// Returns how many cards a file contains: 4 for a file with four controller paks, 2 for one with the
/// internal memory of a sat or scd console and a cartridge's after it, otherwise 1.
[[nodiscard]] int card_slots(ByteView file);

struct CardSize {
  std::size_t blocks = 0;       // that saves can use
  std::size_t image_bytes = 0;  // packed, without spare bytes
};
/// Returns the sizes that cards of a kind can have, the usual one first.
[[nodiscard]] std::vector<CardSize> card_sizes(CardKind kind);
/// Returns the values that Card::form() can have for a kind, the usual one first.
[[nodiscard]] std::vector<std::string_view> card_forms(CardKind kind);
struct NewCardOptions {
  std::size_t blocks = 0;       // 0: the usual size
  std::size_t image_bytes = 0;  // distinguishes sizes with the same number of blocks (sat); 0: not given
  std::string form;             // empty: the usual one
  std::int64_t formatted =
      0;  // seconds since 1970 on the console's clock; stored by the kinds that have a field for it
  bool japanese = false;  // marks the card's text as Shift-JIS (gc)
};
/// Returns a freshly formatted card, as the console makes it. Fails with `bad_usage` for a size or form that
/// the kind does not have.
[[nodiscard]] Result<std::unique_ptr<Card>> make_card(CardKind kind, const NewCardOptions& options);
/// Returns a freshly formatted card of the usual size and form.
[[nodiscard]] std::unique_ptr<Card> make_card(CardKind kind);

/// A guess that the content is a card of some kind. `confidence` is 0 to 1.
struct CardGuess {
  CardKind kind{};
  double confidence = 0;
  std::size_t at = 0;  // offset of the image; the rest of the file is a wrapper
  std::size_t image_bytes = 0;
  std::size_t wrapper_bytes = 0;  // size of the wrapper, before and after the image
  std::size_t reversed_in = 1;    // the file's bytes are reversed in units of so many: 1 (not at all), 2 or 4
  std::string evidence;
};
[[nodiscard]] std::optional<CardGuess> guess_card(ByteView file);

/// The saves that could be recovered from a card in any condition.
struct Rescue {
  CardKind kind{};
  std::size_t at = 0;             // offset of the card in the file
  std::size_t missing_bytes = 0;  // of the image, after the end of the file
  std::vector<FoundSave> saves;
  std::unique_ptr<Card> card;  // a fresh one with the saves that were meant for it and fit
  std::vector<bool> on_card;   // for each of `saves`
};
/// Recovers every save that can be found. `kind`: if the user knows it; `slot` as in open_card. Certain and
/// likely ones go onto the fresh card, and with `also_doubtful` the others too. Fails with `not_recognised`
/// if the image does not show its kind.
[[nodiscard]] Result<Rescue> rescue_card(const Blob& file, std::optional<CardKind> kind = std::nullopt,
                                         int slot = 0, bool also_doubtful = false);

// ---- Single saves in files of their own ---------------------------------------------------------

/// Returns the save as a parcel, our own container for every kind (docs/formats/parcel.md).
[[nodiscard]] Blob to_parcel(const CardSave& save);
/// Returns the console's directory entry followed by the payload: the usual form of single saves. Fails with
/// `unsupported` if the kind has no such form.
[[nodiscard]] Result<Blob> to_single_save(const CardSave& save);
/// Reads either of them, recognised by content. Fails with `damaged` if a digest is wrong, `not_recognised`
/// if it is neither.
[[nodiscard]] Result<CardSave> single_save_from(const Blob& file);
/// A single save inside a file of unknown format.
struct EmbeddedSave {
  CardSave save;
  std::size_t at = 0;     // offset of its entry, or of its content
  bool nameless = false;  // the file does not contain the name under which the game looks for it
  std::string evidence;   // a sentence
};
/// Searches a file for directory entries of consoles followed by their content, or for content with a mark of
/// its own (ps1 title frames, dc headers). Returns at most 16, the likeliest first. A save can begin in the
/// first 64 KiB of the file only.
[[nodiscard]] std::vector<EmbeddedSave> find_embedded_saves(const Blob& file);
/// A file for folder_save. `modified` is in seconds since 1970, UTC.
struct FolderFile {
  std::string name;
  Blob bytes;
  std::int64_t modified = 0;
};
/// Returns a ps2 save made from the files of a folder; `name` is the folder's. Makes the entries as the
/// console does. Fails with `bad_usage` if a card cannot have one of the names.
[[nodiscard]] Result<CardSave> folder_save(const std::string& name, const std::vector<FolderFile>& files);

/// Returns a save made from its data alone. `name` is as entries() gives it, for gc and n64 with the maker
/// after the code. Pads the data with 00 to whole blocks. Copies the entry of `like` if that is not nullptr,
/// otherwise makes one without icons, dated `modified` (seconds since 1970 on the console's clock). Fails
/// with `bad_usage` for a name that is not possible, `unsupported` for ps2 and scd.
[[nodiscard]] Result<CardSave> payload_save(CardKind kind, const std::string& name, const Blob& payload,
                                            std::int64_t modified, const CardSave* like = nullptr);

// ---- Pictures -----------------------------------------------------------------------------------

/// Pixels, row by row: red, green, blue, opacity, a byte each.
struct Picture {
  std::size_t width = 0;
  std::size_t height = 0;
  std::vector<std::uint32_t> pixels;  // 0xRRGGBBAA
};
/// The pictures that the console shows of a save. Empty if it has none, or they can't be read.
struct SaveIcon {
  std::vector<Picture> frames;
  std::optional<Picture> banner;
  bool model = false;  // the icon is a 3D model: frames contain its texture
};
[[nodiscard]] SaveIcon icon_of(const CardSave& save);

}  // namespace bayswap
BAYSWAP_EXPORT_END
