#include "support/cards.hpp"

#include <algorithm>
#include <string>

#include "base/endian.hpp"
#include "support/builders.hpp"

namespace bayswap::test {
namespace {

std::string two_digits(int number) {
  return {static_cast<char>('0' + number / 10), static_cast<char>('0' + number % 10)};
}
void put(std::vector<Byte>& bytes, std::size_t at, std::string_view text) {
  std::copy(text.begin(), text.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at));
}
void put16(std::vector<Byte>& bytes, std::size_t at, std::size_t value) {  // big-endian
  bytes[at] = static_cast<Byte>(value >> 8);
  bytes[at + 1] = static_cast<Byte>(value & 0xff);
}
void put32(std::vector<Byte>& bytes, std::size_t at, std::size_t value) {
  put16(bytes, at, value >> 16);
  put16(bytes, at + 2, value & 0xffff);
}

void make_ps1(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  payload.resize(blocks * 8192);
  put(payload, 0, "SC\x11" + std::string(1, static_cast<char>(blocks)));
  std::fill_n(payload.begin() + 4, 64, Byte{0});
  save.title = "Saltglass " + std::to_string(number);
  put(payload, 4, save.title);
  std::vector<Byte> entry(128);
  entry[0] = 0x51;
  put_le(entry, 4, 4, payload.size());
  put_le(entry, 8, 2, 0xffff);
  save.name = "BESLPS-99001SALT" + std::to_string(number);
  put(entry, 10, save.name);
  for (std::size_t i = 0; i < 127; ++i) entry[127] ^= entry[i];
  save.entry = Blob::copy_of(entry);
}

void make_n64(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  payload.resize(blocks * 256);
  std::vector<Byte> entry(32);
  put(entry, 0, "N99P99");
  entry[8] = 0x02;
  save.title = "SKIFF" + two_digits(number);
  for (std::size_t i = 0; i < save.title.size(); ++i)
    entry[16 + i] =
        static_cast<Byte>(save.title[i] >= 'A' ? save.title[i] - 'A' + 0x1a : save.title[i] - '0' + 0x10);
  save.name = "N99P." + save.title;
  save.entry = Blob::copy_of(entry);
}

void make_gc(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  payload.resize(blocks * 8192);
  std::fill_n(payload.begin(), 64, Byte{0});
  put(payload, 0, "Kelp Parade " + two_digits(number));
  put(payload, 32, "the float");
  save.title = "Kelp Parade " + two_digits(number) + " / the float";
  std::vector<Byte> entry(64);
  put(entry, 0, "G99P99\xff\x02");
  put(entry, 8, "kelp" + two_digits(number));
  put32(entry, 40, 980000000);
  put32(entry, 44, 64);  // a banner of 16 bits, and an icon
  put16(entry, 48, 2);
  put16(entry, 50, 1);
  entry[52] = 4;
  put16(entry, 54, 5);
  put16(entry, 56, blocks);
  put16(entry, 58, 0xffff);
  save.name = "G99P99.kelp" + two_digits(number);
  save.entry = Blob::copy_of(entry);
}

void make_dc(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  payload.resize(blocks * 512);
  std::fill_n(payload.begin(), 128, Byte{0});
  save.title = "Brass Tern " + two_digits(number);
  put(payload, 0, "TERN");
  put(payload, 16, save.title);
  const std::size_t icons = blocks > 1 ? 1 : 0;
  payload[64] = static_cast<Byte>(icons);
  put_le(payload, 72, 4, payload.size() - 128 - 512 * icons);
  std::uint32_t crc = 0;
  for (const Byte b : payload)
    for (int bit = 7; bit >= 0; --bit) {
      const bool high = ((crc >> 15U) & 1U) != ((static_cast<unsigned>(b) >> bit) & 1U);
      crc = ((crc << 1U) & 0xffffU) ^ (high ? 0x1021U : 0U);
    }
  put_le(payload, 70, 2, crc);
  std::vector<Byte> entry(32);
  entry[0] = 0x33;
  put(entry, 4, "TERN_" + two_digits(number));
  const std::vector<Byte> time{0x20, 0x31, 0x05, 0x04, 0x12, 0x30, 0x00, 0x06};
  std::copy(time.begin(), time.end(), entry.begin() + 16);
  put_le(entry, 24, 2, blocks);
  save.name = "TERN_" + two_digits(number);
  save.entry = Blob::copy_of(entry);
}

void make_sat(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  payload.resize(blocks * 58 - 30);
  std::vector<Byte> entry(34);
  entry[0] = 0x80;
  save.name = "LOWTIDE__" + two_digits(number);
  put(entry, 4, save.name);
  entry[15] = 1;
  save.title = "Rally " + two_digits(number);
  put(entry, 16, save.title);
  put32(entry, 26, 27000000);
  put32(entry, 30, payload.size());
  save.entry = Blob::copy_of(entry);
}

void make_pce(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  payload.resize(blocks - 16);
  std::vector<Byte> entry(16);
  put_le(entry, 0, 2, blocks);
  put(entry, 4, std::string("\x00\x99", 2));
  save.title = "FOG SIG" + two_digits(number);
  put(entry, 6, save.title + " ");
  unsigned sum = 0;
  for (std::size_t i = 4; i < 16; ++i) sum += entry[i];
  for (const Byte b : payload) sum += b;
  put_le(entry, 2, 2, (0x10000 - sum) & 0xffff);
  save.name = "0099." + save.title;
  save.entry = Blob::copy_of(entry);
}

void make_ps2(CardSave& save, int number, std::size_t blocks, std::vector<Byte>& payload) {
  save.name = "BESLES-99001PIER" + two_digits(number);
  std::vector<Byte> description(964);
  put(description, 0, "PS2D");
  put_le(description, 6, 2, 8);
  put(description, 192, "NinefoldPier " + two_digits(number));
  put(description, 260, "pier.icn");
  save.title = "Ninefold Pier " + two_digits(number);
  payload.resize((blocks - 3) * 1024 - static_cast<std::size_t>(number));
  const std::int64_t noon = 1935748800;
  CardSave folder = *folder_save(
      save.name, {{"icon.sys", Blob::copy_of(description), noon}, {save.name, Blob::copy_of(payload), noon}});
  payload.clear();
  save.entry = folder.entry;
  save.files = std::move(folder.files);
}

}  // namespace

