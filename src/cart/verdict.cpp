#include "cart/verdict.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.hpp"

namespace bayswap {
namespace {

// A data line without contact reads the same everywhere, an address line makes its two halves equal.
std::vector<std::string> contact_faults(ByteView bytes) {
  constexpr std::size_t enough_values = 16;  // fewer is a pattern, of a chip that was never used
  std::array<bool, 256> seen{};
  unsigned always = 0xff;
  for (const Byte b : bytes) {
    seen.at(b) = true;
    always &= b;
  }
  std::vector<std::string> faults;
  if (static_cast<std::size_t>(std::ranges::count(seen, true)) < enough_values) return faults;
  for (unsigned bit = 0; bit < 8; ++bit)
    if ((always >> bit & 1U) != 0)
      faults.push_back(fmt::format("data bit {} is 1 in every byte: a line without contact", bit));
  for (unsigned line = 0; (std::size_t{1} << line) < bytes.size(); ++line) {
    const std::size_t apart = std::size_t{1} << line;
    bool same = true;
    for (std::size_t i = 0; same && i + apart < bytes.size(); ++i)
      same = (i & apart) != 0 || bytes[i] == bytes[i + apart];
    if (same)
      faults.push_back(
          fmt::format("the bytes at address {:X} come again at {:X}, everywhere: an address line "
                      "without contact, or a smaller chip",
                      0, apart));
  }
  return faults;
}

}  // namespace

CartVerdict verdict_of(const CartChip& chip, const CartDump& dump) {
  CartVerdict verdict;
  const Part part{{chip.kind, 0}, dump.bytes, true};
  constexpr std::size_t max_shown = 8;
  if (dump.unstable_count > 0) {
    std::vector<std::string> at;
    for (std::size_t i = 0; i < std::min(dump.unstable.size(), max_shown); ++i)
      at.push_back(fmt::format("{:X}", dump.unstable[i]));
    verdict.problems.push_back(fmt::format("{} differed between two readings, at {}{}",
                                           counted(dump.unstable_count, "byte"), joined(at, ", "),
                                           dump.unstable_count > max_shown ? ", ..." : ""));
  }
  const bool blank = is_blank(part);
  if (!blank) verdict.contacts = contact_faults(dump.bytes.view());
  verdict.problems.insert(verdict.problems.end(), verdict.contacts.begin(), verdict.contacts.end());
  if (blank)
    verdict.problems.push_back("it is blank: nothing was saved yet, or its battery is empty");
  else if (verdict.contacts.empty())
    for (const DumpDefect& defect : defects(part))
      verdict.problems.push_back(fmt::format("{}; {}", defect.text, defect.hint));
  if (!chip.needs_battery)
    verdict.battery = "needs none";
  else if (dump.unstable_count > 0)
    verdict.battery = "nearly empty, or bad contacts: keep what can be read, then change it";
  else if (blank)
    verdict.battery = "unknown: the chip is blank";
  else
    verdict.battery = "the chip has kept its bytes; how long the battery lasts is unknown";
  return verdict;
}

}  // namespace bayswap
