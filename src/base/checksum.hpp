// Checksums of on-media structures.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap {

/// CRC-32 of ISO 3309 (reflected, polynomial EDB88320); `so_far` is the value of the bytes before.
[[nodiscard]] std::uint32_t crc32(ByteView bytes, std::uint32_t so_far = 0);
/// CRC-16 as the nds header has it: reflected, polynomial A001, start FFFF.
[[nodiscard]] std::uint16_t crc16(ByteView bytes);
/// CRC-16 of polynomial 1021, highest bit first, start 0 (ITU-T V.41).
[[nodiscard]] std::uint16_t crc16_ccitt(ByteView bytes);
/// SHA-1 (FIPS 180-4), 20 bytes; for media that use it, never for telling bytes apart.
[[nodiscard]] std::array<Byte, 20> sha1(ByteView bytes);
[[nodiscard]] std::array<Byte, 16> md5(ByteView bytes);
/// The sum of all bytes, modulo 65536.
[[nodiscard]] std::uint16_t sum16(ByteView bytes);

}  // namespace bayswap
