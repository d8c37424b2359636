#include "inspect/packed_rom.hpp"

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/archive_store.hpp"
#include "inspect/look.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_archive_bytes = std::size_t{80} << 20;

ArchiveLimits rom_limits() {
  ArchiveLimits limits;
  limits.max_bytes = std::uint64_t{136} << 20;  // the largest cartridge, and a little more
  limits.max_entries = 64;
  return limits;
}

}  // namespace

Result<std::optional<PackedRom>> packed_rom(Store& store, const std::string& path) {
  const std::string extension = lower(extension_of(path));
  if (extension != ".zip" && extension != ".7z") return std::nullopt;
  const auto bytes = store.read(path, max_archive_bytes);
  if (!bytes && bytes.error().code == ErrorCode::io) return tl::unexpected(bytes.error());
  if (!bytes) return std::nullopt;
  ArchiveLimits limits = rom_limits();
  const auto archive = ArchiveStore::open(*bytes, path, limits);
  if (!archive) return std::nullopt;
  std::optional<PackedRom> only;
  for (const auto& [name, file] : (*archive)->files()) {
    auto facts = identify_rom(file.bytes.view());
    if (!facts)
      if (auto named = rom_by_name(name, file.bytes.size())) facts = *std::move(named);
    if (!facts) continue;
    if (only) return std::nullopt;
    only = PackedRom{file.bytes, *std::move(facts)};
  }
  return only;
}

}  // namespace bayswap
