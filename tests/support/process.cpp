#include "support/process.hpp"

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <stdexcept>

#ifdef BAYSWAP_PROGRAM_INSIDE
#include <sanitizer/lsan_interface.h>

#include "cli/program.hpp"
#endif

namespace bayswap::test {
namespace {

struct TempFile {
  std::FILE* file = std::tmpfile();
  ~TempFile() {
    if (file != nullptr) std::fclose(file);
  }
  [[nodiscard]] int handle() const { return fileno(file); }
  [[nodiscard]] std::string text() const {
    std::rewind(file);
    std::string all;
    char buffer[4096];
    for (std::size_t n = 0; (n = std::fread(buffer, 1, sizeof buffer, file)) > 0;) all.append(buffer, n);
    return all;
  }
};

std::ptrdiff_t thread_count() {
  return std::distance(std::filesystem::directory_iterator("/proc/self/task"), {});
}

}  // namespace

Outcome run_process(const std::vector<std::string>& words, const std::string& folder,
                    const std::map<std::string, std::string>& environment, const std::string& input,
                    std::size_t max_data_bytes) {
  // Files instead of pipes: nothing to deadlock on, whatever the program prints.
  const TempFile in;
  const TempFile out;
  const TempFile err;
  if (in.file == nullptr || out.file == nullptr || err.file == nullptr)
    throw std::runtime_error("no temporary files");
  std::fwrite(input.data(), 1, input.size(), in.file);
  std::rewind(in.file);
  std::fflush(nullptr);  // the child must not print it once more
  [[maybe_unused]] const bool alone = thread_count() == 1;
  const pid_t child = fork();
  if (child == 0) {
    std::vector<char*> argv;
    for (const std::string& word : words) argv.push_back(const_cast<char*>(word.c_str()));
    argv.push_back(nullptr);
    for (const auto& [name, value] : environment) setenv(name.c_str(), value.c_str(), 1);
    if (chdir(folder.c_str()) != 0) _exit(126);
    if (max_data_bytes > 0) {
      const rlimit limit{max_data_bytes, max_data_bytes};
      setrlimit(RLIMIT_DATA, &limit);
    }
    dup2(in.handle(), STDIN_FILENO);
    dup2(out.handle(), STDOUT_FILENO);
    dup2(err.handle(), STDERR_FILENO);
#ifdef BAYSWAP_PROGRAM_INSIDE
    // Kills, and limits of memory, are for a process of its own; so is what comes from a process of many
    // threads.
    if (words.front() == BAYSWAP_BINARY && max_data_bytes == 0 && environment.count("LD_PRELOAD") == 0 &&
        alone) {
      const int code = cli::run_program(static_cast<int>(words.size()), argv.data());
      std::fflush(nullptr);
      // As at the end of a process of its own: what nothing points to any more is an error.
      _exit(__lsan_do_recoverable_leak_check() == 0 ? code : 99);
    }
#endif
    execv(argv[0], argv.data());
    _exit(127);
  }
  int status = 0;
  rusage usage{};
  if (child < 0 || wait4(child, &status, 0, &usage) != child) throw std::runtime_error("no process");
  const auto seconds = [](const timeval& time) {
    return static_cast<double>(time.tv_sec) + static_cast<double>(time.tv_usec) / 1e6;
  };
  return {WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status), out.text(), err.text(),
          seconds(usage.ru_utime) + seconds(usage.ru_stime)};
}

}  // namespace bayswap::test
