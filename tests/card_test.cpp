// What must hold for every kind of memory card. Walks the kinds, so that a new one needs a maker of saves and
// no more.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>
#include <bayswap/fs.hpp>

#include <algorithm>
#include <map>

#include "card/kinds.hpp"
#include "support/builders.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

// The usual card, but ps2 without spare bytes: those have tests of their own.
std::unique_ptr<Card> fresh_card(CardKind kind) {
  NewCardOptions options;
  if (kind == CardKind::ps2) options.form = "plain";
  return std::move(*make_card(kind, options));
}

// The sanitizers' builds are slow, and so are cards of megabytes.
int card_examples(CardKind kind, int wanted) {
  const bool large = kind == CardKind::ps2 || kind == CardKind::gc;
#ifdef BAYSWAP_SANITIZED
  return std::max(3, wanted / (large ? 40 : 4));
#else
  return large && wanted <= 100 ? wanted / 4 : wanted;
#endif
}

class EveryCard : public testing::TestWithParam<CardKind> {
 protected:
  static void expect_sound(const Card& card, const char* when) {
    for (const CardProblem& problem : card.check()) ADD_FAILURE() << when << ": " << problem.text;
  }
};

// A few comparisons stand before the score at thousands of places: they must never hide a card that shows its
// mark.
TEST_P(EveryCard, WhatHasAScoreIsPromising) {
  const CardFormat& format = card_format(GetParam());
  expect_property_of(card_examples(GetParam(), 200), "a score over the weak one is promising", [&] {
    const Blob fresh = make_card(GetParam())->image();
    std::vector<Byte> image = bytes_of(fresh);
    const int hits = *rc::gen::inRange(0, 40);
    for (int i = 0; i < hits; ++i)
      image[*rc::gen::inRange<std::size_t>(0, std::min<std::size_t>(image.size(), 65536))] =
          *rc::gen::arbitrary<Byte>();
    std::string evidence;
    if (format.promising == nullptr || format.score(image, evidence) <= weak_score) return;
    RC_ASSERT(format.promising(image) || evidence.starts_with("no mark") ||
              evidence.find("its end is wrong") != std::string::npos);
    // Without it a card is one only where nothing else is around it.
    const auto alone = guess_card(image);
    RC_ASSERT(alone && alone->kind == GetParam());
    image.insert(image.end(), 32, Byte{0x21});
    const auto inside = guess_card(image);
    RC_ASSERT((inside && inside->kind == GetParam()) ==
              format.promising(ByteView(image).first(fresh.size())));
  });
}

