// Versions of a save from arbitrary bytes: every checksum that is found holds in all of them, every place
// that a search finds is within them, and a draft out of both is a sheet.
#include <bayswap/sheet_draft.hpp>

#include <algorithm>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  if (size < 8) return 0;
  const std::size_t count = 2 + data[0] % 3;
  const std::size_t each = std::min<std::size_t>((size - 1) / count, 512);
  if (each == 0) return 0;
  std::vector<Blob> versions;
  for (std::size_t v = 0; v < count; ++v) versions.push_back(Blob::copy_of({data + 1 + v * each, each}));
  SheetDraft draft;
  draft.id = "gba.input";
  draft.game.platform = Platform::gba;
  draft.size_bytes = each;
  ChecksumSearchOptions options;
  options.max_work = std::size_t{1} << 22;
  const auto search = find_checksums(versions, options);
  if (search) {
    for (const ChecksumFind& find : search->checksums)
      for (const Blob& version : versions)
        fuzz::require(holds(find.checksum, version.view()).value_or(false));
    draft.checksums = search->checksums;
  }
  ValueRequest request;
  for (std::size_t v = 0; v < count; ++v)
    request.values.push_back(
        (data[0] & 0x80) != 0
            ? std::string(reinterpret_cast<const char*>(data + 1 + v * each), std::min<std::size_t>(each, 4))
            : std::to_string(data[1 + v * each] * 3));
  const auto finds = find_values(versions, request);
  if (finds) {
    for (const ValueFind& find : *finds) fuzz::require(find.offset + (find.bit + find.bits + 7) / 8 <= each);
    if (!finds->empty()) draft.fields.emplace_back("value", finds->front());
  }
  ValueRequest trends;
  trends.trends.assign(count - 1, (data[0] & 0x40) != 0 ? Trend::more : Trend::changed);
  (void)find_values(versions, trends);
  (void)draft_sheet(draft);
  return 0;
}
