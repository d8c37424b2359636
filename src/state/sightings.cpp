#include "state/sightings.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/endian.hpp"
#include "base/order.hpp"
#include "base/text.hpp"

namespace bayswap {
namespace {

constexpr std::size_t least_item = 64;
constexpr std::size_t longest_name = 32;
constexpr std::size_t longest_gap = 12;      // between a name and a length
constexpr std::size_t furthest_item = 4096;  // of a table, from its entry
constexpr std::size_t large = 2048;  // smaller stretches have borders, and lengths before them, by chance
constexpr double small_counts = 0.7;

constexpr std::array<bool, 256> name_bytes = [] {
  std::array<bool, 256> are{};
  for (unsigned b = 0; b < are.size(); ++b)
    are[b] = (b >= 'A' && b <= 'Z') || (b >= 'a' && b <= 'z') || (b >= '0' && b <= '9') || b == '_' ||
             b == '.' || b == '-' || b == ' ';
  return are;
}();
bool is_name_byte(Byte b) {
  return name_bytes[b];
}

// Tells most numbers apart from a few sizes, and those with a byte before them that says how.
class NumberFilter {
 public:
  explicit NumberFilter(const std::set<std::size_t>& sizes) {
    for (const std::size_t size : sizes) {
      may_[place_of(static_cast<std::uint32_t>(size))] = true;
      may_[place_of(static_cast<std::uint32_t>(size + 1))] = true;
    }
  }
  [[nodiscard]] bool may_have(std::uint32_t number) const { return may_[place_of(number)]; }

