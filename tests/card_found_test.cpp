// What is found on cards that are hurt, wrapped, padded or shuffled, and of saves inside of other files: each
// case laid out here by the hardware's definition.
#include <gtest/gtest.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/checksum.hpp"
#include "support/builders.hpp"
#include "support/cards.hpp"

namespace bayswap::test {
namespace {

using Bytes = std::vector<Byte>;

void fill(Bytes& bytes, std::size_t from, std::size_t count, Byte value) {
  std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(from), count, value);
}
Blob blob(const Bytes& bytes) {
  return Blob::copy_of(bytes);
}
Bytes exchanged(Bytes bytes) {
  for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) std::swap(bytes[i], bytes[i + 1]);
  return bytes;
}

// A save as a ps1 game makes it: a title frame, whose fourth byte counts its blocks, and the rest.
CardSave titled_save(int number, std::size_t blocks) {
  CardSave save = made_save(CardKind::ps1, number, blocks, static_cast<std::uint32_t>(number));
  Bytes payload = bytes_of(noise(blocks * 8192, static_cast<std::uint32_t>(100 + number)));
  for (std::size_t block = 0; block < blocks; ++block) payload[block * 8192] = 0x11;  // no second title frame
  fill(payload, 0, 128, 0);
  payload[0] = 'S';
  payload[1] = 'C';
  payload[2] = 0x11;
  payload[3] = static_cast<Byte>(blocks);
  payload[4] = 'N';
  payload[5] = static_cast<Byte>('0' + number);
  save.payload = blob(payload);
  return save;
}

const FoundSave* found_with(const Rescue& rescue, const Blob& payload) {
  for (const FoundSave& one : rescue.saves)
    if (one.save.payload == payload) return &one;
  return nullptr;
}

struct Ps1Carving : testing::Test {
  Ps1Carving() {
    for (const CardSave& save : {one_, three_, two_}) EXPECT_TRUE(card_->put(save));
    image_ = bytes_of(card_->image());
  }
  const CardSave one_ = titled_save(1, 1);    // block 1
  const CardSave three_ = titled_save(2, 3);  // blocks 2 to 4
  const CardSave two_ = titled_save(3, 2);    // blocks 5 and 6
  std::unique_ptr<Card> card_ = make_card(CardKind::ps1);
  Bytes image_;
};

TEST_F(Ps1Carving, SavesWhoseFirstFrameIsGoneAreFoundByTheirTitles) {
  fill(image_, 2 * 128, 128, 0);  // frame 2: the first of three
  const auto rescue = rescue_card(blob(image_));
  ASSERT_TRUE(rescue);
  EXPECT_EQ(found_with(*rescue, one_.payload)->confidence, FoundSave::Confidence::certain);
  const FoundSave* three = found_with(*rescue, three_.payload);
  ASSERT_NE(three, nullptr) << "its other frames still link";
  EXPECT_EQ(three->confidence, FoundSave::Confidence::likely);
  EXPECT_EQ(three->save.title, "N2");
  EXPECT_NE(three->notes.front().find("the name"), std::string::npos);
  EXPECT_EQ(std::ranges::count(rescue->on_card, true), 3);
}

TEST_F(Ps1Carving, AWholeDirectoryOfZerosLosesNames) {
  fill(image_, 0, 8192, 0);
  const auto rescue = rescue_card(blob(image_));
  ASSERT_TRUE(rescue) << "the content tells the kind";
  EXPECT_EQ(rescue->kind, CardKind::ps1);
  EXPECT_EQ(found_with(*rescue, one_.payload)->confidence, FoundSave::Confidence::likely);
  for (const CardSave* guessed : {&three_, &two_}) {
    ASSERT_NE(found_with(*rescue, guessed->payload), nullptr);
    EXPECT_EQ(found_with(*rescue, guessed->payload)->confidence, FoundSave::Confidence::doubtful);
  }
  EXPECT_EQ(std::ranges::count(rescue->on_card, true), 1);
  const auto all = rescue_card(blob(image_), CardKind::ps1, 0, true);
  EXPECT_EQ(std::ranges::count(all->on_card, true), 3) << "the doubtful ones as well";
  EXPECT_TRUE(all->card->check().empty());
}

