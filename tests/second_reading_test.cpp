// What a second audit found, each point restated from the hardware: images with their bytes in another order,
// several memories in one file, codes and encodings of regions, clocks, sparse saves, chips that headers
// name.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>
#include <bayswap/conversion.hpp>
#include <bayswap/inspect.hpp>
#include <bayswap/layout.hpp>
#include <bayswap/save_place.hpp>
#include <bayswap/title.hpp>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/cards.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"
#include "support/roms.hpp"

namespace bayswap::test {
namespace {

using Image = std::vector<Byte>;

Blob turned(const Blob& bytes, std::size_t unit) {
  Image out = bytes_of(bytes);
  for (std::size_t at = 0; at + unit <= out.size(); at += unit)
    std::reverse(out.begin() + static_cast<std::ptrdiff_t>(at),
                 out.begin() + static_cast<std::ptrdiff_t>(at + unit));
  return Blob::copy_of(out);
}

CardSave single_of(const Blob& file) {
  const auto found = find_embedded_saves(file);
  EXPECT_FALSE(found.empty());
  return found.empty() ? CardSave{} : found.front().save;
}

// A dc data file: a header with one icon, content, and the checksum over both (CRC-16, polynomial 1021).
CardSave dc_data(int number) {
  Image data(1024);
  for (std::size_t i = 640; i < data.size(); ++i) data[i] = static_cast<Byte>(i * 7 + 3);
  const std::string title = "TIDE TABLE";
  std::copy(title.begin(), title.end(), data.begin());
  std::copy(title.begin(), title.end(), data.begin() + 16);
  put_le(data, 64, 2, 1);
  put_le(data, 72, 4, data.size() - 640);
  std::uint16_t crc = 0;
  for (const Byte b : data) {
    crc = static_cast<std::uint16_t>(crc ^ (b << 8));
    for (int bit = 0; bit < 8; ++bit)
      crc = static_cast<std::uint16_t>((crc & 0x8000) != 0 ? crc << 1 ^ 0x1021 : crc << 1);
  }
  put_le(data, 70, 2, crc);
  Image entry(32);
  entry[0] = 0x33;
  const std::string name = "TIDETABLE_" + std::to_string(number);
  std::copy(name.begin(), name.end(), entry.begin() + 4);
  const Image date{0x20, 0x31, 0x05, 0x04, 0x16, 0x30, 0x00, 0x06};
  std::copy(date.begin(), date.end(), entry.begin() + 16);
  put_le(entry, 24, 2, data.size() / 512);
  Image file = entry;
  file.insert(file.end(), data.begin(), data.end());
  return single_of(Blob::copy_of(file));
}

TEST(SecondReading, DcImagesWithReversedWordsAreReadAsTheConsoleHasThem) {
  const auto card = make_card(CardKind::dc);
  ASSERT_TRUE(card->put(dc_data(1)));
  ASSERT_TRUE(card->put(dc_data(2)));
  const Blob image = card->image();
  for (const std::size_t unit : {2U, 4U}) {
    const Blob file = turned(image, unit);
    const auto guess = guess_card(file.view());
    ASSERT_TRUE(guess);
    EXPECT_EQ(guess->kind, CardKind::dc);
    EXPECT_EQ(guess->reversed_in, unit);
    EXPECT_GT(guess->confidence, 0.9);
    const auto opened = open_card(file);
    ASSERT_TRUE(opened);
    EXPECT_EQ((*opened)->entries().size(), 2U);
    EXPECT_TRUE((*opened)->check().empty());
    EXPECT_EQ((*opened)->image(), file) << "and stays in its order";
    ASSERT_TRUE((*opened)->put(dc_data(3)));
    const auto again = open_card(turned((*opened)->image(), unit));
    ASSERT_TRUE(again);
    EXPECT_EQ((*again)->entries().size(), 3U);
    const auto rescue = rescue_card(file);
    ASSERT_TRUE(rescue);
    EXPECT_EQ(rescue->saves.size(), 2U);
  }
  // An order that nobody has: nothing of it is repaired.
  Image odd = bytes_of(turned(image, 8));
  std::fill_n(odd.begin() + 255 * 512, 16, Byte{0x55});
  if (const auto opened = open_card(Blob::copy_of(odd))) {
    EXPECT_EQ((*opened)->repair(), 0U);
    EXPECT_EQ((*opened)->image(), Blob::copy_of(odd));
    EXPECT_FALSE((*opened)->put(dc_data(3)));
  }
  EXPECT_FALSE(guess_card(Blob::filled(131072, 0x55).view())) << "a filler is no card";
}

TEST(SecondReading, DcSinglesWithReversedContentAreTurnedWhereTheChecksumProvesIt) {
  const CardSave save = dc_data(1);
  for (const std::size_t unit : {2U, 4U}) {
    const Blob file = joined({save.entry, turned(save.payload, unit)});
    EXPECT_EQ(single_of(file).payload, save.payload);
    EXPECT_EQ(single_of(file).title, "TIDE TABLE");
    // On a card it is seen as what it is.
    const auto card = make_card(CardKind::dc);
    CardSave wrong = save;
    wrong.payload = turned(save.payload, unit);
    ASSERT_TRUE(card->put(wrong));
    const auto problems = card->check();
    ASSERT_EQ(problems.size(), 1U);
    EXPECT_FALSE(problems.front().repairable);
    EXPECT_NE(problems.front().text.find("reversed"), std::string::npos);
  }
  // Nothing proves it: it stays as it is.
  Image open = bytes_of(turned(save.payload, 4));
  open[900] ^= 1;
  EXPECT_EQ(single_of(joined({save.entry, Blob::copy_of(open)})).payload, Blob::copy_of(open));
  // As long as an eeprom: its own checksum tells.
  const Finding bare = inspect(Catalog(), save.payload, {});
  EXPECT_EQ(bare.kind, FileKind::single_save);
  EXPECT_EQ(bare.platform, Platform::dc);
}

// The internal memory has blocks of 64 bytes, a cartridge of 512; each begins with a block full of the mark.
TEST(SecondReading, AnInternalMemoryAndACartridgeAreTwoCards) {
  for (const std::string form : {"packed", "spread"}) {
    NewCardOptions options;
    options.form = form;
    options.image_bytes = 32768;
    const auto internal = make_card(CardKind::sat, options);
    options.image_bytes = 524288;
    const auto cartridge = make_card(CardKind::sat, options);
    ASSERT_TRUE(internal && cartridge);
    ASSERT_TRUE((*internal)->put(made_save(CardKind::sat, 1, 3, 1)));
    ASSERT_TRUE((*cartridge)->put(made_save(CardKind::sat, 2, 3, 2)));
    const Blob file = joined({(*internal)->image(), (*cartridge)->image()});
    ASSERT_EQ(card_slots(file.view()), 2) << form;
    for (const int slot : {1, 2}) {
      const auto card = open_card(file, slot);
      ASSERT_TRUE(card);
      EXPECT_EQ((*card)->entries().size(), 1U);
      EXPECT_EQ((*card)->block_bytes(), slot == 1 ? 64U : 512U);
      EXPECT_FALSE((*card)->notes().empty()) << "which of the two it is";
      ASSERT_TRUE((*card)->put(made_save(CardKind::sat, 3, 5, 3)));
      const Blob after = (*card)->image();
      ASSERT_EQ(after.size(), file.size());
      const std::size_t border = (*internal)->image().size();
      const std::size_t other = slot == 1 ? border : 0;
      EXPECT_EQ(after.slice(other, slot == 1 ? file.size() : border),
                file.slice(other, slot == 1 ? file.size() : border))
          << "the other one stays";
      EXPECT_TRUE((*open_card(after, slot))->check().empty());
    }
    EXPECT_FALSE(open_card(file, 3));
    EXPECT_TRUE(rescue_card(file, std::nullopt, 2));
  }
  // A mark of one memory at the beginning of a larger one.
  NewCardOptions options;
  options.image_bytes = 32768;
  const auto internal = make_card(CardKind::sat, options);
  ASSERT_TRUE((*internal)->put(made_save(CardKind::sat, 1, 3, 1)));
  const Blob grown = joined({(*internal)->image(), Blob::filled(524288 - 32768, 0)});
  if (const auto card = open_card(grown)) {
    EXPECT_NE((*card)->capacity_blocks(), 524288U / 64 - 2);
  }
  // scd: the same with 8 KiB and a cartridge of 128.
  options = {};
  options.image_bytes = 8192;
  const auto small = make_card(CardKind::scd, options);
  options.image_bytes = 131072;
  const auto large = make_card(CardKind::scd, options);
  ASSERT_TRUE(small && large);
  EXPECT_EQ(card_slots(joined({(*small)->image(), (*large)->image()}).view()), 2);
}

Layout layout_of(const Catalog& catalog, const std::string& id) {
  const auto found = catalog.find(id);
  EXPECT_TRUE(found) << id;
  return **found;
}

// A game of board 06 has 512 cells of 4 bits; other games of 8 KiB use little of them, too.
TEST(SecondReading, FewBytesMakeNoForm) {
  const Catalog catalog;
  std::mt19937 dice(5);
  for (const Byte filler : {Byte{0}, Byte{0xff}}) {
    Image bytes(8192, filler);
    for (std::size_t i = 0; i < 400; ++i) bytes[i] = static_cast<Byte>(dice());
    Hints gb;
    gb.platform = Platform::gb;
    const auto found = recognise(catalog, Blob::copy_of(bytes), gb);
    ASSERT_FALSE(found.matches.empty());
    EXPECT_EQ(found.matches.front().layout->id, "gb.raw");
    // Fresh: three bytes.
    Image fresh(8192, filler);
    fresh[5] = 1;
    fresh[7] = 2;
    fresh[9] = 3;
    const auto any = recognise(catalog, Blob::copy_of(fresh), {});
    ASSERT_FALSE(any.matches.empty());
    EXPECT_LT(any.matches.front().confidence, 0.5) << any.matches.front().layout->id;
  }
  Image small(512);
  for (Byte& b : small) b = static_cast<Byte>(dice() % 16);
  EXPECT_LT(recognise(catalog, Blob::copy_of(small), {}).matches.front().confidence, 0.5);
  Image clock(32784);
  for (Byte& b : clock) b = static_cast<Byte>(dice() % 8);
  Hints none;
  const auto match = recognise(catalog, Blob::copy_of(clock), none);
  for (const LayoutMatch& one : match.matches)
    if (one.layout->id == "gba.sram-clock") {
      EXPECT_LT(one.confidence, 0.96);
    }
}

// A snapshot has a table of items, and a picture's or an archive's first bytes make no such file.
TEST(SecondReading, FourBytesMakeNoState) {
  Image bytes = bytes_of(noise(72000, 8));
  const Image mark{0x03, 0x00, 0x40, 0x00};
  std::copy(mark.begin(), mark.end(), bytes.begin());
  EXPECT_NE(inspect(Catalog(), Blob::copy_of(bytes), {}).kind, FileKind::save_state);
  Image packed = bytes_of(noise(8192, 9));
  const Image zip{'P', 'K', 3, 4};
  std::copy(zip.begin(), zip.end(), packed.begin());
  Hints gb;
  gb.platform = Platform::gb;
  EXPECT_EQ(inspect(Catalog(), Blob::copy_of(packed), gb).kind, FileKind::battery_save);
}

// A trimmed file of a chip of 32 KiB has a few KiB at least.
TEST(SecondReading, ATrimmedFileHasALowerLimit) {
  const Catalog catalog;
  const Layout raw = layout_of(catalog, "snes.raw");
  const std::vector<ChipFact> chips{{PartKind::sram, 32768, "said"}};
  EXPECT_FALSE(fit(raw, noise(20, 1), chips));
  EXPECT_FALSE(fit(raw, noise(1500, 1), chips));
  const auto good = fit(raw, noise(20000, 1), chips);
  ASSERT_TRUE(good);
  EXPECT_EQ(good->fit, Fit::trimmed);
}

TEST(SecondReading, PaddedToTheEndOfASector) {
  const Catalog catalog;
  Image clock(48);
  for (std::size_t i = 0; i < 5; ++i) put_le(clock, 4 * i, 4, i + 1);
  put_le(clock, 40, 8, 1900000000);
  const Blob file = joined({noise(32768, 4), Blob::copy_of(clock), Blob::filled(464, 0)});
  const auto rom = identify_rom(ByteView(roms::gb_rom(0x10, 3)));
  ASSERT_TRUE(rom);
  Hints hints;
  hints.game = rom->game;
  hints.chips = rom->chips;
  const auto found = recognise(catalog, file, hints);
  ASSERT_FALSE(found.matches.empty());
  // Of 44 bytes or of 48: the upper half of the time is zero either way.
  EXPECT_TRUE(found.matches.front().layout->id.starts_with("gb.rtc4")) << found.matches.front().layout->id;
  EXPECT_EQ(found.matches.front().fit, Fit::padded);
}

// 812 days: the counter has nine bits, and one that says that it ran over.
TEST(SecondReading, NoBitOfAClockIsLostInSilence) {
  const Catalog catalog;
  const Layout with_clock = layout_of(catalog, "gb.rtc48");
  const Layout start = layout_of(catalog, "gb.clock8");
  constexpr std::uint64_t now = 1900000000;
  const auto clock_of = [&](unsigned days, Byte flags) {
    Image clock(48);
    put_le(clock, 0, 4, 7);
    put_le(clock, 4, 4, 8);
    put_le(clock, 8, 4, 9);
    put_le(clock, 12, 4, days & 0xff);
    put_le(clock, 16, 4, (days >> 8 & 1U) | flags);
    put_le(clock, 40, 8, now);
    return Blob::copy_of(clock);
  };
  const auto converted = [&](const Blob& clock) {
    ConvertRequest request;
    request.inputs.push_back(*unpack(with_clock, joined({noise(32768, 1), clock})));
    request.to = &start;
    return convert(catalog, request);
  };
  const auto over = converted(clock_of(300, 0x80));
  ASSERT_TRUE(over) << over.error().message;
  EXPECT_EQ(le64(over->files.front().bytes.view(), 0), now - 812ULL * 86400 - 9 * 3600 - 8 * 60 - 7);
  const auto stopped = converted(clock_of(3, 0x40));
  ASSERT_TRUE(stopped);
  EXPECT_TRUE(std::ranges::any_of(
      stopped->cuts, [](const std::string& cut) { return cut.find("stopped") != std::string::npos; }));
  EXPECT_EQ(converted(clock_of(3, 0))->cuts.size(), 1U) << "the RAM alone";
}

TEST(SecondReading, TheEepromOfAMotionBoardComesInBothOrders) {
  const Catalog catalog;
  const Layout chip = layout_of(catalog, "gb.eeprom");
  const Layout words = layout_of(catalog, "gb.eeprom-reversed");
  const Blob bytes = noise(256, 6);
  EXPECT_EQ(unpack(words, turned(bytes, 2))->parts.front().bytes, unpack(chip, bytes)->parts.front().bytes);
}

// For every chip that a header names there is a layout that has it.
TEST(SecondReading, EveryChipOfAHeaderHasALayout) {
  const Catalog catalog;
  const auto check = [&](const roms::Bytes& rom, const std::string& what) {
    const auto facts = identify_rom(ByteView(rom));
    if (!facts) return;
    for (const ChipFact& chip : facts->chips) {
      if (chip.size_bytes == 0 || chip.kind == PartKind::rtc) continue;
      const bool is_there =
          std::ranges::any_of(catalog.all(saves_as(facts->game.platform)), [&](const Layout* layout) {
            return std::ranges::any_of(layout->slots, [&](const Slot& slot) {
              return slot.role.kind == chip.kind &&
                     (std::ranges::binary_search(slot.part_sizes(), chip.size_bytes) ||
                      std::ranges::binary_search(slot.chip_sizes, chip.size_bytes));
            });
          });
      EXPECT_TRUE(is_there) << what << ": " << chip.size_bytes << " bytes, " << chip.evidence;
    }
  };
  for (unsigned type = 0; type < 256; ++type)
    for (Byte ram = 0; ram < 6; ++ram)
      check(roms::gb_rom(static_cast<Byte>(type), ram), "gb " + std::to_string(type));
  for (unsigned shift = 0; shift < 16; ++shift)
    check(roms::nes_rom({2, 0, 0x12, 0x08, 0, 0, static_cast<Byte>(shift << 4), 0}),
          "nes shift " + std::to_string(shift));
  for (unsigned units = 0; units < 256; ++units)
    check(roms::nes_rom({2, 0, 0x12, 0, static_cast<Byte>(units), 0, 0, 0}),
          "nes units " + std::to_string(units));
  for (const Byte banks : {Byte{16}, Byte{32}})
    check(roms::nes_rom({banks, 0, 0xe2, 0x10, 0, 0, 0, 0}), "nes that writes its own chip");
  for (unsigned type = 0; type < 256; ++type)
    for (Byte ram = 0; ram < 9; ++ram)
      check(roms::snes_rom(0x7fc0, 0x20, 65536, static_cast<Byte>(type), ram),
            "snes " + std::to_string(type));
  for (unsigned save = 0; save < 256; ++save)
    check(roms::ws_rom(static_cast<Byte>(save)), "ws " + std::to_string(save));
}

TEST(SecondReading, ACodeThatWasAskedForIsWhatIsWritten) {
  for (const CardKind kind : {CardKind::gc, CardKind::n64}) {
    const CardSave save = made_save(kind, 1, least_blocks(kind), 1);
    const std::string own(reinterpret_cast<const char*>(save.entry.data()), 6);
    const auto code_of = [](const CardSave& one) {
      return std::string(reinterpret_cast<const char*>(one.entry.data()), 6);
    };
    for (const char letter : std::string("PDFISUXY")) {
      const std::string code = own.substr(0, 3) + letter;
      const Region region = region_of_letter(*platform_from_tag(to_text(kind)), letter);
      const auto stamped = restamped(save, region, code);
      ASSERT_TRUE(stamped) << code << ": " << stamped.error().message;
      EXPECT_EQ(code_of(*stamped), code + own.substr(4, 2)) << "the maker stays unless it is said";
      EXPECT_EQ(code_of(*restamped(save, region, code + "7K")), code + "7K");
    }
    EXPECT_EQ(restamped(save, Region::germany, {})->name[3], 'D') << "the usual letter";
    EXPECT_EQ(restamped(save, Region::japan, own.substr(0, 3) + "P").error().code, ErrorCode::bad_usage);
    EXPECT_EQ(restamped(save, Region::europe, "SLES-99001").error().code, ErrorCode::bad_usage);
  }
}

// A gc console formats a card for its own encoding, and takes no other.
TEST(SecondReading, ACardOfTheOtherEncodingIsWarnedOf) {
  NewCardOptions options;
  options.japanese = true;
  const auto japanese = make_card(CardKind::gc, options);
  const auto western = make_card(CardKind::gc);
  ASSERT_TRUE(japanese);
  const CardSave save = made_save(CardKind::gc, 1, 1, 1);
  const auto own = restamped(save, Region::japan);
  const auto other = restamped(save, Region::europe);
  ASSERT_TRUE(own && other);
  EXPECT_TRUE((*japanese)->warnings_for(*own).empty());
  EXPECT_EQ((*japanese)->warnings_for(*other).size(), 1U);
  EXPECT_EQ(western->warnings_for(*own).size(), 1U);
  EXPECT_TRUE(western->warnings_for(*other).empty());
}

// A head of 128 bytes with a keyed hash: kept, and said to be stale once something changes.
TEST(SecondReading, AHashInAHeadIsSaidToBeStale) {
  Image head(128);
  const Image mark{0x00, 0x50, 0x4d, 0x56};
  std::copy(mark.begin(), mark.end(), head.begin());
  const auto card = open_card(joined({Blob::copy_of(head), make_card(CardKind::ps1)->image()}));
  ASSERT_TRUE(card);
  EXPECT_EQ((*card)->kind(), CardKind::ps1);
  EXPECT_EQ((*card)->notes().size(), 1U);
  EXPECT_FALSE((*card)->stale_once_changed().empty());
  EXPECT_TRUE(make_card(CardKind::ps1)->stale_once_changed().empty());
  // Whatever changes the card says so; what leaves it as it is does not.
  const Folder folder;
  LocalStore disk(folder.path());
  ASSERT_TRUE(disk.create("head.mcd", (*card)->image().view()));
  const CardSave save = made_save(CardKind::ps1, 1, 1, 1);
  const auto warnings = [&](const std::function<Result<void>(Card&)>& change) {
    const auto planned = plan_card_change(disk, "head.mcd", 0, std::nullopt, "a test", change);
    EXPECT_TRUE(planned);
    if (planned && !planned->plan.changes.empty()) {
      EXPECT_TRUE(disk.replace("head.mcd", planned->plan.changes.front().after->view()));
    }
    return planned ? planned->plan.issues.size() : 9;
  };
  EXPECT_EQ(warnings([](Card&) { return Result<void>(); }), 0U);
  EXPECT_EQ(warnings([&](Card& now) { return now.put(save); }), 1U);
  EXPECT_EQ(warnings([&](Card& now) { return now.drop(save.name); }), 1U);
  EXPECT_EQ(warnings([&](Card& now) { return now.undelete(now.entries().front().name); }), 1U);
}

// What a chip of half the size leaves, and a larger one that is half used, are the same bytes; and a file
// that counts its own bytes is no chip.
TEST(SecondReading, AnErasedHalfAndABlockFileSayNothingOfTheChip) {
  const Catalog catalog;
  Image half = bytes_of(noise(65536, 5));
  std::fill(half.begin() + 32768, half.end(), Byte{0xff});
  std::set<std::string> likely;
  for (const LayoutMatch& match : recognise(catalog, Blob::copy_of(half), {}).matches)
    if (match.confidence > 0.05 && match.layout->platform == Platform::gba) likely.insert(match.layout->id);
  EXPECT_TRUE(likely.contains("gba.sram-64k") && likely.contains("gba.flash"));
  Image blocks = bytes_of(noise(8208, 6));
  put_le(blocks, 0, 4, 0x00020053);
  put_le(blocks, 4, 4, blocks.size());
  for (const double hour : {0.0, 1.0}) {
    const Image time{0x24, 0x05, 0x12, 0x03, 0x14, 0x30, 0x15};
    if (hour > 0) std::ranges::copy(time, blocks.end() - 16);
    for (const LayoutMatch& match : recognise(catalog, Blob::copy_of(blocks), {}).matches)
      EXPECT_LT(match.confidence, 0.5) << match.layout->id;
  }
}

// Some games put their card's serial number into what they save. A sheet knows which.
TEST(SecondReading, ASheetSaysWhatIsBoundToItsCard) {
  const CardSave save = made_save(CardKind::gc, 1, 2, 1);
  const std::string code = describe(save).code;
  SheetShelf sheets;
  const std::string head = "sheet = 1\nid = \"gc.bound\"\nname = \"bound\"\n";
  const std::string game = "[game]\nplatform = \"gc\"\ncode = \"" + code +
                           "\"\n[[field]]\nname = \"first\"\ntype = \"u8\"\nat = 0\n";
  ASSERT_TRUE(sheets.add(head + game, "gc.bound.toml"));
  EXPECT_EQ(on_another_card(sheets, save), "");
  const auto added = sheets.add(head + "bound-to-card = \"the sum at 40 is made with its serial\"\n" + game,
                                "gc.bound.toml");
  ASSERT_TRUE(added) << added.error().message;
  EXPECT_NE(on_another_card(sheets, save).find("made with its serial"), std::string::npos);
  EXPECT_EQ(on_another_card(sheets, made_save(CardKind::ps1, 1, 1, 1)), "");
}

// A note without a code, or without a maker, is free to the console.
TEST(SecondReading, ANoteWithoutAMakerIsFree) {
  const auto pak = make_card(CardKind::n64);
  const CardSave save = made_save(CardKind::n64, 1, 2, 1);
  ASSERT_TRUE(pak->put(save));
  const Blob before = pak->image();
  const auto note = std::search(before.view().begin(), before.view().end(), save.entry.view().begin(),
                                save.entry.view().begin() + 6);
  ASSERT_NE(note, before.view().end());
  for (const std::ptrdiff_t at : {0, 4}) {
    Image image = bytes_of(before);
    const auto from = image.begin() + (note - before.view().begin()) + at;
    std::fill(from, from + (at == 0 ? 4 : 2), Byte{0});
    const auto opened = open_card(Blob::copy_of(image));
    ASSERT_TRUE(opened);
    EXPECT_TRUE((*opened)->entries().empty());
  }
}

TEST(SecondReading, DiscsWithDemonstrationsHaveTheirRegionElsewhere) {
  EXPECT_EQ(region_of_code(Platform::ps1, "PEPX-00001"), Region::europe);
  EXPECT_EQ(region_of_code(Platform::ps1, "PUPX-00001"), Region::north_america);
  EXPECT_EQ(region_of_code(Platform::ps1, "PAPX-00001"), Region::japan);
  EXPECT_EQ(region_of_code(Platform::ps1, "SLPS-00001"), Region::japan);
}

}  // namespace
}  // namespace bayswap::test
