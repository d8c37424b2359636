// The steps of a round in their order, and conflicts.
#include "sync/round.hpp"

#include <bayswap/timeline.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::array<std::string_view, 3> loss_words{"deleted", "empty", "damaged"};
constexpr std::array<std::string_view, 8> outcome_words{"noted", "renamed", "written",  "removed",
                                                        "waits", "asked",   "conflict", "failed"};

// What a save is made of, by name: parts of chips that hold something, files.
using Pieces = std::map<std::string, Blob>;

Pieces pieces_of(const Content& content) {
  Pieces pieces;
  for (const Part& part : content.chips.parts)
    if (part.role.kind != PartKind::rtc && !is_blank(part)) pieces.emplace(to_text(part.role), part.bytes);
  for (const TreeFile& file : content.tree) pieces.emplace(file.path, file.bytes);
  if (content.item) {
    for (const CardFile& file : content.item->files) pieces.emplace(file.name, file.bytes);
    if (content.item->files.empty()) pieces.emplace(content.item->name, content.item->payload);
  }
  if (content.kind == Content::Kind::encrypted && content.whole) pieces.emplace("file", *content.whole);
  return pieces;
}

struct Difference {
  std::size_t bytes = 0;
  std::size_t all = 0;
  std::size_t places = 0;
};

Difference difference(ByteView a, ByteView b) {
  Difference found;
  found.all = std::max(a.size(), b.size());
  found.bytes = found.all - std::min(a.size(), b.size());
  if (found.bytes > 0) ++found.places;
  bool was_different = false;
  for (std::size_t i = 0; i < std::min(a.size(), b.size()); ++i) {
    const bool is_different = a[i] != b[i];
    found.bytes += is_different ? 1U : 0U;
    found.places += is_different && !was_different ? 1U : 0U;
    was_different = is_different;
  }
  return found;
}

double likeness_of(const Pieces& a, const Pieces& b) {
  Difference total;
  for (const Pieces* side : {&a, &b})
    for (const auto& [name, bytes] : *side) {
      const auto other = (side == &a ? b : a).find(name);
      if (side == &b && other != a.end()) continue;  // counted already
      const Difference one =
          difference(bytes.view(), other == (side == &a ? b : a).end() ? ByteView() : other->second.view());
      total.bytes += one.bytes;
      total.all += one.all;
    }
  return total.all == 0 ? 1 : 1 - static_cast<double>(total.bytes) / static_cast<double>(total.all);
}

std::string in_words(const Pieces& a, const Pieces& b) {
  constexpr std::size_t most = 6;
  std::vector<std::string> all;
  for (const auto& [name, bytes] : a) {
    const auto other = b.find(name);
    if (other == b.end()) {
      all.push_back(fmt::format("{} only in the first", name));
      continue;
    }
    const Difference one = difference(bytes.view(), other->second.view());
    if (one.bytes > 0)
      all.push_back(fmt::format("{}: {} of {} bytes differ ({:.1f} %), in {}", name, one.bytes, one.all,
                                100.0 * static_cast<double>(one.bytes) / static_cast<double>(one.all),
                                counted(one.places, "place")));
  }
  for (const auto& [name, bytes] : b)
    if (!a.contains(name)) all.push_back(fmt::format("{} only in the second", name));
  const std::size_t more = all.size() > most ? all.size() - most : 0;
  all.resize(all.size() - more);
  return joined(all, "; ") + (more > 0 ? fmt::format("; {} more", more) : "");
}

}  // namespace

bool is_deleted(const Lineage& lineage) {
  return std::ranges::all_of(differing_heads(lineage),
                             [](const Version* head) { return head->is_deletion(); });
}

