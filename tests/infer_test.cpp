// Learning layouts from pairs, and placing saves in forms that nobody has described.
#include <gtest/gtest.h>
#include <bayswap/infer.hpp>

#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

// A form that no layout describes, made up from dice.
struct WordForm {
  std::size_t word = 1;  // bytes of a reversed word
  int spread = 0;        // 0: none, 1: odd addresses, 2: even ones
  int filler = 0;        // 0: 00, 1: FF, 2: the same byte
  std::string header;
  std::string trailer;
  std::size_t padding = 0;
  Byte pad = 0xff;
  Compression stream = Compression::none;
};

std::ostream& operator<<(std::ostream& out, const WordForm& form) {
  return out << "words of " << form.word << ", spread " << form.spread << ", filler " << form.filler
             << ", header " << form.header.size() << ", trailer " << form.trailer.size() << ", padding "
             << form.padding << " of " << int{form.pad} << ", " << to_text(form.stream);
}

rc::Gen<WordForm> arbitrary_form() {
  return rc::gen::exec([] {
    WordForm form;
    form.word = *rc::gen::element<std::size_t>(1, 2, 4, 8);
    form.spread = *rc::gen::inRange(0, 3);
    form.filler = *rc::gen::inRange(0, 3);
    form.header = *rc::gen::element<std::string>("", "HEADER v1 ", "\x01\x02\x03", std::string(64, 'h'));
    form.trailer = *rc::gen::element<std::string>("", "the end", std::string(16, '\0') + "0123456789abcdef");
    form.padding = *rc::gen::element<std::size_t>(0, 0, 1000, 32768);
    form.pad = *rc::gen::element<Byte>(0x00, 0xff);
    form.stream =
        *rc::gen::element(Compression::none, Compression::none, Compression::gzip, Compression::zlib);
    return form;
  });
}

// By the definition, apart from the library's own way of doing it.
Blob dressed(const WordForm& form, const Blob& chip) {
  const std::vector<Byte> in = bytes_of(chip);
  std::vector<Byte> turned(in.size());
  for (std::size_t i = 0; i < in.size(); ++i) turned[i] = in[i ^ (form.word - 1)];
  std::vector<Byte> out;
  for (const Byte b : turned) {
    const Byte beside = form.filler == 0 ? Byte{0x00} : form.filler == 1 ? Byte{0xff} : b;
    if (form.spread == 1) out.push_back(beside);
    out.push_back(b);
    if (form.spread == 2) out.push_back(beside);
  }
  Blob file = joined({text_blob(form.header), Blob::copy_of(out), Blob::filled(form.padding, form.pad),
                      text_blob(form.trailer)});
  if (form.stream != Compression::none)
    file = joined({text_blob("box:"), wrap(form.stream, file), text_blob(":box")});
  return file;
}

Save gba_sram(const Blob& chip) {
  return {Platform::gba, {{{PartKind::sram, 0}, chip, true}}};
}

Blob into(const Layout& layout, const Save& save, const Blob* base = nullptr) {
  const Catalog catalog;
  ConvertRequest request;
  request.inputs = {save};
  request.to = &layout;
  request.base = base;
  const auto converted = convert(catalog, request);
  EXPECT_TRUE(converted) << converted.error().message;
  return converted ? converted->files.front().bytes : Blob();
}

TEST(Infer, WhateverTheFormItIsLearnedFromPairs) {
  expect_property("what was learned from two saves dresses a third one", [] {
    const WordForm form = *arbitrary_form();
    const std::size_t size = *rc::gen::element<std::size_t>(512, 8192, 32768);
    const auto seed = *rc::gen::inRange<std::uint32_t>(0, 1000);
    std::vector<Example> examples;
    for (std::uint32_t i = 0; i < 2; ++i) {
      const Blob chip = noise(size, seed + i);
      examples.push_back({gba_sram(chip), dressed(form, chip)});
    }
    const auto learned = infer(examples, "gba.learned");
    RC_ASSERT(learned.has_value());
    const Save third = gba_sram(noise(size, seed + 2));
    const Blob wanted = dressed(form, third.parts.front().bytes);
    RC_ASSERT(into(learned->layout, third, &examples.front().file) == wanted);
    RC_ASSERT(into(learned->layout, third) == wanted);
    RC_ASSERT(open_save(learned->layout, wanted)->save.parts.front().bytes == third.parts.front().bytes);
    const auto again = parse_layout(to_toml(learned->layout), "again");
    RC_ASSERT(into(*again, third) == wanted);
  });
}

