// What must hold for every kind of memory card. Walks the kinds, so that a new one needs a maker of saves and
// no more.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>
#include <bayswap/fs.hpp>

#include <map>

#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

// A save of so many blocks, as a game would have it.
CardSave made_save(CardKind kind, int number, std::size_t blocks, std::uint32_t seed) {
  CardSave save;
  save.kind = kind;
  switch (kind) {
    case CardKind::ps1: {
      std::vector<Byte> payload = bytes_of(noise(blocks * 8192, seed));
      const std::string head = "SC\x11" + std::string(1, static_cast<char>(blocks));
      std::copy(head.begin(), head.end(), payload.begin());
      const std::string title = "Saltglass " + std::to_string(number);
      std::fill_n(payload.begin() + 4, 64, Byte{0});
      std::copy(title.begin(), title.end(), payload.begin() + 4);
      std::vector<Byte> entry(128);
      entry[0] = 0x51;
      put_le(entry, 4, 4, payload.size());
      put_le(entry, 8, 2, 0xffff);
      save.name = "BESLPS-99001SALT" + std::to_string(number);
      std::copy(save.name.begin(), save.name.end(), entry.begin() + 10);
      for (std::size_t i = 0; i < 127; ++i) entry[127] ^= entry[i];
      save.entry = Blob::copy_of(entry);
      save.payload = Blob::copy_of(payload);
      save.title = title;
      break;
    }
    case CardKind::n64: {
      std::vector<Byte> entry(32);
      const std::string code = "N99P99";
      std::copy(code.begin(), code.end(), entry.begin());
      entry[8] = 0x02;
      save.title = "SKIFF";
      for (const int digit : {number / 10, number % 10}) save.title += static_cast<char>('0' + digit);
      for (std::size_t i = 0; i < save.title.size(); ++i)
        entry[16 + i] =
            static_cast<Byte>(save.title[i] >= 'A' ? save.title[i] - 'A' + 0x1a : save.title[i] - '0' + 0x10);
      save.name = "N99P." + save.title;
      save.entry = Blob::copy_of(entry);
      save.payload = noise(blocks * 256, seed);
      break;
    }
  }
  return save;
}

class EveryCard : public testing::TestWithParam<CardKind> {
 protected:
  static void expect_sound(const Card& card, const char* when) {
    for (const CardProblem& problem : card.check()) ADD_FAILURE() << when << ": " << problem.text;
  }
};

TEST_P(EveryCard, FilledToTheLastBlockAndCarriedToAnother) {
  const auto card = make_card(GetParam());
  expect_sound(*card, "fresh");
  EXPECT_TRUE(card->entries().empty());
  EXPECT_EQ(card->free_blocks(), card->capacity_blocks());
  // Saves of 1, 2, 3, ... blocks, the last one as large as what is left.
  std::vector<CardSave> saves;
  for (int number = 1; card->free_blocks() > 0 && number <= 16; ++number) {
    const std::size_t blocks =
        number == 16 ? card->free_blocks() : std::min(card->free_blocks(), static_cast<std::size_t>(number));
    saves.push_back(made_save(GetParam(), number, blocks, static_cast<std::uint32_t>(number)));
    ASSERT_TRUE(card->put(saves.back()));
    expect_sound(*card, "after a save went on it");
  }
  EXPECT_EQ(card->free_blocks(), 0U);
  const auto full = card->put(made_save(GetParam(), 50, 1, 1));
  ASSERT_FALSE(full);
  EXPECT_EQ(full.error().code, ErrorCode::does_not_fit);

  const auto listed = card->entries();
  ASSERT_EQ(listed.size(), saves.size());
  const auto other = make_card(GetParam());
  for (std::size_t i = 0; i < saves.size(); ++i) {
    EXPECT_EQ(listed[i].name, saves[i].name);
    EXPECT_EQ(listed[i].title, saves[i].title);
    EXPECT_EQ(listed[i].region, Region::europe);
    EXPECT_EQ(listed[i].state, CardEntry::State::good);
    EXPECT_EQ(listed[i].size_bytes, saves[i].payload.size());
    const auto taken = card->read(listed[i].name);
    ASSERT_TRUE(taken);
    const auto parcel = single_save_from(to_parcel(*taken));
    ASSERT_TRUE(parcel) << parcel.error().message;
    ASSERT_TRUE(other->put(*parcel));
    if (const auto single = to_single_save(*taken)) {
      const auto again = single_save_from(*single);
      ASSERT_TRUE(again);
      EXPECT_EQ(again->payload, taken->payload);
      EXPECT_EQ(again->name, taken->name);
    }
  }
  for (const CardSave& save : saves) EXPECT_EQ(other->read(save.name)->payload, save.payload);
  const auto opened = open_card(other->image());
  ASSERT_TRUE(opened);
  EXPECT_EQ((*opened)->kind(), GetParam());
  EXPECT_EQ((*opened)->entries().size(), saves.size());
}

