// The words of the layout language, for reading and writing.
#pragma once

#include <bayswap/layout.hpp>

#include <array>

namespace bayswap {

inline constexpr std::array<std::pair<ByteOrder, std::string_view>, 4> order_words{
    {{ByteOrder::chip, "chip"},
     {ByteOrder::swap16, "swap16"},
     {ByteOrder::swap32, "swap32"},
     {ByteOrder::swap64, "swap64"}}};
inline constexpr std::array<std::pair<DefaultFill, std::string_view>, 3> absent_words{
    {{DefaultFill::ff, "ff"}, {DefaultFill::zero, "00"}, {DefaultFill::fresh_pak, "fresh-pak"}}};
inline constexpr std::array<std::pair<Encoding, std::string_view>, 6> form_words{
    {{Encoding::plain, "plain"},
     {Encoding::nibbles, "nibbles"},
     {Encoding::nibbles_packed, "nibbles-packed"},
     {Encoding::clock44, "clock44"},
     {Encoding::clock_start, "clock-start"},
     {Encoding::pages_ecc, "pages-ecc"}}};
inline constexpr std::array<std::pair<Interleave, std::string_view>, 4> spread_words{
    {{Interleave::none, "none"},
     {Interleave::zero, "00"},
     {Interleave::ff, "ff"},
     {Interleave::doubled, "doubled"}}};
inline constexpr std::array<std::pair<AddressParity, std::string_view>, 2> lane_words{
    {{AddressParity::odd, "odd"}, {AddressParity::even, "even"}}};
inline constexpr std::array<std::pair<Compression, std::string_view>, 4> stream_words{
    {{Compression::none, "none"},
     {Compression::gzip, "gzip"},
     {Compression::zlib, "zlib"},
     {Compression::chunks, "chunks"}}};

}  // namespace bayswap
