#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/try.hpp"
#include "sheet/search_inside.hpp"

namespace bayswap {
namespace seals {

std::size_t Versions::class_of(std::size_t end) const {
  return static_cast<std::size_t>(std::ranges::lower_bound(changed, end) - changed.begin());
}

std::pair<std::size_t, std::size_t> most_different(const Versions& versions) {
  std::vector<std::pair<std::size_t, std::size_t>> by_changes;
  for (std::size_t v = 1; v < versions.count(); ++v) {
    const auto count =
        std::ranges::count_if(versions.changed_in, [&](std::uint16_t in) { return (in >> v & 1) != 0; });
    by_changes.emplace_back(static_cast<std::size_t>(count), v);
  }
  std::ranges::sort(by_changes, std::greater<>{});
  return {by_changes[0].second, by_changes.size() > 1 ? by_changes[1].second : 0};
}

std::uint64_t value_at(ByteView bytes, std::size_t at, std::size_t count, bool big_endian) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < count; ++i)
    value |= std::uint64_t{bytes[at + i]} << 8 * (big_endian ? count - 1 - i : i);
  return value;
}

int level_of(const Versions& versions, const Place& place, std::size_t end) {
  if (end == 0 || end == versions.size || end == place.at || end == place.end()) return 0;
  if (end % 256 == 0) return 1;
  if (end % 16 == 0) return 2;
  return end % 4 == 0 ? 3 : 4;
}

double ends_of_level(const Versions& versions, int level) {
  const auto size = static_cast<double>(versions.size);
  switch (level) {
    case 0:
      return 4;
    case 1:
      return 4 + size / 256;
    case 2:
      return 4 + size / 16;
    case 3:
      return 4 + size / 4;
    default:
      return size + 1;
  }
}

double evidence_of(const Versions& versions, std::size_t at, std::size_t bytes) {
  double bits = 0;
  for (std::size_t v = 1; v < versions.count(); ++v) {
    std::size_t least = bytes;
    for (std::size_t u = 0; u < v; ++u) {
      std::size_t others = 0;
      for (std::size_t i = at; i < at + bytes; ++i)
        others += versions.bytes[v][i] != versions.bytes[u][i] ? 1 : 0;
      least = std::min(least, others);
    }
    bits += 8.0 * static_cast<double>(least);
  }
  return bits;
}

bool Finds::allows(double work) {
  tried += work;
  if (work > static_cast<double>(work_left_)) {
    tried -= work;
    return false;
  }
  work_left_ -= static_cast<std::size_t>(work);
  return true;
}

void Finds::leave_out(std::string what) {
  if (std::ranges::find(left_out, what) == left_out.end()) left_out.push_back(std::move(what));
}

double Finds::places_like(std::size_t at, std::size_t bytes) {
  std::vector<std::size_t>& counts = places_[bytes];
  const std::size_t most = 8 * bytes * versions_.count();
  if (counts.empty()) {
    counts.assign(most + 1, 0);
    for (std::size_t i = 0; i + bytes <= versions_.size; ++i) {
      bool changes = false;
      for (std::size_t b = i; b < i + bytes; ++b) changes = changes || versions_.is_changed[b];
      if (changes) ++counts[static_cast<std::size_t>(evidence_of(versions_, i, bytes))];
    }
    for (std::size_t bits = most; bits-- > 0;) counts[bits] += counts[bits + 1];
  }
  return static_cast<double>(counts[static_cast<std::size_t>(evidence_of(versions_, at, bytes))]);
}

void Finds::add(const Seal& seal, const Evidence& evidence) {
  const SealRange range = seal.ranges.front();
  const Place place{static_cast<std::uint32_t>(seal.at), static_cast<std::uint32_t>(size_of(seal.form))};
  const double ranges = ends_of_level(versions_, level_of(versions_, place, range.from)) *
                        ends_of_level(versions_, level_of(versions_, place, range.to));
  SealFind find;
  find.seal = seal;
  find.expected_false = evidence.forms * evidence.places * ranges * 2 / std::exp2(evidence.bits);
  // Games start at nothing, or at ones; and lists that move by a place make sums that only seem to fit.
  constexpr double odd_start = 1024;
  if (evidence.has_free_start) find.expected_false *= odd_start;
  // What chance gives by the dozen is not worth a second look.
  constexpr double hopeless = 30;
  if (find.expected_false > hopeless) return;
  for (const ByteView version : versions_.bytes) {
    const auto right = holds(seal, version);
    if (!right || !*right) return;
  }
  find.confidence = 1 / (1 + find.expected_false);
  find.has_free_start = evidence.has_free_start;
  finds.push_back(std::move(find));
}

