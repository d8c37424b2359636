// Running the real binary, as a shell would, without a terminal.
#pragma once

#include <map>
#include <string>
#include <vector>

namespace bayswap::test {

struct Outcome {
  int code = 0;  // exit code, or 128 + the signal that ended it
  std::string out;
  std::string err;
  double cpu_seconds = 0;
};

/// Runs `words` (the program's path first) in `folder`, with `environment` added to ours; `input` on its
/// stdin. `max_data_bytes`: the kernel gives it no more memory than that; 0: as much as there is.
[[nodiscard]] Outcome run_process(const std::vector<std::string>& words, const std::string& folder,
                                  const std::map<std::string, std::string>& environment = {},
                                  const std::string& input = {}, std::size_t max_data_bytes = 0);

}  // namespace bayswap::test
