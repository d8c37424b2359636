// Layouts: how the parts of a save sit in a file. Data in TOML (docs/layouts.md), never code.
#pragma once

#include <bayswap/save.hpp>

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

/// What stands in a slot that nobody brought a part for.
enum class Absent { ff, zero, fresh_pak };
[[nodiscard]] std::string_view to_text(Absent absent);

/// Where one part sits in a file.
struct Slot {
  Role role;
  std::size_t at = 0;  // offset from the start of the file
  std::vector<std::size_t>
      file_sizes;  // bytes it takes in the file, ascending; more than one only for the last slot
  std::vector<std::size_t> chip_sizes;  // sizes of the chips that live there, ascending, none over the slot's
  ByteOrder order = ByteOrder::chip;
  Absent absent = Absent::ff;
};

struct Layout {
  std::string id;  // "n64.combined"
  Platform platform{};
  std::string name;       // a short line
  std::string about;      // a paragraph; may be empty
  std::string extension;  // the usual one, with its dot; may be empty
  Byte fill = 0;          // what stands between slots when there is no shell to keep
  std::size_t size = 0;   // whole file in bytes; 0: the file ends with its last slot
  std::vector<Slot> slots;
  std::vector<std::string>
      members;         // a set: one file a part, each in the first of these layouts that takes it
  std::string origin;  // "built in", or the path of the layout file

  [[nodiscard]] bool is_set() const { return !members.empty(); }
  /// Every size a file in this layout can have, ascending. Empty for a set.
  [[nodiscard]] std::vector<std::size_t> file_sizes() const;
  [[nodiscard]] const Slot* slot(Role role) const;
};

/// Reads one layout file. `origin` names it in errors. Unknown keys, overlapping slots, sizes over 64 MiB and
/// the like are `bad_usage`, with the line.
[[nodiscard]] Result<Layout> parse_layout(std::string_view toml, const std::string& origin);
/// The same layout as a layout file; parse_layout gives it back.
[[nodiscard]] std::string to_toml(const Layout& layout);

/// The layouts built into the library and those a user added. Reads on demand, so one thread at a time.
class Catalog {
 public:
  /// `bad_usage` for an id that is taken.
  Result<void> add(Layout layout);
  /// `bad_usage` for an unknown id; the hint names the nearest one.
  [[nodiscard]] Result<const Layout*> find(std::string_view id) const;
  /// All, sorted by id.
  [[nodiscard]] std::vector<const Layout*> all() const;

 private:
  /// Built-in layouts are read when first asked for.
  [[nodiscard]] const Layout* built_in(std::size_t index) const;

  mutable std::vector<std::shared_ptr<const Layout>> built_in_;
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

/// What is known of a file before it is opened.
struct Hints {
  std::optional<Platform> platform;
  std::optional<GameId> game;
};

struct LayoutMatch {
  const Layout* layout = nullptr;
  double confidence = 0;              // 0 to 1, and all matches together not over 1
  std::vector<std::string> evidence;  // one sentence each
};

struct Recognition {
  std::vector<LayoutMatch> matches;  // best first; empty: no layout has this size
  /// The best two differ in byte order alone and nothing in the content decides between them.
  bool either = false;
};

[[nodiscard]] Recognition recognise(const Catalog& catalog, const Blob& file, const Hints& hints = {});

/// What the content says about the order of a slot's 32-bit words.
struct OrderVerdict {
  enum class Says { chip, swap32, nothing } says = Says::nothing;
  double confidence = 0;  // 0.5 (nothing) to 1
  std::string evidence;   // a sentence; also when it says nothing
};
[[nodiscard]] OrderVerdict judge_word_order(ByteView slot_bytes, const std::optional<GameId>& game);

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
  std::vector<Ailment> ailments;      // what is wrong with the parts that went over
  bool empty = false;                 // nothing but blank parts went over
};

/// From parts to the target's files. `does_not_fit` when the target takes none of the parts, or a chip is
/// larger than its slot; `bad_usage` when two inputs bring the same part.
[[nodiscard]] Result<Converted> convert(const Catalog& catalog, const ConvertRequest& request);

/// The layout of a set's file for this part. `does_not_fit` where the set has none.
[[nodiscard]] Result<const Layout*> member_for(const Catalog& catalog, const Layout& set, Role role);
/// What to put behind the stem for that file: ".eep", ".2.mpk" for the second controller pak, ...
[[nodiscard]] std::string set_suffix(const Layout& member, Role role);
/// Undoes set_suffix's number: 2 for "x.2.mpk", 0 where there is none.
[[nodiscard]] int pak_number_in_name(std::string_view file_name);

}  // namespace bayswap
