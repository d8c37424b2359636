#include "cart/frame.hpp"

#include "base/checksum.hpp"
#include "base/endian.hpp"

namespace bayswap::cart {
namespace {

constexpr std::size_t longest_piece = 254;

std::vector<Byte> stuffed(ByteView bytes) {
  std::vector<Byte> out;
  out.reserve(bytes.size() + bytes.size() / longest_piece + 2);
  std::size_t head = 0;  // where the length of the piece at hand stands
  const auto begin_piece = [&] {
    head = out.size();
    out.push_back(1);
  };
  begin_piece();
  for (const Byte b : bytes) {
    if (b == 0) {
      if (out[head] == longest_piece + 1) begin_piece();  // a full piece has no 00 behind it
      begin_piece();
      continue;
    }
    if (out[head] == longest_piece + 1) begin_piece();
    out.push_back(b);
    ++out[head];
  }
  return out;
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
  std::vector<Byte> plain{frame.kind, frame.number};
  plain.insert(plain.end(), frame.body.begin(), frame.body.end());
  plain.resize(plain.size() + 4);
  put_le(plain, plain.size() - 4, 4, crc32(ByteView(plain).first(plain.size() - 4)));
  std::vector<Byte> out = stuffed(plain);
  out.insert(out.begin(), Byte{0});
  out.push_back(0);
  return out;
}

void FrameReader::take(ByteView bytes) {
  const std::size_t most = max_body_ + frame_overhead + (max_body_ + frame_overhead) / longest_piece + 2;
  for (const Byte b : bytes) {
    if (b == 0) {
      end_frame();
    } else if (stuffed_.size() < most) {
      stuffed_.push_back(b);
    } else {
      too_long_ = true;
    }
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
