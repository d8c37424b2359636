// Sums and exclusive ors. Both are searched by their low 16 bits, which a sum of any width has: for each
// place and each end of a range, the other end is looked up by what the two would have to differ in. Wider
// values are then tried in the places that are left.
#include <algorithm>
#include <bit>
#include <cmath>
#include <tuple>

#include "sheet/lanes.hpp"

namespace bayswap::checksums {
namespace {

class LinearSearch {
 public:
  LinearSearch(Finds& finds, std::size_t width) : finds_(finds), v_(finds.versions()), width_(width) {
    std::tie(first_, second_) = most_different(v_);
    for (std::size_t k = 0; k < v_.classes(); ++k) level_.push_back(level_of_class(k));
    for (std::size_t k = 0; k < v_.classes(); ++k)
      if (level_[k] <= 1) usual_.push_back(static_cast<std::uint32_t>(k));
  }

  void run() {
    max_hits_ = finds_.work_left() >> 10;
    std::vector<Lane> lanes{{false, 1, false, 0}};
    if (width_ == 1) lanes.push_back({true, 1, false, 0});
    for (const unsigned unit : {2U, 4U})
      for (unsigned phase = 0; width_ > 1 && phase < unit; ++phase) {
        lanes.push_back({false, unit, false, phase});
        lanes.push_back({false, unit, true, phase});
        lanes.push_back({true, unit, false, phase});
      }
    passes_ = 0;
    for (const Lane& lane : lanes) passes_ += (lane.is_xor ? 1 : 2) * (width_ > 1 ? 2 : 1);
    double strong = 0;
    for (const bool big : {false, true}) {
      const auto all_fields = fields(big);
      places_ = std::max(places_, static_cast<double>(all_fields.size()));
      strong = std::max(strong, static_cast<double>(std::ranges::count(all_fields, true, &Field::is_strong)));
    }
    constexpr double cases = 1.7;
    const double classes = static_cast<double>(v_.classes());
    const double all =
        passes_ * (strong * classes + (places_ - strong) * static_cast<double>(usual_.size())) * cases;
    const double half = static_cast<double>(finds_.work_left()) / 2;
    mode_ = Mode::all;
    if (all > half) mode_ = Mode::usual;
    const double some = passes_ * places_ * static_cast<double>(usual_.size() + 2) * cases * 2;
    if (mode_ == Mode::usual && some > half) mode_ = Mode::edges;
    if (mode_ != Mode::all)
      finds_.leave_out(
          mode_ == Mode::usual
              ? "sums over ranges of which neither end is a multiple of 256, or at an edge of the file or of "
                "the sum itself"
              : "sums over ranges of which neither end is at an edge of the file or of the sum itself");
    (void)finds_.allows(std::min(half, mode_ == Mode::all     ? all
                                       : mode_ == Mode::usual ? some
                                                              : passes_ * places_ * 8));
    for (const Lane& lane : lanes) search(lane);
  }

 private:
  enum class Mode { all, usual, edges };

  // The most usual end within a gap.
  [[nodiscard]] int level_of_class(std::size_t k) const {
    const std::size_t from = v_.first_end(k);
    const std::size_t to = v_.last_end(k);
    if (from == 0 || to == v_.size) return 0;
    const auto has_multiple = [&](std::size_t of) { return (to / of) * of >= from; };
    return has_multiple(256) ? 1 : has_multiple(16) ? 2 : has_multiple(4) ? 3 : 4;
  }

  struct Field {
    std::uint32_t at;
    bool is_strong;  // the versions say enough of it for any range
  };
  // Places whose low byte changes.
  [[nodiscard]] std::vector<Field> fields(bool big) const {
    constexpr double enough = 24;  // bits
    std::vector<Field> out;
    for (const std::uint32_t low : v_.changed) {
      if (width_ == 1) {
        out.push_back({low, evidence_of(v_, low, 1) >= enough});
        continue;
      }
      if (big && low == 0) continue;
      const std::uint32_t at = big ? low - 1 : low;
      if (at + 2 <= v_.size) out.push_back({at, evidence_of(v_, at, 2) >= enough});
    }
    return out;
  }

