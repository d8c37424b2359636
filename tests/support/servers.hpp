// Real servers of files as children of a test, on free ports of this machine.
#pragma once

#include <arpa/inet.h>
#include <fcntl.h>
#include <gtest/gtest.h>
#include <netinet/in.h>
#include <pwd.h>
#include <signal.h>
#include <spawn.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>
#include <bayswap/fs.hpp>

#include <chrono>
#include <cstdlib>
#include <fstream>
#include <sstream>
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

/// A connection to a port of this machine, or -1.
inline int connected_to(int port) {
  const int handle = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  if (connect(handle, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0) return handle;
  close(handle);
  return -1;
}

inline bool answers(int port) {
  const int handle = connected_to(port);
  if (handle >= 0) close(handle);
  return handle >= 0;
}

/// Children that start meanwhile can't write files over a size.
class SizeLimit {
 public:
  explicit SizeLimit(rlim_t max_bytes) : is_set_(max_bytes != 0) {
    if (!is_set_) return;
    getrlimit(RLIMIT_FSIZE, &old_);
    rlimit now = old_;
    now.rlim_cur = max_bytes;
    setrlimit(RLIMIT_FSIZE, &now);
    signal(SIGXFSZ, SIG_IGN);
  }
  ~SizeLimit() {
    if (!is_set_) return;
    setrlimit(RLIMIT_FSIZE, &old_);
    signal(SIGXFSZ, SIG_DFL);
  }
  SizeLimit(const SizeLimit&) = delete;
  SizeLimit& operator=(const SizeLimit&) = delete;

 private:
  bool is_set_;
  rlimit old_{};
};

/// A program that runs until it is destroyed.
class Child {
 public:
  Child() = default;
  Child(const Child&) = delete;
  Child& operator=(const Child&) = delete;
  ~Child() { stop(); }
  /// `most_bytes`: of a file that it writes; as on a full disk, more is refused. 0: no limit.
  /// `out`: a file that gets what it prints.
  void start(std::vector<std::string> words, rlim_t max_bytes = 0, const std::string& out = {}) {
    const SizeLimit limit(max_bytes);
    std::vector<char*> arguments;
    arguments.reserve(words.size() + 1);
    for (std::string& word : words) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    if (!out.empty()) {
      posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, out.c_str(), O_WRONLY | O_CREAT | O_APPEND,
                                       0644);
      posix_spawn_file_actions_adddup2(&actions, STDOUT_FILENO, STDERR_FILENO);
    }
    if (posix_spawn(&process_, words.front().c_str(), &actions, nullptr, arguments.data(), environ) != 0)
      process_ = 0;
    posix_spawn_file_actions_destroy(&actions);
  }
  /// Whether it listens there, at last.
  [[nodiscard]] bool listens(int port) const {
    for (int i = 0; process_ != 0 && i < 400; ++i) {
      if (answers(port)) return true;
      std::this_thread::sleep_for(std::chrono::milliseconds(25));
    }
    return false;
  }
  void stop() {
    if (process_ == 0) return;
    kill(process_, SIGTERM);
    waitpid(process_, nullptr, 0);
    process_ = 0;
  }

 private:
  pid_t process_ = 0;
};

/// Runs a program to its end.
inline int run_program(const std::string& line) {
  return std::system((line + " >/dev/null 2>&1").c_str());
}

/// An environment variable, set while it lives.
class Setting {
 public:
  Setting(std::string name, const std::string& value) : name_(std::move(name)) {
    if (const char* old = std::getenv(name_.c_str())) old_ = old;
    setenv(name_.c_str(), value.c_str(), 1);
  }
  ~Setting() {
    if (old_)
      setenv(name_.c_str(), old_->c_str(), 1);
    else
      unsetenv(name_.c_str());
  }
  Setting(const Setting&) = delete;
  Setting& operator=(const Setting&) = delete;

 private:
  std::string name_;
  std::optional<std::string> old_;
};

/// A certificate for this machine, which is its own authority.
struct OwnAuthority {
  explicit OwnAuthority(const std::string& folder)
      : certificate(folder + "/certificate.pem"), key(folder + "/key.pem") {
    EXPECT_EQ(run_program("openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -days 2 "
                          "-subj /CN=localhost -addext subjectAltName=DNS:localhost,IP:127.0.0.1 -keyout " +
                          key + " -out " + certificate),
              0);
    chmod(key.c_str(), 0600);
  }
  std::string certificate;
  std::string key;
};

