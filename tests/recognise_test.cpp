#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/inspect.hpp>

#include <filesystem>
#include <iostream>
#include <map>

#include "base/path.hpp"
#include "save/pak.hpp"
#include "support/builders.hpp"
#include "support/core_files.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using Says = OrderVerdict::Says;

// Big-endian records with short names, counters and floating-point places, as a game of the console keeps
// them.
Blob game_like(std::uint32_t seed) {
  std::mt19937 dice(seed);
  std::vector<Byte> out;
  const auto word = [&](std::uint_fast32_t w) {
    for (int shift = 24; shift >= 0; shift -= 8) out.push_back(static_cast<Byte>(w >> shift));
  };
  while (out.size() < 32768) {
    for (const char c : std::string_view("IDA\0", 4)) out.push_back(static_cast<Byte>(c));
    for (int i = 0; i < 6; ++i) word(dice() % 5000);
    const std::uint32_t floats[] = {0x3f800000, 0x42c80000, 0xbf000000};
    word(floats[dice() % 3]);
    word(0);
  }
  out.resize(32768);
  return Blob::copy_of(out);
}

TEST(WordOrder, TextNumbersAndTablesTellIt) {
  for (const Blob& chip :
       {game_like(1), game_like(2), pattern(32768, 0x31), pattern(32768, 0x52), pattern(131072, 0x31)}) {
    const OrderVerdict straight = judge_word_order(chip.view(), {});
    const OrderVerdict reversed = judge_word_order(words_reversed(chip).view(), {});
    EXPECT_EQ(straight.says, Says::chip) << straight.evidence;
    EXPECT_EQ(reversed.says, Says::reversed) << reversed.evidence;
    EXPECT_GT(straight.confidence, 0.8);
    EXPECT_FALSE(straight.evidence.empty());
  }
}

TEST(WordOrder, TheGamesOwnNameTellsIt) {
  const GameId game{Platform::n64, "N99P", "LANTERN SKIFF", Region::europe, 0};
  std::vector<Byte> bytes = bytes_of(noise(32768, 5));
  const std::string name = "Lantern Skiff";
  std::copy(name.begin(), name.end(), bytes.begin() + 0x101);
  const Blob chip = Blob::copy_of(bytes);
  EXPECT_EQ(judge_word_order(chip.view(), {}).says, Says::nothing);
  EXPECT_EQ(judge_word_order(chip.view(), game).says, Says::chip);
  EXPECT_EQ(judge_word_order(words_reversed(chip).view(), game).says, Says::reversed);
}

// What games write, in the chip's order: texts that begin and end anywhere with gaps of zeros between them,
// tables of names, numbers of the console's own order, floating point, all at once or one alone.
Blob chip_of_kind(std::uint32_t seed, unsigned kinds) {
  static constexpr std::array<std::string_view, 10> words{
      "SCORE007919",      "Ferry", "OLD MILL", "Ada",     "12:30",
      "the harbour lamp", "Quill", "HI",       "brine 4", "Oyelaran"};
  std::mt19937 dice(seed);
  const auto below = [&](std::size_t end) { return static_cast<std::size_t>(dice() % end); };
  std::vector<Byte> out;
  const auto number = [&](std::uint32_t value, int bytes) {
    for (int shift = 8 * (bytes - 1); shift >= 0; shift -= 8)
      out.push_back(static_cast<Byte>(value >> shift));
  };
  const std::size_t size = below(2) == 0 ? 32768 : 131072;
  const std::size_t used = below(3) == 0 ? size : 200 + below(4000);
  while (out.size() < used) {
    if ((kinds & 1U) != 0) {
      for (std::size_t n = 1 + below(4); n > 0; --n) {
        const std::string_view word = words.at(below(words.size()));
        out.insert(out.end(), word.begin(), word.end());
        if (n > 1) out.push_back(' ');
      }
      out.insert(out.end(), 1 + below(9), Byte{0});
    }
    if ((kinds & 2U) != 0)
      for (int i = 0; i < 8; ++i) {
        const std::string_view word = words.at(below(words.size()));
        for (std::size_t c = 0; c < 8; ++c)
          out.push_back(c < word.size() ? static_cast<Byte>(word[c]) : Byte{0});
      }
    if ((kinds & 4U) != 0) {
      while (out.size() % 4 != 0) out.push_back(0);
      for (std::size_t n = 4 + below(12); n > 0; --n)
        number(static_cast<std::uint32_t>(below(std::size_t{1} << below(18))), 4);
    }
    if ((kinds & 8U) != 0) {
      while (out.size() % 2 != 0) out.push_back(0);
      for (std::size_t n = 4 + below(12); n > 0; --n)
        number(static_cast<std::uint32_t>(below(std::size_t{1} << below(12))), 2);
    }
    if ((kinds & 16U) != 0) {
      while (out.size() % 4 != 0) out.push_back(0);
      for (std::size_t n = below(6); n > 0; --n)
        number(0x3f800000U + static_cast<std::uint32_t>(below(0x4000000)), 4);
    }
    if ((kinds & 32U) != 0)
      for (std::size_t n = below(60); n > 0; --n) out.push_back(static_cast<Byte>(dice()));
    if (below(3) == 0) out.insert(out.end(), below(200), Byte{0});
  }
  out.resize(size);
  return Blob::copy_of(out);
}