TEST_F(Ps1Carving, ABrokenLinkIsBridgedByTheBlockBeside) {
  fill(image_, 3 * 128, 128, 0x55);  // the middle one
  const auto rescue = rescue_card(blob(image_));
  const FoundSave* three = found_with(*rescue, three_.payload);
  ASSERT_NE(three, nullptr);
  EXPECT_EQ(three->save.name, three_.name);
  EXPECT_EQ(three->confidence, FoundSave::Confidence::likely);
}

TEST(Undelete, BringsBackWhatIsStillThere) {
  for (const CardKind kind : {CardKind::ps1, CardKind::ps2, CardKind::sat}) {
    const auto card = make_card(kind);
    const CardSave kept = made_save(kind, 1, least_blocks(kind) + 1, 1);
    const CardSave gone = made_save(kind, 2, least_blocks(kind) + 1, 2);
    ASSERT_TRUE(card->put(kept) && card->put(gone) && card->drop(gone.name));
    EXPECT_EQ(card->read(gone.name).error().remedy.kind, Remedy::Kind::undelete) << to_text(kind);
    const auto again = open_card(card->image());
    const auto done = (*again)->undelete(gone.name);
    ASSERT_TRUE(done) << to_text(kind) << done.error().message;
    EXPECT_TRUE((*again)->read(gone.name)->same_content(gone)) << to_text(kind);
    EXPECT_TRUE((*again)->read(kept.name)->same_content(kept));
    EXPECT_TRUE((*again)->check().empty());
    EXPECT_EQ((*again)->undelete(gone.name).error().code,
              kind == CardKind::ps1 ? ErrorCode::not_found : (*again)->undelete(gone.name).error().code);
    EXPECT_EQ((*again)->undelete("NOBODY").error().code, ErrorCode::not_found);
    // Over it once another save has its blocks.
    const CardSave other = made_save(kind, 3, card->free_blocks(), 3);
    if (card->put(other)) {
      EXPECT_FALSE(card->undelete(gone.name)) << to_text(kind);
    }
  }
  const auto gc = make_card(CardKind::gc);
  EXPECT_FALSE(gc->undelete("X")) << "a gc card keeps no trace";
}

TEST(FoundCards, PaddedSwappedAndBehindHeaders) {
  for (const CardKind kind : writable_kinds()) {
    const auto card = make_card(kind);
    const CardSave save = made_save(kind, 1, least_blocks(kind), 1);
    ASSERT_TRUE(card->put(save));
    const Bytes image = bytes_of(card->image());
    for (const Byte filler : {Byte{0xff}, Byte{0x00}}) {
      Bytes padded = image;
      padded.resize(2 * image.size(), filler);
      const auto opened = open_card(blob(padded));
      ASSERT_TRUE(opened) << to_text(kind);
      EXPECT_EQ((*opened)->kind(), kind);
      EXPECT_TRUE((*opened)->read(save.name)) << to_text(kind);
      EXPECT_EQ((*opened)->image(), blob(padded)) << "the padding stays";
    }
    const Blob swapped = blob(exchanged(image));
    const auto turned = open_card(swapped);
    ASSERT_TRUE(turned) << to_text(kind);
    EXPECT_TRUE((*turned)->read(save.name)->same_content(save)) << to_text(kind);
    EXPECT_FALSE((*turned)->notes().empty());
    EXPECT_EQ((*turned)->image(), swapped);
    ASSERT_TRUE((*turned)->put(made_save(kind, 2, least_blocks(kind), 2)));
    EXPECT_EQ((*open_card(blob(exchanged(bytes_of((*turned)->image())))))->entries().size(), 2U);
    const auto rescue = rescue_card(swapped);
    ASSERT_TRUE(rescue) << to_text(kind);
    EXPECT_EQ(rescue->saves.front().save.name, save.name);
  }
  // Behind an unknown header inspect says what card list says.
  const auto pak = make_card(CardKind::n64);
  ASSERT_TRUE(pak->put(made_save(CardKind::n64, 1, 1, 1)));
  const Finding finding = inspect(Catalog(), joined({noise(80, 1), pak->image()}));
  EXPECT_EQ(finding.kind, FileKind::memory_card);
  EXPECT_EQ(finding.platform, Platform::n64);
}

