#include <bayswap/base.hpp>

#include <openssl/evp.h>

#ifdef __linux__
#include <sys/mman.h>
#endif

#include <algorithm>
#include <cassert>
#include <cstdlib>
#include <cstring>
#include <new>

#include "base/checksum.hpp"

namespace bayswap {

std::string_view to_text(Remedy::Kind kind) {
  // In the order of the enumeration.
  static constexpr std::array<std::string_view, 32> words{"none",
                                                          "accept",
                                                          "region",
                                                          "account",
                                                          "save",
                                                          "rom",
                                                          "companions",
                                                          "leave_out",
                                                          "replace",
                                                          "chip",
                                                          "source_layout",
                                                          "target_layout",
                                                          "slot",
                                                          "kind",
                                                          "home",
                                                          "inspect",
                                                          "repair_card",
                                                          "rescue_card",
                                                          "undelete",
                                                          "code",
                                                          "list_card",
                                                          "list_layouts",
                                                          "list_bays",
                                                          "scan_bay",
                                                          "show_logbook",
                                                          "check_logbook",
                                                          "import_logbook",
                                                          "resume_cart",
                                                          "from_state",
                                                          "join_sync_folder",
                                                          "enter_passphrase",
                                                          "undo"};
  return words.at(static_cast<std::size_t>(kind));
}

std::string_view to_text(ErrorCode code) {
  switch (code) {
    case ErrorCode::not_recognised:
      return "not_recognised";
    case ErrorCode::damaged:
      return "damaged";
    case ErrorCode::does_not_fit:
      return "does_not_fit";
    case ErrorCode::wrong_region:
      return "wrong_region";
    case ErrorCode::unsafe:
      return "unsafe";
    case ErrorCode::busy:
      return "busy";
    case ErrorCode::not_found:
      return "not_found";
    case ErrorCode::io:
      return "io";
    case ErrorCode::bad_usage:
      return "bad_usage";
    case ErrorCode::unsupported:
      return "unsupported";
    case ErrorCode::cancelled:
      return "cancelled";
  }
  return "unsupported";
}

Error::Error() = default;
Error::Error(ErrorCode why, std::string what, std::string advice, Remedy help)
    : code(why), message(std::move(what)), hint(std::move(advice)), remedy(std::move(help)) {}
Error::Error(const Error& other) = default;
Error::Error(Error&& other) noexcept = default;
Error& Error::operator=(const Error& other) = default;
Error& Error::operator=(Error&& other) noexcept = default;
Error::~Error() = default;

tl::unexpected<Error> fail(ErrorCode code, std::string message, std::string hint, Remedy remedy) {
  return tl::unexpected<Error>(Error(code, std::move(message), std::move(hint), std::move(remedy)));
}

namespace {

// Megabytes in pages of 4 KiB cost more in page faults than in bytes: ask for large ones.
std::shared_ptr<Byte[]> memory_for(std::size_t size_bytes) {
#if defined(__linux__) && defined(MADV_HUGEPAGE)
  constexpr std::size_t large_page = std::size_t{2} << 20;
  if (size_bytes >= 2 * large_page) {
    const std::size_t whole = (size_bytes + large_page - 1) / large_page * large_page;
    if (void* memory = std::aligned_alloc(large_page, whole); memory != nullptr) {
      madvise(memory, size_bytes / large_page * large_page,
              MADV_HUGEPAGE);  // a wish: without it all is the same, only slower
      return {static_cast<Byte*>(memory), [](Byte* bytes) { std::free(bytes); }};
    }
  }
#endif
  return std::make_shared_for_overwrite<Byte[]>(size_bytes);
}

}  // namespace

Buffer::Buffer(std::size_t size_bytes) : bytes_(memory_for(size_bytes)), size_(size_bytes) {}

Blob Buffer::freeze(std::size_t size_bytes) && {
  assert(size_bytes <= size_);
  Blob blob;
  blob.bytes_ = std::move(bytes_);
  blob.size_ = std::min(size_bytes, size_);
  size_ = 0;
  return blob;
}

Blob Blob::copy_of(ByteView bytes) {
  Buffer buffer(bytes.size());
  if (!bytes.empty()) std::memcpy(buffer.bytes().data(), bytes.data(), bytes.size());
  return std::move(buffer).freeze();
}

Blob Blob::filled(std::size_t size_bytes, Byte value) {
  Buffer buffer(size_bytes);
  std::ranges::fill(buffer.bytes(), value);
  return std::move(buffer).freeze();
}

Blob Blob::slice(std::size_t offset, std::size_t count) const {
  Blob part = *this;
  const std::size_t start = std::min(offset, size_);
  part.offset_ = offset_ + start;
  part.size_ = std::min(count, size_ - start);
  return part;
}

bool Blob::equal(ByteView a, ByteView b) {
  return a.size() == b.size() && (a.empty() || std::memcmp(a.data(), b.data(), a.size()) == 0);
}

bool is_uniform(ByteView bytes, Byte* value) {
  if (bytes.empty()) return false;
  // All bytes equal means: each equals its neighbour. memcmp does that at full speed.
  if (std::memcmp(bytes.data(), bytes.data() + 1, bytes.size() - 1) != 0) return false;
  if (value != nullptr) *value = bytes[0];
  return true;
}

std::string Digest::hex() const {
  static constexpr std::string_view digits = "0123456789abcdef";
  std::string text;
  text.reserve(bytes.size() * 2);
  for (const Byte b : bytes) {
    text += digits[b >> 4];
    text += digits[b & 15];
  }
  return text;
}

std::array<Byte, 20> sha1(ByteView bytes) {
  std::array<Byte, 20> digest{};
  EVP_Digest(bytes.data(), bytes.size(), digest.data(), nullptr, EVP_sha1(), nullptr);
  return digest;
}

std::array<Byte, 16> md5(ByteView bytes) {
  std::array<Byte, 16> digest{};
  EVP_Digest(bytes.data(), bytes.size(), digest.data(), nullptr, EVP_md5(), nullptr);
  return digest;
}

Digest sha256(ByteView bytes) {
  Digest digest;
  unsigned int size = 0;
  // One-shot digests of libcrypto fail only when it cannot allocate.
  if (EVP_Digest(bytes.data(), bytes.size(), digest.bytes.data(), &size, EVP_sha256(), nullptr) != 1 ||
      size != digest.bytes.size()) {
    throw std::bad_alloc();
  }
  return digest;
}

Result<Digest> digest_from_hex(std::string_view hex) {
  const auto nibble = [](char c) -> int {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    return -1;
  };
  Digest digest;
  if (hex.size() != digest.bytes.size() * 2)
    return fail(ErrorCode::damaged,
                "a SHA-256 digest has 64 hex digits, this one has " + std::to_string(hex.size()));
  for (std::size_t i = 0; i < digest.bytes.size(); ++i) {
    const int high = nibble(hex[2 * i]);
    const int low = nibble(hex[2 * i + 1]);
    if (high < 0 || low < 0)
      return fail(ErrorCode::damaged, "a SHA-256 digest has only lower-case hex digits");
    digest.bytes[i] = static_cast<Byte>(high * 16 + low);
  }
  return digest;
}

std::string_view version() {
  return BAYSWAP_VERSION;
}

}  // namespace bayswap