TEST(Infer, SeveralPartsInARow) {
  const Catalog catalog;
  const Save save{Platform::n64,
                  {{{PartKind::eeprom, 0}, noise(2048, 1), false},
                   {{PartKind::sram, 0}, noise(32768, 2), true},
                   {{PartKind::flash, 0}, Blob::filled(131072, 0xff), true}}};
  const Blob file = joined({text_blob("TWO "), words_reversed(noise(32768, 2)), noise(2048, 1)});
  const auto learned = infer({{save, file}}, "n64.two");
  ASSERT_TRUE(learned) << learned.error().message;
  ASSERT_EQ(learned->layout.slots.size(), 2U);
  EXPECT_EQ(learned->layout.slots[0].order, ByteOrder::swap32);
  EXPECT_EQ(learned->layout.slots[1].at, 4U + 32768);
  bool names_flash = false;
  for (const std::string& open : learned->open) names_flash = names_flash || open.find("flash is blank") == 0;
  EXPECT_TRUE(names_flash) << "where a blank part goes can't be known";
}

TEST(Infer, ASecondPairTellsWhatChanges) {
  const auto file = [](std::uint32_t seed, std::string_view stamp) {
    return joined({text_blob("MARK"), text_blob(stamp), noise(8192, seed)});
  };
  const auto one = infer({{gba_sram(noise(8192, 1)), file(1, "abcd")}}, "gba.stamp");
  ASSERT_TRUE(one);
  ASSERT_EQ(one->open.size(), 1U);
  EXPECT_NE(one->open[0].find("second pair"), std::string::npos);
  EXPECT_EQ(one->guessed_bytes, 0U);
  const auto two =
      infer({{gba_sram(noise(8192, 1)), file(1, "abcd")}, {gba_sram(noise(8192, 2)), file(2, "wxyz")}},
            "gba.stamp");
  ASSERT_TRUE(two);
  EXPECT_EQ(two->guessed_bytes, 4U);
  ASSERT_EQ(two->layout.fields.size(), 2U);
  EXPECT_EQ(two->layout.fields[0].bytes, bytes_of(text_blob("MARK")));
  EXPECT_EQ(two->layout.fields[1].unknown_bytes, 4U);
  const Blob base = file(3, "1234");
  EXPECT_EQ(into(two->layout, gba_sram(noise(8192, 4)), &base), file(4, "1234"));
}

TEST(Infer, ChipsOfSeveralSizesAndTheSizeInTheTrailer) {
  const auto file = [](std::size_t size, std::uint32_t seed) {
    std::vector<Byte> number(4);
    for (std::size_t i = 0; i < 4; ++i) number[i] = static_cast<Byte>(size >> (8 * i));
    return joined({text_blob("H"), noise(size, seed), text_blob("size:"), Blob::copy_of(number)});
  };
  const auto learned = infer(
      {{gba_sram(noise(8192, 1)), file(8192, 1)}, {gba_sram(noise(32768, 2)), file(32768, 2)}}, "gba.sized");
  ASSERT_TRUE(learned) << learned.error().message;
  EXPECT_EQ(learned->layout.file_sizes(), (std::vector<std::size_t>{8192 + 10, 32768 + 10}));
  EXPECT_EQ(into(learned->layout, gba_sram(noise(8192, 3))), file(8192, 3));
  EXPECT_EQ(into(learned->layout, gba_sram(noise(32768, 4))), file(32768, 4));
}

TEST(Infer, OtherSavesAndBlankOnesAreRefusedWithReasons) {
  const Save save = gba_sram(noise(8192, 1));
  std::vector<Byte> nearly = bytes_of(noise(8192, 1));
  nearly[100] ^= 1;
  const auto near = infer({{save, Blob::copy_of(nearly)}}, "gba.x");
  ASSERT_FALSE(near);
  EXPECT_EQ(near.error().code, ErrorCode::not_recognised);
  EXPECT_NE(
      near.error().message.find("8191 of 8192 bytes of sram are the same, the first other one is byte 100"),
      std::string::npos)
      << near.error().message;
  EXPECT_FALSE(infer({{save, noise(8192, 2)}}, "gba.x"));
  EXPECT_FALSE(infer({{save, Blob()}}, "gba.x"));
  EXPECT_EQ(infer({{gba_sram(Blob::filled(8192, 0)), Blob::filled(8192, 0)}}, "gba.x").error().code,
            ErrorCode::bad_usage);
  EXPECT_EQ(infer({}, "gba.x").error().code, ErrorCode::bad_usage);
  const auto mixed =
      infer({{save, noise(8192, 1)}, {gba_sram(noise(8192, 2)), words_reversed(noise(8192, 2))}}, "gba.x");
  EXPECT_FALSE(mixed) << "two forms at once";
}

