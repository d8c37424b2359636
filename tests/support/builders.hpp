// Things to test with, built and never stored: ROMs, saves, paks.
#pragma once

#include <bayswap/layout.hpp>
#include <bayswap/title.hpp>

#include <rapidcheck.h>

#include <random>
#include <string>

namespace bayswap::test {

struct RomWords {
  std::string title = "LANTERN SKIFF";
  std::string code = "N99P";
  Byte revision = 0;
  RomOrder order = RomOrder::native;
  std::size_t size = 8192;
};

/// A ROM file with an n64 header and noise after it.
inline Blob n64_rom(const RomWords& words = {}) {
  std::vector<Byte> rom(words.size);
  std::mt19937 noise(7);
  for (Byte& b : rom) b = static_cast<Byte>(noise());
  const auto put = [&](std::size_t at, std::string_view text) {
    std::copy(text.begin(), text.end(), rom.begin() + static_cast<std::ptrdiff_t>(at));
  };
  put(0, "\x80\x37\x12\x40");
  put(8, std::string_view("\x80\x00\x04\x00", 4));
  std::fill_n(rom.begin() + 0x20, 20, Byte{' '});
  put(0x20, words.title);
  std::fill_n(rom.begin() + 0x34, 7, Byte{0});
  put(0x3b, words.code);
  rom[0x3f] = words.revision;
  const std::size_t mask = words.order == RomOrder::native ? 0 : words.order == RomOrder::swap16 ? 1 : 3;
  std::vector<Byte> file(rom.size());
  for (std::size_t i = 0; i < rom.size(); ++i) file[i] = rom[i ^ mask];
  return Blob::copy_of(file);
}

/// The battery bytes that the fixtures' programs write.
inline Blob pattern(std::size_t size, unsigned seed) {
  std::vector<Byte> bytes(size);
  for (std::size_t i = 0; i < size; ++i) bytes[i] = static_cast<Byte>(i * 7 + (i >> 8) * 13 + seed);
  return Blob::copy_of(bytes);
}

inline Blob noise(std::size_t size, std::uint32_t seed) {
  std::mt19937 generator(seed);
  std::vector<Byte> bytes(size);
  for (Byte& b : bytes) b = static_cast<Byte>(generator());
  return Blob::copy_of(bytes);
}

inline std::vector<Byte> bytes_of(const Blob& blob) {
  return {blob.view().begin(), blob.view().end()};
}

/// Each 32-bit word reversed, written apart from the library's own way of doing it.
inline Blob words_reversed(const Blob& in) {
  std::vector<Byte> out(in.size());
  for (std::size_t i = 0; i < in.size(); ++i) out[i] = in.view()[i ^ 3];
  return Blob::copy_of(out);
}

/// A first-generation nes ROM with a battery and 8 KiB of RAM.
inline Blob nes_rom(std::uint32_t seed) {
  std::vector<Byte> bytes = bytes_of(noise(16 + 32768 + 8192, seed));
  const std::vector<Byte> header{0x4e, 0x45, 0x53, 0x1a, 2, 1, 0x12, 0, 1, 0, 0, 0, 0, 0, 0, 0};
  std::ranges::copy(header, bytes.begin());
  return Blob::copy_of(bytes);
}

inline Blob joined(const std::vector<Blob>& blobs) {
  std::vector<Byte> out;
  for (const Blob& blob : blobs) out.insert(out.end(), blob.view().begin(), blob.view().end());
  return Blob::copy_of(out);
}

inline Blob text_blob(std::string_view text) {
  return Blob::copy_of({reinterpret_cast<const Byte*>(text.data()), text.size()});
}
inline std::string text_of(const Blob& blob) {
  return {blob.view().begin(), blob.view().end()};
}

/// Bytes as they come in saves: noise, a fill, or stretches of both; cheap to make and to shrink.
inline Blob arbitrary_bytes(std::size_t size) {
  const auto seed = *rc::gen::arbitrary<std::uint32_t>();
  const auto style = *rc::gen::inRange(0, 4);
  if (style == 0) return Blob::filled(size, 0xff);
  if (style == 1) return Blob::filled(size, 0x00);
  std::vector<Byte> bytes = bytes_of(noise(size, seed));
  if (style == 2 && size > 1)
    std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(seed % size), bytes.end(), Byte{0xff});
  return Blob::copy_of(bytes);
}

inline const Layout& layout(const Catalog& catalog, std::string_view id) {
  return **catalog.find(id);
}

}  // namespace bayswap::test