std::vector<CardKind> writable_kinds() {
  std::vector<CardKind> kinds = all_card_kinds();
  std::erase(kinds, CardKind::scd);
  return kinds;
}

std::size_t least_blocks(CardKind kind) {
  return kind == CardKind::pce ? 24 : kind == CardKind::ps2 ? 4 : 1;
}
Region made_region(CardKind kind) {
  const bool told =
      kind == CardKind::ps1 || kind == CardKind::ps2 || kind == CardKind::gc || kind == CardKind::n64;
  return told ? Region::europe : Region::unknown;
}

CardSave made_save(CardKind kind, int number, std::size_t blocks, std::uint32_t seed) {
  CardSave save;
  save.kind = kind;
  // Noise where the kind's own structures do not are; as much as it can need.
  std::vector<Byte> payload =
      bytes_of(noise(blocks * (kind == CardKind::gc || kind == CardKind::ps1 ? 8192 : 1024), seed));
  switch (kind) {
    case CardKind::ps1:
      make_ps1(save, number, blocks, payload);
      break;
    case CardKind::n64:
      make_n64(save, number, blocks, payload);
      break;
    case CardKind::gc:
      make_gc(save, number, blocks, payload);
      break;
    case CardKind::dc:
      make_dc(save, number, blocks, payload);
      break;
    case CardKind::sat:
      make_sat(save, number, blocks, payload);
      break;
    case CardKind::pce:
      make_pce(save, number, blocks, payload);
      break;
    case CardKind::ps2:
      make_ps2(save, number, blocks, payload);
      break;
    case CardKind::scd:
      break;
  }
  save.payload = Blob::copy_of(payload);
  return save;
}

namespace {

std::size_t block_at(const Card& card, std::size_t block) {
  return (block + (card.kind() == CardKind::ps2 ? 41 : 0)) * card.block_bytes();
}
std::vector<std::size_t> blocks_of(const Card& card, const CardSave& save) {
  const auto entries = card.entries();
  std::vector<std::size_t> blocks;
  const auto map = card.map();
  for (std::size_t block = 0; block < map.size(); ++block)
    if (map[block].use == BlockUse::save && entries[map[block].entry].name == save.name)
      blocks.push_back(block);
  return blocks;
}

}  // namespace

Range directory_of(CardKind kind) {
  switch (kind) {
    case CardKind::gc:
      return {0, 5 * 8192};
    case CardKind::dc:
      return {241 * 512, 256 * 512};
    case CardKind::ps2:
      return {0, 46 * 1024};
    case CardKind::sat:
      return {0, 64 * 64};
    case CardKind::pce:
      return {0, 512};
    case CardKind::n64:
      return {0, 1280};
    case CardKind::ps1:
    case CardKind::scd:
      return {0, 8192};
  }
  return {0, 0};
}

std::vector<Range> places_of(const Card& card, const Blob& image, const CardSave& save) {
  std::vector<Range> ranges;
  for (const std::size_t block : blocks_of(card, save)) {
    ranges.emplace_back(block_at(card, block), block_at(card, block) + card.block_bytes());
    if (card.kind() == CardKind::ps1) ranges.emplace_back(block * 128, block * 128 + 128);
  }
  // Entries, by the bytes in them that name the save.
  struct Name {
    std::size_t at;
    std::size_t size;
  };
  const Name name = card.kind() == CardKind::gc    ? Name{0, 40}
                    : card.kind() == CardKind::dc  ? Name{4, 12}
                    : card.kind() == CardKind::ps2 ? Name{64, 32}
                                                   : Name{16, 16};
  if (card.kind() == CardKind::gc || card.kind() == CardKind::dc || card.kind() == CardKind::ps2 ||
      card.kind() == CardKind::n64) {
    const ByteView wanted = save.entry.view().subspan(name.at, name.size);
    const ByteView searched = image.view().first(std::min<std::size_t>(image.size(), 262144));
    auto from = searched.begin();
    for (;;) {
      from = std::search(from, searched.end(), wanted.begin(), wanted.end());
      if (from == searched.end()) break;
      const auto at = static_cast<std::size_t>(from - searched.begin()) - name.at;
      ranges.emplace_back(at, at + save.entry.size());
      ++from;
    }
  }
  return ranges;
}

std::vector<Range> links_of(const Card& card, const CardSave& save) {
  std::vector<Range> ranges;
  for (const std::size_t block : blocks_of(card, save)) {
    switch (card.kind()) {
      case CardKind::n64:
        for (const std::size_t table : {0x100U, 0x200U})
          ranges.emplace_back(table + 2 * block, table + 2 * block + 2);
        break;
      case CardKind::gc:
        for (const std::size_t table : {3U, 4U})
          ranges.emplace_back(table * 8192 + 2 * block, table * 8192 + 2 * block + 2);
        break;
      case CardKind::dc:
        ranges.emplace_back(254 * 512 + 2 * block, 254 * 512 + 2 * block + 2);
        break;
      case CardKind::ps2:
        ranges.emplace_back(9 * 1024 + 4 * block, 9 * 1024 + 4 * block + 4);
        break;
      default:
        break;
    }
  }
  return ranges;
}

}  // namespace bayswap::test
