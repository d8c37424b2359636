// Checksums planted in made-up saves, and found again from versions of them alone. The generator draws kinds,
// places, ranges and starts; what it plants is right by `recompute`, which seal_test checks against known
// values.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/checksum_search.hpp>
#include <bayswap/sheet.hpp>
#include <bayswap/sheet_draft.hpp>
#include <bayswap/value_search.hpp>

#include <algorithm>
#include <cstdlib>
#include <random>

namespace bayswap::test {
namespace {

struct Planted {
  std::vector<Blob> versions;
  std::vector<Checksum> checksums;
};

class Garden {
 public:
  explicit Garden(std::uint64_t seed) : random_(seed) {}

  std::size_t below(std::size_t limit) {
    return std::uniform_int_distribution<std::size_t>(0, limit - 1)(random_);
  }

  /// A save of random stretches and zeros; in each version some stretches of it are others.
  Planted plant(std::size_t size, std::size_t count, std::size_t versions) {
    Planted out;
    std::vector<Byte> save(size);
    for (std::size_t at = 0; at < size;) {
      const std::size_t length = std::min(size - at, 16 + below(2048));
      const bool is_blank = below(3) == 0;
      for (std::size_t i = 0; i < length; ++i)
        save[at + i] = is_blank ? Byte{0} : static_cast<Byte>(below(256));
      at += length;
    }
    while (out.checksums.size() < count) {
      const Checksum checksum = draw(size);
      std::vector<Checksum> all = out.checksums;
      all.push_back(checksum);
      const bool touches = std::ranges::any_of(out.checksums, [&](const Checksum& other) {
        return checksum.at < other.at + size_of(other.form) + 8 &&
               other.at < checksum.at + size_of(checksum.form) + 8;
      });
      if (!touches && recompute_order(all)) out.checksums = std::move(all);
    }
    for (std::size_t v = 0; v < versions; ++v) {
      if (v > 0) change(save, out.checksums);
      EXPECT_TRUE(recompute(out.checksums, save));
      out.versions.push_back(Blob::copy_of(save));
    }
    return out;
  }

 private:
  void change(std::vector<Byte>& save, const std::vector<Checksum>& checksums) {
    const std::size_t stretches = 8 + below(40);
    for (std::size_t i = 0; i < stretches; ++i) {
      const std::size_t at = below(save.size());
      const std::size_t length = std::min(save.size() - at, 1 + below(12));
      for (std::size_t b = 0; b < length; ++b) save[at + b] = static_cast<Byte>(below(256));
    }
    for (const Checksum& checksum : checksums)  // something is new under each
      for (int i = 0; i < 3; ++i) {
        const ChecksumRange range = checksum.ranges.front();
        save[range.from + below(range.to - range.from)] ^= static_cast<Byte>(1 + below(255));
      }
  }

  Checksum draw(std::size_t size) {
    Checksum checksum;
    ChecksumForm& form = checksum.form;
    switch (below(8)) {
      case 0:
      case 1:
      case 2:
        form.kind = ChecksumForm::Kind::sum;
        form.bits = below(2) == 0 ? 16 : 32;
        form.unit_bytes = below(2) == 0 ? 1 : form.bits == 16 || below(2) == 0 ? 2 : 4;
        form.unit_big_endian = form.unit_bytes > 1 && below(2) == 0;
        if (const std::size_t end = below(3); end < 2) (end == 0 ? form.complemented : form.negated) = true;
        break;
      case 3:
        form.kind = ChecksumForm::Kind::exclusive_or;
        form.bits = below(2) == 0 ? 16 : 32;
        form.unit_bytes = form.bits / 8;
        break;
      case 4:
      case 5:
      case 6: {
        form.kind = ChecksumForm::Kind::crc;
        do form.crc = usual_crcs()[below(usual_crcs().size())].second;
        while (form.crc.bits == 8);
        form.bits = form.crc.bits;
        break;
      }
      default: {
        const std::size_t which = below(3);
        form.kind = which == 0   ? ChecksumForm::Kind::adler32
                    : which == 1 ? ChecksumForm::Kind::md5
                                 : ChecksumForm::Kind::sha1;
        break;
      }
    }
    const bool is_digest = form.kind == ChecksumForm::Kind::md5 || form.kind == ChecksumForm::Kind::sha1;
    checksum.big_endian = !is_digest && below(2) == 0;
    const std::size_t own = size_of(form);
    const std::size_t grid = is_digest ? 16 : 4;
    const std::size_t from = below(size / 2 / grid) * grid;
    const std::size_t to = from + (16 + below((size - from - 64) / grid)) * grid;
    checksum.ranges = {{from, std::min(to, size - 32)}};
    const std::size_t last = checksum.ranges.front().to;
    switch (below(3)) {
      case 0:  // right after the range
        checksum.at = last;
        break;
      case 1:  // before it
        checksum.at = from >= own ? from - own : last;
        break;
      default:  // within it, where that counts as nothing
        checksum.at = is_digest ? last : from + below(last - from - own);
        break;
    }
    return checksum;
  }

