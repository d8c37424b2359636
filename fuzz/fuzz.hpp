// What the targets share: a failed promise stops the run.
#pragma once

#include <bayswap/base.hpp>

#include <cstddef>
#include <cstdint>
#include <string_view>

namespace bayswap::fuzz {

inline void require(bool promise) {
  if (!promise) __builtin_trap();
}

inline std::string_view text(const std::uint8_t* data, std::size_t size) {
  return {reinterpret_cast<const char*>(data), size};
}

}  // namespace bayswap::fuzz

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size);
