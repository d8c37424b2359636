// What changed in a bay since it was last looked at.
#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>
#include <atomic>
#include <thread>

#include "base/parallel.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/keep_one.hpp"
#include "sync/round.hpp"

namespace bayswap {
namespace {

using Outcome = SyncRow::Outcome;

constexpr std::size_t max_depth = 16;

Version::Kind kind_of(const HeldSave& save) {
  switch (save.kind) {
    case SaveKind::battery:
      return Version::Kind::battery;
    case SaveKind::card:
    case SaveKind::card_entry:
    case SaveKind::single:
      return Version::Kind::card;
    default:
      return Version::Kind::folder;
  }
}

void stamp_file(std::string& stamp, const std::string& path, const FileInfo& info) {
  stamp += fmt::format("{}|{}|{}.{}\n", path, info.size_bytes, info.modified, info.modified_ns);
}

Result<void> stamp_folder(Store& store, const std::string& folder, std::size_t depth, std::string& stamp) {
  if (depth > max_depth) return {};
  BAYSWAP_TRY(const auto entries, store.list(folder));
  for (const FileInfo& info : entries) {
    const std::string path = join_path(folder, info.name);
    if (info.kind == FileInfo::Kind::folder)
      BAYSWAP_CHECK(stamp_folder(store, path, depth + 1, stamp));
    else
      stamp_file(stamp, path, info);
  }
  return {};
}

// A look at one bay.
class BayLook {
 public:
  BayLook(SyncRound::Impl& round, BayView& view, Logbook* logbook)
      : round_(round), view_(view), logbook_(logbook), bay_(view.bay().name) {}

  Result<std::string> run() {
    BAYSWAP_CHECK(check_root(view_.bay(), view_.store()));
    BAYSWAP_TRY(const auto saves, view_.saves(BayView::Depth::names));
    BAYSWAP_CHECK(view_.check());
    BAYSWAP_TRY(history_, round_.replica.history());
    find_accounts(*saves);
    before_ = round_.places.of_bay(bay_).size();
    for (const HeldSave& save : *saves) {
      std::string key = key_text(save);
      if (takes_part(save))
        there_[std::move(key)] = &save;
      else
        left_.insert(std::move(key));
    }
    BAYSWAP_CHECK(look_whether_idle());
    for (const auto& [key, save] : there_) BAYSWAP_CHECK(look_at(key, *save));
    BAYSWAP_CHECK(take_loaded());
    BAYSWAP_CHECK(settle_new());
    BAYSWAP_CHECK(look_for_vanished());
    return lost_ >= 2 && lost_ * 3 > before_ ? bay_ : std::string();
  }

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

  void find_accounts(const std::vector<HeldSave>& saves) {
    for (const HeldSave& save : saves)
      if (!save.facts.account.empty()) accounts_[save.rule].insert(lower(save.facts.account));
  }

  [[nodiscard]] bool takes_part(const HeldSave& save) const {
    const BaySync& sync = view_.bay().sync;
    const auto matches = [&](const std::string& pattern) {
      return fnmatch(pattern.c_str(), save.path.c_str(), 0) == 0;
    };
    return save.health != Health::deleted && save.misplaced.empty() && save.size_bytes <= sync.most_bytes &&
           std::ranges::find(sync.kinds, to_text(kind_of(save))) != sync.kinds.end() &&
           std::ranges::none_of(sync.leave, matches);
  }

  // An account that is the only one of its bay is the same as none: bays without accounts keep it, too.
  SaveIdentity identity_of(const HeldSave& save) const {
    SaveIdentity identity;
    const SaveKey key = save.key();
    identity.facts = save.facts;
    if (identity.facts.rom_path) identity.facts.rom_path = std::string(name_of(*identity.facts.rom_path));
    const auto accounts = accounts_.find(save.rule);
    if (accounts != accounts_.end() && accounts->second.size() == 1) identity.facts.account.clear();
    identity.has_rom = save.has_rom;
    identity.name = key.name;
    identity.place = key.place;
    identity.slot = key.slot;
    return identity;
  }

