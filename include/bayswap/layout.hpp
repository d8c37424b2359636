// Layouts: how the parts of a save sit in a file. Data in TOML (docs/layouts.md), never code.
#pragma once

#include <bayswap/compression.hpp>
#include <bayswap/export.hpp>
#include <bayswap/save.hpp>

#include <utility>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// How a slot's bytes stand in the file against hardware order.
enum class ByteOrder {
  chip,    // as the chip holds them
  swap16,  // the bytes of each 16-bit word reversed
  swap32,  // of each 32-bit word
  swap64,  // of each 64-bit word
};
[[nodiscard]] std::string_view to_text(ByteOrder order);
/// "as the chip holds it", "each 32-bit word reversed", ...
[[nodiscard]] std::string_view in_words(ByteOrder order);

/// How a part's bytes are written down in its slot.
enum class Encoding {
  plain,           // byte for byte
  nibbles,         // memory of 4-bit cells, one a byte; the upper half of each byte means nothing
  nibbles_packed,  // memory of 4-bit cells, two a byte, the lower half first
  clock44,         // the gb clock's ten registers in 32-bit words, then 32-bit Unix seconds
  clock_start,     // 64-bit Unix seconds at which the gb clock stood at zero
  pages_ecc,       // each 512 bytes followed by their 16 spare bytes with the ECC (docs/formats/ps2.md)
};
[[nodiscard]] std::string_view to_text(Encoding form);

/// What stands beside each byte where a slot's bytes take every other address only.
enum class Interleave { none, zero, ff, doubled };
[[nodiscard]] std::string_view to_text(Interleave spread);
/// Which addresses those are.
enum class AddressParity { odd, even };
[[nodiscard]] std::string_view to_text(AddressParity lane);

/// What stands in a slot that nobody brought a part for.
enum class DefaultFill { ff, zero, fresh_pak };
[[nodiscard]] std::string_view to_text(DefaultFill absent);

/// Where one part sits in a file.
struct Slot {
  Role role;
  std::size_t at = 0;  // offset from the start of the file; with `behind` from the end of the part that has
                       // several sizes
  bool after_variable = false;
  std::vector<std::size_t>
      file_sizes;  // bytes it takes in the file, ascending; more than one in a single slot only
  std::vector<std::size_t> chip_sizes;  // sizes of the parts that live there, ascending
  ByteOrder order = ByteOrder::chip;
  Encoding form = Encoding::plain;
  Interleave spread = Interleave::none;
  AddressParity lane = AddressParity::odd;
  DefaultFill absent = DefaultFill::ff;
  std::vector<Byte> mark;    // what a formatted one holds, in chip order; a means of telling it, may be empty
  std::int64_t mark_at = 0;  // where: from its start, or below zero from its end

  /// The part's bytes in this many of the file's, and the other way round.
  [[nodiscard]] std::size_t part_size(std::size_t file_bytes) const;
  [[nodiscard]] std::size_t file_size(std::size_t part_bytes) const;
  /// Sizes a part can have that fills its place, ascending.
  [[nodiscard]] std::vector<std::size_t> part_sizes() const;
  /// The part's bytes stand in the file as they are.
  [[nodiscard]] bool is_straight() const {
    return order == ByteOrder::chip && form == Encoding::plain && spread == Interleave::none;
  }
};

/// Bytes of a header or trailer that something is known of: one of the four below.
struct Field {
  std::size_t at = 0;  // as in Slot
  bool after_variable = false;
  std::vector<Byte> bytes;  // always these
  std::size_t number_bytes =
      0;  // a little-endian number of so many bytes: the size of the part that has several
  std::vector<std::pair<std::size_t, std::vector<Byte>>> by_size;  // these for each such size, ascending
  std::size_t unknown_bytes = 0;  // they change, and only a file of the target's own has the right ones

  [[nodiscard]] std::size_t size_bytes() const;
  /// What stands there in a file whose part of several sizes has this one; empty where it is not known.
  [[nodiscard]] std::vector<Byte> value(std::size_t part_bytes) const;
};

/// A compressed stream that holds the parts.
struct Stream {
  Compression kind = Compression::none;
  std::size_t at = 0;      // offset in the file; before and behind it is shell
  std::vector<Byte> head;  // what stands before it where there is no shell: `at` bytes, or none
  std::vector<Byte> tail;  // and behind it
};

