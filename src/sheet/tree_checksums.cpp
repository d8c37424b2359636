// Checksums and rules of an open save, and the way back from changed values to the files.
#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"
#include "sheet/codec.hpp"
#include "sheet/tree.hpp"

namespace bayswap::sheets {
namespace {

// Where a record's own fields are.
Space* inside(const Node& record) {
  return record.own_space != nullptr ? record.own_space : record.space;
}
std::size_t begin_of(const Node& record) {
  return record.own_space != nullptr ? 0 : record.at;
}

}  // namespace

ChecksumAt Tree::place_checksum(const ChecksumDef& checksum, Node& record) {
  ChecksumAt out;
  out.checksum = &checksum;
  out.record = &record;
  Space* space = inside(record);
  const std::size_t begin = begin_of(record);
  const auto outside = [&] { out.problem = "it is not within the save"; };
  const auto at = size_asked(checksum.at, record);
  if (space == nullptr || !at || begin + *at > space->bytes.size() ||
      size_of(checksum.form) > space->bytes.size() - begin - *at) {
    outside();
    return out;
  }
  out.at = begin + *at;
  for (const std::string& name : checksum.fields) {
    const Node* field = child(record, name);
    if (field == nullptr || !field->problem.empty()) {
      out.problem = fmt::format("{} can't be read", name);
      return out;
    }
    if (field->own_space != nullptr)
      out.ranges.push_back({field->own_space, 0, field->own_space->bytes.size()});
    else
      out.ranges.push_back({field->space, field->at, field->at + field->size});
  }
  for (const auto& [from, to] : checksum.ranges) {
    const auto first = size_asked(from, record);
    const auto last = size_asked(to, record);
    if (!first || !last || *first > *last || begin + *last > space->bytes.size()) {
      outside();
      return out;
    }
    out.ranges.push_back({space, begin + *first, begin + *last});
  }
  constexpr std::size_t max_covered = std::size_t{1} << 30;
  for (const ChecksumAt::Range& range : out.ranges) {
    if (range.to > range.space->bytes.size()) outside();
    covered_bytes_ += range.to - std::min(range.from, range.to);
  }
  if (covered_bytes_ > max_covered) out.problem = "the sheet's checksums are over too many bytes";
  return out;
}

void Tree::collect_checksums(Node& node, std::vector<ChecksumAt>& out, bool only_errors) {
  if (node.is_free || node.is_blank) return;
  for (Node* one : node.children) collect_checksums(*one, out, only_errors);
  if (node.record == nullptr || node.is_array || node.record->checksums.empty()) return;
  if (inside(node) == nullptr) return;
  std::vector<ChecksumAt> own;
  for (const ChecksumDef& checksum : node.record->checksums) {
    if (only_errors && checksum.severity != Severity::error) continue;
    if (checksum.condition && truth_of(ask(*checksum.condition, node)) != true) continue;
    own.push_back(place_checksum(checksum, node));
  }
  // What is over a field's own bytes comes before what is over its scrambled ones.
  std::stable_partition(own.begin(), own.end(), [&](const ChecksumAt& one) {
    return std::ranges::any_of(one.ranges,
                               [&](const ChecksumAt::Range& range) { return range.space != inside(node); });
  });
  std::vector<Checksum> plain;
  for (const ChecksumAt& one : own) {
    Checksum checksum;
    checksum.form = one.checksum->form;
    checksum.at = one.at;
    if (one.problem.empty())
      for (const ChecksumAt::Range& range : one.ranges)
        if (range.space == inside(node)) checksum.ranges.push_back({range.from, range.to});
    plain.push_back(std::move(checksum));
  }
  const auto order = recompute_order(plain);
  for (std::size_t i = 0; i < own.size(); ++i) out.push_back(std::move(own[order ? (*order)[i] : i]));
}

const std::vector<ChecksumAt>& Tree::checksums() {
  if (!checksums_) {
    checksums_.emplace();
    collect_checksums(*root_, *checksums_, false);
  }
  return *checksums_;
}

bool Tree::all_checksums_hold(Node& node) {
  std::vector<ChecksumAt> own;
  collect_checksums(node, own, true);
  return std::ranges::all_of(own, [&](const ChecksumAt& one) { return checksum_holds(one); });
}

std::vector<Byte> Tree::checksum_value(const ChecksumAt& checksum) const {
  if (!checksum.problem.empty()) return {};
  const Space* space = inside(*checksum.record);
  const std::size_t end = checksum.at + size_of(checksum.checksum->form);
  std::vector<Byte> covered;
  for (const ChecksumAt::Range& range : checksum.ranges) {
    const std::size_t before = covered.size();
    const ByteView bytes = ByteView(range.space->bytes).subspan(range.from, range.to - range.from);
    covered.insert(covered.end(), bytes.begin(), bytes.end());
    if (range.space != space) continue;
    for (std::size_t at = std::max(range.from, checksum.at); at < std::min(range.to, end); ++at)
      covered[before + at - range.from] = checksum.checksum->own_bytes;
  }
  return value_over(checksum.checksum->form, covered, checksum.checksum->big_endian);
}

bool Tree::checksum_holds(const ChecksumAt& checksum) const {
  if (!checksum.problem.empty()) return false;
  const std::vector<Byte> wanted = checksum_value(checksum);
  return std::equal(wanted.begin(), wanted.end(),
                    inside(*checksum.record)->bytes.begin() + static_cast<std::ptrdiff_t>(checksum.at));
}

void Tree::collect_rules(Node& node, std::vector<RuleAt>& out) const {
  if (node.is_free || node.is_blank) return;
  for (Node* one : node.children) collect_rules(*one, out);
  if (node.record == nullptr || node.is_array || (node.space == nullptr && node.outer != nullptr)) return;
  for (const RuleDef& rule : node.record->rules) {
    if (rule.condition && truth_of(ask(*rule.condition, node)) != true) continue;
    out.push_back({&rule, &node, truth_of(ask(rule.require, node))});
  }
}

std::vector<Tree::RuleAt> Tree::rules() const {
  std::vector<RuleAt> out;
  collect_rules(*root_, out);
  return out;
}

// Puts a node's own bytes back to where they are stored.
Result<void> Tree::encode(const Node& node) {
  const Space& inner = *node.own_space;
  std::vector<Byte>& stored = inner.outer->bytes;
  if (!inner.pieces.empty()) {
    for (std::size_t i = 0; i < inner.pieces.size(); ++i)
      std::copy_n(inner.bytes.begin() + static_cast<std::ptrdiff_t>(i * inner.piece_bytes), inner.piece_bytes,
                  stored.begin() + static_cast<std::ptrdiff_t>(inner.pieces[i]));
    return {};
  }
  const auto scramble_keys = keys(node);
  if (!scramble_keys)
    return fail(ErrorCode::damaged, fmt::format("the key of {} is unknown", path_of(node)), "");
  std::vector<Byte> bytes = inner.bytes;
  BAYSWAP_CHECK(scramble(node.field->scrambles, *scramble_keys, bytes));
  std::copy(bytes.begin(), bytes.end(), stored.begin() + static_cast<std::ptrdiff_t>(inner.at));
  return {};
}

Result<void> Tree::store(Node& record) {
  const auto encode_within = [&](const auto& self, Node& node) -> Result<void> {
    for (Node* one : node.children) BAYSWAP_CHECK(self(self, *one));
    if (&node != &record && node.own_space != nullptr && !node.own_space->bytes.empty()) return encode(node);
    return {};
  };
  BAYSWAP_CHECK(encode_within(encode_within, record));
  for (const Node* at = &record; at != nullptr; at = at->outer)
    if (at->own_space != nullptr) BAYSWAP_CHECK(encode(*at));
  return {};
}

Result<std::size_t> Tree::recompute(const std::function<Result<bool>(const ChecksumAt&)>& is_wanted) {
  constexpr int max_passes = 16;  // a checksum may be over others
  std::size_t changed = 0;
  for (int pass = 0; pass < max_passes; ++pass) {
    std::size_t now = 0;
    for (const ChecksumAt& checksum : checksums()) {
      if (!checksum.problem.empty() || checksum_holds(checksum)) continue;
      BAYSWAP_TRY(const bool wanted, is_wanted(checksum));
      if (!wanted) continue;
      const std::vector<Byte> value = checksum_value(checksum);
      std::copy(value.begin(), value.end(),
                inside(*checksum.record)->bytes.begin() + static_cast<std::ptrdiff_t>(checksum.at));
      BAYSWAP_CHECK(store(*checksum.record));
      ++now;
    }
    changed += now;
    if (now == 0) return changed;
  }
  return fail(ErrorCode::bad_usage, fmt::format("the checksums of sheet {} contradict each other", sheet_.id),
              "correct the sheet: no two checksums can cover each other");
}

std::vector<SheetFile> Tree::stored() const {
  std::vector<SheetFile> out = files_;
  for (const Space& space : spaces_)
    if (space.outer == nullptr) out[space.file].bytes = Blob::copy_of(space.bytes);
  return out;
}

}  // namespace bayswap::sheets
