// Who is this game: ROM headers.
#pragma once

#include <bayswap/save.hpp>

namespace bayswap {

/// How the bytes of a ROM file stand against the cartridge's own order.
enum class RomOrder { native, swap16, swap32 };

/// "as the cartridge has it", ...
[[nodiscard]] std::string_view to_text(RomOrder order);

struct RomFacts {
  GameId game;
  RomOrder order = RomOrder::native;
  std::uint32_t check_code = 0;       // the header's own first checksum, tells dumps of one game apart
  double confidence = 0;              // 0 to 1
  std::vector<std::string> evidence;  // one sentence each
};

/// How much of a ROM file `identify_rom` wants to see; fewer bytes do where the file is shorter.
inline constexpr std::size_t rom_head_size_bytes = 4096;

/// Reads the header at the head of a ROM file. The file's name is never asked. `not_recognised` when it is no
/// ROM of a platform we know. Source of the facts: docs/formats/n64.md.
[[nodiscard]] Result<RomFacts> identify_rom(ByteView head);

}  // namespace bayswap
