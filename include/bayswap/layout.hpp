// Layouts: how a file stores the parts of a save. They are data in TOML (docs/layouts.md), not code. Belongs
// to bayswap::core.
#pragma once

#include <bayswap/compression.hpp>
#include <bayswap/export.hpp>
#include <bayswap/save.hpp>

#include <utility>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The order of a slot's bytes in the file, compared with the hardware's.
enum class ByteOrder {
  chip,    // as in the chip
  swap16,  // the bytes of each 16-bit word reversed
  swap32,  // of each 32-bit word
  swap64,  // of each 64-bit word
};
[[nodiscard]] std::string_view to_text(ByteOrder order);
/// Returns e.g. "as the chip holds it" or "each 32-bit word reversed".
[[nodiscard]] std::string_view in_words(ByteOrder order);

/// How a slot encodes a part's bytes.
enum class Encoding {
  plain,           // byte for byte
  nibbles,         // memory of 4-bit cells, one per byte; the upper half of each byte is ignored
  nibbles_packed,  // memory of 4-bit cells, two per byte, the lower half first
  clock44,         // the gb clock's ten registers in 32-bit words, then 32-bit Unix seconds
  clock_start,     // 64-bit Unix seconds at which the gb clock was zero
  pages_ecc,       // each 512 bytes followed by their 16 spare bytes with the ECC (docs/formats/ps2.md)
};
[[nodiscard]] std::string_view to_text(Encoding encoding);

/// What fills the other addresses if a slot's bytes take only every second one.
enum class Interleave { none, zero, ff, doubled };
[[nodiscard]] std::string_view to_text(Interleave interleave);
/// Which addresses the bytes take.
enum class AddressParity { odd, even };
[[nodiscard]] std::string_view to_text(AddressParity parity);

/// What fills a slot if the save has no part for it.
enum class DefaultFill { ff, zero, fresh_pak };
[[nodiscard]] std::string_view to_text(DefaultFill fill);

/// Where and how a file stores one part.
struct Slot {
  Role role;
  std::size_t at = 0;  // offset from the start of the file; with `after_variable` from the end of the part
                       // that has several sizes
  bool after_variable = false;
  std::vector<std::size_t>
      file_sizes;  // bytes it takes in the file, ascending; more than one in a single slot only
  std::vector<std::size_t> chip_sizes;  // sizes of the parts it can contain, ascending
  ByteOrder order = ByteOrder::chip;
  Encoding encoding = Encoding::plain;
  Interleave interleave = Interleave::none;
  AddressParity parity = AddressParity::odd;
  DefaultFill fill = DefaultFill::ff;
  std::vector<Byte>
      mark;  // bytes that a formatted part contains, in chip order, to recognise it; may be empty
  std::int64_t mark_at = 0;  // their offset; negative: from the part's end

  /// Returns the size of the part in so many bytes of the file.
  [[nodiscard]] std::size_t part_size(std::size_t file_bytes) const;
  /// Returns the bytes that a part of this size takes in the file.
  [[nodiscard]] std::size_t file_size(std::size_t part_bytes) const;
  /// Returns the sizes of parts that fill the slot, ascending.
  [[nodiscard]] std::vector<std::size_t> part_sizes() const;
  /// Returns whether the file contains the part's bytes unchanged.
  [[nodiscard]] bool is_straight() const {
    return order == ByteOrder::chip && encoding == Encoding::plain && interleave == Interleave::none;
  }
};

/// A checksum somewhere in a file's plain bytes, or in a layer of a state, that covers bytes of the same.
struct IntegrityField {
  enum class Kind { crc32, crc16, adler32, sum32, sum16, md5, sha1 };
  Kind kind{};
  std::size_t at = 0;  // offset there
  bool big_endian = false;
  std::size_t from = 0;        // the first byte it covers
  std::size_t before_end = 0;  // it covers all but so many bytes at the end, and not itself
  [[nodiscard]] bool operator==(const IntegrityField&) const = default;
};
[[nodiscard]] std::string_view to_text(IntegrityField::Kind kind);

/// Known bytes of a header or trailer: one of `bytes`, `number_bytes`, `by_size`, `unknown_bytes`,
/// `checksum`.
struct Field {
  std::size_t at = 0;  // as in Slot
  bool after_variable = false;
  std::vector<Byte> bytes;  // constant
  std::size_t number_bytes =
      0;  // a little-endian number of so many bytes: the size of the part that has several sizes
  std::vector<std::pair<std::size_t, std::vector<Byte>>> by_size;  // constant for each such size, ascending
  std::size_t unknown_bytes = 0;           // they vary, and only a file of the target has the right ones
  std::optional<IntegrityField> checksum;  // made by pack(); of it the field's own place counts, not `at`

  [[nodiscard]] std::size_t size_bytes() const;
  /// Returns the field's bytes in a file whose part of several sizes has `part_bytes`; empty if they are
  /// unknown, or a checksum.
  [[nodiscard]] std::vector<Byte> value(std::size_t part_bytes) const;
};

