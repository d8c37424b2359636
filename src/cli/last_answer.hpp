// What a command printed of a bay, kept with what it had looked at: where all of that is still the same, so
// is the answer.
#pragma once

#include <bayswap/bay_view.hpp>

#include "cli/commands.hpp"

namespace bayswap::cli {

/// What was looked at below a folder, as a TracingStore noted it.
struct Watched {
  std::string root;
  std::string trace;
};

class LastAnswer {
 public:
  /// `command`: a word for it. `more`: whatever else the answer depends on.
  LastAnswer(const Globals& globals, const Home& home, const Bay& bay, std::string_view command,
             const std::string& more);

  /// The text to print again, if it is still right.
  [[nodiscard]] std::optional<std::string> still_right();
  /// A home folder that can't be written only makes the next time slower.
  void keep(const std::string& text, const std::vector<Watched>& watched);

 private:
  LocalStore disk_;
  std::string path_;
  std::string key_;
};

}  // namespace bayswap::cli
