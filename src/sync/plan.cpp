// What is newer elsewhere, planned into one bay.
#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/planner.hpp"
#include "sync/plain.hpp"

namespace bayswap {
namespace {

using Outcome = SyncRow::Outcome;

// A save that a bay has no place for is none of that bay's saves. Where it has the game and can't take the
// save, it says so.
bool means_no_place(IssueCode code) {
  return code == IssueCode::no_rom || code == IssueCode::no_place || code == IssueCode::empty;
}

// Whether the bay file lets such a version into the bay; where it goes is asked by is_left_out.
bool is_let_in(const BaySync& sync, const Version& version) {
  const std::string_view kind =
      version.kind == Version::Kind::state ? std::string_view("states") : to_text(version.kind);
  return version.size_bytes <= sync.max_bytes && std::ranges::find(sync.kinds, kind) != sync.kinds.end();
}

bool is_left_out(const BaySync& sync, const std::string& path) {
  return std::ranges::any_of(
      sync.leave, [&](const std::string& pattern) { return fnmatch(pattern.c_str(), path.c_str(), 0) == 0; });
}

class BayPlanner {
 public:
  /// `bringing_back`: only places that are wanted back, whatever is there now.
  BayPlanner(SyncRound::Impl& round, BayView& view, SyncFolder* sync_folder, Logbook* logbook,
             bool bringing_back)
      : round_(round),
        logbook_(logbook),
        view_(view),
        sync_folder_(sync_folder),
        bay_(view.bay().name),
        request_(round.request.carry),
        bringing_back_(bringing_back) {
    // Which is newer is known here, and whatever goes is kept.
    request_.accept.insert(IssueCode::newer);
    request_.exact = true;
    if (bringing_back)
      request_.accept.insert({IssueCode::damaged, IssueCode::short_file, IssueCode::odd_target});
  }

  /// Adds to the plans.
  Result<void> run(std::vector<Plan>& plans) {
    BAYSWAP_TRY(const History* history, round_.replica.history());
    history_ = history;
    plans_ = std::move(plans);
    for (const HeldPlace* place : round_.places.of_bay(bay_)) {
      const Version* known = history->known(place->version);
      held_.emplace(known != nullptr ? known->id : place->version, place);
    }
    Planner planner(nullptr, view_, nullptr, request_);
    std::vector<Passage> passages;
    std::vector<std::pair<const Version*, HeldPlace*>> deletions;
    for (const Lineage& lineage : history->lineages()) {
      const auto heads = differing_heads(lineage);
      HeldPlace* place = place_of(lineage);
      if ((place != nullptr && place->is_wanted_back) != bringing_back_) continue;
      if (heads.size() > 1 && place != nullptr) {
        BAYSWAP_CHECK(bank(heads, *place));
        row(Outcome::conflict, *heads.front(), place->path,
            fmt::format("{} versions changed independently", heads.size()));
      }
      if (heads.size() > 1 && place == nullptr) BAYSWAP_CHECK(say_conflict_without_place(heads));
      if (heads.size() != 1) continue;
      if (!is_wanted(lineage, *heads.front(), place)) continue;
      if (is_plain(heads.front()->kind) && !heads.front()->is_deletion()) {
        BAYSWAP_CHECK(write_plain(*heads.front(), place));
        continue;
      }
      if (heads.front()->is_deletion()) {
        deletions.emplace_back(heads.front(), place);
        continue;
      }
      BAYSWAP_CHECK(resolve(planner, *heads.front(), place, passages));
    }
    BAYSWAP_CHECK(remove_all(deletions));
    BAYSWAP_CHECK(planner.merge(passages, true));
    BAYSWAP_CHECK(view_.check());
    group(planner, passages);
    plans = std::move(plans_);
    return {};
  }

 private:
  static constexpr const char* in_the_way =
      "its place holds something else already: move that away, or leave one of the two out of sync";
  struct Wanted {
    const Version* version = nullptr;
    const HeldPlace* place = nullptr;
  };

  // The device that played it; who decided for it in a conflict is another matter.
  [[nodiscard]] const std::string& made_on(const Version& version) const {
    return history_->origin_of(version).device_name;
  }

  HeldPlace* place_of(const Lineage& lineage) {
    for (const Version* version : lineage.versions)
      if (const auto at = held_.find(version->id); at != held_.end())
        return round_.places.find(bay_, at->second->key);
    return nullptr;
  }

