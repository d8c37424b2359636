// What changed in a bay since it was last looked at: what has to be read, and reading it.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <thread>

#include "base/parallel.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "sync/bay_look.hpp"

namespace bayswap {

using Outcome = SyncRow::Outcome;

namespace {

// Losses that the user meant become deletions.
Result<void> follow_accepted(SyncRound::Impl& round, const std::string& bay, std::size_t first_row) {
  BAYSWAP_TRY(const History* history, round.replica.history());
  for (std::size_t i = first_row; i < round.rows->size(); ++i) {
    SyncRow& row = (*round.rows)[i];
    if (!row.loss || !round.request.accept.contains(*row.loss)) continue;
    for (const HeldPlace* place : round.places.of_bay(bay)) {
      const Version* before = history->known(place->version);
      if (!place->is_lost || place->path != row.path || place->label != row.save || before == nullptr)
        continue;
      Version gone = *before;
      gone.content.clear();
      gone.bundle = {};
      gone.size_bytes = 0;
      gone.parents = {place->version};
      // Who deletes what was pruned has not seen what came from it.
      if (const Lineage* lineage = history->lineage_of(place->version))
        for (const Version* head : lineage->heads)
          if (head->content == before->content) gone.parents.push_back(head->id);
      gone.noted = round.request.now;
      gone.modified.reset();
      BAYSWAP_TRY(row.version, round.replica.note(std::move(gone)));
      row.outcome = Outcome::noted;
      row.why = fmt::format("it is {}", to_text(*row.loss));
      row.loss.reset();
      round.places.remove(bay, std::string(place->key));
      break;
    }
  }
  return {};
}

}  // namespace

Result<std::string> BayLook::run() {
  const std::size_t first_row = round_.rows->size();
  BAYSWAP_CHECK(check_root(view_.bay(), view_.store()));
  BAYSWAP_TRY(const auto saves, view_.saves(BayView::Depth::names));
  BAYSWAP_CHECK(view_.check());
  BAYSWAP_TRY(history_, round_.replica.history());
  find_accounts(*saves);
  before_ = round_.places.of_bay(bay_).size();
  BAYSWAP_TRY(plain_, plain_saves(view_));
  const auto sort_out = [&](const std::vector<HeldSave>& all) {
    for (const HeldSave& save : all) {
      std::string key = key_text(save);
      if (takes_part(save))
        there_[std::move(key)] = &save;
      else
        left_.insert(std::move(key));
    }
  };
  sort_out(*saves);
  sort_out(plain_);
  BAYSWAP_CHECK(look_whether_idle());
  for (const auto& [key, save] : there_) BAYSWAP_CHECK(look_at(key, *save));
  BAYSWAP_CHECK(take_loaded());
  BAYSWAP_CHECK(settle_new());
  BAYSWAP_CHECK(look_for_vanished());
  // Many at once can be the wrong medium: then none of them is followed, whatever was accepted.
  if (lost_ >= 2 && lost_ * 3 > before_) return bay_;
  BAYSWAP_CHECK(follow_accepted(round_, bay_, first_row));
  return std::string();
}

void BayLook::find_accounts(const std::vector<HeldSave>& saves) {
  for (const HeldSave& save : saves)
    if (!save.facts.account.empty()) accounts_[save.rule].insert(lower(save.facts.account));
}

bool BayLook::takes_part(const HeldSave& save) const {
  return save.health != Health::deleted && !why_left_out(view_.bay().sync, save);
}

SaveIdentity BayLook::identity_of(const HeldSave& save) const {
  if (const auto known = identity_.find(&save); known != identity_.end()) return known->second;
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

SyncRow& BayLook::row(Outcome outcome, const HeldSave& save, std::string why) {
  return round_.row(outcome, bay_, save.rule->platform, label_of(save), save.path, std::move(why));
}

void BayLook::block(const HeldSave& save, const HeldPlace* place) {
  if (place != nullptr) round_.block(bay_, place->version);
  round_.blocked_paths[bay_].insert(save.path);
  for (const HeldFile& file : save.held) round_.blocked_paths[bay_].insert(file.path);
}

Result<void> BayLook::look_at(const std::string& key, const HeldSave& save) {
  HeldPlace* place = round_.places.find(bay_, key);
  if (save.kind == SaveKind::card) {
    block(save, place);
    row(Outcome::failed, save, save.health_note.empty() ? "the card can't be read" : save.health_note);
    return {};
  }
  // A place whose version nobody knows any more is one that was never seen: what is in it is a version of its
  // own, and where that differs from the others, a conflict.
  if (place != nullptr && place->coming.empty() && history_->known(place->version) == nullptr)
    place = nullptr;
  std::string& stamp = stamps_[&save];
  if (stamp.empty()) return {};
  if (!is_idle_ && round_.request.in_use)
    if (const auto why = round_.request.in_use(paths_of(view_, save))) {
      block(save, place);
      row(Outcome::waits, save, *why);
      return {};
    }
  if (is_plain(save.kind)) return look_at_plain(key, save, place);
  IssueList doubts(round_.request.carry.accept);
  auto content = load_save(view_, save, hints_for(view_, save, round_.request), doubts);
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

Result<void> BayLook::look_at_plain(const std::string& key, const HeldSave& save, HeldPlace* place) {
  auto file = read_plain(view_, save, round_.request.state_maps);
  if (!file && file.error().code == ErrorCode::not_found) return {};
  if (!file) return tl::unexpected(file.error());
  BAYSWAP_TRY(const std::string after, stamp_of(view_, save));
  if (after != stamps_[&save]) {
    block(save, place);
    row(Outcome::waits, save, "it was changed while it was read");
    return {};
  }
  if (!*file) {
    // Of no known program. One that was known before stays as it was elsewhere.
    if (place != nullptr) return lost(save, place, Loss::damaged, "no state map describes it any more");
    left_.insert(key);
    return {};
  }
  identity_[&save] = std::move((*file)->identity);
  if ((*file)->content.is_blank()) return lost(save, place, Loss::empty, "it is empty");
  loaded_.push_back({key, &save, place, {std::move((*file)->content), {}}, {}, {}});
  loaded_bytes_ += save.size_bytes;
  constexpr std::uint64_t many = std::uint64_t{16} << 20;
  return loaded_bytes_ < many ? Result<void>{} : take_loaded();
}

Result<std::vector<ShellFile>> BayLook::shell_of(const HeldSave& save, const Content& content) {
  std::vector<ShellFile> shell;
  for (std::size_t i = 0; i < save.held.size(); ++i) {
    BAYSWAP_TRY(Blob bytes, view_.store().read(save.held[i].path));
    const Layout* layout = i < content.layouts.size() ? content.layouts[i] : nullptr;
    shell.push_back(
        {std::string(name_of(save.held[i].path)), layout != nullptr ? layout->id : "", std::move(bytes)});
  }
  return shell;
}

Result<void> BayLook::take_loaded() {
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
    // A write that never happened left the place without a past: what is there now did not come from it.
    if (one.place != nullptr && one.place->seen.empty() && one.digest != one.place->coming) {
      round_.places.remove(bay_, one.key);
      one.place = nullptr;
    }
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

Result<void> BayLook::look_whether_idle() {
  std::vector<std::string> paths;
  for (const auto& [key, save] : there_) {
    if (save->kind == SaveKind::card) continue;
    const HeldPlace* place = round_.places.find(bay_, key);
    bool has_no_time = false;
    BAYSWAP_TRY(std::string stamp, stamp_of(view_, *save, &has_no_time));
    if (has_no_time) round_.bays.at(bay_).is_settled = false;  // a list does not tell whether it changed
    if (place != nullptr && place->stamp == stamp && !place->is_lost && !place->is_wanted_back &&
        place->coming.empty() && history_->known(place->version) != nullptr)
      continue;
    stamps_.emplace(save, std::move(stamp));
    for (std::string& path : paths_of(view_, *save)) paths.push_back(std::move(path));
  }
  is_idle_ = paths.empty() || !round_.request.in_use || !round_.request.in_use(paths);
  return {};
}

Result<std::string> look_at(SyncRound::Impl& round, BayView& view, Logbook* logbook) {
  return BayLook(round, view, logbook).run();
}

}  // namespace bayswap
