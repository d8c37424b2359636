// Save states: one program's snapshots of a machine. Where the battery save is in them, as data; taken out,
// and another one put in.
#pragma once

#include <bayswap/envelope.hpp>
#include <bayswap/export.hpp>
#include <bayswap/layout.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

constexpr std::size_t max_state_bytes = std::size_t{128} << 20;  // no larger file is looked at as a state

/// A checksum somewhere in a layer that covers bytes of the same layer.
struct IntegrityField {
  enum class Kind { crc32, crc16, adler32, sum32, sum16, md5, sha1 };
  Kind kind{};
  std::size_t at = 0;  // offset in the layer
  bool big_endian = false;
  std::size_t from = 0;        // it covers the bytes from there
  std::size_t before_end = 0;  // to so many before the layer's end, but for itself
  [[nodiscard]] bool operator==(const IntegrityField&) const = default;
};
[[nodiscard]] std::string_view to_text(IntegrityField::Kind kind);

/// Bytes that every state of the kind has.
struct StateMark {
  bool in_file = false;  // in the file as it is; otherwise in the layer
  std::size_t at = 0;
  std::vector<Byte> bytes;
  [[nodiscard]] bool operator==(const StateMark&) const = default;
};

/// Where the battery save is in one kind of state. Data in TOML (docs/states.md), never code.
struct StateMap {
  std::string id;  // "gb.plain-a": the platform, and what such a state looks like
  Platform platform{};
  std::string about;
  Envelope envelope;                     // to the layer that holds the battery bytes
  std::vector<std::size_t> layer_bytes;  // sizes that the layer can have, ascending; empty: any
  std::vector<StateMark> marks;
  // Each game has those that its chips fit; one behind another is there where the layer is so much longer.
  std::vector<Slot> batteries;
  std::vector<IntegrityField> integrity;
  std::string origin;  // "built in", or the path of the file

  /// Maps of one family hold the snapshot of one and the same core; empty: it has none.
  std::string family;
  Envelope body;               // to the layer that begins with the snapshot itself; often that of the battery
  std::size_t body_bytes = 0;  // how much of that layer it is; 0: all
  /// What a program keeps beside the snapshot, each with a number that says what it is.
  enum class Items {
    none,
    table,  // at `items_at` of the body's layer: number and size of 32 bits, offset of 64, to a row of nought
    chunks  // PNG chunks called `items_name`: number and size of 32 bits, then a zlib stream
  } items = Items::none;
  std::size_t items_at = 0;
  std::string items_name;
  std::size_t new_bytes = 0;               // a layer made anew is filled up to this size with 00
  std::vector<Byte> tail;                  // what ends a chunked file of this kind
  std::pair<int, int> picture_size{0, 0};  // of a picture file, in pixels
};
/// Reads a map file. `origin` names it in errors. Unknown keys, bad offsets and the like are `bad_usage`,
/// with the line.
[[nodiscard]] Result<StateMap> parse_state_map(std::string_view toml, const std::string& origin);
/// The same map as a file; parse_state_map gives it back.
[[nodiscard]] std::string to_toml(const StateMap& map);

/// The maps built into the library, and those that were added. Not for several threads at once.
class StateMaps {
 public:
  /// Fails with `bad_usage` for an id that is taken.
  Result<void> add(StateMap map);
  /// Fails with `bad_usage` for an unknown id; the hint names the nearest one.
  [[nodiscard]] Result<const StateMap*> find(std::string_view id) const;
  /// All, or those of a platform, by id.
  [[nodiscard]] std::vector<const StateMap*> all(std::optional<Platform> platform = {}) const;

 private:
  mutable std::vector<std::shared_ptr<const StateMap>> built_in_;
  std::vector<std::shared_ptr<const StateMap>> added_;
};

/// A file that may be a state, with what has been unpacked of it so far. Not for several threads at once.
class StateFile {
 public:
  StateFile(Blob bytes) : bytes_(std::move(bytes)) {}  // NOLINT(google-explicit-constructor)
  [[nodiscard]] const Blob& bytes() const { return bytes_; }
  /// As open_envelope.
  [[nodiscard]] Result<Blob> layer(const Envelope& envelope, std::size_t max_bytes = max_state_bytes) const;
  /// As find_layers.
  [[nodiscard]] const std::vector<Layer>& layers() const;

 private:
  Blob bytes_;
  struct Opened {
    Envelope envelope;
    std::size_t max_bytes = 0;
    Result<Blob> bytes;
  };
  mutable std::vector<Opened> opened_;
  mutable std::optional<std::vector<Layer>> layers_;
};

/// Returns whether the file is a state of that kind: the envelope leads somewhere, sizes and marks agree.
/// Nothing if it is not, otherwise why, a sentence each.
[[nodiscard]] std::optional<std::vector<std::string>> is_state_of(const StateMap& map, const StateFile& file);

/// Returns the map as it reads this file: itself, or, where another program has put the same snapshot into
/// another envelope, with that one. Nothing if no layer of the file is of that kind.
[[nodiscard]] std::optional<StateMap> map_for(const StateMap& map, const StateFile& file);

/// Returns whether a layer can be the snapshot that such a state holds, whatever is around it: its marks are
/// there. A map without marks in its layer is of none.
[[nodiscard]] bool is_snapshot_of(const StateMap& map, ByteView layer);