 private:
  static constexpr unsigned bits = 11;
  static std::size_t place_of(std::uint32_t number) { return number * 0x9e3779b1U >> (32 - bits); }
  std::array<bool, std::size_t{1} << bits> may_{};
};

// What fills a name's field up lies between it and the length.
std::size_t end_of_name(ByteView bytes, std::size_t end) {
  std::size_t last = end;
  while (last > 0 && end - last < longest_gap && (bytes[last - 1] == 0 || bytes[last - 1] == ' ')) --last;
  return last;
}

// Whether there is a name of two characters or more.
bool may_be_named(ByteView bytes, std::size_t end) {
  const std::size_t last = end_of_name(bytes, end);
  return last >= 2 && is_name_byte(bytes[last - 1]) && is_name_byte(bytes[last - 2]);
}

// The plain characters that end at most a gap before `end`.
std::string name_before(ByteView bytes, std::size_t end) {
  const std::size_t last = end_of_name(bytes, end);
  std::size_t first = last;
  while (first > 0 && last - first < longest_name && is_name_byte(bytes[first - 1])) --first;
  const std::size_t length = last - first;
  if (length < 2) return {};
  std::string name(reinterpret_cast<const char*>(bytes.data()) + first, length);
  // A byte that counts the name's characters may itself be a character (")SaveRAM" is counted by 7 only).
  for (std::size_t skip = 0; skip + 2 < length; ++skip)
    if (static_cast<Byte>(name[skip]) == length - skip - 1) return name.substr(skip + 1);
  return name;
}

}  // namespace

int says_battery(std::string_view name, bool work_memory_is_kept) {
  const std::string low = lower(std::string(name));
  const auto has = [&](std::string_view word) { return low.find(word) != std::string::npos; };
  const auto is = [&](std::string_view word) { return low == word; };
  if (has("ieeprom") || has("internal")) return -1;  // the console's own
  // Registers of the chip, not its memory.
  for (const std::string_view word :
       {"comm",  "addr", "mask",  "enabl",  "protect", "latch",   "bank",   "lock",  "time",
        "mode",  "type", "count", "size",   "ptr",     "status",  "write",  "dirty", "flag",
        "shift", "bits", "index", "select", "ctrl",    "control", "sramon", "ramon"})
    if (has(word)) return 0;
  if (work_memory_is_kept &&
      (has("wram") || is("wrm") || has("workram") || has("prgram") || has("prg_ram") || has("exram")))
    return 1;
  for (const std::string_view word :
       {"sram",      "saveram",  "save_ram",  "save ram", "save.ram", "savedata",     "save data",
        "save_data", "bram",     "backup",    "bkram",    "bkup",     "eeprom",       "nvram",
        "battery",   "cartram",  "cart_ram",  "cart.ram", "cart ram", "cartridgeram", "ramcart",
        "mbcram",    "flashmem", "flash_mem", "flashram", "prgram",   "prg_ram"})
    if (has(word)) return 1;
  for (const std::string_view word :
       {"sra", "srm", "sav", "save", "eep", "flash", "flsh", "bup", "batt", "exram", "xram"})
    if (is(word)) return 1;
  for (const std::string_view word :
       {"ram",     "vrm",   "rom",   "oam",    "pal",   "chr",  "gfx",  "screen", "frame", "pixel",
        "picture", "thumb", "color", "sprite", "sound", "wave", "regs", "ppu",    "apu",   "cache"})
    if (has(word) && low != "ram") return -1;
  return 0;
}

Sightings::Sightings(ByteView layer)
    : layer_(layer), filler_(layer.size() / word_bits + 1), filler_of_words_(filler_.size() + 1) {
  constexpr std::size_t least_run = 8;
  const Byte* bytes = layer.data();
  for (std::size_t at = 0; at + least_run <= layer.size();) {
    // The last of the next eight that differs: no run begins before it.
    std::size_t last = least_run - 1;
    while (last > 0 && bytes[at + last] == bytes[at]) --last;
    if (last > 0) {
      std::size_t same = least_run - 1;
      while (bytes[at + same - 1] == bytes[at + least_run - 1]) --same;
      at += same;
      continue;
    }
    std::size_t end = at + least_run;
    while (end < layer.size() && bytes[end] == bytes[at]) ++end;
    for (; at < end; ++at) filler_[at / word_bits] |= std::uint64_t{1} << (at % word_bits);
  }
  for (std::size_t i = 0; i < filler_.size(); ++i)
    filler_of_words_[i + 1] = filler_of_words_[i] + static_cast<std::uint32_t>(std::popcount(filler_[i]));
}

std::size_t Sightings::filler_before(std::size_t at) const {
  const std::uint64_t below = (std::uint64_t{1} << (at % word_bits)) - 1;
  return filler_of_words_[at / word_bits] +
         static_cast<std::size_t>(std::popcount(filler_[at / word_bits] & below));
}

std::vector<Sighting> Sightings::labelled(const std::set<std::size_t>& sizes,
                                          bool work_memory_is_kept) const {
  Found found;
  if (layer_.size() < least_item || sizes.empty()) return {};
  const std::size_t least = *sizes.begin();
  const std::size_t most = layer_.size();
  const NumberFilter wanted(sizes);
  const Byte* bytes = layer_.data();
  // Most places have numbers that mean nothing, and no name before them: to pass those by must cost little.
  unsigned letters = 0;  // before this place
  unsigned since = 0;    // the last of them
  for (std::size_t at = 0; at + 4 <= most; ++at) {
    const std::uint32_t little = le32(layer_, at);
    const std::uint32_t big = be32(layer_, at);
    if ((letters >= 2 && since <= longest_gap) || wanted.may_have(little) || wanted.may_have(big)) {
      if (little >= least && little <= most) consider_record(at, little, sizes, work_memory_is_kept, found);
      if (big >= least && big <= most && big != little)
        consider_record(at, big, sizes, work_memory_is_kept, found);
    }
    if (at % 4 == 0 && at + 32 <= most && little >= least_item && little <= most &&
        le32(layer_, at + 4) - at - 1 < furthest_item)
      consider_table(at, found);
    const bool letter = name_bytes[bytes[at]];
    letters = letter ? letters + 1 : bytes[at] == 0 ? letters : 0;
    since = letter ? 0 : since + 1;
  }
  return std::move(found.all);
}

// A name, the length, then the data; or the length, a byte that says how, then the data.
void Sightings::consider_record(std::size_t at, std::size_t length, const std::set<std::size_t>& sizes,
                                bool kept, Found& found) const {
  std::size_t data = at + 4;
  if (length > layer_.size() - data) return;
  const bool exact = sizes.contains(length);
  const bool flagged = !exact && sizes.contains(length - 1);
  if (!exact && !flagged && !may_be_named(layer_, at)) return;
  const std::string name = name_before(layer_, at);
  const int says = name.empty() ? 0 : says_battery(name, kept);
  if (says < 0 || (says == 0 && !exact && !flagged)) return;
  if (name.empty()) {
    // A number alone is chance, unless the memory shows itself after it.
    if (flagged) return;
    const double begin = at == 0 || is_filler(at - 1) ? 1 : 0;
    const double points =
        (0.1 + 0.1 * begin + 0.15 * clear_border(data + length, false) + 0.25 * alive_share(data, length)) *
        (length < large ? small_counts : 1);
    found.add({Sighting::By::length, data, length, points,
               fmt::format("the length {} is right before it", length)});
    return;
  }
  // Another item's name after it shows that the length is one, and in this order. A length of 64 bits has
  // an upper half of nothing.
  bool led = ends_well(data + length);
  if (!led && le32(layer_, data) == 0 && length <= layer_.size() - data - 4 && ends_well(data + 4 + length)) {
    data += 4;
    led = true;
  }
  // Read in the other order it may lead to a name as well: then neither shows anything.
  if (led && says == 0) {
    const std::size_t other = le32(layer_, at) == length ? be32(layer_, at) : le32(layer_, at);
    if (other != length && other <= layer_.size() - at - 4 && ends_well(at + 4 + other)) led = false;
  }
  const std::size_t flag = flagged ? 1 : 0;
  // One name has one length: the reading that leads on, and the nearest of those.
  const std::size_t name_end = end_of_name(layer_, at);
  if (!found.all.empty() && found.all.back().name_end == name_end && name_end > 0) {
    if (found.all.back().led || !led) return;
    found.drop_last();
  }
  found.add({says > 0 ? Sighting::By::name : Sighting::By::label, data + flag, length - flag,
             says > 0 ? (exact || flagged ? 0.7 : 0.6) + (led ? 0.2 : 0)
             : led    ? 0.5
                      : 0.2,
             fmt::format("'{}' and the length {} are right before it", printable(name), length), name_end,
             led});
}

// What follows an item is the end, or the next one's name.
bool Sightings::ends_well(std::size_t end) const {
  if (end == layer_.size()) return true;
  if (end + 4 > layer_.size()) return false;
  const std::size_t first = end + (layer_[end] >= 2 && layer_[end] < ' ' ? 1 : 0);  // a count of its letters
  return is_name_byte(layer_[first]) && is_name_byte(layer_[first + 1]) && layer_[first] != ' ';
}

// Entries of a tag, a size and an offset, of 32 or 64 bits: items that follow one another.
void Sightings::consider_table(std::size_t at, Found& found) const {
  for (const std::size_t wide : {8U, 4U}) {
    const std::size_t entry = 8 + wide;  // size at +0 here, the tag before it
    const auto offset_at = [&](std::size_t size_at) {
      return wide == 8 ? le64(layer_, size_at + 4) : std::uint64_t{le32(layer_, size_at + 4)};
    };
    if (at < 4 || at + entry * 2 > layer_.size()) return;
    const std::size_t length = le32(layer_, at);
    const std::uint64_t offset = offset_at(at);
    if (offset <= at || offset > layer_.size() || layer_.size() - offset < length ||
        offset - at > furthest_item)
      continue;
    const std::size_t next = at + entry;
    const bool last = le32(layer_, next - 4) == 0 && le32(layer_, next) == 0;
    const bool chained = offset_at(next) == offset + length;
    const bool first = at >= entry + 4 && offset_at(at - entry) + le32(layer_, at - entry) == offset;
    if (le32(layer_, at - 4) == 0 || !(chained || (last && (first || offset - at <= 256)))) continue;
    found.add({Sighting::By::table, offset, length, 0.6,
               fmt::format("a table at {} has an item of {} bytes there", at - 4, length)});
    return;
  }
}

// How clear a border is: filler on the one side, 4 bytes of it or more, and something else on the other.
double Sightings::clear_border(std::size_t at, bool begin) const {
  if (at == 0 || at == layer_.size()) return 1;
  const std::size_t outside = begin ? at - 1 : at;
  const std::size_t inside = begin ? at : at - 1;
  if (layer_[outside] == layer_[inside]) {
    // The memory's own first or last bytes may be like the filler beside it.
    constexpr std::size_t few = 4;
    for (std::size_t i = 1; is_filler(outside) && i <= few; ++i) {
      if (begin ? inside + i >= layer_.size() : inside < i) break;
      if (!is_filler(begin ? inside + i : inside - i)) return 0.6;
    }
    return 0;
  }
  if (is_filler(outside) || is_filler(inside)) return 1;
  std::size_t run = 1;
  while (run < 4 && (begin ? outside >= run : outside + run < layer_.size()) &&
         layer_[begin ? outside - run : outside + run] == layer_[outside])
    ++run;
  return run == 4 && (layer_[outside] == 0 || layer_[outside] == 0xff) ? 0.5 : 0;
}

double Sightings::alive_share(std::size_t at, std::size_t bytes) const {
  return 1 - static_cast<double>(filler_before(at + bytes) - filler_before(at)) / static_cast<double>(bytes);
}

std::vector<Sighting> Sightings::bordered(std::size_t bytes) const {
  constexpr std::size_t most = 6;
  std::vector<Sighting> found;
  if (bytes < least_item) return found;
  const Byte* layer = layer_.data();
  for (std::size_t at = 0; at + bytes <= layer_.size(); ++at) {
    // What is inside begins with something; filler that goes on beyond the end says nothing.
    // Most places have no border at all.
    if (at > 0 && (layer[at - 1] == layer[at]
                       ? !is_filler(at - 1)
                       : layer[at - 1] != 0 && layer[at - 1] != 0xff && !is_filler(at - 1) && !is_filler(at)))
      continue;
    const double begin = clear_border(at, true);
    if (begin == 0) continue;
    const double end = clear_border(at + bytes, false);
    const double share = alive_share(at, bytes);
    if (end == 0 || begin + end < 1 || share < 0.3) continue;
    const double points = 0.1 + 0.12 * (begin + end) + 0.3 * share;
    found.push_back({Sighting::By::borders, at, bytes, bytes < large ? points * small_counts : points,
                     fmt::format("{} bytes that are alive begin and end exactly there", bytes)});
  }
  sort_by_descending(found, [](const Sighting& one) { return one.points; });
  if (found.size() > most) found.resize(most);
  return found;
}

}  // namespace bayswap
