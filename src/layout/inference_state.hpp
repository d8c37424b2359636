// What there is to learn from: examples, and where the parts are in each. Shared by the steps of `infer`.
#pragma once

#include <bayswap/infer.hpp>

#include <map>

namespace bayswap {

/// Where the parts are in one file, or in the stream that comes out of it.
struct Reading {
  Stream stream;
  Blob plain;
  std::map<std::string, std::vector<Slot>> ways;  // by role
};

struct InferenceState {
  explicit InferenceState(const std::vector<Example>& given) : examples(given) {}

  /// Reads every example. Errors as `infer` has them.
  Result<void> read();
  /// How much longer than the first example's a file is.
  [[nodiscard]] std::ptrdiff_t grown(std::size_t example) const;
  /// The same way at the same place in another example; a place after what grew has moved along. May be
  /// nothing.
  [[nodiscard]] const Slot* counterpart(const Slot& slot, std::size_t example) const;
  [[nodiscard]] bool brings(std::size_t example, Role role) const;
  /// The byte at offset `at` of the first example, in another one.
  [[nodiscard]] Byte byte_of(std::size_t example, std::size_t at) const;

  const std::vector<Example>& examples;
  std::vector<Reading> readings;
  std::vector<std::size_t> sizes;  // of the part that has several
  std::optional<Role> elastic_role;
  std::size_t elastic_end = 0;  // in the first example; 0: no part has several sizes
  std::size_t outside_bytes = 0;
  std::size_t changing_bytes = 0;
  Inferred result;
};

/// What stands outside of the slots: filler, what is always the same, what changes. Goes into result.
void settle_surroundings(InferenceState& lesson);

}  // namespace bayswap
