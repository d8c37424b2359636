// A line between a program and a server of this machine that fails on demand.
#pragma once

#include <poll.h>
#include <sys/ioctl.h>

#include <atomic>
#include <mutex>
#include <random>
#include <thread>

#include "support/servers.hpp"

namespace bayswap::test {

class Proxy {
 public:
  /// What happens to what goes through.
  struct Weather {
    unsigned seed = 1;
    int cuts_in_1000 = 0;      // of pieces: the connection ends there, after a part of it
    int damaged_in_1000 = 0;   // of large pieces: one bit turns, after what may be their head
    int delays_in_1000 = 0;    // of pieces: 20 ms
    std::string replaced, by;  // words of equal length on the way to the server
    bool holds = false;        // nothing gets through, and nothing is cut, until that is over
  };
  explicit Proxy(int target) : target_(target), listener_(socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    bind(listener_, reinterpret_cast<sockaddr*>(&address), size);
    listen(listener_, 64);
    getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
    port_ = ntohs(address.sin_port);
    thread_ = std::thread([this] { run(); });
  }
  ~Proxy() {
    ends_ = true;
    thread_.join();
    close(listener_);
  }
  Proxy(const Proxy&) = delete;
  Proxy& operator=(const Proxy&) = delete;
  [[nodiscard]] int port() const { return port_; }
  [[nodiscard]] int faults() const { return faults_; }
  void set(Weather weather) {
    const std::scoped_lock lock(mutex_);
    random_.seed(weather.seed);
    weather_ = std::move(weather);
  }

 private:
  struct Line {
    int client;
    int server;
  };

  void run() {
    std::vector<Line> lines;
    while (!ends_) {
      std::vector<pollfd> all{{listener_, POLLIN, 0}};
      for (const Line& line : lines) {
        all.push_back({line.client, POLLIN, 0});
        all.push_back({line.server, POLLIN, 0});
      }
      constexpr int beat = 20;
      if (poll(all.data(), all.size(), beat) <= 0) continue;
      for (std::size_t i = lines.size(); i-- > 0;) {
        const bool good = (all[1 + 2 * i].revents == 0 || pass(lines[i].client, lines[i].server, true)) &&
                          (all[2 + 2 * i].revents == 0 || pass(lines[i].server, lines[i].client, false));
        if (good) continue;
        close(lines[i].client);
        close(lines[i].server);
        lines.erase(lines.begin() + static_cast<std::ptrdiff_t>(i));
      }
      if (all[0].revents == 0) continue;
      const int client = accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC);
      const int server = connected_to(target_);
      if (client >= 0 && server >= 0)
        lines.push_back({client, server});
      else
        close(client);
    }
    for (const Line& line : lines) {
      close(line.client);
      close(line.server);
    }
  }

  bool holds() {
    const std::scoped_lock lock(mutex_);
    return weather_.holds;
  }
  bool happens(int in_1000) { return in_1000 > 0 && static_cast<int>(random_() % 1000) < in_1000; }

  bool pass(int from, int to, bool is_up) {
    std::array<char, 16384> piece{};
    const ssize_t got = recv(from, piece.data(), piece.size(), 0);
    if (got <= 0) return false;
    auto size = static_cast<std::size_t>(got);
    while (holds() && !ends_) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    const std::scoped_lock lock(mutex_);
    if (happens(weather_.delays_in_1000)) std::this_thread::sleep_for(std::chrono::milliseconds(20));
    constexpr std::size_t head = 600;
    if (size > 2 * head && happens(weather_.damaged_in_1000)) {
      piece[head + random_() % (size - head)] ^= static_cast<char>(1U << (random_() % 8));
      ++faults_;
    }
    if (is_up && !weather_.replaced.empty()) {
      const std::string_view text(piece.data(), size);
      for (auto at = text.find(weather_.replaced); at != std::string_view::npos;
           at = text.find(weather_.replaced, at + 1)) {
        std::copy(weather_.by.begin(), weather_.by.end(), piece.begin() + static_cast<std::ptrdiff_t>(at));
        ++faults_;
      }
    }
    const bool cut = happens(weather_.cuts_in_1000);
    if (cut) {
      size = random_() % size;
      ++faults_;
    }
    for (std::size_t at = 0; at < size;) {
      const ssize_t sent = send(to, piece.data() + at, size - at, MSG_NOSIGNAL);
      if (sent <= 0) return false;
      at += static_cast<std::size_t>(sent);
    }
    return !cut;
  }

  int target_;
  int listener_;
  int port_ = 0;
  std::atomic<bool> ends_ = false;
  std::atomic<int> faults_ = 0;
  std::mutex mutex_;
  Weather weather_;
  std::mt19937 random_;
  std::thread thread_;
};

}  // namespace bayswap::test