  bool is_wanted(const Lineage& lineage, const Version& head, HeldPlace* place) {
    const auto& blocked = round_.blocked[bay_];
    for (const Version* version : lineage.versions)
      if (blocked.contains(version->id)) return false;
    if (place == nullptr)
      return !head.is_deletion() && is_let_in(view_.bay().sync, head) &&
             (is_plain(head.kind) || view_.bay().rule(head.save.facts.game.platform) != nullptr);
    if (place->is_lost) return false;
    if (bringing_back_) return true;
    if (place->version == head.id) return false;
    const Version* holds = history_->find(place->version);
    if (holds != nullptr && holds->content == head.content) {
      // The same bytes, which another device came to as well.
      place->version = head.id;
      round_.places.touch();
      return false;
    }
    return true;
  }

  // A bay that would have the save, once it is decided which.
  Result<void> say_conflict_without_place(const std::vector<const Version*>& heads) {
    for (const Version* head : heads) {
      if (head->is_deletion() || is_plain(head->kind) || !is_let_in(view_.bay().sync, *head) ||
          view_.bay().rule(head->save.facts.game.platform) == nullptr)
        continue;
      BAYSWAP_TRY(const auto passage, tried(*head));
      if (!passage || passage->error || passage->arrival->spots.empty()) continue;
      const PlanIssue* refusal = passage->arrival->issues.refusal();
      const std::string& path = passage->arrival->spots.front().path;
      if ((refusal != nullptr && means_no_place(refusal->code)) || is_left_out(view_.bay().sync, path))
        continue;
      row(Outcome::conflict, *head, path,
          fmt::format("{} versions, and none of them came from another; this bay has no save yet",
                      heads.size()));
      return {};
    }
    return {};
  }

  // Where a version would go here; nothing of it is planned or shown. Nothing if its bytes are not to be had.
  Result<std::optional<Passage>> tried(const Version& version, const HeldPlace* place = nullptr) {
    Planner planner(nullptr, view_, nullptr, request_);
    std::vector<Passage> passages;
    const std::size_t rows = round_.rows->size();
    const auto wanted = wanted_;
    const auto resolved = resolve(planner, version, place, passages);
    wanted_ = wanted;
    BAYSWAP_CHECK(resolved);
    round_.rows->resize(rows);
    if (passages.empty()) return std::optional<Passage>();
    BAYSWAP_CHECK(planner.merge(passages, true));
    return std::optional(std::move(passages.front()));
  }

  SyncRow& row(Outcome outcome, const Version& version, std::string path, std::string why) {
    SyncRow& one = round_.row(outcome, bay_, version.save.facts.game.platform, version.label, std::move(path),
                              std::move(why));
    one.version = version.id;
    return one;
  }

  // Every side of a conflict into the logbook, as this bay would have it: the user may want any of them.
  Result<void> bank(const std::vector<const Version*>& heads, HeldPlace& place) {
    if (logbook_ == nullptr) return {};
    for (const Version* head : heads) {
      if (head->is_deletion() || place.banked.find(head->id.hex()) != std::string::npos) continue;
      BAYSWAP_TRY(const auto files, files_here(*head, place));
      if (files.empty()) continue;  // its bytes are not to be had now, or do not fit here
      Entry entry;
      entry.kind = EntryKind::backup;
      entry.reason = fmt::format("keep '{}' of {}: in conflict", head->label, head->device_name);
      entry.game = head->save.facts.game;
      entry.account = head->save.facts.account;
      entry.content = head->content;
      entry.from_bay = head->device_name;
      entry.to_bay = bay_;
      entry.root = view_.store().root();
      BAYSWAP_TRY(const std::int64_t id, logbook_->begin(std::move(entry), files));
      BAYSWAP_CHECK(logbook_->finish(id, EntryState::done));
      place.banked += head->id.hex() + " ";
      round_.places.touch();
    }
    return {};
  }

