#include <bayswap/card.hpp>

#include <algorithm>
#include <cstring>

#include "card/kinds.hpp"
#include "fuzz.hpp"
#include "support/cards.hpp"

// Compiled once a kind (CARD_KIND). Bytes laid over the directory and tables of a card with saves: nothing
// that is listed, checked, read, carved, drawn, brought back or repaired may crash or hang; mending leaves
// nothing that can be repaired. The medium is opened at once: what looks for one in a file is fuzz_rescue's.
namespace {

using namespace bayswap;
constexpr CardKind kind = CardKind::CARD_KIND;

// A card with saves, one of them deleted.
Blob made_card() {
  const auto card = std::move(*make_card(kind, {0, 0, kind == CardKind::ps2 ? "plain" : "", 0, false}));
  for (int i = 1; i <= 3 && kind != CardKind::scd; ++i)
    (void)card->put(test::made_save(kind, i, test::least_blocks(kind) + static_cast<std::size_t>(i), 1));
  if (kind != CardKind::scd) (void)card->drop(card->entries()[1].name);
  return card->image();
}

// The same memory every time: copying megabytes would take longer than all the rest.
class Image {
 public:
  Image() : sound_(made_card()), whole_(Blob::copy_of(sound_.view())) {}
  [[nodiscard]] std::size_t size() const { return sound_.size(); }
  void put(std::size_t at, Byte value) {
    bytes()[at] = value;
    changed_.push_back(at);
  }
  [[nodiscard]] const Blob& blob() const { return whole_; }
  void restore() {
    for (const std::size_t at : changed_) bytes()[at] = sound_.view()[at];
    changed_.clear();
  }

 private:
  // Nobody else has this blob while an input runs.
  Byte* bytes() { return const_cast<Byte*>(whole_.data()); }
  Blob sound_;
  Blob whole_;
  std::vector<std::size_t> changed_;
};

// One deep way an input: all of them for each would take as long as the slowest.
void use(const Blob& image, int way) {
  const auto card = card_format(kind).open(image);
  switch (way % 4) {
    case 0:
      (void)card->carve(image.size());
      break;
    case 1:
      for (const CardEntry& entry : card->entries()) {
        if (const auto save = card->read(entry.name)) (void)icon_of(*save);
        if (entry.state == CardEntry::State::deleted) (void)card->undelete(entry.name);
      }
      (void)card->map();
      break;
    case 2: {
      const std::size_t before = card->check().size();
      const std::size_t repaired = card->repair();
      const auto left = card->check();
      fuzz::require(repaired <= before && left.size() <= before);
      for (const CardProblem& problem : left) fuzz::require(!problem.repairable);
      break;
    }
    default: {
      static const CardSave another =
          kind == CardKind::scd ? CardSave{} : test::made_save(kind, 9, test::least_blocks(kind), 1);
      if (kind != CardKind::scd && card->put(another)) fuzz::require(card->read(another.name).has_value());
      if (const auto entries = card->entries(); !entries.empty()) (void)card->drop(entries.front().name);
      (void)card->check();
    }
  }
}

}  // namespace

// Images are large blocks: fetched from and given back to the system each time they would cost more than the
// work on them.
extern "C" const char* __asan_default_options() {
  return "quarantine_size_mb=8:allocator_release_to_os_interval_ms=-1";
}

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static Image image;
  if (size == 0) return 0;
  const auto [from, to] = test::directory_of(kind);
  const std::size_t end = std::min(to, image.size());
  const std::size_t first = std::min(from, end - 2);
  if (data[0] < 32) {  // a stretch of bytes somewhere in it
    const std::size_t at = size > 2 ? first + (data[1] * std::size_t{256} + data[2]) % (end - first) : first;
    for (std::size_t i = 3; i < size && at + i - 3 < image.size(); ++i) image.put(at + i - 3, data[i]);
  } else {  // every four bytes: where, what, what
    for (std::size_t i = 1; i + 4 <= size; i += 4) {
      const std::size_t at = first + (data[i] * std::size_t{256} + data[i + 1]) % (end - first - 1);
      image.put(at, data[i + 2]);
      image.put(at + 1, data[i + 3]);
    }
  }
  use(image.blob(), data[0]);
  image.restore();
  return 0;
}
