// The manual page, made of the commands as they are.
#pragma once

#include <CLI/CLI.hpp>

#include <string>

namespace bayswap::cli {

/// Returns docs/bayswap.1: every command with its options and examples, and the topics of the help.
[[nodiscard]] std::string man_page(const CLI::App& app);

}  // namespace bayswap::cli