  // The files that the place would have with that version; for the version it has, those that are there.
  Result<std::vector<FileChange>> files_here(const Version& version, const HeldPlace& place) {
    std::vector<FileChange> files;
    if (is_plain(version.kind)) {
      const auto bytes = plain_bytes(version);
      if (bytes) files.push_back({view_.store().absolute_path(place.path), *bytes, *bytes, version.modified});
      return files;
    }
    BAYSWAP_TRY(const auto passage, tried(version, &place));
    if (!passage || passage->error || passage->arrival->issues.refusal() != nullptr) return files;
    for (const FileChange& change : passage->arrival->changes)
      if (change.after)
        files.push_back(
            {view_.store().absolute_path(change.path), change.after, change.after, version.modified});
    if (!files.empty()) return files;
    for (const Spot& spot : passage->arrival->spots) {
      BAYSWAP_TRY(const auto info, view_.store().stat(spot.path));
      if (!info || info->kind != FileInfo::Kind::file) continue;
      BAYSWAP_TRY(Blob bytes, view_.store().read(spot.path));
      files.push_back({view_.store().absolute_path(spot.path), bytes, bytes, info->modified});
    }
    return files;
  }

  Result<void> resolve(Planner& planner, const Version& head, const HeldPlace* place,
                       std::vector<Passage>& passages) {
    if (const auto why = busy()) {
      // The bay may have room for a save that it does not have yet: the next round looks again.
      round_.bays.at(bay_).is_settled = false;
      if (place != nullptr) row(Outcome::waits, head, place->path, *why);
      return {};
    }
    const auto bytes = round_.replica.bundle(head, sync_folder_);
    if (!bytes) {
      const bool is_missing =
          bytes.error().code == ErrorCode::not_found || bytes.error().code == ErrorCode::damaged;
      if (!is_missing) return tl::unexpected(bytes.error());
      row(Outcome::waits, head, place != nullptr ? place->path : "",
          fmt::format("its bytes are not at the sync folder; {} is asked for them", made_on(head)));
      return {};
    }
    auto bundle = bundle_from_bytes(*bytes, view_.catalog());
    if (!bundle) {
      row(Outcome::failed, head, place != nullptr ? place->path : "", bundle.error().message);
      return {};
    }
    passages.push_back(planner.resolve(source_of(head, *std::move(bundle), request_.accept)));
    wanted_.push_back({&head, place});
    return {};
  }

  // ---- States and configuration: as they are

  Result<Blob> plain_bytes(const Version& version) {
    BAYSWAP_TRY(const Blob bytes, round_.replica.bundle(version, sync_folder_));
    BAYSWAP_TRY(const Bundle bundle, bundle_from_bytes(bytes, view_.catalog()));
    if (bundle.content.kind != Content::Kind::tree || bundle.content.tree.size() != 1)
      return fail(ErrorCode::damaged,
                  fmt::format("'{}' of {} is no single file", version.label, version.device_name));
    return bundle.content.tree.front().bytes;
  }

  Result<void> write_plain(const Version& head, const HeldPlace* place) {
    std::optional<std::string> path;
    if (place != nullptr) {
      path = place->path;
    } else {
      BAYSWAP_TRY(path, plain_path(view_, head, round_.request.state_maps));
    }
    if (!path || is_left_out(view_.bay().sync, *path)) return {};
    if (const auto why = busy()) {
      round_.bays.at(bay_).is_settled = false;
      row(Outcome::waits, head, *path, *why);
      return {};
    }
    if (round_.blocked_paths[bay_].contains(*path)) {
      row(Outcome::waits, head, *path, "another save in that place has to be settled first");
      return {};
    }
    const auto bytes = plain_bytes(head);
    if (!bytes) {
      const bool is_missing =
          bytes.error().code == ErrorCode::not_found || bytes.error().code == ErrorCode::damaged;
      if (!is_missing) return tl::unexpected(bytes.error());
      row(Outcome::waits, head, *path,
          fmt::format("its bytes are not at the sync folder; {} is asked for them", made_on(head)));
      return {};
    }
    BAYSWAP_TRY(const auto before, view_.store().read_if_there(*path, max_state_bytes));
    if (place == nullptr && before && *before != *bytes) {
      row(Outcome::asked, head, *path, in_the_way);
      return {};
    }
    Plan plan;
    plan.kind = EntryKind::sync;
    plan.game = head.save.facts.game;
    plan.from_bay = made_on(head);
    plan.to_bay = bay_;
    plan.content = head.content;
    plan.reason = fmt::format("sync '{}' from {} to {}", head.label, made_on(head), bay_);
    if (before != *bytes) plan.changes.push_back({*path, before, *bytes, head.modified});
    if (plan.changes.empty()) return {};
    plan.steps.push_back({before ? "replace" : "new", *path, fmt::format("{} bytes", bytes->size())});
    row(Outcome::written, head, *path, fmt::format("from {}", made_on(head))).plan = plans_.size();
    write(head, *path, "", place);
    plans_.push_back(std::move(plan));
    return {};
  }

