// Save states: a program's snapshots of a machine. Maps describe where the battery save is, so that it can be
// taken out and replaced. Belongs to bayswap::core.
#pragma once

#include <bayswap/envelope.hpp>
#include <bayswap/export.hpp>
#include <bayswap/layout.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

constexpr std::size_t max_state_bytes = std::size_t{128} << 20;  // larger files are never taken for states

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
  Envelope envelope;                     // to the layer with the battery bytes
  std::vector<std::size_t> layer_bytes;  // sizes that the layer can have, ascending; empty: any
  std::vector<StateMark> marks;
  // A game has those that fit its chips; one after another exists if the layer is so much longer.
  std::vector<Slot> batteries;
  std::vector<IntegrityField> integrity;
  std::string origin;  // "built in", or the path of the file

  /// Maps of the same family contain the same core's snapshot; empty: none.
  std::string family;
  Envelope body;               // to the layer that begins with the snapshot; often that of the battery
  std::size_t body_bytes = 0;  // size of the snapshot in that layer; 0: all of it
  /// Further items that a program stores beside the snapshot, each with a number for its kind.
  enum class Items {
    none,
    table,  // at `items_at` of the body's layer: number and size of 32 bits, offset of 64, until a row of
            // zeros
    chunks  // PNG chunks called `items_name`: number and size of 32 bits, then a zlib stream
  } items = Items::none;
  std::size_t items_at = 0;
  std::string items_name;
  std::size_t new_bytes = 0;               // a new layer is padded to this size with 00
  std::vector<Byte> tail;                  // the end of a chunked file of this kind
  std::pair<int, int> picture_size{0, 0};  // of a picture file, in pixels
};
/// Reads a map file; `origin` names it in errors. Fails with `bad_usage`, and the line, for unknown keys, bad
/// offsets and the like.
[[nodiscard]] Result<StateMap> parse_state_map(std::string_view toml, const std::string& origin);
/// Returns the map as a file, which parse_state_map reads back.
[[nodiscard]] std::string to_toml(const StateMap& map);

/// The built-in maps and those that were added. Not for several threads at once, not even to read.
class StateMaps {
 public:
  /// Adds a map. Fails with `bad_usage` if its id exists.
  Result<void> add(StateMap map);
  /// Returns a map by its id. Fails with `bad_usage` for an unknown id; the hint names the nearest one.
  [[nodiscard]] Result<const StateMap*> find(std::string_view id) const;
  /// Returns all maps, or those of a platform, by id.
  [[nodiscard]] std::vector<const StateMap*> all(std::optional<Platform> platform = {}) const;

 private:
  mutable std::vector<std::shared_ptr<const StateMap>> built_in_;
  std::vector<std::shared_ptr<const StateMap>> added_;
};

