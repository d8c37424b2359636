// Loaded before libc (LD_PRELOAD): at the n-th call that could change a disk, kills the process or makes the
// call fail. FAILPOINT_AT=n, FAILPOINT_MODE=kill (SIGKILL before the call), kill-after, torn (half of a
// write, then SIGKILL), nospace. FAILPOINT_LOG=path: the number of calls is written there at a clean end.
#include <dlfcn.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>

namespace {

std::atomic<int> calls{0};

const char* mode() {
  const char* text = std::getenv("FAILPOINT_MODE");
  return text != nullptr ? text : "kill";
}

bool is(const char* wanted) {
  return std::strcmp(mode(), wanted) == 0;
}

template <class Function>
Function* real(const char* name) {
  return reinterpret_cast<Function*>(dlsym(RTLD_NEXT, name));
}

// True where this is the call.
bool hit() {
  static const int at = [] {
    const char* text = std::getenv("FAILPOINT_AT");
    return text != nullptr ? std::atoi(text) : 0;
  }();
  return ++calls == at;
}

void die() {
  raise(SIGKILL);
  _exit(137);
}

template <class Call>
auto guarded(Call&& call) -> decltype(call()) {
  const bool now = hit();
  if (now && is("nospace")) {
    errno = ENOSPC;
    return static_cast<decltype(call())>(-1);
  }
  if (now && !is("kill-after")) die();
  const auto result = call();
  if (now) die();
  return result;
}

ssize_t torn_write(int fd, const void* data, size_t size, const auto& whole, const auto& part) {
  if (fd == STDOUT_FILENO || fd == STDERR_FILENO) return whole();
  if (is("torn") && size > 1 &&
      calls + 1 == std::atoi(std::getenv("FAILPOINT_AT") != nullptr ? std::getenv("FAILPOINT_AT") : "0")) {
    (void)part(data, size / 2);
    die();
  }
  return guarded(whole);
}

__attribute__((destructor)) void report() {
  if (const char* path = std::getenv("FAILPOINT_LOG")) {
    if (std::FILE* file = std::fopen(path, "w")) {
      std::fprintf(file, "%d", calls.load());
      std::fclose(file);
    }
  }
}

}  // namespace

extern "C" {

ssize_t write(int fd, const void* data, size_t size) {
  static auto* next = real<ssize_t(int, const void*, size_t)>("write");
  return torn_write(
      fd, data, size, [&] { return next(fd, data, size); },
      [&](const void* d, size_t n) { return next(fd, d, n); });
}
ssize_t pwrite64(int fd, const void* data, size_t size, off64_t at) {
  static auto* next = real<ssize_t(int, const void*, size_t, off64_t)>("pwrite64");
  return torn_write(
      fd, data, size, [&] { return next(fd, data, size, at); },
      [&](const void* d, size_t n) { return next(fd, d, n, at); });
}
ssize_t pwrite(int fd, const void* data, size_t size, off_t at) {
  return pwrite64(fd, data, size, at);
}
int fsync(int fd) {
  static auto* next = real<int(int)>("fsync");
  return guarded([&] { return next(fd); });
}
int fdatasync(int fd) {
  static auto* next = real<int(int)>("fdatasync");
  return guarded([&] { return next(fd); });
}
int ftruncate(int fd, off_t size) {
  static auto* next = real<int(int, off_t)>("ftruncate");
  return guarded([&] { return next(fd, size); });
}
int ftruncate64(int fd, off64_t size) {
  static auto* next = real<int(int, off64_t)>("ftruncate64");
  return guarded([&] { return next(fd, size); });
}
int rename(const char* from, const char* to) noexcept {
  static auto* next = real<int(const char*, const char*)>("rename");
  return guarded([&] { return next(from, to); });
}
int link(const char* from, const char* to) noexcept {
  static auto* next = real<int(const char*, const char*)>("link");
  return guarded([&] { return next(from, to); });
}
int unlink(const char* path) noexcept {
  static auto* next = real<int(const char*)>("unlink");
  return guarded([&] { return next(path); });
}
int renameat(int a, const char* from, int b, const char* to) noexcept {
  static auto* next = real<int(int, const char*, int, const char*)>("renameat");
  return guarded([&] { return next(a, from, b, to); });
}
int renameat2(int a, const char* from, int b, const char* to, unsigned flags) noexcept {
  static auto* next = real<int(int, const char*, int, const char*, unsigned)>("renameat2");
  return guarded([&] { return next(a, from, b, to, flags); });
}
int linkat(int a, const char* from, int b, const char* to, int flags) noexcept {
  static auto* next = real<int(int, const char*, int, const char*, int)>("linkat");
  return guarded([&] { return next(a, from, b, to, flags); });
}
int unlinkat(int folder, const char* path, int flags) noexcept {
  static auto* next = real<int(int, const char*, int)>("unlinkat");
  return guarded([&] { return next(folder, path, flags); });
}
int mkdirat(int folder, const char* path, mode_t mode_bits) noexcept {
  static auto* next = real<int(int, const char*, mode_t)>("mkdirat");
  return guarded([&] { return next(folder, path, mode_bits); });
}
int syncfs(int fd) noexcept {
  static auto* next = real<int(int)>("syncfs");
  return guarded([&] { return next(fd); });
}
int fchmod(int fd, mode_t mode_bits) noexcept {
  static auto* next = real<int(int, mode_t)>("fchmod");
  return guarded([&] { return next(fd, mode_bits); });
}
int rmdir(const char* path) noexcept {
  static auto* next = real<int(const char*)>("rmdir");
  return guarded([&] { return next(path); });
}
int mkdir(const char* path, mode_t mode_bits) noexcept {
  static auto* next = real<int(const char*, mode_t)>("mkdir");
  return guarded([&] { return next(path, mode_bits); });
}

}  // extern "C"
