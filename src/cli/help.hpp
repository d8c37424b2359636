// Help: examples for each command, and topics that several commands have in common.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace bayswap::cli {

/// The examples of a command, as its help shows them; empty if it has none of its own.
[[nodiscard]] std::string examples_of(std::string_view command);
/// The names of the topics that are not commands.
[[nodiscard]] std::vector<std::string> help_topics();
/// The text of a topic; empty if there is none.
[[nodiscard]] std::string help_topic(std::string_view name);

}  // namespace bayswap::cli
