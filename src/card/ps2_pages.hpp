// The pages of a ps2 card, with or without their spare bytes in the file.
#pragma once

#include <vector>

#include "base/ecc.hpp"
#include "card/ps2.hpp"

namespace bayswap::ps2 {

/// What is wrong with a chunk of a page by its code.
struct EccFlaw {
  std::size_t page = 0;
  std::size_t chunk = 0;
  EccState state = EccState::sound;
};

/// Data of all pages one behind the other, bit errors set right. The file it came from is kept, so that pages
/// that nobody writes go back as they were.
class Pages {
 public:
  /// `with_spare`: 528 bytes a page. Anything behind the last whole page is left out.
  Pages(Blob file, bool with_spare);

  [[nodiscard]] ByteView data() const { return data_.view(); }
  [[nodiscard]] bool with_spare() const { return with_spare_; }
  [[nodiscard]] const std::vector<EccFlaw>& flaws() const { return flaws_; }
  /// To be written to. The chunks count as written: they get a new code.
  [[nodiscard]] std::span<Byte> change(std::size_t at, std::size_t count);
  /// Chunks with mended bits, and with wrong codes over sound data, count as written from now on.
  void mend();
  [[nodiscard]] Blob file() const;

 private:
  Blob file_;
  Buffer data_;
  std::vector<bool> written_;  // a chunk each
  std::vector<EccFlaw> flaws_;
  bool with_spare_;
};

/// Plain data to pages with spare bytes; erased pages (all FF) get erased spare bytes.
[[nodiscard]] Blob with_spare_bytes(ByteView data);

}  // namespace bayswap::ps2
