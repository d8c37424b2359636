// One look at one bay: what changed in it since it was last looked at.
#pragma once

#include "sync/plain.hpp"

namespace bayswap {

/// Works for one look.
class BayLook {
 public:
  BayLook(SyncRound::Impl& round, BayView& view, Logbook* logbook)
      : round_(round), view_(view), logbook_(logbook), bay_(view.bay().name) {}
  [[nodiscard]] Result<std::string> run();

 private:
  struct NewSave {
    std::string key;
    const HeldSave* save = nullptr;
    std::string digest;
    std::string stamp;
    Version version;  // all but what it came from
  };
  // A save that was read, and what is worked out of its bytes by any thread.
  struct Loaded {
    std::string key;
    const HeldSave* save = nullptr;
    HeldPlace* place = nullptr;
    Bundle bundle;
    std::string digest;
    std::optional<PackedObject> object;
  };
  void find_accounts(const std::vector<HeldSave>& saves);
  [[nodiscard]] bool takes_part(const HeldSave& save) const;
  // An account that is the only one of its bay is the same as none: bays without accounts keep it, too.
  [[nodiscard]] SaveIdentity identity_of(const HeldSave& save) const;
  SyncRow& row(SyncRow::Outcome outcome, const HeldSave& save, std::string why);
  // Nothing is written to this place in this round.
  void block(const HeldSave& save, const HeldPlace* place);
  [[nodiscard]] Result<void> look_at(const std::string& key, const HeldSave& save);
  [[nodiscard]] Result<void> look_at_plain(const std::string& key, const HeldSave& save, HeldPlace* place);
  [[nodiscard]] Result<std::vector<ShellFile>> shell_of(const HeldSave& save, const Content& content);
  // Digests and packing by all processors, the rest in order.
  [[nodiscard]] Result<void> take_loaded();
  // Stamps of the saves that have to be read; one look whether any program uses one of them.
  [[nodiscard]] Result<void> look_whether_idle();
  [[nodiscard]] Result<void> changed(const Loaded& one, const std::string& stamp);
  // A place that holds less than the version it got (a bay without controller paks, say): what it can't hold
  // stays as it was.
  [[nodiscard]] Content completed(const Content& now, const Version* before, const HeldPlace& place);
  [[nodiscard]] Result<void> lost(const HeldSave& save, HeldPlace* place, Loss loss, const std::string& why);
  // A good save that is gone, empty or damaged.
  [[nodiscard]] Result<void> ask(HeldPlace& place, Platform platform, Loss loss, const std::string& why);
  [[nodiscard]] Result<void> settle_new();
  // Two dumps of one game are one save in two places.
  [[nodiscard]] static std::string game_text(const HeldSave& save);
  [[nodiscard]] HeldPlace place_of(const NewSave& one, const VersionId& version) const;
  // The same bytes under a new name, where a place of the bay has vanished.
  void rename(const NewSave& one, const HeldPlace& was);
  [[nodiscard]] std::vector<VersionId> with_same(const VersionId& id) const;
  // The newest version with that content.
  [[nodiscard]] const Version* version_with(const Lineage& lineage, const std::string& content) const;
  // What a place came from that this device never looked at: what a carry wrote there, or a deletion.
  [[nodiscard]] std::vector<VersionId> parents_of(const HeldSave& save, const Lineage* lineage);
  [[nodiscard]] Result<void> look_for_vanished();
  // All but its bytes and what it came from.
  [[nodiscard]] Version version_of(const HeldSave& save, const Content& content,
                                   const std::string& digest) const;
  [[nodiscard]] Result<void> keep_now(const HeldSave& save);
  // The version that was there before, if the logbook has it not: the bay has it no more.
  [[nodiscard]] Result<void> keep_before(const HeldSave& save, const HeldPlace& place, const Version* before);

  SyncRound::Impl& round_;
  BayView& view_;
  Logbook* logbook_;
  std::string bay_;
  const History* history_ = nullptr;
  std::map<const PlatformRule*, std::set<std::string>> accounts_;
  std::map<std::string, const HeldSave*> there_;
  std::vector<HeldSave> plain_;                       // states and configuration
  std::map<const HeldSave*, SaveIdentity> identity_;  // of these, once read
  std::set<std::string> left_;                        // that take no part
  std::map<const HeldSave*, std::string> stamps_;     // of those that have to be read
  bool is_idle_ = false;
  std::vector<Loaded> loaded_;
  std::uint64_t loaded_bytes_ = 0;
  std::vector<NewSave> new_;
  std::optional<std::int64_t> batch_;
  std::size_t before_ = 0;
  std::size_t lost_ = 0;
};

}  // namespace bayswap
