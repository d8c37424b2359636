// Work on several processors whose failures stay failures of the caller.
#pragma once

#include <exception>
#include <mutex>
#include <thread>
#include <vector>

namespace bayswap {

/// Runs `work` in `helpers` further threads and in this one, and waits for all of them. An exception in any
/// of them (out of memory; no more threads) is thrown again here: in a thread of its own it would end the
/// process.
template <class Work>
void in_parallel(std::size_t helpers, const Work& work) {
  std::exception_ptr failure;
  std::mutex mutex;
  const auto guarded = [&] {
    try {
      work();
    } catch (...) {
      const std::scoped_lock lock(mutex);
      if (!failure) failure = std::current_exception();
    }
  };
  {
    std::vector<std::jthread> threads;
    threads.reserve(helpers);
    for (std::size_t i = 0; i < helpers; ++i) threads.emplace_back(guarded);
    guarded();
  }
  if (failure) std::rethrow_exception(failure);
}

}  // namespace bayswap