  [[nodiscard]] std::uint16_t narrow(std::uint64_t value) const {
    return static_cast<std::uint16_t>(width_ == 1 ? value & 0xff : value);
  }

  [[nodiscard]] std::uint16_t part(const Lane& lane, std::size_t version, std::size_t at) const {
    const unsigned shift = lane.shift(at);
    if (shift >= 16) return 0;
    const unsigned now = v_.bytes[version][at];
    const unsigned then = v_.bytes[0][at];
    return narrow(lane.is_xor ? (now ^ then) << shift : (now << shift) - (then << shift));
  }

  [[nodiscard]] std::uint16_t plus(const Lane& lane, unsigned a, unsigned b) const {
    return narrow(lane.is_xor ? a ^ b : a + b);
  }
  [[nodiscard]] std::uint16_t minus(const Lane& lane, unsigned a, unsigned b) const {
    return narrow(lane.is_xor ? a ^ b : a - b);
  }

  void search(const Lane& lane) {
    prefixes_.assign(v_.classes(), {});
    for (std::size_t k = 0; k < v_.changed.size(); ++k) {
      const std::size_t at = v_.changed[k];
      prefixes_[k + 1].a = plus(lane, prefixes_[k].a, part(lane, first_, at));
      if (second_ != 0) prefixes_[k + 1].b = plus(lane, prefixes_[k].b, part(lane, second_, at));
    }
    by_prefix_.clear();
    for (std::size_t k = 0; k < prefixes_.size(); ++k)
      by_prefix_.emplace_back(std::uint32_t{prefixes_[k].a} << 16 | prefixes_[k].b,
                              static_cast<std::uint32_t>(k));
    std::ranges::sort(by_prefix_);
    const Filter filter(prefixes_);
    totals_.assign(v_.size + 1, 0);
    for (std::size_t i = 0; i < v_.size; ++i) {
      const std::uint64_t one = std::uint64_t{v_.bytes[0][i]} << lane.shift(i);
      totals_[i + 1] = lane.is_xor ? totals_[i] ^ one : totals_[i] + one;
    }
    draw_ranges(lane);
    for (const bool big : {false, true}) {
      if (big && width_ == 1) continue;
      for (const Field& one : fields(big))
        for (const bool negative : {false, true})
          if (!negative || !lane.is_xor) field(lane, filter, one, big, negative);
    }
  }

