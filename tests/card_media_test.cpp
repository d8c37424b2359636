// What each kind of card has of its own: counters, backups, checksums, orders, spare bytes, as hardware
// writes them. Checked against the definition, byte by byte, and never with the library's own helpers.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>
#include <bayswap/fs.hpp>
#include <bayswap/picture.hpp>

#include "support/builders.hpp"
#include "support/cards.hpp"
#include "support/core_files.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

std::size_t number(const Blob& image, std::size_t at, std::size_t bytes, bool big) {
  std::size_t value = 0;
  for (std::size_t i = 0; i < bytes; ++i)
    value |= static_cast<std::size_t>(image.view()[at + i]) << (8 * (big ? bytes - 1 - i : i));
  return value;
}
Blob changed(const Blob& image, std::size_t at, Byte mask) {
  std::vector<Byte> bytes = bytes_of(image);
  bytes[at] ^= mask;
  return Blob::copy_of(bytes);
}
bool reports(const Card& card, std::string_view piece, bool repairable) {
  for (const CardProblem& problem : card.check())
    if (problem.text.find(piece) != std::string::npos && problem.repairable == repairable) return true;
  return false;
}

// ---- gc -------------------------------------------------------------------------------------------

struct GcSystem {
  std::size_t directory[2];
  std::size_t table[2];
};
void expect_gc_sums(const Blob& image, const char* when) {
  const auto pair = [&](std::size_t from, std::size_t to, std::size_t at) {
    unsigned plain = 0;
    unsigned inverse = 0;
    for (std::size_t i = from; i < to; i += 2) {
      plain += static_cast<unsigned>(number(image, i, 2, true));
      inverse += static_cast<unsigned>(number(image, i, 2, true)) ^ 0xffffU;
    }
    plain &= 0xffffU;
    inverse &= 0xffffU;
    EXPECT_EQ(number(image, at, 2, true), plain == 0xffff ? 0 : plain) << when;
    EXPECT_EQ(number(image, at + 2, 2, true), inverse == 0xffff ? 0 : inverse) << when;
  };
  pair(0, 508, 508);
  for (const std::size_t block : {1U, 2U}) pair(block * 8192, block * 8192 + 8188, block * 8192 + 8188);
  for (const std::size_t block : {3U, 4U}) pair(block * 8192 + 4, (block + 1) * 8192, block * 8192);
}
GcSystem counters(const Blob& image) {
  return {{number(image, 8192 + 8186, 2, true), number(image, 16384 + 8186, 2, true)},
          {number(image, 3 * 8192 + 4, 2, true), number(image, 4 * 8192 + 4, 2, true)}};
}

TEST(GcCard, CountersMoveAndBackupsAlternate) {
  const auto card = std::move(*make_card(CardKind::gc, {59, 0, "", 1935655200, true}));
  Blob before = card->image();
  EXPECT_EQ(before.size(), 524288U);
  EXPECT_EQ(number(before, 34, 2, true), 4U) << "megabits";
  EXPECT_EQ(number(before, 36, 2, true), 1U) << "Shift-JIS";
  EXPECT_EQ(number(before, 12, 8, true), (1935655200U - 946684800U) * std::size_t{40500000});
  EXPECT_EQ(number(before, 4 * 8192 + 6, 2, true), 59U);
  EXPECT_EQ(number(before, 4 * 8192 + 8, 2, true), 4U);
  expect_gc_sums(before, "fresh");
  for (int i = 1; i <= 3; ++i) {
    ASSERT_TRUE(card->put(made_save(CardKind::gc, i, 2, 1)));
    const Blob after = card->image();
    expect_gc_sums(after, "after a put");
    const GcSystem was = counters(before);
    const GcSystem is = counters(after);
    const std::size_t newer = was.directory[1] > was.directory[0] ? 0 : 1;  // the older copy is written
    EXPECT_EQ(is.directory[newer], was.directory[1 - newer] + 1);
    EXPECT_EQ(is.table[newer], was.table[1 - newer] + 1);
    EXPECT_EQ(after.slice((2 - newer) * 8192, 8192), before.slice((2 - newer) * 8192, 8192))
        << "the other one stays";
    EXPECT_EQ(number(after, (3 + newer) * 8192 + 6, 2, true), 59U - 2 * static_cast<std::size_t>(i));
    EXPECT_EQ(number(after, (3 + newer) * 8192 + 8, 2, true), 4U + 2 * static_cast<std::size_t>(i))
        << "last given";
    before = after;
  }
  // Blocks are given on from the last one, not from the first free one.
  ASSERT_TRUE(card->drop("G99P99.kelp01"));
  ASSERT_TRUE(card->put(made_save(CardKind::gc, 4, 1, 1)));
  EXPECT_EQ(card->map()[11].use, BlockUse::save);
  EXPECT_EQ(card->map()[5].use, BlockUse::free);
}

