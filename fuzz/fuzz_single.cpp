#include <bayswap/card.hpp>

#include "fuzz.hpp"
#include "support/cards.hpp"

// Single saves: parcels, entries before their content, and either of them inside of anything.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  static const std::vector<Blob> saves = [] {
    std::vector<Blob> made;
    for (const CardKind kind : test::writable_kinds()) {
      const CardSave save = test::made_save(kind, 1, test::least_blocks(kind), 1);
      made.push_back(to_parcel(save));
      Buffer plain(save.entry.size() + save.payload.size());
      std::ranges::copy(save.payload.view(), std::ranges::copy(save.entry.view(), plain.bytes().begin()).out);
      made.push_back(std::move(plain).freeze());
    }
    return made;
  }();
  if (size < 2) return 0;
  // A sound one with the input laid over its head, or the input alone.
  std::vector<Byte> file;
  if (data[0] < 160) {
    const ByteView sound = saves[data[0] % saves.size()].view();
    file.assign(data[1], 0);
    file.insert(file.end(), sound.begin(),
                sound.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(sound.size(), 9000)));
    for (std::size_t i = 2; i + 2 <= size; i += 2) file[data[i] % file.size()] = data[i + 1];
  } else {
    file.assign(data + 1, data + size);
  }
  const Blob whole = Blob::copy_of(file);
  if (const auto save = single_save_from(whole)) {
    const auto again = single_save_from(to_parcel(*save));
    fuzz::require(again.has_value() && again->same_content(*save));
    (void)icon_of(*save);
  }
  for (const EmbeddedSave& inside : find_embedded_saves(whole)) {
    fuzz::require(inside.at < whole.size() && !inside.evidence.empty());
    fuzz::require(inside.save.size_bytes() <= whole.size());
    (void)icon_of(inside.save);
  }
  return 0;
}