/// What all servers of these tests have: a folder that is served, a name and a password.
class FileServer {
 public:
  static constexpr const char* user = "gull";
  static constexpr const char* password = "moth";
  FileServer() : port_(free_port()) {
    mkdir(root().c_str(), 0777);
    chmod(root().c_str(), 0777);
    chmod(folder_.path().c_str(), 0755);
  }
  [[nodiscard]] bool runs() const { return child_.listens(port_); }
  [[nodiscard]] int port() const { return port_; }
  [[nodiscard]] std::string root() const { return folder_ / "www"; }
  [[nodiscard]] std::string log() const {
    std::ifstream file(folder_ / "log");
    std::ostringstream text;
    text << file.rdbuf();
    return text.str();
  }
  void stop() { child_.stop(); }

 protected:
  void write(const std::string& name, const std::string& text) {
    EXPECT_TRUE(LocalStore().create(folder_ / name, text_blob(text).view()));
    chmod((folder_ / name).c_str(), 0644);
  }
  Folder folder_;
  int port_;
  Child child_;
};

/// WebDAV, by apache.
class DavServer : public FileServer {
 public:
  explicit DavServer(bool with_password = false, bool with_tls = false, rlim_t max_bytes = 0)
      : is_secure_(with_tls) {
    const std::string modules = "/usr/lib/apache2/modules/mod_";
    std::string text = "ServerRoot " + folder_.path() + "\nServerName localhost\nPidFile " +
                       (folder_ / "pid") + "\nErrorLog " + (folder_ / "log") +
                       "\nListen 127.0.0.1:" + std::to_string(port_) + "\n";
    std::vector<std::string> names{"mpm_event",  "authz_core", "authn_core", "authn_file",
                                   "authz_user", "auth_basic", "dav",        "dav_fs"};
    if (with_tls) names.emplace_back("ssl");
    for (const std::string& name : names)
      text += "LoadModule " + name + "_module " + modules + name + ".so\n";
    if (with_tls) {
      const OwnAuthority authority(folder_.path());
      text += "SSLEngine on\nSSLCertificateFile " + authority.certificate + "\nSSLCertificateKeyFile " +
              authority.key + "\n";
    }
    if (getuid() == 0) text += "User www-data\nGroup www-data\n";
    text += "DavLockDB " + (folder_ / "locks/db") + "\nDocumentRoot " + root() + "\n<Directory " + root() +
            ">\nDav On\n" +
            (with_password ? "AuthType Basic\nAuthName bay\nAuthUserFile " + (folder_ / "users") +
                                 "\nRequire valid-user\n"
                           : "Require all granted\n") +
            "</Directory>\n";
    mkdir((folder_ / "locks").c_str(), 0777);
    chmod((folder_ / "locks").c_str(), 0777);
    write("conf", text);
    write("users", "gull:{SHA}ydJKX/XhtWiPg8GudzXU5TSlnSs=\n");  // the password's SHA-1
    child_.start({"/usr/sbin/apache2", "-f", folder_ / "conf", "-DFOREGROUND"}, max_bytes);
  }
  [[nodiscard]] static bool is_installed() { return access("/usr/sbin/apache2", X_OK) == 0; }
  [[nodiscard]] std::string url() const {
    return (is_secure_ ? "https://127.0.0.1:" : "http://127.0.0.1:") + std::to_string(port_);
  }
  [[nodiscard]] std::string authority() const { return folder_ / "certificate.pem"; }

 private:
  bool is_secure_;
};

/// SFTP, by OpenSSH, for the user who runs the test; `home` has a key of theirs and knows the server's.
class SshServer : public FileServer {
 public:
  explicit SshServer(rlim_t max_bytes = 0) {
    const std::string ssh = home() + "/.ssh";
    mkdir(home().c_str(), 0700);
    mkdir(ssh.c_str(), 0700);
    if (getuid() == 0) mkdir("/run/sshd", 0755);
    for (const std::string& key : {folder_ / "host_key", ssh + "/id_ed25519", folder_ / "other_key"})
      EXPECT_EQ(run_program("ssh-keygen -q -t ed25519 -N '' -f " + key), 0);
    write("conf", "ListenAddress 127.0.0.1:" + std::to_string(port_) + "\nHostKey " + (folder_ / "host_key") +
                      "\nPidFile none\nAuthorizedKeysFile " + ssh +
                      "/id_ed25519.pub\nStrictModes no\nUsePAM no\n" +
                      "PermitRootLogin yes\nPasswordAuthentication no\nSubsystem sftp internal-sftp\n");
    know_host("host_key");
    child_.start({"/usr/sbin/sshd", "-D", "-f", folder_ / "conf", "-E", folder_ / "log"}, max_bytes);
  }
  [[nodiscard]] static bool is_installed() { return access("/usr/sbin/sshd", X_OK) == 0; }
  [[nodiscard]] std::string home() const { return folder_ / "home"; }
  [[nodiscard]] std::string url() const {
    return "sftp://" + std::string(getpwuid(getuid())->pw_name) + "@127.0.0.1:" + std::to_string(port_) +
           root();
  }
  /// From now on this key is the one that is known of the server: "host_key" or "other_key".
  void know_host(const std::string& key) {
    std::ifstream file(folder_ / (key + ".pub"));
    std::string kind;
    std::string base64;
    file >> kind >> base64;
    (void)LocalStore().replace(
        home() + "/.ssh/known_hosts",
        text_blob("[127.0.0.1]:" + std::to_string(port_) + " " + kind + " " + base64 + "\n").view());
  }
  void forget_host() { (void)LocalStore().remove(home() + "/.ssh/known_hosts"); }
};