TEST_P(EveryCard, FilledToTheLastBlockAndCarriedToAnother) {
  const auto card = fresh_card(GetParam());
  expect_sound(*card, "fresh");
  EXPECT_TRUE(card->entries().empty());
  EXPECT_EQ(card->free_blocks(), card->capacity_blocks());
  // Saves of 1, 2, 3, ... blocks more than the least, the last one as large as what is left.
  std::vector<CardSave> saves;
  const std::size_t least = least_blocks(GetParam());
  for (int number = 1; card->free_blocks() > 0 && number <= 16; ++number) {
    std::size_t blocks = least + static_cast<std::size_t>(number) - 1;
    if (number == 16 || card->free_blocks() < 2 * least + blocks) blocks = card->free_blocks();
    const auto seed = static_cast<std::uint32_t>(number);
    saves.push_back(made_save(GetParam(), number, blocks, seed));
    // A directory that must grow takes some of it.
    if (const std::size_t takes = card->blocks_for(saves.back());
        takes > blocks && blocks == card->free_blocks())
      saves.back() = made_save(GetParam(), number, 2 * blocks - takes, seed);
    const std::size_t before = card->free_blocks();
    const std::size_t takes = card->blocks_for(saves.back());
    const auto put = card->put(saves.back());
    ASSERT_TRUE(put) << put.error().message;
    EXPECT_EQ(card->free_blocks(), before - takes);
    expect_sound(*card, "after a save went on it");
  }
  EXPECT_EQ(card->free_blocks(), 0U);
  const auto full = card->put(made_save(GetParam(), 50, least, 1));
  ASSERT_FALSE(full);
  EXPECT_EQ(full.error().code, ErrorCode::does_not_fit);

  const auto listed = card->entries();
  ASSERT_EQ(listed.size(), saves.size());
  const auto other = fresh_card(GetParam());
  for (std::size_t i = 0; i < saves.size(); ++i) {
    EXPECT_EQ(listed[i].name, saves[i].name);
    EXPECT_EQ(listed[i].title, saves[i].title);
    EXPECT_EQ(listed[i].region, made_region(GetParam()));
    EXPECT_EQ(listed[i].state, CardEntry::State::good);
    EXPECT_EQ(listed[i].size_bytes, saves[i].size_bytes());
    const auto taken = card->read(listed[i].name);
    ASSERT_TRUE(taken);
    const auto parcel = single_save_from(to_parcel(*taken));
    ASSERT_TRUE(parcel) << parcel.error().message;
    EXPECT_EQ(parcel->title, taken->title);
    ASSERT_TRUE(other->put(*parcel));
    if (const auto single = to_single_save(*taken)) {
      const auto again = single_save_from(*single);
      ASSERT_TRUE(again);
      EXPECT_TRUE(again->same_content(*taken));
      EXPECT_EQ(again->name, taken->name);
    }
  }
  for (const CardSave& save : saves) EXPECT_TRUE(other->read(save.name)->same_content(save));
  const auto opened = open_card(other->image());
  ASSERT_TRUE(opened);
  EXPECT_EQ((*opened)->kind(), GetParam());
  EXPECT_EQ((*opened)->entries().size(), saves.size());
}

TEST_P(EveryCard, AnyOrderOfChangesIsThatOfAPlainMap) {
  expect_property_of(card_examples(GetParam(), 100), "put and drop against a map, sound after every step",
                     [&] {
                       auto card = fresh_card(GetParam());
                       const bool large = card->image().size() > (std::size_t{1} << 20);
                       std::map<std::string, CardSave> model;
                       const int steps = *rc::gen::inRange(1, large ? 6 : 20);
                       const std::size_t least = least_blocks(GetParam());
                       for (int step = 0; step < steps; ++step) {
                         const int number = *rc::gen::inRange(1, 8);
                         const std::size_t most = large ? 60 : card->capacity_blocks() / 3;
                         const CardSave save = made_save(GetParam(), number, *rc::gen::inRange(least, most),
                                                         *rc::gen::arbitrary<std::uint32_t>());
                         const std::size_t free = card->free_blocks();
                         if (*rc::gen::inRange(0, 3) == 0) {
                           const bool was_there = model.erase(save.name) > 0;
                           RC_ASSERT(card->drop(save.name).has_value() == was_there);
                           RC_ASSERT((card->free_blocks() > free) == was_there);
                         } else {
                           const std::size_t takes = card->blocks_for(save);
                           const bool fits = !model.contains(save.name) && takes <= free;
                           RC_ASSERT(card->put(save).has_value() == fits);
                           if (fits) model[save.name] = save;
                           RC_ASSERT(card->free_blocks() == free - (fits ? takes : 0));
                         }
                         RC_ASSERT(card->check().empty());
                         auto reopened = open_card(card->image());
                         RC_ASSERT(reopened.has_value());
                         card = *std::move(reopened);
                         std::size_t good = 0;
                         for (const CardEntry& entry : card->entries())
                           good += entry.state == CardEntry::State::good ? 1 : 0;
                         RC_ASSERT(good == model.size());
                         for (const auto& [name, save_there] : model)
                           RC_ASSERT(card->read(name)->same_content(save_there));
                       }
                     });
}

