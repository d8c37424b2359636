// "-" as a file: stdin and stdout.
#pragma once

#include <bayswap/base.hpp>

#include <string>

namespace bayswap::cli {

/// Stands in for "-" with a file in a folder of its own, which goes away with it.
class Pipes {
 public:
  Pipes() = default;
  ~Pipes();
  Pipes(const Pipes&) = delete;
  Pipes& operator=(const Pipes&) = delete;

  /// Returns the path to read: `word`, or a file with what stdin has. Fails with `bad_usage` the second time.
  [[nodiscard]] Result<std::string> input(const std::string& word);
  /// Returns the path to write: `word`, or a file whose bytes flush() sends to stdout.
  [[nodiscard]] Result<std::string> output(const std::string& word);
  /// Sends what was written for "-" to stdout.
  [[nodiscard]] Result<void> flush() const;
  [[nodiscard]] bool is_to_stdout() const { return !out_.empty(); }

 private:
  [[nodiscard]] Result<std::string> folder();

  std::string folder_;
  std::string out_;
  bool is_read_ = false;
};

/// Returns all of stdin. Fails with `does_not_fit` over 80 MiB.
[[nodiscard]] Result<Blob> read_stdin();

}  // namespace bayswap::cli
