// Whole-file compression, padding, and ends that are missing.
#include <gtest/gtest.h>
#include <bayswap/fs.hpp>
#include <bayswap/layout.hpp>

#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

constexpr Compression kinds[] = {Compression::gzip, Compression::zlib, Compression::chunks};

TEST(Compression, ReadThroughAndWrittenBackTheSameWay) {
  expect_property("unwrap(wrap(x)) == x, and what is unchanged keeps its bytes", [] {
    const Compression kind =
        *rc::gen::elementOf(std::vector<Compression>(std::begin(kinds), std::end(kinds)));
    const Blob plain = arbitrary_bytes(*rc::gen::inRange<std::size_t>(1, 300000));
    const Blob file = wrap(kind, plain);
    const auto read = unwrap(file);
    RC_ASSERT(read.has_value());
    RC_ASSERT(read->kind == kind);
    RC_ASSERT(read->plain == plain);
    RC_ASSERT(wrap(*read, plain) == file);
    const Blob other = arbitrary_bytes(plain.size());
    const auto again = unwrap(wrap(*read, other));
    RC_ASSERT(again->kind == kind);
    RC_ASSERT(again->plain == other);
  });
}

TEST(Compression, BrokenStreamsAreNamedAndNoneIsCutShortInSilence) {
  expect_property("a file cut anywhere is an error or plain bytes, never half a save", [] {
    const Compression kind =
        *rc::gen::elementOf(std::vector<Compression>(std::begin(kinds), std::end(kinds)));
    const Blob file = wrap(kind, noise(5000, 1));
    const Blob cut = file.slice(0, *rc::gen::inRange<std::size_t>(0, file.size()));
    const auto read = unwrap(cut);
    if (read) RC_ASSERT(read->kind == Compression::none && read->plain == cut);
    if (!read) RC_ASSERT(!read.error().hint.empty());
  });
  const auto bomb = unwrap(wrap(Compression::gzip, Blob::filled((std::size_t{64} << 20) + 1, 0)));
  ASSERT_FALSE(bomb);
  EXPECT_EQ(bomb.error().code, ErrorCode::does_not_fit);
  EXPECT_FALSE(unwrap(joined({wrap(Compression::gzip, noise(100, 1)), text_blob("more")})));
}

TEST(Compression, GzipHeadsAreKept) {
  const Blob named =
      joined({Blob::copy_of(std::vector<Byte>{0x1f, 0x8b, 8, 8, 1, 2, 3, 4, 2, 3}), text_blob("tern.sav"),
              Blob::filled(1, 0), wrap(Compression::gzip, noise(4000, 2)).slice(10, 5000)});
  const auto read = unwrap(named);
  ASSERT_TRUE(read);
  EXPECT_EQ(read->plain, noise(4000, 2));
  EXPECT_EQ(wrap(*read, noise(4000, 3)).slice(0, 19), named.slice(0, 19));
}

// Files that live cores wrote (tests/data).
Blob data(const std::string& name) {
  const auto file = LocalStore().read(BAYSWAP_SOURCE_DIR "/tests/data/" + name);
  EXPECT_TRUE(file) << name;
  return file ? *file : Blob();
}

TEST(Compression, ChunksOfALiveCore) {
  const Blob file = data("chunks-a.srm");
  const auto read = unwrap(file);
  ASSERT_TRUE(read);
  EXPECT_EQ(read->kind, Compression::chunks);
  EXPECT_EQ(read->plain, pattern(32768, 0x31));
  EXPECT_EQ(wrap(Compression::chunks, read->plain).slice(0, 20), file.slice(0, 20))
      << "the same head from nothing";
  EXPECT_EQ(wrap(*read, read->plain), file);
}

TEST(LiveFiles, HalfBytesInAllTheirForms) {
  const Catalog catalog;
  const auto one = open_save(layout(catalog, "gb.nibbles"), data("half-bytes-a.sav"));
  const auto two = open_save(layout(catalog, "gb.nibbles-packed"), data("half-bytes-packed-a.srm"));
  ASSERT_TRUE(one && two);
  EXPECT_EQ(one->save.parts.front().bytes, two->save.parts.front().bytes);
  EXPECT_EQ(*pack(layout(catalog, "gb.nibbles-packed"), one->save), data("half-bytes-packed-a.srm"));
  const Blob own = data("half-bytes-a.sav");
  EXPECT_EQ(*pack(layout(catalog, "gb.nibbles"), two->save, &own), own)
      << "upper halves are the target's own";
  const Blob large = *pack(layout(catalog, "gb.nibbles-8k"), two->save);
  EXPECT_EQ(large.slice(512, 8192), Blob::filled(7680, 0xff));
}

