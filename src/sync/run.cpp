// Plans of a round, run: first rehearsed over the bay as it would be, then written, then read again.
#include <fmt/format.h>
#include <bayswap/cart_store.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/version_store.hpp"
#include "sync/plain.hpp"

namespace bayswap {
namespace {

using Outcome = SyncRow::Outcome;

// Whether a place holds what it can of a version: a bay can have no room for controller paks, say.
bool holds(Content there, Content version) {
  if (there.kind != Content::Kind::chips || version.kind != Content::Kind::chips)
    return digest_of(there) == digest_of(version);
  const auto lacks = [](const Content& content, const Part& part) {
    return std::ranges::none_of(content.chips.parts, [&](const Part& one) {
      return one.role.kind == part.role.kind &&
             std::max(one.role.number, 1) == std::max(part.role.number, 1) && !is_blank(one);
    });
  };
  // What only one of them has does not count: a part of the place's own that the version says nothing of, or
  // one that the bay has no room for.
  const Content all = there;
  std::erase_if(there.chips.parts, [&](const Part& part) { return lacks(version, part); });
  std::erase_if(version.chips.parts, [&](const Part& part) { return lacks(all, part); });
  return !version.is_blank() && digest_of(there) == digest_of(version);
}

struct Seen {
  std::string key;
  std::string label;
  std::string digest;
  std::string stamp;
  Content content;
};

// What a bay has in the place of a writing.
Result<std::optional<Seen>> seen_in(BayView& view, const Writing& writing, const SyncRequest& request) {
  if (writing.is_plain) {
    BAYSWAP_TRY(const auto plain, plain_saves(view));
    const auto save = std::ranges::find(plain, writing.path, &HeldSave::path);
    if (save == plain.end()) return std::optional<Seen>{};
    BAYSWAP_TRY(auto file, read_plain(view, *save, request.state_maps));
    if (!file) return std::optional<Seen>{};
    Seen seen{key_text(*save), label_of(*save), digest_of(file->content).hex(), {}, std::move(file->content)};
    BAYSWAP_TRY(seen.stamp, stamp_of(view, *save));
    return seen;
  }
  BAYSWAP_TRY(const auto saves, view.saves(BayView::Depth::names));
  for (const HeldSave& save : *saves) {
    const bool is_it = save.path == writing.path || std::ranges::any_of(save.held, [&](const HeldFile& file) {
                         return file.path == writing.path;
                       });
    if (!is_it || (!writing.entry.empty() && save.entry != writing.entry) || save.health == Health::deleted ||
        !save.misplaced.empty())
      continue;
    Seen seen;
    seen.key = key_text(save);
    seen.label = label_of(save);
    IssueList doubts(request.carry.accept);
    BAYSWAP_TRY(seen.content, load_save(view, save, hints_for(view, save, request), doubts));
    seen.digest = digest_of(seen.content).hex();
    BAYSWAP_TRY(seen.stamp, stamp_of(view, save));
    return seen;
  }
  return std::optional<Seen>{};
}

class Runner {
 public:
  Runner(SyncRound::Impl& round, BayView& view, const std::vector<Plan>& plans, Logbook& logbook,
         const PlansRunner& run_some)
      : round_(round),
        view_(view),
        plans_(plans),
        logbook_(logbook),
        run_some_(run_some),
        bay_(view.bay().name) {}

  Result<void> run() {
    std::vector<Writing>& writings = round_.writings[bay_];
    if (writings.empty()) return {};
    drop_refused(writings);
    BAYSWAP_CHECK(rehearse(writings));
    BAYSWAP_CHECK(round_.places.save(round_.own));
    std::map<const Plan*, std::vector<SyncRow*>> rows;
    for (const Writing& writing : writings)
      rows[&plans_[writing.plan]].push_back(&(*round_.rows)[writing.row]);
    std::vector<const Plan*> wanted;
    for (const Plan& plan : plans_)
      if (rows.contains(&plan)) wanted.push_back(&plan);
    const PlansRunner idle = [&](std::span<const Plan* const> group, std::optional<std::int64_t> first) {
      return run_idle(group, first);
    };
    run_in_groups(wanted, logbook_, idle, [&](std::size_t number, const Result<std::int64_t>& id) {
      for (SyncRow* row : rows[wanted[number]]) {
        if (id) {
          row->entry = *id;
          continue;
        }
        row->outcome = id.error().code == ErrorCode::busy ? Outcome::waits : Outcome::failed;
        row->why = id.error().message;
      }
    });
    BAYSWAP_CHECK(read_again(writings));
    return round_.places.save(round_.own);
  }