TEST(GcCard, OneBrokenCopyIsMendedFromTheOther) {
  const auto card = make_card(CardKind::gc);
  ASSERT_TRUE(card->put(made_save(CardKind::gc, 1, 3, 1)));
  for (const std::size_t block : {1U, 2U, 3U, 4U}) {
    const auto broken = *open_card(changed(card->image(), block * 8192 + 40, 0x40));
    EXPECT_FALSE(broken->check().empty());
    // Where the newer copy was hit the older one counts, as on the console, and there the save has no blocks
    // yet.
    // Block 1 is the newer copy of the directory: the save's blocks have no owner in the other one, so that
    // nothing is freed, and nothing copied over what may still name them.
    const Blob before = broken->image();
    EXPECT_EQ(broken->repair(), block == 1 ? 0U : 1U) << block;
    EXPECT_EQ(broken->image() == before, block == 1) << block;
    EXPECT_EQ(broken->check().empty(), block == 2 || block == 4) << "the older copies are mended whole";
    for (const CardProblem& problem : broken->check()) EXPECT_FALSE(problem.repairable) << problem.text;
    const auto rescue = rescue_card(changed(card->image(), block * 8192 + 40, 0x40));
    ASSERT_TRUE(rescue);
    EXPECT_FALSE(rescue->saves.empty()) << "rescue looks into both";
  }
}

// ---- dc -------------------------------------------------------------------------------------------

TEST(DcCard, DataFromTheTopGamesFromTheBottom) {
  const auto card = make_card(CardKind::dc);
  const Blob fresh = card->image();
  for (std::size_t block = 0; block < 241; ++block)
    ASSERT_EQ(number(fresh, 254 * 512 + 2 * block, 2, false), 0xfffcU);
  EXPECT_EQ(number(fresh, 254 * 512 + 2 * 255, 2, false), 0xfffaU);
  EXPECT_EQ(number(fresh, 254 * 512 + 2 * 253, 2, false), 252U);
  EXPECT_EQ(number(fresh, 254 * 512 + 2 * 241, 2, false), 0xfffaU);
  EXPECT_EQ(number(fresh, 255 * 512, 2, false), 0x5555U);
  EXPECT_EQ(number(fresh, 255 * 512 + 0x46, 2, false), 254U);
  EXPECT_EQ(number(fresh, 255 * 512 + 0x50, 2, false), 200U);
  ASSERT_TRUE(card->put(made_save(CardKind::dc, 1, 3, 1)));
  Blob image = card->image();
  EXPECT_EQ(number(image, 253 * 512 + 2, 2, false), 199U);
  EXPECT_EQ(number(image, 254 * 512 + 2 * 199, 2, false), 198U);
  EXPECT_EQ(number(image, 254 * 512 + 2 * 197, 2, false), 0xfffaU);
  CardSave game = made_save(CardKind::dc, 2, 5, 2);
  std::vector<Byte> entry = bytes_of(game.entry);
  entry[0] = 0xcc;
  entry[26] = 1;
  game.entry = Blob::copy_of(entry);
  ASSERT_TRUE(card->put(game));
  image = card->image();
  EXPECT_EQ(number(image, 253 * 512 + 32 + 2, 2, false), 0U);
  EXPECT_EQ(number(image, 254 * 512, 2, false), 1U);
  EXPECT_TRUE(card->check().empty());
  entry[5] = 'X';
  game.entry = Blob::copy_of(entry);
  const auto second = card->put(game);
  ASSERT_FALSE(second);
  EXPECT_EQ(second.error().code, ErrorCode::does_not_fit) << "a second game has no place";
}

