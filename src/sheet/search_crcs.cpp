// CRCs. Differences of two versions have a CRC of their own, without start and end, and it is linear: a
// range's is the exclusive or of two prefixes, if each prefix is stepped back to the beginning of the file.
// So is, for each possible end, the value's difference; what it lacks is looked up among the prefixes.
#include <algorithm>
#include <tuple>

#include "sheet/crc_bits.hpp"
#include "sheet/search_inside.hpp"

namespace bayswap::checksums {
namespace {

/// The register of one CRC, a byte forward and a byte of zeros back.
class Register {
 public:
  explicit Register(const CrcForm& form)
      : bits_(form.bits),
        is_reflected_(form.reflected),
        mask_(form.bits == 32 ? ~0U : (1U << form.bits) - 1) {
    for (std::uint32_t i = 0; i < 256; ++i) {
      std::uint32_t value = 0;
      if (is_reflected_) {
        const std::uint32_t polynomial = turned_round(form.polynomial, bits_);
        value = i;
        for (int bit = 0; bit < 8; ++bit) value = (value & 1U) != 0 ? value >> 1 ^ polynomial : value >> 1;
        back_[value >> (bits_ - 8) & 0xff] = i;
      } else {
        value = i << (bits_ - 8);
        for (int bit = 0; bit < 8; ++bit)
          value = (value >> (bits_ - 1) & 1U) != 0 ? value << 1 ^ form.polynomial : value << 1;
        value &= mask_;
        back_[value & 0xff] = i;
      }
      table_[i] = value;
    }
  }
  [[nodiscard]] std::uint32_t of(Byte byte) const { return table_[byte]; }
  [[nodiscard]] std::uint32_t forward(std::uint32_t state) const {
    if (is_reflected_) return state >> 8 ^ table_[state & 0xff];
    return (state << 8 ^ table_[state >> (bits_ - 8) & 0xff]) & mask_;
  }
  [[nodiscard]] std::uint32_t back(std::uint32_t state) const {
    if (is_reflected_) {
      const std::uint32_t i = back_[state >> (bits_ - 8) & 0xff];
      return ((state ^ table_[i]) << 8 | i) & mask_;
    }
    const std::uint32_t i = back_[state & 0xff];
    return (state ^ table_[i]) >> 8 | i << (bits_ - 8);
  }
  [[nodiscard]] std::uint32_t mask() const { return mask_; }

 private:
  unsigned bits_;
  bool is_reflected_;
  std::uint32_t mask_;
  std::array<std::uint32_t, 256> table_{};
  std::array<std::uint32_t, 256> back_{};
};

// The forms that differ in more than start and end.
std::vector<CrcForm> bare_forms() {
  std::vector<CrcForm> forms;
  for (const auto& [name, form] : usual_crcs()) {
    CrcForm bare = form;
    bare.start = bare.end = 0;
    if (std::ranges::find(forms, bare) == forms.end()) forms.push_back(bare);
  }
  const CrcForm castagnoli{32, 0x1EDC6F41, 0, 0, true};
  forms.push_back(castagnoli);
  return forms;
}

class CrcSearch {
 public:
  CrcSearch(Finds& finds, const CrcForm& form, double forms)
      : finds_(finds),
        v_(finds.versions()),
        form_(form),
        register_(form),
        bytes_(form.bits / 8),
        forms_(forms) {
    std::tie(first_, second_) = most_different(v_);
  }

  void run() {
    const std::vector<std::uint32_t> places = fields();
    if (places.empty()) return;
    // Of three versions or more a CRC differs in each; where it does not, only usual ends are tried.
    const double enough = bytes_ == 4 && v_.count() > 2 ? 40 : 24;  // bits
    const auto is_strong = [&](std::uint32_t at) { return evidence_of(v_, at, bytes_) >= enough; };
    const double work = static_cast<double>(std::ranges::count_if(places, is_strong)) *
                        static_cast<double>(v_.size) * 2 * (bytes_ > 1 ? 2 : 1);
    const bool is_too_much = !finds_.allows(work);
    if (is_too_much)
      finds_.leave_out(
          "CRCs over ranges that end at neither a multiple of 256 nor an edge of the file or the CRC");
    prepare();
    for (const bool big : {false, true})
      for (const std::uint32_t at : places)
        if (!big || bytes_ > 1) {
          is_strong_ = is_strong(at);
          only_usual_ = !is_strong_ || is_too_much;
          field(at, big);
        }
  }