 private:
  void give_up(const Writing& writing, Outcome outcome, std::string why) {
    SyncRow& row = (*round_.rows)[writing.row];
    row.outcome = outcome;
    row.why = std::move(why);
    row.plan.reset();
  }

  [[nodiscard]] std::optional<std::string> in_use(std::span<const Plan* const> plans) {
    if (!round_.request.in_use) return std::nullopt;
    std::vector<std::string> paths;
    for (const Plan* plan : plans)
      for (const FileChange& change : plan->changes)
        paths.push_back(view_.store().absolute_path(change.path));
    return round_.request.in_use(paths);
  }

  // A round of many saves takes its time: programs may have begun to use a save since it was looked at.
  std::vector<Result<std::int64_t>> run_idle(std::span<const Plan* const> group,
                                             std::optional<std::int64_t> first) {
    const auto run_all = [&](std::span<const Plan* const> plans) {
      return run_some_ ? run_some_(plans, first)
                       : run_together(plans, *round_.bays.at(bay_).bay.store, logbook_, first);
    };
    if (!in_use(group)) return run_all(group);
    std::vector<Result<std::int64_t>> results(group.size(), fail(ErrorCode::busy, ""));
    std::vector<const Plan*> idle;
    std::vector<std::size_t> numbers;
    for (std::size_t i = 0; i < group.size(); ++i) {
      if (auto why = in_use(group.subspan(i, 1))) {
        results[i] = fail(ErrorCode::busy, *std::move(why));
        continue;
      }
      idle.push_back(group[i]);
      numbers.push_back(i);
    }
    if (idle.empty()) return results;
    auto ran = run_all(idle);
    for (std::size_t n = 0; n < ran.size(); ++n) results[numbers[n]] = std::move(ran[n]);
    return results;
  }

  // Programs may have begun to use the bay since it was looked at.
  void drop_refused(std::vector<Writing>& writings) {
    const auto why =
        round_.request.bay_in_use ? round_.request.bay_in_use(view_.bay()) : std::optional<std::string>();
    if (!why) return;
    for (const Writing& writing : writings) give_up(writing, Outcome::waits, *why);
    writings.clear();
  }

  // The bay as it would be: what does not read there as it should is not written.
  Result<void> rehearse(std::vector<Writing>& writings) {
    VersionStore later(view_.store());
    for (const Writing& writing : writings)
      for (const FileChange& change : plans_[writing.plan].changes)
        later.set(change.path, change.after, change.modified.value_or(round_.request.now));
    BayView view(view_.catalog(), view_.bay(), later, view_.options());
    std::set<std::size_t> dropped;
    for (const Writing& writing : writings) {
      if (writing.content.empty()) continue;
      const auto seen = seen_in(view, writing, round_.request);
      const std::string why = !seen                        ? seen.error().message
                              : !*seen                     ? "the bay would not find it there"
                              : !is_whole(writing, **seen) ? "it would not read the same there"
                                                           : "";
      if (!why.empty()) {
        dropped.insert(writing.plan);
        give_up(writing, Outcome::failed, why);
        continue;
      }
      HeldPlace place;
      if (const HeldPlace* before = round_.places.find(bay_, (*seen)->key)) place = *before;
      place.bay = bay_;
      place.key = (*seen)->key;
      place.label = (*seen)->label;
      place.path = writing.path;
      place.coming = (*seen)->digest;
      place.coming_version = writing.version;
      if (place.seen.empty()) place.version = writing.version;
      round_.places.set(std::move(place));
    }
    for (const Writing& writing : writings)
      if (dropped.contains(writing.plan) && (*round_.rows)[writing.row].outcome == Outcome::written)
        give_up(writing, Outcome::failed, "another save that shares its file does not fit");
    std::erase_if(writings, [&](const Writing& one) { return dropped.contains(one.plan); });
    return {};
  }