TEST(DcCard, AFilesChecksumIsLookedAt) {
  const auto card = make_card(CardKind::dc);
  ASSERT_TRUE(card->put(made_save(CardKind::dc, 1, 4, 1)));
  const auto broken = *open_card(changed(card->image(), 197 * 512 + 7, 1));
  EXPECT_TRUE(reports(*broken, "TERN_01: checksum", false));
  EXPECT_EQ(broken->carve(131072).front().confidence, FoundSave::Confidence::doubtful);
  EXPECT_EQ(card->entries()[0].modified, 1935664200) << "2031-05-04 12:30 on its clock";
}

// ---- sat ------------------------------------------------------------------------------------------

TEST(SatCard, SpreadMemoryKeepsWhatStandsBetween) {
  const auto card = std::move(*make_card(CardKind::sat, {0, 0, "spread", 0, false}));
  std::vector<Byte> image = bytes_of(card->image());
  ASSERT_EQ(image.size(), 65536U);
  for (std::size_t i = 0; i < image.size(); i += 2) {
    ASSERT_EQ(image[i], 0xff);
    image[i] = static_cast<Byte>(i / 2);
  }
  const auto odd = *open_card(Blob::copy_of(image));
  EXPECT_EQ(odd->form(), "spread");
  const CardSave save = made_save(CardKind::sat, 1, 40, 1);
  ASSERT_TRUE(odd->put(save));
  const Blob after = odd->image();
  for (std::size_t i = 0; i < image.size(); i += 2) ASSERT_EQ(after.view()[i], image[i]);
  const std::size_t first = 2 * 64 * 2 + 1;
  EXPECT_EQ(after.view()[first], 0x80);
  EXPECT_EQ(after.view()[first + 2 * 4], 'L');
  // The list of 39 further blocks goes on in the second block behind its tag.
  EXPECT_EQ(after.view()[first + 2 * (0x22 + 1)], 3) << "the second block";
  EXPECT_EQ((*open_card(after))->read(save.name)->payload, save.payload);
  EXPECT_EQ((*open_card(after))->entries()[0].language, "en");
}

TEST(SatCard, CartridgesHaveLargerBlocks) {
  for (const CardSize& size : card_sizes(CardKind::sat)) {
    const auto card = std::move(*make_card(CardKind::sat, {size.blocks, size.image_bytes, "", 0, false}));
    EXPECT_EQ(card->image().size(), size.image_bytes);
    EXPECT_EQ(card->block_bytes() * (card->capacity_blocks() + 2), size.image_bytes);
    ASSERT_TRUE(card->put(made_save(CardKind::sat, 1, 9, 1)));
    EXPECT_TRUE(card->check().empty());
  }
}

// ---- pce ------------------------------------------------------------------------------------------

TEST(PceCard, AFreshOneIsAsALiveCoreFormatsIt) {
  const auto file = core_files().read("pce/pce-fresh/coreF/N/Tideward (World).srm");
  ASSERT_TRUE(file) << file.error().message;
  EXPECT_EQ(make_card(CardKind::pce)->image(), *file);
}

TEST(PceCard, EntriesMoveUpAndThePointerFollows) {
  const auto card = make_card(CardKind::pce);
  for (int i = 1; i <= 3; ++i) ASSERT_TRUE(card->put(made_save(CardKind::pce, i, 100, 1)));
  EXPECT_EQ(number(card->image(), 6, 2, false), 0x8010U + 300);
  ASSERT_TRUE(card->drop("0099.FOG SIG02"));
  const Blob image = card->image();
  EXPECT_EQ(number(image, 6, 2, false), 0x8010U + 200);
  EXPECT_EQ(number(image, 16 + 200, 2, false), 0U) << "no entry behind the last one";
  EXPECT_EQ(image.slice(16 + 100 + 4, 12), made_save(CardKind::pce, 3, 100, 1).entry.slice(4, 12));
}