TEST_P(EveryCard, DamageIsNamedAndWhatCanBeMendedIs) {
  expect_property_of(
      card_examples(GetParam(), 100), "any damage: no crash, and repair leaves nothing that can be mended",
      [&] {
        const auto card = fresh_card(GetParam());
        for (int number = 1; number <= 4; ++number)
          RC_ASSERT(card->put(made_save(GetParam(), number,
                                        least_blocks(GetParam()) + static_cast<std::size_t>(number), 1))
                        .has_value());
        std::vector<Byte> image = bytes_of(card->image());
        const auto [from, to] = directory_of(GetParam());
        const auto hits = *rc::gen::inRange(1, 12);
        for (int i = 0; i < hits; ++i)
          image[*rc::gen::inRange<std::size_t>(from, to)] = *rc::gen::arbitrary<Byte>();
        const auto opened = open_card(Blob::copy_of(image));
        if (!opened) return;
        const std::size_t before = (*opened)->check().size();
        for (const CardProblem& problem : (*opened)->check())
          RC_ASSERT(!problem.text.empty() && problem.at < image.size());
        for (const CardEntry& entry : (*opened)->entries()) (void)(*opened)->read(entry.name);
        RC_ASSERT((*opened)->repair() <= before);
        RC_ASSERT((*opened)->check().size() <= before);
        for (const CardProblem& problem : (*opened)->check()) RC_ASSERT(!problem.repairable);
      });
}

TEST_P(EveryCard, RescueBringsBackWhatIsIntact) {
  expect_property_of(
      card_examples(GetParam(), 200), "saves whose bytes and entries were not hit come back as they were",
      [&] {
        auto card = fresh_card(GetParam());
        std::map<std::string, CardSave> saves;
        const std::size_t least = least_blocks(GetParam());
        const bool scattered = *rc::gen::arbitrary<bool>();
        for (int number = 1; number <= 7; ++number) {
          const CardSave save = made_save(GetParam(), number, *rc::gen::inRange(least, least + 2),
                                          static_cast<std::uint32_t>(number));
          RC_ASSERT(card->put(save).has_value());
          saves[save.name] = save;
        }
        if (scattered) {
          for (const char* const name : {"2", "4"})
            for (auto at = saves.begin(); at != saves.end();)
              at = at->first.ends_with(name) && card->drop(at->first) ? saves.erase(at) : std::next(at);
          const CardSave last = made_save(GetParam(), 8, least + 3, 8);
          if (card->put(last)) saves[last.name] = last;
        }
        const Blob sound = card->image();
        std::vector<Byte> image = bytes_of(sound);
        const auto [from, to] = directory_of(GetParam());
        switch (*rc::gen::inRange(0, 4)) {
          case 0:  // a few bytes of the directory
            for (int i = *rc::gen::inRange(1, 10); i > 0; --i)
              image[*rc::gen::inRange(from, to)] = *rc::gen::arbitrary<Byte>();
            break;
          case 1:  // a hole anywhere
          {
            const std::size_t at = *rc::gen::inRange<std::size_t>(0, image.size());
            const std::size_t size = *rc::gen::inRange<std::size_t>(1, image.size() / 4);
            std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(at), std::min(size, image.size() - at),
                        *rc::gen::element(Byte{0}, Byte{0xff}));
            break;
          }
          case 2:  // the start of the header
            std::fill_n(image.begin(), 64, Byte{0});
            break;
          default:  // the end is missing
            image.resize(image.size() - *rc::gen::inRange<std::size_t>(1, image.size() / 2));
            break;
        }
        const auto hit = [&](const std::vector<Range>& ranges) {
          for (const auto& [begin, end] : ranges)
            for (std::size_t i = begin; i < end; ++i)
              if (i >= image.size() || image[i] != sound.view()[i]) return true;
          return false;
        };
        std::vector<CardSave> intact;
        for (const auto& [name, save] : saves)
          if (!hit(places_of(*card, sound, save)) &&
              ((!scattered && GetParam() != CardKind::n64) || !hit(links_of(*card, save))))
            intact.push_back(save);
        const auto rescue = rescue_card(Blob::copy_of(image), GetParam());
        RC_ASSERT(rescue.has_value());
        RC_ASSERT(rescue->card->check().empty());
        for (const CardSave& save : intact) {
          const bool back = std::ranges::any_of(rescue->saves, [&](const FoundSave& found) {
            return found.save.name == save.name && found.save.same_content(save);
          });
          if (!back) RC_LOG() << save.name << " is not back";
          RC_ASSERT(back);
          const auto on_card = rescue->card->read(save.name);
          RC_ASSERT(on_card.has_value());
        }
        // Nothing is made up: what is called certain was on the card, with the very bytes it has now.
        for (const FoundSave& found : rescue->saves)
          if (found.confidence == FoundSave::Confidence::certain && !found.deleted &&
              saves.contains(found.save.name) && image.size() == sound.size() &&
              !hit(places_of(*card, sound, saves[found.save.name])))
            RC_ASSERT(found.save.same_content(saves[found.save.name]));
      });
}

