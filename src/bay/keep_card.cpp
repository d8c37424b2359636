// Saves that are entries of a memory card's image.
#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/keeper.hpp"
#include "bay/save_owner.hpp"
#include "card/file_order.hpp"

namespace bayswap {
namespace {

void scan_card(ScanContext& scan, const PlatformRule& rule, const Place& place,
               const std::vector<RomFile>& roms, const std::unordered_set<std::string>& others) {
  const auto bytes = scan.store.read(place.path);
  const auto card = bytes ? open_card(*bytes) : tl::unexpected(bytes.error());
  if (!card) {
    // A game of another console whose saves are in the same folder.
    const auto stem = place.words.find("rom.stem");
    if (stem != place.words.end() && others.contains(lower(stem->second))) return;
    HeldSave save = SaveList::begin(rule, place);
    save.kind = SaveKind::card;
    save.health = Health::damaged;
    save.health_note = card.error().message;
    scan.list.finish(std::move(save));
    return;
  }
  if (tag(rule.platform) != to_text((*card)->kind())) return;
  for (const CardEntry& entry : (*card)->entries()) {
    HeldSave save = SaveList::begin(rule, place);
    save.kind = SaveKind::card_entry;
    save.entry = entry.name;
    save.label = entry.title;
    save.size_bytes = entry.size_bytes;
    if (entry.modified) save.modified = entry.modified;
    save.health = entry.state == CardEntry::State::good      ? Health::good
                  : entry.state == CardEntry::State::damaged ? Health::damaged
                                                             : Health::deleted;
    save.thumbnail = rule.platform != Platform::n64;
    save.facts.game.code = entry.code;
    save.facts.game.region = entry.region;
    if (const RomFile* rom = SaveList::rom_of(save, roms)) save.facts.game = rom->facts.game;
    scan.list.finish(std::move(save));
  }
}

Result<void> scan_card(ScanContext& scan, std::span<const PlatformRule* const> rules) {
  const PlatformRule& rule = *rules.front();
  BAYSWAP_TRY(const auto places,
              find_places(scan.store, rule.path, rule.platform, scan.view.options().on_error));
  if (places.empty()) return {};
  BAYSWAP_TRY(const auto roms, scan.view.roms(rule));
  auto others = stems_of_others(scan.view, rule.platform, rule.path);
  for (const RomFile& rom : *roms) others.erase(lower(stem_of(rom.path)));
  for (const Place& place : places)
    if (place.info.kind == FileInfo::Kind::file) scan_card(scan, rule, place, *roms, others);
  return {};
}

Result<Content> load_card(BayView& view, const HeldSave& save, const Hints& /*hints*/,
                          IssueList& /*issues*/) {
  const auto named = [&](Error error) {
    error.message = fmt::format("{}: {}", view.store().display_path(save.path), error.message);
    return tl::unexpected(std::move(error));
  };
  Content content;
  content.kind = Content::Kind::item;
  BAYSWAP_TRY(const Blob bytes, view.store().read(save.path));
  auto card = open_card(bytes);
  if (!card) return named(std::move(card.error()));
  auto item = (*card)->read(save.entry);
  if (!item) return named(std::move(item.error()));
  content.item = *std::move(item);
  return content;
}

Result<std::vector<Spot>> spots_card(BayView& view, Arrival& arrival) {
  BAYSWAP_TRY(std::vector<Spot> found, whole_spot(view, arrival));
  BAYSWAP_TRY(const CardSave save, as_item(view, arrival));
  for (Spot& spot : found) spot.entry = save.name;
  return found;
}

struct Image {
  std::string path;
  std::string display_path;
  std::optional<Blob> before;
  std::int64_t modified = 0;
  std::unique_ptr<Card> card;
  std::size_t problems = 0;
};

Result<Image> open_image(BayView& view, const std::string& path, const CardSave& first) {
  Image image;
  image.path = path;
  image.display_path = view.store().display_path(path);
  BAYSWAP_TRY(const auto info, view.store().stat(path));
  if (!info) {
    NewCardOptions options;
    options.japanese = describe(first).region == Region::japan;
    BAYSWAP_TRY(image.card, make_card(first.kind, options));
    return image;
  }
  image.modified = info->modified;
  BAYSWAP_TRY(image.before, view.store().read(path));
  auto card = open_card(*image.before);
  if (!card)
    return fail(card.error().code, fmt::format("{}: {}", image.display_path, card.error().message),
                card.error().hint);
  image.card = *std::move(card);
  image.problems = image.card->check().size();
  return image;
}

// By the entry's own date where the card keeps one.
void check_newer_entry(MergeContext& context, Arrival& arrival, const Image& image, const CardSave& own) {
  Content content;
  content.kind = Content::Kind::item;
  content.item = own;
  const auto dated = describe(own).modified;
  check_newer(context, arrival,
              {image.path, *image.before, dated.value_or(image.modified), own.name, digest_of(content).hex(),
               dated.has_value()});
}

// Puts one save on the card. True where the card changed.
Result<bool> put_card(MergeContext& context, Arrival& arrival, Image& image) {
  BAYSWAP_TRY(CardSave save, as_item(context.view, arrival));
  if (image.card->kind() != save.kind)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} is a {} card, and {} a save of a {} card", image.display_path,
                            to_text(image.card->kind()), save.name, to_text(save.kind)));
  if (image.problems > 0)
    arrival.issues.unless_accepted(
        IssueCode::damaged, fmt::format("{}: {}", image.display_path, image.card->check().front().text), "",
        {Remedy::Kind::repair_card, {image.display_path}});
  for (const std::string& warning : image.card->warnings_for(save))
    arrival.issues.warn(IssueCode::wrong_region, fmt::format("{}: {}", image.display_path, warning),
                        "put it onto a card that such a console has formatted");
  const auto own = image.card->read(save.name);
  arrival.brought = true;
  if (own && own->same_content(save)) return false;
  if (!arrival.bound.empty())
    arrival.issues.warn(IssueCode::signature, arrival.bound,
                        "see in the game that it is accepted; the whole card can be copied as it is");
  if (own) check_newer_entry(context, arrival, image, *own);
  if (arrival.issues.refusal() != nullptr) return false;
  if (own) keep_file_order(save, *own);
  if (own) BAYSWAP_CHECK(image.card->drop(save.name));
  auto done = image.card->put(save);
  if (!done) {
    done.error().message = fmt::format("{}: {}", image.display_path, done.error().message);
    // What was dropped comes back: other saves still go onto this card.
    if (own) BAYSWAP_CHECK(image.card->put(*own));
    return tl::unexpected(std::move(done.error()));
  }
  arrival.steps.push_back(
      {own ? "replace" : "add", fmt::format("{} on {}", save.name, image.display_path),
       own ? "the card has a save of that name" : fmt::format("{} blocks", image.card->blocks_for(save))});
  return true;
}