// ---- A base of unknown form -----------------------------------------------------------------------------

// Two saves of one game: tables alike, a third of the bytes moved on.
Blob game_save(std::size_t size, std::uint32_t seed) {
  std::vector<Byte> bytes = bytes_of(noise(size, 77));
  std::mt19937 dice(seed);
  for (std::size_t i = 0; i < size / 3; ++i) bytes[dice() % size] = static_cast<Byte>(dice());
  return Blob::copy_of(bytes);
}

TEST(Graft, AWrapperOfUnknownOriginIsKept) {
  const Catalog catalog;
  expect_property("the save goes where the old one was", [&] {
    const std::size_t size = *rc::gen::element<std::size_t>(8192, 32768);
    const std::size_t head = *rc::gen::inRange<std::size_t>(0, 300);
    const std::size_t tail = *rc::gen::inRange<std::size_t>(head == 0 ? 1 : 0, 300);
    const bool turned = *rc::gen::arbitrary<bool>();
    const auto file = [&](const Blob& chip) {
      return joined({noise(head, 5), turned ? words_reversed(chip) : chip, noise(tail, 6)});
    };
    const Blob base = file(game_save(size, 1));
    const Save fresh{Platform::snes, {{{PartKind::sram, 0}, game_save(size, 2), true}}};
    const auto form = detect_layout(catalog, {fresh}, base);
    RC_ASSERT(form.has_value());
    RC_ASSERT(into(form->layout, fresh, &base) == file(game_save(size, 2)));
  });
}

TEST(Graft, TablesWhoseValuesHaveAllMovedStillShowTheirPlace) {
  const Catalog catalog;
  for (const std::size_t head : {std::size_t{16}, std::size_t{105}, std::size_t{256}, std::size_t{512}}) {
    const Blob base = joined({Blob::filled(head, 0x20), pattern(32768, 0x52)});
    const Save fresh{Platform::snes, {{{PartKind::sram, 0}, pattern(32768, 0x31), true}}};
    const auto form = detect_layout(catalog, {fresh}, base);
    ASSERT_TRUE(form) << head << form.error().message;
    EXPECT_EQ(into(form->layout, fresh, &base), joined({Blob::filled(head, 0x20), pattern(32768, 0x31)}))
        << head;
  }
}

TEST(Graft, AFreshFileShowsItsWrapperOrItIsRefused) {
  const Catalog catalog;
  const Save save{Platform::snes, {{{PartKind::sram, 0}, noise(8192, 1), true}}};
  const Blob fresh = joined({noise(32, 2), Blob::filled(8192, 0)});
  const auto form = detect_layout(catalog, {save}, fresh);
  ASSERT_TRUE(form) << form.error().message;
  EXPECT_EQ(form->layout.slots.front().at, 32U);
  const auto refused = detect_layout(catalog, {save}, noise(8192 + 32, 3));
  ASSERT_FALSE(refused) << "nothing tells which end the 32 bytes are at";
  EXPECT_EQ(refused.error().code, ErrorCode::not_recognised);
  EXPECT_EQ(refused.error().remedy.kind, Remedy::Kind::target_layout);
}

TEST(Graft, OfTheFormsThatAreKnownTheBasesOwn) {
  const Catalog catalog;
  const Save save{Platform::md, {{{PartKind::sram, 0}, game_save(8192, 1), true}}};
  const Save old{Platform::md, {{{PartKind::sram, 0}, game_save(8192, 2), true}}};
  for (const char* id :
       {"md.packed", "md.swapped", "md.spread-00", "md.spread-ff", "md.doubled", "md.even-ff"}) {
    const Blob base = *pack(layout(catalog, id), old);
    const auto form = detect_layout(catalog, {save}, base);
    ASSERT_TRUE(form) << id;
    EXPECT_EQ(form->layout.id, id);
    const Blob boxed = wrap(Compression::chunks, base);
    const auto inside = detect_layout(catalog, {save}, boxed);
    ASSERT_TRUE(inside) << id;
    const Blob grafted = into(inside->layout, save, &boxed);
    EXPECT_EQ(unwrap(grafted)->kind, Compression::chunks) << "written back as the target has it";
    EXPECT_EQ(unwrap(grafted)->plain, *pack(layout(catalog, id), save));
  }
}

}  // namespace
}  // namespace bayswap::test