/// Returns the battery save in a state, as the chips hold it: of each kind of part the slot that fits
/// `chips`, or the only one. Fails with `not_recognised` if the file is no state of that kind, `does_not_fit`
/// if several sizes could be meant and `chips` do not tell.
[[nodiscard]] Result<Save> battery_in_state(const StateMap& map, const StateFile& file,
                                            const std::vector<ChipFact>& chips);
/// Returns the state with another battery save: its bytes and the checksums over them are exchanged, the
/// envelope is closed again, every other byte stays. A clock that the map has no place for stays as the state
/// has it. Fails as battery_in_state, and with `does_not_fit` for another part that has no place or is of
/// another size.
[[nodiscard]] Result<Blob> grafted_state(const StateMap& map, const StateFile& file, const Save& battery);

/// What is in a state.
struct StateLook {
  std::string map;       // id of the map that describes it; empty: none does
  bool picture = false;  // of the moment
  enum class Battery {
    unknown,  // no map describes it
    blank,
    there
  } battery = Battery::unknown;
  std::optional<Save> save;  // the battery save, where there is one
};
/// Looks into it, by the maps alone. `chips` are those of the game.
[[nodiscard]] StateLook look_at_state(const StateMaps& maps, const StateFile& state,
                                      std::optional<Platform> platform, const std::vector<ChipFact>& chips);

/// What the ROM and the battery save of the same game are called beside the state at `path`, without their
/// extensions: the state's name without its slot. The likeliest first.
[[nodiscard]] std::vector<std::string> names_beside_state(const std::string& path);

/// The picture in a state, as a PNG file: the state itself, or a layer of it. Nothing if there is none.
[[nodiscard]] std::optional<Blob> picture_in_state(const Blob& state);

/// A battery save of the same game, from wherever.
struct KnownBattery {
  Save save;
  std::string display_path;  // what to call it in evidence: "saves/Cog.srm"
};
/// What is known when a state of no known kind is searched.
struct BatterySearch {
  std::optional<Platform> platform;
  std::vector<ChipFact> chips;  // of the game
  bool tells_chips = false;     // and it has no others
  std::vector<KnownBattery> known;
  std::vector<Blob> others;         // further states of the same game and program
  const StateMaps* maps = nullptr;  // of other games on the same program
};
/// One place where the battery save could stand.
struct BatteryCandidate {
  StateMap map;      // leads there and nowhere else: for battery_in_state and grafted_state
  Save save;         // the content of that place, in hardware order
  double score = 0;  // 0 to 1
  bool certain = false;
  std::vector<std::string> evidence;  // sentences
};
struct BatteryFinds {
  std::vector<BatteryCandidate> candidates;  // the likeliest first; places of one content are one candidate
  bool blank = false;                        // memory that is named after it holds nothing
};
/// Looks for the battery save in every layer and storage order, by the chip sizes of the game or of its
/// platform: memory that is named, that a length or a table sets apart, that is alive between fillers, that
/// equals or is like a known save. Only the first candidate can be certain.
[[nodiscard]] BatteryFinds find_batteries(const Catalog& catalog, const StateFile& state,
                                          const BatterySearch& what);

/// What is different in one layer of two states.
struct LayerChange {
  Envelope envelope;
  std::size_t before_bytes = 0;  // of the layer; 0: only the other state has it
  std::size_t after_bytes = 0;
  std::size_t changed_bytes = 0;  // of those that both have
  struct Stretch {
    std::size_t at = 0;
    std::size_t bytes = 0;
    std::string within;  // "sram" in the battery save's place, otherwise empty
  };
  std::vector<Stretch> stretches;  // the largest first, at most 64; gaps of up to 16 equal bytes are within
};
/// Compares two states layer by layer, the innermost ones: what is compressed, or divided into chunks, is
/// compared inside. Layers that are equal are left out. `map`: tells where the battery save is; may be
/// nullptr.
[[nodiscard]] std::vector<LayerChange> compare_states(const Blob& before, const Blob& after,
                                                      const StateMap* map = nullptr);

struct ConvertedState {
  Blob file;
  std::vector<std::string> notes;  // sentences
};
/// Returns the same snapshot in another program's form: the body and each further item bit for bit. `base` is
/// a state that the other program wrote: all that is not snapshot comes from it; without it a plain file, a
/// compressed one, a chunked one or a picture file is made anew, as the map says. Fails with `unsupported` if
/// the maps are not of one family and do not hold the same kind of layer, `does_not_fit` if `base` is needed.
[[nodiscard]] Result<ConvertedState> converted_state(const StateMap& from, const Blob& state,
                                                     const StateMap& to, const Blob* base = nullptr);
/// The same where no map describes them: both hold a layer of one size that begins alike.
[[nodiscard]] Result<ConvertedState> rewrapped_state(const Blob& state, const Blob& base);

/// A state, and the battery save that the machine had at that moment.
struct StatePair {
  Blob state;
  Save battery;
};
struct LearnedState {
  StateMap map;
  std::vector<std::string> certain;  // sentences
  std::vector<std::string> open;     // what could be otherwise, and what would settle it
};
/// Learns a map: looks for the battery bytes in every layer and storage order, keeps what all pairs agree on,
/// finds checksums over them by trying, and proves itself: each state's battery comes out, and goes back into
/// the very file. Fails with `not_recognised` if the bytes are nowhere, or nowhere that all pairs agree on.
[[nodiscard]] Result<LearnedState> learn_state(const std::vector<StatePair>& pairs, const std::string& id);

}  // namespace bayswap
BAYSWAP_EXPORT_END
