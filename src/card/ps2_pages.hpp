// The pages of a ps2 card, with or without their spare bytes in the file.
#pragma once

#include <map>
#include <vector>

#include "card/ps2.hpp"

namespace bayswap::ps2 {

/// What is wrong with a chunk of a page by its code.
struct EccFlaw {
  std::size_t page = 0;
  std::size_t chunk = 0;
  EccState state = EccState::sound;
};

/// The data of all pages as one row of bytes, bit errors set right. Nothing is copied but pages that differ
/// from the file: those go back with new codes where they were written, all others as they were.
class Pages {
 public:
  /// `with_spare`: 528 bytes a page. Anything after the last whole page is left out.
  Pages(Blob file, bool with_spare);

  /// Of all pages' data.
  [[nodiscard]] std::size_t size() const { return overlaid_.size() * page_bytes; }
  /// `count` bytes that lie within one page.
  [[nodiscard]] ByteView bytes(std::size_t at, std::size_t count) const;
  [[nodiscard]] std::uint32_t number(std::size_t at) const { return le32(bytes(at, 4), 0); }
  /// Fills `out`, over as many pages as it takes.
  void copy(std::size_t at, std::span<Byte> out) const;
  [[nodiscard]] bool with_spare() const { return with_spare_; }
  [[nodiscard]] const std::vector<EccFlaw>& flaws() const { return flaws_; }
  /// To be written to, within one page. The chunks count as written: they get a new code.
  [[nodiscard]] std::span<Byte> change(std::size_t at, std::size_t count);
  /// Chunks with repaired bits, and with wrong codes over sound data, count as written from now on.
  void repair();
  /// The spare areas of all pages hold nothing but 00: no codes were ever made.
  [[nodiscard]] bool has_blank_codes() const { return blank_codes_; }
  [[nodiscard]] Blob file() const;

 private:
  [[nodiscard]] ByteView raw(std::size_t page) const;  // as the file has it, spare bytes and all
  std::array<Byte, page_bytes>& overlay(std::size_t page);
  void write_page(std::size_t page, std::span<Byte> out) const;

  Blob file_;
  std::vector<bool> overlaid_;  // pages
  std::map<std::size_t, std::array<Byte, page_bytes>> overlays_;
  std::vector<bool> written_;  // chunks
  std::vector<EccFlaw> flaws_;
  bool with_spare_;
  bool blank_codes_ = false;
};

/// Plain data to pages with spare bytes; erased pages (all FF) get erased spare bytes.
[[nodiscard]] Blob with_spare_bytes(ByteView data);

}  // namespace bayswap::ps2
