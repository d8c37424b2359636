// The bytes of a logbook: kept once under their digest, packed if that is worth it, verified at every
// reading.
#include <fmt/format.h>
#include <bayswap/compression.hpp>
#include <bayswap/logbook.hpp>

#include <set>

#include "base/order.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_blob_bytes = std::size_t{256} << 20;
constexpr std::size_t sample_bytes = std::size_t{2} << 10;
constexpr std::string_view packed_suffix = ".z";

std::string blob_path(const Digest& digest) {
  const std::string hex = digest.hex();
  return fmt::format("blobs/{}/{}", hex.substr(0, 2), hex);
}

// Noise is not worth packing, and a save's first bytes are a fair sample of the others.
bool packs_well(const Blob& bytes) {
  if (bytes.size() < 512) return false;
  const Blob sample = bytes.slice(0, sample_bytes);
  return wrap(Compression::zlib, sample).size() < sample.size() * 9 / 10;
}

}  // namespace

// Kept before; but a blob that rotted must not pass for a copy.
Result<bool> Logbook::is_kept(const Blob& bytes, const Digest& digest) {
  BAYSWAP_TRY(const auto plain, blobs_->stat(blob_path(digest)));
  if (plain && plain->size_bytes == bytes.size()) {
    const auto kept = blobs_->read(blob_path(digest), max_blob_bytes);
    return kept && *kept == bytes;
  }
  const auto kept = this->bytes(digest);
  return kept && *kept == bytes;
}

Result<void> Logbook::keep(const Blob& bytes, const Digest& digest) {
  return keep_all({{digest, bytes}});
}

Result<void> Logbook::keep_all(const std::vector<std::pair<Digest, Blob>>& blobs) {
  std::vector<FileChange> fresh;
  std::set<std::string> known;
  for (const auto& [digest, bytes] : blobs) {
    const std::string path = blob_path(digest);
    if (!known.insert(path).second) continue;
    BAYSWAP_TRY(const bool kept, is_kept(bytes, digest));
    if (kept) continue;
    const bool packed = packs_well(bytes);
    FileChange change{packed ? path + std::string(packed_suffix) : path, std::nullopt,
                      packed ? wrap(Compression::zlib, bytes) : bytes};
    BAYSWAP_TRY(const auto rotten, blobs_->stat(change.path));
    // A plain one that is there and is not right would be read first.
    BAYSWAP_TRY(const auto plain, packed ? blobs_->stat(path) : std::nullopt);
    if (rotten) BAYSWAP_CHECK(blobs_->replace(change.path, change.after->view()));
    if (plain) BAYSWAP_CHECK(blobs_->remove(path));
    if (!rotten) fresh.push_back(std::move(change));
  }
  sort_by(fresh, &FileChange::path);  // folder by folder
  std::vector<bool> placed;
  return fresh.empty() ? Result<void>{} : blobs_->apply(fresh, placed);
}

Result<Blob> Logbook::bytes(const Digest& digest) {
  const std::string path = blob_path(digest);
  BAYSWAP_TRY(const auto plain, blobs_->stat(path));
  if (plain) {
    BAYSWAP_TRY(Blob blob, blobs_->read(path, max_blob_bytes));
    if (sha256(blob.view()) == digest) return blob;
  }
  const std::string packed = path + std::string(packed_suffix);
  BAYSWAP_TRY(const auto there, blobs_->stat(packed));
  if (!plain && !there)
    return fail(ErrorCode::not_found, fmt::format("{} is not in the logbook", blobs_->display_path(path)),
                "look for another copy of the logbook", {Remedy::Kind::import_logbook, {}});
  if (there) {
    BAYSWAP_TRY(const Blob stream, blobs_->read(packed, max_blob_bytes));
    if (const auto blob = read_stream(Compression::zlib, stream, max_blob_bytes);
        blob && sha256(blob->plain.view()) == digest)
      return blob->plain;
  }
  return fail(ErrorCode::damaged,
              fmt::format("{} in the logbook is damaged: its bytes have another digest", blob_path(digest)),
              "no save was changed; look for another copy of the logbook");
}

}  // namespace bayswap