  SyncRow& row(Outcome outcome, const HeldSave& save, std::string why) {
    return round_.row(outcome, bay_, save.rule->platform, label_of(save), save.path, std::move(why));
  }

  // Nothing is written to this place in this round.
  void block(const HeldSave& save, const HeldPlace* place) {
    if (place != nullptr) round_.blocked[bay_].insert(place->version);
    round_.blocked_paths[bay_].insert(save.path);
    for (const HeldFile& file : save.held) round_.blocked_paths[bay_].insert(file.path);
  }

  Result<void> look_at(const std::string& key, const HeldSave& save) {
    HeldPlace* place = round_.places.find(bay_, key);
    if (save.kind == SaveKind::card) {
      block(save, place);
      row(Outcome::failed, save, save.health_note.empty() ? "the card can't be read" : save.health_note);
      return {};
    }
    if (place != nullptr) find_pruned(save, *place);
    std::string& stamp = stamps_[&save];
    if (stamp.empty()) return {};
    if (!is_idle_ && round_.request.in_use)
      if (const auto why = round_.request.in_use(paths_of(view_, save))) {
        block(save, place);
        row(Outcome::waits, save, *why);
        return {};
      }
    IssueList doubts(round_.request.carry.accept);
    auto content = load_save(view_, save, hints_for(save), doubts);
    BAYSWAP_TRY(const std::string after, stamp_of(view_, save));
    if (after != stamp) {
      block(save, place);
      row(Outcome::waits, save, "it was changed while it was read");
      return {};
    }
    if (const PlanIssue* refusal = content ? doubts.refusal() : nullptr)
      content = tl::unexpected(Error(ErrorCode::damaged, refusal->text, refusal->hint));
    if (content)
      for (const Part& part : content->chips.parts)
        for (const DumpDefect& defect : is_blank(part) ? std::vector<DumpDefect>{} : defects(part))
          if (defect.certain) content = tl::unexpected(Error(ErrorCode::damaged, defect.text, defect.hint));
    if (!content) return lost(save, place, Loss::damaged, content.error().message);
    if (content->is_blank()) return lost(save, place, Loss::empty, "it is empty");
    Loaded one{key, &save, place, {*std::move(content), {}}, {}, {}};
    BAYSWAP_TRY(one.bundle.shell, shell_of(save, one.bundle.content));
    loaded_bytes_ += save.size_bytes;
    loaded_.push_back(std::move(one));
    constexpr std::uint64_t many = std::uint64_t{16} << 20;
    return loaded_bytes_ < many ? Result<void>{} : take_loaded();
  }

  Result<std::vector<ShellFile>> shell_of(const HeldSave& save, const Content& content) {
    std::vector<ShellFile> shell;
    for (std::size_t i = 0; i < save.held.size(); ++i) {
      BAYSWAP_TRY(Blob bytes, view_.store().read(save.held[i].path));
      const Layout* layout = i < content.layouts.size() ? content.layouts[i] : nullptr;
      shell.push_back(
          {std::string(name_of(save.held[i].path)), layout != nullptr ? layout->id : "", std::move(bytes)});
    }
    return shell;
  }

  // Digests and packing by all processors, the rest in order.
  Result<void> take_loaded() {
    std::atomic<std::size_t> next{0};
    const std::size_t helpers =
        std::min<std::size_t>(loaded_.size(), std::max(1U, std::thread::hardware_concurrency()));
    in_parallel(helpers == 0 ? 0 : helpers - 1, [&] {
      for (std::size_t i = next++; i < loaded_.size(); i = next++) {
        Loaded& one = loaded_[i];
        one.digest = digest_of(one.bundle.content).hex();
        if (one.place == nullptr || one.digest != one.place->seen)
          one.object = pack_object(to_bytes(one.bundle));
      }
    });
    for (Loaded& one : loaded_) {
      const std::string& stamp = stamps_[one.save];
      if (one.place != nullptr) {
        BAYSWAP_CHECK(changed(one, stamp));
        continue;
      }
      BAYSWAP_CHECK(round_.replica.hold(*one.object));
      Version version = version_of(*one.save, one.bundle.content, one.digest);
      version.bundle = one.object->digest;
      new_.push_back({one.key, one.save, one.digest, stamp, std::move(version)});
    }
    loaded_.clear();
    loaded_bytes_ = 0;
    return {};
  }

