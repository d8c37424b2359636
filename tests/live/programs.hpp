// Tiny cartridge programs, assembled here. Each looks for its bytes at the beginning of the battery memory:
// byte i is seed + 7 i, for 256 bytes. Where it finds them it writes 5 to byte 511, otherwise it writes them,
// and A there.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap::test {

inline constexpr std::size_t mark_at = 511;
inline constexpr Byte saw_it = 0x05;
inline constexpr Byte wrote_it = 0x0a;

/// `board` as the gb header has it: 1B (plain RAM), 06 (half-bytes), 10 (with a clock); looks at lower halves
/// only.
[[nodiscard]] Blob gb_program(Byte board, Byte seed);
/// With a clock: writes the day counter's lower byte to byte 510 all the time.
[[nodiscard]] Blob gb_clock_program(Byte seed);
/// Keeps a ledger in plain RAM: "LG", coins in two bytes, ten further bytes, the sum of these 14 and its
/// complement. Where the sum holds it copies the coins to byte 508 and writes 5 to byte 511; otherwise it
/// opens a new ledger with 1,250 coins and writes A there.
[[nodiscard]] Blob gb_ledger_program();
[[nodiscard]] Blob gba_program(Byte seed);
[[nodiscard]] Blob nes_program(Byte seed);
[[nodiscard]] Blob snes_program(Byte seed);
/// Does nothing but run: the console itself formats its backup memory.
[[nodiscard]] Blob pce_program();

}  // namespace bayswap::test
