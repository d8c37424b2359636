#include "fs/cut_off.hpp"

#include <sys/socket.h>

namespace bayswap {

CutOff::~CutOff() {
  {
    const std::scoped_lock lock(mutex_);
    ends_ = true;
  }
  changed_.notify_one();
  if (thread_.joinable()) thread_.join();
}

void CutOff::start(int socket, Time at) {
  {
    const std::scoped_lock lock(mutex_);
    socket_ = socket;
    at_ = at;
    if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
  }
  changed_.notify_one();
}

void CutOff::stop() {
  const std::scoped_lock lock(mutex_);
  socket_ = -1;
}

void CutOff::run() {
  std::unique_lock lock(mutex_);
  while (!ends_) {
    if (socket_ < 0) {
      changed_.wait(lock);
    } else if (std::chrono::steady_clock::now() < at_) {
      changed_.wait_until(lock, Time(at_));
    } else {
      (void)shutdown(socket_, SHUT_RDWR);
      socket_ = -1;
    }
  }
}

}  // namespace bayswap
