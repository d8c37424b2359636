// How similar the files of two saves are.
#pragma once

#include <bayswap/content.hpp>

namespace bayswap {

/// A save's files for comparison with others: names in lower case and in order, sizes, first bytes. Small, so
/// that those of a whole bay fit in memory.
struct TreeSketch {
  struct File {
    std::string name;
    std::uint64_t size_bytes = 0;
    std::array<Byte, 16> head{};  // 00 after the end
  };
  std::vector<File> files;
};
[[nodiscard]] TreeSketch sketch_of(const std::vector<TreeFile>& files);

/// How similar two saves' files are in names, sizes, structure and first bytes: 0 to 1, with the reasons.
struct Likeness {
  double score = 0;
  std::vector<std::string> reasons;
};
[[nodiscard]] Likeness likeness(const TreeSketch& a, const TreeSketch& b);

/// Which part of the stretches of 8 bytes that hold something in both is the same in both, at the same place:
/// 0 to 1; 0 where there are few. Saves of one game have most in common, those of two games next to nothing
/// (tests/claims_test.cpp measures it).
[[nodiscard]] double equal_share(ByteView a, ByteView b);
/// What two saves of different games never reach.
inline constexpr double clear_share = 0.05;

class BayView;
struct HeldSave;
/// Returns a sketch of the files of a folder or package save, read once per view.
[[nodiscard]] const TreeSketch& sketch_in(BayView& view, const HeldSave& save);

}  // namespace bayswap
