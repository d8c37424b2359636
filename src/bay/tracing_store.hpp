// A store that remembers the questions it was asked.
#pragma once

#include <unordered_set>

#include "fs/forwarding_store.hpp"

namespace bayswap {

/// A store that records what was listed and looked up: names, sizes and times. Its trace tells later whether
/// all of that is unchanged. Reads are not recorded; a file's size and time are in its folder's list. Not for
/// several threads at once.
class TracingStore final : public ForwardingStore {
 public:
  explicit TracingStore(Store& below) : ForwardingStore(below) {}
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  [[nodiscard]] StoreTraits traits() const override {
    StoreTraits traits = below_.traits();
    traits.one_thread = true;  // it notes what is asked
    return traits;
  }

  [[nodiscard]] const std::string& trace() const { return trace_; }
  /// Returns whether everything in `trace` is the same now. Several threads read `store` at once, if its
  /// traits allow it.
  [[nodiscard]] static bool is_as_then(Store& store, std::string_view trace);

 private:
  void note(char what, const std::string& path, std::uint64_t hash);

  std::string trace_;
  std::unordered_set<std::string> noted_;
};

}  // namespace bayswap
