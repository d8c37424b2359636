// Which way round do a slot's 32-bit words stand? Asked of the content, since twins have the same size and
// name.
#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <vector>

#include "base/text.hpp"
#include "layout/byte_order.hpp"

namespace bayswap {
namespace {

using Says = OrderVerdict::Says;

struct Vote {
  double chip_log_odds = 0;  // over 0: chip order; under 0: swapped
  std::string sentence;
};

bool is_letter(Byte b) {
  return (b >= 'A' && b <= 'Z') || (b >= 'a' && b <= 'z');
}

std::string_view words_stand(bool chip) {
  return chip ? "as the chip holds them" : "with each 32-bit word reversed";
}

double log_odds(double confidence) {
  return std::log(confidence / (1 - confidence));
}

// The game's own code or title, readable in one of the two orders only.
std::optional<Vote> by_game_name(ByteView as_is, ByteView reversed, const GameId& game) {
  const auto holds = [](ByteView bytes, std::string_view needle) {
    return std::search(bytes.begin(), bytes.end(), needle.begin(), needle.end(), [](Byte a, char b) {
             return std::tolower(a) == std::tolower(static_cast<Byte>(b));
           }) != bytes.end();
  };
  for (const std::string& needle : {game.title, game.code}) {
    if (needle.size() < 4) continue;
    const bool chip = holds(as_is, needle);
    if (chip != holds(reversed, needle))
      return Vote{(chip ? 1 : -1) * log_odds(0.98),
                  fmt::format("'{}', from the ROM, can be read in it when its words stand {}", needle,
                              words_stand(chip))};
  }
  return std::nullopt;
}

// Counts for one order against the other; a majority of 3 to 1 and at least `least` of them make a vote.
std::optional<Vote> by_majority(std::size_t chip, std::size_t swapped, std::size_t least,
                                double most_confident, std::string_view what) {
  const std::size_t more = std::max(chip, swapped);
  if (more < least || more < 3 * std::min(chip, swapped)) return std::nullopt;
  const double share = static_cast<double>(more) / static_cast<double>(chip + swapped + 1);
  const double confidence = std::min(share, most_confident);
  return Vote{(chip > swapped ? 1 : -1) * log_odds(confidence),
              fmt::format("{} of {} {} make sense when its words stand {}", more, chip + swapped, what,
                          words_stand(chip > swapped))};
}

// Text ends in zero bytes: "LLL0" is the end of a string, "0LLL" is one turned round.
std::optional<Vote> by_string_ends(ByteView bytes) {
  std::size_t chip = 0;
  std::size_t swapped = 0;
  for (std::size_t i = 0; i + 4 <= bytes.size(); i += 4) {
    const std::array<bool, 4> letter{is_letter(bytes[i]), is_letter(bytes[i + 1]), is_letter(bytes[i + 2]),
                                     is_letter(bytes[i + 3])};
    if (!letter[1] || !letter[2]) continue;
    if (letter[0] && bytes[i + 3] == 0) ++chip;
    if (letter[3] && bytes[i] == 0) ++swapped;
  }
  return by_majority(chip, swapped, 3, 0.97, "short texts that end in a zero byte");
}

// Numbers are mostly small: their high bytes are zero, and come first on the chip. Bytes that could be the
// head of a floating-point number don't count, those end in zeros.
std::optional<Vote> by_small_numbers(ByteView bytes) {
  const auto float_head = [](Byte b) { return (b & 0x7f) >= 0x3c && (b & 0x7f) <= 0x48; };
  std::size_t chip = 0;
  std::size_t swapped = 0;
  for (std::size_t i = 0; i + 4 <= bytes.size(); i += 4) {
    const ByteView w = bytes.subspan(i, 4);
    if (float_head(w[0]) || float_head(w[3])) continue;
    const bool small32_chip = w[0] == 0 && w[1] == 0 && w[3] != 0;
    const bool small32_swapped = w[3] == 0 && w[2] == 0 && w[0] != 0;
    const bool pair_chip = w[0] == 0 && w[2] == 0 && w[1] != 0 && w[3] != 0;
    const bool pair_swapped = w[1] == 0 && w[3] == 0 && w[0] != 0 && w[2] != 0;
    chip += small32_chip || pair_chip ? 1 : 0;
    swapped += small32_swapped || pair_swapped ? 1 : 0;
  }
  return by_majority(chip, swapped, 12, 0.95, "small numbers");
}

// Where a word ends, the next one goes on: in tables neighbouring bytes are alike in the true order.
std::optional<Vote> by_smoothness(ByteView bytes) {
  constexpr std::size_t enough_seams = 8192;  // more make it no surer
  const auto distance = [](Byte a, Byte b) {
    const auto up = static_cast<Byte>(a - b);
    const auto down = static_cast<Byte>(b - a);
    return static_cast<unsigned>(std::min(up, down));
  };
  const std::size_t words = bytes.size() / 4;
  const std::size_t stride = 4 * (1 + words / enough_seams);
  std::size_t chip = 0;
  std::size_t swapped = 0;
  std::size_t seams = 0;
  for (std::size_t i = 0; i + 8 <= bytes.size(); i += stride) {
    const Byte* w = bytes.data() + i;
    const int zeros = (w[0] == 0) + (w[1] == 0) + (w[2] == 0) + (w[3] == 0) + (w[4] == 0) + (w[5] == 0) +
                      (w[6] == 0) + (w[7] == 0);
    if (zeros >= 4 || std::memcmp(w, w + 1, 7) == 0) continue;  // says nothing
    chip += distance(w[3], w[4]);
    swapped += distance(w[0], w[7]);
    ++seams;
  }
  if (seams < 64) return std::nullopt;
  const auto n = static_cast<double>(seams);
  const double difference = static_cast<double>(std::max(chip, swapped) - std::min(chip, swapped)) / n;
  const double chance = 37.0 * std::sqrt(2.0 / n);  // standard deviation of that difference in random bytes
  if (difference < 5.5 * chance ||
      static_cast<double>(std::min(chip, swapped)) > 0.6 * static_cast<double>(std::max(chip, swapped)))
    return std::nullopt;
  return Vote{(chip < swapped ? 1 : -1) * log_odds(0.93),
              fmt::format("neighbouring bytes run on smoothly from word to word when its words stand {}",
                          words_stand(chip < swapped))};
}

}  // namespace

OrderVerdict judge_word_order(ByteView slot_bytes, const std::optional<GameId>& game) {
  const ByteView bytes = slot_bytes.first(slot_bytes.size() / 4 * 4);
  if (bytes.empty() || is_uniform(bytes))
    return {Says::nothing, 0.5, "it is blank, so its byte order makes no difference"};
  std::vector<Vote> votes;
  if (game) {
    std::vector<Byte> reversed(bytes.size());
    copy_ordered(ByteOrder::swap32, bytes, reversed);
    if (auto vote = by_game_name(bytes, reversed, *game)) votes.push_back(*std::move(vote));
  }
  for (auto* test : {by_string_ends, by_small_numbers, by_smoothness})
    if (auto vote = test(bytes)) votes.push_back(*std::move(vote));

  double sum = 0;
  for (const Vote& vote : votes) sum += vote.chip_log_odds;
  const double confidence = 1 / (1 + std::exp(-std::abs(sum)));
  if (confidence < 0.7)
    return {Says::nothing, 0.5,
            votes.empty() ? "nothing in the content tells its byte order"
                          : "what the content tells of its byte order contradicts itself"};
  OrderVerdict verdict{sum > 0 ? Says::chip : Says::swap32, confidence, {}};
  for (const Vote& vote : votes)
    if ((vote.chip_log_odds > 0) == (sum > 0))
      verdict.evidence += (verdict.evidence.empty() ? "" : "; ") + vote.sentence;
  return verdict;
}

}  // namespace bayswap