// A name as payload_save takes it, and as the card then shows it; empty where the data alone are no save.
std::pair<std::string, std::string> plain_name(CardKind kind) {
  switch (kind) {
    case CardKind::ps1:
      return {"BESLES-99001DATA", "BESLES-99001DATA"};
    case CardKind::gc:
      return {"GZ9PZZ.data.bin", "GZ9PZZ.data.bin"};
    case CardKind::n64:
      return {"NZ9PZZ.DATA 1.A", "NZ9P.DATA 1.A"};
    case CardKind::dc:
      return {"DATA__001", "DATA__001"};
    case CardKind::sat:
      return {"DATA_001", "DATA_001"};
    case CardKind::pce:
      return {"0099.DATA", "0099.DATA"};
    default:
      return {};
  }
}

TEST_P(EveryCard, DataAloneBecomeASaveUnderAName) {
  const auto [given, shown] = plain_name(GetParam());
  const Blob payload = noise(700, 5);
  if (given.empty()) {
    EXPECT_EQ(payload_save(GetParam(), "x", payload, 0).error().code, ErrorCode::unsupported);
    return;
  }
  constexpr std::int64_t day = 1935655200;
  const auto card = fresh_card(GetParam());
  const auto save = payload_save(GetParam(), given, payload, day);
  ASSERT_TRUE(save) << save.error().message;
  const auto put = card->put(*save);
  ASSERT_TRUE(put) << put.error().message;
  EXPECT_TRUE(card->check().empty());
  const auto entries = card->entries();
  ASSERT_EQ(entries.size(), 1U);
  EXPECT_EQ(entries.front().name, shown);
  EXPECT_NEAR(static_cast<double>(entries.front().modified.value_or(day)), day, 60);
  const auto back = card->read(shown);
  ASSERT_TRUE(back);
  EXPECT_EQ(back->payload.slice(0, payload.size()), payload);
  EXPECT_LT(back->payload.size(), payload.size() + 8192);
  EXPECT_TRUE(rescue_card(card->image(), GetParam())->on_card.front()) << "a console could have written it";
  // Other data into a save that is there: all its entry says stays, but for the size.
  const CardSave old = made_save(GetParam(), 3, least_blocks(GetParam()), 1);
  const auto changed = payload_save(GetParam(), old.name, noise(old.payload.size() * 2, 6), day, &old);
  ASSERT_TRUE(changed);
  EXPECT_EQ(changed->name, old.name);
  ASSERT_TRUE(card->put(*changed));
  EXPECT_TRUE(card->check().empty());
  EXPECT_EQ(card->read(old.name)->payload, changed->payload);
  for (const std::string& wrong : {std::string(), std::string("\x01"), std::string(60, 'A')})
    EXPECT_EQ(payload_save(GetParam(), wrong, payload, day).error().code, ErrorCode::bad_usage);
  EXPECT_EQ(payload_save(GetParam(), given, Blob{}, day).error().code, ErrorCode::bad_usage);
}

