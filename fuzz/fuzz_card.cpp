#include <bayswap/card.hpp>

#include "fuzz.hpp"
#include "support/cards.hpp"

// Compiled once a kind (CARD_KIND). Bytes laid over the directory and tables of a card with saves: nothing
// that is listed, checked, read, carved, drawn or mended may crash or hang; mending leaves nothing that can
// be mended; a rescue makes a sound card. Then the bytes alone: as the start of a card, and as a single save.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  constexpr CardKind kind = CardKind::CARD_KIND;
  static const Blob sound = [] {
    const auto card = std::move(*make_card(kind, {0, 0, kind == CardKind::ps2 ? "plain" : "", 0, false}));
    for (int i = 1; i <= 3 && kind != CardKind::scd; ++i)
      (void)card->put(test::made_save(kind, i, test::least_blocks(kind) + static_cast<std::size_t>(i), 1));
    return card->image();
  }();
  const Blob input = Blob::copy_of({data, size});
  if (const auto save = single_save_from(input)) {
    const auto again = single_save_from(to_parcel(*save));
    fuzz::require(again.has_value() && again->same_content(*save));
    (void)icon_of(*save);
  }
  std::vector<Byte> image(sound.view().begin(), sound.view().end());
  const auto [from, to] = test::directory_of(kind);
  const std::size_t end = std::min(to, image.size());
  const std::size_t first = std::min(from, end - 2);
  if (size > 0 && data[0] < 64) {  // the start of the image
    std::copy_n(data + 1, std::min(size - 1, image.size()), image.begin());
  } else {  // every four bytes: where, what, what
    for (std::size_t i = 1; i + 4 <= size; i += 4) {
      const std::size_t at = first + (data[i] * std::size_t{256} + data[i + 1]) % (end - first - 1);
      image[at] = data[i + 2];
      image[at + 1] = data[i + 3];
    }
  }
  const Blob broken = Blob::copy_of(image);
  const auto rescue = rescue_card(broken, kind);
  fuzz::require(rescue.has_value() && rescue->card->check().empty());
  auto card = open_card(broken);
  if (!card) return 0;
  for (const CardEntry& entry : (*card)->entries())
    if (const auto save = (*card)->read(entry.name)) (void)icon_of(*save);
  (void)(*card)->map();
  const std::size_t before = (*card)->check().size();
  fuzz::require((*card)->repair() <= before && (*card)->check().size() <= before);
  for (const CardProblem& problem : (*card)->check()) fuzz::require(!problem.repairable);
  if (const auto save = single_save_from(input)) (void)(*card)->put(*save);
  if (kind != CardKind::scd) (void)(*card)->put(test::made_save(kind, 9, test::least_blocks(kind), 1));
  for (const CardEntry& entry : (*card)->entries()) (void)(*card)->drop(entry.name);
  (void)(*card)->check();
  return 0;
}
