// A save changed where it is: into the layout, state, card or package that it came from. What comes out is
// read again before it counts.
#include <fmt/format.h>
#include <bayswap/conversion.hpp>
#include <bayswap/save_place.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

const SheetFile* file_called(const std::vector<SheetFile>& files, std::string_view name) {
  const auto found = std::ranges::find(files, name, &SheetFile::name);
  return found == files.end() ? nullptr : &*found;
}

Save with_files(const Save& save, const std::vector<SheetFile>& now) {
  Save out = save;
  for (Part& part : out.parts)
    if (const SheetFile* file = file_called(now, to_text(part.role))) part.bytes = file->bytes;
  return out;
}

CardSave with_files(const CardSave& item, const std::vector<SheetFile>& now) {
  CardSave out = item;
  if (const SheetFile* data = file_called(now, "data"); data != nullptr && !out.payload.empty())
    out.payload = data->bytes;
  for (CardFile& file : out.files)
    if (const SheetFile* own = file_called(now, file.name)) file.bytes = own->bytes;
  return out;
}

tl::unexpected<Error> not_writable(const SavePlace& place, const std::string& why) {
  return fail(ErrorCode::unsupported,
              fmt::format("{} can't be changed in place: {}", place.display_path, why),
              "nothing was written");
}

Result<Blob> packed(const Catalog& catalog, const SavePlace& place, const SavePlace::ChipFile& file,
                    const Save& save) {
  ConvertRequest request;
  request.inputs = {save};
  request.to = file.layout;
  request.base = &file.bytes;
  for (const Part& part : file.save.parts)
    if (part.size_certain) request.chips.push_back({part.role.kind, part.bytes.size(), ""});
  BAYSWAP_TRY(Converted converted, convert(catalog, request));
  if (converted.files.size() != 1) return not_writable(place, "its layout makes several files");
  return std::move(converted.files.front().bytes);
}

bool same_parts(const Save& a, const Save& b) {
  return std::ranges::equal(a.parts, b.parts, {}, &Part::bytes, &Part::bytes);
}

Result<std::vector<FileChange>> chip_changes(const Catalog& catalog, const SavePlace& place,
                                             const std::vector<SheetFile>& now) {
  std::vector<FileChange> changes;
  for (const SavePlace::ChipFile& file : place.chips) {
    const Save save = with_files(file.save, now);
    if (same_parts(save, file.save)) continue;
    // What is written with the old parts must be the old file: then all the rest of it is kept.
    BAYSWAP_TRY(const Blob same, packed(catalog, place, file, file.save));
    if (same != file.bytes) return not_writable(place, "its layout would not give the same file again");
    BAYSWAP_TRY(Blob after, packed(catalog, place, file, save));
    // And what is read out of it again the new ones: a part that became blank is not brought.
    std::vector<ChipFact> chips;
    for (const Part& part : file.save.parts) chips.push_back({part.role.kind, part.bytes.size(), ""});
    const auto again = open_save(*file.layout, after, chips);
    if (!again || !same_parts(again->save, save))
      return not_writable(place, "the file would not hold the new values");
    changes.push_back({file.path, file.bytes, std::move(after)});
  }
  return changes;
}

Result<std::vector<FileChange>> single_change(const SavePlace& place, const std::vector<SheetFile>& now) {
  const CardSave item = with_files(*place.item, now);
  if (to_parcel(*place.item) == place.bytes)
    return std::vector<FileChange>{{place.path, place.bytes, to_parcel(item)}};
  const auto same = to_single_save(*place.item);
  if (!same || *same != place.bytes) return not_writable(place, "its form is only read");
  BAYSWAP_TRY(Blob after, to_single_save(item));
  return std::vector<FileChange>{{place.path, place.bytes, std::move(after)}};
}

Result<std::vector<FileChange>> entry_change(Store& store, const SavePlace& place,
                                             const std::vector<SheetFile>& now) {
  const CardSave wanted = with_files(*place.item, now);
  BAYSWAP_TRY(CardChange change,
              plan_card_change(store, place.path, 0, std::nullopt, {}, [&](Card& card) -> Result<void> {
                BAYSWAP_CHECK(card.drop(place.entry));
                return card.put(wanted);
              }));
  const auto is = change.card->read(place.entry);
  if (!is || !is->same_content(wanted)) return not_writable(place, "the card would not hold the new values");
  return std::move(change.plan.changes);
}

}  // namespace

Result<std::vector<FileChange>> changes_at(const Catalog& catalog, Store& store, const SavePlace& place,
                                           const std::vector<SheetFile>& now) {
  std::vector<FileChange> changes;
  for (const SheetFile& file : place.files) {
    const SheetFile* after = file_called(now, file.name);
    if (after == nullptr || after->bytes.size() != file.bytes.size())
      return not_writable(place, fmt::format("{} would have another size", file.name));
  }
  const bool is_same = std::ranges::all_of(
      place.files, [&](const SheetFile& file) { return file_called(now, file.name)->bytes == file.bytes; });
  if (is_same) return changes;
  switch (place.kind) {
    case SavePlace::Kind::chips:
      return chip_changes(catalog, place, now);
    case SavePlace::Kind::state: {
      const StateFile file(place.bytes);
      const Save wanted = with_files(place.battery, now);
      BAYSWAP_TRY(Blob after, grafted_state(*place.map, file, wanted));
      std::vector<ChipFact> chips;
      for (const Part& part : wanted.parts) chips.push_back({part.role.kind, part.bytes.size(), ""});
      const auto again = battery_in_state(*place.map, StateFile(after), chips);
      if (!again || !same_parts(*again, wanted))
        return not_writable(place, "the state would not hold the new values");
      changes.push_back({place.path, place.bytes, std::move(after)});
      return changes;
    }
    case SavePlace::Kind::card_entry:
      return entry_change(store, place, now);
    case SavePlace::Kind::single:
      return single_change(place, now);
    case SavePlace::Kind::package: {
      BAYSWAP_TRY(BlockPackage package, BlockPackage::open(place.bytes));
      // put() reads the list of files anew: what is looped over is a copy.
      for (const PackagedFile& file : std::vector<PackagedFile>(package.files())) {
        const SheetFile* after = file_called(now, file.path);
        if (after == nullptr || file.folder || after->bytes == file_called(place.files, file.path)->bytes)
          continue;
        BAYSWAP_CHECK(package.put(file.path, after->bytes.view(), file.modified.value_or(0)));
      }
      changes.push_back({place.path, place.bytes, package.image()});
      return changes;
    }
    case SavePlace::Kind::folder:
      for (const SheetFile& file : place.files) {
        const SheetFile* after = file_called(now, file.name);
        if (after->bytes != file.bytes)
          changes.push_back({join_path(place.path, file.name), file.bytes, after->bytes});
      }
      return changes;
    case SavePlace::Kind::plain:
      changes.push_back({place.path, place.bytes, now.front().bytes});
      return changes;
  }
  return changes;
}

}  // namespace bayswap
