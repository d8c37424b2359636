// Bytes, errors and digests, which every other header uses. Unless a type says otherwise: any number of
// threads may read an object at once, one may change it; functions keep no state between calls and may be
// called from any thread. Errors are returned as Result; no exception leaves the library, except
// std::bad_alloc. Belongs to bayswap::core.
#pragma once

#include <bayswap/export.hpp>

#include <array>
#include <compare>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <tl/expected.hpp>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

// ---- Errors -------------------------------------------------------------------------------------

enum class ErrorCode {
  not_recognised,  // the input is of no known format
  damaged,         // the format is known, but the content is broken
  does_not_fit,    // the input is sound, but the target has no room or no place for it
  wrong_region,    // source and target belong to different games or regions
  unsafe,          // a save could be lost; the user has to confirm
  busy,            // another process is using it
  not_found,       // the file, folder, save or entry does not exist
  io,              // the disk or the network reported an error
  bad_usage,       // invalid arguments
  unsupported,     // known, but not possible
  cancelled,       // a callback of the caller stopped it
};

/// Returns the stable spelling, which JSON output uses, e.g. "wrong_region".
[[nodiscard]] std::string_view to_text(ErrorCode code);

/// What a caller can do about an error or an issue, other than accepting it. The library gives the kind and
/// the values; the program that shows it words them.
struct Remedy {
  enum class Kind {
    none,
    accept,      // accept the issue whose word is in `values`
    region,      // pass the region in `values` to have the save restamped
    account,     // pass an account; `values`: the source's, which may be empty, then the choices
    save,        // pass one of `values` instead: paths or names
    rom,         // pass the ROM of the save
    companions,  // request that companions are replaced
    leave_out,   // omit the option in `values`
    replace,     // request that existing files are replaced
    chip,        // pass the chip's kind and size
    source_layout,
    target_layout,
    slot,
    kind,         // pass the kind of card
    home,         // use another home folder
    inspect,      // inspect the file
    repair_card,  // repair the card in `values`
    rescue_card,
    undelete,  // bring a deleted save back
    code,      // pass the game's product code in the other region
    list_card,
    list_layouts,
    list_bays,
    scan_bay,  // in `values`
    show_logbook,
    check_logbook,
    import_logbook,
    resume_cart,       // continue the write to the cartridge, or undo the entry in `values`
    from_state,        // take the battery save out of the state and carry that
    join_sync_folder,  // at the URL in `values`, if it is known
    enter_passphrase,
    undo  // the entry in `values`
  };
  Kind kind = Kind::none;
  std::vector<std::string> values;
};

/// Returns the stable spelling, which JSON output uses, e.g. "repair_card".
[[nodiscard]] std::string_view to_text(Remedy::Kind kind);

/// One failure. `message` is one sentence that names the file, the place in it and the value found; `hint` is
/// a sentence that says what to do next; it may be empty. The special members are not inline: otherwise every
/// function that can fail would contain them.
struct Error {
  ErrorCode code{};
  std::string message;
  std::string hint;
  Remedy remedy;

  Error();
  Error(ErrorCode why, std::string what, std::string advice = {}, Remedy help = {});
  Error(const Error& other);
  Error(Error&& other) noexcept;
  Error& operator=(const Error& other);
  Error& operator=(Error&& other) noexcept;
  ~Error();
};

template <class T>
using Result = tl::expected<T, Error>;

/// Makes an Error to return: `return fail(...)` works in every function that returns a Result.
[[nodiscard]] tl::unexpected<Error> fail(ErrorCode code, std::string message, std::string hint = {},
                                         Remedy remedy = {});

// ---- Bytes --------------------------------------------------------------------------------------

using Byte = std::uint8_t;
using ByteView = std::span<const Byte>;

/// Immutable bytes, shared between copies; slices share them too and cost no copy. A default Blob is empty.
/// Several threads may read and copy one at once.
class Blob {
 public:
  Blob() = default;
  [[nodiscard]] static Blob copy_of(ByteView bytes);
  [[nodiscard]] static Blob filled(std::size_t size_bytes, Byte value);

  [[nodiscard]] ByteView view() const { return {bytes_.get() + offset_, size_}; }
  [[nodiscard]] const Byte* data() const { return bytes_.get() + offset_; }
  [[nodiscard]] std::size_t size() const { return size_; }
  [[nodiscard]] bool empty() const { return size_ == 0; }

  /// Returns the `count` bytes from `offset` on; fewer if the blob ends before, none if it ends at `offset`.
  [[nodiscard]] Blob slice(std::size_t offset, std::size_t count) const;

  [[nodiscard]] friend bool operator==(const Blob& a, const Blob& b) { return equal(a.view(), b.view()); }

 private:
  friend class Buffer;
  [[nodiscard]] static bool equal(ByteView a, ByteView b);

  std::shared_ptr<const Byte[]> bytes_;
  std::size_t offset_ = 0;
  std::size_t size_ = 0;
};

/// A blob under construction: `size_bytes` uninitialised bytes, to be written by one thread and then frozen.
class Buffer {
 public:
  explicit Buffer(std::size_t size_bytes);
  [[nodiscard]] std::span<Byte> bytes() { return {bytes_.get(), size_}; }
  [[nodiscard]] ByteView view() const { return {bytes_.get(), size_}; }
  /// Returns the first `size_bytes` bytes as a blob and leaves the buffer empty. `size_bytes` is at most the
  /// size it was made with.
  [[nodiscard]] Blob freeze(std::size_t size_bytes) &&;
  [[nodiscard]] Blob freeze() && { return std::move(*this).freeze(size_); }

 private:
  std::shared_ptr<Byte[]> bytes_;
  std::size_t size_;
};

/// Returns whether all bytes have the same value, and stores it in `value` if that is not nullptr. Returns
/// false for no bytes.
[[nodiscard]] bool is_uniform(ByteView bytes, Byte* value = nullptr);

// ---- Digests ------------------------------------------------------------------------------------

/// A SHA-256 digest (FIPS 180-4), 32 bytes.
struct Digest {
  std::array<Byte, 32> bytes{};
  [[nodiscard]] std::string hex() const;
  [[nodiscard]] auto operator<=>(const Digest&) const = default;  // NOLINT(modernize-use-nullptr)
};

[[nodiscard]] Digest sha256(ByteView bytes);
/// Returns the digest that 64 hex digits spell. Fails with `damaged` if they do not.
[[nodiscard]] Result<Digest> digest_from_hex(std::string_view hex);

/// Returns the library's version, e.g. "0.1.0".
[[nodiscard]] std::string_view version();

}  // namespace bayswap
BAYSWAP_EXPORT_END
