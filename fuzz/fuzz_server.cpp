// What servers answer: lists of files as WebDAV, S3-style and FTP servers write them, and URLs, netrc files,
// keyrings and encrypted files. Refused with a message, or read, and then every name is one that can be asked
// for.
#include <bayswap/keyring.hpp>

#include "fs/bucket_listing.hpp"
#include "fs/ftp_listing.hpp"
#include "fs/multistatus.hpp"
#include "fs/url.hpp"
#include "fuzz.hpp"

namespace {

using namespace bayswap;

// One ring for all inputs: what it does not open is damaged, and nothing else.
void open_sealed(ByteView bytes) {
  static const Keyring ring = *Keyring::from_bytes([] {
    std::vector<Byte> fixed{'B', 'S', 'K', 1, 0};
    fixed.resize(5 + 64, 7);
    return Blob::copy_of(fixed);
  }()
                                                       .view());
  static const std::string name = [] {
    MemoryStore below;
    (void)encrypted_store(below, ring)->add("objects/a/x", {});
    return below.files().begin()->first;
  }();
  MemoryStore below;
  (void)below.create(name, bytes);
  const auto store = encrypted_store(below, ring);
  const auto got = store->read("objects/a/x");
  fuzz::require(got.has_value() || got.error().code == ErrorCode::damaged);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const ByteView bytes(data + 1, size - 1);
  const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  switch (data[0] % 7) {
    case 0:
      (void)multistatus_from(bytes);
      break;
    case 1:
      (void)bucket_listing_from(bytes);
      break;
    case 2:
    case 3:
      if (const auto list = listing_from(bytes, data[0] % 7 == 2))
        for (const FileInfo& info : *list)
          fuzz::require(!info.name.empty() && info.name != "." && info.name != "..");
      break;
    case 4:
      if (const auto url = url_from(text)) fuzz::require(!url->host.empty() && !url->path.ends_with('/'));
      (void)netrc_entry(text, "host", "");
      break;
    case 5:
      if (const auto ring = Keyring::from_bytes(bytes))
        fuzz::require(*Keyring::from_bytes(ring->bytes().view()) == *ring);
      break;
    default:
      open_sealed(bytes);
  }
  return 0;
}
