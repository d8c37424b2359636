#include "package/fresh_package.hpp"

#include <algorithm>
#include <cassert>

#include "base/endian.hpp"

namespace bayswap {
namespace {

constexpr std::size_t base = 0xA000;  // after a header of 971A bytes
constexpr std::size_t fresh_block_bytes = 0x1000;

void put_utf16(std::span<Byte> bytes, std::size_t at, std::string_view text, std::size_t units) {
  for (std::size_t i = 0; i < std::min<std::size_t>(text.size(), units - 1); ++i)
    put_be16(bytes, at + 2 * i, static_cast<Byte>(text[i]));
}

}  // namespace

BlockPackage fresh_package(const PackageFacts& facts) {
  const auto copies = static_cast<std::size_t>(facts.table_copies);
  std::vector<Byte> image(base + (copies + 1) * fresh_block_bytes);
  const std::span<Byte> out(image);
  constexpr std::string_view signer = "CON ";
  std::ranges::copy(signer, image.begin());
  put_be16(out, 4, 0x1A8);  // size of the certificate
  // The first of sixteen licences: for everybody.
  std::fill_n(image.begin() + 0x22C, 8, Byte{0xff});
  put_be32(out, 0x340, 0x971A);
  put_be32(out, 0x344, 1);
  put_be32(out, 0x348, 2);
  put_be32(out, 0x350, static_cast<std::uint32_t>(image.size() - base));
  put_be32(out, 0x360, facts.title_id);
  put_be32(out, 0x371, static_cast<std::uint32_t>(facts.profile_id >> 32));
  put_be32(out, 0x375, static_cast<std::uint32_t>(facts.profile_id & 0xFFFFFFFF));
  out[0x379] = 0x24;
  out[0x37B] = copies == 1 ? 1 : 0;
  put_le(out, 0x37C, 2, 1);  // the file table: one block, the first
  put_be32(out, 0x395, 1);
  put_utf16(out, 0x411, facts.name, 128);
  put_utf16(out, 0x1691, facts.title, 64);
  // The only entry of the only hash table: in use, and the last of its chain.
  out[base + 20] = 0x80;
  std::fill_n(image.begin() + base + 21, 3, Byte{0xff});
  put_be32(out, base + 0xFF0, 1);
  auto package = BlockPackage::open(Blob::copy_of(image));
  assert(package);
  // A file in and out again leaves every hash right.
  (void)package->put("x", {}, 0);
  (void)package->drop("x");
  return *std::move(package);
}

}  // namespace bayswap