 private:
  // Every byte of a CRC changes, but one in 256.
  [[nodiscard]] std::vector<std::uint32_t> fields() const {
    const std::size_t enough = v_.count() > 2 || bytes_ == 1 ? bytes_ : bytes_ - 1;
    std::vector<std::uint32_t> out;
    std::size_t changed = 0;
    for (std::size_t i = 0; i < v_.size; ++i) {
      changed += v_.is_changed[i] ? 1 : 0;
      if (i >= bytes_) changed -= v_.is_changed[i - bytes_] ? 1 : 0;
      if (i + 1 >= bytes_ && changed >= enough) out.push_back(static_cast<std::uint32_t>(i + 1 - bytes_));
    }
    return out;
  }

  // Prefixes of the differences and of the first version itself, stepped back to the beginning.
  void prepare() {
    const std::size_t size = v_.size;
    first_prefix_ =
        stepped([&](std::size_t i) { return static_cast<Byte>(v_.bytes[first_][i] ^ v_.bytes[0][i]); });
    second_prefix_ = second_ == 0 ? std::vector<std::uint32_t>(size + 1, 0) : stepped([&](std::size_t i) {
      return static_cast<Byte>(v_.bytes[second_][i] ^ v_.bytes[0][i]);
    });
    own_prefix_ = stepped([&](std::size_t i) { return v_.bytes[0][i]; });
    ones_.resize(size + 1);
    std::uint32_t ones = register_.mask();
    for (std::size_t i = 0; i <= size; ++i, ones = register_.back(ones)) ones_[i] = ones;
    filter_.assign((std::size_t{1} << log_filter_bits) / 64, 0);
    by_prefix_.clear();
    for (std::size_t k = 0; k < v_.classes(); ++k) {
      const std::size_t end = v_.first_end(k);
      by_prefix_.emplace_back(key(first_prefix_[end], second_prefix_[end]), static_cast<std::uint32_t>(k));
      const std::uint32_t bit = index(first_prefix_[end], second_prefix_[end]);
      filter_[bit >> 6] |= std::uint64_t{1} << (bit & 63);
    }
    std::ranges::sort(by_prefix_);
    prepare_jump();
  }

  // Q(i): the exclusive or, over the bytes before i, of what each adds, stepped back to the beginning. A
  // byte's part is linear in its bits: eight numbers, each stepped back with the place.
  template <class ByteAt>
  [[nodiscard]] std::vector<std::uint32_t> stepped(const ByteAt& byte_at) const {
    std::vector<std::uint32_t> out(v_.size + 1, 0);
    std::array<std::uint32_t, 8> bit{};
    for (unsigned b = 0; b < 8; ++b) bit.at(b) = register_.back(register_.of(static_cast<Byte>(1U << b)));
    for (std::size_t i = 0; i < v_.size; ++i) {
      std::uint32_t part = 0;
      const Byte byte = byte_at(i);
      for (unsigned b = 0; b < 8; ++b) {
        if ((byte >> b & 1) != 0) part ^= bit[b];
        bit[b] = register_.back(bit[b]);
      }
      out[i + 1] = out[i] ^ part;
    }
    return out;
  }

  static constexpr unsigned log_filter_bits = 18;
  [[nodiscard]] static std::uint32_t index(std::uint32_t a, std::uint32_t b) {
    return (a * 0x9E3779B1U ^ b * 0x85EBCA6BU) >> (32 - log_filter_bits);
  }
  [[nodiscard]] static std::uint64_t key(std::uint32_t a, std::uint32_t b) {
    return std::uint64_t{a} << 32 | b;
  }
  [[nodiscard]] bool may_have(std::uint32_t a, std::uint32_t b) const {
    const std::uint32_t bit = index(a, b);
    return (filter_[bit >> 6] >> (bit & 63) & 1) != 0;
  }

  // A stored value as the register has it.
  [[nodiscard]] std::uint32_t stored(std::size_t version, std::size_t at, bool big) const {
    return static_cast<std::uint32_t>(value_at(v_.bytes[version], at, bytes_, big));
  }

