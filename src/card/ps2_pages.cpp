#include "card/ps2_pages.hpp"

#include <algorithm>
#include <cstring>

namespace bayswap::ps2 {
namespace {

constexpr std::size_t raw_page_bytes = page_bytes + spare_bytes;
constexpr std::size_t chunks = ecc_chunks;

bool is_erased(ByteView bytes) {
  Byte value = 0;
  return is_uniform(bytes, &value) && value == 0xff;
}

}  // namespace

Blob with_spare_bytes(ByteView data) {
  const std::size_t pages = data.size() / page_bytes;
  Buffer file(pages * raw_page_bytes);
  for (std::size_t i = 0; i < pages; ++i) {
    const ByteView page = data.subspan(i * page_bytes, page_bytes);
    const std::span<Byte> out = file.bytes().subspan(i * raw_page_bytes, raw_page_bytes);
    std::memcpy(out.data(), page.data(), page_bytes);
    put_likely_spare(out.subspan(page_bytes), page);
  }
  return std::move(file).freeze();
}

Pages::Pages(Blob file, bool with_spare)
    : file_(std::move(file)),
      data_(file_.size() / (with_spare ? raw_page_bytes : page_bytes) * page_bytes),
      with_spare_(with_spare) {
  const std::size_t pages = data_.view().size() / page_bytes;
  written_.resize(pages * chunks);
  if (!with_spare) {
    std::memcpy(data_.bytes().data(), file_.data(), data_.bytes().size());
    return;
  }
  for (std::size_t i = 0; i < pages; ++i) {
    const ByteView raw = file_.view().subspan(i * raw_page_bytes, raw_page_bytes);
    std::memcpy(&data_.bytes()[i * page_bytes], raw.data(), page_bytes);
    const auto states = mend_page(data_.bytes().subspan(i * page_bytes, page_bytes), raw.subspan(page_bytes));
    for (std::size_t chunk = 0; chunk < chunks; ++chunk)
      if (states.at(chunk) != EccState::sound) flaws_.push_back({i, chunk, states.at(chunk)});
  }
}

std::span<Byte> Pages::change(std::size_t at, std::size_t count) {
  if (!with_spare_) return data_.bytes().subspan(at, count);
  for (std::size_t chunk = at / ecc_chunk_bytes; chunk * ecc_chunk_bytes < at + count; ++chunk) {
    written_[chunk] = true;
    // What is written over whole is no longer lost; what is only touched keeps its wrong code.
    const bool whole = chunk * ecc_chunk_bytes >= at && (chunk + 1) * ecc_chunk_bytes <= at + count;
    std::erase_if(flaws_, [&](const EccFlaw& flaw) {
      return flaw.page * chunks + flaw.chunk == chunk && (whole || flaw.state != EccState::hopeless);
    });
  }
  return data_.bytes().subspan(at, count);
}

void Pages::mend() {
  for (const EccFlaw& flaw : flaws_)
    if (flaw.state != EccState::hopeless) written_[flaw.page * chunks + flaw.chunk] = true;
  std::erase_if(flaws_, [](const EccFlaw& flaw) { return flaw.state != EccState::hopeless; });
}

Blob Pages::file() const {
  if (!with_spare_) return Blob::copy_of(data_.view());
  Buffer file(file_.size());
  std::memcpy(file.bytes().data(), file_.data(), file_.size());
  for (std::size_t page = 0; page * page_bytes < data_.view().size(); ++page) {
    const auto first = written_.begin() + static_cast<std::ptrdiff_t>(page * chunks);
    if (std::none_of(first, first + chunks, [](bool written) { return written; })) continue;
    const std::span<Byte> raw = file.bytes().subspan(page * raw_page_bytes, raw_page_bytes);
    const std::span<Byte> spare = raw.subspan(page_bytes);
    const ByteView data = data_.view().subspan(page * page_bytes, page_bytes);
    const bool erased = is_erased(spare);
    std::array<Byte, spare_bytes> codes{};
    put_spare(codes, data);
    for (std::size_t chunk = 0; chunk < chunks; ++chunk) {
      if (!erased && !first[static_cast<std::ptrdiff_t>(chunk)]) continue;
      std::ranges::copy(data.subspan(chunk * ecc_chunk_bytes, ecc_chunk_bytes),
                        raw.subspan(chunk * ecc_chunk_bytes).begin());
      const bool hopeless = std::ranges::any_of(flaws_, [&](const EccFlaw& flaw) {
        return flaw.page == page && flaw.chunk == chunk && flaw.state == EccState::hopeless;
      });
      if (!hopeless)
        std::copy_n(codes.begin() + static_cast<std::ptrdiff_t>(chunk * 3), 3,
                    spare.subspan(chunk * 3).begin());
    }
    if (erased) std::ranges::fill(spare.subspan(chunks * Ecc{}.size()), Byte{0});
  }
  return std::move(file).freeze();
}

}  // namespace bayswap::ps2