Result<bool> settle_unheard(SyncRound::Impl& round) {
  std::vector<HeldPlace*> returned;
  BAYSWAP_TRY(const History* history, round.replica.history());
  for (const auto& [name, bay] : round.bays)
    for (HeldPlace* place : round.places.of_bay(name)) {
      if (!place->is_unheard) continue;
      place->is_unheard = false;
      round.places.touch();
      const Version* version = history->known(place->version);
      const Lineage* lineage = version != nullptr ? history->lineage_of(version->id) : nullptr;
      if (lineage != nullptr && !version->is_deletion() && is_deleted(*lineage)) returned.push_back(place);
    }
  for (HeldPlace* place : returned) {
    BAYSWAP_TRY(const History* now, round.replica.history());
    const Version* version = now->known(place->version);
    Version back = *version;
    back.parents.clear();
    for (const Version* head : now->lineage_of(version->id)->heads) back.parents.push_back(head->id);
    back.noted = round.request.now;
    round
        .row(SyncRow::Outcome::noted, place->bay, version->save.facts.game.platform, place->label,
             place->path, "it is here again after it was deleted elsewhere")
        .version = place->version;
    BAYSWAP_TRY(place->version, round.replica.note(std::move(back)));
  }
  if (!returned.empty()) BAYSWAP_CHECK(round.replica.save());
  BAYSWAP_CHECK(round.places.save(round.own));
  return !returned.empty();
}

std::string_view to_text(Loss loss) {
  return loss_words.at(static_cast<std::size_t>(loss));
}
std::string_view to_text(SyncRow::Outcome outcome) {
  return outcome_words.at(static_cast<std::size_t>(outcome));
}

