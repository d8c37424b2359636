// Numbers and texts as the sync room's own records hold them: little endian, texts after their length.
#pragma once

#include <bayswap/base.hpp>

#include <string>
#include <string_view>
#include <vector>

namespace bayswap {

/// Writes a record. The same calls give the same bytes everywhere.
class WireWriter {
 public:
  void u8(std::uint8_t value) { bytes_.push_back(value); }
  void u32(std::uint32_t value) { number(value, 4); }
  void u64(std::uint64_t value) { number(value, 8); }
  void i64(std::int64_t value) { number(static_cast<std::uint64_t>(value), 8); }
  void raw(ByteView bytes) { bytes_.insert(bytes_.end(), bytes.begin(), bytes.end()); }
  void text(std::string_view text);

  [[nodiscard]] ByteView view() const { return bytes_; }
  [[nodiscard]] Blob blob() const { return Blob::copy_of(bytes_); }

 private:
  void number(std::uint64_t value, int size);
  std::vector<Byte> bytes_;
};

/// Reads one. After the first thing that is not there, or too long, everything is empty and ok() is false:
/// callers check once, at the end.
class WireReader {
 public:
  explicit WireReader(ByteView bytes) : bytes_(bytes) {}
  [[nodiscard]] std::uint8_t u8() { return static_cast<std::uint8_t>(number(1)); }
  [[nodiscard]] std::uint32_t u32() { return static_cast<std::uint32_t>(number(4)); }
  [[nodiscard]] std::uint64_t u64() { return number(8); }
  [[nodiscard]] std::int64_t i64() { return static_cast<std::int64_t>(number(8)); }
  [[nodiscard]] ByteView raw(std::uint64_t count);
  /// Up to `limit` bytes, valid UTF-8 or not.
  [[nodiscard]] std::string text(std::size_t limit = 4096);
  /// A count of things that take at least `least` bytes each: never more than there can be.
  [[nodiscard]] std::uint32_t count(std::size_t least);
  [[nodiscard]] Digest digest();
  /// From here on to the end.
  [[nodiscard]] ByteView rest() { return raw(bytes_.size() - at_); }

  [[nodiscard]] bool ok() const { return ok_; }
  [[nodiscard]] bool at_end() const { return ok_ && at_ == bytes_.size(); }
  [[nodiscard]] std::size_t at() const { return at_; }
  void give_up() { ok_ = false; }

 private:
  [[nodiscard]] std::uint64_t number(std::size_t size);
  ByteView bytes_;
  std::size_t at_ = 0;
  bool ok_ = true;
};

}  // namespace bayswap
