// Saves for memory cards, as games would have them, and where a card's image holds what.
#pragma once

#include <bayswap/card.hpp>

#include <utility>
#include <vector>

namespace bayswap::test {

/// The kinds that saves can be put on.
std::vector<CardKind> writable_kinds();

/// A save that takes so many blocks, at least least_blocks(kind). `number` is 1 to 99 and makes its name.
CardSave made_save(CardKind kind, int number, std::size_t blocks, std::uint32_t seed);
std::size_t least_blocks(CardKind kind);
/// What a save made so shows in a list, but for blocks and state.
Region made_region(CardKind kind);

using Range = std::pair<std::size_t, std::size_t>;  // from, to
/// Of the usual image (ps2: plain): header, tables and directories.
Range directory_of(CardKind kind);
/// Everything of a save but links in tables: its blocks and its entries, wherever the image has them.
std::vector<Range> places_of(const Card& card, const Blob& image, const CardSave& save);
/// The links of its blocks, in all copies of the table.
std::vector<Range> links_of(const Card& card, const CardSave& save);

}  // namespace bayswap::test