  void field(std::uint32_t at, bool big) {
    const Place place{at, static_cast<std::uint32_t>(bytes_)};
    std::uint32_t a = stored(first_, at, big) ^ stored(0, at, big);
    std::uint32_t b = second_ == 0 ? 0 : stored(second_, at, big) ^ stored(0, at, big);
    if (a == 0 && b == 0) return;
    const std::uint32_t own_a = first_prefix_[place.end()] ^ first_prefix_[at];
    const std::uint32_t own_b = second_prefix_[place.end()] ^ second_prefix_[at];
    const auto ends_at = [&](std::size_t to, std::uint32_t back_a, std::uint32_t back_b) {
      if (to == 0 || (to > at && to < place.end())) return;
      const std::uint32_t lacks_a = back_a ^ first_prefix_[to];
      const std::uint32_t lacks_b = back_b ^ second_prefix_[to];
      if (may_have(lacks_a, lacks_b)) look_up(place, big, false, lacks_a, lacks_b, to);
      if (to >= place.end() && may_have(lacks_a ^ own_a, lacks_b ^ own_b))
        look_up(place, big, true, lacks_a ^ own_a, lacks_b ^ own_b, to);
    };
    if (!only_usual_ && second_ == 0) {  // half of the steps
      for (std::size_t to = 1; to <= v_.size; ++to) {
        a = register_.back(a);
        ends_at(to, a, 0);
      }
      return;
    }
    if (!only_usual_) {
      for (std::size_t to = 1; to <= v_.size; ++to) {
        a = register_.back(a);
        b = register_.back(b);
        ends_at(to, a, b);
      }
      return;
    }
    // Usual ends alone: 256 bytes at a time, and byte by byte to the edges.
    const std::array<std::size_t, 3> edges{at, place.end(), v_.size};
    for (std::size_t to = 0; to <= v_.size; to += jump_bytes) {
      ends_at(to, a, b);
      for (const std::size_t edge : edges) {
        if (edge <= to || edge >= to + jump_bytes) continue;
        std::uint32_t edge_a = a;
        std::uint32_t edge_b = b;
        for (std::size_t i = to; i < edge; ++i) {
          edge_a = register_.back(edge_a);
          edge_b = register_.back(edge_b);
        }
        ends_at(edge, edge_a, edge_b);
      }
      a = jumped(a);
      b = jumped(b);
    }
  }

  // 256 bytes of zeros back: linear, so a table for each byte of the register.
  static constexpr std::size_t jump_bytes = 256;
  void prepare_jump() {
    for (unsigned byte = 0; byte < 4; ++byte)
      for (std::uint32_t i = 0; i < 256; ++i) {
        std::uint32_t state = i << 8 * byte;
        if ((state & ~register_.mask()) != 0) state = 0;
        for (std::size_t step = 0; step < jump_bytes; ++step) state = register_.back(state);
        jump_.at(byte).at(i) = state;
      }
  }
  [[nodiscard]] std::uint32_t far_back(std::uint32_t state, std::size_t bytes) const {
    for (; bytes >= jump_bytes; bytes -= jump_bytes) state = jumped(state);
    for (; bytes > 0; --bytes) state = register_.back(state);
    return state;
  }
  [[nodiscard]] std::uint32_t jumped(std::uint32_t state) const {
    return jump_[0][state & 0xff] ^ jump_[1][state >> 8 & 0xff] ^ jump_[2][state >> 16 & 0xff] ^
           jump_[3][state >> 24];
  }

  void look_up(const Place& place, bool big, bool is_around, std::uint32_t a, std::uint32_t b,
               std::size_t to) {
    const std::uint64_t wanted = key(a, b);
    for (auto at = std::ranges::lower_bound(by_prefix_, std::pair(wanted, std::uint32_t{0}));
         at != by_prefix_.end() && at->first == wanted; ++at) {
      const std::size_t from = v_.first_end(at->second);
      if (from >= to) continue;
      constexpr std::size_t max_hits = 200'000;
      if (++hits_ > std::min(max_hits, finds_.work_left() >> 10)) return;
      if (!is_strong_ && level_of(v_, place, to) > 1) continue;
      exact(place, big, is_around, at->second, to);
    }
  }

