// The contents of the games that have sheets, made without the sheets' own code: what these say is so
// checked.
#include <algorithm>
#include <array>
#include <numeric>

#include "base/built_in.hpp"
#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "cli/demo_parts.hpp"

namespace bayswap::cli {
namespace {

// The characters of Moth Courier.
void put_moth_text(std::span<Byte> out, std::size_t at, std::string_view text, std::size_t room) {
  for (std::size_t i = 0; i < room; ++i) {
    Byte code = 0xff;
    if (i < text.size()) {
      const char c = text[i];
      if (c >= 'A' && c <= 'Z') code = static_cast<Byte>(c - 'A' + 0x01);
      if (c >= 'a' && c <= 'z') code = static_cast<Byte>(c - 'a' + 0x21);
      if (c >= '0' && c <= '9') code = static_cast<Byte>(c - '0' + 0x50);
      if (c == ' ') code = 0x00;
    }
    out[at + i] = code;
  }
}

std::uint16_t sum_of_words(ByteView bytes) {
  unsigned sum = 0;
  for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) sum += bytes[i] | unsigned{bytes[i + 1]} << 8;
  return static_cast<std::uint16_t>(sum);
}

struct Kind {
  Byte species;
  Byte ability;
  std::string_view name;
};
constexpr std::array<Kind, 8> kinds{{{1, 1, "Wick"},
                                     {2, 3, "Brack"},
                                     {3, 5, "Hawser"},
                                     {4, 4, "Ebb"},
                                     {5, 6, "Murk"},
                                     {6, 6, "Clapper"},
                                     {7, 2, "Slip"},
                                     {8, 1, "Crumb"}}};

void put_moth(std::span<Byte> out, std::uint32_t serial, Dice& dice) {
  std::array<Byte, 40> plain{};
  const Kind& kind = kinds.at(dice.next() % kinds.size());
  plain[0] = kind.species;
  plain[1] = static_cast<Byte>(5 + dice.next() % 50);
  plain[2] = static_cast<Byte>(1 + dice.next() % plain[1]);
  plain[3] = kind.ability;
  put_le(std::span(plain), 4, 2, dice.next() % 1000);
  for (std::size_t i = 10; i < 16; ++i) plain.at(i) = static_cast<Byte>(dice.next() % 40);
  put_moth_text(plain, 20, kind.name, 9);
  if (dice.next() % 3 == 0) {
    plain[30] = 1;
    plain[31] = static_cast<Byte>(1 + dice.next() % 3);
  }
  // Four blocks in one of 24 orders, in the order of a dictionary; then words with a generator's numbers.
  std::array<std::size_t, 4> order{};
  std::iota(order.begin(), order.end(), std::size_t{0});
  for (std::uint32_t i = 0; i < serial % 24; ++i) std::next_permutation(order.begin(), order.end());
  std::array<Byte, 40> stored{};
  for (std::size_t i = 0; i < order.size(); ++i)
    std::copy_n(plain.begin() + static_cast<std::ptrdiff_t>(10 * i), 10,
                stored.begin() + static_cast<std::ptrdiff_t>(10 * order.at(i)));
  std::uint32_t state = serial;
  for (std::size_t i = 0; i < stored.size(); i += 2) {
    const std::uint32_t mask = state >> 16;
    stored.at(i) ^= static_cast<Byte>(mask);
    stored.at(i + 1) ^= static_cast<Byte>(mask >> 8);
    state = state * 22695477U + 1;
  }
  put_le(out, 0, 4, serial);
  put_le(out, 4, 2, sum_of_words(plain));
  std::ranges::copy(stored, out.begin() + 8);
}

void put_copy(std::span<Byte> copy, std::string_view courier, std::uint32_t counter, Dice dice) {
  constexpr std::size_t data_bytes = 0xdf0;
  constexpr std::size_t block_bytes = 0xe00;
  std::vector<Byte> content(4 * data_bytes);
  const std::span<Byte> out(content);
  put_moth_text(out, 0, courier, 10);
  put_le(out, 0x0c, 2, 0x9900 + dice.next() % 0x100);
  put_le(out, 0x10, 4, 1'500'000 + counter * 5000);
  const std::uint32_t key = 0x5eed1000U + counter * 77;
  put_le(out, 0x14, 4, key);
  put_le(out, 0x18, 4, (1200 + counter * 31) ^ key);
  put_le(out, 0x1c, 4, (7 + counter) ^ key);
  out[0x20] = 0x0b;
  out[0x21] = 0x01 | (0x1d << 3);  // fog, three feet below
  put_le(out, 0x24, 4, 123U * 86400 + 64800 + counter * 1800);
  put_le(out, 0x28, 3, 0x001204 + counter % 5);
  put_le(out, 0x2c, 2, static_cast<std::uint16_t>(-640));
  out[0x30] = 3;
  std::uint32_t serial = 0x99310 + dice.next() % 1000;
  for (std::size_t i = 0; i < 3; ++i)
    put_moth(out.subspan(0x40 + 48 * i, 48), serial += 1 + dice.next() % 90, dice);
  constexpr std::array<std::string_view, 4> names{"Harbour", "Attic", "Letters", "Spare"};
  for (std::size_t box = 0; box < names.size(); ++box) {
    const std::size_t at = 0x200 + 0x600 * box;
    put_moth_text(out, at, names.at(box), 12);
    const std::size_t used = box == 0 ? 30 : box == 1 ? 11 : box == 2 ? 4 : 0;
    for (std::size_t i = 0; i < used; ++i)
      put_moth(out.subspan(at + 0x20 + 48 * i, 48), serial += 1 + dice.next() % 90, dice);
  }
  for (std::size_t number = 0; number < 4; ++number) {
    const std::size_t at = (number + counter) % 4 * block_bytes;
    std::copy_n(content.begin() + static_cast<std::ptrdiff_t>(number * data_bytes), data_bytes,
                copy.begin() + static_cast<std::ptrdiff_t>(at));
    put_le(copy, at + 0xdf8, 2, number);
    put_le(copy, at + 0xdfa, 2, sum_of_words(copy.subspan(at, data_bytes)));
    put_le(copy, at + 0xdfc, 4, counter);
  }
}

}  // namespace

