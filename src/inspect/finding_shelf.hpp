// The findings of many files, kept in little memory: most sentences of evidence are the same for many files.
#pragma once

#include <bayswap/inspect.hpp>

#include <deque>
#include <unordered_map>
#include <unordered_set>

namespace bayswap {

/// Findings in the order in which they were put, and by path. For one thread.
class FindingShelf {
 public:
  void put(const std::string& path, const Result<Finding>& finding);
  /// Returns the path of the file that was put as number `index`; `index` is below size().
  [[nodiscard]] const std::string& path(std::size_t index) const { return rows_[index].path; }
  [[nodiscard]] Result<Finding> at(std::size_t index) const;
  [[nodiscard]] std::size_t size() const { return rows_.size(); }
  /// Returns the finding of a file that nothing but its bytes and its name was known of; nothing if the file
  /// was not put, could not be read, or a game was known.
  [[nodiscard]] std::optional<Finding> without_game(const std::string& path) const;

 private:
  struct Row {
    std::string path;
    Finding finding;  // without its evidence
    std::vector<const std::string*> evidence;
    std::optional<Error> error;
  };
  std::deque<Row> rows_;
  std::unordered_map<std::string_view, std::size_t> by_path_;  // views of the rows' paths
  std::unordered_set<std::string> sentences_;
};

}  // namespace bayswap