/// A compressed stream that contains the parts.
struct Stream {
  Compression kind = Compression::none;
  std::size_t at = 0;      // offset in the file; the rest of the file is shell
  std::vector<Byte> head;  // bytes before it if there is no shell: `at` of them, or none
  std::vector<Byte> tail;  // bytes after it if there is no shell
};

/// How a file, or a set of files, stores the parts of a save.
struct Layout {
  std::string id;  // "n64.combined"
  Platform platform{};
  std::string name;       // a short line
  std::string about;      // a paragraph; may be empty
  std::string extension;  // the usual one, with its dot; may be empty
  Byte fill = 0;          // fills the space between slots if there is no shell
  std::size_t size = 0;   // whole file in bytes; 0: the file ends with its last slot or field
  std::vector<Slot> slots;
  std::vector<Field> fields;
  Stream stream;  // if compressed: offsets and sizes above are those of the plain bytes
  std::vector<std::string>
      members;         // of a set: ids; one file per part, each in the first of these layouts that fits
  std::string origin;  // "built in", or the path of the layout file

  [[nodiscard]] bool is_set() const { return !members.empty(); }
  /// Returns the sizes that a file can have before compression, ascending; none for a set.
  [[nodiscard]] std::vector<std::size_t> file_sizes() const;
  [[nodiscard]] const Slot* slot(Role role) const;
  /// Returns the slot with several sizes; nullptr if there is none.
  [[nodiscard]] const Slot* variable_slot() const;

  struct Place {
    std::size_t at = 0;
    std::size_t size = 0;
  };
  /// Returns the place of a slot or field in a file of this size, which must be one of file_sizes().
  [[nodiscard]] Place place(const Slot& slot, std::size_t file_size) const;
  [[nodiscard]] Place place(const Field& field, std::size_t file_size) const;
};

/// Reads a layout file; `origin` names it in errors. Fails with `bad_usage`, and the line, for unknown keys,
/// overlapping slots, sizes over 72 MiB and the like.
[[nodiscard]] Result<Layout> parse_layout(std::string_view toml, const std::string& origin);
/// Returns the layout as a layout file, which parse_layout reads back.
[[nodiscard]] std::string to_toml(const Layout& layout);

/// The built-in layouts and those that were added. Several threads may use one at once as long as none adds
/// to it. Returned layouts live as long as the catalog or a copy of it.
class Catalog {
 public:
  /// Adds a layout. Fails with `bad_usage` if its id exists.
  Result<void> add(Layout layout);
  /// Returns a layout by its id. Fails with `bad_usage` for an unknown id; the hint names the nearest one.
  [[nodiscard]] Result<const Layout*> find(std::string_view id) const;
  /// Returns all layouts, or those for a platform's saves, sorted by id.
  [[nodiscard]] std::vector<const Layout*> all(std::optional<Platform> platform = {}) const;

 private:
  std::vector<std::shared_ptr<const Layout>> added_;
};

/// Returns the parts of a file; those of straight slots share the file's bytes. Fails with `does_not_fit` if
/// the size is not one of the layout's, `bad_usage` for a set.
[[nodiscard]] Result<Save> unpack(const Layout& layout, const Blob& file);

/// Returns a file with the parts, and its checksums right; pack(unpack(x), x) == x where those of x are.
/// Parts that the save lacks, and the bytes between slots, come from `shell` (a file in the same layout), or
/// are blank without it. Fails with `does_not_fit` for a part that has no slot, or a size that its slot does
/// not have.
[[nodiscard]] Result<Blob> pack(const Layout& layout, const Save& save, const Blob* shell = nullptr);

// ---- Telling layouts apart ----------------------------------------------------------------------

class StateMaps;

/// What is known of a file before it is opened.
struct Hints {
  std::optional<Platform> platform;
  std::optional<GameId> game;
  std::vector<ChipFact> chips;        // of that game
  std::string extension;              // the file's, with its dot: weak evidence
  const StateMaps* states = nullptr;  // maps of save states beside the built-in ones
  bool looked_beside = false;         // hints_beside() made them: a ROM beside the file would be in them
};

/// How a file's size compares with a layout's.
enum class Fit {
  exact,
  padded,   // the layout's bytes, followed by nothing but 00 or FF
  trimmed,  // it ends early: the rest was blank, or is lost
};

/// A file that was cut or extended to the length its layout has.
struct Fitted {
  Blob bytes;
  Fit fit = Fit::exact;
  Blob padding;             // the bytes that were cut off
  std::size_t missing = 0;  // bytes that were added
  /// Returns what was done, as a sentence; empty for Fit::exact.
  [[nodiscard]] std::string in_words(const Layout& layout) const;
};
/// Cuts padding off, or fills up a file that ends early with the layout's blank bytes. A known chip
/// determines the length. Fails with `does_not_fit` if neither gives a size of the layout.
[[nodiscard]] Result<Fitted> fit(const Layout& layout, const Blob& file,
                                 const std::vector<ChipFact>& chips = {});