  // Ranges of few changes have other sums than those of many: a count for each.
  static constexpr std::array<std::size_t, 4> strata{4, 16, 64, ~std::size_t{0}};
  [[nodiscard]] static std::size_t stratum_of(std::size_t changes) {
    std::size_t stratum = 0;
    while (changes > strata.at(stratum)) ++stratum;
    return stratum;
  }
  void draw_ranges(const Lane& lane) {
    std::uint64_t state = 88172645463325252U;  // the same in each run
    const auto below = [&](std::size_t limit) {
      state ^= state << 13;
      state ^= state >> 7;
      state ^= state << 17;
      return static_cast<std::size_t>(state % limit);
    };
    const std::size_t classes = v_.classes();
    // Few changes make few ranges: each of them some times over is enough.
    const std::size_t draws = std::min<std::size_t>(60'000, 1000 + 4 * classes * classes);
    for (std::size_t stratum = 0; stratum < strata.size(); ++stratum) {
      chances_[0].at(stratum).clear();
      chances_[1].at(stratum).clear();
      const std::size_t most = std::min(strata.at(stratum), classes - 1);
      for (std::size_t i = 0; i < draws; ++i) {
        const std::size_t apart = 1 + below(most);
        const std::size_t j = below(classes - apart);
        const Prefix& before = prefixes_[j];
        const Prefix& after = prefixes_[j + apart];
        chances_[0].at(stratum).count(minus(lane, after.a, before.a));
        // What came after that: two versions can have most of their changes in common.
        const std::uint16_t later =
            minus(lane, minus(lane, after.b, after.a), minus(lane, before.b, before.a));
        chances_[1].at(stratum).count(later);
      }
    }
    whole_.clear();
    for (std::size_t i = 0; i < draws; ++i) {
      const std::size_t from = below(v_.size);
      const std::size_t to = from + 1 + below(v_.size - from);
      whole_.count(narrow(lane.is_xor ? totals_[to] ^ totals_[from] : totals_[to] - totals_[from]));
    }
  }

  // How many bits the versions say about a value whose differences are these.
  [[nodiscard]] double bits_of(const Lane& lane, std::uint32_t at, Prefix wanted, std::size_t stratum) const {
    const auto most = [&](std::size_t version, bool is_first) {
      std::size_t others = width_;
      for (const std::size_t before : {std::size_t{0}, first_}) {
        if (is_first && before == first_) continue;
        std::size_t apart = 0;
        for (std::size_t i = at; i < at + width_; ++i)
          apart += v_.bytes[version][i] != v_.bytes[before][i] ? 1 : 0;
        others = std::min(others, apart);
      }
      return 8.0 * static_cast<double>(others);
    };
    double bits = std::min(chances_[0].at(stratum).bits(wanted.a), most(first_, true));
    if (second_ == 0) return bits;
    const double second =
        std::min(chances_[1].at(stratum).bits(minus(lane, wanted.b, wanted.a)), most(second_, false));
    bits += second;
    // Each further version that has a value of its own says as much again.
    const double further = evidence_of(v_, at, width_) - most(first_, true) - most(second_, false);
    return bits + std::max(0.0, std::min(further, static_cast<double>(v_.count() - 3) * second));
  }

  [[nodiscard]] Prefix own_part(const Lane& lane, std::size_t at, std::size_t bytes) const {
    Prefix own;
    for (std::size_t i = at; i < std::min(at + bytes, v_.size); ++i) {
      if (!v_.is_changed[i]) continue;
      own.a = plus(lane, own.a, part(lane, first_, i));
      if (second_ != 0) own.b = plus(lane, own.b, part(lane, second_, i));
    }
    return own;
  }

  void field(const Lane& lane, const Filter& filter, const Field& one, bool big, bool negative) {
    const std::uint32_t at = one.at;
    const auto difference = [&](std::size_t version) {
      const auto now = value_at(v_.bytes[version], at, width_, big);
      const auto then = value_at(v_.bytes[0], at, width_, big);
      const auto apart = narrow(lane.is_xor ? now ^ then : now - then);
      return negative ? narrow(0U - unsigned{apart}) : apart;
    };
    const Prefix wanted{difference(first_), second_ == 0 ? std::uint16_t{0} : difference(second_)};
    const auto before = static_cast<std::uint32_t>(v_.class_of(at));
    const auto after = static_cast<std::uint32_t>(v_.class_of(at + width_));
    const auto classes = static_cast<std::uint32_t>(v_.classes());
    Scan scan{lane, filter, at, big, negative, wanted, one.is_strong, false, finds_.places_like(at, width_),
              {}};
    for (std::size_t stratum = 0; stratum < strata.size(); ++stratum)
      scan.bits.at(stratum) = bits_of(lane, at, wanted, stratum);
    scan.is_strong = one.is_strong && scan.bits.back() >= 20;
    // Ranges beside the value; then those around it, of which its own bytes are no part.
    ends(scan, 1, classes, before, after);
    scan.is_around = true;
    scan.wanted = plus2(lane, wanted, own_part(lane, at, width_));
    around(scan, before, after, classes);
    if (width_ == 1) return;
    const std::size_t wide_at = big ? at - std::min<std::size_t>(at, 2) : at;
    const Prefix wide = own_part(lane, wide_at, 4);
    const Prefix wide_wanted = plus2(lane, wanted, wide);
    if (wide_wanted.a == scan.wanted.a && wide_wanted.b == scan.wanted.b) return;
    scan.wanted = wide_wanted;
    around(scan, before, after, classes);
  }

  struct Scan {
    const Lane& lane;
    const Filter& filter;
    std::uint32_t at = 0;
    bool big = false;
    bool negative = false;
    Prefix wanted;
    bool is_strong = false;
    bool is_around = false;
    double places = 0;
    std::array<double, strata.size()> bits{};  // that the versions say, by the range's changes
  };
  [[nodiscard]] Prefix plus2(const Lane& lane, Prefix a, Prefix b) const {
    return {plus(lane, a.a, b.a), plus(lane, a.b, b.b)};
  }

  void ends(const Scan& scan, std::uint32_t from, std::uint32_t to, std::uint32_t before,
            std::uint32_t after) {
    if (mode_ == Mode::all && scan.is_strong) {
      for (std::uint32_t k = from; k < to; ++k) end_is(scan, k);
      return;
    }
    const auto each = [&](std::uint32_t k) {
      if (k >= from && k < to) end_is(scan, k);
      begin_is(scan, k);
    };
    if (mode_ != Mode::edges && width_ > 1)
      for (const std::uint32_t k : usual_) each(k);
    for (const std::uint32_t k : {before, after}) each(k);
    if (mode_ == Mode::edges || width_ == 1)
      for (const std::uint32_t k : {std::uint32_t{0}, static_cast<std::uint32_t>(v_.classes() - 1)}) each(k);
  }
  void around(const Scan& scan, std::uint32_t before, std::uint32_t after, std::uint32_t classes) {
    ends(scan, std::max(before, after), classes, before, after);
  }

  // The range ends in class k: where can it begin?
  void end_is(const Scan& scan, std::uint32_t k) {
    const std::uint16_t a = minus(scan.lane, prefixes_[k].a, scan.wanted.a);
    const std::uint16_t b = minus(scan.lane, prefixes_[k].b, scan.wanted.b);
    if (!scan.filter.may_have(a, b)) return;
    each_with(a, b, [&](std::uint32_t j) {
      if (j < k) hit(scan, j, k);
    });
  }
  void begin_is(const Scan& scan, std::uint32_t j) {
    const std::uint16_t a = plus(scan.lane, prefixes_[j].a, scan.wanted.a);
    const std::uint16_t b = plus(scan.lane, prefixes_[j].b, scan.wanted.b);
    if (!scan.filter.may_have(a, b)) return;
    each_with(a, b, [&](std::uint32_t k) {
      if (j < k) hit(scan, j, k);
    });
  }
  template <class Visit>
  void each_with(std::uint16_t a, std::uint16_t b, const Visit& visit) {
    const std::uint32_t key = std::uint32_t{a} << 16 | b;
    for (auto at = std::ranges::lower_bound(by_prefix_, std::pair(key, std::uint32_t{0}));
         at != by_prefix_.end() && at->first == key; ++at)
      visit(at->second);
  }

  // The differences agree: now the exact ends, and the value in its whole width.
  void hit(const Scan& scan, std::uint32_t j, std::uint32_t k) {
    const Place place{scan.at, static_cast<std::uint32_t>(width_)};
    const std::size_t end = place.end();
    if (scan.is_around ? v_.first_end(j) > scan.at || v_.last_end(k) < end
                       : v_.first_end(k) > scan.at && v_.last_end(j) < end)
      return;
    const auto level = [&](std::uint32_t c) {
      const bool at_edge = (v_.first_end(c) <= place.at && place.at <= v_.last_end(c)) ||
                           (v_.first_end(c) <= end && end <= v_.last_end(c));
      return at_edge ? 0 : level_[c];
    };
    // Two versions tell too little for ranges that nothing speaks for.
    if (!scan.is_strong && level(j) + level(k) > (width_ == 1 ? 0 : 2)) return;
    // Even with a usual start and the most usual ends, would chance not give it as well?
    const double bits = scan.bits.at(stratum_of(k - j));
    const double likely = passes_ * scan.places * ends_of_level(v_, level(j)) * ends_of_level(v_, level(k)) *
                          2 / std::exp2(bits + 8.0 * static_cast<double>(width_));
    if (likely > 0.2) return;
    if (++hits_ > max_hits_) return;
    const std::uint32_t wide_at = scan.big ? scan.at - std::min(scan.at, 2U) : scan.at;
    if (width_ == 2 && (!scan.big || scan.at >= 2) && wide_at + std::size_t{4} <= v_.size &&
        exact(scan, {wide_at, 4}, j, k))
      return;
    (void)exact(scan, place, j, k);
  }

  [[nodiscard]] bool exact(const Scan& scan, const Place& place, std::uint32_t j, std::uint32_t k) {
    const Lane& lane = scan.lane;
    if (lane.unit > place.bytes || (lane.is_xor && lane.unit != place.bytes)) return false;
    const std::uint64_t mask = place.bytes == 4 ? 0xffffffffU : place.bytes == 2 ? 0xffffU : 0xffU;
    std::uint64_t own = 0;
    for (std::size_t i = place.at; scan.is_around && i < place.end(); ++i) {
      const std::uint64_t one = std::uint64_t{v_.bytes[0][i]} << lane.shift(i);
      own = lane.is_xor ? own ^ one : own + one;
    }
    const std::uint64_t value = value_at(v_.bytes[0], place.at, place.bytes, scan.big) & mask;
    if (!agrees(scan, place, j, k, mask)) return false;
    // What the sum itself has to be, for a start of nothing: plain, negated, complemented.
    const std::uint64_t sums[2] = {scan.negative ? (0 - value) & mask : value,
                                   scan.negative ? ~value & mask : value};
    gather(scan, place, j, k);
    struct Best {
      int level = 99;
      std::size_t from = 0;
      std::size_t to = 0;
      bool complemented = false;
      [[nodiscard]] std::size_t size() const { return to - from; }
    } best;
    begins_.clear();
    for (const std::size_t from : froms_) begins_.emplace_back(totals_[from] & mask, from);
    std::ranges::sort(begins_);
    for (const std::size_t to : tos_)
      for (int form = 0; form < (scan.negative ? 2 : 1); ++form) {
        const std::uint64_t before =
            (lane.is_xor ? totals_[to] ^ own ^ sums[form] : totals_[to] - own - sums[form]) & mask;
        for (auto at = std::ranges::lower_bound(begins_, std::pair(before, std::size_t{0}));
             at != begins_.end() && at->first == before; ++at) {
          const std::size_t from = at->second;
          if (!is_range(scan, place, from, to)) continue;
          const int level = level_of(v_, place, from) + level_of(v_, place, to);
          const Best found{level, from, to, form == 1};
          if (level < best.level || (level == best.level && found.size() > best.size())) best = found;
        }
      }
    Checksum checksum;
    checksum.form.kind = lane.is_xor ? ChecksumForm::Kind::exclusive_or : ChecksumForm::Kind::sum;
    checksum.form.bits = 8 * place.bytes;
    checksum.form.unit_bytes = lane.unit;
    checksum.form.unit_big_endian = lane.big_endian;
    checksum.at = place.at;
    checksum.big_endian = scan.big && place.bytes > 1;
    const bool has_start = best.level > 8;
    if (has_start) {
      // A half that never changes would fit any start.
      const std::size_t upper = scan.big ? place.at : place.at + 2;
      if (place.bytes == 4 && evidence_of(v_, upper, 2) < 8) return false;
      // No usual start: the most usual ends, and what the sum then begins with.
      if (!scan.is_strong || froms_.empty() || tos_.empty()) return false;
      best.from = froms_.front();
      best.to = tos_.front();
      if (!is_range(scan, place, best.from, best.to)) return false;
      const std::uint64_t sum = lane.is_xor ? totals_[best.to] ^ totals_[best.from] ^ own
                                            : totals_[best.to] - totals_[best.from] - own;
      checksum.form.start = (lane.is_xor ? sums[0] ^ sum : sums[0] - sum) & mask;
    }
    checksum.form.negated = scan.negative && !best.complemented;
    checksum.form.complemented = scan.negative && best.complemented;
    // Own bytes at an end, which count as nothing, are none of the range.
    if (best.from == place.at) best.from = place.end();
    if (best.to == place.end()) best.to = place.at;
    checksum.ranges = {{best.from, best.to}};
    const std::size_t count = finds_.finds.size();
    Evidence evidence;
    evidence.bits = scan.bits.at(stratum_of(k - j));
    if (!has_start) evidence.bits += whole_.bits(narrow(best.complemented ? sums[1] : sums[0]));
    // Of a wider value the other half: it is a sum of its own, or only what is carried over.
    if (place.bytes == 4) {
      const std::size_t upper = scan.big ? place.at : place.at + 2;
      const double more =
          lane.unit == 4 ? std::min(scan.bits.at(stratum_of(k - j)), evidence_of(v_, upper, 2)) : 0;
      evidence.bits += more + (has_start ? 0 : 8);
    }
    evidence.forms = passes_;
    evidence.places = finds_.places_like(place.at, place.bytes);
    evidence.has_free_start = has_start;
    finds_.add(checksum, evidence);
    return finds_.finds.size() > count;
  }

  // The differences of the whole width, in every version: before the ends are worked out.
  [[nodiscard]] bool agrees(const Scan& scan, const Place& place, std::uint32_t j, std::uint32_t k,
                            std::uint64_t mask) const {
    if (k - j > 4096 && place.bytes == 2 && v_.count() <= 3) return true;  // looked up by just that
    for (std::size_t version = 1; version < v_.count(); ++version) {
      std::uint64_t sum = 0;
      for (std::uint32_t c = j; c < k; ++c) {
        const std::size_t at = v_.changed[c];
        if (scan.is_around && at >= place.at && at < place.end()) continue;
        const unsigned shift = scan.lane.shift(at);
        const std::uint64_t now = std::uint64_t{v_.bytes[version][at]} << shift;
        const std::uint64_t then = std::uint64_t{v_.bytes[0][at]} << shift;
        sum = scan.lane.is_xor ? sum ^ now ^ then : sum + now - then;
      }
      const std::uint64_t now = value_at(v_.bytes[version], place.at, place.bytes, scan.big);
      const std::uint64_t then = value_at(v_.bytes[0], place.at, place.bytes, scan.big);
      std::uint64_t wanted = scan.lane.is_xor ? now ^ then : now - then;
      if (scan.negative) wanted = 0 - wanted;
      if (((sum ^ wanted) & mask) != 0) return false;
    }
    return true;
  }

  // Ends within the two gaps, the most usual first.
  void gather(const Scan& scan, const Place& place, std::uint32_t j, std::uint32_t k) {
    constexpr std::size_t max_ends = 4096;
    const auto collect = [&](std::uint32_t c, std::vector<std::size_t>& out, bool aligned) {
      by_level_.clear();
      for (std::size_t end = v_.first_end(c); end <= v_.last_end(c); ++end)
        if (!aligned || (end + scan.lane.unit - scan.lane.phase) % scan.lane.unit == 0)
          by_level_.emplace_back(level_of(v_, place, end), end);
      std::ranges::sort(by_level_);
      if (by_level_.size() > max_ends) by_level_.resize(max_ends);
      out.clear();
      for (const auto& [level, end] : by_level_) out.push_back(end);
    };
    collect(j, froms_, true);
    collect(k, tos_, false);
  }

  [[nodiscard]] static bool is_range(const Scan& scan, const Place& place, std::size_t from, std::size_t to) {
    constexpr std::size_t min_range = 8;
    if (to < from + min_range) return false;
    if (scan.is_around) return from <= place.at && to >= place.end();
    return to <= place.at || from >= place.end();
  }

  Finds& finds_;
  const Versions& v_;
  std::size_t width_;
  std::size_t first_ = 0;
  std::size_t second_ = 0;  // 0: there are two versions
  Mode mode_ = Mode::all;
  std::vector<int> level_;
  std::vector<std::uint32_t> usual_;
  std::vector<Prefix> prefixes_;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> by_prefix_;
  std::array<std::array<Chances, strata.size()>, 2>
      chances_;                        // of differences: the first version, the second after it
  Chances whole_;                      // of the sums themselves
  std::vector<std::uint64_t> totals_;  // of the first version, before each end
  std::vector<std::pair<int, std::size_t>> by_level_;
  std::vector<std::pair<std::uint64_t, std::size_t>> begins_;
  std::vector<std::size_t> froms_;
  std::vector<std::size_t> tos_;
  double passes_ = 0;
  double places_ = 1;
  std::size_t hits_ = 0;
  std::size_t max_hits_ = 0;  // a hit is some thousand times the work of a look-up
};

}  // namespace

void search_sums(Finds& finds) {
  LinearSearch(finds, 2).run();
  LinearSearch(finds, 1).run();
}

}  // namespace bayswap::checksums