TEST(WordOrder, IsNeverWrongWithTwoKindsOfEvidenceAndSeldomWithOne) {
  int claims = 0;
  int wrong = 0;
  int sure = 0;
  int wrong_and_sure = 0;
  std::string which;
  const auto base = static_cast<std::uint32_t>(rc::detail::configuration().testParams.seed);
#ifdef BAYSWAP_SANITIZED
  constexpr std::uint32_t saves = 100;
#else
  constexpr std::uint32_t saves = 3000;
#endif
  for (std::uint32_t i = 0; i < saves; ++i) {
    const unsigned kinds = 1 + i % 63;
    const Blob chip = chip_of_kind(base + i, kinds);
    const bool turned = i % 2 == 1;
    const OrderVerdict verdict = judge_word_order((turned ? words_reversed(chip) : chip).view(), {});
    if (verdict.says == Says::nothing) continue;
    const bool is_right = (verdict.says == Says::reversed) == turned;
    ++claims;
    wrong += is_right ? 0 : 1;
    if (verdict.kinds >= 2) {
      ++sure;
      wrong_and_sure += is_right ? 0 : 1;
    }
    if (!is_right) which += fmt::format("{} ({} kinds: {}) ", kinds, verdict.kinds, verdict.evidence);
  }
  std::cout << claims << " told of " << saves << ", " << wrong << " wrong; " << sure << " by two kinds, "
            << wrong_and_sure << " wrong\n";
  EXPECT_GE(claims, static_cast<int>(saves) / 2);
  EXPECT_LE(wrong * 100, claims) << which;
  EXPECT_EQ(wrong_and_sure, 0) << which;
}

TEST(WordOrder, NoiseTellsNothing) {
  int wrong = 0;
  for (std::uint32_t seed = 0; seed < 300; ++seed)
    for (const ByteOrder other : {ByteOrder::swap16, ByteOrder::swap32, ByteOrder::swap64})
      if (judge_word_order(noise(seed % 2 == 0 ? 32768 : 1024, seed).view(), {}, other).says != Says::nothing)
        ++wrong;
  EXPECT_EQ(wrong, 0);
  expect_property("turning the words turns the verdict, and nothing else", [] {
    const Blob bytes = arbitrary_bytes(4 * *rc::gen::inRange<std::size_t>(0, 600));
    const OrderVerdict straight = judge_word_order(bytes.view(), {});
    const OrderVerdict reversed = judge_word_order(words_reversed(bytes).view(), {});
    RC_ASSERT((straight.says == Says::chip) == (reversed.says == Says::reversed));
    RC_ASSERT((straight.says == Says::nothing) == (reversed.says == Says::nothing));
  });
}

