// The simulated reader as a process of its own.
#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <string>
#include <vector>

namespace bayswap::test {

class SimReader {
 public:
  explicit SimReader(std::vector<std::string> words) {
    words.insert(words.begin(), BAYSWAP_SIMPORT);
    std::vector<char*> argv;
    for (std::string& word : words) argv.push_back(word.data());
    argv.push_back(nullptr);
    int in[2];
    int out[2];
    EXPECT_EQ(pipe2(in, O_CLOEXEC) | pipe2(out, O_CLOEXEC), 0);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, in[0], STDIN_FILENO);
    posix_spawn_file_actions_adddup2(&actions, out[1], STDOUT_FILENO);
    EXPECT_EQ(posix_spawn(&child_, argv[0], &actions, nullptr, argv.data(), environ), 0);
    posix_spawn_file_actions_destroy(&actions);
    close(in[0]);
    close(out[1]);
    to_ = in[1];
    from_ = out[0];
    path_ = line();
    // The line's number is not given to another reader while this one lives: a program that is late to open
    // the line of a killed reader would write to the cartridge of a test that runs beside this one.
    kept_number_ = open(path_.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    EXPECT_GE(kept_number_, 0) << path_;
  }
  ~SimReader() {
    kill(child_, SIGKILL);
    close(kept_number_);
    close(to_);
    close(from_);
    waitpid(child_, nullptr, 0);
  }
  SimReader(const SimReader&) = delete;
  SimReader& operator=(const SimReader&) = delete;

  [[nodiscard]] const std::string& path() const { return path_; }
  /// As a plug that is pulled: at once, without a word.
  void kill_it() { kill(child_, SIGKILL); }
  void command(const std::string& words) {
    const std::string text = words + "\n";
    EXPECT_EQ(write(to_, text.data(), text.size()), static_cast<ssize_t>(text.size()));
    EXPECT_EQ(line(), "ok") << words;
  }

 private:
  std::string line() {
    std::string text;
    char c = 0;
    pollfd waiting{from_, POLLIN, 0};
    while (poll(&waiting, 1, 10000) == 1 && read(from_, &c, 1) == 1 && c != '\n') text += c;
    return text;
  }

  pid_t child_ = 0;
  int to_ = -1;
  int from_ = -1;
  int kept_number_ = -1;
  std::string path_;
};

}  // namespace bayswap::test
