// Versions of saves, and which came after which: what devices tell each other (docs/sync.md).
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/export.hpp>

#include <compare>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <unordered_map>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The first 16 bytes of the SHA-256 of a version's record.
struct VersionId {
  std::array<Byte, 16> bytes{};
  [[nodiscard]] std::string hex() const;
  [[nodiscard]] auto operator<=>(const VersionId&) const = default;  // NOLINT(modernize-use-nullptr)
};
[[nodiscard]] std::optional<VersionId> version_id_from_hex(std::string_view hex);

/// Which save a version is of, with all that another device may know it by: ROMs have other names there, or
/// are not there at all.
struct SaveIdentity {
  NameFacts facts;       // the game, slot, account and names; of rom_path its last name only
  bool has_rom = false;  // the game was told by its ROM
  std::string name;      // which of several saves of the game, as in SaveKey
  std::string place;     // as in SaveKey
  int slot = 0;          // as in SaveKey: 0 if the bay has no slots
};

/// Returns whether two identities are one save, as far as can be told: ids, codes and titles decide, and
/// names of files where a side has none of them.
[[nodiscard]] bool is_same_save(const SaveIdentity& a, const SaveIdentity& b);

/// What a save was at one moment. Never changed once it is made.
struct Version {
  enum class Kind { battery, card, folder, state, config };
  VersionId id;  // see with_id()
  SaveIdentity save;
  Kind kind{};
  std::string label;                     // what people call it
  std::string content;                   // hex of digest_of; empty: the save was deleted
  Digest bundle;                         // of the object with its bytes; zero: none
  std::uint64_t size_bytes = 0;          // of its files
  std::vector<VersionId> parents;        // what it came from; several where a conflict was resolved
  std::string device;                    // id of the device that made it
  std::string device_name;               // as it was called then
  std::int64_t noted = 0;                // when, by that device's clock: for people; orders nothing
  std::optional<std::int64_t> modified;  // when the save was last written, as far as it was known

  [[nodiscard]] bool is_deletion() const { return content.empty(); }
};
[[nodiscard]] std::string_view to_text(Version::Kind kind);
[[nodiscard]] std::optional<Version::Kind> version_kind_from_text(std::string_view text);

/// Returns the record of a version, without its id; the same version has the same bytes everywhere.
[[nodiscard]] Blob record_of(const Version& version);
/// Sorts the parents and sets the id.
[[nodiscard]] Version with_id(Version version);
/// Fails with `damaged` if these bytes are no record.
[[nodiscard]] Result<Version> version_from_record(ByteView record);

/// The versions of one save, whatever names devices have for it.
struct Lineage {
  std::vector<const Version*> versions;  // in the order of their ids
  /// Those from which no other descends. Several with one content are one: see History::heads.
  std::vector<const Version*> heads;
};

/// All versions that are known, and those that were pruned. Two histories are joined by adding the one's to
/// the other, in any order. Not for several threads at once.
class History {
 public:
  /// Returns false if it is known, or was pruned.
  bool add(Version version);
  /// Forgets a version for good; its children keep its id among their parents.
  void prune(const VersionId& id);

  [[nodiscard]] const Version* find(const VersionId& id) const;
  [[nodiscard]] const std::map<VersionId, Version>& versions() const { return versions_; }
  [[nodiscard]] const std::set<VersionId>& pruned() const { return pruned_; }

  /// Each save once. Valid until the history changes.
  [[nodiscard]] const std::vector<Lineage>& lineages() const;
  /// The lineage of a version; nullptr if it is not known.
  [[nodiscard]] const Lineage* lineage_of(const VersionId& id) const;
  /// The lineages that are, or may be, of that save.
  [[nodiscard]] std::vector<const Lineage*> lineages_for(const SaveIdentity& save) const;
  /// Returns whether `later` came from `earlier`, or is it.
  [[nodiscard]] bool descends(const VersionId& later, const VersionId& earlier) const;
  /// The newest version that all of them came from; nullptr if there is none. Of several the one with the
  /// longest history.
  [[nodiscard]] const Version* common_ancestor(const std::vector<const Version*>& versions) const;

 private:
  void group() const;

  std::map<VersionId, Version> versions_;
  std::set<VersionId> pruned_;
  mutable std::vector<Lineage> lineages_;
  mutable std::map<VersionId, std::size_t> lineage_of_;
  mutable std::unordered_map<std::string, std::set<std::size_t>> by_token_;
  mutable bool grouped_ = false;
};

/// The heads of a lineage that differ: one of each content, and none that a device had from the start and
/// from whose bytes another head went on. Two or more are a conflict.
[[nodiscard]] std::vector<const Version*> differing_heads(const Lineage& lineage);

}  // namespace bayswap
BAYSWAP_EXPORT_END
