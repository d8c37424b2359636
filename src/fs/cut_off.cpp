#include "fs/cut_off.hpp"

#include <fcntl.h>
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
    // By its number alone it could be another file by then.
    socket_ = Handle(fcntl(socket, F_DUPFD_CLOEXEC, 0));
    at_ = at;
    if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
  }
  changed_.notify_one();
}

void CutOff::move(Time at) {
  const std::scoped_lock lock(mutex_);
  at_ = at;  // later: the thread looks again when the old time has come
}

void CutOff::stop() {
  const std::scoped_lock lock(mutex_);
  socket_ = Handle(-1);
}

void CutOff::run() {
  std::unique_lock lock(mutex_);
  while (!ends_) {
    if (!socket_.is_open()) {
      changed_.wait(lock);
    } else if (std::chrono::steady_clock::now() < at_) {
      changed_.wait_until(lock, Time(at_));
    } else {
      (void)shutdown(socket_.get(), SHUT_RDWR);
      socket_ = Handle(-1);
    }
  }
}

}  // namespace bayswap
