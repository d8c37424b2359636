#include <bayswap/title.hpp>

#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <memory>

#include "base/checksum.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

constexpr std::size_t chunk_size = std::size_t{1} << 20;

class Hasher {
 public:
  explicit Hasher(const EVP_MD* kind) : context_(EVP_MD_CTX_new(), &EVP_MD_CTX_free) {
    EVP_DigestInit_ex(context_.get(), kind, nullptr);
  }
  void add(ByteView bytes) { EVP_DigestUpdate(context_.get(), bytes.data(), bytes.size()); }
  std::string hex() {
    std::array<Byte, EVP_MAX_MD_SIZE> bytes{};
    unsigned int size = 0;
    EVP_DigestFinal_ex(context_.get(), bytes.data(), &size);
    std::string text;
    for (const Byte b : ByteView(bytes).first(size)) text += fmt::format("{:02x}", b);
    return text;
  }

 private:
  std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context_;
};

}  // namespace

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

RomSource rom_source(ByteView rom) {
  return {rom.size(), [rom](std::uint64_t at, std::size_t count) -> Result<Blob> {
            const std::size_t start = static_cast<std::size_t>(std::min<std::uint64_t>(at, rom.size()));
            return Blob::copy_of(rom.subspan(start, std::min(count, rom.size() - start)));
          }};
}

Blob RomView::at(std::uint64_t offset, std::size_t count) const {
  if (offset > source.size_bytes || source.size_bytes - offset < count) return {};
  if (offset + count <= head.size()) return head.slice(static_cast<std::size_t>(offset), count);
  if (failure) return {};
  auto bytes = source.read(offset, count);
  if (!bytes) failure = std::move(bytes.error());
  return !failure && bytes->size() == count ? *bytes : Blob();
}

Result<RomFacts> identify_rom(const RomSource& rom) {
  BAYSWAP_TRY(Blob head, rom.read(0, rom_head_size));
  const RomView view{rom, std::move(head), {}};
  for (auto* reader :
       {read_n64_header, read_nes_header, read_disc_header, read_first_sectors, read_3ds_header,
        read_x360_program, read_md_header, read_ngp_header, read_nds_header, read_gba_header, read_disc_files,
        read_sms_header, read_gb_header, read_snes_header, read_vb_header, read_ws_footer})
    if (auto facts = reader(view); facts || view.failure) {
      if (view.failure) return tl::unexpected(*view.failure);
      return *std::move(facts);
    }
  return fail(ErrorCode::not_recognised, "no ROM header of a platform we know",
              "check that the file is a ROM, and not packed in an archive; pce and a26 ROMs have no header "
              "to tell them by");
}

Result<RomFacts> identify_rom(ByteView rom) {
  return identify_rom(rom_source(rom));
}

Result<RomDigests> digest_rom(const RomSource& rom, std::size_t skip) {
  Hasher md5(EVP_md5());
  Hasher sha1(EVP_sha1());
  Hasher sha256(EVP_sha256());
  RomDigests digests;
  for (std::uint64_t at = skip; at < rom.size_bytes;) {
    BAYSWAP_TRY(const Blob bytes, rom.read(at, chunk_size));
    if (bytes.empty())
      return fail(ErrorCode::io, fmt::format("the ROM could not be read at offset {}", at), "try again");
    digests.crc32 = crc32(bytes.view(), digests.crc32);
    for (Hasher* hasher : {&md5, &sha1, &sha256}) hasher->add(bytes.view());
    at += bytes.size();
  }
  digests.md5 = md5.hex();
  digests.sha1 = sha1.hex();
  digests.sha256 = sha256.hex();
  return digests;
}

bool is_plain_title(ByteView field) {
  const auto end = std::ranges::find(field, Byte{0});
  return std::all_of(field.begin(), end, [](Byte b) { return b >= 0x20 && b < 0x7f; }) &&
         std::all_of(end, field.end(), [](Byte b) { return b == 0 || b == ' '; });
}

bool is_plain_code(ByteView field) {
  return std::ranges::all_of(field, [](Byte b) { return (b >= 'A' && b <= 'Z') || (b >= '0' && b <= '9'); });
}

std::string header_text(ByteView field) {
  return printable(to_utf8(field, TextEncoding::shift_jis));
}

}  // namespace bayswap