Blob moth_courier_sram(std::string_view courier, std::uint32_t saved, std::uint64_t seed) {
  Buffer sram(32768);
  const std::span<Byte> out = sram.bytes();
  std::ranges::fill(out, Byte{0});
  put_text(out, 0, "MOTHCOURIER");
  put_copy(out.subspan(saved % 2 == 0 ? 0x100 : 0x4000, 0x3800), courier, saved, Dice(seed));
  put_copy(out.subspan(saved % 2 == 0 ? 0x4000 : 0x100, 0x3800), courier, saved - 1, Dice(seed));
  return std::move(sram).freeze();
}

Blob brine_harbour(std::uint32_t played, std::uint64_t seed) {
  Buffer file(6000);
  const std::span<Byte> out = file.bytes();
  std::ranges::fill(out, Byte{0});
  Dice dice(seed);
  put_text(out, 0, "BRNB");
  put_le(out, 4, 2, 12);
  constexpr std::array<std::string_view, 2> names{"Oyelaran", "Ida"};
  for (std::size_t i = 0; i < names.size(); ++i) {
    const std::span<Byte> profile = out.subspan(0x40 + 0x100 * i, 0x100);
    profile[0] = 1;
    for (std::size_t at = 0; at < names.at(i).size(); ++at)
      profile[4 + 2 * at] = static_cast<Byte>(names.at(i)[at]);
    put_le(profile, 0x1c, 4, 0x99000000U + dice.next() % 0xffffff);
    put_le(profile, 0x20, 4, dice.next() % 900 + played * 40);
    profile[0x24] = 1;
    put_le(profile, 0x26, 2, dice.next() % 32);
    profile[0x28] = static_cast<Byte>(2 + dice.next() % 3);
    for (std::size_t thing = 0; thing < profile[0x28]; ++thing) {
      put_le(profile, 0x2c + 4 * thing, 2, 1 + dice.next() % 5);
      put_le(profile, 0x2e + 4 * thing, 2, 1 + dice.next() % 90);
    }
  }
  put_le(out, 8, 4, crc32(ByteView(out).subspan(0x40)));
  return std::move(file).freeze();
}

