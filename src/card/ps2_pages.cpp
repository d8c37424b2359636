#include "card/ps2_pages.hpp"

#include <algorithm>
#include <cassert>
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

Pages::Pages(Blob file, bool with_spare) : file_(std::move(file)), with_spare_(with_spare) {
  const std::size_t pages = file_.size() / (with_spare ? raw_page_bytes : page_bytes);
  overlaid_.resize(pages);
  written_.resize(pages * chunks);
  if (!with_spare) return;
  blank_codes_ = pages > 0;
  for (std::size_t i = 0; i < pages && blank_codes_; ++i) {
    Byte value = 1;
    blank_codes_ = is_uniform(raw(i).subspan(page_bytes), &value) && value == 0;
  }
  if (blank_codes_) return;
  for (std::size_t i = 0; i < pages; ++i) {
    const ByteView spare = raw(i).subspan(page_bytes);
    if (is_sound_page(raw(i).first(page_bytes), spare)) continue;
    const auto states = repair_page(overlay(i), spare);
    for (std::size_t chunk = 0; chunk < chunks; ++chunk)
      if (states.at(chunk) != EccState::sound) flaws_.push_back({i, chunk, states.at(chunk)});
  }
}

ByteView Pages::raw(std::size_t page) const {
  const std::size_t stride = with_spare_ ? raw_page_bytes : page_bytes;
  return file_.view().subspan(page * stride, stride);
}
std::array<Byte, page_bytes>& Pages::overlay(std::size_t page) {
  auto& bytes = overlays_[page];
  if (!overlaid_[page]) std::ranges::copy(raw(page).first(page_bytes), bytes.begin());
  overlaid_[page] = true;
  return bytes;
}

ByteView Pages::bytes(std::size_t at, std::size_t count) const {
  const std::size_t page = at / page_bytes;
  assert(at % page_bytes + count <= page_bytes);
  const ByteView whole = overlaid_[page] ? ByteView(overlays_.at(page)) : raw(page);
  return whole.subspan(at % page_bytes, count);
}
void Pages::copy(std::size_t at, std::span<Byte> out) const {
  while (!out.empty()) {
    const std::size_t count = std::min(out.size(), page_bytes - at % page_bytes);
    std::memcpy(out.data(), bytes(at, count).data(), count);
    out = out.subspan(count);
    at += count;
  }
}

std::span<Byte> Pages::change(std::size_t at, std::size_t count) {
  assert(at % page_bytes + count <= page_bytes);
  for (std::size_t chunk = at / ecc_chunk_bytes; chunk * ecc_chunk_bytes < at + count; ++chunk) {
    written_[chunk] = true;
    // What is written over whole is no longer lost; what is only touched keeps its wrong code.
    const bool whole = chunk * ecc_chunk_bytes >= at && (chunk + 1) * ecc_chunk_bytes <= at + count;
    std::erase_if(flaws_, [&](const EccFlaw& flaw) {
      return flaw.page * chunks + flaw.chunk == chunk && (whole || flaw.state != EccState::hopeless);
    });
  }
  return std::span(overlay(at / page_bytes)).subspan(at % page_bytes, count);
}

void Pages::repair() {
  for (const EccFlaw& flaw : flaws_) {
    if (flaw.state == EccState::hopeless) continue;
    (void)overlay(flaw.page);
    written_[flaw.page * chunks + flaw.chunk] = true;
  }
  std::erase_if(flaws_, [](const EccFlaw& flaw) { return flaw.state != EccState::hopeless; });
}

// `out` has the page as the file has it: chunks that were written, and their codes, go over it.
void Pages::write_page(std::size_t page, std::span<Byte> out) const {
  const ByteView data = bytes(page * page_bytes, page_bytes);
  if (!with_spare_) {
    std::ranges::copy(data, out.begin());
    return;
  }
  const std::span<Byte> spare = out.subspan(page_bytes);
  const bool erased = is_erased(spare);
  std::array<Byte, spare_bytes> codes{};
  put_spare(codes, data);
  bool any = false;
  for (std::size_t chunk = 0; chunk < chunks; ++chunk) any = any || written_[page * chunks + chunk];
  if (!any) return;  // bits were set right, but nobody asked for it to be written
  for (std::size_t chunk = 0; chunk < chunks; ++chunk) {
    if (!erased && !written_[page * chunks + chunk]) continue;
    std::ranges::copy(data.subspan(chunk * ecc_chunk_bytes, ecc_chunk_bytes),
                      out.subspan(chunk * ecc_chunk_bytes).begin());
    const bool hopeless = std::ranges::any_of(flaws_, [&](const EccFlaw& flaw) {
      return flaw.page == page && flaw.chunk == chunk && flaw.state == EccState::hopeless;
    });
    if (!hopeless && !blank_codes_)
      std::copy_n(codes.begin() + static_cast<std::ptrdiff_t>(chunk * 3), 3,
                  spare.subspan(chunk * 3).begin());
  }
  if (erased) std::ranges::fill(spare.subspan(chunks * Ecc{}.size()), Byte{0});
}

Blob Pages::file() const {
  if (overlays_.empty()) return file_;
  Buffer file(file_.size());
  std::memcpy(file.bytes().data(), file_.data(), file_.size());
  const std::size_t stride = with_spare_ ? raw_page_bytes : page_bytes;
  for (const auto& [page, data] : overlays_) write_page(page, file.bytes().subspan(page * stride, stride));
  return std::move(file).freeze();
}

}  // namespace bayswap::ps2
