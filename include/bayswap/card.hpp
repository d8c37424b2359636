// Memory cards: many games' saves in one file, each kind with a file system of its own.
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
  std::string name;   // names the save on its card; unique among those that are not deleted
  std::string title;  // as the save itself, or the directory, has it; UTF-8, may be empty
  std::string code;   // product code, may be empty
  Region region = Region::unknown;
  std::string language;  // ISO 639-1, where the card notes one
  std::size_t blocks = 0;
  std::size_t size_bytes = 0;  // of the payload, or of all files
  std::optional<std::int64_t>
      modified;  // seconds since 1970 as the console's clock shows them; nothing where it keeps none
  State state = State::good;
};
[[nodiscard]] std::string_view to_text(CardEntry::State state);
/// "2031-05-04 12:30:00"; with "+09:00" behind it for ps2, whose cards keep the time of that zone.
[[nodiscard]] std::string card_time(CardKind kind, std::int64_t modified);

/// A violation of the card's own rules.
struct CardProblem {
  std::size_t at = 0;       // offset in the image, without its wrapper
  bool repairable = false;  // without guessing
  std::string text;         // a sentence
};

/// A file of a save that is a folder (ps2).
struct CardFile {
  std::string name;
  Blob entry;  // its directory entry as the medium holds it
  Blob bytes;
  [[nodiscard]] bool operator==(const CardFile&) const = default;
};

/// One save off its card. What place it had there means nothing in it.
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

/// What a save off its card tells: all of an entry but its blocks and its state.
[[nodiscard]] CardEntry describe(const CardSave& save);
/// Returns a copy with another region in its code and its directory name. On discs (ps1, ps2) each region's
/// game has a product code of its own, which `code` says ("SLES-99001"); other kinds ignore it. Fails with
/// `unsupported` if the kind keeps no region there or has no sign for that one, `bad_usage` if the code is
/// needed and missing, or is none.
[[nodiscard]] Result<CardSave> restamped(const CardSave& save, Region region, std::string_view code = {});
/// Returns the time of a file inside a save, in seconds since 1970, UTC; nothing where its entry has none.
[[nodiscard]] std::optional<std::int64_t> modified_of(const CardFile& file);

/// A save that was found on a card in whatever state.
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
  std::size_t entry = 0;  // which of entries(), for BlockUse::save
};

/// A card image in memory. Changes are made to the copy in hand; image() gives it back. Not for several
/// threads at once.
class Card {
 public:
  Card() = default;
  Card(const Card&) = delete;
  Card& operator=(const Card&) = delete;
  virtual ~Card() = default;

  [[nodiscard]] virtual CardKind kind() const = 0;
  /// What is worth knowing of the image and breaks no rule; a sentence each.
  [[nodiscard]] virtual std::vector<std::string> notes() const { return {}; }
  /// In which form the image holds it: "plain"; "ecc" (with spare bytes); "packed", "spread".
  [[nodiscard]] virtual std::string_view form() const { return "plain"; }
  [[nodiscard]] virtual std::size_t block_bytes() const = 0;
  /// Blocks that saves can have.
  [[nodiscard]] virtual std::size_t capacity_blocks() const = 0;
  [[nodiscard]] virtual std::size_t free_blocks() const = 0;
  /// How many free blocks the save would take, now.
  [[nodiscard]] virtual std::size_t blocks_for(const CardSave& save) const = 0;
  /// In the directory's order; deleted ones that can still be read among them.
  [[nodiscard]] virtual std::vector<CardEntry> entries() const = 0;
  /// Fails with `not_found`, and the nearest name, if there is no such save; `damaged` if its blocks can't
  /// all be told.
  [[nodiscard]] virtual Result<CardSave> read(const std::string& name) const = 0;
  /// `does_not_fit` where there is no room, with how many blocks are missing; `bad_usage` for a save of
  /// another kind; `unsafe` where the name is taken.
  [[nodiscard]] virtual Result<void> put(const CardSave& save) = 0;
  /// As the console deletes it.
  [[nodiscard]] virtual Result<void> drop(const std::string& name) = 0;
  /// Brings a deleted save back. Fails with `not_found` if no deleted save has that name, `unsafe` if another
  /// save has it now, `damaged` if its blocks are no longer all its own, `unsupported` if the kind keeps no
  /// trace of what was deleted.
  [[nodiscard]] virtual Result<void> undelete(const std::string& name);
  /// Every violation; nothing for a sound card.
  [[nodiscard]] virtual std::vector<CardProblem> check() const = 0;
  /// Mends what can be mended without guessing. Gives back how many violations are gone.
  virtual std::size_t repair() = 0;
  /// Every save there is a trace of, deleted ones too. Of the image only the first `present_bytes` bytes are
  /// real, the others stand in for what is missing.
  [[nodiscard]] virtual std::vector<FoundSave> carve(std::size_t present_bytes) const = 0;
  /// One for each block, from the start of the medium.
  [[nodiscard]] virtual std::vector<CardBlock> map() const = 0;
  [[nodiscard]] virtual Blob image() const = 0;
};

/// Finds the kind, and a wrapper around the image, by content. The wrapper comes back with image().
/// `not_recognised` where it is no card; a damaged one is opened as far as it can be told.
/// `slot`: which controller pak, 1 to 4, of a file that holds four; the first where it is 0.
[[nodiscard]] Result<std::unique_ptr<Card>> open_card(const Blob& file, int slot = 0);
/// How many cards of equal right a file holds: 4 for a file with four controller paks, otherwise 1.
[[nodiscard]] int card_slots(ByteView file);