struct Layout {
  std::string id;  // "n64.combined"
  Platform platform{};
  std::string name;       // a short line
  std::string about;      // a paragraph; may be empty
  std::string extension;  // the usual one, with its dot; may be empty
  Byte fill = 0;          // what stands between slots when there is no shell to keep
  std::size_t size = 0;   // whole file in bytes; 0: the file ends with its last slot or field
  std::vector<Slot> slots;
  std::vector<Field> fields;
  Stream stream;  // offsets and sizes above are those of what is compressed
  std::vector<std::string>
      members;         // a set: one file a part, each in the first of these layouts that takes it
  std::string origin;  // "built in", or the path of the layout file

  [[nodiscard]] bool is_set() const { return !members.empty(); }
  /// Every size a file in this layout can have, ascending; before it is compressed. Empty for a set.
  [[nodiscard]] std::vector<std::size_t> file_sizes() const;
  [[nodiscard]] const Slot* slot(Role role) const;
  /// The slot that has several sizes, if one has.
  [[nodiscard]] const Slot* variable_slot() const;

  struct Place {
    std::size_t at = 0;
    std::size_t size = 0;
  };
  /// Where a slot or field lies in a file of this size, which must be one of file_sizes().
  [[nodiscard]] Place place(const Slot& slot, std::size_t file_size) const;
  [[nodiscard]] Place place(const Field& field, std::size_t file_size) const;
};

/// Reads one layout file. `origin` names it in errors. Unknown keys, overlapping slots, sizes over 72 MiB and
/// the like are `bad_usage`, with the line.
[[nodiscard]] Result<Layout> parse_layout(std::string_view toml, const std::string& origin);
/// The same layout as a layout file; parse_layout gives it back.
[[nodiscard]] std::string to_toml(const Layout& layout);

/// The layouts built into the library and those a user added. Threads may share one as long as none adds to
/// it. Layouts that it returns live as long as the catalog, or a copy of it.
class Catalog {
 public:
  /// `bad_usage` for an id that is taken.
  Result<void> add(Layout layout);
  /// `bad_usage` for an unknown id; the hint names the nearest one.
  [[nodiscard]] Result<const Layout*> find(std::string_view id) const;
  /// All, or those for a platform's saves, sorted by id.
  [[nodiscard]] std::vector<const Layout*> all(std::optional<Platform> platform = {}) const;

 private:
  std::vector<std::shared_ptr<const Layout>> added_;
};

/// Takes a file apart. Straight slots share the file's bytes. `does_not_fit` where the size is not the
/// layout's. A set can't be unpacked from one file: `bad_usage`.
[[nodiscard]] Result<Save> unpack(const Layout& layout, const Blob& file);

/// Puts a file together; pack(unpack(x), x) == x. Parts that the save lacks come from `shell` (a file in the
/// same layout) where there is one, and are blank otherwise; what lies between slots likewise. `does_not_fit`
/// for a part that has no slot, or is of a size that its slot does not take.
[[nodiscard]] Result<Blob> pack(const Layout& layout, const Save& save, const Blob* shell = nullptr);

// ---- Telling layouts apart ----------------------------------------------------------------------

class StateMaps;

/// What is known of a file before it is opened.
struct Hints {
  std::optional<Platform> platform;
  std::optional<GameId> game;
  std::vector<ChipFact> chips;        // of that game
  std::string extension;              // the file's, with its dot: a weak hint
  const StateMaps* states = nullptr;  // maps of save states beside the built-in ones
};

/// How a file's size meets a layout's.
enum class Fit {
  exact,
  padded,   // the layout's bytes, and behind them nothing but 00 or FF
  trimmed,  // it ends early: the rest was blank, or is lost
};

/// A file made as long as its layout wants it.
struct Fitted {
  Blob bytes;
  Fit fit = Fit::exact;
  Blob padding;             // what was cut off
  std::size_t missing = 0;  // bytes that were added
  /// What was done, as a sentence; empty for Fit::exact.
  [[nodiscard]] std::string in_words(const Layout& layout) const;
};
/// Cuts padding off and fills an early end up with what the layout leaves blank. A known chip settles how
/// long the whole is. `does_not_fit` where neither helps.
[[nodiscard]] Result<Fitted> fit(const Layout& layout, const Blob& file,
                                 const std::vector<ChipFact>& chips = {});

