#include "fs/beneath.hpp"

#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>
#include <climits>
#include <cstdlib>
#include <memory>

#include "base/path.hpp"

namespace bayswap {
namespace {

int open_resolving(int folder, const std::string& path, int flags, std::uint64_t resolve) {
  open_how how{};
  how.flags = static_cast<std::uint64_t>(flags) | O_CLOEXEC;
  how.resolve = resolve;
  // The kernel gives EAGAIN if something was renamed on the way meanwhile.
  for (int tries = 0; tries < 16; ++tries) {
    const long fd = syscall(SYS_openat2, folder, path.c_str(), &how, sizeof how);
    if (fd >= 0 || (errno != EAGAIN && errno != EINTR)) return static_cast<int>(fd);
  }
  return -1;
}

// One component after the other, none of them a link.
Handle walk(const std::string& path, std::vector<std::string>* made, unsigned mode) {
  Handle folder(open("/", O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  std::string_view rest(path);
  while (folder.is_open() && !rest.empty()) {
    rest.remove_prefix(rest.front() == '/' ? 1 : 0);
    const std::string component(rest.substr(0, rest.find('/')));
    rest.remove_prefix(component.size());
    if (component.empty()) continue;
    if (component == "." || component == "..") {
      errno = ENOENT;
      return Handle(-1);
    }
    // Folders on the way need not be readable.
    const bool last = rest.empty();
    const int flags = O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC | (last ? O_RDONLY : O_PATH);
    Handle next(openat(folder.get(), component.c_str(), flags));
    if (!next.is_open() && errno == ENOENT && made != nullptr) {
      if (mkdirat(folder.get(), component.c_str(), static_cast<mode_t>(mode)) == 0)
        made->push_back(path.substr(0, path.size() - rest.size()));
      else if (errno != EEXIST)
        return Handle(-1);
      next = Handle(openat(folder.get(), component.c_str(), flags));
    }
    folder = std::move(next);
  }
  return folder;
}

}  // namespace

int open_beneath(int folder, const std::string& path, int flags) {
  return open_resolving(folder, path, flags, RESOLVE_BENEATH | RESOLVE_NO_MAGICLINKS);
}

Handle open_folder(const std::string& path, std::vector<std::string>* made, unsigned mode) {
  Handle folder(open_resolving(AT_FDCWD, path, O_RDONLY | O_DIRECTORY, RESOLVE_NO_SYMLINKS));
  if (folder.is_open() || (errno != ENOSYS && errno != EPERM && errno != E2BIG && errno != ENOENT))
    return folder;
  if (errno != ENOENT) return walk(path, made, mode);
  if (made == nullptr || path.empty() || path == "/") return folder;
  // Made in its parent, which most often exists.
  const Handle parent = open_folder(folder_of(path), made, mode);
  if (!parent.is_open()) return Handle(-1);
  const std::string name(name_of(path));
  if (name.empty() || name == "." || name == "..") {
    errno = ENOENT;
    return Handle(-1);
  }
  if (mkdirat(parent.get(), name.c_str(), static_cast<mode_t>(mode)) == 0)
    made->push_back(path);
  else if (errno != EEXIST)
    return Handle(-1);
  return Handle(openat(parent.get(), name.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
}

std::optional<std::string> resolved_path(const std::string& path) {
  const std::unique_ptr<char, decltype(&std::free)> text(realpath(path.c_str(), nullptr), &std::free);
  return text ? std::optional<std::string>(text.get()) : std::nullopt;
}

}  // namespace bayswap
