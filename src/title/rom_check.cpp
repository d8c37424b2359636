// The sums in ROM headers, over the whole ROM (docs/formats/roms.md).
#include <bayswap/title.hpp>

#include <algorithm>
#include <array>
#include <bit>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::uint64_t piece_bytes = std::uint64_t{1} << 20;

class SumReader {
 public:
  explicit SumReader(const RomSource& rom) : rom_(rom) {}

  Result<std::vector<RomSum>> of(Platform platform) {
    switch (platform) {
      case Platform::gb:
      case Platform::gbc:
        BAYSWAP_CHECK(gb());
        break;
      case Platform::gba:
        BAYSWAP_CHECK(gba());
        break;
      case Platform::md:
        BAYSWAP_CHECK(md());
        break;
      case Platform::snes:
        BAYSWAP_CHECK(snes());
        break;
      case Platform::sms:
      case Platform::gg:
        BAYSWAP_CHECK(sms());
        break;
      case Platform::ws:
        BAYSWAP_CHECK(ws());
        break;
      case Platform::nds:
        BAYSWAP_CHECK(nds());
        break;
      default:
        break;
    }
    return std::move(sums_);
  }

 private:
  // So many bytes from there on; nothing if the ROM is shorter.
  Result<Blob> at(std::uint64_t from, std::size_t count) {
    if (from + count > rom_.size_bytes) return Blob();
    return rom_.read(from, count);
  }

  // The sum of all bytes in a stretch; with `words`, of its 16-bit words, big-endian.
  Result<std::uint32_t> added(std::uint64_t from, std::uint64_t end, bool words = false) {
    std::uint32_t sum = 0;
    end = std::min(end, rom_.size_bytes);
    for (std::uint64_t where = from; where < end;) {
      BAYSWAP_TRY(const Blob bytes,
                  rom_.read(where, static_cast<std::size_t>(std::min(piece_bytes, end - where))));
      if (bytes.empty()) return fail(ErrorCode::io, "the ROM ends early", "read it again");
      for (std::size_t i = 0; i < bytes.size(); ++i)
        sum += words && (where + i) % 2 == 0 ? bytes.view()[i] * 256U : bytes.view()[i];
      where += bytes.size();
    }
    return sum;
  }

  void add(std::string_view what, std::uint32_t stored, std::uint32_t computed, int digits = 4) {
    sums_.push_back({std::string(what), stored, computed, digits});
  }

  Result<void> gb() {
    BAYSWAP_TRY(const Blob head, at(0, 0x150));
    if (head.empty()) return {};
    const ByteView h = head.view();
    Byte sum = 0;
    for (std::size_t i = 0x134; i < 0x14d; ++i) sum = static_cast<Byte>(sum - h[i] - 1);
    add("the header's sum at 14D", h[0x14d], sum, 2);
    BAYSWAP_TRY(const std::uint32_t all, added(0, rom_.size_bytes));
    add("the ROM's sum at 14E", be16(h, 0x14e), (all - h[0x14e] - h[0x14f]) & 0xffff);
    return {};
  }

  Result<void> gba() {
    BAYSWAP_TRY(const Blob head, at(0, 0xc0));
    if (head.empty()) return {};
    Byte sum = 0x19;
    for (std::size_t i = 0xa0; i < 0xbd; ++i) sum = static_cast<Byte>(sum + head.view()[i]);
    add("the header's sum at BD", head.view()[0xbd], static_cast<Byte>(-sum), 2);
    return {};
  }

  Result<void> md() {
    BAYSWAP_TRY(const Blob head, at(0, 0x200));
    if (head.empty()) return {};
    // Up to the last address that the header names.
    const std::uint64_t end = std::uint64_t{be32(head.view(), 0x1a4)} + 1;
    BAYSWAP_TRY(const std::uint32_t sum, added(0x200, end, true));
    add("the ROM's sum at 18E", be16(head.view(), 0x18e), sum & 0xffff);
    return {};
  }

  // As the address lines have it: what lies over a power of two is repeated until it is one again.
  Result<std::uint32_t> mirrored(std::uint64_t from, std::uint64_t size) {
    const std::uint64_t whole = std::bit_floor(size);
    BAYSWAP_TRY(const std::uint32_t first, added(from, from + whole));
    if (whole == size) return first;
    const std::uint64_t rest = size - whole;
    BAYSWAP_TRY(const std::uint32_t second, mirrored(from + whole, rest));
    return first + static_cast<std::uint32_t>(whole / std::bit_ceil(rest)) * second;
  }

  Result<void> snes() {
    for (const std::uint64_t where : {0x7fdcU, 0xffdcU, 0x407fdcU, 0x40ffdcU}) {
      BAYSWAP_TRY(const Blob sums, at(where, 4));
      if (sums.empty()) continue;
      const std::uint32_t stored = le16(sums.view(), 2);
      if ((le16(sums.view(), 0) ^ stored) != 0xffff) continue;
      BAYSWAP_TRY(const std::uint32_t sum, mirrored(0, rom_.size_bytes));
      add("the ROM's sum in its header", stored, sum & 0xffff);
      return {};
    }
    return {};
  }

  Result<void> sms() {
    constexpr std::array<Byte, 8> mark{0x54, 0x4d, 0x52, 0x20, 0x53, 0x45, 0x47, 0x41};
    constexpr std::uint64_t head_at = 0x7ff0;
    BAYSWAP_TRY(const Blob head, at(head_at, 16));
    if (head.empty() || !std::equal(mark.begin(), mark.end(), head.view().begin())) return {};
    // The size code says how far the sum goes: A to F 8 to 128 KiB, then 256 KiB and 512 KiB.
    constexpr std::array<std::uint64_t, 16> ends{
        0x40000, 0x80000, 0, 0, 0, 0, 0, 0, 0, 0, 0x2000, 0x4000, 0x8000, 0xc000, 0x10000, 0x20000};
    const std::uint64_t end = ends.at(head.view()[15] & 0xfU);
    if (end == 0) return {};
    BAYSWAP_TRY(std::uint32_t sum, added(0, std::min(end, head_at)));
    if (end > head_at + 16) {
      BAYSWAP_TRY(const std::uint32_t rest, added(head_at + 16, end));
      sum += rest;
    }
    add("the ROM's sum at 7FFA", le16(head.view(), 10), sum & 0xffff);
    return {};
  }

  Result<void> ws() {
    if (rom_.size_bytes < 16) return {};
    BAYSWAP_TRY(const Blob last, at(rom_.size_bytes - 2, 2));
    BAYSWAP_TRY(const std::uint32_t sum, added(0, rom_.size_bytes - 2));
    add("the ROM's sum in its last bytes", le16(last.view(), 0), sum & 0xffff);
    return {};
  }

  Result<void> nds() {
    BAYSWAP_TRY(const Blob head, at(0, 0x160));
    if (head.empty()) return {};
    add("the header's CRC-16 at 15E", le16(head.view(), 0x15e), crc16(head.view().first(0x15e)));
    return {};
  }

  const RomSource& rom_;
  std::vector<RomSum> sums_;
};

}  // namespace

Result<std::vector<RomSum>> check_rom(Platform platform, const RomSource& rom) {
  return SumReader(rom).of(platform);
}

}  // namespace bayswap
