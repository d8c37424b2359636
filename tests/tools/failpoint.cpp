// Loaded before libc (LD_PRELOAD): the n-th call that touches a disk kills the process or fails.
//
// FAILPOINT_SET   "writes" (default): calls that could change a disk; "reads": those that look at it
// FAILPOINT_AT    n, counted within the set; 0: none
// FAILPOINT_MODE  kill (SIGKILL before the call), kill-after, torn (half of a write, then SIGKILL), short
// (half of
//                 a write or a read, reported so), error
// FAILPOINT_ERRNO the number that a failing call gives; ENOSPC where it is not set
// FAILPOINT_THREADS  set: no thread can be started
// FAILPOINT_LOG   path: the number of calls is written there at a clean end, and after it, whatever the set,
// how many syncs,
//                 files opened, looks at a file or folder, and bytes read there were
#include <dirent.h>
#include <dlfcn.h>
#include <fcntl.h>
#include <pthread.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <type_traits>

namespace {

enum class Set { writes, reads };

std::atomic<int> calls{0};
struct Tally {
  std::atomic<long> syncs{0};
  std::atomic<long> opens{0};
  std::atomic<long> looks{0};
  std::atomic<long> bytes{0};
};
Tally tally;

const char* variable(const char* name, const char* otherwise) {
  const char* text = std::getenv(name);
  return text != nullptr ? text : otherwise;
}
bool mode_is(const char* wanted) {
  return std::strcmp(variable("FAILPOINT_MODE", "kill"), wanted) == 0;
}
Set wanted_set() {
  static const Set set =
      std::strcmp(variable("FAILPOINT_SET", "writes"), "reads") == 0 ? Set::reads : Set::writes;
  return set;
}
int wanted_call() {
  static const int at = std::atoi(variable("FAILPOINT_AT", "0"));
  return at;
}

template <class Function>
Function* real(const char* name) {
  return reinterpret_cast<Function*>(dlsym(RTLD_NEXT, name));
}

void die() {
  raise(SIGKILL);
  _exit(137);
}

template <class Call>
auto guarded(Set set, Call&& call) -> decltype(call()) {
  using Result = decltype(call());
  if (set != wanted_set()) return call();
  const bool now = ++calls == wanted_call();
  if (now && (mode_is("error") || mode_is("short"))) {
    errno = std::atoi(variable("FAILPOINT_ERRNO", "28"));
    if constexpr (std::is_pointer_v<Result>)
      return nullptr;
    else
      return static_cast<Result>(-1);
  }
  if (now && !mode_is("kill-after")) die();
  const auto result = call();
  if (now) die();
  return result;
}

// Writes and reads of bytes can also be done in part.
template <class Whole, class Part>
ssize_t counted(Set set, size_t size, Whole&& whole, Part&& part) {
  const bool now = set == wanted_set() && calls + 1 == wanted_call() && size > 1;
  if (now && mode_is("torn") && set == Set::writes) {
    (void)part(size / 2);
    die();
  }
  if (now && mode_is("short")) {
    ++calls;
    return part(size / 2);
  }
  return guarded(set, whole);
}

bool is_own_output(int fd) {
  return fd == STDOUT_FILENO || fd == STDERR_FILENO || fd == STDIN_FILENO;
}

__attribute__((destructor)) void report() {
  if (const char* path = std::getenv("FAILPOINT_LOG")) {
    const int count = calls.load();
    calls = 1 << 30;  // what follows is ours
    if (std::FILE* file = std::fopen(path, "w")) {
      std::fprintf(file, "%d\nsyncs %ld opens %ld looks %ld bytes %ld\n", count, tally.syncs.load(),
                   tally.opens.load(), tally.looks.load(), tally.bytes.load());
      std::fclose(file);
    }
  }
}

}  // namespace

