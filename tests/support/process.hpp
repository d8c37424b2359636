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
};

/// Runs `words` (the program's path first) in `folder`, with `environment` added to ours; `input` on its
/// stdin.
[[nodiscard]] Outcome run_process(const std::vector<std::string>& words, const std::string& folder,
                                  const std::map<std::string, std::string>& environment = {},
                                  const std::string& input = {});

}  // namespace bayswap::test
