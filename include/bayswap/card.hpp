// Memory cards: many games' saves in one file, each kind with a file system of its own.
#pragma once

#include <bayswap/save.hpp>

#include <memory>

namespace bayswap {

enum class CardKind { ps1, n64 };
/// "ps1", "n64": the platform's tag.
[[nodiscard]] std::string_view to_text(CardKind kind);
[[nodiscard]] std::optional<CardKind> card_kind_from_text(std::string_view text);
[[nodiscard]] std::vector<CardKind> all_card_kinds();

struct CardEntry {
  enum class State { good, damaged, deleted };
  std::string name;   // names the save on its card; unique among those that are not deleted
  std::string title;  // as the save itself, or the directory, has it; UTF-8, may be empty
  std::string code;   // product code, may be empty
  Region region = Region::unknown;
  std::size_t blocks = 0;
  std::size_t size_bytes = 0;  // of the payload
  std::optional<std::int64_t>
      modified;  // seconds since 1970 on the console's clock; nothing where it keeps none
  State state = State::good;
};
[[nodiscard]] std::string_view to_text(CardEntry::State state);

/// A violation of the card's own rules.
struct CardProblem {
  std::size_t at = 0;     // offset in the image, without its wrapper
  bool mendable = false;  // without guessing
  std::string text;       // a sentence
};

/// One save off its card. What place it had there is not in it.
struct CardSave {
  CardKind kind{};
  std::string name;
  std::string title;
  Blob entry;    // its directory entry as the medium holds it
  Blob payload;  // all its blocks, in their order
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
  [[nodiscard]] virtual std::size_t block_bytes() const = 0;
  /// Blocks that saves can have.
  [[nodiscard]] virtual std::size_t capacity_blocks() const = 0;
  [[nodiscard]] virtual std::size_t free_blocks() const = 0;
  /// In the directory's order; deleted ones that can still be read among them.
  [[nodiscard]] virtual std::vector<CardEntry> entries() const = 0;
  /// `bad_usage` with the nearest name where it is not there; `damaged` where its blocks can't all be told.
  [[nodiscard]] virtual Result<CardSave> read(const std::string& name) const = 0;
  /// `does_not_fit` where there is no room, with how many blocks are missing; `bad_usage` for a save of
  /// another kind; `unsafe` where the name is taken.
  [[nodiscard]] virtual Result<void> put(const CardSave& save) = 0;
  /// As the console deletes it.
  [[nodiscard]] virtual Result<void> drop(const std::string& name) = 0;
  /// Every violation; nothing for a sound card.
  [[nodiscard]] virtual std::vector<CardProblem> check() const = 0;
  /// Mends what can be mended without guessing. Gives back how much was.
  virtual std::size_t repair() = 0;
  [[nodiscard]] virtual Blob image() const = 0;
};

/// Finds the kind, and a wrapper around the image, by content. The wrapper comes back with image().
/// `not_recognised` where it is no card; a damaged one is opened as far as it can be told.
[[nodiscard]] Result<std::unique_ptr<Card>> open_card(const Blob& file);
/// A freshly formatted card, as the console leaves it.
[[nodiscard]] std::unique_ptr<Card> make_card(CardKind kind);
/// How sure the content is to be a card of some kind, 0 to 1, and why.
struct CardGuess {
  CardKind kind{};
  double confidence = 0;
  std::size_t at = 0;             // where the image begins; before and behind it is wrapper
  std::size_t wrapper_bytes = 0;  // how much of that there is
  std::string evidence;
};
[[nodiscard]] std::optional<CardGuess> guess_card(ByteView file);

// ---- Single saves in files of their own ---------------------------------------------------------

/// Our own container for any kind (docs/formats/parcel.md).
[[nodiscard]] Blob to_parcel(const CardSave& save);
/// The console's directory entry in front of the payload: the trade's usual form. `unsupported` where the
/// kind has none.
[[nodiscard]] Result<Blob> to_single_save(const CardSave& save);
/// Either of them, told by content. `damaged` where a digest is wrong, `not_recognised` otherwise.
[[nodiscard]] Result<CardSave> single_save_from(const Blob& file);

}  // namespace bayswap
