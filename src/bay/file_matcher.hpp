// Which file takes the place of which.
#pragma once

#include <bayswap/bay_saves.hpp>

#include <unordered_map>

#include "base/text.hpp"

namespace bayswap {

/// Which file of the target each of the source's is. Names that differ in case alone are one file, as most
/// cards and consoles have it, unless either side has both.
class FileMatcher {
 public:
  FileMatcher(const std::vector<TreeFile>& ours, const std::vector<TreeFile>& theirs) {
    for (const TreeFile& file : ours) ++count_[lower(file.path)].first;
    for (const TreeFile& file : theirs) {
      exact_[file.path] = &file;
      ++count_[lower(file.path)].second;
      folded_[lower(file.path)] = &file;
    }
  }
  [[nodiscard]] const TreeFile* in_place_of(const TreeFile& file) const {
    if (const auto same = exact_.find(file.path); same != exact_.end()) return same->second;
    const std::string folded = lower(file.path);
    return count_.at(folded) == std::pair{1, 1} ? folded_.at(folded) : nullptr;
  }

 private:
  std::unordered_map<std::string, const TreeFile*> exact_;
  std::unordered_map<std::string, const TreeFile*> folded_;
  std::unordered_map<std::string, std::pair<int, int>> count_;  // of ours, of theirs
};

}  // namespace bayswap