TEST(FoundCards, HalvesAreNoCardsAndStillGiveSaves) {
  NewCardOptions spread;
  spread.form = "spread";
  const auto memory = make_card(CardKind::sat, spread);
  ASSERT_TRUE((*memory)->put(made_save(CardKind::sat, 1, 3, 1)));
  const Blob half = (*memory)->image().slice(0, 32768);
  EXPECT_FALSE(open_card(half)) << "half a spread memory is no memory";
  const auto rescue = rescue_card(half);
  ASSERT_TRUE(rescue);
  EXPECT_EQ(rescue->missing_bytes, 32768U);
  ASSERT_EQ(rescue->saves.size(), 1U);
  EXPECT_EQ(rescue->saves.front().confidence, FoundSave::Confidence::certain);

  const auto ps2 = make_card(CardKind::ps2);
  const CardSave save = made_save(CardKind::ps2, 1, least_blocks(CardKind::ps2) + 4, 1);
  ASSERT_TRUE(ps2->put(save));
  const Blob image = ps2->image();
  const auto cut = rescue_card(image.slice(0, image.size() / 2));
  ASSERT_TRUE(cut);
  EXPECT_NE(
      std::ranges::find_if(cut->saves, [&](const FoundSave& one) { return one.save.same_content(save); }),
      cut->saves.end());
}

TEST(FoundCards, ALanguageOutOfRangeHidesNothing) {
  const auto memory = make_card(CardKind::sat);
  const CardSave save = made_save(CardKind::sat, 1, 3, 1);
  ASSERT_TRUE(memory->put(save));
  Bytes image = bytes_of(memory->image());
  image[2 * 64 + 15] = 9;  // the first block for saves; its language
  const auto rescue = rescue_card(blob(image));
  ASSERT_EQ(rescue->saves.size(), 1U);
  EXPECT_EQ(rescue->saves.front().save.payload, save.payload);
  EXPECT_NE(rescue->saves.front().confidence, FoundSave::Confidence::certain);
  EXPECT_TRUE(rescue->on_card.front());
  EXPECT_EQ((*open_card(blob(image)))->entries().front().state, CardEntry::State::damaged);
}

TEST(Ps2Card, SpareAreasOfZerosAreNoDamage) {
  const auto card = make_card(CardKind::ps2);
  const CardSave save = made_save(CardKind::ps2, 1, least_blocks(CardKind::ps2), 1);
  ASSERT_TRUE(card->put(save));
  Bytes image = bytes_of(card->image());
  for (std::size_t page = 0; page * 528 < image.size(); ++page) fill(image, page * 528 + 512, 16, 0);
  const auto opened = open_card(blob(image));
  ASSERT_TRUE(opened);
  EXPECT_TRUE((*opened)->check().empty());
  EXPECT_EQ((*opened)->notes().size(), 1U);
  EXPECT_TRUE((*opened)->read(save.name)->same_content(save));
  ASSERT_TRUE((*opened)->put(made_save(CardKind::ps2, 2, least_blocks(CardKind::ps2), 2)));
  const Bytes after = bytes_of((*opened)->image());
  for (std::size_t page = 0; page * 528 < after.size(); ++page)
    ASSERT_EQ(after[page * 528 + 512], 0) << "whoever writes such files goes on finding what it wrote";
}

TEST(Ps2Card, BrokenBlocksAreNeitherFreeNorLostNorGivenOut) {
  NewCardOptions plain;
  plain.form = "plain";
  Bytes image = bytes_of((*make_card(CardKind::ps2, plain))->image());
  const auto put32 = [&](std::size_t at, std::uint32_t value) {
    for (std::size_t i = 0; i < 4; ++i) image[at + i] = static_cast<Byte>(value >> (8 * i));
  };
  const auto get32 = [&](std::size_t at) {
    std::uint32_t value = 0;
    for (std::size_t i = 4; i-- > 0;) value = (value << 8) | image[at + i];
    return value;
  };
  const std::uint32_t first = get32(52);
  const std::uint32_t broken = first / 8 + 2;  // an erase block of 8 clusters
  put32(208, broken);
  const std::uint32_t cluster = broken * 8 - first;
  for (std::uint32_t i = 0; i < 8; ++i) put32(9 * 1024 + 4 * (cluster + i), 0xfffffffd);
  const auto card = open_card(blob(image));
  ASSERT_TRUE(card);
  EXPECT_TRUE((*card)->check().empty()) << (*card)->check().front().text;
  EXPECT_EQ((*card)->capacity_blocks(), 8000U) << "as the console counts";
  for (int number = 1; number <= 20; ++number)
    ASSERT_TRUE((*card)->put(made_save(CardKind::ps2, number, least_blocks(CardKind::ps2) + 8,
                                       static_cast<std::uint32_t>(number))));
  const Bytes after = bytes_of((*card)->image());
  for (std::uint32_t i = 0; i < 8; ++i)
    EXPECT_TRUE(is_uniform(ByteView(after).subspan((broken * 8 + i) * 1024, 1024)))
        << "nothing was written into a broken block";
  const auto map = (*card)->map();
  for (std::uint32_t i = 0; i < 8; ++i) EXPECT_EQ(map[cluster + i].use, BlockUse::system);
}

