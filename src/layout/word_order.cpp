// In which order are a slot's words stored? Asked of the content, since twins have the same size and name.
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

std::string words_stand(bool chip, ByteOrder other) {
  return chip ? "as the chip holds them" : fmt::format("with {}", in_words(other));
}

double log_odds(double confidence) {
  return std::log(confidence / (1 - confidence));
}

// One slot's bytes, asked in several ways whether their words are as the chip holds them or reversed.
class Judge {
 public:
  Judge(ByteView bytes, ByteOrder other) : bytes_(bytes), other_(other), width_(word_bytes(other)) {}

  // The game's own code or title, readable in one of the two orders only.
  [[nodiscard]] std::optional<Vote> by_game_name(const GameId& game) const {
    std::vector<Byte> reversed(bytes_.size());
    copy_ordered(other_, bytes_, reversed);
    const auto holds = [](ByteView bytes, std::string_view needle) {
      return std::search(bytes.begin(), bytes.end(), needle.begin(), needle.end(), [](Byte a, char b) {
               return std::tolower(a) == std::tolower(static_cast<Byte>(b));
             }) != bytes.end();
    };
    for (const std::string& needle : {game.title, game.code}) {
      if (needle.size() < 4) continue;
      const bool chip = holds(bytes_, needle);
      if (chip != holds(reversed, needle))
        return Vote{(chip ? 1 : -1) * log_odds(0.98),
                    fmt::format("'{}', from the ROM, can be read in it with its words {}", needle,
                                words_stand(chip, other_))};
    }
    return std::nullopt;
  }

  // Text ends in zero bytes: in words of four "LLL0" is the end of a text, "0LLL" is one turned round.
  [[nodiscard]] std::optional<Vote> by_string_ends() const {
    const std::size_t letters = width_ == 2 ? 1 : 3;
    std::size_t chip = 0;
    std::size_t reversed = 0;
    for (std::size_t i = 0; i + width_ <= bytes_.size(); i += width_) {
      if (says_nothing(i)) {
        i += 8 - width_;
        continue;
      }
      const ByteView word = bytes_.subspan(i, width_);
      if (word.back() == 0 && is_text_end(word.begin(), word.end(), letters) && goes_on_from(i)) ++chip;
      if (word.front() == 0 && is_text_end(word.rbegin(), word.rend(), letters) && goes_on_from(i))
        ++reversed;
    }
    return by_majority(chip, reversed, 3, 0.97, "short texts that end in a zero byte");
  }

  // Numbers are mostly small: their high bytes are zero, and come first on the chip. Bytes that could be the
  // head of a floating-point number don't count, those end in zeros.
  [[nodiscard]] std::optional<Vote> by_small_numbers() const {
    if (width_ > 4) return std::nullopt;
    const auto float_head = [](Byte b) { return (b & 0x7f) >= 0x3c && (b & 0x7f) <= 0x48; };
    std::size_t chip = 0;
    std::size_t reversed = 0;
    for (std::size_t i = 0; i + 4 <= bytes_.size(); i += 4) {
      if (says_nothing(i)) {
        i += 4;
        continue;
      }
      const ByteView w = bytes_.subspan(i, 4);
      if (float_head(w[0]) || float_head(w[3])) continue;
      const bool pair_chip = w[0] == 0 && w[2] == 0 && w[1] != 0 && w[3] != 0;
      const bool pair_reversed = w[1] == 0 && w[3] == 0 && w[0] != 0 && w[2] != 0;
      const bool long_chip = width_ == 4 && w[0] == 0 && w[1] == 0 && w[3] != 0;
      const bool long_reversed = width_ == 4 && w[3] == 0 && w[2] == 0 && w[0] != 0;
      chip += long_chip || pair_chip ? 1 : 0;
      reversed += long_reversed || pair_reversed ? 1 : 0;
    }
    return by_majority(chip, reversed, 12, 0.95, "small numbers");
  }

