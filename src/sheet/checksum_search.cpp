#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/try.hpp"
#include "sheet/search_inside.hpp"

namespace bayswap {
namespace checksums {

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

void Finds::add(const Checksum& checksum, const Evidence& evidence) {
  const ChecksumRange range = checksum.ranges.front();
  const Place place{static_cast<std::uint32_t>(checksum.at),
                    static_cast<std::uint32_t>(size_of(checksum.form))};
  const double ranges = ends_of_level(versions_, level_of(versions_, place, range.from)) *
                        ends_of_level(versions_, level_of(versions_, place, range.to));
  ChecksumFind find;
  find.checksum = checksum;
  find.expected_false = evidence.forms * evidence.places * ranges * 2 / std::exp2(evidence.bits);
  // Games start at nothing, or at ones; and lists that move by a place make sums that only seem to fit.
  constexpr double odd_start = 1024;
  if (evidence.has_free_start) find.expected_false *= odd_start;
  // What chance gives by the dozen is not worth a second look.
  constexpr double hopeless = 30;
  if (find.expected_false > hopeless) return;
  for (const ByteView version : versions_.bytes) {
    const auto right = holds(checksum, version);
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

bool overlap(const Checksum& a, const Checksum& b) {
  return a.at < b.at + size_of(b.form) && b.at < a.at + size_of(a.form);
}

std::size_t covered(const Checksum& checksum) {
  return checksum.ranges.front().to - checksum.ranges.front().from;
}

constexpr double likely = 0.99;

// A range with what it checksums, where nothing that changes is between the two, or one is within the other.
ChecksumRange hull(const Versions& versions, const Checksum& checksum) {
  ChecksumRange range = checksum.ranges.front();
  const std::size_t end = checksum.at + size_of(checksum.form);
  if (end <= range.from && versions.class_of(end) == versions.class_of(range.from)) range.from = checksum.at;
  if (checksum.at >= range.to && versions.class_of(checksum.at) == versions.class_of(range.to))
    range.to = end;
  return range;
}

// Whether they cover the same changes.
bool same_hull(const Versions& versions, const Checksum& a, const Checksum& b) {
  const ChecksumRange one = hull(versions, a);
  const ChecksumRange other = hull(versions, b);
  return versions.class_of(one.from) == versions.class_of(other.from) &&
         versions.class_of(one.to) == versions.class_of(other.to);
}

// Where a sum of words comes to nothing with its own value, each of these words is the negative of all
// others.
bool is_symmetric(const ChecksumForm& form) {
  if (8 * form.unit_bytes != form.bits) return false;
  return form.kind == ChecksumForm::Kind::exclusive_or ||
         (form.kind == ChecksumForm::Kind::sum && form.negated);
}

// Of several explanations of one place the likeliest stays: a usual start before one that was made to fit,
// the wider value, the plainer form; then what chance would give least often. Of words that explain each
// other it is the one at an edge, or else the one that the versions say most of.
std::vector<ChecksumFind> best_of(const Versions& versions, std::vector<ChecksumFind> finds) {
  const auto rank = [&](const ChecksumFind& find) {
    const ChecksumRange range = find.checksum.ranges.front();
    const bool is_within = range.from <= find.checksum.at && find.checksum.at < range.to;
    return std::tuple(find.confidence < likely, find.has_free_start,
                      -static_cast<int>(size_of(find.checksum.form)),
                      find.checksum.form.negated || find.checksum.form.complemented, is_within,
                      -evidence_of(versions, find.checksum.at, size_of(find.checksum.form)),
                      find.expected_false, -static_cast<double>(covered(find.checksum)));
  };
  std::ranges::stable_sort(finds,
                           [&](const ChecksumFind& a, const ChecksumFind& b) { return rank(a) < rank(b); });
  std::vector<ChecksumFind> kept;
  for (ChecksumFind& find : finds) {
    const bool is_told = std::ranges::any_of(kept, [&](const ChecksumFind& other) {
      if (overlap(find.checksum, other.checksum)) return true;
      return is_symmetric(find.checksum.form) && is_symmetric(other.checksum.form) &&
             same_hull(versions, find.checksum, other.checksum) &&
             (find.checksum.form.bits == other.checksum.form.bits ||
              // Words that come to nothing do so in each of their bytes.
              (find.checksum.form.kind == ChecksumForm::Kind::exclusive_or &&
               other.checksum.form.kind == ChecksumForm::Kind::exclusive_or &&
               find.checksum.form.bits < other.checksum.form.bits));
    });
    if (!is_told) kept.push_back(std::move(find));
  }
  return kept;
}

// What changes of a range without the checksum's own bytes: from the first to the last.
std::optional<ChecksumRange> changes_in(const Versions& versions, const Checksum& checksum) {
  std::optional<ChecksumRange> window;
  const std::size_t own_end = checksum.at + size_of(checksum.form);
  for (const ChecksumRange& range : checksum.ranges) {
    auto at = std::ranges::lower_bound(versions.changed, range.from);
    for (; at != versions.changed.end() && *at < range.to; ++at) {
      if (*at >= checksum.at && *at < own_end) continue;
      if (!window) window = ChecksumRange{*at, 0};
      window->from = std::min<std::size_t>(window->from, *at);
      window->to = std::max<std::size_t>(window->to, *at + std::size_t{1});
    }
  }
  return window;
}

// Over no more than another value of its size: the two say each other, whatever the save holds.
bool is_trivial(const Versions& versions, const Checksum& checksum) {
  const auto window = changes_in(versions, checksum);
  return !window || window->to - window->from <= size_of(checksum.form);
}

// A value's complement, negative or copy right beside it, as a checksum of that value.
std::optional<Checksum> twin_beside(const Versions& versions, const Checksum& checksum, bool before) {
  const std::size_t size = size_of(checksum.form);
  if (size > 4 || checksum.form.kind == ChecksumForm::Kind::md5 || (before && checksum.at < size))
    return std::nullopt;
  Checksum twin;
  twin.form.kind = ChecksumForm::Kind::sum;
  twin.form.bits = static_cast<unsigned>(8 * size);
  twin.form.unit_bytes = static_cast<unsigned>(size);
  twin.form.unit_big_endian = checksum.big_endian;
  twin.ranges = {{checksum.at, checksum.at + size}};
  twin.at = before ? checksum.at - size : checksum.at + size;
  twin.big_endian = checksum.big_endian;
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
void narrow(const Versions& versions, const std::vector<CopyFind>& copies, ChecksumFind& find) {
  if (find.checksum.form.bits != 32 || find.checksum.form.kind != ChecksumForm::Kind::sum ||
      find.checksum.form.unit_bytes > 2)
    return;
  Checksum half = find.checksum;
  half.form.bits = 16;
  half.form.start &= 0xffff;
  if (half.big_endian) half.at += 2;
  const bool fits = std::ranges::all_of(
      versions.bytes, [&](ByteView version) { return holds(half, version).value_or(false); });
  const auto is_cut = [&](std::size_t border) {
    return find.checksum.at < border && border < find.checksum.at + 4;
  };
  const bool crosses = std::ranges::any_of(copies, [&](const CopyFind& copy) {
    return is_cut(copy.first) || is_cut(copy.first + copy.size_bytes);
  });
  if (fits && (crosses || twin_beside(versions, half, false) || twin_beside(versions, half, true)))
    find.checksum = std::move(half);
}

// A range in which nothing changes but values that are checksums themselves says nothing of the save.
void drop_echoes(const Versions& versions, std::vector<ChecksumFind>& finds) {
  constexpr std::size_t few = 8;
  std::erase_if(finds, [&](const ChecksumFind& find) {
    if (find.pairs_with) return false;
    const auto window = changes_in(versions, find.checksum);
    if (!window || window->to - window->from > few) return false;
    for (std::size_t at = window->from; at < window->to; ++at) {
      const bool is_told =
          !versions.is_changed[at] || std::ranges::any_of(finds, [&](const ChecksumFind& other) {
            return &other != &find && other.confidence >= likely && other.checksum.at <= at &&
                   at < other.checksum.at + size_of(other.checksum.form);
          });
      if (!is_told) return false;
    }
    return true;
  });
}

// What stands beside a certain value and always goes with it is a checksum as certain, whatever else fits it.
void add_twins(const Versions& versions, const std::vector<CopyFind>& copies,
               std::vector<ChecksumFind>& finds) {
  std::vector<ChecksumFind> twins;
  for (ChecksumFind& find : finds)
    if (find.confidence >= likely) narrow(versions, copies, find);
  for (const ChecksumFind& find : finds) {
    if (find.confidence < likely || find.pairs_with) continue;
    for (const bool before : {false, true})
      if (auto twin = twin_beside(versions, find.checksum, before)) {
        const bool is_told = std::ranges::any_of(finds, [&](const ChecksumFind& other) {
          return other.confidence >= likely && !other.pairs_with && overlap(other.checksum, *twin) &&
                 size_of(other.checksum.form) == size_of(twin->form) && !other.checksum.form.complemented &&
                 !other.checksum.form.negated;
        });
        if (is_told) continue;
        ChecksumFind made = find;
        made.checksum = *std::move(twin);
        made.pairs_with = true;
        twins.push_back(std::move(made));
      }
  }
  for (ChecksumFind& twin : twins) {
    std::erase_if(finds, [&](const ChecksumFind& other) { return overlap(other.checksum, twin.checksum); });
    finds.push_back(std::move(twin));
  }
  drop_echoes(versions, finds);
}

// Versions in which the copies of something never change: its checksums are then found once, and what both
// hold cancels nothing out.
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

// A checksum in something that has copies is over that alone, where that is as right: what is over a copy as
// well holds only while the two are the same.
void keep_within_copy(const Versions& versions, const std::vector<CopyFind>& copies, Checksum& checksum) {
  for (const CopyFind& copy : copies) {
    const std::size_t end = copy.first + copy.size_bytes;
    if (checksum.at < copy.first || checksum.at + size_of(checksum.form) > end) continue;
    Checksum own = checksum;
    for (ChecksumRange& range : own.ranges)
      range = {std::max(range.from, copy.first), std::min(range.to, end)};
    if (std::ranges::any_of(own.ranges, [](const ChecksumRange& range) { return range.from >= range.to; }))
      continue;
    if (std::ranges::all_of(versions.bytes,
                            [&](ByteView version) { return holds(own, version).value_or(false); }))
      checksum = std::move(own);
  }
}

// The checksums of what has copies, once more for each copy.
void add_copies(const Versions& versions, const std::vector<CopyFind>& copies,
                std::vector<ChecksumFind>& finds) {
  for (const CopyFind& copy : copies)
    for (std::size_t i = 0; i < finds.size(); ++i) {
      ChecksumFind made = finds[i];
      const auto is_in = [&](std::size_t from, std::size_t to) {
        return from >= copy.first && to <= copy.first + copy.size_bytes;
      };
      if (!is_in(made.checksum.at, made.checksum.at + size_of(made.checksum.form)) ||
          !std::ranges::all_of(made.checksum.ranges,
                               [&](const ChecksumRange& range) { return is_in(range.from, range.to); }))
        continue;
      const std::size_t distance = copy.second - copy.first;
      made.checksum.at += distance;
      for (ChecksumRange& range : made.checksum.ranges) range = {range.from + distance, range.to + distance};
      made.in_copy = true;
      if (std::ranges::all_of(versions.bytes, [&](ByteView version) {
            return holds(made.checksum, version).value_or(false);
          }))
        finds.push_back(std::move(made));
    }
}

// A value that is only the complement, or the negative, of another one beside it.
void find_pairs(const Versions& versions, std::vector<ChecksumFind>& finds) {
  for (ChecksumFind& find : finds) {
    const std::size_t size = size_of(find.checksum.form);
    if (size > 4 || find.checksum.form.kind == ChecksumForm::Kind::md5) continue;
    if (!find.checksum.form.negated && !find.checksum.form.complemented && find.confidence >= likely)
      continue;
    for (const ChecksumFind& other : finds) {
      if (&other == &find || size_of(other.checksum.form) != size || other.pairs_with) continue;
      for (const bool complemented : {true, false}) {
        Checksum pair;
        pair.form.kind = ChecksumForm::Kind::sum;
        pair.form.bits = static_cast<unsigned>(8 * size);
        pair.form.unit_bytes = static_cast<unsigned>(size);
        pair.form.unit_big_endian = other.checksum.big_endian;
        pair.form.complemented = complemented;
        pair.form.negated = !complemented;
        pair.ranges = {{other.checksum.at, other.checksum.at + size}};
        pair.at = find.checksum.at;
        pair.big_endian = other.checksum.big_endian;
        const bool fits = std::ranges::all_of(versions.bytes, [&](ByteView version) {
          const auto right = holds(pair, version);
          return right && *right;
        });
        if (!fits) continue;
        find.checksum = pair;
        find.pairs_with = true;
        break;
      }
      if (find.pairs_with) break;
    }
  }
}

}  // namespace
}  // namespace checksums

Result<ChecksumSearch> find_checksums(std::span<const Blob> blobs, const ChecksumSearchOptions& options) {
  BAYSWAP_TRY(const checksums::Versions whole, checksums::compared(blobs));
  std::vector<CopyFind> copies = checksums::search_copies(whole);
  const std::vector<Blob> still = checksums::without_copies(blobs, copies);
  BAYSWAP_TRY(const checksums::Versions versions, checksums::compared(still));
  checksums::Finds finds(versions, options.max_work);
  checksums::search_crcs(finds);
  checksums::search_adler(finds);
  checksums::search_digests(finds);
  checksums::search_sums(finds);
  ChecksumSearch out;
  std::erase_if(finds.finds, [&](const ChecksumFind& find) {
    if (checksums::is_trivial(versions, find.checksum)) return true;
    // What reaches into a copy has to hold of the copy as it is.
    return !std::ranges::all_of(
        whole.bytes, [&](ByteView version) { return holds(find.checksum, version).value_or(false); });
  });
  for (ChecksumFind& find : finds.finds) checksums::keep_within_copy(whole, copies, find.checksum);
  std::vector<ChecksumFind> best = checksums::best_of(versions, std::move(finds.finds));
  checksums::add_twins(versions, copies, best);
  checksums::find_pairs(versions, best);
  checksums::add_copies(whole, copies, best);
  constexpr std::size_t max_doubtful = 20;
  for (ChecksumFind& find : best) {
    if (find.confidence >= checksums::likely)
      out.checksums.push_back(std::move(find));
    else
      out.doubtful.push_back(std::move(find));
  }
  std::ranges::sort(out.checksums, {}, [](const ChecksumFind& find) { return find.checksum.at; });
  std::ranges::sort(out.doubtful, {}, &ChecksumFind::expected_false);
  if (out.doubtful.size() > max_doubtful) out.doubtful.resize(max_doubtful);
  out.copies = std::move(copies);
  out.counters = checksums::search_counters(versions);
  out.changed_bytes = whole.changed.size();
  out.tried = finds.tried;
  out.left_out = std::move(finds.left_out);
  return out;
}

}  // namespace bayswap