  // Stamps of the saves that have to be read; one look whether any program uses one of them.
  Result<void> look_whether_idle() {
    std::vector<std::string> paths;
    for (const auto& [key, save] : there_) {
      if (save->kind == SaveKind::card) continue;
      const HeldPlace* place = round_.places.find(bay_, key);
      BAYSWAP_TRY(std::string stamp, stamp_of(view_, *save));
      if (place != nullptr && place->stamp == stamp && !place->is_lost && !place->is_wanted_back &&
          place->coming.empty() && !history_->pruned().contains(place->version))
        continue;
      stamps_.emplace(save, std::move(stamp));
      for (std::string& path : paths_of(view_, *save)) paths.push_back(std::move(path));
    }
    is_idle_ = paths.empty() || !round_.request.in_use || !round_.request.in_use(paths);
    return {};
  }

  // A place that was away so long that its version was pruned holds what the oldest one came from.
  void find_pruned(const HeldSave& save, HeldPlace& place) {
    if (!history_->pruned().contains(place.version)) return;
    const auto lineages = history_->lineages_for(identity_of(save));
    if (lineages.size() != 1) return;
    for (const Version* version : lineages.front()->versions)
      if (std::ranges::none_of(version->parents,
                               [&](const VersionId& parent) { return history_->find(parent) != nullptr; }))
        place.version = version->id;
    round_.places.touch();
  }

  Hints hints_for(const HeldSave& save) {
    Hints hints;
    if (save.facts.rom_path)
      if (const RomFile* rom = view_.rom(*save.rule, *save.facts.rom_path)) {
        const RomFacts& facts = view_.facts_of(*rom);
        hints.game = facts.game;
        add_chips(hints.chips, facts.chips);
      }
    if (round_.request.carry.book != nullptr)
      add_chips(hints.chips, round_.request.carry.book->chips_of(save.facts.game));
    return hints;
  }

  // ---- A place that was known
  // ------------------------------------------------------------------------------

  Result<void> changed(const Loaded& one, const std::string& stamp) {
    const HeldSave& save = *one.save;
    HeldPlace& place = *one.place;
    const std::string& digest = one.digest;
    const bool was_coming = !place.coming.empty() && digest == place.coming;
    if (was_coming) place.version = place.coming_version;
    place.coming.clear();
    const bool is_same = was_coming || digest == place.seen;
    place.is_lost = place.is_wanted_back = place.is_known_lost = false;
    place.stamp = stamp;
    place.path = save.path;
    place.label = label_of(save);
    if (!is_same) {
      const Version* before = history_->find(place.version);
      const Content whole = completed(one.bundle.content, before, place);
      BAYSWAP_CHECK(keep_before(save, place, before));
      Version version = version_of(save, whole, digest_of(whole).hex());
      version.parents = {place.version};
      if (version.content == digest && one.object) {
        BAYSWAP_CHECK(round_.replica.hold(*one.object));
        version.bundle = one.object->digest;
        BAYSWAP_TRY(place.version, round_.replica.note(std::move(version)));
      } else {
        BAYSWAP_TRY(place.version,
                    round_.replica.note(std::move(version), to_bytes({whole, one.bundle.shell})));
      }
      BAYSWAP_CHECK(keep_now(save));
      row(Outcome::noted, save, "it changed").version = place.version;
    }
    place.seen = digest;
    round_.places.touch();
    return {};
  }

  // A place that holds less than the version it got (a bay without controller paks, say): what it can't hold
  // stays as it was.
  Content completed(const Content& now, const Version* before, const HeldPlace& place) {
    if (before == nullptr || before->content == place.seen || now.kind != Content::Kind::chips) return now;
    const auto bytes = round_.replica.bundle(*before, nullptr);
    if (!bytes) return now;
    const auto old = bundle_from_bytes(*bytes, view_.catalog());
    if (!old || old->content.kind != Content::Kind::chips) return now;
    Content whole = now;
    for (const Part& part : old->content.chips.parts)
      if (now.chips.find(part.role) == nullptr && part.role.kind != PartKind::rtc)
        whole.chips.parts.push_back(part);
    return whole;
  }