TEST(GcCard, AMapThatItsOwnCountContradictsIsTheOtherCopys) {
  const auto card = make_card(CardKind::gc);
  const CardSave save = made_save(CardKind::gc, 1, 2, 1);
  ASSERT_TRUE(card->put(save));
  Bytes image = bytes_of(card->image());
  const auto word = [&](std::size_t at) { return static_cast<unsigned>(image[at] << 8 | image[at + 1]); };
  const auto put16 = [&](std::size_t at, unsigned value) {
    image[at] = static_cast<Byte>(value >> 8);
    image[at + 1] = static_cast<Byte>(value);
  };
  // The newer copy: another count, its checksums right.
  const std::size_t newer = word(3 * 8192 + 4) > word(4 * 8192 + 4) ? 3 * 8192 : 4 * 8192;
  put16(newer + 6, word(newer + 6) + 5);
  unsigned sum = 0;
  for (std::size_t at = newer + 4; at < newer + 8192; at += 2) sum += word(at);
  put16(newer, sum & 0xffff);
  put16(newer + 2, (4094 * 0xffffU - sum) & 0xffff);
  const auto opened = open_card(blob(image));
  const auto problems = (*opened)->check();
  ASSERT_FALSE(problems.empty());
  EXPECT_NE(problems.front().text.find("takes it for broken"), std::string::npos) << problems.front().text;
  EXPECT_GT((*opened)->repair(), 0U);
  for (const CardProblem& left : (*opened)->check()) ADD_FAILURE() << left.text;
}

TEST(NotesAndDates, OfWrongCharactersAreNamed) {
  const auto pak = make_card(CardKind::n64);
  ASSERT_TRUE(pak->put(made_save(CardKind::n64, 1, 1, 1)));
  Bytes image = bytes_of(pak->image());
  image[0x300 + 17] = 0xf0;
  EXPECT_EQ((*open_card(blob(image)))->check().size(), 1U);
  const auto memory = make_card(CardKind::dc);
  ASSERT_TRUE(memory->put(made_save(CardKind::dc, 1, 1, 1)));
  image = bytes_of(memory->image());
  image[253 * 512 + 16 + 2] = 0x1b;  // the month of the first entry
  EXPECT_EQ((*open_card(blob(image)))->check().size(), 1U);
}