  const std::optional<std::string>& busy() {
    if (!asked_) busy_ = round_.request.bay_in_use ? round_.request.bay_in_use(view_.bay()) : std::nullopt;
    asked_ = true;
    return busy_;
  }

  // ---- What becomes of each
  // --------------------------------------------------------------------------------

  bool goes(const Wanted& wanted, const Passage& passage) {
    const Version& version = *wanted.version;
    const std::string path = wanted.place != nullptr ? wanted.place->path : "";
    if (passage.error) {
      if (wanted.place != nullptr || passage.error->code != ErrorCode::not_found)
        row(Outcome::failed, version, path, why(passage.error->message, passage.error->hint));
      return false;
    }
    const Arrival& arrival = *passage.arrival;
    const std::string to = !path.empty() || arrival.spots.empty() ? path : arrival.spots.front().path;
    if (const PlanIssue* refusal = arrival.issues.refusal()) {
      if (wanted.place != nullptr || (!means_no_place(refusal->code) && !is_left_out(view_.bay().sync, to)))
        row(wanted.place != nullptr ? Outcome::asked : Outcome::failed, version, to,
            why(refusal->text, refusal->hint));
      return false;
    }
    if (arrival.spots.empty() || !arrival.brought) return false;
    for (const Spot& spot : arrival.spots) {
      if (is_left_out(view_.bay().sync, spot.path)) return false;
      if (round_.blocked_paths[bay_].contains(spot.path)) {
        row(Outcome::waits, version, spot.path, "another save in that place has to be settled first");
        return false;
      }
      if (wanted.place != nullptr && spot.entry.empty() && arrival.spots.size() == 1 &&
          spot.path != wanted.place->path) {
        row(Outcome::asked, version, path,
            fmt::format("it would go to {}, which is another place: give the save here, or its ROM, the "
                        "other's name",
                        spot.path));
        return false;
      }
    }
    if (wanted.place == nullptr && arrival.spots.front().entry.empty())
      for (const FileChange& change : arrival.changes)
        if (change.before && !is_blank_there(change.path)) {
          row(Outcome::asked, version, change.path, in_the_way);
          return false;
        }
    return true;
  }

  static std::string why(const std::string& text, const std::string& hint) {
    return hint.empty() ? text : fmt::format("{}; {}", text, hint);
  }

  // A file in which a game has never saved is a place that is free.
  bool is_blank_there(const std::string& path) {
    const auto saves = view_.saves(BayView::Depth::names);
    if (!saves) return false;
    for (const HeldSave& save : **saves) {
      const bool is_it = save.path == path || std::ranges::any_of(save.held, [&](const HeldFile& file) {
                           return file.path == path;
                         });
      if (!is_it) continue;
      IssueList doubts;
      const auto content = load_save(view_, save, {}, doubts);
      return content && content->is_blank();
    }
    return false;
  }

  void group(Planner& planner, std::vector<Passage>& passages) {
    std::map<std::string, std::vector<std::size_t>> by_path;
    for (std::size_t i = 0; i < passages.size(); ++i)
      if (goes(wanted_[i], passages[i])) by_path[passages[i].arrival->spots.front().path].push_back(i);
    for (const auto& [path, members] : by_path) {
      std::vector<Passage*> together;
      for (const std::size_t i : members) together.push_back(&passages[i]);
      std::vector<std::pair<std::string, std::string>> spots;
      spots.reserve(members.size());
      for (const std::size_t i : members)
        spots.emplace_back(passages[i].arrival->spots.front().path, passages[i].arrival->spots.front().entry);
      Plan plan = planner.plan_of(together);
      plan.kind = EntryKind::sync;
      const Version& first = *wanted_[members.front()].version;
      plan.from_bay = made_on(first);
      plan.reason = fmt::format("sync '{}'{} from {} to {}", first.label,
                                members.size() > 1 ? fmt::format(" and {} more", members.size() - 1) : "",
                                made_on(first), bay_);
      if (const PlanIssue* refusal = plan.refusal()) {
        for (const std::size_t i : members)
          row(Outcome::asked, *wanted_[i].version, path, why(refusal->text, refusal->hint));
        continue;
      }
      if (plan.changes.empty()) {
        // It is there already, as far as it can be.
        for (const std::size_t i : members)
          if (wanted_[i].place != nullptr) {
            HeldPlace place = *wanted_[i].place;
            place.version = wanted_[i].version->id;
            round_.places.set(std::move(place));
          }
        continue;
      }
      for (std::size_t k = 0; k < members.size(); ++k) {
        const Wanted& wanted = wanted_[members[k]];
        SyncRow& one = row(Outcome::written, *wanted.version, spots[k].first,
                           fmt::format("from {}", made_on(*wanted.version)));
        one.plan = plans_.size();
        write(*wanted.version, spots[k].first, spots[k].second, wanted.place);
      }
      plans_.push_back(std::move(plan));
    }
  }

