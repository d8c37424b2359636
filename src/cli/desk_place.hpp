// A file that a save is taken out into, or comes back from: a place with one save in it, and no rules of its
// own.
#pragma once

#include "cli/books.hpp"

namespace bayswap::cli {

/// Whether the words can name a file to be made: nothing is there yet, and they are no bay's name.
[[nodiscard]] bool names_a_new_file(const Books& books, const std::string& name);
/// A place for that one save, in the form that the source has it in. Fails with `bad_usage` if the words mean
/// no save of the source or several.
[[nodiscard]] Result<std::unique_ptr<OpenedBay>> place_for_one(const Books& books, BayView& from,
                                                               const std::string& what,
                                                               const std::string& file);

}  // namespace bayswap::cli
