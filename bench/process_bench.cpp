// CPU time of whole processes, user and system together, against a public yardstick run in turn with ours.
#include <bayswap/layout.hpp>

#include <filesystem>
#include <fstream>
#include <functional>
#include <random>

#include "processes.hpp"

namespace {

using namespace bayswap::bench;

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
        sum += run(us ? ours : yardstick).cpu_seconds;
      }
      (us ? our_times : their_times).push_back(sum / runs * 1000);
    }
  }
  const double a = median(our_times);
  const double b = median(their_times);
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