// Two banks: tables of two pages each, then their backups, then the notes; page 0 of the second is never
// used.
TEST(N64Pak, TablesMoveWithTheNumberOfBanks) {
  Bytes image(65536);
  const auto put16 = [&](std::size_t at, unsigned value) {
    image[at] = static_cast<Byte>(value >> 8);
    image[at + 1] = static_cast<Byte>(value);
  };
  for (const std::size_t id : {0x20U, 0x60U, 0x80U, 0xc0U}) {
    put16(id + 0x18, 1);
    image[id + 0x1a] = 2;
    unsigned sum = 0;
    for (std::size_t at = id; at < id + 0x1c; at += 2)
      sum += static_cast<unsigned>(image[at] << 8 | image[at + 1]);
    put16(id + 0x1c, sum & 0xffff);
    put16(id + 0x1e, (0xfff2 - sum) & 0xffff);
  }
  // A note of two pages: 127 of bank 0, then 1 of bank 1.
  for (const std::size_t table : {0x100U, 0x300U}) {
    for (std::size_t page = 7; page < 128; ++page) put16(table + 2 * page, 3);
    for (std::size_t page = 1; page < 128; ++page) put16(table + 0x100 + 2 * page, 3);
    put16(table + 2 * 127, 0x0101);
    put16(table + 0x100 + 2, 1);
    for (const auto& [bank, first] : {std::pair{0U, 7U}, {1U, 1U}}) {
      unsigned sum = 0;
      for (std::size_t at = 2 * first; at < 256; ++at) sum += image[table + bank * 0x100 + at];
      image[table + bank * 0x100 + 1] = static_cast<Byte>(sum);
    }
  }
  const std::size_t note = 0x500;
  const Bytes entry{'N', '9', '9', 'P', '9', '9', 0, 127, 2, 0, 0, 0, 0, 0, 0, 0, 0x1a, 0x1b};
  std::ranges::copy(entry, image.begin() + note);
  fill(image, 127 * 256, 256, 0xa5);
  fill(image, 129 * 256, 256, 0x5a);
  const auto pak = open_card(blob(image));
  ASSERT_TRUE(pak) << pak.error().message;
  for (const CardProblem& problem : (*pak)->check()) ADD_FAILURE() << problem.text;
  ASSERT_EQ((*pak)->entries().size(), 1U);
  const auto save = (*pak)->read((*pak)->entries().front().name);
  ASSERT_TRUE(save) << save.error().message;
  EXPECT_EQ(save->payload.size(), 512U);
  EXPECT_EQ(save->payload.view()[0], 0xa5);
  EXPECT_EQ(save->payload.view()[256], 0x5a);
  EXPECT_EQ((*pak)->free_blocks(), 2 * 128 - 7 - 1 - 2U);
  ASSERT_TRUE((*pak)->put(made_save(CardKind::n64, 2, 123, 2))) << "over both banks";
  EXPECT_TRUE((*open_card((*pak)->image()))->check().empty());
  EXPECT_TRUE((*pak)->drop((*pak)->entries().front().name));
  EXPECT_TRUE((*open_card((*pak)->image()))->check().empty());
}

TEST(EmbeddedSaves, AreFoundInsideOfAnything) {
  for (const CardKind kind : {CardKind::ps1, CardKind::gc, CardKind::dc}) {
    const CardSave save = kind == CardKind::ps1 ? titled_save(1, 2) : made_save(kind, 1, 2, 1);
    for (const std::size_t before : {0U, 54U, 140U, 1001U}) {
      const Blob file = joined({noise(before, 7), save.entry, save.payload});
      const auto found = find_embedded_saves(file);
      ASSERT_FALSE(found.empty()) << to_text(kind) << before;
      EXPECT_EQ(found.front().save.name, save.name);
      EXPECT_EQ(found.front().save.payload, save.payload);
      EXPECT_EQ(found.front().at, before);
      EXPECT_FALSE(found.front().nameless);
    }
  }
  // ps2: the folder's entry, then each file's with its bytes, in whole kilobytes or not.
  const CardSave folder = made_save(CardKind::ps2, 1, least_blocks(CardKind::ps2) + 3, 1);
  for (const std::size_t unit : {1024U, 1U}) {
    std::vector<Blob> pieces{noise(128, 3), folder.entry};
    for (const CardFile& file : folder.files) {
      pieces.push_back(file.entry);
      pieces.push_back(file.bytes);
      pieces.push_back(Blob::filled((unit - file.bytes.size() % unit) % unit, 0));
    }
    const auto found = find_embedded_saves(joined(pieces));
    ASSERT_FALSE(found.empty()) << unit;
    EXPECT_TRUE(found.front().save.same_content(folder));
  }
  // A title frame alone: the name, if it is before it, or none.
  const CardSave titled = titled_save(1, 1);
  const auto named = find_embedded_saves(
      joined({noise(20, 1), text_blob(titled.name), Blob::filled(40, 0), titled.payload}));
  ASSERT_EQ(named.size(), 1U);
  EXPECT_EQ(named.front().save.name, titled.name);
  const auto nameless = find_embedded_saves(joined({noise(20, 1), titled.payload}));
  ASSERT_EQ(nameless.size(), 1U);
  EXPECT_TRUE(nameless.front().nameless);
  EXPECT_EQ(inspect(Catalog(), joined({noise(20, 1), titled.payload})).kind, FileKind::single_save);
  EXPECT_EQ(inspect(Catalog(), to_parcel(titled)).kind, FileKind::single_save);
  EXPECT_TRUE(find_embedded_saves(noise(70000, 1)).empty());
}

}  // namespace
}  // namespace bayswap::test
