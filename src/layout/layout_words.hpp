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
inline constexpr std::array<std::pair<Absent, std::string_view>, 3> absent_words{
    {{Absent::ff, "ff"}, {Absent::zero, "00"}, {Absent::fresh_pak, "fresh-pak"}}};
inline constexpr std::array<std::pair<Form, std::string_view>, 6> form_words{
    {{Form::plain, "plain"},
     {Form::nibbles, "nibbles"},
     {Form::nibbles_packed, "nibbles-packed"},
     {Form::clock44, "clock44"},
     {Form::clock_start, "clock-start"},
     {Form::pages_ecc, "pages-ecc"}}};
inline constexpr std::array<std::pair<Spread, std::string_view>, 4> spread_words{
    {{Spread::none, "none"}, {Spread::zero, "00"}, {Spread::ff, "ff"}, {Spread::doubled, "doubled"}}};
inline constexpr std::array<std::pair<Lane, std::string_view>, 2> lane_words{
    {{Lane::odd, "odd"}, {Lane::even, "even"}}};
inline constexpr std::array<std::pair<Compression, std::string_view>, 4> stream_words{
    {{Compression::none, "none"},
     {Compression::gzip, "gzip"},
     {Compression::zlib, "zlib"},
     {Compression::chunks, "chunks"}}};

}  // namespace bayswap