/// FTP, FTPS and, with a password, SFTP, by proftpd.
class FtpServer : public FileServer {
 public:
  enum class Kind { plain, tls, sftp };
  explicit FtpServer(Kind kind = Kind::plain, rlim_t max_bytes = 0, bool renames_over = true) : kind_(kind) {
    const OwnAuthority authority(folder_.path());
    std::string text = "ServerName bay\nServerType standalone\nDefaultAddress 127.0.0.1\nPort " +
                       std::to_string(port_) + "\nUseIPv6 off\nPidFile " + (folder_ / "pid") +
                       "\nScoreboardFile " + (folder_ / "board") + "\nSystemLog " + (folder_ / "log") +
                       "\nWtmpLog off\nTransferLog none\nAuthPAM off\nRequireValidShell off\n" +
                       "AuthOrder mod_auth_file.c\nAuthUserFile " + (folder_ / "users") + "\nAuthGroupFile " +
                       (folder_ / "groups") +
                       "\nDefaultRoot /\nRootLogin on\nAllowOverwrite on\nAllowStoreRestart on\nUmask 022\n" +
                       "TimesGMT on\nDelayEngine off\nUseReverseDNS off\nMaxInstances 20\n";
    if (getuid() == 0) text += "User nobody\nGroup nogroup\n";
    if (kind == Kind::tls)
      text += "LoadModule mod_tls.c\nTLSEngine on\nTLSRequired on\nTLSECCertificateFile " +
              authority.certificate + "\nTLSECCertificateKeyFile " + authority.key +
              "\nTLSOptions NoSessionReuseRequired\n";
    if (kind == Kind::sftp) {
      EXPECT_EQ(run_program("ssh-keygen -q -t ecdsa -m PEM -N '' -f " + (folder_ / "host_key")), 0);
      text += "LoadModule mod_sftp.c\nSFTPEngine on\nSFTPHostKey " + (folder_ / "host_key") +
              "\nSFTPAuthMethods password\n";
    }
    if (!renames_over) text.replace(text.find("AllowOverwrite on"), 17, "AllowOverwrite off");
    write("conf", text);
    // The password under a salt, as crypt has it.
    write("users", "gull:" + crypted() + ":" + std::to_string(getuid()) + ":" + std::to_string(getgid()) +
                       "::" + root() + ":/bin/sh\n");
    write("groups", "bay:x:" + std::to_string(getgid()) + ":\n");
    chmod((folder_ / "users").c_str(), 0600);
    chmod((folder_ / "groups").c_str(), 0600);
    child_.start({"/usr/sbin/proftpd", "-n", "-q", "-c", folder_ / "conf"}, max_bytes);
  }
  [[nodiscard]] static bool is_installed() { return access("/usr/sbin/proftpd", X_OK) == 0; }
  [[nodiscard]] std::string url() const {
    const std::string scheme = kind_ == Kind::plain ? "ftp" : kind_ == Kind::tls ? "ftps" : "sftp";
    return scheme + "://gull@127.0.0.1:" + std::to_string(port_) + (kind_ == Kind::sftp ? "/~" : "");
  }
  [[nodiscard]] std::string authority() const { return folder_ / "certificate.pem"; }
  [[nodiscard]] std::string host_key() const { return folder_ / "host_key.pub"; }

 private:
  static std::string crypted() {
    const std::unique_ptr<FILE, int (*)(FILE*)> pipe(popen("openssl passwd -5 -salt gull moth", "r"), pclose);
    std::array<char, 200> line{};
    if (pipe == nullptr || fgets(line.data(), static_cast<int>(line.size()), pipe.get()) == nullptr)
      return "";
    std::string text = line.data();
    while (!text.empty() && text.back() == '\n') text.pop_back();
    return text;
  }
  Kind kind_;
};

}  // namespace bayswap::test
