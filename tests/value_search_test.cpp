// Values planted in random saves, and searched from what a player knows.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/sheet_draft.hpp>

#include <algorithm>
#include <cstdlib>
#include <random>

namespace bayswap::test {
namespace {

class Meadow {
 public:
  explicit Meadow(std::uint64_t seed) : random_(seed) {}
  std::size_t below(std::size_t limit) {
    return std::uniform_int_distribution<std::size_t>(0, limit - 1)(random_);
  }

  /// Three versions of a random save that differ here and there.
  std::vector<std::vector<Byte>> versions(std::size_t size) {
    std::vector<Byte> save(size);
    for (Byte& b : save) b = static_cast<Byte>(below(256));
    std::vector<std::vector<Byte>> out{save};
    for (int v = 1; v < 3; ++v) {
      for (int i = 0; i < 200; ++i) save[below(size)] = static_cast<Byte>(below(256));
      out.push_back(save);
    }
    return out;
  }

 private:
  std::mt19937_64 random_;
};

void put_number(std::vector<Byte>& save, std::size_t at, std::size_t bytes, bool big, std::uint64_t value) {
  for (std::size_t i = 0; i < bytes; ++i)
    save[at + i] = static_cast<Byte>(value >> 8 * (big ? bytes - 1 - i : i));
}

std::uint64_t as_bcd(std::uint64_t value) {
  std::uint64_t packed = 0;
  for (unsigned i = 0; i < 16; ++i, value /= 10) packed |= value % 10 << 4 * i;
  return packed;
}

#ifdef BAYSWAP_SANITIZED
constexpr std::size_t usual_rounds = 4;
#else
constexpr std::size_t usual_rounds = 20;
#endif

TEST(ValueSearch, FindsWhatIsPlanted) {
  const char* wanted = std::getenv("BAYSWAP_VALUE_SEARCH_ROUNDS");
  const std::size_t rounds = wanted == nullptr ? usual_rounds : static_cast<std::size_t>(std::atoi(wanted));
  std::size_t found = 0;
  std::size_t wrong = 0;
  std::size_t told = 0;
  for (std::size_t round = 0; round < rounds; ++round) {
    Meadow meadow(9931 + round);
    auto saves = meadow.versions(65536);
    const std::size_t bytes = meadow.below(2) == 0 ? 2 : 4;
    const bool big = meadow.below(2) == 0;
    const std::size_t at = 64 + meadow.below(65000);
    const std::size_t form = meadow.below(5);
    const std::uint64_t key = meadow.below(std::size_t{1} << 8 * bytes);
    ValueRequest request;
    const std::uint64_t most = bytes == 2 ? 9000 : 9'000'000;
    for (auto& save : saves) {
      const std::uint64_t value = 300 + meadow.below(most - 300);
      request.values.push_back(fmt::format("{}", value));
      const std::uint64_t forms[5] = {value, as_bcd(value), value * 5, value + key, value ^ key};
      put_number(save, at, bytes, big, form == 2 && bytes == 2 ? value * 4 : forms[form]);
    }
    std::vector<Blob> versions;
    for (const auto& save : saves) versions.push_back(Blob::copy_of(save));
    const auto finds = find_values(versions, request);
    ASSERT_TRUE(finds);
    bool is_found = false;
    for (const ValueFind& find : *finds) {
      if (find.confidence < 0.99) continue;
      ++told;
      const bool is_right = find.offset <= at + (big ? bytes - 1 : 0) &&
                            find.offset + find.bits / 8 >= at + 1 && find.offset + 8 > at &&
                            find.offset < at + bytes;
      is_found = is_found || is_right;
      if (!is_right) ++wrong;
    }
    if (is_found)
      ++found;
    else
      fmt::print("round {}: form {} at {:X}, {} bytes, {}; values {}\n", round, form, at, bytes,
                 big ? "big" : "little", request.values.front());
  }
  fmt::print("{} planted, {} found, {} told, {} wrong\n", rounds, found, told, wrong);
  EXPECT_GE(found * 100, rounds * 99);
  EXPECT_LE(wrong * 100, told);
}

TEST(ValueSearch, TextsInLettersOfTheirOwn) {
  Meadow meadow(4);
  auto saves = meadow.versions(4096);
  const std::vector<std::string> names{"Oyelaran", "Suviette"};
  for (std::size_t v = 0; v < 2; ++v)
    for (std::size_t i = 0; i < names[v].size(); ++i) {
      const char c = names[v][i];
      saves[v][0x321 + i] = static_cast<Byte>(c >= 'a' ? c - 'a' + 0xD5 : c - 'A' + 0xBB);
    }
  const std::vector<Blob> versions{Blob::copy_of(saves[0]), Blob::copy_of(saves[1])};
  ValueRequest request;
  request.values = names;
  const auto finds = find_values(versions, request);
  ASSERT_TRUE(finds);
  ASSERT_FALSE(finds->empty());
  EXPECT_EQ(finds->front().offset, 0x321U);
  EXPECT_GT(finds->front().confidence, 0.99);
  // And the sheet that is drafted from it reads them.
  SheetDraft draft;
  draft.id = "gba.names";
  draft.game.platform = Platform::gba;
  draft.size_bytes = 4096;
  draft.fields.emplace_back("name", finds->front());
  const auto toml = draft_sheet(draft);
  ASSERT_TRUE(toml) << toml.error().message;
  const SheetSave save(*Sheet::parse(*toml, "draft"), {{"sram", versions[1]}});
  EXPECT_EQ(save.show("name")->value, "Suviette");
}

TEST(ValueSearch, TrendsNarrowDown) {
  std::vector<Blob> versions;
  for (const Byte value : {Byte{10}, Byte{12}, Byte{9}, Byte{200}}) {
    std::vector<Byte> save(64, 7);
    save[5] = value;
    save[6] = static_cast<Byte>(200 - value);
    versions.push_back(Blob::copy_of(save));
  }
  ValueRequest request;
  request.trends = {Trend::more, Trend::less, Trend::more};
  const auto finds = find_values(versions, request);
  ASSERT_TRUE(finds);
  ASSERT_EQ(finds->size(), 1U);
  EXPECT_LE(finds->front().offset, 5U);
  request.trends.clear();
  request.between = {{9, 11}, {12, 12}, {8, 9}, {190, 210}};
  const auto ranges = find_values(versions, request);
  ASSERT_TRUE(ranges);
  ASSERT_FALSE(ranges->empty());
  EXPECT_EQ(ranges->front().offset, 5U);
  request.between.pop_back();
  EXPECT_FALSE(find_values(versions, request));
}

}  // namespace
}  // namespace bayswap::test
