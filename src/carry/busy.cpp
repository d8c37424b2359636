// Whether another program is using the files. Linux tells who has a file open.
#include <dirent.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>
#include <bayswap/carry.hpp>

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdlib>
#include <fstream>
#include <functional>
#include <memory>
#include <set>

#include "base/path.hpp"

namespace bayswap {
namespace {

constexpr std::int64_t idle_seconds = 2;
constexpr std::size_t max_processes = 100000;

struct FileKey {
  dev_t device;
  ino_t number;
  bool operator<(const FileKey& other) const {
    return device != other.device ? device < other.device : number < other.number;
  }
};

std::string name_of_process(const std::string& pid) {
  std::ifstream file("/proc/" + pid + "/comm");
  std::string name;
  std::getline(file, name);
  return name.empty() ? "a process" : name;
}

// Calls `look` with every other process, until it returns true.
void for_each_process(const std::function<bool(const std::string& pid)>& look) {
  const std::unique_ptr<DIR, int (*)(DIR*)> processes(opendir("/proc"), &closedir);
  if (!processes) return;
  const std::string own = std::to_string(getpid());
  std::size_t seen = 0;
  while (const dirent* process = readdir(processes.get())) {
    const std::string pid = process->d_name;
    if (!std::ranges::all_of(pid, [](unsigned char c) { return std::isdigit(c) != 0; }) || pid == own)
      continue;
    if (++seen > max_processes || look(pid)) return;
  }
}

// The first other process that has one of the files open, as far as we may look.
std::optional<std::string> who_has_open(const std::set<FileKey>& wanted) {
  std::optional<std::string> who;
  for_each_process([&](const std::string& pid) {
    const std::string folder = "/proc/" + pid + "/fd";
    const std::unique_ptr<DIR, int (*)(DIR*)> handles(opendir(folder.c_str()), &closedir);
    while (const dirent* handle = handles ? readdir(handles.get()) : nullptr) {
      struct stat st {};
      if (handle->d_name[0] == '.' || fstatat(dirfd(handles.get()), handle->d_name, &st, 0) != 0 ||
          !S_ISREG(st.st_mode))
        continue;
      if (!wanted.contains({st.st_dev, st.st_ino})) continue;
      who = fmt::format("{} (process {}) has it open", name_of_process(pid), pid);
      return true;
    }
    return false;
  });
  return who;
}

// What programs leave beside a file they are using: "x.lck", "x.lock", ".x.lock", "x~lock". Each folder is
// listed once.
class Locks {
 public:
  std::optional<std::string> beside(const std::string& path) {
    const std::string folder = folder_of(path);
    if (folder != folder_) list(folder);
    const std::string name(name_of(path));
    for (const std::string& lock :
         std::array<std::string, 5>{name + ".lock", name + ".lck", "." + name + ".lock",
                                    ".~lock." + name + "#", std::string(stem_of(path)) + ".lock"})
      if (names_.contains(lock)) return join_path(folder, lock);
    return std::nullopt;
  }

 private:
  void list(const std::string& folder) {
    folder_ = folder;
    names_.clear();
    const std::unique_ptr<DIR, int (*)(DIR*)> entries(opendir(folder.c_str()), &closedir);
    if (!entries) return;
    while (const dirent* entry = readdir(entries.get())) {
      const std::string_view name = entry->d_name;
      if (name.find("lock") != std::string_view::npos || name.ends_with(".lck")) names_.emplace(name);
    }
  }
  std::string folder_;
  std::set<std::string> names_;  // only those that may be locks
};

// The first file below `root` that the process has open, as far as we may look.
std::optional<std::string> file_open_below(const std::string& pid, const std::string& root) {
  const std::string folder = "/proc/" + pid + "/fd";
  const std::unique_ptr<DIR, int (*)(DIR*)> handles(opendir(folder.c_str()), &closedir);
  if (!handles) return std::nullopt;
  while (const dirent* handle = readdir(handles.get())) {
    std::array<char, 4096> target{};
    const auto size = readlinkat(dirfd(handles.get()), handle->d_name, target.data(), target.size());
    if (size <= 0 || static_cast<std::size_t>(size) >= target.size()) continue;
    const std::string_view path(target.data(), static_cast<std::size_t>(size));
    struct stat st {};
    if (!path.starts_with(root + "/") || fstatat(dirfd(handles.get()), handle->d_name, &st, 0) != 0 ||
        !S_ISREG(st.st_mode))
      continue;
    return std::string(path);
  }
  return std::nullopt;
}

}  // namespace

std::optional<std::string> bay_in_use(const Bay& bay) {
  // As the kernel names it: links of the path are gone.
  const std::unique_ptr<char, void (*)(void*)> real(realpath(bay.root.c_str(), nullptr), &std::free);
  const std::string root = real ? real.get() : "";
  std::optional<std::string> why;
  for_each_process([&](const std::string& pid) {
    const std::string name = name_of_process(pid);
    // The kernel keeps 15 characters of it.
    for (const std::string& program : bay.sync.programs)
      if (!program.empty() && name == program.substr(0, 15))
        why = fmt::format("{} (process {}) runs", name, pid);
    if (why || root.empty()) return why.has_value();
    if (const auto path = file_open_below(pid, root))
      why = fmt::format("{} (process {}) has {} open", name, pid, *path);
    return why.has_value();
  });
  return why;
}

void note_hard_links(Plan& plan, Store& target) {
  for (const FileChange& change : plan.changes) {
    if (!change.before) continue;
    const auto info = target.stat(change.path);
    if (info && *info && (*info)->hard_links > 1)
      plan.add({PlanIssue::Level::note, IssueCode::hard_links,
                fmt::format("{} has {} names: the others keep the old bytes",
                            target.display_path(change.path), (*info)->hard_links),
                "link them again afterwards if they are meant to be one file"});
  }
}

std::optional<std::string> in_use(const std::vector<std::string>& paths, std::optional<std::int64_t> now,
                                  Logbook& logbook) {
  std::set<FileKey> open;
  Locks locks;
  for (const std::string& path : paths) {
    if (const auto lock = locks.beside(path))
      return fmt::format("{}: there is a lock beside it ({})", path, *lock);
    struct stat st {};
    if (::stat(path.c_str(), &st) != 0) continue;
    open.insert({st.st_dev, st.st_ino});
    if (!now) continue;
    const std::int64_t age = *now - st.st_mtim.tv_sec;
    if (age < 0 || age >= idle_seconds) continue;
    const auto ours = logbook.is_last_written(path);
    if (ours && *ours) continue;
    return fmt::format("{} was changed {} ago", path,
                       age == 0 ? "less than a second" : fmt::format("{} seconds", age));
  }
  if (open.empty()) return std::nullopt;
  if (const auto who = who_has_open(open)) return fmt::format("{}: {}", paths.front(), *who);
  return std::nullopt;
}

}  // namespace bayswap
