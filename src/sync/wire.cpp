#include "sync/wire.hpp"

#include <algorithm>

namespace bayswap {

void WireWriter::number(std::uint64_t value, int size) {
  for (int i = 0; i < size; ++i) bytes_.push_back(static_cast<Byte>(value >> (8 * i)));
}

void WireWriter::text(std::string_view text) {
  u32(static_cast<std::uint32_t>(text.size()));
  bytes_.insert(bytes_.end(), text.begin(), text.end());
}

std::uint64_t WireReader::number(std::size_t size) {
  const ByteView bytes = raw(size);
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < bytes.size(); ++i) value |= std::uint64_t{bytes[i]} << (8 * i);
  return value;
}

ByteView WireReader::raw(std::uint64_t count) {
  if (!ok_ || count > bytes_.size() - at_) {
    ok_ = false;
    return {};
  }
  const ByteView out = bytes_.subspan(at_, static_cast<std::size_t>(count));
  at_ += static_cast<std::size_t>(count);
  return out;
}

Digest WireReader::digest() {
  Digest digest;
  std::ranges::copy(raw(digest.bytes.size()), digest.bytes.begin());
  return digest;
}

std::string WireReader::text(std::size_t limit) {
  const std::uint32_t size = u32();
  if (size > limit) ok_ = false;
  const ByteView bytes = raw(ok_ ? size : 0);
  return {bytes.begin(), bytes.end()};
}

std::uint32_t WireReader::count(std::size_t least) {
  const std::uint32_t count = u32();
  if (ok_ && std::uint64_t{count} * least > bytes_.size() - at_) ok_ = false;
  return ok_ ? count : 0;
}

}  // namespace bayswap
