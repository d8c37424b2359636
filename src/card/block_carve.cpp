// Saves off a card in whatever state: by its directory as far as it goes, by backups and guessed links, by
// what the content itself shows.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/order.hpp"
#include "card/block_card.hpp"

namespace bayswap {

std::optional<BlockCard::Chain> BlockCard::bridged(std::size_t first, std::size_t count, int step,
                                                   const std::vector<Links>& tables) const {
  if (count == 0 || count > block_count() || bridges_left_ == 0) return std::nullopt;
  --bridges_left_;
  std::vector<bool> taken = listing().settled;
  const auto can_be = [&](std::size_t block) {
    return block < block_count() && can_hold(block) && !taken[block];
  };
  if (!can_be(first)) return std::nullopt;
  Chain way{{}, {}, true};
  std::size_t other_table = 0;
  std::size_t behind = 0;
  for (std::size_t block = first;;) {
    way.blocks.push_back(block);
    taken[block] = true;
    if (way.blocks.size() == count) break;
    std::optional<std::size_t> next;
    for (std::size_t i = 0; i < tables.size() && !next; ++i)
      if (const std::size_t link = tables[i](block); can_be(link)) {
        next = link;
        other_table += i > 0 ? 1 : 0;
      }
    if (!next) {
      const std::size_t neighbour =
          block + static_cast<std::size_t>(step);  // wraps below 0: then it is no block
      if (!can_be(neighbour)) return std::nullopt;
      next = neighbour;
      ++behind;
    }
    block = *next;
  }
  way.problem = fmt::format("{} links are taken from the backup, {} are guessed to be the {} beside",
                            other_table, behind, unit());
  return way;
}

std::vector<FoundSave> BlockCard::carve(std::size_t present_bytes) const {
  std::vector<FoundSave> found;
  std::multimap<std::string, std::size_t> by_entry;
  std::size_t room = max_carved * block_count();
  std::vector<std::vector<std::size_t>> blocks;
  bridges_left_ = max_bridges;
  const auto add = [&](const Slot& slot, const Chain& way, std::vector<std::string> notes,
                       FoundSave::Confidence confidence) {
    if (slot.deleted && way.blocks.empty()) return;  // it leads nowhere: noise, most often
    FoundSave one{save_by(slot, way), confidence, slot.deleted, std::move(notes)};
    one.save.kind = kind();
    std::size_t missing = 0;
    for (const std::size_t block : way.blocks)
      missing += block_at(block) + block_bytes() > present_bytes ? 1 : 0;
    if (slot.at + format_.entry_bytes > present_bytes || !format_.plausible(one.save.entry.view())) return;
    if (missing > 0 && missing == way.blocks.size()) {  // its entry is all there is
      one.save = named_save(kind(), one.save.entry, Blob{});
      one.notes.push_back(fmt::format("none of its {} {}s is left", missing, unit()));
      one.confidence = FoundSave::Confidence::doubtful;
      found.push_back(std::move(one));
      blocks.emplace_back();
      return;
    }
    if (missing > 0) {
      one.notes.push_back(
          fmt::format("{} of {} {}s are past the end of the file", missing, way.blocks.size(), unit()));
      one.confidence = FoundSave::Confidence::doubtful;
    }
    if (const std::string wrong = entry_problem(slot); !wrong.empty()) {
      one.notes.push_back(wrong);
      one.confidence = std::max(one.confidence, FoundSave::Confidence::likely);
    }
    if (!format_.is_save(one.save)) {
      one.notes.emplace_back("its entry and its content do not agree");
      one.confidence = FoundSave::Confidence::doubtful;
    }
    if (const auto proof = proven(one.save); proof && missing == 0) {
      if (!*proof) one.notes.emplace_back("the checksum of its content is wrong");
      one.confidence = !*proof                                           ? FoundSave::Confidence::doubtful
                       : one.confidence == FoundSave::Confidence::likely ? FoundSave::Confidence::certain
                                                                         : one.confidence;
    }
    // The same save by another entry, or from a backup, adds nothing.
    const std::string entry(one.save.entry.view().begin(), one.save.entry.view().end());
    const auto [first, last] = by_entry.equal_range(entry);
    if (std::any_of(first, last,
                    [&](const auto& other) { return found[other.second].save.same_content(one.save); }))
      return;
    if (way.blocks.size() > room) return;
    room -= way.blocks.size();
    by_entry.emplace(entry, found.size());
    found.push_back(std::move(one));
    blocks.push_back(way.blocks);
  };
  std::vector<Slot> all = slots();
  const std::vector<Slot> hidden = hidden_slots();
  all.insert(all.end(), hidden.begin(), hidden.end());
  // The living first: the budget may not do for all that a hostile directory claims.
  sort_by(all, &Slot::deleted);
  std::size_t budget = max_looked_at * block_count();
  for (const Slot& slot : all) {
    if (budget == 0) break;
    const Chain way = chain(slot);
    budget -= std::min(budget, std::max<std::size_t>(1, way.blocks.size()));
    if (way.problem.empty()) {
      add(slot, way, {}, FoundSave::Confidence::certain);
      continue;
    }
    bool proved = false;
    const std::vector<Chain> others = other_chains(slot);
    for (const Chain& other : others)
      if (!proved && proven(save_by(slot, other)).value_or(false)) {
        add(slot, other, {fmt::format("{}; its {}s were found by its checksum", way.problem, unit())},
            FoundSave::Confidence::likely);
        proved = true;
      }
    if (proved) continue;
    if (!others.empty()) {
      add(slot, others.front(), {fmt::format("{}; {}", way.problem, others.front().problem)},
          FoundSave::Confidence::likely);
    } else {
      add(slot, way, {way.problem}, FoundSave::Confidence::doubtful);
    }
  }
  settle_claims(found, blocks);
  std::vector<bool> open(block_count());
  for (std::size_t block = 0; block < open.size(); ++block) open[block] = can_hold(block);
  for (std::size_t i = 0; i < found.size(); ++i)
    if (found[i].confidence != FoundSave::Confidence::doubtful)
      for (const std::size_t block : blocks[i]) open.at(block) = false;
  std::vector<FoundSave> shown;
  add_by_content(shown, open, present_bytes);
  for (FoundSave& one : shown)
    if (std::none_of(found.begin(), found.end(),
                     [&](const FoundSave& other) { return other.save.same_content(one.save); }))
      found.push_back(std::move(one));
  add_nameless(found, blocks, present_bytes);
  return found;
}

// Chains of the table that nothing found so far has a part in: somebody's save, whose entry is lost.
void BlockCard::add_nameless(std::vector<FoundSave>& found,
                             const std::vector<std::vector<std::size_t>>& blocks,
                             std::size_t present_bytes) const {
  std::vector<bool> open(block_count());
  for (std::size_t block = 0; block < open.size(); ++block)
    open[block] = can_hold(block) && link_of(block).marked.empty();
  for (const auto& own : blocks)
    for (const std::size_t block : own) open.at(block) = false;
  std::vector<bool> inner(block_count());
  for (std::size_t block = 0; block < open.size(); ++block)
    if (const Link link = link_of(block); open[block] && !link.last && link.next < inner.size())
      inner[link.next] = true;
  for (std::size_t head = 0; head < open.size(); ++head) {
    if (!open[head] || inner[head]) continue;
    std::vector<std::size_t> way;
    bool ends = false;
    for (std::size_t block = head; block < open.size() && open[block] && !ends;) {
      open[block] = false;
      way.push_back(block);
      const Link link = link_of(block);
      ends = link.last;
      block = link.next;
    }
    FoundSave one{{kind(), fmt::format("unnamed-{}", head), {}, Blob{}, gather(way), {}},
                  FoundSave::Confidence::doubtful,
                  false,
                  {fmt::format("no directory entry refers to {} {}{} from number {} on", way.size(), unit(),
                               way.size() == 1 ? "" : "s", head)}};
    if (!ends) one.notes.emplace_back("where it ends is unknown");
    if (block_at(head) + block_bytes() > present_bytes || is_uniform(one.save.payload.view())) continue;
    found.push_back(std::move(one));
  }
}

// Blocks that several saves claim: the surest one keeps them. Of two that are equally sure, neither does.
void BlockCard::settle_claims(std::vector<FoundSave>& found,
                              const std::vector<std::vector<std::size_t>>& blocks) const {
  const auto rank = [&](std::size_t i) { return std::pair{found[i].confidence, found[i].deleted}; };
  std::vector<std::vector<std::size_t>> owners(block_count());
  for (std::size_t i = 0; i < found.size(); ++i)
    for (const std::size_t block : blocks[i]) owners.at(block).push_back(i);
  std::vector<FoundSave::Confidence> settled;
  settled.reserve(found.size());
  for (std::size_t i = 0; i < found.size(); ++i) {
    settled.push_back(found[i].confidence);
    std::optional<std::pair<std::size_t, std::size_t>> other;  // the first save, and the block
    for (const std::size_t block : blocks[i]) {
      const auto sure =
          std::ranges::find_if(owners[block], [&](std::size_t j) { return j != i && rank(j) <= rank(i); });
      if (sure != owners[block].end() && (!other || std::pair{*sure, block} < *other)) other = {*sure, block};
    }
    if (!other || proven(found[i].save).value_or(false)) continue;
    const auto [j, block] = *other;
    found[i].notes.push_back(fmt::format("{} claims {} {} as well", found[j].save.name, unit(), block));
    settled[i] = rank(j) < rank(i) ? FoundSave::Confidence::doubtful
                                   : std::max(settled[i], FoundSave::Confidence::likely);
  }
  for (std::size_t i = 0; i < found.size(); ++i) found[i].confidence = settled[i];
}

}  // namespace bayswap