// ---- ps2 ------------------------------------------------------------------------------------------

// The code as its definition has it, a bit at a time.
std::array<Byte, 3> slow_ecc(ByteView chunk) {
  unsigned column = 0;
  unsigned set = 0;
  unsigned clear = 0;
  for (unsigned i = 0; i < 128; ++i)
    for (unsigned bit = 0; bit < 8; ++bit) {
      if (((chunk[i] >> bit) & 1U) == 0) continue;
      column ^= bit | (~bit & 7U) << 4U;
      set ^= i;
      clear ^= ~i & 0x7fU;
    }
  // Columns: the low three bits count the bits whose number has a bit clear, the high three those with it
  // set.
  const unsigned swapped = (column & 7U) << 4U | (column >> 4U);
  return {static_cast<Byte>(~swapped & 0x77U), static_cast<Byte>(~clear & 0x7fU),
          static_cast<Byte>(~set & 0x7fU)};
}

TEST(Ps2Card, SpareBytesAreAsTheDefinitionSays) {
  const auto card = make_card(CardKind::ps2);
  ASSERT_TRUE(card->put(made_save(CardKind::ps2, 1, 40, 1)));
  const Blob image = card->image();
  ASSERT_EQ(image.size(), 8650752U);
  EXPECT_EQ(number(image, 48, 4, false), 8192U);
  EXPECT_EQ(number(image, 52, 4, false), 41U);
  EXPECT_EQ(number(image, 56, 4, false), 8135U);
  EXPECT_EQ(number(image, 64, 4, false), 1023U);
  EXPECT_EQ(number(image, 80, 4, false), 8U);
  for (std::size_t page = 0; page < 16384; page += page < 200 ? 1 : 97) {
    const ByteView raw = image.view().subspan(page * 528, 528);
    if (std::all_of(raw.begin(), raw.end(), [](Byte b) { return b == 0xff; })) continue;  // erased
    for (std::size_t chunk = 0; chunk < 4; ++chunk) {
      const auto code = slow_ecc(raw.subspan(chunk * 128, 128));
      for (std::size_t i = 0; i < 3; ++i) ASSERT_EQ(raw[512 + 3 * chunk + i], code[i]) << "page " << page;
    }
    ASSERT_EQ(number(image, page * 528 + 524, 4, false), 0U);
  }
}

TEST(Ps2Card, OneWrongBitIsMendedTwoAreNamed) {
  const auto card = make_card(CardKind::ps2);
  const CardSave save = made_save(CardKind::ps2, 1, 20, 1);
  ASSERT_TRUE(card->put(save));
  const Blob sound = card->image();
  expect_property_of(20, "a bit flipped anywhere in pages that are in use", [&] {
    const std::size_t page = *rc::gen::element<std::size_t>(0, 16, 82, 84, 88, 100);
    const std::size_t at = page * 528 + *rc::gen::inRange<std::size_t>(0, 524);
    const Blob flipped = changed(sound, at, static_cast<Byte>(1U << *rc::gen::inRange(0, 8)));
    const auto opened = open_card(flipped);
    RC_ASSERT(opened.has_value());
    RC_ASSERT((*opened)->read(save.name)->same_content(save));
    RC_ASSERT((*opened)->image() == flipped);  // nothing changes that nobody changed
    // The top bit of each code byte, and the columns' unused one, mean nothing.
    if (!(*opened)->check().empty()) {
      RC_ASSERT((*opened)->repair() == 1U);
      RC_ASSERT((*opened)->image() == sound);
    }
  });
  const std::size_t data = 100 * 528 + 300;
  const Blob twice = changed(changed(sound, data, 0x01), data + 1, 0x10);
  const auto broken = *open_card(twice);
  EXPECT_TRUE(reports(*broken, "more bits are wrong", false));
  EXPECT_EQ(broken->read(save.name).error().code, ErrorCode::damaged);
  EXPECT_EQ(broken->carve(twice.size()).front().confidence, FoundSave::Confidence::doubtful);
}