TEST(LiveFiles, ClocksAndFormattedMemoriesAreTold) {
  const Catalog catalog;
  const auto told = [&](const std::string& name, const std::string& id) {
    const Recognition found = recognise(catalog, data(name), {});
    ASSERT_FALSE(found.matches.empty()) << name;
    EXPECT_EQ(found.matches.front().layout->id, id);
    EXPECT_FALSE(found.either());
  };
  told("clock-48-a.rtc", "gb.clock48");
  told("clock-8-a.rtc", "gb.clock8");
  told("pce-fresh.srm", "pce.raw");
}

// ---- Padding and early ends ------------------------------------------------------------------------------

TEST(Fit, PaddingIsCutOffAndPutBack) {
  const Catalog catalog;
  const Layout& sram = layout(catalog, "gba.sram");
  for (const Byte pad : {Byte{0x00}, Byte{0xff}}) {
    const Blob padded = joined({noise(32768, 1), Blob::filled(32768, pad)});
    const auto opened = open_save(sram, padded);
    ASSERT_TRUE(opened);
    EXPECT_EQ(opened->fitted.fit, Fit::padded);
    EXPECT_EQ(opened->save.parts.front().bytes, noise(32768, 1));
    ConvertRequest request;
    request.inputs = {{Platform::gba, {{{PartKind::sram, 0}, noise(32768, 2), true}}}};
    request.to = &sram;
    request.base = &padded;
    const auto converted = convert(catalog, request);
    ASSERT_TRUE(converted);
    EXPECT_EQ(converted->files.front().bytes, joined({noise(32768, 2), Blob::filled(32768, pad)}));
  }
  EXPECT_FALSE(open_save(sram, noise(65536, 1))) << "data behind the chip is no padding";
}

TEST(Fit, AnEarlyEndIsFilledUpOnlyForAChipThatIsKnown) {
  const Catalog catalog;
  const Layout& sram = layout(catalog, "gba.sram");
  EXPECT_FALSE(open_save(sram, noise(20000, 1)));
  const auto opened = open_save(sram, noise(20000, 1), {{PartKind::sram, 32768, ""}});
  ASSERT_TRUE(opened);
  EXPECT_EQ(opened->fitted.fit, Fit::trimmed);
  EXPECT_EQ(opened->fitted.missing, 12768U);
  EXPECT_EQ(opened->save.parts.front().bytes, joined({noise(20000, 1), Blob::filled(12768, 0xff)}));
}

TEST(Fit, TrimmedAndPaddedFilesComeBackToTheChip) {
  const Catalog catalog;
  expect_property("for every layout and a known chip", [&] {
    const auto layouts = catalog.all();
    const Layout& any = **rc::gen::elementOf(layouts);
    if (any.is_set() || any.slots.size() != 1 || !any.fields.empty() ||
        any.slots.front().encoding != Encoding::plain || any.slots.front().role.kind == PartKind::pak ||
        any.slots.front().role.kind == PartKind::rtc || any.size != 0)
      return;
    const Slot& slot = any.slots.front();
    const std::size_t size = *rc::gen::elementOf(any.file_sizes());
    if (size > 200000) return;
    const std::size_t chip_size = slot.part_size(size);
    // Data, and blank from somewhere on.
    const std::size_t data = *rc::gen::inRange<std::size_t>(chip_size / 2, chip_size);
    const Blob chip = joined({noise(data, 3), Blob::filled(chip_size - data, 0xff)});
    const Blob file = *pack(any, Save{any.platform, {{slot.role, chip, true}}});
    const std::vector<ChipFact> known{{slot.role.kind, chip_size, ""}};
    const bool spread = slot.interleave != Interleave::none;
    const std::size_t kept = slot.file_size((data + 7) / 8 * 8);
    const auto sizes = any.file_sizes();
    if (!spread && kept < size && std::find(sizes.begin(), sizes.end(), kept) == sizes.end()) {
      const auto trimmed = open_save(any, file.slice(0, kept), known);
      RC_ASSERT(trimmed.has_value() && trimmed->save.parts.front().bytes == chip);
    }
    const auto padded = open_save(any, joined({file, Blob::filled(size, 0x00)}), known);
    RC_ASSERT(padded.has_value());
    ConvertRequest request;
    request.inputs = {padded->save};
    request.to = &any;
    request.chips = known;
    const auto back = convert(catalog, request);
    RC_ASSERT(back.has_value());
    RC_ASSERT(back->files.front().bytes == file);
  });
}

}  // namespace
}  // namespace bayswap::test