class CardWithTable : public EveryCard {};

TEST_P(CardWithTable, ChainsThatNoEntryNamesAreShownAndNeverTakenForSaves) {
  static const std::map<CardKind, Range> directories{{CardKind::gc, {8192, 3 * 8192}},
                                                     {CardKind::dc, {241 * 512, 254 * 512}},
                                                     {CardKind::n64, {0x300, 0x500}}};
  const auto card = fresh_card(GetParam());
  std::vector<Blob> payloads;
  for (int number = 1; number <= 3; ++number) {
    const CardSave save = made_save(GetParam(), number, 3, static_cast<std::uint32_t>(number));
    ASSERT_TRUE(card->put(save));
    payloads.push_back(save.payload);
  }
  std::vector<Byte> image = bytes_of(card->image());
  const auto [from, to] = directories.at(GetParam());
  std::fill(image.begin() + static_cast<std::ptrdiff_t>(from),
            image.begin() + static_cast<std::ptrdiff_t>(to), Byte{0});
  const auto rescue = rescue_card(Blob::copy_of(image), GetParam());
  ASSERT_TRUE(rescue);
  ASSERT_EQ(rescue->saves.size(), payloads.size());
  for (const Blob& payload : payloads)
    EXPECT_TRUE(std::ranges::any_of(rescue->saves, [&](const FoundSave& found) {
      return found.save.payload == payload && found.save.entry.empty() &&
             found.confidence == FoundSave::Confidence::doubtful;
    }));
  EXPECT_EQ(std::ranges::count(rescue->on_card, true), 0) << "without a name they are no saves";
}

TEST_P(EveryCard, AWrapperIsFoundAndKept) {
  const auto card = fresh_card(GetParam());
  ASSERT_TRUE(card->put(made_save(GetParam(), 1, least_blocks(GetParam()) + 1, 1)));
  const Blob wrapped = joined({text_blob("a header of 64 bytes, whose origin nobody remembers, ends here. "),
                               card->image(), text_blob("and a trailer")});
  const auto opened = open_card(wrapped);
  ASSERT_TRUE(opened);
  EXPECT_EQ((*opened)->image(), wrapped);
  ASSERT_TRUE((*opened)->put(made_save(GetParam(), 2, least_blocks(GetParam()), 2)));
  const Blob after = (*opened)->image();
  EXPECT_EQ(after.slice(0, 64), wrapped.slice(0, 64));
  EXPECT_EQ(text_of(after.slice(after.size() - 13, 13)), "and a trailer");
  EXPECT_EQ((*open_card(after))->entries().size(), 2U);
}

TEST_P(EveryCard, NamesThatAreNotThereAndNamesThatAre) {
  const auto card = fresh_card(GetParam());
  const CardSave save = made_save(GetParam(), 1, least_blocks(GetParam()), 1);
  ASSERT_TRUE(card->put(save));
  EXPECT_EQ(card->put(save).error().code, ErrorCode::unsafe);
  const auto near = card->read(save.name + "X");
  ASSERT_FALSE(near);
  EXPECT_EQ(near.error().code, ErrorCode::not_found);
  EXPECT_NE(near.error().hint.find(save.name), std::string::npos);
  for (const CardKind kind : writable_kinds())
    EXPECT_EQ(card->put(made_save(kind, 2, least_blocks(kind), 1)).has_value(), kind == GetParam())
        << to_text(kind);
}

INSTANTIATE_TEST_SUITE_P(Kinds, CardWithTable, testing::Values(CardKind::gc, CardKind::n64, CardKind::dc),
                         [](const auto& row) { return std::string(to_text(row.param)); });
INSTANTIATE_TEST_SUITE_P(Kinds, EveryCard, testing::ValuesIn(writable_kinds()),
                         [](const auto& row) { return std::string(to_text(row.param)); });

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