TEST_P(EveryCard, AnyOrderOfChangesIsThatOfAPlainMap) {
  expect_property("put and drop against a map, sound after every step", [&] {
    auto card = make_card(GetParam());
    std::map<std::string, Blob> model;
    std::size_t used = 0;
    const int steps = *rc::gen::inRange(1, 25);
    for (int step = 0; step < steps; ++step) {
      const int number = *rc::gen::inRange(1, 8);
      const std::size_t blocks = *rc::gen::inRange<std::size_t>(1, card->capacity_blocks() / 3);
      const CardSave save = made_save(GetParam(), number, blocks, *rc::gen::arbitrary<std::uint32_t>());
      if (*rc::gen::inRange(0, 3) == 0) {
        const bool was_there = model.contains(save.name);
        if (was_there) used -= model[save.name].size() / card->block_bytes();
        RC_ASSERT(card->drop(save.name).has_value() == was_there);
        model.erase(save.name);
      } else {
        const bool fits = !model.contains(save.name) && used + blocks <= card->capacity_blocks();
        RC_ASSERT(card->put(save).has_value() == fits);
        if (fits) {
          model[save.name] = save.payload;
          used += blocks;
        }
      }
      RC_ASSERT(card->check().empty());
      RC_ASSERT(card->free_blocks() == card->capacity_blocks() - used);
      auto reopened = open_card(card->image());
      RC_ASSERT(reopened.has_value());
      card = *std::move(reopened);
      std::size_t good = 0;
      for (const CardEntry& entry : card->entries()) good += entry.state == CardEntry::State::good ? 1 : 0;
      RC_ASSERT(good == model.size());
      for (const auto& [name, payload] : model) RC_ASSERT(card->read(name)->payload == payload);
    }
  });
}

TEST_P(EveryCard, DamageIsNamedAndWhatCanBeMendedIs) {
  expect_property("any damage: no crash, no invented data, and repair makes nothing worse", [&] {
    const auto card = make_card(GetParam());
    std::map<std::string, Blob> saves;
    for (int number = 1; number <= 4; ++number) {
      const CardSave save =
          made_save(GetParam(), number, static_cast<std::size_t>(number), static_cast<std::uint32_t>(number));
      RC_ASSERT(card->put(save).has_value());
      saves[save.name] = save.payload;
    }
    std::vector<Byte> image = bytes_of(card->image());
    const auto hits = *rc::gen::inRange(1, 12);
    const std::size_t directory = GetParam() == CardKind::ps1 ? 8192 : 1280;
    for (int i = 0; i < hits; ++i)
      image[*rc::gen::inRange<std::size_t>(0, directory)] = *rc::gen::arbitrary<Byte>();
    const auto opened = open_card(Blob::copy_of(image));
    if (!opened) return;
    const std::size_t before = (*opened)->check().size();
    std::size_t mendable = 0;
    for (const CardProblem& problem : (*opened)->check()) {
      RC_ASSERT(!problem.text.empty() && problem.at < image.size());
      mendable += problem.mendable ? 1 : 0;
    }
    for (const CardEntry& entry : (*opened)->entries()) {
      const auto read = (*opened)->read(entry.name);
      // What is called good has the bytes of a save that was there.
      if (entry.state == CardEntry::State::good && saves.contains(entry.name) && read && before == 0)
        RC_ASSERT(read->payload == saves[entry.name]);
    }
    const std::size_t mended = (*opened)->repair();
    RC_ASSERT((*opened)->check().size() + mended == before);
    RC_ASSERT(mended <= before);
    for (const CardProblem& problem : (*opened)->check()) RC_ASSERT(!problem.mendable);
  });
}

