// Work on several processors whose failures stay failures of the caller.
#pragma once

#include <exception>
#include <mutex>
#include <system_error>
#include <thread>
#include <vector>

namespace bayswap {

/// Runs `work` in up to `helpers` further threads and in this one, and waits for all of them. Where the
/// system starts no more threads, the ones there are do the work: `work` takes its next piece from a shared
/// counter. An exception in any of them (out of memory) is thrown again here: in a thread of its own it would
/// end the process.
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
    try {
      for (std::size_t i = 0; i < helpers; ++i) threads.emplace_back(guarded);
    } catch (const std::system_error&) {
      // No more threads.
    }
    guarded();
  }
  if (failure) std::rethrow_exception(failure);
}

}  // namespace bayswap
