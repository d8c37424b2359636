// Blocks put in their order, the newest of several copies, and which files a save is in.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "sheet/codec.hpp"
#include "sheet/tree.hpp"

namespace bayswap::sheets {

bool Tree::open_blocks(Node& node, Space& inner) {
  const Blocks& blocks = *node.field->blocks;
  const Node* scope = node.is_element ? node.outer->outer : node.outer;
  const auto begin = size_asked(blocks.at, *scope);
  const std::vector<Byte>& stored = node.space->bytes;
  const std::size_t first = begin.value_or(0) + node.at;
  if (!begin || first > stored.size() || blocks.count > (stored.size() - first) / blocks.block_bytes) {
    node.problem = "its blocks are not within the save";
    return false;
  }
  node.size = begin.value_or(0) + blocks.count * blocks.block_bytes;
  NumberForm number;
  number.bits = blocks.number_bits;
  number.big_endian = blocks.number_big_endian;
  constexpr std::size_t nowhere = ~std::size_t{0};
  inner.pieces.assign(blocks.count, nowhere);
  inner.piece_bytes = blocks.data_bytes;
  for (std::size_t i = 0; i < blocks.count; ++i) {
    const std::size_t at = first + i * blocks.block_bytes;
    const auto own =
        read_number(number, ByteView(stored).subspan(at + blocks.number_at, number.size_bytes()));
    const SheetNumber which = own.value_or(-1) - blocks.first;
    if (which < 0 || which >= static_cast<SheetNumber>(blocks.count) ||
        inner.pieces[static_cast<std::size_t>(which)] != nowhere) {
      node.problem = fmt::format("block {} says it is number {}, which {}", i, own.value_or(-1),
                                 which < 0 || which >= static_cast<SheetNumber>(blocks.count)
                                     ? "does not exist"
                                     : "another one says as well");
      return false;
    }
    inner.pieces[static_cast<std::size_t>(which)] = at;
  }
  inner.bytes.reserve(blocks.count * blocks.data_bytes);
  for (const std::size_t piece : inner.pieces) {
    const ByteView data = ByteView(stored).subspan(piece, blocks.data_bytes);
    inner.bytes.insert(inner.bytes.end(), data.begin(), data.end());
  }
  return true;
}

// The newest copy is, of those whose checksums hold, the one with the highest counter; counters go round.
void Tree::choose_newest(Node& array) {
  std::optional<SheetNumber> best;
  bool best_holds = false;
  for (std::size_t i = 0; i < array.children.size(); ++i) {
    Node& copy = *array.children[i];
    Space* space = copy.own_space != nullptr ? copy.own_space : copy.space;
    // A file that ends before the copy does has none.
    if (copy.own_space == nullptr &&
        (copy.at > space->bytes.size() || copy.size > space->bytes.size() - copy.at))
      continue;
    const ByteView bytes = copy.own_space != nullptr ? ByteView(space->bytes)
                                                     : ByteView(space->bytes).subspan(copy.at, copy.size);
    copy.is_blank = is_uniform(bytes);
    const Node* counter = array.field->counter.empty() ? nullptr : child(copy, array.field->counter);
    const auto count = counter == nullptr ? std::nullopt : number_of(value(counter));
    if ((!count && !array.field->counter.empty()) || copy.is_blank || !copy.problem.empty()) continue;
    const bool holds = all_checksums_hold(copy);
    if (counter == nullptr) {  // copies that are the same: the first that is sound
      if (best && (best_holds || !holds)) continue;
      best = 0;
      best_holds = holds;
      array.newest = i;
      continue;
    }
    const SheetNumber around = SheetNumber{1} << static_cast<int>(counter->field->number.bits);
    const SheetNumber ahead = best ? ((*count - *best) % around + around) % around : 0;
    const bool is_newer =
        !best || (holds && !best_holds) || (holds == best_holds && ahead != 0 && ahead < around / 2);
    if (!is_newer || (best_holds && !holds)) continue;
    best = count;
    best_holds = holds;
    array.newest = i;
  }
  if (!best)
    array.problem = "no copy can be read";
  else if (!best_holds)
    array.problem = "no copy's checksums hold";
}

}  // namespace bayswap::sheets

namespace bayswap {
namespace {

// '*' and '?' in a file's name, in any case of letters. Bounded: a '*' is tried again only at the last one.
bool matches(std::string_view pattern, std::string_view name) {
  std::size_t p = 0;
  std::size_t n = 0;
  std::size_t star = std::string_view::npos;
  std::size_t retry = 0;
  while (n < name.size()) {
    if (p < pattern.size() && pattern[p] == '*') {
      star = p++;
      retry = n;
    } else if (p < pattern.size() && (pattern[p] == '?' || pattern[p] == name[n])) {
      ++p;
      ++n;
    } else if (star != std::string_view::npos) {
      p = star + 1;
      n = ++retry;
    } else {
      return false;
    }
  }
  while (p < pattern.size() && pattern[p] == '*') ++p;
  return p == pattern.size();
}

std::string_view last_name(std::string_view path) {
  const std::size_t slash = path.rfind('/');
  return slash == std::string_view::npos ? path : path.substr(slash + 1);
}

}  // namespace

bool file_fits(std::string_view pattern, std::string_view path) {
  const std::string wanted = lower(pattern);
  const std::string name = lower(path);
  return matches(wanted, name) || (wanted.find('/') == std::string::npos && matches(wanted, last_name(name)));
}

}  // namespace bayswap
