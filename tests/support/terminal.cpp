#include "support/terminal.hpp"

#include <poll.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <csignal>
#include <cstdlib>
#include <stdexcept>

namespace bayswap::test {

Session run_in_terminal(const std::vector<std::string>& words, const std::string& folder,
                        const std::map<std::string, std::string>& environment, const Answers& answers,
                        int patience_seconds) {
  winsize size{40, 100, 0, 0};
  int terminal = -1;
  const pid_t child = forkpty(&terminal, nullptr, nullptr, &size);
  if (child < 0) throw std::runtime_error("no terminal");
  if (child == 0) {
    std::vector<char*> argv;
    for (const std::string& word : words) argv.push_back(const_cast<char*>(word.c_str()));
    argv.push_back(nullptr);
    for (const auto& [name, value] : environment) setenv(name.c_str(), value.c_str(), 1);
    setenv("TERM", "xterm", 1);
    unsetenv("COLUMNS");
    if (chdir(folder.c_str()) != 0) _exit(126);
    execv(argv[0], argv.data());
    _exit(127);
  }
  Session session;
  std::size_t answered = 0;
  std::size_t looked = 0;  // up to where the last answer's text was seen
  const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(patience_seconds);
  for (;;) {
    if (answered < answers.size()) {
      const auto& [text, answer] = answers[answered];
      if (const auto at = session.seen.find(text, looked); at != std::string::npos) {
        looked = at + text.size();
        ++answered;
        if (write(terminal, answer.data(), answer.size()) < 0) break;
        continue;
      }
    }
    const auto left =
        std::chrono::duration_cast<std::chrono::milliseconds>(end - std::chrono::steady_clock::now());
    if (left.count() <= 0) {
      kill(child, SIGKILL);
      break;
    }
    pollfd wait{terminal, POLLIN, 0};
    if (poll(&wait, 1, static_cast<int>(left.count())) <= 0) continue;
    char buffer[4096];
    const ssize_t n = read(terminal, buffer, sizeof buffer);
    if (n <= 0) break;  // the other end is closed: it has ended
    session.seen.append(buffer, static_cast<std::size_t>(n));
  }
  int status = 0;
  waitpid(child, &status, 0);
  close(terminal);
  session.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  return session;
}

}  // namespace bayswap::test
