#include <bayswap/card.hpp>

#include <algorithm>
#include <array>

#include "fuzz.hpp"
#include "support/cards.hpp"

// Cards of the small kinds, hurt, cut, padded, shuffled and with bytes in front: what is found makes a sound
// card, and what is certain can be read back from it.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  static constexpr std::array kinds{CardKind::pce, CardKind::sat, CardKind::n64, CardKind::ps1};
  static const std::array<Blob, kinds.size()> cards = [] {
    std::array<Blob, kinds.size()> made;
    for (std::size_t i = 0; i < kinds.size(); ++i) {
      const auto card = make_card(kinds[i]);
      for (int number = 1; number <= 3; ++number)
        (void)card->put(test::made_save(kinds[i], number, test::least_blocks(kinds[i]) + 1, 1));
      made[i] = card->image();
    }
    return made;
  }();
  if (size < 4) return 0;
  const std::size_t which = data[0] % kinds.size();
  std::vector<Byte> file(cards[which].view().begin(), cards[which].view().end());
  const auto [from, to] = test::directory_of(kinds[which]);
  for (std::size_t i = 4; i + 4 <= size; i += 4) {
    const std::size_t at =
        from + (data[i] * std::size_t{256} + data[i + 1]) % (std::min(to, file.size()) - from);
    file[at] = data[i + 2];
    if (at + 1 < file.size()) file[at + 1] = data[i + 3];
  }
  switch (data[1] % 8) {
    case 1:
      file.resize(file.size() - file.size() * data[2] / 300);
      break;
    case 2:
      file.resize(file.size() + data[2] * 16U, data[3] % 2 == 0 ? 0x00 : 0xff);
      break;
    case 3:
      for (std::size_t i = 0; i + 1 < file.size(); i += 2) std::swap(file[i], file[i + 1]);
      break;
    case 4:
      file.insert(file.begin(), data[2] * std::size_t{16}, data[3]);
      break;
    default:
      break;
  }
  const auto rescue =
      rescue_card(Blob::copy_of(file), data[3] % 2 == 0 ? std::optional(kinds[which]) : std::nullopt, 0,
                  data[3] % 3 == 0);
  if (!rescue) return 0;
  fuzz::require(rescue->card->check().empty() && rescue->on_card.size() == rescue->saves.size());
  for (std::size_t i = 0; i < rescue->saves.size(); ++i)
    if (rescue->on_card[i]) fuzz::require(rescue->card->read(rescue->saves[i].save.name).has_value());
  return 0;
}
