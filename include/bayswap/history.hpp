// Versions of saves and their order, which devices exchange (docs/sync.md). Belongs to bayswap::bayswap.
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

/// The id of a version: the first 16 bytes of the SHA-256 of its record.
struct VersionId {
  std::array<Byte, 16> bytes{};
  [[nodiscard]] std::string hex() const;
  [[nodiscard]] auto operator<=>(const VersionId&) const = default;  // NOLINT(modernize-use-nullptr)
};

/// Identifies the save of a version by everything that another device may know it by: ROMs can have other
/// names there, or be missing.
struct SaveIdentity {
  NameFacts facts;       // the game, slot, account and names; of rom_path the last component only
  bool has_rom = false;  // the game was identified by its ROM
  std::string name;      // distinguishes several saves of the game, as in SaveKey
  std::string place;     // as in SaveKey
  int slot = 0;          // as in SaveKey: 0 if the bay has no slots
};

/// Returns whether two identities mean the same save: ids, codes and titles decide, or names of files if one
/// side has none of those.
[[nodiscard]] bool is_same_save(const SaveIdentity& a, const SaveIdentity& b);

/// A save at one moment. Never changes once it is made.
struct Version {
  enum class Kind { battery, card, folder, state, config };
  VersionId id;  // see with_id()
  SaveIdentity save;
  Kind kind{};
  std::string label;               // the title to show
  std::string content;             // hex of digest_of; empty: the save was deleted
  Digest bundle;                   // of the object with its bytes; zero: none
  std::uint64_t size_bytes = 0;    // of its files
  std::vector<VersionId> parents;  // the versions it came from; several if it resolved a conflict
  std::string device;              // id of the device that made it
  std::string device_name;         // its name at that time
  std::int64_t noted = 0;  // when it was made, by that device's clock: shown, but never used for order
  std::optional<std::int64_t> modified;  // when the save was last written, if known

  [[nodiscard]] bool is_deletion() const { return content.empty(); }
};
[[nodiscard]] std::string_view to_text(Version::Kind kind);
[[nodiscard]] std::optional<Version::Kind> version_kind_from_text(std::string_view text);

/// Returns the record of a version, without its id. Equal versions have equal records.
[[nodiscard]] Blob record_of(const Version& version);
/// Returns the version with its parents sorted and its id set.
[[nodiscard]] Version with_id(Version version);
/// Reads a record. Fails with `damaged` if the bytes are not one.
[[nodiscard]] Result<Version> version_from_record(ByteView record);

/// The versions of one save, under whatever names devices have for it.
struct Lineage {
  std::vector<const Version*> versions;  // in the order of their ids
  /// The versions without descendants. Several with the same content count as one: see differing_heads.
  std::vector<const Version*> heads;
};

/// All known versions, and the ids of pruned ones. To join two histories add the versions of one to the
/// other, in any order. Not for several threads at once, not even to read.
class History {
 public:
  /// Adds a version. Returns false if it is known already, or was pruned.
  bool add(Version version);
  /// Removes a version for good; its children keep its id among their parents. `later` is a version that came
  /// from it, which tells who still has it that it is older; its default says that none is known. Of two, the
  /// smaller id is kept, so that all devices come to the same. Returns whether anything changed.
  bool prune(const VersionId& id, const VersionId& later = {});

  [[nodiscard]] const Version* find(const VersionId& id) const;
  [[nodiscard]] const std::map<VersionId, Version>& versions() const { return versions_; }
  /// Returns the ids of pruned versions, and what came from each.
  [[nodiscard]] const std::map<VersionId, VersionId>& pruned() const { return pruned_; }
  /// Returns a version, or of a pruned one the next version that is known and came from it; nullptr if
  /// nothing is known of it.
  [[nodiscard]] const Version* known(const VersionId& id) const;

  /// Returns the lineage of each save. Valid until the history changes.
  [[nodiscard]] const std::vector<Lineage>& lineages() const;
  /// Returns the lineage of a version; nullptr if it is not known.
  [[nodiscard]] const Lineage* lineage_of(const VersionId& id) const;
  /// Returns the lineages that are, or may be, of that save.
  [[nodiscard]] std::vector<const Lineage*> lineages_for(const SaveIdentity& save) const;
  /// Returns whether `later` descends from `earlier`, or is the same. `earlier` may be pruned.
  [[nodiscard]] bool descends(const VersionId& later, const VersionId& earlier) const;
  /// Returns the version that brought the bytes: of one that resolved a conflict the side that was chosen,
  /// else `version` itself.
  [[nodiscard]] const Version& origin_of(const Version& version) const;
  /// Returns the newest version that all of them descend from, the one with the longest history if there are
  /// several; nullptr if there is none.
  [[nodiscard]] const Version* common_ancestor(const std::vector<const Version*>& versions) const;

 private:
  void group() const;

  std::map<VersionId, Version> versions_;
  std::map<VersionId, VersionId> pruned_;
  mutable std::vector<Lineage> lineages_;
  mutable std::map<VersionId, std::size_t> lineage_of_;
  mutable std::unordered_map<std::string, std::set<std::size_t>> by_token_;
  mutable bool grouped_ = false;
};

/// Returns the heads of a lineage that differ, one for each content. Leaves out a head without parents if
/// another head descends from the same content. Two or more are a conflict.
[[nodiscard]] std::vector<const Version*> differing_heads(const Lineage& lineage);

}  // namespace bayswap
BAYSWAP_EXPORT_END
