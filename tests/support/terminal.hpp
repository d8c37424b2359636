// The real binary in a terminal: it is asked, and answers.
#pragma once

#include <map>
#include <string>
#include <utility>
#include <vector>

namespace bayswap::test {

struct Session {
  int code = 0;      // exit code, or 128 + the signal that ended it
  std::string seen;  // all that was on the terminal, what was typed too
};
/// What to type when a text has been seen: "\n" ends a line, "\x03" is Ctrl-C.
using Answers = std::vector<std::pair<std::string, std::string>>;

/// Runs `words` in `folder` on a terminal of 100 columns. Answers are given in their order; what waits for
/// one that never comes is ended after `patience_seconds`.
[[nodiscard]] Session run_in_terminal(const std::vector<std::string>& words, const std::string& folder,
                                      const std::map<std::string, std::string>& environment,
                                      const Answers& answers, int patience_seconds = 30);

}  // namespace bayswap::test
