// What a look at a place found, for people and for programs.
#pragma once

#include <bayswap/detect.hpp>

#include "answer/json.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

/// Looks at a place, with progress on a terminal. `unsettled_as`: the platform of what nothing else settles.
[[nodiscard]] Result<Detection> look_at(const Globals& globals, const Catalog& catalog, Store& store,
                                        std::optional<Platform> unsettled_as = std::nullopt);
/// The options of a look, with a line of progress on a terminal.
[[nodiscard]] DetectOptions look_options(const Globals& globals);
/// Ends the line of progress.
void end_look(const Globals& globals);

void print_detection(const Detection& detection, const std::string& root);
[[nodiscard]] Json to_json(const Detection& detection, const std::string& root);
/// "gb, gba, n64".
[[nodiscard]] std::string platforms_in(const Detection& detection);
/// The platform of that tag. `bad_usage` if it is none, with the tags.
[[nodiscard]] Result<Platform> platform_named(const std::string& tag);
/// A word as a shell takes it.
[[nodiscard]] std::string shell_word(const std::string& text);

}  // namespace bayswap::cli
