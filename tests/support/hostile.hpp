// Inputs that are made to mislead: each is small, or sound at first sight, and claims what it has not.
#pragma once

#include <string>
#include <vector>

#include "support/builders.hpp"

namespace bayswap::test {

/// A 64 MiB ps2 card in which `saves` folders of `files` files each all claim one chain that has all
/// clusters.
[[nodiscard]] Blob ps2_card_of_one_chain(std::size_t image_bytes, std::size_t saves, std::size_t files);
/// A ps2 card with a root folder of no entries; one whose two pointers to tables lead to one table; one with
/// a file called `name`.
[[nodiscard]] Blob ps2_card_without_root();
[[nodiscard]] Blob ps2_card_of_one_table();
[[nodiscard]] Blob ps2_card_with_a_file_called(const std::string& name);
/// A gc card of 2043 blocks in which 127 saves claim all of them.
[[nodiscard]] Blob gc_card_of_one_chain();
/// A sat cartridge of 4 MiB in which `saves` saves list the same thousands of blocks.
[[nodiscard]] Blob sat_memory_of_shared_lists(std::size_t saves);
/// The package with every file's size set to 4 GiB, and its blocks in a circle.
[[nodiscard]] Blob looping_package(const Blob& package);
/// A parcel of a ps2 save with files of these names.
[[nodiscard]] Blob parcel_with_names(const std::string& save_name, const std::vector<std::string>& names);
/// A zip file with one deflated file in it.
[[nodiscard]] Blob zip_of(const std::string& name, const Blob& bytes, bool utf8 = true);
/// A tar file, gzipped, of empty files whose names have `length` bytes each.
[[nodiscard]] Blob tar_of_long_names(std::size_t count, std::size_t length);
/// a.a.a. ... = 1
[[nodiscard]] std::string dotted_toml(std::size_t depth);

}  // namespace bayswap::test
