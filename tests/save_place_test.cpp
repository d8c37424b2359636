// A save opened where it is, changed by a byte, and written back: in every layout, on every kind of card.
// What comes out is the old file but for that byte, and is read as the new save.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/save_place.hpp>

#include <algorithm>

#include "support/builders.hpp"
#include "support/cards.hpp"

namespace bayswap::test {
namespace {

class EachLayout : public testing::TestWithParam<const Layout*> {};

const Catalog& place_catalog() {
  static const Catalog all;
  return all;
}

std::vector<const Layout*> layouts_of_one_file() {
  std::vector<const Layout*> out;
  for (const Layout* layout : place_catalog().all())
    if (!layout->is_set() && !layout->slots.empty()) out.push_back(layout);
  return out;
}

// Noise in the first part, of the size that the layout has for it.
std::optional<Save> noisy_save(const Layout& layout) {
  Save save;
  save.platform = layout.platform;
  for (const Slot& slot : layout.slots) {
    if (slot.role.kind == PartKind::rtc || slot.role.kind == PartKind::pak || slot.part_sizes().empty())
      continue;
    save.parts.push_back({slot.role, noise(slot.part_sizes().front(), 17), true});
    return save;
  }
  return std::nullopt;
}

TEST_P(EachLayout, OneByteIsChangedInPlace) {
  const Layout& layout = *GetParam();
  const auto save = noisy_save(layout);
  if (!save) GTEST_SKIP() << "clocks and paks alone";
  auto file = pack(layout, *save);
  if (!file) GTEST_SKIP() << file.error().message;
  MemoryStore store;
  ASSERT_TRUE(store.create("a.sav", file->view()));
  SavePlace place;
  place.kind = SavePlace::Kind::chips;
  place.path = place.display_path = "a.sav";
  const auto opened = unpack(layout, *file);
  ASSERT_TRUE(opened);
  place.chips.push_back({"a.sav", *file, &layout, *opened});
  for (const Part& part : opened->parts) place.files.push_back({to_text(part.role), part.bytes});
  // Nothing changed: nothing to write.
  const auto same = changes_at(place_catalog(), store, place, place.files);
  ASSERT_TRUE(same) << same.error().message;
  EXPECT_TRUE(same->empty());
  std::vector<SheetFile> now = place.files;
  const auto changed = std::ranges::find(now, to_text(save->parts.front().role), &SheetFile::name);
  ASSERT_NE(changed, now.end());
  std::vector<Byte> bytes(changed->bytes.view().begin(), changed->bytes.view().end());
  bytes[bytes.size() / 3] ^= 0x41;
  changed->bytes = Blob::copy_of(bytes);
  const auto changes = changes_at(place_catalog(), store, place, now);
  if (!changes) {
    // A layout that does not come out the same is refused, and never half written.
    EXPECT_EQ(changes.error().code, ErrorCode::unsupported) << changes.error().message;
    return;
  }
  ASSERT_EQ(changes->size(), 1U);
  const Blob& after = *changes->front().after;
  ASSERT_EQ(after.size(), file->size());
  const auto again = unpack(layout, after);
  ASSERT_TRUE(again);
  EXPECT_EQ(again->find(save->parts.front().role)->bytes, changed->bytes);
  std::size_t others = 0;
  for (std::size_t i = 0; i < after.size(); ++i) others += after.view()[i] != file->view()[i] ? 1 : 0;
  // Spread and doubled chips have a byte several times; checksums of containers follow.
  EXPECT_LE(others, 16U);
  // A save of another size is refused.
  changed->bytes = changed->bytes.slice(0, changed->bytes.size() - 1);
  EXPECT_FALSE(changes_at(place_catalog(), store, place, now));
}

INSTANTIATE_TEST_SUITE_P(Layouts, EachLayout, testing::ValuesIn(layouts_of_one_file()), [](const auto& one) {
  std::string name = one.param->id;
  for (char& c : name)
    if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
  return name;
});

TEST(SavePlaces, APartThatWouldBecomeBlankIsNotSaidToBeWritten) {
  // All 00 but for one byte: without it the part counts as one that was not brought.
  const Layout* layout = *place_catalog().find("gba.sram");
  std::vector<Byte> chip(32768);
  chip[100] = 9;
  const Save save{Platform::gba, {{{PartKind::sram, 0}, Blob::copy_of(chip), true}}};
  const auto file = pack(*layout, save);
  ASSERT_TRUE(file);
  MemoryStore store;
  ASSERT_TRUE(store.create("a.sav", file->view()));
  SavePlace place;
  place.kind = SavePlace::Kind::chips;
  place.path = place.display_path = "a.sav";
  place.chips.push_back({"a.sav", *file, layout, *unpack(*layout, *file)});
  place.files.push_back({"sram", Blob::copy_of(chip)});
  chip[100] = 0;
  const std::vector<SheetFile> now{{"sram", Blob::copy_of(chip)}};
  const auto changes = changes_at(place_catalog(), store, place, now);
  // Either it is written, or it is refused; never "nothing to do".
  if (changes) {
    ASSERT_EQ(changes->size(), 1U);
    EXPECT_EQ(changes->front().after->view()[100], 0);
  } else {
    EXPECT_EQ(changes.error().code, ErrorCode::unsupported);
  }
}

TEST(SavePlaces, EveryKindOfCardTakesItsEntryBack) {
  for (const CardKind kind : writable_kinds()) {
    const std::string shown(to_text(kind));
    auto fresh = make_card(kind, {});
    ASSERT_TRUE(fresh) << shown;
    for (int number = 1; number <= 3; ++number)
      ASSERT_TRUE(
          (*fresh)->put(made_save(kind, number, least_blocks(kind), static_cast<std::uint32_t>(number))))
          << shown;
    const Blob image = (*fresh)->image();
    const auto card = open_card(image);
    ASSERT_TRUE(card) << shown;
    const auto entries = (*card)->entries();
    ASSERT_FALSE(entries.empty()) << shown;
    MemoryStore store;
    ASSERT_TRUE(store.create("card", image.view()));
    const StateMaps maps;
    const auto place = open_save_place(place_catalog(), maps, store, "card: " + entries.front().name, {});
    ASSERT_TRUE(place) << shown << ": " << place.error().message;
    std::vector<SheetFile> now = place->files;
    std::vector<Byte> bytes(now.front().bytes.view().begin(), now.front().bytes.view().end());
    bytes.back() ^= 0x5a;
    now.front().bytes = Blob::copy_of(bytes);
    const auto changes = changes_at(place_catalog(), store, *place, now);
    if (kind == CardKind::dc) {  // its header has a checksum, which a sheet must name: without, the card
                                 // would be worse
      ASSERT_FALSE(changes);
      EXPECT_EQ(changes.error().code, ErrorCode::damaged) << changes.error().message;
      continue;
    }
    ASSERT_TRUE(changes) << shown << ": " << changes.error().message;
    const auto after = open_card(*changes->front().after);
    ASSERT_TRUE(after) << shown;
    EXPECT_TRUE((*after)->check().empty()) << shown;
    const auto is = (*after)->read(entries.front().name);
    ASSERT_TRUE(is) << shown;
    EXPECT_EQ(is->payload.empty() ? is->files.front().bytes : is->payload, now.front().bytes) << shown;
    // The others are what they were.
    for (std::size_t i = 1; i < entries.size(); ++i)
      if (entries[i].state == CardEntry::State::good) {
        EXPECT_TRUE((*after)->read(entries[i].name)->same_content(*(*card)->read(entries[i].name))) << shown;
      }
    // A card that is a chip as well is read as that; of the others an entry must be named.
    const auto whole = open_save_place(place_catalog(), maps, store, "card", {});
    EXPECT_TRUE(!whole || whole->kind == SavePlace::Kind::chips) << shown;
  }
}

}  // namespace
}  // namespace bayswap::test