extern "C" {

int pthread_create(pthread_t* thread, const pthread_attr_t* attributes, void* (*run)(void*), void* argument) {
  static auto* next = real<int(pthread_t*, const pthread_attr_t*, void* (*)(void*), void*)>("pthread_create");
  return std::getenv("FAILPOINT_THREADS") != nullptr ? EAGAIN : next(thread, attributes, run, argument);
}

// ---- Calls that could change a disk -------------------------------------------------------------

ssize_t write(int fd, const void* data, size_t size) {
  static auto* next = real<ssize_t(int, const void*, size_t)>("write");
  if (is_own_output(fd)) return next(fd, data, size);
  return counted(
      Set::writes, size, [&] { return next(fd, data, size); }, [&](size_t n) { return next(fd, data, n); });
}
ssize_t pwrite64(int fd, const void* data, size_t size, off64_t at) {
  static auto* next = real<ssize_t(int, const void*, size_t, off64_t)>("pwrite64");
  return counted(
      Set::writes, size, [&] { return next(fd, data, size, at); },
      [&](size_t n) { return next(fd, data, n, at); });
}
ssize_t pwrite(int fd, const void* data, size_t size, off_t at) {
  return pwrite64(fd, data, size, at);
}

#define TALLIED(what, set, result, name, parameters, arguments) \
  result name parameters {                                      \
    static auto* next = real<result parameters>(#name);         \
    ++tally.what;                                               \
    return guarded(set, [&] { return next arguments; });        \
  }
#define GUARDED(set, result, name, parameters, arguments) \
  result name parameters {                                \
    static auto* next = real<result parameters>(#name);   \
    return guarded(set, [&] { return next arguments; });  \
  }

TALLIED(syncs, Set::writes, int, fsync, (int fd), (fd))
TALLIED(syncs, Set::writes, int, fdatasync, (int fd), (fd))
TALLIED(syncs, Set::writes, int, syncfs, (int fd) noexcept, (fd))
GUARDED(Set::writes, int, ftruncate, (int fd, off_t size) noexcept, (fd, size))
GUARDED(Set::writes, int, ftruncate64, (int fd, off64_t size) noexcept, (fd, size))
GUARDED(Set::writes, int, fchmod, (int fd, mode_t bits) noexcept, (fd, bits))
GUARDED(Set::writes, int, rename, (const char* from, const char* to) noexcept, (from, to))
GUARDED(Set::writes, int, renameat, (int a, const char* from, int b, const char* to) noexcept,
        (a, from, b, to))
GUARDED(Set::writes, int, renameat2,
        (int a, const char* from, int b, const char* to, unsigned flags) noexcept, (a, from, b, to, flags))
GUARDED(Set::writes, int, link, (const char* from, const char* to) noexcept, (from, to))
GUARDED(Set::writes, int, linkat, (int a, const char* from, int b, const char* to, int flags) noexcept,
        (a, from, b, to, flags))
GUARDED(Set::writes, int, unlink, (const char* path) noexcept, (path))
GUARDED(Set::writes, int, unlinkat, (int folder, const char* path, int flags) noexcept, (folder, path, flags))
GUARDED(Set::writes, int, mkdir, (const char* path, mode_t bits) noexcept, (path, bits))
GUARDED(Set::writes, int, mkdirat, (int folder, const char* path, mode_t bits) noexcept, (folder, path, bits))
GUARDED(Set::writes, int, rmdir, (const char* path) noexcept, (path))

// ---- Calls that look at it ----------------------------------------------------------------------

ssize_t read(int fd, void* data, size_t size) {
  static auto* next = real<ssize_t(int, void*, size_t)>("read");
  if (is_own_output(fd)) return next(fd, data, size);
  const ssize_t got = counted(
      Set::reads, size, [&] { return next(fd, data, size); }, [&](size_t n) { return next(fd, data, n); });
  if (got > 0) tally.bytes += got;
  return got;
}
ssize_t pread64(int fd, void* data, size_t size, off64_t at) {
  static auto* next = real<ssize_t(int, void*, size_t, off64_t)>("pread64");
  const ssize_t got = counted(
      Set::reads, size, [&] { return next(fd, data, size, at); },
      [&](size_t n) { return next(fd, data, n, at); });
  if (got > 0) tally.bytes += got;
  return got;
}
ssize_t pread(int fd, void* data, size_t size, off_t at) {
  return pread64(fd, data, size, at);
}

TALLIED(looks, Set::reads, int, stat, (const char* path, struct stat* st) noexcept, (path, st))
TALLIED(looks, Set::reads, int, lstat, (const char* path, struct stat* st) noexcept, (path, st))
TALLIED(looks, Set::reads, int, fstat, (int fd, struct stat* st) noexcept, (fd, st))
TALLIED(looks, Set::reads, int, fstatat, (int folder, const char* path, struct stat* st, int flags) noexcept,
        (folder, path, st, flags))
GUARDED(Set::reads, DIR*, opendir, (const char* path), (path))
GUARDED(Set::reads, DIR*, fdopendir, (int fd), (fd))
TALLIED(looks, Set::reads, dirent*, readdir, (DIR * folder), (folder))
TALLIED(looks, Set::reads, dirent64*, readdir64, (DIR * folder), (folder))
GUARDED(Set::reads, char*, realpath, (const char* path, char* out) noexcept, (path, out))
GUARDED(Set::reads, int, flock, (int fd, int operation) noexcept, (fd, operation))

int open(const char* path, int flags, ...) {
  static auto* next = real<int(const char*, int, ...)>("open");
  va_list rest;
  va_start(rest, flags);
  const mode_t bits = (flags & O_CREAT) != 0 ? va_arg(rest, mode_t) : 0;
  va_end(rest);
  ++tally.opens;
  return guarded((flags & O_CREAT) != 0 ? Set::writes : Set::reads, [&] { return next(path, flags, bits); });
}
int open64(const char* path, int flags, ...) {
  static auto* next = real<int(const char*, int, ...)>("open64");
  va_list rest;
  va_start(rest, flags);
  const mode_t bits = (flags & O_CREAT) != 0 ? va_arg(rest, mode_t) : 0;
  va_end(rest);
  ++tally.opens;
  return guarded((flags & O_CREAT) != 0 ? Set::writes : Set::reads, [&] { return next(path, flags, bits); });
}
int openat(int folder, const char* path, int flags, ...) {
  static auto* next = real<int(int, const char*, int, ...)>("openat");
  va_list rest;
  va_start(rest, flags);
  const mode_t bits = (flags & O_CREAT) != 0 ? va_arg(rest, mode_t) : 0;
  va_end(rest);
  ++tally.opens;
  return guarded((flags & O_CREAT) != 0 ? Set::writes : Set::reads,
                 [&] { return next(folder, path, flags, bits); });
}
long syscall(long number, ...) noexcept {
  static auto* next = real<long(long, ...)>("syscall");
  va_list rest;
  va_start(rest, number);
  long a[6];
  for (long& one : a) one = va_arg(rest, long);
  va_end(rest);
  const auto call = [&] { return next(number, a[0], a[1], a[2], a[3], a[4], a[5]); };
  if (number == SYS_openat2) ++tally.opens;
  return number == SYS_openat2 ? guarded(Set::reads, call) : call();
}

}  // extern "C"