  Result<void> lost(const HeldSave& save, HeldPlace* place, Loss loss, const std::string& why) {
    if (place == nullptr) {
      if (loss == Loss::damaged) {
        block(save, place);
        row(Outcome::failed, save, why);
      }
      return {};  // a place that never held anything: what is elsewhere can go there
    }
    return ask(*place, save.rule->platform, loss, why);
  }

  // A good save that is gone, empty or damaged.
  Result<void> ask(HeldPlace& place, Platform platform, Loss loss, const std::string& why) {
    const Version* before = history_->find(place.version);
    if (before != nullptr && before->is_deletion()) return {};
    if (place.is_wanted_back) return {};
    if (round_.request.accept.contains(loss) && before != nullptr) {
      Version gone = *before;
      gone.content.clear();
      gone.bundle = {};
      gone.size_bytes = 0;
      gone.parents = {place.version};
      gone.noted = round_.request.now;
      gone.modified.reset();
      BAYSWAP_TRY(const VersionId id, round_.replica.note(std::move(gone)));
      round_
          .row(Outcome::noted, bay_, platform, place.label, place.path,
               fmt::format("it is {}", to_text(loss)))
          .version = id;
      round_.places.remove(bay_, std::string(place.key));
      return {};
    }
    if (round_.request.accept_many) place.is_known_lost = true;
    lost_ += place.is_known_lost ? 0U : 1U;
    place.is_lost = true;
    round_.places.touch();
    round_.blocked[bay_].insert(place.version);
    round_.blocked_paths[bay_].insert(place.path);
    round_.row(Outcome::asked, bay_, platform, place.label, place.path, why).loss = loss;
    return {};
  }

  // ---- Places that are new
  // ---------------------------------------------------------------------------------

  Result<void> settle_new() {
    std::map<std::string, std::size_t> dumps;
    for (const NewSave& one : new_) ++dumps[game_text(*one.save)];
    std::map<VersionId, const HeldPlace*> held;
    std::multimap<std::string, const HeldPlace*> vanished;
    for (const HeldPlace* place : round_.places.of_bay(bay_)) {
      if (there_.contains(place->key))
        held.emplace(place->version, place);
      else
        vanished.emplace(place->seen, place);
    }
    // First all is looked up, then noted: each new version means that the history is grouped anew.
    std::vector<std::pair<const NewSave*, HeldPlace>> known;
    std::vector<std::pair<const NewSave*, std::vector<VersionId>>> unknown;
    for (const NewSave& one : new_) {
      if (const auto was = vanished.find(one.digest); was != vanished.end()) {
        rename(one, *was->second);
        vanished.erase(was);
        continue;
      }
      const auto lineages = history_->lineages_for(identity_of(*one.save));
      const Lineage* lineage = lineages.size() == 1 ? lineages.front() : nullptr;
      const bool is_here_already =
          lineage != nullptr && std::ranges::any_of(lineage->versions, [&](const Version* version) {
            return held.contains(version->id);
          });
      if (lineages.size() > 1 || is_here_already || dumps[game_text(*one.save)] > 1) {
        block(*one.save, nullptr);
        row(Outcome::asked, *one.save,
            lineages.size() > 1
                ? "it could be any of several saves that are known, and nothing tells which"
                : "the bay has this game's save in another place as well: nothing tells which is "
                  "played");
        continue;
      }
      if (const Version* version = lineage != nullptr ? version_with(*lineage, one.digest) : nullptr) {
        known.emplace_back(&one, place_of(one, version->id));
        continue;
      }
      unknown.emplace_back(&one, parents_of(*one.save, lineage));
    }
    for (auto& [one, place] : known) round_.places.set(std::move(place));
    for (auto& [one, parents] : unknown) {
      Version version = one->version;
      version.parents = std::move(parents);
      BAYSWAP_TRY(const VersionId id, round_.replica.note(std::move(version)));
      if (one->save->kind != SaveKind::battery) BAYSWAP_CHECK(keep_now(*one->save));
      row(Outcome::noted, *one->save, "it is new").version = id;
      round_.places.set(place_of(*one, id));
    }
    return {};
  }

