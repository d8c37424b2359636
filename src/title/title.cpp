#include <bayswap/title.hpp>

#include "title/readers.hpp"

namespace bayswap {

std::string_view to_text(RomOrder order) {
  switch (order) {
    case RomOrder::native:
      return "as the cartridge has them";
    case RomOrder::swap16:
      return "with the two bytes of each 16-bit word exchanged";
    case RomOrder::swap32:
      return "with the four bytes of each 32-bit word reversed";
  }
  return "as the cartridge has them";
}

Result<RomFacts> identify_rom(ByteView head) {
  if (auto facts = read_n64_header(head)) return *std::move(facts);
  return fail(ErrorCode::not_recognised, "no ROM header of a platform we know",
              "n64 ROMs are known so far, in any byte order; check that the file is a ROM and not packed in "
              "an archive");
}

}  // namespace bayswap
