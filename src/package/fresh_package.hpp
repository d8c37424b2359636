// An x360 package that no console signed, for made-up saves.
#pragma once

#include <bayswap/package.hpp>

namespace bayswap {

struct PackageFacts {
  std::uint32_t title_id = 0;
  std::uint64_t profile_id = 0;
  std::string title;  // plain ASCII
  std::string name;
  int table_copies = 2;
};
/// Without a file in it; the signature is zeros.
[[nodiscard]] BlockPackage fresh_package(const PackageFacts& facts);

}  // namespace bayswap