namespace {

Result<Versions> compared(std::span<const Blob> blobs) {
  constexpr std::size_t max_versions = 16;
  constexpr std::size_t max_size = std::size_t{16} << 20;
  if (blobs.size() < 2 || blobs.size() > max_versions)
    return fail(ErrorCode::bad_usage, fmt::format("{} versions were given", blobs.size()),
                "give 2 to 16 versions of one save");
  Versions versions;
  versions.size = blobs[0].size();
  for (const Blob& blob : blobs) {
    if (blob.size() != versions.size || blob.size() > max_size || blob.empty())
      return fail(ErrorCode::bad_usage,
                  fmt::format("versions of {} and {} bytes can't be compared", versions.size, blob.size()),
                  "give versions of one save, of one size, up to 16 MiB");
    versions.bytes.push_back(blob.view());
  }
  versions.is_changed.resize(versions.size);
  for (std::size_t i = 0; i < versions.size; ++i) {
    unsigned in = 0;
    for (std::size_t v = 1; v < versions.count(); ++v)
      in |= versions.bytes[v][i] != versions.bytes[0][i] ? 1U << v : 0;
    if (in == 0) continue;
    versions.is_changed[i] = true;
    versions.changed.push_back(static_cast<std::uint32_t>(i));
    versions.changed_in.push_back(static_cast<std::uint16_t>(in));
  }
  if (versions.changed.empty())
    return fail(ErrorCode::bad_usage, "the versions are the same",
                "save in the game, and read the save again, between them");
  return versions;
}

bool overlap(const Seal& a, const Seal& b) {
  return a.at < b.at + size_of(b.form) && b.at < a.at + size_of(a.form);
}

std::size_t covered(const Seal& seal) {
  return seal.ranges.front().to - seal.ranges.front().from;
}

constexpr double likely = 0.99;

// A range with what it seals, where nothing that changes is between the two, or one is within the other.
SealRange hull(const Versions& versions, const Seal& seal) {
  SealRange range = seal.ranges.front();
  const std::size_t end = seal.at + size_of(seal.form);
  if (end <= range.from && versions.class_of(end) == versions.class_of(range.from)) range.from = seal.at;
  if (seal.at >= range.to && versions.class_of(seal.at) == versions.class_of(range.to)) range.to = end;
  return range;
}

// Whether they cover the same changes.
bool same_hull(const Versions& versions, const Seal& a, const Seal& b) {
  const SealRange one = hull(versions, a);
  const SealRange other = hull(versions, b);
  return versions.class_of(one.from) == versions.class_of(other.from) &&
         versions.class_of(one.to) == versions.class_of(other.to);
}

// Where a sum of words comes to nothing with its own value, each of these words is the negative of all
// others.
bool is_symmetric(const SealForm& form) {
  if (8 * form.unit_bytes != form.bits) return false;
  return form.kind == SealForm::Kind::exclusive_or || (form.kind == SealForm::Kind::sum && form.negated);
}

// Of several explanations of one place the likeliest stays: a usual start before one that was made to fit,
// the wider value, the plainer form; then what chance would give least often. Of words that explain each
// other it is the one at an edge, or else the one that the versions say most of.
std::vector<SealFind> best_of(const Versions& versions, std::vector<SealFind> finds) {
  const auto rank = [&](const SealFind& find) {
    const SealRange range = find.seal.ranges.front();
    const bool is_within = range.from <= find.seal.at && find.seal.at < range.to;
    return std::tuple(find.confidence < likely, find.has_free_start,
                      -static_cast<int>(size_of(find.seal.form)),
                      find.seal.form.negated || find.seal.form.complemented, is_within,
                      -evidence_of(versions, find.seal.at, size_of(find.seal.form)), find.expected_false,
                      -static_cast<double>(covered(find.seal)));
  };
  std::ranges::stable_sort(finds, [&](const SealFind& a, const SealFind& b) { return rank(a) < rank(b); });
  std::vector<SealFind> kept;
  for (SealFind& find : finds) {
    const bool is_told = std::ranges::any_of(kept, [&](const SealFind& other) {
      if (overlap(find.seal, other.seal)) return true;
      return is_symmetric(find.seal.form) && is_symmetric(other.seal.form) &&
             same_hull(versions, find.seal, other.seal) &&
             (find.seal.form.bits == other.seal.form.bits ||
              // Words that come to nothing do so in each of their bytes.
              (find.seal.form.kind == SealForm::Kind::exclusive_or &&
               other.seal.form.kind == SealForm::Kind::exclusive_or &&
               find.seal.form.bits < other.seal.form.bits));
    });
    if (!is_told) kept.push_back(std::move(find));
  }
  return kept;
}

// What changes of a range without the seal's own bytes: from the first to the last.
std::optional<SealRange> changes_in(const Versions& versions, const Seal& seal) {
  std::optional<SealRange> window;
  const std::size_t own_end = seal.at + size_of(seal.form);
  for (const SealRange& range : seal.ranges) {
    auto at = std::ranges::lower_bound(versions.changed, range.from);
    for (; at != versions.changed.end() && *at < range.to; ++at) {
      if (*at >= seal.at && *at < own_end) continue;
      if (!window) window = SealRange{*at, 0};
      window->from = std::min<std::size_t>(window->from, *at);
      window->to = std::max<std::size_t>(window->to, *at + std::size_t{1});
    }
  }
  return window;
}

// Over no more than another value of its size: the two say each other, whatever the save holds.
bool is_trivial(const Versions& versions, const Seal& seal) {
  const auto window = changes_in(versions, seal);
  return !window || window->to - window->from <= size_of(seal.form);
}

// A value's complement, negative or copy right beside it, as a seal of that value.
std::optional<Seal> twin_beside(const Versions& versions, const Seal& seal, bool before) {
  const std::size_t size = size_of(seal.form);
  if (size > 4 || seal.form.kind == SealForm::Kind::md5 || (before && seal.at < size)) return std::nullopt;
  Seal twin;
  twin.form.kind = SealForm::Kind::sum;
  twin.form.bits = static_cast<unsigned>(8 * size);
  twin.form.unit_bytes = static_cast<unsigned>(size);
  twin.form.unit_big_endian = seal.big_endian;
  twin.ranges = {{seal.at, seal.at + size}};
  twin.at = before ? seal.at - size : seal.at + size;
  twin.big_endian = seal.big_endian;
  if (twin.at + size > versions.size) return std::nullopt;
  const auto changes = [&](std::size_t i) { return versions.is_changed[i]; };
  bool any = false;
  for (std::size_t i = twin.at; i < twin.at + size; ++i) any = any || changes(i);
  if (!any) return std::nullopt;
  for (const auto& [complemented, negated] : {std::pair(true, false), {false, true}, {false, false}}) {
    twin.form.complemented = complemented;
    twin.form.negated = negated;
    if (std::ranges::all_of(versions.bytes,
                            [&](ByteView version) { return holds(twin, version).value_or(false); }))
      return twin;
  }
  return std::nullopt;
}

// A wide value whose upper half is nothing in every version may be a narrow one: with its twin beside it, or
// where a copy ends, it is.
void narrow(const Versions& versions, const std::vector<CopyFind>& copies, SealFind& find) {
  if (find.seal.form.bits != 32 || find.seal.form.kind != SealForm::Kind::sum ||
      find.seal.form.unit_bytes > 2)
    return;
  Seal half = find.seal;
  half.form.bits = 16;
  half.form.start &= 0xffff;
  if (half.big_endian) half.at += 2;
  const bool fits = std::ranges::all_of(
      versions.bytes, [&](ByteView version) { return holds(half, version).value_or(false); });
  const auto is_cut = [&](std::size_t border) { return find.seal.at < border && border < find.seal.at + 4; };
  const bool crosses = std::ranges::any_of(copies, [&](const CopyFind& copy) {
    return is_cut(copy.first) || is_cut(copy.first + copy.size_bytes);
  });
  if (fits && (crosses || twin_beside(versions, half, false) || twin_beside(versions, half, true)))
    find.seal = std::move(half);
}

// A range in which nothing changes but values that are seals themselves says nothing of the save.
void drop_echoes(const Versions& versions, std::vector<SealFind>& finds) {
  constexpr std::size_t few = 8;
  std::erase_if(finds, [&](const SealFind& find) {
    if (find.pairs_with) return false;
    const auto window = changes_in(versions, find.seal);
    if (!window || window->to - window->from > few) return false;
    for (std::size_t at = window->from; at < window->to; ++at) {
      const bool is_told = !versions.is_changed[at] || std::ranges::any_of(finds, [&](const SealFind& other) {
        return &other != &find && other.confidence >= likely && other.seal.at <= at &&
               at < other.seal.at + size_of(other.seal.form);
      });
      if (!is_told) return false;
    }
    return true;
  });
}

// What stands beside a certain value and always goes with it is a seal as certain, whatever else fits it.
void add_twins(const Versions& versions, const std::vector<CopyFind>& copies, std::vector<SealFind>& finds) {
  std::vector<SealFind> twins;
  for (SealFind& find : finds)
    if (find.confidence >= likely) narrow(versions, copies, find);
  for (const SealFind& find : finds) {
    if (find.confidence < likely || find.pairs_with) continue;
    for (const bool before : {false, true})
      if (auto twin = twin_beside(versions, find.seal, before)) {
        const bool is_told = std::ranges::any_of(finds, [&](const SealFind& other) {
          return other.confidence >= likely && !other.pairs_with && overlap(other.seal, *twin) &&
                 size_of(other.seal.form) == size_of(twin->form) && !other.seal.form.complemented &&
                 !other.seal.form.negated;
        });
        if (is_told) continue;
        SealFind made = find;
        made.seal = *std::move(twin);
        made.pairs_with = true;
        twins.push_back(std::move(made));
      }
  }
  for (SealFind& twin : twins) {
    std::erase_if(finds, [&](const SealFind& other) { return overlap(other.seal, twin.seal); });
    finds.push_back(std::move(twin));
  }
  drop_echoes(versions, finds);
}

// Versions in which the copies of something never change: its seals are then found once, and what both hold
// cancels nothing out.
std::vector<Blob> without_copies(std::span<const Blob> blobs, const std::vector<CopyFind>& copies) {
  std::vector<Blob> still;
  for (const Blob& blob : blobs) {
    Buffer bytes(blob.size());
    std::ranges::copy(blob.view(), bytes.bytes().begin());
    for (const CopyFind& copy : copies)
      std::ranges::copy(blobs[0].view().subspan(copy.second, copy.size_bytes),
                        bytes.bytes().begin() + static_cast<std::ptrdiff_t>(copy.second));
    still.push_back(std::move(bytes).freeze());
  }
  return still;
}

// A seal in something that has copies is over that alone, where that is as right: what is over a copy as well
// holds only while the two are the same.
void keep_within_copy(const Versions& versions, const std::vector<CopyFind>& copies, Seal& seal) {
  for (const CopyFind& copy : copies) {
    const std::size_t end = copy.first + copy.size_bytes;
    if (seal.at < copy.first || seal.at + size_of(seal.form) > end) continue;
    Seal own = seal;
    for (SealRange& range : own.ranges) range = {std::max(range.from, copy.first), std::min(range.to, end)};
    if (std::ranges::any_of(own.ranges, [](const SealRange& range) { return range.from >= range.to; }))
      continue;
    if (std::ranges::all_of(versions.bytes,
                            [&](ByteView version) { return holds(own, version).value_or(false); }))
      seal = std::move(own);
  }
}

// The seals of what has copies, once more for each copy.
void add_copies(const Versions& versions, const std::vector<CopyFind>& copies, std::vector<SealFind>& finds) {
  for (const CopyFind& copy : copies)
    for (std::size_t i = 0; i < finds.size(); ++i) {
      SealFind made = finds[i];
      const auto is_in = [&](std::size_t from, std::size_t to) {
        return from >= copy.first && to <= copy.first + copy.size_bytes;
      };
      if (!is_in(made.seal.at, made.seal.at + size_of(made.seal.form)) ||
          !std::ranges::all_of(made.seal.ranges,
                               [&](const SealRange& range) { return is_in(range.from, range.to); }))
        continue;
      const std::size_t distance = copy.second - copy.first;
      made.seal.at += distance;
      for (SealRange& range : made.seal.ranges) range = {range.from + distance, range.to + distance};
      made.in_copy = true;
      if (std::ranges::all_of(versions.bytes,
                              [&](ByteView version) { return holds(made.seal, version).value_or(false); }))
        finds.push_back(std::move(made));
    }
}

// A value that is only the complement, or the negative, of another one beside it.
void find_pairs(const Versions& versions, std::vector<SealFind>& finds) {
  for (SealFind& find : finds) {
    const std::size_t size = size_of(find.seal.form);
    if (size > 4 || find.seal.form.kind == SealForm::Kind::md5) continue;
    if (!find.seal.form.negated && !find.seal.form.complemented && find.confidence >= likely) continue;
    for (const SealFind& other : finds) {
      if (&other == &find || size_of(other.seal.form) != size || other.pairs_with) continue;
      for (const bool complemented : {true, false}) {
        Seal pair;
        pair.form.kind = SealForm::Kind::sum;
        pair.form.bits = static_cast<unsigned>(8 * size);
        pair.form.unit_bytes = static_cast<unsigned>(size);
        pair.form.unit_big_endian = other.seal.big_endian;
        pair.form.complemented = complemented;
        pair.form.negated = !complemented;
        pair.ranges = {{other.seal.at, other.seal.at + size}};
        pair.at = find.seal.at;
        pair.big_endian = other.seal.big_endian;
        const bool fits = std::ranges::all_of(versions.bytes, [&](ByteView version) {
          const auto right = holds(pair, version);
          return right && *right;
        });
        if (!fits) continue;
        find.seal = pair;
        find.pairs_with = true;
        break;
      }
      if (find.pairs_with) break;
    }
  }
}

}  // namespace
}  // namespace seals