/// A file that was opened: decompressed, without padding, its parts separate.
struct OpenedSave {
  Save save;
  Compressed file;
  Fitted fitted;
  std::vector<std::string> notes;  // what it took, a sentence each
};
/// Calls unwrap, fit and unpack. Fails as these do.
[[nodiscard]] Result<OpenedSave> open_save(const Layout& layout, const Blob& file,
                                           const std::vector<ChipFact>& chips = {});

struct LayoutMatch {
  const Layout* layout = nullptr;
  Fit fit = Fit::exact;
  double confidence = 0;              // 0 to 1; at most 1 for all matches together
  std::vector<std::string> evidence;  // one sentence each
};

struct Recognition {
  std::vector<LayoutMatch> matches;  // the best first; none: no layout has this size
  /// How many of the first matches the content does not decide between; 1 if one is clearly the best.
  std::size_t alike = 0;
  [[nodiscard]] bool either() const { return alike > 1; }
};

/// Returns the layouts that a file can have. A compressed file must be unwrapped first. Layouts that
/// `catalog` has beside the built-in ones win only if they are clearly likelier.
[[nodiscard]] Recognition recognise(const Catalog& catalog, const Blob& file, const Hints& hints = {});

/// What the content shows about the byte order of a slot's words.
struct OrderVerdict {
  enum class Says { chip, reversed, nothing } says = Says::nothing;
  double confidence = 0;  // 0.5 (nothing) to 1
  std::string evidence;   // a sentence, even if it shows nothing
  /// How many kinds of evidence agree: texts, numbers, tables; the game's own name counts as two. One kind
  /// alone is no reason to turn bytes that are said to be in the other order.
  int kinds = 0;
};
/// Judges whether the bytes are in the chip's order or in `other`.
[[nodiscard]] OrderVerdict judge_word_order(ByteView slot_bytes, const std::optional<GameId>& game,
                                            ByteOrder other = ByteOrder::swap32);

// ---- Converting ---------------------------------------------------------------------------------

struct ConvertRequest {
  std::vector<Save> inputs;  // joined; no two may have the same part
  const Layout* to = nullptr;
  const Blob* base =
      nullptr;  // the target's own file in `to`: its shell and the parts that no input has are kept
  std::vector<ChipFact> chips;  // what is known about the game's chips
  int pak = 0;  // 1 to 4: the controller pak to write alone, or the slot for a single one; 0: taken
                // from the input
};

struct ConvertedFile {
  const Layout* layout = nullptr;  // `to`, or one of its members when it is a set
  std::vector<Role> brought;       // parts from the inputs
  Role role;                       // of a set's file: its part
  Blob bytes;
};

struct Converted {
  std::vector<ConvertedFile> files;   // one; for a set, one per part that is not blank
  std::vector<std::string> notes;     // what was done, a sentence each
  std::vector<std::string> warnings;  // risks, a sentence each
  std::vector<std::string> cuts;      // bytes that are not blank and not in the files, a sentence each
  std::vector<DumpDefect> defects;    // defects of the converted parts
  bool empty = false;                 // all converted parts were blank
};

/// Makes the target's files from the inputs' parts. Fails with `does_not_fit` if the target has slots for
/// none of the parts, or a chip is larger than its slot, `bad_usage` if two inputs have the same part.
[[nodiscard]] Result<Converted> convert(const Catalog& catalog, const ConvertRequest& request);

/// The layout that a file of the target has.
struct DetectedLayout {
  Layout layout;  // from the catalog, or made for this file alone with an id that ends in ".as-base"
  double confidence = 0;
  std::vector<std::string> evidence;
};
/// Detects the layout of `base`, to convert `inputs` to it: one of the catalog, or chip bytes of the right
/// size inside other bytes, which are kept. Fails with `not_recognised`, and what would help, if it can't be
/// determined.
[[nodiscard]] Result<DetectedLayout> detect_layout(const Catalog& catalog, const std::vector<Save>& inputs,
                                                   const Blob& base, const Hints& hints = {});

/// Returns the layout of a set's file for a part. Fails with `does_not_fit` if the set has none.
[[nodiscard]] Result<const Layout*> member_for(const Catalog& catalog, const Layout& set, Role role);
/// Returns what follows the stem in that file's name: ".eep", ".2.mpk" for the second controller pak, ...
[[nodiscard]] std::string set_suffix(const Layout& member, Role role);
/// Returns the number that set_suffix adds: 2 for "x.2.mpk", 0 if there is none.
[[nodiscard]] int pak_number_in_name(std::string_view file_name);

}  // namespace bayswap
BAYSWAP_EXPORT_END