struct CardSize {
  std::size_t blocks = 0;       // that saves can have
  std::size_t image_bytes = 0;  // packed, without spare bytes
};
/// The sizes that cards of a kind have, the usual one first.
[[nodiscard]] std::vector<CardSize> card_sizes(CardKind kind);
/// "plain", "ecc", ...: what Card::form() can be, the usual one first.
[[nodiscard]] std::vector<std::string_view> card_forms(CardKind kind);
struct NewCardOptions {
  std::size_t blocks = 0;       // 0: the usual size
  std::size_t image_bytes = 0;  // where sizes have the same number of blocks (sat); 0: not said
  std::string form;             // empty: the usual one
  std::int64_t formatted = 0;   // seconds since 1970 on the console's clock; kinds that note it do
  bool japanese = false;        // the card's text is Shift-JIS, where it says so (gc)
};
/// A freshly formatted card, as the console leaves it. `bad_usage` where there is no such size or form.
[[nodiscard]] Result<std::unique_ptr<Card>> make_card(CardKind kind, const NewCardOptions& options);
/// The usual one.
[[nodiscard]] std::unique_ptr<Card> make_card(CardKind kind);

/// How sure the content is to be a card of some kind, 0 to 1, and why.
struct CardGuess {
  CardKind kind{};
  double confidence = 0;
  std::size_t at = 0;  // where the image begins; before and behind it is wrapper
  std::size_t image_bytes = 0;
  std::size_t wrapper_bytes = 0;  // how much of that there is
  bool swapped = false;           // the two bytes of each 16-bit word of the file are exchanged
  std::string evidence;
};
[[nodiscard]] std::optional<CardGuess> guess_card(ByteView file);

/// What could be saved off a card in whatever state.
struct Rescue {
  CardKind kind{};
  std::size_t at = 0;             // where in the file the card begins
  std::size_t missing_bytes = 0;  // of the image, behind the end of the file
  std::vector<FoundSave> saves;
  std::unique_ptr<Card> card;  // a fresh one with all that was to go onto it and had room
  std::vector<bool> on_card;   // for each of `saves`
};
/// Carves every save that can be found. `kind` where the user knows it; `slot` as in open_card. What is
/// certain or likely goes onto the fresh card, and with `also_doubtful` the rest as far as it can be told.
/// Fails with `not_recognised` if nothing at all tells the kind.
[[nodiscard]] Result<Rescue> rescue_card(const Blob& file, std::optional<CardKind> kind = std::nullopt,
                                         int slot = 0, bool also_doubtful = false);

// ---- Single saves in files of their own ---------------------------------------------------------

/// Our own container for any kind (docs/formats/parcel.md).
[[nodiscard]] Blob to_parcel(const CardSave& save);
/// The console's directory entry in front of the payload: the trade's usual form. `unsupported` where the
/// kind has none.
[[nodiscard]] Result<Blob> to_single_save(const CardSave& save);
/// Either of them, told by content. `damaged` where a digest is wrong, `not_recognised` otherwise.
[[nodiscard]] Result<CardSave> single_save_from(const Blob& file);
/// A single save somewhere inside a file whose own form is not known.
struct EmbeddedSave {
  CardSave save;
  std::size_t at = 0;     // where its entry, or its content, begins
  bool nameless = false;  // the file does not say under which name the game looks for it
  std::string evidence;   // a sentence
};
/// Looks through a file for consoles' own directory entries with their content behind them, or for content
/// that shows itself (ps1 title frames, dc headers). Returns the likeliest first; at most 16. Bounded by the
/// file's first 64 KiB for where one can begin.
[[nodiscard]] std::vector<EmbeddedSave> find_embedded_saves(const Blob& file);
/// A ps2 save from the files of a folder; `name` is the folder's. Entries are made as the console makes them,
/// with `modified` (seconds since 1970, UTC) as their time. `bad_usage` where a name can't stand on a card.
struct FolderFile {
  std::string name;
  Blob bytes;
  std::int64_t modified = 0;
};
[[nodiscard]] Result<CardSave> folder_save(const std::string& name, const std::vector<FolderFile>& files);

/// A save of which only the data are there. `name`: as entries() tells it, for gc and n64 with the maker
/// behind the code. Filled up with 00 to whole blocks. The entry is as of `like` where there is one,
/// otherwise a fresh one of `modified` (seconds since 1970 on the console's clock), without icons.
/// `bad_usage` for names that can't be, `unsupported` for ps2 and scd.
[[nodiscard]] Result<CardSave> payload_save(CardKind kind, const std::string& name, const Blob& payload,
                                            std::int64_t modified, const CardSave* like = nullptr);

// ---- Pictures -----------------------------------------------------------------------------------

/// Pixels, row by row: red, green, blue, opacity, a byte each.
struct Picture {
  std::size_t width = 0;
  std::size_t height = 0;
  std::vector<std::uint32_t> pixels;  // 0xRRGGBBAA
};
/// What the console shows of a save. Empty where it has nothing, or what it has can't be read.
struct SaveIcon {
  std::vector<Picture> frames;
  std::optional<Picture> banner;
  bool model = false;  // a shape in space: frames hold its texture
};
[[nodiscard]] SaveIcon icon_of(const CardSave& save);

}  // namespace bayswap
BAYSWAP_EXPORT_END