  void write(const Version& version, const std::string& path, const std::string& entry,
             const HeldPlace* place) {
    round_.writings[bay_].push_back({plans_.size(), round_.rows->size() - 1, version.id, version.content,
                                     path, entry, place != nullptr ? place->key : "",
                                     is_plain(version.kind)});
  }

  // ---- Deletions

  // Many at once can be a mistake elsewhere, as what vanishes here can be the wrong medium.
  Result<void> remove_all(const std::vector<std::pair<const Version*, HeldPlace*>>& deletions) {
    const bool is_many = deletions.size() >= 2 && deletions.size() * 3 > round_.places.of_bay(bay_).size() &&
                         !round_.request.accept_many;
    for (const auto& [head, place] : deletions) {
      if (is_many)
        row(Outcome::asked, *head, place->path,
            fmt::format("deleted on {}, with {} others of this bay: --accept many removes them, restore "
                        "brings one back everywhere",
                        head->device_name, deletions.size() - 1));
      else
        BAYSWAP_CHECK(remove(*head, *place));
    }
    return {};
  }

  Result<void> remove(const Version& head, const HeldPlace& place) {
    if (const auto why = busy()) {
      round_.bays.at(bay_).is_settled = false;
      row(Outcome::waits, head, place.path, *why);
      return {};
    }
    BAYSWAP_TRY(const auto usual, view_.saves(BayView::Depth::names));
    BAYSWAP_TRY(const auto plain, is_plain(head.kind) ? plain_saves(view_) : Result<std::vector<HeldSave>>());
    const std::vector<HeldSave>& saves = is_plain(head.kind) ? plain : *usual;
    const auto held =
        std::ranges::find_if(saves, [&](const HeldSave& save) { return key_text(save) == place.key; });
    if (held == saves.end()) return {};
    BAYSWAP_TRY(Plan plan, plan_removal(view_, *held, head));
    row(Outcome::removed, head, place.path, fmt::format("deleted, or emptied, on {}", head.device_name))
        .plan = plans_.size();
    write(head, held->path, held->entry, &place);
    plans_.push_back(std::move(plan));
    return {};
  }

  SyncRound::Impl& round_;
  Logbook* logbook_;
  BayView& view_;
  SyncFolder* sync_folder_;
  std::string bay_;
  CarryRequest request_;
  const History* history_ = nullptr;
  std::map<VersionId, const HeldPlace*> held_;
  std::vector<Wanted> wanted_;
  std::vector<Plan> plans_;
  std::optional<std::string> busy_;
  bool asked_ = false;
  bool bringing_back_ = false;
};

}  // namespace

SourceSave source_of(const Version& version, Bundle bundle, const std::set<IssueCode>& accept) {
  SourceSave source;
  source.facts = version.save.facts;
  source.place = version.save.place;
  source.display_path = fmt::format("'{}' of {}", version.label, version.device_name);
  source.files.push_back(source.display_path);
  source.modified = version.modified;
  if (version.save.has_rom) {
    source.rom.emplace();
    source.rom->game = version.save.facts.game;
  }
  source.content = std::move(bundle.content);
  source.content.game = version.save.facts.game;
  source.issues = IssueList(accept);
  return source;
}

Result<std::vector<Plan>> plan_into(SyncRound::Impl& round, BayView& view, SyncFolder* sync_folder,
                                    Logbook* logbook) {
  round.writings[view.bay().name].clear();
  std::vector<Plan> plans;
  for (const bool bringing_back : {false, true})
    BAYSWAP_CHECK(BayPlanner(round, view, sync_folder, logbook, bringing_back).run(plans));
  return plans;
}

}  // namespace bayswap