Result<SealSearch> find_seals(std::span<const Blob> blobs, const SealSearchOptions& options) {
  BAYSWAP_TRY(const seals::Versions whole, seals::compared(blobs));
  std::vector<CopyFind> copies = seals::search_copies(whole);
  const std::vector<Blob> still = seals::without_copies(blobs, copies);
  BAYSWAP_TRY(const seals::Versions versions, seals::compared(still));
  seals::Finds finds(versions, options.max_work);
  seals::search_crcs(finds);
  seals::search_adler(finds);
  seals::search_digests(finds);
  seals::search_sums(finds);
  SealSearch out;
  std::erase_if(finds.finds, [&](const SealFind& find) {
    if (seals::is_trivial(versions, find.seal)) return true;
    // What reaches into a copy has to hold of the copy as it is.
    return !std::ranges::all_of(whole.bytes,
                                [&](ByteView version) { return holds(find.seal, version).value_or(false); });
  });
  for (SealFind& find : finds.finds) seals::keep_within_copy(whole, copies, find.seal);
  std::vector<SealFind> best = seals::best_of(versions, std::move(finds.finds));
  seals::add_twins(versions, copies, best);
  seals::find_pairs(versions, best);
  seals::add_copies(whole, copies, best);
  constexpr std::size_t max_doubtful = 20;
  for (SealFind& find : best) {
    if (find.confidence >= seals::likely)
      out.seals.push_back(std::move(find));
    else
      out.doubtful.push_back(std::move(find));
  }
  std::ranges::sort(out.seals, {}, [](const SealFind& find) { return find.seal.at; });
  std::ranges::sort(out.doubtful, {}, &SealFind::expected_false);
  if (out.doubtful.size() > max_doubtful) out.doubtful.resize(max_doubtful);
  out.copies = std::move(copies);
  out.counters = seals::search_counters(versions);
  out.changed_bytes = whole.changed.size();
  out.tried = finds.tried;
  out.left_out = std::move(finds.left_out);
  return out;
}

}  // namespace bayswap
