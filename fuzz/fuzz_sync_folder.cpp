// What another device, or whoever can write to a sync folder, put there: objects, manifests, pages of records
// and bundles. Refused with a message, or taken, and then it is told on as it came.
#include <bayswap/layout.hpp>
#include <bayswap/replica.hpp>

#include "fuzz.hpp"
#include "sync/bundle.hpp"
#include "sync/wire.hpp"

namespace {

using namespace bayswap;

const std::string other(16, 'a');

// A device that meets a sync folder where that is told.
void meet(MemoryStore& sea, const Blob& manifest) {
  auto sync_folder = SyncFolder::found(sea);
  fuzz::require(sync_folder.has_value());
  const auto digest = sync_folder->objects().put(manifest);
  fuzz::require(digest.has_value());
  fuzz::require(sync_folder->point({other, 1, *digest}).has_value());
  MemoryStore disk;
  auto replica = Replica::join(disk, "here", "sea", sync_folder->id());
  fuzz::require(replica.has_value());
  const auto done = replica->exchange(*sync_folder, {});
  fuzz::require(done.has_value());
  const auto history = replica->history();
  fuzz::require(history.has_value());
  for (const Lineage& lineage : (*history)->lineages()) {
    (void)differing_heads(lineage);
    (void)(*history)->common_ancestor(lineage.heads);
    (void)(*history)->lineages_for(lineage.versions.front()->save);
    (void)replica->bundle(*lineage.versions.front(), &*sync_folder);
  }
  (void)replica->prune(*sync_folder, 1);
  // What was taken is read again.
  auto again = Replica::open(disk);
  fuzz::require(again.has_value() && again->history().has_value());
}

Blob manifest_with(std::size_t page, const Digest& digest) {
  WireWriter out;
  out.u8(1);
  out.text(other);
  out.text("other");
  out.u64(1);
  out.i64(0);
  out.u32(0);
  out.u32(0);
  for (std::size_t i = 0; i < 256; ++i) {
    out.u8(i == page ? 1 : 0);
    if (i == page) out.raw(digest.bytes);
  }
  out.u32(0);
  return out.blob();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  static const Catalog catalog;
  const ByteView rest(data + 2, size - 2);
  const Blob bytes = Blob::copy_of(rest);
  MemoryStore sea;
  switch (data[0] % 5) {
    case 0: {
      ObjectShelf shelf(sea, "objects");
      const Digest digest = sha256(rest);
      fuzz::require(shelf.put(bytes).has_value());
      const std::string path = sea.files().begin()->first;
      fuzz::require(sea.replace(path, rest).has_value());
      const auto got = shelf.get(digest);
      fuzz::require(!got || *got == bytes);
      break;
    }
    case 1:
      meet(sea, bytes);
      break;
    case 2: {
      fuzz::require(SyncFolder::found(sea).has_value());
      auto sync_folder = SyncFolder::open(sea);
      const auto page = sync_folder->objects().put(bytes);
      fuzz::require(page.has_value());
      meet(sea, manifest_with(data[1], *page));
      break;
    }
    case 3: {
      const auto bundle = bundle_from_bytes(bytes, catalog);
      fuzz::require(bundle || !bundle.error().message.empty());
      if (!bundle) break;
      (void)digest_of(bundle->content);
      fuzz::require(bundle_from_bytes(to_bytes(*bundle), catalog).has_value());
      break;
    }
    default:
      if (const auto version = version_from_record(rest)) fuzz::require(record_of(*version) == bytes);
  }
  return 0;
}