  // Two dumps of one game are one save in two places.
  static std::string game_text(const HeldSave& save) {
    const SaveKey key = save.key();
    const GameId& game = save.facts.game;
    const std::string name = !game.code.empty()    ? game.code
                             : !game.title.empty() ? lower(game.title)
                                                   : key.game;
    return fmt::format("{}\t{}\t{}\t{}\t{}\t{}", tag(key.platform), name, key.account, key.name, key.place,
                       key.slot);
  }

  HeldPlace place_of(const NewSave& one, const VersionId& version) const {
    HeldPlace place;
    place.bay = bay_;
    place.key = one.key;
    place.label = label_of(*one.save);
    place.path = one.save->path;
    place.seen = one.digest;
    place.stamp = one.stamp;
    place.version = version;
    return place;
  }

  // The same bytes under a new name, where a place of the bay has vanished.
  void rename(const NewSave& one, const HeldPlace& was) {
    row(Outcome::renamed, *one.save, fmt::format("it was {}", was.path)).version = was.version;
    HeldPlace moved = place_of(one, was.version);
    round_.places.remove(bay_, std::string(was.key));
    round_.places.set(std::move(moved));
  }

  // The newest version with that content.
  const Version* version_with(const Lineage& lineage, const std::string& content) const {
    const Version* best = nullptr;
    for (const Version* one : lineage.versions)
      if (one->content == content && (best == nullptr || history_->descends(one->id, best->id))) best = one;
    return best;
  }

  // What a place came from that this device never looked at: what a carry wrote there, or a deletion.
  std::vector<VersionId> parents_of(const HeldSave& save, const Lineage* lineage) {
    if (lineage == nullptr) return {};
    if (round_.request.carry.writes_of)
      for (const std::string& path : paths_of(view_, save))
        for (const FileWrite& write : round_.request.carry.writes_of(path))
          if (const Version* known = write.content.empty() ? nullptr : version_with(*lineage, write.content))
            return {known->id};
    if (lineage->heads.size() == 1 && lineage->heads.front()->is_deletion())
      return {lineage->heads.front()->id};
    return {};
  }

  // ---- Places that are gone
  // --------------------------------------------------------------------------------

  Result<void> look_for_vanished() {
    for (HeldPlace* place : round_.places.of_bay(bay_)) {
      if (there_.contains(place->key)) continue;
      const Version* version = history_->find(place->version);
      // Never seen: a write that was under way, and did not happen. Or it takes no part any more.
      if (version == nullptr || version->is_deletion() || place->seen.empty() || left_.contains(place->key) ||
          view_.bay().rule(version->save.facts.game.platform) == nullptr) {
        round_.places.remove(bay_, std::string(place->key));
        continue;
      }
      BAYSWAP_CHECK(
          ask(*place, version->save.facts.game.platform, Loss::deleted, "it is not there any more"));
    }
    return {};
  }

  // ---- Versions
  // --------------------------------------------------------------------------------------------

  // All but its bytes and what it came from.
  Version version_of(const HeldSave& save, const Content& content, const std::string& digest) const {
    Version version;
    version.save = identity_of(save);
    version.kind = kind_of(save);
    version.label = label_of(save);
    version.content = digest;
    version.size_bytes = save.size_bytes;
    version.noted = round_.request.now;
    version.modified = save.modified;
    if (content.kind == Content::Kind::tree) {
      version.size_bytes = 0;
      for (const TreeFile& file : content.tree) {
        version.size_bytes += file.bytes.size();
        version.modified = std::max(version.modified.value_or(file.modified), file.modified);
      }
    }
    return version;
  }

  Result<void> keep_now(const HeldSave& save) {
    if (logbook_ == nullptr) return {};
    BAYSWAP_CHECK(keep_one(save, view_, *logbook_, batch_));
    return {};
  }