TEST(Ps2Card, DeletedSavesStayUntilTheirClustersAreTaken) {
  for (const std::string& form : {std::string("plain"), std::string("ecc")}) {
    const auto card = std::move(*make_card(CardKind::ps2, {0, 0, form, 1935655200, false}));
    const CardSave save = made_save(CardKind::ps2, 1, 30, 1);
    ASSERT_TRUE(card->put(save));
    ASSERT_TRUE(card->drop(save.name));
    ASSERT_EQ(card->entries().size(), 1U);
    EXPECT_EQ(card->entries()[0].state, CardEntry::State::deleted);
    const auto found = card->carve(card->image().size());
    ASSERT_EQ(found.size(), 1U);
    EXPECT_TRUE(found[0].deleted);
    EXPECT_TRUE(found[0].save.same_content(save));
    EXPECT_EQ(describe(found[0].save).modified, 1935748800 + 9 * 3600)
        << "the clock is nine hours ahead of UTC";
  }
}

TEST(Ps2Card, EverySizeIsLaidOutAsItsOwn) {
  for (const CardSize& size : card_sizes(CardKind::ps2)) {
    const auto card = std::move(*make_card(CardKind::ps2, {size.blocks, 0, "plain", 0, false}));
    EXPECT_EQ(card->image().size(), size.image_bytes);
    EXPECT_EQ(card->free_blocks(), size.blocks);
    ASSERT_TRUE(card->put(made_save(CardKind::ps2, 1, 300, 1)));
    EXPECT_TRUE(card->check().empty());
  }
}

// ---- n64, scd -------------------------------------------------------------------------------------

TEST(PakCard, FourInAFileAreOpenedBySlot) {
  const auto pak = make_card(CardKind::n64);
  ASSERT_TRUE(pak->put(made_save(CardKind::n64, 7, 3, 1)));
  const Blob blank = make_card(CardKind::n64)->image();
  for (const Blob& file : {joined({blank, blank, pak->image(), blank}),
                           joined({noise(2048, 1), blank, blank, pak->image(), blank, noise(163840, 2)})}) {
    EXPECT_EQ(card_slots(file.view()), 4);
    EXPECT_TRUE((*open_card(file))->entries().empty());
    const auto third = *open_card(file, 3);
    EXPECT_EQ(third->entries()[0].name, "N99P.SKIFF07");
    EXPECT_EQ(third->image(), file);
    ASSERT_TRUE(third->drop("N99P.SKIFF07"));
    EXPECT_TRUE((*open_card(third->image(), 3))->entries().empty());
    EXPECT_EQ(open_card(file, 5).error().code, ErrorCode::bad_usage);
  }
  EXPECT_EQ(open_card(blank, 2).error().code, ErrorCode::bad_usage);
}

TEST(ScdCard, ItsFooterIsReadAndMendedAndItsSavesAreLeftAlone) {
  const auto card = make_card(CardKind::scd);
  const Blob image = card->image();
  ASSERT_EQ(image.size(), 8192U);
  for (std::size_t i = 0; i < 4; ++i) EXPECT_EQ(number(image, 8192 - 48 + 2 * i, 2, true), 125U);
  const auto broken = *open_card(changed(image, 8192 - 48, 0x01));
  EXPECT_EQ(broken->free_blocks(), 125U) << "three of four agree";
  EXPECT_EQ(broken->repair(), 1U);
  EXPECT_EQ(broken->image(), image);
  EXPECT_EQ(card->read("ANY").error().code, ErrorCode::unsupported);
  EXPECT_EQ(card->put(CardSave{CardKind::scd, "ANY", {}, {}, {}, {}}).error().code, ErrorCode::unsupported);
}

