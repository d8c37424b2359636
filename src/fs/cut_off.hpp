// A connection that takes longer than it may is cut, from a thread of its own.
#pragma once

#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "fs/handle.hpp"

namespace bayswap {

/// Shuts a socket down when a time has passed, so that a call that waits on it returns. For one connection;
/// its calls may come from any thread.
class CutOff {
 public:
  using Time = std::chrono::steady_clock::time_point;
  CutOff() = default;
  ~CutOff();
  CutOff(const CutOff&) = delete;
  CutOff& operator=(const CutOff&) = delete;

  /// From now on; another start() replaces it. Keeps a handle of its own: who has the socket may close it.
  void start(int socket, Time at);
  /// Another time, if one was started.
  void move(Time at);
  void stop();

 private:
  void run();

  std::mutex mutex_;
  std::condition_variable changed_;
  Handle socket_{-1};  // not open: nothing to cut
  Time at_;
  bool ends_ = false;
  std::thread thread_;  // made when it is first needed
};

}  // namespace bayswap