SyncRound::SyncRound(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
SyncRound::SyncRound(SyncRound&&) noexcept = default;
SyncRound::~SyncRound() = default;

Result<SyncRound> SyncRound::begin(Replica& replica, Store& own, SyncRequest request) {
  BAYSWAP_TRY(PlaceBook places, PlaceBook::load(own));
  return SyncRound(std::make_unique<Impl>(replica, own, std::move(request), std::move(places)));
}

void SyncRound::Impl::block(const std::string& bay, const VersionId& version) {
  blocked[bay].insert(version);
  if (const auto history = replica.history())
    if (const Version* instead = (*history)->known(version)) blocked[bay].insert(instead->id);
}

BayView& SyncRound::Impl::view_of(BayInRound& bay) {
  if (!bay.view)
    bay.view = std::make_unique<BayView>(*bay.catalog, *bay.bay.bay, *bay.traced, bay.bay.options);
  return *bay.view;
}

Result<void> SyncRound::look(const Catalog& catalog, const SyncBay& bay, Logbook* logbook) {
  impl_->rows = &rows_;
  const std::string& name = bay.bay->name;
  BAYSWAP_CHECK(check_root(*bay.bay, *bay.store));
  Impl::BayInRound one;
  one.catalog = &catalog;
  one.bay = bay;
  const std::string rules = to_toml(*bay.bay) + std::string(version());
  one.rules = sha256(ByteView(reinterpret_cast<const Byte*>(rules.data()), rules.size()));
  one.traced = std::make_unique<TracingStore>(*bay.store);
  const PlaceBook::Rest* rest = impl_->places.rest_of(name);
  one.is_at_rest =
      rest != nullptr && rest->rules == one.rules && TracingStore::is_as_then(*bay.store, rest->trace);
  Impl::BayInRound& kept = impl_->bays[name] = std::move(one);
  if (kept.is_at_rest) return {};
  impl_->places.set_rest(name, std::nullopt);
  const auto stopped = look_at(*impl_, Impl::view_of(kept), logbook);
  if (!stopped) impl_->bays.erase(name);
  if (!stopped) return tl::unexpected(stopped.error());
  if (!stopped->empty()) stopped_by_ = *stopped;
  return {};
}

Result<Exchanged> SyncRound::exchange(SyncFolder* sync_folder) {
  // Versions first: a place that names one must find it.
  BAYSWAP_CHECK(impl_->replica.save());
  BAYSWAP_CHECK(impl_->places.save(impl_->own));
  if (sync_folder == nullptr) return Exchanged{};
  DeviceReport report;
  report.seen = impl_->request.now;
  report.conflicts = impl_->replica.conflicts();
  for (const SyncRow& row : rows_)
    if (row.outcome == SyncRow::Outcome::waits) ++report.waiting;
  BAYSWAP_TRY(Exchanged done, impl_->replica.exchange(*sync_folder, report));
  BAYSWAP_TRY(const bool is_news, settle_unheard(*impl_));
  if (!is_news) return done;
  BAYSWAP_TRY(const Exchanged again, impl_->replica.exchange(*sync_folder, report));
  done.received += again.received;
  done.sent += again.sent;
  done.sent_bytes += again.sent_bytes;
  done.given += again.given;
  return done;
}

Result<std::vector<Plan>> SyncRound::plan(const std::string& bay, SyncFolder* sync_folder, Logbook* logbook) {
  impl_->rows = &rows_;
  const auto found = impl_->bays.find(bay);
  if (!stopped_by_.empty() || found == impl_->bays.end()) return std::vector<Plan>{};
  const PlaceBook::Rest* rest = impl_->places.rest_of(bay);
  if (found->second.is_at_rest && rest != nullptr && rest->knowledge == impl_->replica.knowledge())
    return std::vector<Plan>{};
  return plan_into(*impl_, Impl::view_of(found->second), sync_folder, logbook);
}

Result<void> SyncRound::run(const std::string& bay, const std::vector<Plan>& plans, Logbook& logbook,
                            const PlansRunner& run_some) {
  impl_->rows = &rows_;
  const auto found = impl_->bays.find(bay);
  if (found == impl_->bays.end()) return {};
  Impl::BayInRound& one = found->second;
  if (one.view) {
    BAYSWAP_CHECK(run_plans(*impl_, *one.view, plans, logbook, run_some));
    BAYSWAP_CHECK(impl_->replica.save());
    const bool is_open = !one.is_settled || std::ranges::any_of(rows_, [&](const SyncRow& row) {
      return row.bay == bay && row.outcome != SyncRow::Outcome::noted &&
             row.outcome != SyncRow::Outcome::renamed;
    });
    // A bay that had not changed was not listed again: its old trace is still right.
    const PlaceBook::Rest* before = impl_->places.rest_of(bay);
    std::string trace = one.is_at_rest && before != nullptr ? before->trace : one.traced->trace();
    if (is_open)
      impl_->places.set_rest(bay, std::nullopt);
    else
      impl_->places.set_rest(bay, PlaceBook::Rest{std::move(trace), impl_->replica.knowledge(), one.rules});
  }
  return impl_->places.save(impl_->own);
}

Result<std::vector<SyncConflict>> SyncRound::conflicts(const Catalog& catalog, SyncFolder* sync_folder) {
  std::vector<SyncConflict> all;
  BAYSWAP_TRY(const History* history, impl_->replica.history());
  for (const Lineage& lineage : history->lineages()) {
    auto heads = differing_heads(lineage);
    if (heads.size() < 2) continue;
    std::ranges::sort(heads, [](const Version* a, const Version* b) {
      return std::tie(a->device_name, a->id) < std::tie(b->device_name, b->id);
    });
    SyncConflict conflict;
    conflict.save = heads.front()->label;
    conflict.platform = heads.front()->save.facts.game.platform;
    const auto read = [&](const Version& version) -> std::optional<Content> {
      auto content = content_of(impl_->replica, version, sync_folder, catalog);
      return content ? std::optional(*std::move(content)) : std::nullopt;
    };
    const Version* ancestor = history->common_ancestor(heads);
    std::optional<Pieces> old;
    if (ancestor != nullptr) {
      conflict.ancestor = *ancestor;
      if (const auto content = read(*ancestor)) old = pieces_of(*content);
    }
    std::vector<Pieces> sides;
    for (const Version* head : heads) {
      SyncConflict::Side side;
      side.version = *head;
      side.made_on = history->origin_of(*head).device_name;
      side.content = read(*head);
      if (side.content) {
        Pieces pieces = pieces_of(*side.content);
        side.blank = pieces.empty();
        if (old) side.like_ancestor = likeness_of(pieces, *old);
        sides.push_back(std::move(pieces));
      }
      for (const auto& [key, place] : impl_->places.places())
        if (place.version == head->id) side.bays.push_back(place.bay);
      conflict.sides.push_back(std::move(side));
    }
    if (sides.size() >= 2) conflict.difference = in_words(sides[0], sides[1]);
    all.push_back(std::move(conflict));
  }
  BAYSWAP_CHECK(impl_->replica.save());
  return all;
}

Result<Content> content_of(Replica& replica, const Version& version, SyncFolder* sync_folder,
                           const Catalog& catalog) {
  if (version.is_deletion())
    return fail(ErrorCode::not_found, fmt::format("in that version '{}' was deleted", version.label));
  BAYSWAP_TRY(const Blob bytes, replica.bundle(version, sync_folder));
  BAYSWAP_TRY(Bundle bundle, bundle_from_bytes(bytes, catalog));
  return std::move(bundle.content);
}

std::string difference_in_words(const Content& first, const Content& second) {
  return in_words(pieces_of(first), pieces_of(second));
}

std::vector<const Lineage*> find_lineages(const History& history, const std::string& what) {
  const std::string wanted = folded(what);
  const std::string title = normalized_title(what);
  std::vector<const Lineage*> found;
  for (const Lineage& lineage : history.lineages())
    if (std::ranges::any_of(lineage.versions, [&](const Version* version) {
          const GameId& game = version->save.facts.game;
          const std::string stem(version->save.facts.rom_path ? stem_of(*version->save.facts.rom_path)
                                                              : std::string_view());
          for (const std::string& name : {version->label, game.title, stem})
            if (!name.empty() &&
                (folded(name) == wanted || (!title.empty() && normalized_title(name) == title)))
              return true;
          return (!game.code.empty() && folded(game.code) == wanted) || version->save.name == wanted ||
                 (game.title_id != 0 && folded(title_id_text(game)) == wanted) || version->id.hex() == wanted;
        }))
      found.push_back(&lineage);
  return found;
}

Result<std::vector<BayStatus>> bay_status(Store& own, const History& history) {
  BAYSWAP_TRY(const PlaceBook book, PlaceBook::load(own));
  std::map<std::string, BayStatus> bays;
  for (const auto& [key, place] : book.places()) {
    BayStatus& bay = bays[place.bay];
    bay.bay = place.bay;
    ++bay.saves;
    bay.lost += place.is_lost ? 1U : 0U;
    const Version* known = history.known(place.version);
    const Lineage* lineage = known != nullptr ? history.lineage_of(known->id) : nullptr;
    const auto heads = lineage != nullptr ? differing_heads(*lineage) : std::vector<const Version*>{};
    const Version* holds = history.find(place.version);
    // What holds a version that was pruned is older than what came from it.
    if (heads.size() == 1 && (holds == nullptr || holds->content != heads.front()->content)) ++bay.waiting;
  }
  std::vector<BayStatus> all;
  all.reserve(bays.size());
  for (auto& [name, bay] : bays) all.push_back(std::move(bay));
  return all;
}

Result<std::size_t> bring_back(Store& own, const History& history, const Lineage& lineage) {
  BAYSWAP_TRY(PlaceBook book, PlaceBook::load(own));
  std::vector<std::pair<std::string, std::string>> lost;
  for (const auto& one : book.places()) {
    const Version* known = one.second.is_lost ? history.known(one.second.version) : nullptr;
    if (known != nullptr && std::ranges::find(lineage.versions, known) != lineage.versions.end())
      lost.push_back(one.first);
  }
  for (const auto& [bay, key] : lost) {
    HeldPlace place = *book.find(bay, key);
    place.is_lost = false;
    place.is_wanted_back = true;
    book.set(std::move(place));
  }
  BAYSWAP_CHECK(book.save(own));
  return lost.size();
}

Result<std::size_t> prefer_places(Replica& replica, Store& own, const std::string& bay,
                                  const std::vector<std::string>& paths, std::int64_t now) {
  BAYSWAP_TRY(PlaceBook book, PlaceBook::load(own));
  std::size_t ended = 0;
  for (const HeldPlace* place : book.of_bay(bay)) {
    const bool is_meant = std::ranges::any_of(paths, [&](const std::string& path) {
      return path == place->path || path.starts_with(place->path + "/");
    });
    BAYSWAP_TRY(const History* history, replica.history());
    const Version* version = history->find(place->version);
    const Lineage* lineage = is_meant && version != nullptr ? history->lineage_of(version->id) : nullptr;
    if (lineage == nullptr || differing_heads(*lineage).size() < 2) continue;
    BAYSWAP_CHECK(resolve_conflict(replica, *lineage, *version, now));
    ++ended;
  }
  BAYSWAP_CHECK(replica.save());
  return ended;
}

Result<VersionId> resolve_conflict(Replica& replica, const Lineage& lineage, const Version& keep,
                                   std::int64_t now) {
  Version next = keep;
  next.parents.clear();
  for (const Version* head : lineage.heads) next.parents.push_back(head->id);
  next.parents.push_back(keep.id);
  next.noted = now;
  return replica.note(std::move(next));
}

}  // namespace bayswap