  // Where a word ends, the next one goes on: in tables neighbouring bytes are alike in the true order.
  [[nodiscard]] std::optional<Vote> by_smoothness() const {
    constexpr std::size_t enough_seams = 8192;  // more make it no surer
    const auto distance = [](Byte a, Byte b) {
      const auto up = static_cast<Byte>(a - b);
      const auto down = static_cast<Byte>(b - a);
      return static_cast<unsigned>(std::min(up, down));
    };
    const std::size_t words = bytes_.size() / width_;
    const std::size_t stride = width_ * (1 + words / enough_seams);
    std::size_t chip = 0;
    std::size_t reversed = 0;
    std::size_t seams = 0;
    for (std::size_t i = 0; i + 2 * width_ <= bytes_.size(); i += stride) {
      const ByteView w = bytes_.subspan(i, 2 * width_);
      std::size_t zeros = 0;
      bool uniform = true;
      for (const Byte b : w) {
        zeros += b == 0 ? 1 : 0;
        uniform = uniform && b == w[0];
      }
      if (zeros >= width_ || uniform) continue;  // says nothing
      chip += distance(w[width_ - 1], w[width_]);
      reversed += distance(w.front(), w.back());
      ++seams;
    }
    if (seams < 64) return std::nullopt;
    const auto n = static_cast<double>(seams);
    const double difference = static_cast<double>(std::max(chip, reversed) - std::min(chip, reversed)) / n;
    const double chance = 37.0 * std::sqrt(2.0 / n);  // standard deviation of that difference in random bytes
    if (difference < 5.5 * chance ||
        static_cast<double>(std::min(chip, reversed)) > 0.6 * static_cast<double>(std::max(chip, reversed)))
      return std::nullopt;
    return Vote{(chip < reversed ? 1 : -1) * log_odds(0.93),
                fmt::format("neighbouring bytes run on smoothly from word to word with its words {}",
                            words_stand(chip < reversed, other_))};
  }

 private:
  // Of the eight bytes that begin at a multiple of eight none is zero, or all are: no text ends in them, and
  // no number is small.
  [[nodiscard]] bool says_nothing(std::size_t at) const {
    if (at % 8 != 0 || at + 8 > bytes_.size()) return false;
    std::uint64_t eight = 0;
    std::memcpy(&eight, bytes_.data() + at, 8);
    constexpr std::uint64_t ones = 0x0101010101010101;
    const bool has_zero = ((eight - ones) & ~eight & (ones << 7U)) != 0;
    return eight == 0 || !has_zero;
  }

  // So many letters, then nothing but zeros, and one at least.
  template <class Iterator>
  static bool is_text_end(Iterator begin, Iterator end, std::size_t letters) {
    const auto text = std::find_if_not(begin, end, is_letter);
    return static_cast<std::size_t>(text - begin) >= letters && text != end &&
           std::all_of(text, end, [](Byte b) { return b == 0; });
  }

  // A single letter is the end of a text only where the word before it is text.
  [[nodiscard]] bool goes_on_from(std::size_t at) const {
    return width_ > 2 || (at >= 2 && is_letter(bytes_[at - 1]) && is_letter(bytes_[at - 2]));
  }

  // Counts for one order against the other; a majority of 3 to 1 and at least `least` of them make a vote.
  [[nodiscard]] std::optional<Vote> by_majority(std::size_t chip, std::size_t reversed, std::size_t least,
                                                double max_confident, std::string_view what) const {
    const std::size_t more = std::max(chip, reversed);
    if (more < least || more < 3 * std::min(chip, reversed)) return std::nullopt;
    const double share = static_cast<double>(more) / static_cast<double>(chip + reversed + 1);
    const double confidence = std::min(share, max_confident);
    return Vote{(chip > reversed ? 1 : -1) * log_odds(confidence),
                fmt::format("{} of {} {} make sense with its words {}", more, chip + reversed, what,
                            words_stand(chip > reversed, other_))};
  }

  ByteView bytes_;
  ByteOrder other_;
  std::size_t width_;
};

}  // namespace

OrderVerdict judge_word_order(ByteView slot_bytes, const std::optional<GameId>& game, ByteOrder other) {
  const ByteView bytes = slot_bytes.first(slot_bytes.size() / word_bytes(other) * word_bytes(other));
  if (bytes.empty() || is_uniform(bytes))
    return {Says::nothing, 0.5, "it is blank, so its byte order makes no difference"};
  const Judge judge(bytes, other);
  std::vector<Vote> votes;
  for (auto vote : {game ? judge.by_game_name(*game) : std::nullopt, judge.by_string_ends(),
                    judge.by_small_numbers(), judge.by_smoothness()})
    if (vote) votes.push_back(*std::move(vote));

  double sum = 0;
  for (const Vote& vote : votes) sum += vote.chip_log_odds;
  const double confidence = 1 / (1 + std::exp(-std::abs(sum)));
  if (confidence < 0.7)
    return {Says::nothing, 0.5,
            votes.empty() ? "the content does not show its byte order"
                          : "the content contradicts itself about its byte order"};
  OrderVerdict verdict{sum > 0 ? Says::chip : Says::reversed, confidence, {}};
  for (const Vote& vote : votes)
    if ((vote.chip_log_odds > 0) == (sum > 0))
      verdict.evidence += (verdict.evidence.empty() ? "" : "; ") + vote.sentence;
  return verdict;
}

}  // namespace bayswap