Blob brine_world(std::string_view title, std::uint32_t of_voyage, std::uint64_t seed) {
  Buffer file(2048);
  const std::span<Byte> out = file.bytes();
  std::ranges::fill(out, Byte{0});
  Dice dice(seed);
  put_text(out, 0, "TIDE");
  put_le(out, 8, 4, of_voyage);
  put_text(out, 0x10, title);
  put_le(out, 0x30, 2, 0x200);
  put_le(out, 0x32, 2, 9);
  for (std::size_t i = 0; i < 9; ++i) {
    const std::span<Byte> house = out.subspan(0x200 + 8 * i, 8);
    house[0] = static_cast<Byte>(dice.next() % 64);
    house[1] = static_cast<Byte>(dice.next() % 48);
    put_le(house, 2, 2, 20 + dice.next() % 300);
    put_le(house, 4, 4, 0x99000000U + dice.next() % 0xffffff);
  }
  for (Byte& b : out.subspan(0x400, 0x300)) b = static_cast<Byte>(dice.next() % 7);
  const auto digest = sha1(ByteView(out).first(2048 - 20));
  std::ranges::copy(digest, out.end() - 20);
  return std::move(file).freeze();
}

// Gull Ledger: a page a member, without a sheet. Coins in BCD, the day of the voyage, a sum over the page and
// its complement.
Blob gull_ledger_page(std::string_view member, std::uint32_t coins, std::uint32_t of_voyage,
                      std::uint64_t seed) {
  Buffer memory(8192);
  const std::span<Byte> out = memory.bytes();
  std::ranges::fill(out, Byte{0});
  Dice dice(seed);
  for (std::size_t page = 0; page + 1024 <= 6144; page += 1024) {
    const std::span<Byte> one = out.subspan(page, 1024);
    put_text(one, 0, "GULL");
    put_text(one, 8, member);
    for (std::size_t i = 64; i < 900; i += 2) put_le(one, i, 2, dice.next() % 5 == 0 ? dice.next() % 900 : 0);
    const std::uint32_t own = page == 0 ? coins : dice.next() % 9999;
    std::uint32_t packed = 0;
    std::uint32_t left = own;
    for (unsigned digit = 0; digit < 6; ++digit, left /= 10) packed |= left % 10 << 4 * digit;
    for (std::size_t i = 0; i < 3; ++i) one[0x20 + i] = static_cast<Byte>(packed >> 8 * (2 - i));
    put_le(one, 0x24, 2, page == 0 ? of_voyage : dice.next() % 300);
    Dice notes(of_voyage);  // this page alone goes on
    for (std::size_t i = 0; page == 0 && i < 20; ++i)
      if (notes.next() % 3 == 0) one[0x300 + i * 3] = static_cast<Byte>(notes.next());
    unsigned sum = 0;
    for (std::size_t i = 0; i < 1020; ++i) sum += one[i];
    put_le(one, 1020, 2, sum & 0xffff);
    put_le(one, 1022, 2, ~sum & 0xffff);
  }
  return std::move(memory).freeze();
}

void add_games(std::vector<DemoFile>& files) {
  for (const BuiltInText& sheet : built_in_demo_sheets())
    files.push_back(
        {"home/sheets/" + std::string(sheet.id) + ".toml", text_blob(sheet.toml), spring - 20 * day});
  // What Marek noted of his evenings: 1,250 coins on day 31, 1,875 on day 33, 1,640 on day 36.
  const auto evening = [&](std::string_view name, std::uint32_t coins, std::uint32_t of_voyage, int ago) {
    files.push_back({"home-pc/ledger/" + std::string(name) + ".sav",
                     gull_ledger_page("MAREK", coins, of_voyage, 61), spring - ago * day});
  };
  evening("monday", 1250, 31, 5);
  evening("wednesday", 1875, 33, 3);
  evening("saturday", 1640, 36, 1);
}

}  // namespace bayswap::cli
