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

// A range with what it seals, where the two are side by side or one within the other.
SealRange hull(const Seal& seal) {
  SealRange range = seal.ranges.front();
  const std::size_t end = seal.at + size_of(seal.form);
  if (end == range.from) range.from = seal.at;
  if (seal.at == range.to) range.to = end;
  return range;
}

// Whether they cover the same changes.
bool same_hull(const Versions& versions, const Seal& a, const Seal& b) {
  const SealRange one = hull(a);
  const SealRange other = hull(b);
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
             find.seal.form.bits == other.seal.form.bits && same_hull(versions, find.seal, other.seal);
    });
    if (!is_told) kept.push_back(std::move(find));
  }
  return kept;
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
  BAYSWAP_TRY(const seals::Versions versions, seals::compared(blobs));
  seals::Finds finds(versions, options.max_work);
  seals::search_crcs(finds);
  seals::search_adler(finds);
  seals::search_digests(finds);
  seals::search_sums(finds);
  SealSearch out;
  std::vector<SealFind> best = seals::best_of(versions, std::move(finds.finds));
  seals::find_pairs(versions, best);
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
  out.copies = seals::search_copies(versions);
  out.counters = seals::search_counters(versions);
  out.changed_bytes = versions.changed.size();
  out.tried = finds.tried;
  out.left_out = std::move(finds.left_out);
  return out;
}

}  // namespace bayswap
