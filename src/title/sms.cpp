#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header, at the end of the first 8, 16 or 32 KiB (docs/formats/roms.md).
constexpr std::array<std::uint64_t, 3> places{0x7ff0, 0x3ff0, 0x1ff0};
constexpr std::array<Byte, 8> magic{0x54, 0x4d, 0x52, 0x20, 0x53, 0x45, 0x47, 0x41};
constexpr std::size_t sms_checksum_at = 10;
constexpr std::size_t sms_code_at = 12;  // binary-coded decimal, least significant byte first
constexpr std::size_t sms_revision_at = 14;
constexpr std::size_t region_at = 15;

}  // namespace

std::optional<RomFacts> read_sms_header(const RomView& rom) {
  for (const std::uint64_t copier :
       {std::uint64_t{0}, rom.source.size_bytes % 1024 == 512 ? std::uint64_t{512} : 0}) {
    for (const std::uint64_t place : places) {
      const Blob header = rom.at(copier + place, 16);
      const ByteView h = header.view();
      if (h.empty() || !std::ranges::equal(h.first(magic.size()), magic)) continue;
      RomFacts facts;
      const int region = h[region_at] >> 4;
      facts.game.platform = region >= 5 && region <= 7 ? Platform::gg : Platform::sms;
      facts.game.region = region == 3 || region == 5                  ? Region::japan
                          : region == 4 || region == 6 || region == 7 ? Region::world
                                                                      : Region::unknown;
      facts.game.code =
          fmt::format("{:X}{:02X}{:02X}", h[sms_revision_at] >> 4, h[sms_code_at + 1], h[sms_code_at]);
      facts.game.revision = h[sms_revision_at] & 0x0f;
      facts.check_code = le16(h, sms_checksum_at);
      facts.header_size_bytes = static_cast<std::size_t>(copier);
      facts.confidence = 0.98;
      facts.evidence.push_back(fmt::format("the header's magic is at {:X}{}", copier + place,
                                           copier != 0 ? ", after a copier's 512 bytes" : ""));
      return facts;
    }
  }
  return std::nullopt;
}

}  // namespace bayswap
