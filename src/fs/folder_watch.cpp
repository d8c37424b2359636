#include "fs/folder_watch.hpp"

#include <linux/magic.h>
#include <poll.h>
#include <sys/inotify.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <filesystem>

#include "base/path.hpp"

namespace bayswap {
namespace {

constexpr int max_depth = 64;
constexpr std::size_t max_watches = 50000;
constexpr std::uint32_t interest = IN_CLOSE_WRITE | IN_MODIFY | IN_MOVED_TO | IN_MOVED_FROM | IN_CREATE |
                                   IN_DELETE | IN_DELETE_SELF | IN_MOVE_SELF | IN_ONLYDIR;

// Others change what is there without this machine's knowing.
bool is_seen_whole(const std::string& folder) {
  constexpr auto cifs = static_cast<decltype(std::declval<struct statfs>().f_type)>(0xFF534D42);
  constexpr decltype(cifs) smb2 = 0xFE534D42;
  constexpr decltype(cifs) fuse = 0x65735546;
  constexpr std::array unseen{decltype(cifs){NFS_SUPER_MAGIC}, cifs, smb2, fuse, decltype(cifs){V9FS_MAGIC}};
  struct statfs about {};
  if (statfs(folder.c_str(), &about) != 0) return false;
  return std::ranges::find(unseen, about.f_type) == unseen.end();
}

}  // namespace

FolderWatch::FolderWatch() : handle_(inotify_init1(IN_NONBLOCK | IN_CLOEXEC)) {}

FolderWatch::~FolderWatch() {
  if (handle_ >= 0) close(handle_);
}

bool FolderWatch::add(const std::string& folder) {
  return add_below(folder, folder, 0) && is_seen_whole(folder);
}

bool FolderWatch::add_below(const std::string& folder, const std::string& root, int depth) {
  if (handle_ < 0 || depth > max_depth || watched_.size() >= max_watches) return false;
  const int watch = inotify_add_watch(handle_, folder.c_str(), interest);
  if (watch < 0) return false;
  watched_[watch] = {folder, root, depth};
  bool whole = true;
  std::error_code failed;
  for (std::filesystem::directory_iterator at(folder, failed), end; !failed && at != end;
       at.increment(failed)) {
    std::error_code unknown;
    if (at->is_directory(unknown) && !at->is_symlink(unknown))
      whole = add_below(at->path().string(), root, depth + 1) && whole;
  }
  return whole && !failed;
}

void FolderWatch::take_events(std::set<std::string>& changed) {
  alignas(inotify_event) std::array<char, 16384> buffer{};
  for (;;) {
    const ssize_t got = read(handle_, buffer.data(), buffer.size());
    if (got <= 0) return;
    for (std::size_t at = 0; at + sizeof(inotify_event) <= static_cast<std::size_t>(got);) {
      inotify_event event{};
      std::memcpy(&event, buffer.data() + at, sizeof event);
      const std::string name = event.len > 0 ? std::string(buffer.data() + at + sizeof event) : std::string();
      at += sizeof event + event.len;
      // Too much at once: anything may have changed.
      if ((event.mask & IN_Q_OVERFLOW) != 0)
        for (const auto& [watch, one] : watched_) changed.insert(one.root);
      const auto found = watched_.find(event.wd);
      if (found == watched_.end()) continue;
      const Watched one = found->second;
      if ((event.mask & IN_IGNORED) != 0) {
        watched_.erase(found);
        continue;
      }
      // What we have beside a file while we write it is none of anybody's business.
      if (is_own_temporary(name)) continue;
      changed.insert(one.root);
      if ((event.mask & IN_ISDIR) != 0 && (event.mask & (IN_CREATE | IN_MOVED_TO)) != 0)
        add_below(join_path(one.folder, name), one.root, one.depth + 1);
    }
  }
}

std::set<std::string> FolderWatch::wait(std::chrono::milliseconds at_most) {
  std::set<std::string> changed;
  pollfd ready{handle_, POLLIN, 0};
  if (poll(&ready, handle_ >= 0 ? 1 : 0, static_cast<int>(at_most.count())) > 0) take_events(changed);
  return changed;
}

}  // namespace bayswap
