#include <bayswap/card.hpp>

#include "fuzz.hpp"

// Bytes laid over a card of each kind, in its directory: nothing that is listed, checked, read or mended may
// crash or hang, and mending makes it no worse. Then the bytes alone, as a single save.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  const Blob input = Blob::copy_of({data, size});
  if (const auto save = single_save_from(input)) {
    const auto again = single_save_from(to_parcel(*save));
    fuzz::require(again.has_value() && again->payload == save->payload);
  }
  for (const CardKind kind : all_card_kinds()) {
    const Blob fresh = make_card(kind)->image();
    std::vector<Byte> image(fresh.view().begin(), fresh.view().end());
    // Every third byte of the input says where the next two go.
    for (std::size_t i = 0; i + 3 <= size; i += 3) {
      const std::size_t at = (data[i] * 37 + i / 3 * 13) % 8192;
      image[at] = data[i + 1];
      image[at + 1] = data[i + 2];
    }
    auto card = open_card(Blob::copy_of(image));
    if (!card) continue;
    const std::size_t before = (*card)->check().size();
    for (const CardEntry& entry : (*card)->entries()) (void)(*card)->read(entry.name);
    const std::size_t mended = (*card)->repair();
    fuzz::require((*card)->check().size() + mended == before);
    if (const auto save = single_save_from(input)) (void)(*card)->put(*save);
    for (const CardEntry& entry : (*card)->entries()) (void)(*card)->drop(entry.name);
  }
  return 0;
}
