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
  int kinds = 1;
};

constexpr bool is_letter(Byte b) {
  return (b >= 'A' && b <= 'Z') || (b >= 'a' && b <= 'z');
}

constexpr bool is_text_byte(Byte b) {
  return is_letter(b) || (b >= '0' && b <= '9') || b == ' ' || b == '.' || b == ',' || b == '-' ||
         b == '\'' || b == ':' || b == '!' || b == '?';
}

// What a byte can be, as bits, so that those of a word can be taken together.
enum Kind : Byte { text_kind = 1, other_kind = 2 };  // a zero has neither
constexpr std::array<Byte, 256> kind_of = [] {
  std::array<Byte, 256> table{};
  for (std::size_t i = 1; i < table.size(); ++i)
    table[i] = is_text_byte(static_cast<Byte>(i)) ? text_kind : other_kind;
  return table;
}();

std::string words_stand(bool chip, ByteOrder other) {
  return chip ? "as the chip holds them" : fmt::format("with {}", in_words(other));
}

double log_odds(double confidence) {
  return std::log(confidence / (1 - confidence));
}

// One slot's bytes, asked in several ways whether their words, of `width_` bytes, are as the chip holds them
// or reversed.
template <std::size_t width_>
class Judge {
 public:
  Judge(ByteView bytes, ByteOrder other) : bytes_(bytes), other_(other), texts_(bytes.size() / width_) {
    for (std::size_t word = 0; word < texts_.size(); ++word) {
      Byte all = 0;
      for (std::size_t i = 0; i < width_; ++i) all |= kind_of[bytes_[word * width_ + i]];
      texts_[word] = all == text_kind ? 1 : 0;
    }
  }

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

  // A text is in one piece in its true order; turned round, its beginning and its end are torn off it
  // wherever they are not at a word's edge. And capitals begin words.
  [[nodiscard]] std::optional<Vote> by_texts() const {
    std::size_t chip = 0;
    std::size_t reversed = 0;
    for (auto from = texts_.begin();;) {
      from = std::find(from, texts_.end(), 1);
      if (from == texts_.end()) break;
      const auto to = std::find(from, texts_.end(), 0);
      const std::size_t i = static_cast<std::size_t>(from - texts_.begin()) * width_;
      const std::size_t end = static_cast<std::size_t>(to - texts_.begin()) * width_;
      from = to;
      if (end - i >= 2 * width_) {
        const Shape as_is = shape(i, end, false);
        const Shape turned = shape(i, end, true);
        const std::size_t here = as_is.pieces + as_is.odd_capitals;
        const std::size_t there = turned.pieces + turned.odd_capitals;
        // A few characters beside a zero are in any noise.
        constexpr std::size_t least_run = 5;
        chip += here < there && as_is.longest >= least_run ? 1 : 0;
        reversed += there < here && turned.longest >= least_run ? 1 : 0;
      }
    }
    return by_majority(chip, reversed, width_ == 2 ? 6 : 3, 0.97, "texts");
  }