  // The version that was there before, if the logbook has it not: the bay has it no more.
  Result<void> keep_before(const HeldSave& save, const HeldPlace& place, const Version* before) {
    if (logbook_ == nullptr || before == nullptr || save.kind != SaveKind::battery) return {};
    const auto bytes = round_.replica.bundle(*before, nullptr);
    if (!bytes) return {};
    const auto bundle = bundle_from_bytes(*bytes, view_.catalog());
    if (!bundle || bundle->shell.size() != save.held.size()) return {};
    std::vector<FileChange> files;
    for (const ShellFile& file : bundle->shell) {
      const std::string path =
          view_.store().absolute_path(join_path(std::string(folder_of(place.path)), file.name));
      if (std::ranges::none_of(save.held, [&](const HeldFile& held) {
            return view_.store().absolute_path(held.path) == path;
          }))
        return {};
      BAYSWAP_TRY(const auto newest, logbook_->newest_of(path));
      if (newest && *newest == sha256(file.bytes.view())) continue;
      files.push_back({path, file.bytes, file.bytes, before->modified});
    }
    if (files.empty()) return {};
    Entry entry;
    entry.kind = EntryKind::keep;
    entry.reason = fmt::format("keep '{}' of {}, as it was before", place.label, bay_);
    entry.game = save.facts.game;
    entry.account = save.facts.account;
    entry.slot = save.key().slot;
    entry.content = before->content;
    entry.to_bay = bay_;
    entry.root = view_.store().root();
    entry.batch = batch_;
    BAYSWAP_TRY(const std::int64_t id, logbook_->begin(std::move(entry), files));
    BAYSWAP_CHECK(logbook_->finish(id, EntryState::done));
    if (!batch_) batch_ = id;
    return {};
  }

  SyncRound::Impl& round_;
  BayView& view_;
  Logbook* logbook_;
  std::string bay_;
  const History* history_ = nullptr;
  std::map<const PlatformRule*, std::set<std::string>> accounts_;
  std::map<std::string, const HeldSave*> there_;
  std::set<std::string> left_;                     // that take no part
  std::map<const HeldSave*, std::string> stamps_;  // of those that have to be read
  bool is_idle_ = false;
  std::vector<Loaded> loaded_;
  std::uint64_t loaded_bytes_ = 0;
  std::vector<NewSave> new_;
  std::optional<std::int64_t> batch_;
  std::size_t before_ = 0;
  std::size_t lost_ = 0;
};

}  // namespace

std::string key_text(const HeldSave& save) {
  const SaveKey key = save.key();
  return fmt::format("{}\t{}\t{}\t{}\t{}\t{}\t{}", tag(key.platform), key.game, key.account, key.name,
                     key.place, key.slot, save.facts.rom_path ? lower(stem_of(*save.facts.rom_path)) : "");
}

std::string label_of(const HeldSave& save) {
  if (!save.label.empty()) return save.label;
  return !save.facts.game.title.empty() ? save.facts.game.title : save.name();
}

Result<std::string> stamp_of(BayView& view, const HeldSave& save) {
  Store& store = view.store();
  std::string stamp;
  std::vector<std::string> paths;
  for (const HeldFile& file : save.held) paths.push_back(file.path);
  if (paths.empty()) paths.push_back(save.path);
  for (const std::string& path : paths) {
    BAYSWAP_TRY(const auto info, store.stat(path));
    if (!info) continue;
    if (info->kind == FileInfo::Kind::folder)
      BAYSWAP_CHECK(stamp_folder(store, path, 0, stamp));
    else
      stamp_file(stamp, path, *info);
  }
  return sha256(ByteView(reinterpret_cast<const Byte*>(stamp.data()), stamp.size())).hex();
}

std::vector<std::string> paths_of(BayView& view, const HeldSave& save) {
  std::vector<std::string> paths;
  for (const HeldFile& file : save.held) paths.push_back(view.store().absolute_path(file.path));
  if (paths.empty()) paths.push_back(view.store().absolute_path(save.path));
  return paths;
}

Result<std::string> look_at(SyncRound::Impl& round, BayView& view, Logbook* logbook) {
  return BayLook(round, view, logbook).run();
}

}  // namespace bayswap
