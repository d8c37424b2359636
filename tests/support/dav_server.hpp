// A WebDAV server of Debian's, as a child on a free port of this machine.
#pragma once

#include <arpa/inet.h>
#include <gtest/gtest.h>
#include <netinet/in.h>
#include <signal.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>
#include <bayswap/fs.hpp>

#include <chrono>
#include <cstring>
#include <thread>

#include "support/builders.hpp"
#include "support/folder.hpp"

extern char** environ;  // NOLINT

namespace bayswap::test {

/// A port that is free now.
inline int free_port() {
  const int handle = socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof address;
  bind(handle, reinterpret_cast<sockaddr*>(&address), size);
  getsockname(handle, reinterpret_cast<sockaddr*>(&address), &size);
  close(handle);
  return ntohs(address.sin_port);
}

inline bool answers(int port) {
  const int handle = socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  const bool open = connect(handle, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0;
  close(handle);
  return open;
}

class DavServer {
 public:
  explicit DavServer(bool with_password = false) : port_(free_port()) {
    const std::string modules = "/usr/lib/apache2/modules/mod_";
    std::string text = "ServerRoot " + folder_.path() + "\nServerName localhost\nPidFile " +
                       (folder_ / "pid") + "\nErrorLog " + (folder_ / "log") +
                       "\nListen 127.0.0.1:" + std::to_string(port_) + "\n";
    for (const std::string name :
         {"mpm_event", "authz_core", "authn_core", "authn_file", "authz_user", "auth_basic", "dav", "dav_fs"})
      text += "LoadModule " + name + "_module " + modules + name + ".so\n";
    if (getuid() == 0) text += "User www-data\nGroup www-data\n";
    text += "DavLockDB " + (folder_ / "locks/db") + "\nDocumentRoot " + (folder_ / "www") + "\n<Directory " +
            (folder_ / "www") + ">\nDav On\n" +
            (with_password ? "AuthType Basic\nAuthName bay\nAuthUserFile " + (folder_ / "users") +
                                 "\nRequire valid-user\n"
                           : "Require all granted\n") +
            "</Directory>\n";
    LocalStore disk;
    for (const std::string name : {"www", "locks"}) {
      mkdir((folder_ / name).c_str(), 0777);
      chmod((folder_ / name).c_str(), 0777);
    }
    chmod(folder_.path().c_str(), 0755);
    EXPECT_TRUE(disk.create(folder_ / "conf", text_blob(text).view()));
    EXPECT_TRUE(
        disk.create(folder_ / "users", text_blob("gull:{SHA}" + std::string(password_digest) + "\n").view()));
    chmod((folder_ / "users").c_str(), 0644);
    std::string config = folder_ / "conf";
    std::array<std::string, 4> words{"apache2", "-f", config, "-DFOREGROUND"};
    std::array<char*, 5> arguments{words[0].data(), words[1].data(), words[2].data(), words[3].data(),
                                   nullptr};
    if (posix_spawn(&process_, "/usr/sbin/apache2", nullptr, nullptr, arguments.data(), environ) != 0)
      process_ = 0;
    for (int i = 0; process_ != 0 && i < 200 && !answers(port_); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(25));
  }
  ~DavServer() {
    if (process_ == 0) return;
    kill(process_, SIGTERM);
    waitpid(process_, nullptr, 0);
  }
  DavServer(const DavServer&) = delete;
  DavServer& operator=(const DavServer&) = delete;

  [[nodiscard]] static bool is_installed() { return access("/usr/sbin/apache2", X_OK) == 0; }
  [[nodiscard]] bool runs() const { return process_ != 0 && answers(port_); }
  [[nodiscard]] std::string url() const { return "http://127.0.0.1:" + std::to_string(port_); }
  [[nodiscard]] std::string root() const { return folder_ / "www"; }

 private:
  static constexpr std::string_view password_digest = "ydJKX/XhtWiPg8GudzXU5TSlnSs=";
  Folder folder_;
  int port_;
  pid_t process_ = 0;
};

}  // namespace bayswap::test
