// What a session holds, for the files of this room.
#pragma once

#include <bayswap/session.hpp>

#include "session/books.hpp"

namespace bayswap {

struct Session::Impl {
  SessionOptions options;
  KnownBooks books;
  std::unique_ptr<LockedLogbook> logbook;

  /// The request with the accounts that were remembered for these two places.
  [[nodiscard]] CarryRequest with_accounts(CarryRequest request, const OpenPlace& source,
                                           const OpenPlace& target) const;
  /// Keeps what plans that ran have taught; what can't be kept is told.
  void learn(std::span<const Plan* const> plans);
};

/// Fails with `busy` if a program uses a file that the plan changes.
[[nodiscard]] Result<void> check_idle(const Plan& plan, Store& target, std::int64_t now, Logbook& logbook);
/// What to show of a plan while it runs.
[[nodiscard]] std::string label_of(const Plan& plan);

}  // namespace bayswap