  // A short text alone in a word begins where the word does, more often than not, and ends in a zero byte.
  [[nodiscard]] std::optional<Vote> by_short_texts() const {
    if (width_ == 2) return std::nullopt;
    std::size_t chip = 0;
    std::size_t reversed = 0;
    for (auto found = std::find(texts_.begin(), texts_.end(), 1); found != texts_.end();
         found = std::find(found + 1, texts_.end(), 1)) {
      const std::size_t i = static_cast<std::size_t>(found - texts_.begin()) * width_;
      if ((i >= width_ && has_text(i - width_)) || has_text(i + width_)) continue;
      const ByteView word = bytes_.subspan(i, width_);
      if (word.back() == 0 && is_text_end(word.begin(), word.end(), 3)) ++chip;
      if (word.front() == 0 && is_text_end(word.rbegin(), word.rend(), 3)) ++reversed;
    }
    return by_majority(chip, reversed, 3, 0.9, "short texts that end in a zero byte");
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
      const Byte* const w = bytes_.data() + i;
      const bool pair_chip = w[0] == 0 && w[2] == 0 && w[1] != 0 && w[3] != 0;
      const bool pair_reversed = w[1] == 0 && w[3] == 0 && w[0] != 0 && w[2] != 0;
      const bool long_chip = width_ == 4 && w[0] == 0 && w[1] == 0 && w[3] != 0;
      const bool long_reversed = width_ == 4 && w[3] == 0 && w[2] == 0 && w[0] != 0;
      if (!pair_chip && !pair_reversed && !long_chip && !long_reversed) continue;
      if (float_head(w[0]) || float_head(w[3])) continue;
      if (is_of_text(i) || (i >= 4 && is_dense(i - 4)) || is_dense(i + 4)) continue;
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
      const Byte* const w = bytes_.data() + i;
      std::size_t zeros = 0;
      bool uniform = true;
      for (std::size_t k = 0; k < 2 * width_; ++k) {
        zeros += w[k] == 0 ? 1 : 0;
        uniform = uniform && w[k] == w[0];
      }
      if (zeros >= width_ || uniform) continue;  // says nothing
      chip += distance(w[width_ - 1], w[width_]);
      reversed += distance(w[0], w[2 * width_ - 1]);
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

  // Nothing but characters of a text and zeros, and one character at least. `at` may be beyond the end.
  [[nodiscard]] bool has_text(std::size_t at) const {
    return at / width_ < texts_.size() && texts_[at / width_] != 0;
  }
  // A word that a text begins or ends in, in either order, is no number.
  [[nodiscard]] bool is_of_text(std::size_t at) const {
    if (!has_text(at)) return false;
    const auto goes_on = [&](std::size_t word, std::size_t next) {
      return has_text(word) && has_text(next) &&
             ((bytes_[word + width_ - 1] != 0 && bytes_[next] != 0) ||
              (bytes_[word] != 0 && bytes_[next + width_ - 1] != 0));
    };
    return (at >= width_ && goes_on(at - width_, at)) || goes_on(at, at + width_);
  }

  // Beside a word without zeros, what is half zeros may be the torn end of something longer.
  [[nodiscard]] bool is_dense(std::size_t at) const {
    return at + 4 <= bytes_.size() &&
           std::find(bytes_.begin() + static_cast<std::ptrdiff_t>(at),
                     bytes_.begin() + static_cast<std::ptrdiff_t>(at + 4),
                     Byte{0}) == bytes_.begin() + static_cast<std::ptrdiff_t>(at + 4);
  }

  struct Shape {
    std::size_t pieces = 0;        // runs of characters
    std::size_t odd_capitals = 0;  // right after a small letter
    std::size_t longest = 0;       // of the runs
  };
  [[nodiscard]] Shape shape(std::size_t from, std::size_t to, bool turned) const {
    Shape found;
    Byte before = 0;
    std::size_t run = 0;
    for (std::size_t i = from; i < to; ++i) {
      const std::size_t in_word = i % width_;
      const Byte b = turned ? bytes_[i - in_word + turned_index(in_word)] : bytes_[i];
      found.pieces += b != 0 && before == 0 ? 1 : 0;
      found.odd_capitals += b >= 'A' && b <= 'Z' && before >= 'a' && before <= 'z' ? 1 : 0;
      run = b != 0 ? run + 1 : 0;
      found.longest = std::max(found.longest, run);
      before = b;
    }
    return found;
  }
  static std::size_t turned_index(std::size_t in_word) { return width_ - 1 - in_word; }

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
  std::vector<Byte> texts_;  // of each word, whether has_text()
};

template <std::size_t width>
OrderVerdict judged(ByteView bytes, const std::optional<GameId>& game, ByteOrder other) {
  const Judge<width> judge(bytes, other);
  std::vector<Vote> votes;
  const auto add = [&](std::optional<Vote> vote, int kinds) {
    if (!vote) return;
    vote->kinds = kinds;
    votes.push_back(*std::move(vote));
  };
  if (game) add(judge.by_game_name(*game), 2);
  auto texts = judge.by_texts();
  const bool has_texts = texts.has_value();
  add(std::move(texts), 1);
  // Of the same kind: they count where no longer text does.
  if (!has_texts) add(judge.by_short_texts(), 1);
  add(judge.by_small_numbers(), 1);
  add(judge.by_smoothness(), 1);

  double sum = 0;
  for (const Vote& vote : votes) sum += vote.chip_log_odds;
  const double confidence = 1 / (1 + std::exp(-std::abs(sum)));
  if (confidence < 0.7)
    return {Says::nothing, 0.5,
            votes.empty() ? "the content does not show its byte order"
                          : "the content contradicts itself about its byte order"};
  OrderVerdict verdict{sum > 0 ? Says::chip : Says::reversed, confidence, {}};
  for (const Vote& vote : votes) {
    if ((vote.chip_log_odds > 0) != (sum > 0)) continue;
    verdict.evidence += (verdict.evidence.empty() ? "" : "; ") + vote.sentence;
    verdict.kinds += vote.kinds;
  }
  return verdict;
}

}  // namespace

OrderVerdict judge_word_order(ByteView slot_bytes, const std::optional<GameId>& game, ByteOrder other) {
  const std::size_t width = word_bytes(other);
  const ByteView bytes = slot_bytes.first(slot_bytes.size() / width * width);
  if (bytes.empty() || is_uniform(bytes))
    return {Says::nothing, 0.5, "it is blank, so its byte order makes no difference"};
  if (width == 2) return judged<2>(bytes, game, other);
  return width == 4 ? judged<4>(bytes, game, other) : judged<8>(bytes, game, other);
}

}  // namespace bayswap