TEST(Inspect, SramTwinsByEvidenceOrHonestlyEither) {
  const Catalog catalog;
  const Hints n64{.platform = Platform::n64};
  const Finding chip = inspect(catalog, game_like(3), n64);
  EXPECT_EQ(chip.kind, FileKind::battery_save);
  ASSERT_NE(chip.layout, nullptr);
  EXPECT_EQ(chip.layout->id, "n64.sram");
  EXPECT_TRUE(chip.either.empty());
  EXPECT_EQ(inspect(catalog, words_reversed(game_like(3)), n64).layout->id, "n64.sram-le");

  const Finding either = inspect(catalog, noise(131072, 9), n64);
  ASSERT_EQ(either.either.size(), 2U);
  EXPECT_EQ(either.either[0]->id, "n64.flash");
  EXPECT_EQ(either.either[1]->id, "n64.flash-le");

  const Finding any = inspect(catalog, game_like(3));
  EXPECT_FALSE(any.platform) << "without a platform its size is shared by many";
  EXPECT_GT(any.either.size(), 5U);
  const Finding hinted = inspect(catalog, words_reversed(game_like(3)), {.extension = ".sra"});
  EXPECT_EQ(hinted.layout->id, "n64.sram-le") << "an extension that only one platform has is a hint";
}

TEST(Inspect, ControllerPakIsToldFromSramOfTheSameSize) {
  const Catalog catalog;
  std::vector<Byte> pak = bytes_of(fresh_pak(1));
  pak[0x500] = 7;
  const Finding finding = inspect(catalog, Blob::copy_of(pak));
  EXPECT_EQ(finding.kind, FileKind::controller_pak);
  EXPECT_EQ(finding.layout->id, "n64.pak");
  EXPECT_GT(finding.confidence, 0.9);
  ASSERT_EQ(finding.parts.size(), 1U);
  EXPECT_FALSE(finding.parts.front().blank);
}

TEST(Inspect, CombinedFileWithItsParts) {
  const Catalog catalog;
  for (const char* id : {"n64.combined", "n64.combined-be"}) {
    const Save save{Platform::n64, {{{PartKind::sram, 0}, game_like(4), true}}};
    const Finding finding = inspect(catalog, *pack(layout(catalog, id), save));
    EXPECT_EQ(finding.layout->id, id);
    EXPECT_GT(finding.confidence, 0.85);
    ASSERT_EQ(finding.parts.size(), 7U);
    for (const PartFinding& part : finding.parts)
      EXPECT_EQ(part.blank, part.role.kind != PartKind::sram) << to_text(part.role);
  }
}

TEST(Inspect, RomsAndUnknownFiles) {
  const Catalog catalog;
  const Finding rom = inspect(catalog, n64_rom());
  EXPECT_EQ(rom.kind, FileKind::rom);
  EXPECT_EQ(rom.game->code, "N99P");
  EXPECT_EQ(rom.layout, nullptr);
  for (const std::size_t size : {0U, 1U, 511U, 513U, 32767U, 32769U, 296959U, 296961U}) {
    const Finding finding = inspect(catalog, noise(size, 1));
    EXPECT_EQ(finding.kind, FileKind::unknown) << size;
    EXPECT_FALSE(finding.evidence.empty());
  }
  expect_property("any bytes get a finding with reasons and a confidence from 0 to 1", [&] {
    const auto size = *rc::gen::element<std::size_t>(0, 100, 512, 2048, 32768);
    const Finding finding = inspect(catalog, arbitrary_bytes(size));
    RC_ASSERT(finding.confidence >= 0 && finding.confidence <= 1);
    RC_ASSERT(!finding.evidence.empty());
    RC_ASSERT((finding.kind == FileKind::unknown) == (finding.layout == nullptr));
  });
}