/// A file as it lies on a disk, opened: out of its compression, its padding cut off, taken apart.
struct OpenedSave {
  Save save;
  Compressed file;
  Fitted fitted;
  std::vector<std::string> notes;  // what had to be done, a sentence each
};
/// unwrap, fit and unpack. `damaged` and `does_not_fit` as these have them.
[[nodiscard]] Result<OpenedSave> open_save(const Layout& layout, const Blob& file,
                                           const std::vector<ChipFact>& chips = {});

struct LayoutMatch {
  const Layout* layout = nullptr;
  Fit fit = Fit::exact;
  double confidence = 0;              // 0 to 1, and all matches together not over 1
  std::vector<std::string> evidence;  // one sentence each
};

struct Recognition {
  std::vector<LayoutMatch> matches;  // best first; empty: no layout has this size
  /// As many of the first matches as nothing in the content decides between; 1 where one stands out.
  std::size_t alike = 0;
  [[nodiscard]] bool either() const { return alike > 1; }
};

/// Which layouts the file can have. A compressed file must be unwrapped first.
[[nodiscard]] Recognition recognise(const Catalog& catalog, const Blob& file, const Hints& hints = {});

/// What the content says about the order of a slot's words.
struct OrderVerdict {
  enum class Says { chip, reversed, nothing } says = Says::nothing;
  double confidence = 0;  // 0.5 (nothing) to 1
  std::string evidence;   // a sentence; also when it says nothing
};
/// Do the bytes stand as the chip holds them, or in this other order?
[[nodiscard]] OrderVerdict judge_word_order(ByteView slot_bytes, const std::optional<GameId>& game,
                                            ByteOrder other = ByteOrder::swap32);

// ---- Converting ---------------------------------------------------------------------------------

struct ConvertRequest {
  std::vector<Save> inputs;  // joined; no two may bring the same part
  const Layout* to = nullptr;
  const Blob* base =
      nullptr;  // the target's own file in `to`: its shell and the parts nobody brings are kept
  std::vector<ChipFact> chips;  // what is known about the game's chips
  int pak = 0;  // 1 to 4: the controller pak that goes out alone, or the slot a lone one goes to; 0: told
                // from the input
};

struct ConvertedFile {
  const Layout* layout = nullptr;  // `to`, or one of its members when it is a set
  std::vector<Role> brought;       // parts that the inputs brought
  Role role;                       // of a set's file: whose it is
  Blob bytes;
};

struct Converted {
  std::vector<ConvertedFile> files;   // one; for a set one a part that is not blank
  std::vector<std::string> notes;     // what was done, a sentence each
  std::vector<std::string> warnings;  // what the user ought to know
  std::vector<std::string> cuts;      // bytes that are not blank and are not in the files: a sentence each
  std::vector<DumpDefect> defects;    // what is wrong with the parts that went over
  bool empty = false;                 // nothing but blank parts went over
};

/// From parts to the target's files. `does_not_fit` when the target takes none of the parts, or a chip is
/// larger than its slot; `bad_usage` when two inputs bring the same part.
[[nodiscard]] Result<Converted> convert(const Catalog& catalog, const ConvertRequest& request);

/// The form a file of the target's own has.
struct DetectedLayout {
  Layout layout;  // from the catalog, or one made up for this file alone, with an id that ends in ".as-base"
  double confidence = 0;
  std::vector<std::string> evidence;
};
/// Works out which form `base` has, so that `inputs` can be converted to it: one of the catalog, or chip
/// bytes of the right size inside of something else, which is kept. `not_recognised` where that can't be
/// told, with what would help.
[[nodiscard]] Result<DetectedLayout> detect_layout(const Catalog& catalog, const std::vector<Save>& inputs,
                                                   const Blob& base, const Hints& hints = {});

/// The layout of a set's file for this part. `does_not_fit` where the set has none.
[[nodiscard]] Result<const Layout*> member_for(const Catalog& catalog, const Layout& set, Role role);
/// What to put behind the stem for that file: ".eep", ".2.mpk" for the second controller pak, ...
[[nodiscard]] std::string set_suffix(const Layout& member, Role role);
/// Undoes set_suffix's number: 2 for "x.2.mpk", 0 where there is none.
[[nodiscard]] int pak_number_in_name(std::string_view file_name);

}  // namespace bayswap
BAYSWAP_EXPORT_END