TEST_P(EveryCard, AWrapperIsFoundAndKept) {
  const auto card = make_card(GetParam());
  ASSERT_TRUE(card->put(made_save(GetParam(), 1, 2, 1)));
  const Blob wrapped = joined({text_blob("a header of 64 bytes, whose origin nobody remembers, ends here. "),
                               card->image(), text_blob("and a trailer")});
  const auto opened = open_card(wrapped);
  ASSERT_TRUE(opened);
  EXPECT_EQ((*opened)->image(), wrapped);
  ASSERT_TRUE((*opened)->put(made_save(GetParam(), 2, 1, 2)));
  const Blob after = (*opened)->image();
  EXPECT_EQ(after.slice(0, 64), wrapped.slice(0, 64));
  EXPECT_EQ(text_of(after.slice(after.size() - 13, 13)), "and a trailer");
  EXPECT_EQ((*open_card(after))->entries().size(), 2U);
}

TEST_P(EveryCard, NamesThatAreNotThereAndNamesThatAre) {
  const auto card = make_card(GetParam());
  const CardSave save = made_save(GetParam(), 1, 1, 1);
  ASSERT_TRUE(card->put(save));
  EXPECT_EQ(card->put(save).error().code, ErrorCode::unsafe);
  const auto near = card->read(save.name + "X");
  ASSERT_FALSE(near);
  EXPECT_EQ(near.error().code, ErrorCode::bad_usage);
  EXPECT_NE(near.error().hint.find(save.name), std::string::npos);
  for (const CardKind kind : all_card_kinds())
    EXPECT_EQ(card->put(made_save(kind, 2, 1, 1)).has_value(), kind == GetParam()) << to_text(kind);
}

INSTANTIATE_TEST_SUITE_P(Kinds, EveryCard, testing::ValuesIn(all_card_kinds()),
                         [](const auto& row) { return std::string(to_text(row.param)); });

TEST(Ps1Card, DeletedSavesStayReadableUntilTheirBlocksAreTaken) {
  const auto card = make_card(CardKind::ps1);
  const CardSave save = made_save(CardKind::ps1, 1, 3, 1);
  ASSERT_TRUE(card->put(save));
  ASSERT_TRUE(card->drop(save.name));
  ASSERT_EQ(card->entries().size(), 1U);
  EXPECT_EQ(card->entries()[0].state, CardEntry::State::deleted);
  ASSERT_TRUE(card->put(made_save(CardKind::ps1, 2, 12, 2))) << "blocks that were never used go first";
  EXPECT_EQ(card->entries()[0].state, CardEntry::State::deleted);
  ASSERT_TRUE(card->put(made_save(CardKind::ps1, 3, 1, 3)));
  EXPECT_EQ(card->entries().size(), 2U) << "now it is gone";
}

TEST(Ps1Card, AFreshOneIsAsALiveCoreFormatsIt) {
  const auto file = LocalStore().read(std::string(BAYSWAP_SOURCE_DIR) +
                                      "/../shared/fixtures/ps1/ps1-card/coreR/N/card1.mcd");
  if (!file) GTEST_SKIP() << file.error().message;
  std::vector<Byte> theirs = bytes_of(*file);
  const std::vector<Byte> ours = bytes_of(make_card(CardKind::ps1)->image());
  // The console leaves the mark in the frame it tests writing with; that core leaves it blank.
  std::copy_n(ours.begin() + 63 * 128, 128, theirs.begin() + 63 * 128);
  EXPECT_EQ(Blob::copy_of(ours), Blob::copy_of(theirs));
}

TEST(Parcel, ABrokenOneIsNamed) {
  const Blob parcel = to_parcel(made_save(CardKind::ps1, 1, 1, 1));
  expect_property("cut or changed anywhere it is refused, or says the same", [&] {
    std::vector<Byte> bytes = bytes_of(parcel);
    if (*rc::gen::arbitrary<bool>()) {
      bytes.resize(*rc::gen::inRange<std::size_t>(0, bytes.size()));
    } else {
      bytes[*rc::gen::inRange<std::size_t>(0, bytes.size())] ^=
          static_cast<Byte>(1 + *rc::gen::inRange(0, 255));
    }
    const auto save = single_save_from(Blob::copy_of(bytes));
    if (save) RC_ASSERT(save->payload == made_save(CardKind::ps1, 1, 1, 1).payload);
    if (!save) RC_ASSERT(!save.error().message.empty());
  });
}

}  // namespace
}  // namespace bayswap::test