TEST(Inspect, TheRomBesideASaveNamesTheGame) {
  MemoryStore store;
  ASSERT_TRUE(store.replace("saves/Skiff.sra", game_like(1).view()));
  ASSERT_TRUE(store.replace("saves/Skiff.txt", text_blob("a walkthrough").view()));
  ASSERT_TRUE(store.replace("saves/Skiff.bin", n64_rom({.order = RomOrder::swap16}).view()));
  ASSERT_TRUE(store.replace("saves/Other.z64", n64_rom({.code = "N98E"}).view()));
  const Catalog catalog;
  const auto finding = inspect_file(catalog, store, "saves/Skiff.sra");
  ASSERT_TRUE(finding);
  ASSERT_TRUE(finding->game) << "the extension never decides";
  EXPECT_EQ(finding->game->code, "N99P");
  EXPECT_GT(finding->confidence, inspect(catalog, game_like(1), {.extension = ".sra"}).confidence)
      << "a ROM at hand settles the platform";
  EXPECT_EQ(inspect_file(catalog, store, "saves/none").error().code, ErrorCode::not_found);
}

// Files that real cores wrote.
TEST(Inspect, FilesOfLiveCores) {
  const Catalog catalog;
  int seen = 0;
  for (const auto& [path, file] : core_files().files()) {
    const std::string extension(extension_of(path));
    if (!path.starts_with("n64/") || (extension != ".sra" && extension != ".eep")) continue;
    ++seen;
    const auto finding = inspect_file(catalog, core_files(), path);
    ASSERT_TRUE(finding);
    EXPECT_EQ(finding->layout->id, extension == ".sra" ? "n64.sram-le" : "n64.eeprom") << path;
    const unsigned seed = component(path, 1) == "A" ? 0x31 : 0x52;
    const auto save = unpack(*finding->layout, file.bytes);
    EXPECT_EQ(save->parts.front().bytes, pattern(save->parts.front().bytes.size(), seed)) << path;
  }
  EXPECT_GE(seen, 4);
}

// gb files of live cores, told with the ROM that wrote them: whatever form, the same memory.
TEST(Inspect, GbFilesOfLiveCoresAreToldWithTheirRom) {
  const Catalog catalog;
  int seen = 0;
  for (const auto& [path, file] : core_files().files()) {
    const std::string extension(extension_of(path));
    if (!path.starts_with("gb/")) continue;
    if (extension != ".srm" && extension != ".sav" && extension != ".rtc") continue;
    ++seen;
    const std::string variant = component(path, 1);
    const std::string program = component(path, 3);
    const auto rom = core_files().read("roms/" + program + "/" + variant + "/Tideward (World).gb");
    ASSERT_TRUE(rom) << path;
    const auto facts = identify_rom(rom->view());
    Hints hints;
    hints.game = facts->game;
    hints.chips = facts->chips;
    hints.extension = extension;
    const auto finding = inspect_file(catalog, core_files(), path, hints);
    ASSERT_TRUE(finding && finding->layout != nullptr) << path;
    EXPECT_TRUE(finding->either.empty()) << path;
    const auto opened = open_save(*finding->layout, file.bytes, hints.chips);
    ASSERT_TRUE(opened) << path;
    const Part* part = opened->save.find({PartKind::sram, 0});
    EXPECT_EQ(part == nullptr, extension == ".rtc");
    if (part == nullptr) continue;
    const Blob wanted = pattern(part->bytes.size(), variant == "A" ? 0x31 : 0x52);
    const Byte mask = program == "gb-mbc2" ? 0x0f : 0xff;
    EXPECT_TRUE(std::equal(wanted.view().begin(), wanted.view().end(), part->bytes.view().begin(),
                           [mask](Byte a, Byte b) { return (a & mask) == (b & mask); }))
        << path;
  }
  EXPECT_GE(seen, 30);
}