/// A file that may be a state, with a cache of its unpacked layers. Not for several threads at once.
class StateFile {
 public:
  StateFile(Blob bytes) : bytes_(std::move(bytes)) {}  // NOLINT(google-explicit-constructor)
  [[nodiscard]] const Blob& bytes() const { return bytes_; }
  /// Returns the bytes inside an envelope. Fails as open_envelope.
  [[nodiscard]] Result<Blob> layer(const Envelope& envelope, std::size_t max_bytes = max_state_bytes) const;
  /// Returns what find_layers finds.
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

/// Returns why the file is a state of that kind, a sentence each: its envelope, sizes and marks fit. Returns
/// nothing if it is not.
[[nodiscard]] std::optional<std::vector<std::string>> is_state_of(const StateMap& map, const StateFile& file);

/// Returns the map for this file: unchanged, or with another envelope if another program put the same
/// snapshot into one. Returns nothing if no layer of the file is of that kind.
[[nodiscard]] std::optional<StateMap> map_for(const StateMap& map, const StateFile& file);

/// Returns whether a layer has the marks of the map's snapshot, whatever is around it. Returns false for a
/// map without marks in its layer.
[[nodiscard]] bool is_snapshot_of(const StateMap& map, ByteView layer);

/// Returns the battery save in a state, in hardware order: for each kind of part the slot that fits `chips`,
/// or the only one. Fails with `not_recognised` if the file is not a state of that kind, `does_not_fit` if
/// several sizes are possible and `chips` do not decide.
[[nodiscard]] Result<Save> battery_in_state(const StateMap& map, const StateFile& file,
                                            const std::vector<ChipFact>& chips);
/// Returns the state with another battery save: replaces its bytes and the checksums over them, closes the
/// envelope again, and keeps every other byte. A clock without a place in the map is ignored. Fails as
/// battery_in_state, and with `does_not_fit` for another part without a place, or of another size.
[[nodiscard]] Result<Blob> grafted_state(const StateMap& map, const StateFile& file, const Save& battery);

/// The content of a state.
struct StateLook {
  std::string map;       // id of the map that describes it; empty: none does
  bool picture = false;  // of the moment
  enum class Battery {
    unknown,  // no map describes it
    blank,
    there
  } battery = Battery::unknown;
  std::optional<Save> save;  // the battery save, if there is one
};
/// Looks into a state with the maps alone. `chips` are those of the game.
[[nodiscard]] StateLook look_at_state(const StateMaps& maps, const StateFile& state,
                                      std::optional<Platform> platform, const std::vector<ChipFact>& chips);

/// Returns the possible names of the ROM and the battery save beside the state at `path`, without extensions:
/// the state's name without its slot. The likeliest is first.
[[nodiscard]] std::vector<std::string> names_beside_state(const std::string& path);

/// Returns the picture in a state as a PNG file: the state itself, or a layer of it. Returns nothing if there
/// is none.
[[nodiscard]] std::optional<Blob> picture_in_state(const Blob& state);

/// A known battery save of the same game.
struct KnownBattery {
  Save save;
  std::string display_path;  // its name in evidence: "saves/Cog.srm"
};
/// What is known of a state of unknown kind, to search it.
struct BatterySearch {
  std::optional<Platform> platform;
  std::vector<ChipFact> chips;  // of the game
  bool tells_chips = false;     // and the game has no others
  std::vector<KnownBattery> known;
  std::vector<Blob> others;         // further states of the same game and program
  const StateMaps* maps = nullptr;  // of other games on the same program
};
/// A place where the battery save may be.
struct BatteryCandidate {
  StateMap map;      // describes this place only: for battery_in_state and grafted_state
  Save save;         // the content of that place, in hardware order
  double score = 0;  // 0 to 1
  bool certain = false;
  std::vector<std::string> evidence;  // sentences
};
struct BatteryFinds {
  std::vector<BatteryCandidate>
      candidates;      // the likeliest first; places with equal content are one candidate
  bool blank = false;  // memory named as battery save is blank
};
/// Searches every layer and storage order for the battery save, by the chip sizes of the game or its
/// platform: memory with a name, memory delimited by a length or a table, data between fillers, and bytes
/// equal or similar to a known save. Only the first candidate can be certain.
[[nodiscard]] BatteryFinds find_batteries(const Catalog& catalog, const StateFile& state,
                                          const BatterySearch& what);

/// The differences in one layer of two states.
struct LayerChange {
  Envelope envelope;
  std::size_t before_bytes = 0;  // of the layer; 0: only the other state has it
  std::size_t after_bytes = 0;
  std::size_t changed_bytes = 0;  // in the bytes that both have
  struct Stretch {
    std::size_t at = 0;
    std::size_t bytes = 0;
    std::string within;  // "sram" within the battery save, otherwise empty
  };
  std::vector<Stretch> stretches;  // the largest first, at most 64; gaps of up to 16 equal bytes are included
};
/// Compares the innermost layers of two states: inside compressed streams and chunks. Leaves out equal
/// layers. `map`: describes where the battery save is; may be nullptr.
[[nodiscard]] std::vector<LayerChange> compare_states(const Blob& before, const Blob& after,
                                                      const StateMap* map = nullptr);

struct ConvertedState {
  Blob file;
  std::vector<std::string> notes;  // sentences
};
/// Returns the same snapshot in another program's format: the body and each further item, bit for bit. `base`
/// is a state that the other program wrote: everything but the snapshot comes from it. Without it a plain,
/// compressed, chunked or picture file is made, as the map says. Fails with `unsupported` if the maps are of
/// different families and describe different kinds of layers, `does_not_fit` if `base` is needed.
[[nodiscard]] Result<ConvertedState> converted_state(const StateMap& from, const Blob& state,
                                                     const StateMap& to, const Blob* base = nullptr);
/// Converts without maps: both states must have a layer of the same size that begins with the same bytes.
[[nodiscard]] Result<ConvertedState> rewrapped_state(const Blob& state, const Blob& base);

/// A state, and the battery save that the machine had at that moment.
struct StatePair {
  Blob state;
  Save battery;
};
struct LearnedState {
  StateMap map;
  std::vector<std::string> certain;  // sentences
  std::vector<std::string> open;     // what is left open, and what would determine it
};
/// Infers a map: searches the battery bytes in every layer and storage order, keeps what all pairs agree on,
/// finds checksums over them by trial, and verifies the result: each state's battery is read back, and
/// grafting it gives the identical file. Fails with `not_recognised` if no place in the states has the bytes
/// of all pairs.
[[nodiscard]] Result<LearnedState> learn_state(const std::vector<StatePair>& pairs, const std::string& id);

}  // namespace bayswap
BAYSWAP_EXPORT_END