  std::mt19937_64 random_;
};

bool is_same_place(const Checksum& a, const Checksum& b) {
  return a.at == b.at && size_of(a.form) == size_of(b.form);
}

#ifdef BAYSWAP_SANITIZED
constexpr std::size_t checksum_rounds = 2;
constexpr std::size_t save_bytes = 16384;
#else
constexpr std::size_t checksum_rounds = 4;
constexpr std::size_t save_bytes = 65536;
#endif

TEST(ChecksumSearch, FindsWhatIsPlanted) {
  const char* rounds_wanted = std::getenv("BAYSWAP_CHECKSUM_ROUNDS");
  const std::size_t rounds =
      rounds_wanted == nullptr ? checksum_rounds : static_cast<std::size_t>(std::atoi(rounds_wanted));
  std::size_t planted = 0;
  std::size_t found = 0;
  std::size_t exact = 0;
  std::size_t wrong = 0;
  for (std::size_t round = 0; round < rounds; ++round) {
    Garden garden(2031 + round);
    const Planted save = garden.plant(save_bytes, 4, 3);
    const auto search = find_checksums(save.versions);
    ASSERT_TRUE(search) << search.error().message;
    planted += save.checksums.size();
    for (const Checksum& checksum : save.checksums) {
      const auto same = std::ranges::find_if(search->checksums, [&](const ChecksumFind& find) {
        return is_same_place(find.checksum, checksum);
      });
      if (same == search->checksums.end()) {
        fmt::print("round {}: missing {} at {:X} over {:X} to {:X}\n", round, to_text(checksum.form),
                   checksum.at, checksum.ranges[0].from, checksum.ranges[0].to);
        continue;
      }
      ++found;
      if (same->checksum.ranges == checksum.ranges)
        ++exact;
      else
        fmt::print("round {}: {} at {:X} over {:X} to {:X}, not {:X} to {:X}: {}\n", round,
                   to_text(checksum.form), checksum.at, same->checksum.ranges[0].from,
                   same->checksum.ranges[0].to, checksum.ranges[0].from, checksum.ranges[0].to,
                   to_text(same->checksum.form));
    }
    for (const ChecksumFind& find : search->checksums) {
      const bool is_planted = std::ranges::any_of(
          save.checksums, [&](const Checksum& checksum) { return is_same_place(find.checksum, checksum); });
      if (is_planted) continue;
      ++wrong;
      for (const Checksum& checksum : save.checksums)
        fmt::print("   planted {} at {:X} over {:X} to {:X}\n", to_text(checksum.form), checksum.at,
                   checksum.ranges[0].from, checksum.ranges[0].to);
      fmt::print("round {}: wrong {} at {:X} over {:X} to {:X}, {:.3g}\n", round, to_text(find.checksum.form),
                 find.checksum.at, find.checksum.ranges[0].from, find.checksum.ranges[0].to,
                 find.expected_false);
    }
  }
  fmt::print("{} planted, {} found, {} with the very range, {} wrong\n", planted, found, exact, wrong);
  EXPECT_GE(found * 100, planted * 99);
  EXPECT_LE(wrong * 100, planted);
}

// A main and a backup that are the same, and a value with its complement behind it: each is found, twice, and
// nothing that only cancels out. The draft then changes both.
TEST(ChecksumSearch, CopiesAndPairsAreUnderstood) {
  for (std::uint32_t seed = 1; seed <= checksum_rounds * 3; ++seed) {
    SCOPED_TRACE(seed);
    std::mt19937 dice(seed);
    const std::size_t half = std::size_t{512} << dice() % 3;
    const bool is_xor = dice() % 2 == 0;
    const std::size_t value = dice() % 2 == 0 ? half - 4 : 8;
    const bool paired = !is_xor;
    Checksum checksum;
    checksum.form.kind = is_xor ? ChecksumForm::Kind::exclusive_or : ChecksumForm::Kind::sum;
    checksum.form.bits = is_xor ? 32 : 16;
    checksum.form.unit_bytes = is_xor ? 4 : 1;
    checksum.ranges = {{16, half - 4}};
    checksum.at = value;
    std::vector<Byte> one(half);
    for (std::size_t i = 0; i < half; ++i) one[i] = dice() % 3 == 0 ? static_cast<Byte>(dice()) : Byte{0};
    std::vector<Blob> versions;
    for (int v = 0; v < 4; ++v) {
      for (int i = 0; i < 12 * v; ++i) one[24 + dice() % (half - 40)] = static_cast<Byte>(dice());
      one[20] = static_cast<Byte>(17 + v * v);  // what the game shows
      ASSERT_TRUE(recompute({checksum}, one));
      if (paired)
        for (std::size_t i = 0; i < 2; ++i) one[value + 2 + i] = static_cast<Byte>(~one[value + i]);
      std::vector<Byte> whole = one;
      whole.insert(whole.end(), one.begin(), one.end());
      versions.push_back(Blob::copy_of(whole));
    }
    const auto found = find_checksums(versions);
    ASSERT_TRUE(found);
    std::string all;
    for (const ChecksumFind& find : found->checksums)
      all += fmt::format("{:x} over {:x} to {:x}: {}; ", find.checksum.at, find.checksum.ranges.front().from,
                         find.checksum.ranges.front().to, to_text(find.checksum.form));
    ASSERT_EQ(found->checksums.size(), paired ? 4U : 2U) << all;
    std::set<std::size_t> places;
    for (const ChecksumFind& find : found->checksums) places.insert(find.checksum.at);
    const std::set<std::size_t> wanted =
        paired ? std::set{value, value + 2, half + value, half + value + 2} : std::set{value, half + value};
    EXPECT_EQ(places, wanted);
    // The sheet that comes of it: a change goes to both, all checksums hold; a torn copy gets what the sound
    // one has.
    SheetDraft draft;
    draft.id = "gba.mirror";
    draft.game.platform = Platform::gba;
    draft.size_bytes = 2 * half;
    draft.checksums = found->checksums;
    draft.copies = found->copies;
    ValueRequest request;
    request.values = {"17", "18", "21", "26"};
    const auto finds = find_values(versions, request);
    ASSERT_TRUE(finds && !finds->empty());
    draft.fields.emplace_back("coins", finds->front());
    const auto toml = draft_sheet(draft);
    ASSERT_TRUE(toml) << toml.error().message;
    const Sheet sheet = *Sheet::parse(*toml, "draft");
    const auto halves_of = [&](const std::vector<SheetFile>& files) {
      const ByteView bytes = files.front().bytes.view();
      return std::pair(Blob::copy_of(bytes.first(half)), Blob::copy_of(bytes.subspan(half)));
    };
    for (const bool torn : {false, true}) {
      std::vector<Byte> bytes(versions[1].view().begin(), versions[1].view().end());
      if (torn) std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(half + 20), half / 3, Byte{0x5a});
      const SheetSave save(sheet, {{"sram", Blob::copy_of(bytes)}});
      EXPECT_EQ(save.verdict().findings.empty(), !torn);
      const auto edit = save.change({{"copy.coins", "200"}});
      ASSERT_TRUE(edit) << edit.error().message << *toml;
      const auto [main, backup] = halves_of(edit->files);
      EXPECT_EQ(main, backup);
      EXPECT_EQ(main.view()[20], 200);
      EXPECT_TRUE(SheetSave(sheet, edit->files).verdict().findings.empty());
      const auto again = save.recompute();
      ASSERT_TRUE(again);
      const auto [first, second] = halves_of(again->files);
      EXPECT_EQ(first, second);
      EXPECT_EQ(first, Blob::copy_of(versions[1].view().first(half)));
    }
  }
}

}  // namespace
}  // namespace bayswap::test