// The last arrival that changed the card has the change of its image.
Result<void> merge_card(MergeContext& context, std::span<Arrival* const> arrivals) {
  Image image;
  Arrival* last = nullptr;
  std::optional<Error> failed;
  std::size_t failures = 0;
  for (Arrival* arrival : arrivals) {
    if (image.card == nullptr) {
      BAYSWAP_TRY(const CardSave first, as_item(context.view, *arrival));
      BAYSWAP_TRY(image, open_image(context.view, arrival->spots.front().path, first));
      if (!image.before)
        arrival->steps.push_back(
            {"make", fmt::format("{}: a freshly formatted card", image.display_path), "there is none yet"});
    }
    const auto changed = put_card(context, *arrival, image);
    if (changed) {
      if (*changed) last = arrival;
      continue;
    }
    ++failures;
    failed = changed.error();
    arrival->error = changed.error();
  }
  if (failures == arrivals.size() && failed) return tl::unexpected(*failed);
  if (last == nullptr) return {};
  const Blob after = image.card->image();
  if (image.before && *image.before == after) return {};
  BAYSWAP_TRY(const auto again, open_card(after));
  if (again->check().size() > image.problems)
    return fail(ErrorCode::damaged,
                fmt::format("{}: the change would break the card: {}", image.display_path,
                            again->check().front().text),
                "nothing was written; check and repair the card first");
  if (image.before) add_keep_step(last->steps, context.view.store(), image.path, *image.before);
  add_place_step(
      last->steps, image.display_path,
      fmt::format("{} of {} blocks stay free", image.card->free_blocks(), image.card->capacity_blocks()));
  last->changes.push_back({image.path, image.before, after, std::nullopt});
  if (const std::string stale = image.card->stale_once_changed(); !stale.empty())
    last->issues.warn(IssueCode::signature, fmt::format("{}: {}", image.display_path, stale));
  return {};
}

}  // namespace

const Keeper card_keeper{scan_card, load_card, spots_card, merge_card, false, true};

Result<CardSave> as_item(const BayView& view, const Arrival& arrival) {
  const Content& content = arrival.content;
  if (content.item) return *content.item;
  if (arrival.rule->platform != Platform::ps2 || content.tree.empty()) return cannot_become(view, arrival);
  std::vector<FolderFile> files;
  for (const TreeFile& file : content.tree) files.push_back({file.path, file.bytes, file.modified});
  return folder_save(std::string(name_of(arrival.display_path)), files);
}

}  // namespace bayswap
