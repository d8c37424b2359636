#include "cart/frame.hpp"

#include <algorithm>
#include <cstring>

#include "base/checksum.hpp"
#include "base/endian.hpp"

namespace bayswap::cart {
namespace {

constexpr std::size_t longest_piece = 254;

// Up to the next 00, or the end.
std::size_t run_of(ByteView bytes) {
  if (bytes.empty()) return 0;
  const void* zero = std::memchr(bytes.data(), 0, bytes.size());
  return zero == nullptr ? bytes.size()
                         : static_cast<std::size_t>(static_cast<const Byte*>(zero) - bytes.data());
}

void add_stuffed(std::vector<Byte>& out, ByteView bytes) {
  for (;;) {
    const std::size_t run = run_of(bytes);
    for (std::size_t at = 0;;) {
      const std::size_t piece = std::min(longest_piece, run - at);
      out.push_back(static_cast<Byte>(piece + 1));
      out.insert(out.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at),
                 bytes.begin() + static_cast<std::ptrdiff_t>(at + piece));
      at += piece;
      // A full piece has no 00 after it: what is left, be it nothing, begins another one.
      if (piece < longest_piece || (at == run && run == bytes.size())) break;
    }
    if (run == bytes.size()) return;
    bytes = bytes.subspan(run + 1);
  }
}

// Nothing where the lengths do not lead to the end.
std::optional<std::vector<Byte>> unstuffed(ByteView bytes) {
  std::vector<Byte> out;
  out.reserve(bytes.size());
  for (std::size_t at = 0; at < bytes.size();) {
    const std::size_t piece = bytes[at] - std::size_t{1};
    if (bytes[at] == 0 || piece > bytes.size() - at - 1) return std::nullopt;
    const ByteView own = bytes.subspan(at + 1, piece);
    out.insert(out.end(), own.begin(), own.end());
    at += piece + 1;
    if (piece < longest_piece && at < bytes.size()) out.push_back(0);
  }
  return out;
}

}  // namespace

std::vector<Byte> encoded(const Frame& frame) {
  std::vector<Byte> plain(frame.body.size() + frame_overhead);
  plain[0] = frame.kind;
  plain[1] = frame.number;
  std::copy(frame.body.begin(), frame.body.end(), plain.begin() + 2);
  put_le(plain, plain.size() - 4, 4, crc32(ByteView(plain).first(plain.size() - 4)));
  std::vector<Byte> out{0};
  out.reserve(plain.size() + plain.size() / longest_piece + 4);
  add_stuffed(out, plain);
  out.push_back(0);
  return out;
}

void FrameReader::take(ByteView bytes) {
  const std::size_t most = max_body_ + frame_overhead + (max_body_ + frame_overhead) / longest_piece + 2;
  while (!bytes.empty()) {
    const std::size_t run = run_of(bytes);
    const std::size_t fits = std::min(run, most - std::min(most, stuffed_.size()));
    stuffed_.insert(stuffed_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(fits));
    too_long_ = too_long_ || fits < run;
    if (run == bytes.size()) return;
    end_frame();
    bytes = bytes.subspan(run + 1);
  }
}

void FrameReader::end_frame() {
  if (stuffed_.empty()) return;
  const auto plain = too_long_ ? std::nullopt : unstuffed(stuffed_);
  stuffed_.clear();
  too_long_ = false;
  const std::size_t size = plain ? plain->size() : 0;
  if (size < frame_overhead || size - frame_overhead > max_body_ ||
      le32(*plain, size - 4) != crc32(ByteView(*plain).first(size - 4))) {
    ++dropped_;
    return;
  }
  Frame frame{(*plain)[0], (*plain)[1], {}};
  frame.body.assign(plain->begin() + 2, plain->end() - 4);
  frames_.push_back(std::move(frame));
}

std::optional<Frame> FrameReader::next() {
  if (given_ == frames_.size()) {
    frames_.clear();
    given_ = 0;
    return std::nullopt;
  }
  return std::move(frames_[given_++]);
}

}  // namespace bayswap::cart