// ---- Regions, icons, pictures -----------------------------------------------------------------------

TEST(Restamp, CodeNameAndChecksumFollow) {
  for (const CardKind kind : writable_kinds()) {
    const CardSave save = made_save(kind, 1, least_blocks(kind) + 1, 1);
    const auto stamped = restamped(save, Region::north_america);
    if (made_region(kind) == Region::unknown) {
      EXPECT_EQ(stamped.error().code, ErrorCode::unsupported) << to_text(kind);
      continue;
    }
    ASSERT_TRUE(stamped) << to_text(kind);
    EXPECT_EQ(describe(*stamped).region, Region::north_america);
    EXPECT_NE(stamped->name, save.name);
    EXPECT_EQ(restamped(*stamped, Region::europe)->name, save.name);
    EXPECT_FALSE(restamped(save, Region::brazil)) << "no letter of its own in most cases";
    const auto card = make_card(kind);
    ASSERT_TRUE(card->put(*stamped));
    EXPECT_TRUE(card->check().empty()) << to_text(kind);
  }
}

TEST(Icons, PixelsStandWhereTheConsoleHasThem) {
  // ps1: two pixels a byte, the left one low; colour 1 is pure red, 0 is nothing.
  CardSave save = made_save(CardKind::ps1, 1, 1, 1);
  std::vector<Byte> bytes = bytes_of(save.payload);
  std::fill_n(bytes.begin() + 96, 32 + 128, Byte{0});
  bytes[98] = 0x1f;
  bytes[128] = 0x01;
  save.payload = Blob::copy_of(bytes);
  const SaveIcon ps1 = icon_of(save);
  ASSERT_EQ(ps1.frames.size(), 1U);
  EXPECT_EQ(ps1.frames[0].pixels[0], 0xff0000ffU);
  EXPECT_EQ(ps1.frames[0].pixels[1], 0U);
  // dc: the left one high; 4 bits each of opacity, red, green, blue.
  save = made_save(CardKind::dc, 1, 2, 1);
  bytes = bytes_of(save.payload);
  bytes[98] = 0xf0;
  bytes[99] = 0xf0;
  bytes[128] = 0x10;
  save.payload = Blob::copy_of(bytes);
  ASSERT_EQ(icon_of(save).frames.size(), 1U);
  EXPECT_EQ(icon_of(save).frames[0].pixels[0], 0x00ff00ffU);
  // gc: a banner of 16 bits in tiles of 4 by 4: its 17th word is the fifth pixel of the first row.
  save = made_save(CardKind::gc, 1, 2, 1);
  bytes = bytes_of(save.payload);
  bytes[64 + 32] = 0xfc;
  bytes[64 + 33] = 0x00;
  save.payload = Blob::copy_of(bytes);
  const SaveIcon gc = icon_of(save);
  ASSERT_TRUE(gc.banner);
  EXPECT_EQ(gc.banner->pixels[4], 0xff0000ffU);
  ASSERT_EQ(gc.frames.size(), 1U);
}

TEST(Sheet, EveryKindIsDrawnWhateverItsSavesHold) {
  for (const CardKind kind : writable_kinds()) {
    const auto card = make_card(kind);
    const Picture empty = contact_sheet(*card, "empty");
    for (int i = 1; i <= 4; ++i) ASSERT_TRUE(card->put(made_save(kind, i, least_blocks(kind) + 1, 1)));
    const Picture sheet = contact_sheet(*card, "\xe5\xa1\xa9 and \xff");
    EXPECT_EQ(sheet.width, 1280U);
    EXPECT_GT(sheet.height, empty.height);
    const auto png = to_png(sheet);
    ASSERT_TRUE(png);
    EXPECT_EQ(text_of(png->slice(1, 3)), "PNG");
    EXPECT_EQ(number(*png, 20, 4, true), sheet.height);
  }
  EXPECT_FALSE(to_png(Picture{}));
}

}  // namespace
}  // namespace bayswap::test
