// What a look makes of what it read: places that changed, are new, or have lost their save.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/keep_one.hpp"
#include "sync/bay_look.hpp"

namespace bayswap {

using Outcome = SyncRow::Outcome;

Result<void> BayLook::changed(const Loaded& one, const std::string& stamp) {
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
    version.parents = with_same(place.version);
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

// A version, and those that a conflict's answer, or another device, made of the same bytes: who plays on from
// one has played on from all of them.
std::vector<VersionId> BayLook::with_same(const VersionId& id) const {
  std::vector<VersionId> all{id};
  const Version* version = history_->find(id);
  const Lineage* lineage = version != nullptr ? history_->lineage_of(id) : nullptr;
  if (lineage == nullptr) return all;
  for (const Version* head : lineage->heads)
    if (head->id != id && head->content == version->content) all.push_back(head->id);
  return all;
}

Content BayLook::completed(const Content& now, const Version* before, const HeldPlace& place) {
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

Result<void> BayLook::lost(const HeldSave& save, HeldPlace* place, Loss loss, const std::string& why) {
  if (place != nullptr && place->seen.empty()) {
    round_.places.remove(bay_, std::string(place->key));  // a write that never happened
    place = nullptr;
  }
  if (place == nullptr) {
    if (loss == Loss::damaged) {
      block(save, place);
      row(Outcome::failed, save, why);
    }
    return {};  // a place that never held anything: what is elsewhere can go there
  }
  return ask(*place, save.rule->platform, loss, why);
}

Result<void> BayLook::ask(HeldPlace& place, Platform platform, Loss loss, const std::string& why) {
  const Version* before = history_->find(place.version);
  if (before != nullptr && before->is_deletion()) return {};
  if (place.is_wanted_back) return {};
  if (round_.request.accept_many) place.is_known_lost = true;
  lost_ += place.is_known_lost ? 0U : 1U;
  place.is_lost = true;
  round_.places.touch();
  round_.block(bay_, place.version);
  round_.blocked_paths[bay_].insert(place.path);
  round_.row(Outcome::asked, bay_, platform, place.label, place.path, why).loss = loss;
  return {};
}

Result<void> BayLook::settle_new() {
  std::map<std::string, std::size_t> dumps;
  for (const NewSave& one : new_) ++dumps[game_text(*one.save)];
  std::map<VersionId, const HeldPlace*> held;
  std::multimap<std::string, const HeldPlace*> vanished;
  std::multimap<const Lineage*, const HeldPlace*> vanished_of;
  for (const HeldPlace* place : round_.places.of_bay(bay_)) {
    if (there_.contains(place->key)) {
      held.emplace(place->version, place);
      continue;
    }
    if (left_.contains(place->key)) continue;
    vanished.emplace(place->seen, place);
    if (const Version* known = history_->known(place->version))
      vanished_of.emplace(history_->lineage_of(known->id), place);
  }
  // First all is looked up, then noted: each new version means that the history is grouped anew.
  std::vector<std::pair<const NewSave*, HeldPlace>> known;
  std::vector<std::pair<const NewSave*, std::vector<VersionId>>> unknown;
  for (const NewSave& one : new_) {
    if (const auto was = vanished.find(one.digest); was != vanished.end()) {
      std::erase_if(vanished_of, [&](const auto& row) { return row.second == was->second; });
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
    // Played, and given another name since.
    if (!is_here_already && dumps[game_text(*one.save)] == 1 && vanished_of.count(lineage) == 1) {
      const HeldPlace& was = *vanished_of.find(lineage)->second;
      row(Outcome::renamed, *one.save, fmt::format("it was {}", was.path)).version = was.version;
      unknown.emplace_back(&one, with_same(was.version));
      std::erase_if(vanished, [&](const auto& row) { return row.second == &was; });
      vanished_of.erase(lineage);
      round_.places.remove(bay_, std::string(was.key));
      continue;
    }
    if (lineages.size() > 1 || is_here_already || dumps[game_text(*one.save)] > 1) {
      block(*one.save, nullptr);
      row(Outcome::asked, *one.save,
          lineages.size() > 1
              ? "it could be any of several known saves: give it the name that one of them has, or leave it "
                "out"
              : "the bay has this game's save in another place as well, and it is unknown which is played: "
                "move one away, or leave it out");
      continue;
    }
    // After a deletion, the same bytes again are one who put them there: a child of the deletion, not what
    // was deleted.
    const Version* same =
        lineage != nullptr && !is_deleted(*lineage) ? version_with(*lineage, one.digest) : nullptr;
    if (const Version* version = same) {
      known.emplace_back(&one, place_of(one, version->id));
      known.back().second.is_unheard = true;
      continue;
    }
    unknown.emplace_back(&one, parents_of(*one.save, lineage));
  }
  for (auto& [one, place] : known) round_.places.set(std::move(place));
  for (auto& [one, parents] : unknown) {
    Version version = one->version;
    const bool is_new = parents.empty();
    version.parents = std::move(parents);
    BAYSWAP_TRY(const VersionId id, round_.replica.note(std::move(version)));
    if (one->save->kind != SaveKind::battery) BAYSWAP_CHECK(keep_now(*one->save));
    row(Outcome::noted, *one->save, is_new ? "it is new" : "it changed").version = id;
    HeldPlace place = place_of(*one, id);
    place.is_unheard = is_new;
    round_.places.set(std::move(place));
  }
  return {};
}

std::string BayLook::game_text(const HeldSave& save) {
  if (is_plain(save.kind)) return key_text(save);
  const SaveKey key = save.key();
  const GameId& game = save.facts.game;
  const std::string name = !game.code.empty()    ? game.code
                           : !game.title.empty() ? lower(game.title)
                                                 : key.game;
  return fmt::format("{}\t{}\t{}\t{}\t{}\t{}", tag(key.platform), name, key.account, key.name, key.place,
                     key.slot);
}

HeldPlace BayLook::place_of(const NewSave& one, const VersionId& version) const {
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

void BayLook::rename(const NewSave& one, const HeldPlace& was) {
  row(Outcome::renamed, *one.save, fmt::format("it was {}", was.path)).version = was.version;
  HeldPlace moved = place_of(one, was.version);
  round_.places.remove(bay_, std::string(was.key));
  round_.places.set(std::move(moved));
}

const Version* BayLook::version_with(const Lineage& lineage, const std::string& content) const {
  const Version* best = nullptr;
  for (const Version* one : lineage.versions)
    if (one->content == content && (best == nullptr || history_->descends(one->id, best->id))) best = one;
  return best;
}

std::vector<VersionId> BayLook::parents_of(const HeldSave& save, const Lineage* lineage) {
  if (lineage == nullptr) return {};
  if (is_deleted(*lineage)) {
    std::vector<VersionId> all;
    for (const Version* head : lineage->heads) all.push_back(head->id);
    return all;
  }
  if (round_.request.carry.writes_of)
    for (const std::string& path : paths_of(view_, save))
      for (const FileWrite& write : round_.request.carry.writes_of(path))
        if (const Version* known = write.content.empty() ? nullptr : version_with(*lineage, write.content))
          return {known->id};
  return {};
}

Result<void> BayLook::look_for_vanished() {
  const auto still_takes_part = [](const BaySync& sync, Version::Kind kind) {
    return std::ranges::find(sync.kinds, kind == Version::Kind::state ? "states" : "config") !=
           sync.kinds.end();
  };
  for (HeldPlace* place : round_.places.of_bay(bay_)) {
    if (there_.contains(place->key)) continue;
    const Version* version = history_->known(place->version);
    // Never seen: a write that was under way, and did not happen. Or it takes no part any more.
    if (version == nullptr || version->is_deletion() || place->seen.empty() || left_.contains(place->key) ||
        (!is_plain(version->kind) && view_.bay().rule(version->save.facts.game.platform) == nullptr) ||
        (is_plain(version->kind) && !still_takes_part(view_.bay().sync, version->kind))) {
      round_.places.remove(bay_, std::string(place->key));
      continue;
    }
    BAYSWAP_CHECK(ask(*place, version->save.facts.game.platform, Loss::deleted, "it is not there any more"));
  }
  return {};
}

Version BayLook::version_of(const HeldSave& save, const Content& content, const std::string& digest) const {
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

Result<void> BayLook::keep_now(const HeldSave& save) {
  if (logbook_ == nullptr || is_plain(save.kind)) return {};
  BAYSWAP_CHECK(keep_one(save, view_, *logbook_, batch_));
  return {};
}

Result<void> BayLook::keep_before(const HeldSave& save, const HeldPlace& place, const Version* before) {
  if (logbook_ == nullptr || before == nullptr || save.kind != SaveKind::battery) return {};
  const auto bytes = round_.replica.bundle(*before, nullptr);
  if (!bytes) return {};
  const auto bundle = bundle_from_bytes(*bytes, view_.catalog());
  if (!bundle || bundle->shell.size() != save.held.size()) return {};
  std::vector<FileChange> files;
  for (const ShellFile& file : bundle->shell) {
    const std::string path =
        view_.store().absolute_path(join_path(std::string(folder_of(place.path)), file.name));
    if (std::ranges::none_of(
            save.held, [&](const HeldFile& held) { return view_.store().absolute_path(held.path) == path; }))
      return {};
    BAYSWAP_TRY(const auto newest, logbook_->newest_of(path));
    if (newest && *newest == sha256(file.bytes.view())) continue;
    files.push_back({path, file.bytes, file.bytes, before->modified});
  }
  if (files.empty()) return {};
  Entry entry;
  entry.kind = EntryKind::backup;
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

}  // namespace bayswap
