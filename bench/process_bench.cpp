// CPU time of whole processes, user and system together, against a public yardstick run in turn with ours.
#include <bayswap/layout.hpp>

#include <fcntl.h>
#include <spawn.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <random>
#include <string>
#include <vector>

namespace {

using Words = std::vector<std::string>;

double cpu_of_children() {
  rusage usage{};
  getrusage(RUSAGE_CHILDREN, &usage);
  const auto seconds = [](const timeval& t) {
    return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) * 1e-6;
  };
  return seconds(usage.ru_utime) + seconds(usage.ru_stime);
}

void run(const Words& words) {
  std::vector<char*> argv;
  for (const std::string& word : words) argv.push_back(const_cast<char*>(word.c_str()));
  argv.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  pid_t child = 0;
  int status = 0;
  if (posix_spawnp(&child, argv[0], &actions, nullptr, argv.data(), environ) != 0 ||
      waitpid(child, &status, 0) != child || status != 0) {
    std::fprintf(stderr, "%s failed\n", argv[0]);
    std::exit(1);
  }
  posix_spawn_file_actions_destroy(&actions);
}

// Medians over rounds; within a round the two take turns.
void compare(const char* what, const Words& ours, const Words& yardstick,
             const std::function<void()>& before_each, double bound) {
  constexpr int rounds = 15;
  constexpr int runs = 30;
  std::vector<double> our_times;
  std::vector<double> their_times;
  for (int round = 0; round < rounds; ++round) {
    for (const bool us : {true, false}) {
      double sum = 0;
      for (int i = 0; i < runs; ++i) {
        before_each();
        const double start = cpu_of_children();
        run(us ? ours : yardstick);
        sum += cpu_of_children() - start;
      }
      (us ? our_times : their_times).push_back(sum / runs * 1000);
    }
  }
  std::ranges::sort(our_times);
  std::ranges::sort(their_times);
  const double a = our_times[rounds / 2];
  const double b = their_times[rounds / 2];
  std::printf("%-32s %7.3f ms CPU, yardstick %7.3f ms, ratio %.2f (at most %.1f)\n", what, a, b, a / b,
              bound);
}

}  // namespace

int main() {
  const std::filesystem::path folder = std::filesystem::temp_directory_path() / "bayswap-process-bench";
  std::filesystem::create_directories(folder);
  const std::string in = folder / "in.srm";
  const std::string out = folder / "out.srm";
  {
    std::mt19937 noise(1);
    std::ofstream file(in, std::ios::binary);
    for (int i = 0; i < 296960; ++i) file.put(static_cast<char>(noise()));
  }
  const auto clear = [&] { std::filesystem::remove(out); };
  const auto nothing = [] {};
  compare("convert against cp",
          {BAYSWAP_BINARY, "convert", in, "--to", "n64.combined-be", "--out", out, "--quiet"},
          {"cp", in, out}, clear, 3);
  compare("convert --from against cp",
          {BAYSWAP_BINARY, "convert", in, "--from", "n64.combined", "--to", "n64.combined-be", "--out", out,
           "--quiet"},
          {"cp", in, out}, clear, 3);
  compare("--version against empty", {BAYSWAP_BINARY, "--version"}, {BAYSWAP_EMPTY}, nothing, 1.5);
  std::filesystem::remove_all(folder);
}
