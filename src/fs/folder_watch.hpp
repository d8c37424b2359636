// Tells when something below a folder of the local disk changes (inotify).
#pragma once

#include <bayswap/base.hpp>

#include <chrono>
#include <map>
#include <set>
#include <string>
#include <vector>

namespace bayswap {

/// Not for several threads at once.
class FolderWatch {
 public:
  FolderWatch();
  ~FolderWatch();
  FolderWatch(const FolderWatch&) = delete;
  FolderWatch& operator=(const FolderWatch&) = delete;

  /// Watches a folder and those below it, up to 64 deep. Returns whether all that changes there is seen: not
  /// on file systems of a network or of a program, whose other users change them unseen, nor once the system
  /// has no watches left.
  bool add(const std::string& folder);
  /// Waits until something changes below one of the folders, or the time is over. Returns the folders as they
  /// were added. Returns early, with nothing, on a signal.
  [[nodiscard]] std::set<std::string> wait(std::chrono::milliseconds at_most);

 private:
  bool add_below(const std::string& folder, const std::string& root, int depth);
  void take_events(std::set<std::string>& changed);

  struct Watched {
    std::string folder;
    std::string root;
    int depth = 0;
  };
  int handle_;
  std::map<int, Watched> watched_;
};

}  // namespace bayswap
