#include "inspect/finding_shelf.hpp"

namespace bayswap {

void FindingShelf::put(const std::string& path, const Result<Finding>& finding) {
  Row& row = rows_.emplace_back();
  row.path = path;
  by_path_.emplace(row.path, rows_.size() - 1);
  if (!finding) {
    row.error = finding.error();
    return;
  }
  row.finding = *finding;
  row.evidence.reserve(finding->evidence.size());
  for (const std::string& sentence : finding->evidence)
    row.evidence.push_back(&*sentences_.insert(sentence).first);
  row.finding.evidence = {};
}

Result<Finding> FindingShelf::at(std::size_t index) const {
  const Row& row = rows_[index];
  if (row.error) return tl::unexpected(*row.error);
  Finding finding = row.finding;
  finding.evidence.reserve(row.evidence.size());
  for (const std::string* sentence : row.evidence) finding.evidence.push_back(*sentence);
  return finding;
}

std::optional<Finding> FindingShelf::without_game(const std::string& path) const {
  const auto found = by_path_.find(path);
  if (found == by_path_.end()) return std::nullopt;
  const Row& row = rows_[found->second];
  if (row.error || row.finding.game) return std::nullopt;
  return *at(found->second);
}

}  // namespace bayswap
