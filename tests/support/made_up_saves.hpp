// Saves, texts and programs of nobody: what stands in such files, without the mark of any form.
#pragma once

#include <array>
#include <random>
#include <string>

#include "support/builders.hpp"

namespace bayswap::test {

inline constexpr std::array made_up_kinds{"fresh",  "sparse",   "dense",    "textual", "counters", "utf-16",
                                          "padded", "mirrored", "power-on", "records", "text",     "program"};
inline constexpr std::array<std::size_t, 14> usual_sizes{512,  2048, 8192,   16384,  32768,  65536,  131072,
                                                         1024, 4096, 139264, 296960, 131088, 524288, 1048576};

/// The bytes of a made-up file. The same dice give the same file.
class MadeUp {
 public:
  explicit MadeUp(std::uint32_t seed) : dice_(seed) {}

  Blob file(std::size_t kind, std::size_t size) {
    out_.clear();
    const std::string_view what = made_up_kinds.at(kind);
    const Byte filler = one_in(2) ? 0xff : 0x00;
    if (what == "fresh") records(size / (std::size_t{16} << below(5)), size);
    if (what == "sparse") {
      out_.assign(size, filler);
      for (std::size_t i = 0; i < 1 + size / 256; ++i) out_[below(size)] = byte();
    }
    if (what == "dense" || what == "program") noise_to(size);
    if (what == "textual" || what == "text")
      while (out_.size() < size) sentence(what == "text");
    if (what == "counters")
      while (out_.size() < size) number(below(3) == 0 ? 4 : 2, below(1 << (4 + below(16))));
    if (what == "utf-16")
      while (out_.size() < size) {
        wide_ = one_in(2);
        sentence(false);
        wide_.reset();
      }
    if (what == "padded") records(size / 2 + below(size / 2), size / 2 + below(size / 2));
    if (what == "mirrored") {
      const std::size_t half = size >> (1 + below(2));
      records(half, half);
      while (out_.size() < size) out_.push_back(out_[out_.size() - half]);
    }
    if (what == "power-on") {
      const Byte a = one_in(3) ? 0x55 : one_in(2) ? 0x00 : byte();
      const Byte b = one_in(2) ? static_cast<Byte>(~a) : a;
      const std::size_t stripe = std::size_t{1} << below(10);
      for (std::size_t i = 0; i < size; ++i) out_.push_back(i / stripe % 2 == 0 ? a : b);
      for (std::size_t i = below(200); i > 0; --i) out_[below(size)] ^= static_cast<Byte>(1U << below(8));
    }
    if (what == "records") records(size, size);
    if (what == "program")
      for (std::size_t i = below(12); i > 0; --i) {
        const std::string line = "PRESS START OR HOLD SELECT TO ERASE ALL";
        const std::size_t at = below(size);
        for (std::size_t c = 0; c < line.size() && at + c < size; ++c)
          out_[at + c] = static_cast<Byte>(line[c]);
      }
    out_.resize(size, filler);
    return Blob::copy_of(out_);
  }

 private:
  std::size_t below(std::size_t end) { return end < 2 ? 0 : dice_() % end; }
  bool one_in(std::size_t n) { return below(n) == 0; }
  Byte byte() { return static_cast<Byte>(dice_()); }
  void noise_to(std::size_t size) {
    while (out_.size() < size) out_.push_back(byte());
  }
  void letter(char c) {
    if (wide_ && *wide_) out_.push_back(0);
    out_.push_back(static_cast<Byte>(c));
    if (wide_ && !*wide_) out_.push_back(0);
  }
  void number(std::size_t bytes, std::size_t value) {
    if (!big_) big_ = one_in(2);
    for (std::size_t i = 0; i < bytes; ++i)
      out_.push_back(static_cast<Byte>(value >> (8 * (*big_ ? bytes - 1 - i : i))));
  }
  void sentence(bool lines) {
    static const std::array words{"harbour", "Lamp", "OLD", "quill", "ferry", "SCORE",
                                  "007919",  "Ada",  "of",  "the",   "12:30", "brine",
                                  "MILL",    "go",   "x",   "SAVE",  "Ok"};
    for (std::size_t n = 1 + below(9); n > 0; --n) {
      for (const char c : std::string_view(words.at(below(words.size())))) letter(c);
      if (n > 1) letter(' ');
    }
    if (lines)
      letter('\n');
    else
      for (std::size_t n = 1 + below(12); n > 0; --n) letter('\0');
  }
  // A game's records: names, numbers, flags, and a filler to the size.
  void records(std::size_t used, std::size_t size) {
    const std::size_t end = out_.size() + std::min(used, size);
    while (out_.size() < end) {
      if (one_in(3)) sentence(false);
      for (std::size_t n = below(12); n > 0; --n) number(one_in(3) ? 4 : 2, below(1 << below(17)));
      if (one_in(4)) out_.insert(out_.end(), below(40), 0);
      if (one_in(5)) noise_to(out_.size() + below(24));
    }
    out_.resize(end);
  }

  std::mt19937 dice_;
  std::vector<Byte> out_;
  std::optional<bool> wide_;  // big-endian or not
  std::optional<bool> big_;
};

}  // namespace bayswap::test