  bool is_whole(const Writing& writing, const Seen& seen) {
    if (seen.digest == writing.content) return true;
    const auto history = round_.replica.history();
    const Version* version = history ? (*history)->find(writing.version) : nullptr;
    if (version == nullptr) return false;
    const auto bytes = round_.replica.bundle(*version, nullptr);
    const auto bundle = bytes ? bundle_from_bytes(*bytes, view_.catalog()) : tl::unexpected(bytes.error());
    return bundle && holds(seen.content, bundle->content);
  }

  Result<void> read_again(const std::vector<Writing>& writings) {
    BayView view(view_.catalog(), view_.bay(), view_.store(), view_.options());
    std::set<std::int64_t> put_back;
    for (const Writing& writing : writings) {
      SyncRow& row = (*round_.rows)[writing.row];
      if (!row.entry) continue;
      if (writing.content.empty()) {
        round_.places.remove(bay_, writing.key);
        continue;
      }
      const auto seen = seen_in(view, writing, round_.request);
      HeldPlace* place = seen && *seen ? round_.places.find(bay_, (*seen)->key) : nullptr;
      if (place == nullptr || (*seen)->digest != place->coming) {
        if (was_written_since(plans_[writing.plan])) {
          keep_as_written(writing);
          row.outcome = Outcome::waits;
          row.why = "a program wrote it in the meantime; that stays, and counts in the next round";
          continue;
        }
        const std::string why = !seen ? seen.error().message : "it does not read as it was written";
        if (put_back.insert(*row.entry).second) BAYSWAP_CHECK(undo(*row.entry));
        row.outcome = Outcome::failed;
        row.why = fmt::format("{}; the old save is back", why);
        continue;
      }
      if (!writing.key.empty() && writing.key != place->key) round_.places.remove(bay_, writing.key);
      place = round_.places.find(bay_, (*seen)->key);
      place->version = writing.version;
      place->seen = (*seen)->digest;
      place->stamp = (*seen)->stamp;
      place->coming.clear();
      place->is_lost = place->is_wanted_back = place->is_known_lost = false;
      round_.places.touch();
    }
    return {};
  }

  // What is there now was played on from what went there.
  void keep_as_written(const Writing& writing) {
    for (HeldPlace* place : round_.places.of_bay(bay_)) {
      if (place->coming_version != writing.version || place->coming.empty()) continue;
      place->version = place->coming_version;
      place->seen = place->coming;
      place->stamp.clear();
      place->coming.clear();
      round_.places.touch();
    }
  }

  // A disk has what it was given, or what a program wrote after that. Anything else can also fail to write.
  [[nodiscard]] bool was_written_since(const Plan& plan) {
    return is_on_disk(view_.bay().root) && std::ranges::any_of(plan.changes, [&](const FileChange& change) {
             const auto there = view_.store().read(change.path);
             return there && (!change.after || *there != *change.after);
           });
  }

  Result<void> undo(std::int64_t entry) {
    AnyStore files;
    BAYSWAP_TRY(const Plan plan, plan_undo(logbook_, entry, files));
    BAYSWAP_CHECK(bayswap::run(plan, files, logbook_));
    return {};
  }

  SyncRound::Impl& round_;
  BayView& view_;
  const std::vector<Plan>& plans_;
  Logbook& logbook_;
  const PlansRunner& run_some_;
  std::string bay_;
};

}  // namespace

Result<void> run_plans(SyncRound::Impl& round, BayView& view, const std::vector<Plan>& plans,
                       Logbook& logbook, const PlansRunner& run_some) {
  return Runner(round, view, plans, logbook, run_some).run();
}

}  // namespace bayswap
