// What a shell can offer for the word at the cursor. The scripts for the shells are in data/completions.
#pragma once

#include <CLI/CLI.hpp>

#include <string>
#include <vector>

namespace bayswap::cli {

/// `words`: the index of the word at the cursor, then the words of the line, "bayswap" first. Prints a
/// candidate a line; ":files" and ":folders" where names on the disk are meant. Never fails, never asks,
/// never writes.
int complete_command(const CLI::App& app, const std::vector<std::string>& words);

}  // namespace bayswap::cli