  // The differences agree: where does the range begin, and from which start?
  void exact(const Place& place, bool big, bool is_around, std::uint32_t j, std::size_t to) {
    const std::uint32_t stored_back = far_back(stored(0, place.at, big), to);
    const std::uint32_t ones_back = ones_[to];
    std::uint32_t total = own_prefix_[to];
    if (is_around) total ^= own_prefix_[place.end()] ^ own_prefix_[place.at];
    struct Best {
      int level = 99;
      std::size_t from = 0;
      std::uint32_t start = 0;
      std::uint32_t end = 0;
    } best;
    const std::size_t last = std::min(v_.last_end(j), to - 1);
    for (std::size_t from = v_.first_end(j); from <= last; ++from) {
      if (is_around ? from > place.at : to > place.at && from < place.end()) continue;
      for (const bool ends_with_ones : {false, true})
        for (const bool starts_with_ones : {false, true}) {
          const std::uint32_t value = total ^ own_prefix_[from] ^ (starts_with_ones ? ones_[from] : 0) ^
                                      (ends_with_ones ? ones_back : 0);
          if (value != stored_back) continue;
          const int level = level_of(v_, place, from);
          if (level < best.level)
            best = {level, from, starts_with_ones ? register_.mask() : 0,
                    ends_with_ones ? register_.mask() : 0};
        }
    }
    Checksum checksum;
    checksum.form.kind = ChecksumForm::Kind::crc;
    checksum.form.crc = form_;
    checksum.form.bits = form_.bits;
    checksum.at = place.at;
    checksum.big_endian = big;
    const bool has_start = best.level == 99;
    if (has_start) {
      // No usual start: the most usual beginning, and the start that it takes.
      if (!is_strong_) return;
      int level = 99;
      for (std::size_t from = v_.first_end(j); from <= last; ++from) {
        if (is_around ? from > place.at : to > place.at && from < place.end()) continue;
        if (level_of(v_, place, from) >= level) continue;
        level = level_of(v_, place, from);
        best.from = from;
      }
      if (level == 99) return;
      std::uint32_t start = stored_back ^ total ^ own_prefix_[best.from];
      for (std::size_t i = 0; i < best.from; ++i) start = register_.forward(start);
      best.start = start;
    }
    // The form's start is written with the highest bit first.
    checksum.form.crc.start = form_.reflected ? turned_round(best.start, form_.bits) : best.start;
    checksum.form.crc.end = best.end;
    checksum.ranges = {{best.from, to}};
    Evidence evidence;
    // A CRC has any value as often as any other.
    evidence.bits = evidence_of(v_, place.at, bytes_) + (has_start ? 0 : 8.0 * static_cast<double>(bytes_));
    evidence.forms = forms_;
    evidence.places = finds_.places_like(place.at, bytes_);
    evidence.has_free_start = has_start;
    constexpr std::size_t min_range = 8;
    if (to - best.from >= min_range) finds_.add(checksum, evidence);
  }

  Finds& finds_;
  const Versions& v_;
  CrcForm form_;
  Register register_;
  std::size_t bytes_;
  double forms_;
  std::size_t first_ = 0;
  std::size_t second_ = 0;  // 0: there are two versions
  bool only_usual_ = false;
  bool is_strong_ = false;  // the versions say enough of the place for any range
  std::vector<std::uint32_t> first_prefix_;
  std::vector<std::uint32_t> second_prefix_;
  std::vector<std::uint32_t> own_prefix_;
  std::vector<std::uint32_t> ones_;  // a start of ones, stepped back from each place
  std::vector<std::uint64_t> filter_;
  std::vector<std::pair<std::uint64_t, std::uint32_t>> by_prefix_;
  std::array<std::array<std::uint32_t, 256>, 4> jump_{};
  std::size_t hits_ = 0;
};

}  // namespace

void search_crcs(Finds& finds) {
  const std::vector<CrcForm> forms = bare_forms();
  for (const CrcForm& form : forms) CrcSearch(finds, form, static_cast<double>(forms.size()) * 2).run();
}

}  // namespace bayswap::checksums