TEST(Scan, FoldersFilePerFileWithTheRomsBeside) {
  MemoryStore store;
  for (int i = 0; i < 600; ++i)
    ASSERT_TRUE(store.replace("saves/" + std::to_string(i % 7) + "/Save " + std::to_string(i) + ".sra",
                              game_like(static_cast<std::uint32_t>(i % 5)).view()));
  ASSERT_TRUE(store.replace("saves/3/Skiff.sra", game_like(1).view()));
  ASSERT_TRUE(store.replace("saves/3/Skiff.z64", n64_rom().view()));
  ASSERT_TRUE(store.replace("saves/notes.txt", text_blob("nothing").view()));
  const Catalog catalog;
  std::vector<std::string> paths;
  std::map<std::string, Finding> found;
  ASSERT_TRUE(inspect_folder(catalog, store, "saves", {},
                             [&](const std::string& path, const Result<Finding>& finding) {
                               ASSERT_TRUE(finding) << path;
                               paths.push_back(path);
                               found[path] = *finding;
                             }));
  EXPECT_EQ(paths.size(), 603U);
  EXPECT_EQ(found.size(), 603U) << "each file once";
  EXPECT_EQ(found["saves/3/Skiff.z64"].kind, FileKind::rom);
  EXPECT_EQ(found["saves/3/Skiff.sra"].game->code, "N99P");
  EXPECT_FALSE(found["saves/3/Save 3.sra"].game);
  EXPECT_EQ(found["saves/3/Save 3.sra"].layout->id, "n64.sram");
  EXPECT_EQ(found["saves/notes.txt"].kind, FileKind::unknown);
  EXPECT_EQ(inspect_folder(catalog, store, "none", {}, [](const auto&, const auto&) {}).error().code,
            ErrorCode::not_found);
}

// Layouts that somebody learned, of the very sizes that the built-in ones have: nothing is told otherwise for
// them, but files that have a header only they know.
TEST(Recognition, LearnedLayoutsDisturbNothing) {
  const Catalog plain;
  Catalog learned;
  int number = 0;
  for (const char* platform : {"gb", "gba", "n64", "nes", "snes"})
    for (const char* rest : {"size = 32768\norder = \"swap32\"\n", "size = 8192\n",
                             "size = 131072\norder = \"swap16\"\n", "size = 2048\nspread = \"ff\"\n"}) {
      const std::string text =
          "id = \"" + std::string(platform) + ".learned" + std::to_string(++number) + "\"\nplatform = \"" +
          platform + "\"\nname = \"learned\"\nextension = \".eep\"\n[[part]]\nrole = \"sram\"\nat = 0\n" +
          rest;
      const auto layout = parse_layout(text, "learned.toml");
      ASSERT_TRUE(layout) << layout.error().message << text;
      ASSERT_TRUE(learned.add(*layout));
    }
  const auto headed = parse_layout(
      "id = \"gba.headed\"\nplatform = \"gba\"\nname = \"headed\"\n[[part]]\nrole = \"sram\"\nat = 16\nsize "
      "= 32752\n"
      "[[field]]\nat = 0\nhex = \"4b49544553415645\"\n",
      "headed.toml");
  ASSERT_TRUE(headed) << headed.error().message;
  ASSERT_TRUE(learned.add(*headed));
  for (const std::size_t size : {512U, 2048U, 8192U, 32768U, 131072U, 262144U, 40000U})
    for (const std::uint32_t seed : {1U, 2U, 3U})
      for (const char* extension : {"", ".sav", ".eep", ".srm"})
        for (const auto platform :
             {std::optional<Platform>(), std::optional(Platform::gba), std::optional(Platform::gb)}) {
          const Blob file =
              seed == 3 ? game_like(seed).slice(0, std::min<std::size_t>(size, game_like(seed).size()))
                        : noise(size, seed);
          Hints hints;
          hints.extension = extension;
          hints.platform = platform;
          const Recognition with = recognise(learned, file, hints);
          const Recognition without = recognise(plain, file, hints);
          if (without.matches.empty()) continue;
          EXPECT_EQ(with.alike, without.alike);
          ASSERT_EQ(with.matches.size(), without.matches.size()) << size << extension;
          for (std::size_t i = 0; i < with.matches.size(); ++i) {
            EXPECT_EQ(with.matches[i].layout->id, without.matches[i].layout->id);
            EXPECT_EQ(with.matches[i].evidence, without.matches[i].evidence);
          }
        }
}

}  // namespace
}  // namespace bayswap::test
