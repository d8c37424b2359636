#include "card/block_card.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {

BlockCard::BlockCard(const SaveFormat& format, const Blob& image)
    : format_(format), image_(image.view().begin(), image.view().end()) {}

CardEntry BlockCard::listed(const Slot& slot, const Chain& chain) const {
  return describe(save_at(slot, chain.blocks));
}

const BlockCard::Listing& BlockCard::listing() const {
  if (listing_) return *listing_;
  Listing made;
  made.settled.resize(block_count());
  std::size_t budget = max_claims * block_count();
  for (const Slot& slot : slots()) {
    if (budget == 0) {
      ++made.unread;
      continue;
    }
    Held row{slot, chain(slot), {}};
    budget -= std::min(budget, std::max<std::size_t>(1, row.chain.blocks.size()));
    row.entry = listed(slot, row.chain);
    if (!slot.deleted && row.chain.problem.empty())
      for (const std::size_t block : row.chain.blocks) made.settled.at(block) = true;
    made.rows.push_back(std::move(row));
  }
  listing_ = std::move(made);
  return *listing_;
}

const std::set<std::string>& BlockCard::names() const {
  if (!names_) {
    names_.emplace();
    for (const Held& row : listing().rows)
      if (!row.slot.deleted) names_->insert(row.entry.name);
  }
  return *names_;
}

void BlockCard::changed() const {
  listing_.reset();
  forget();
}

std::vector<CardEntry> BlockCard::entries() const {
  std::vector<CardEntry> list;
  for (const auto& [slot, chain, listed] : listing().rows) {
    if (slot.deleted && !chain.problem.empty()) continue;  // overwritten in part
    CardEntry entry = listed;
    entry.blocks = chain.blocks.size();
    entry.state = slot.deleted                                           ? CardEntry::State::deleted
                  : chain.problem.empty() && entry_problem(slot).empty() ? CardEntry::State::good
                                                                         : CardEntry::State::damaged;
    list.push_back(std::move(entry));
  }
  return list;
}

Blob BlockCard::gather(const std::vector<std::size_t>& blocks) const {
  Buffer payload(blocks.size() * block_bytes());
  auto out = payload.bytes().begin();
  for (const std::size_t block : blocks)
    out = std::ranges::copy(bytes(block_at(block), block_bytes()), out).out;
  return std::move(payload).freeze();
}

Result<const BlockCard::Held*> BlockCard::find(const std::string& name) const {
  for (const Held& row : listing().rows)
    if (!row.slot.deleted && row.entry.name == name) return &row;
  const std::string hint = did_you_mean(name, names());
  return fail(ErrorCode::bad_usage, fmt::format("no save called '{}' is on the card", printable(name)), hint,
              {Remedy::Kind::list_card, {}});
}

Result<CardSave> BlockCard::read(const std::string& name) const {
  BAYSWAP_TRY(const Held* row, find(name));
  if (!row->chain.problem.empty())
    return fail(ErrorCode::damaged, fmt::format("{}: {}", printable(name), row->chain.problem),
                fmt::format("not all of its {}s can be told", unit()), {Remedy::Kind::rescue_card, {}});
  return save_at(row->slot, row->chain.blocks);
}

Result<void> BlockCard::may_change() const {
  std::string why = untrusted();
  if (why.empty() && !names_ && listing().unread > 0)
    why = fmt::format("its saves claim over {} times the {}s of the card", max_claims, unit());
  if (!why.empty()) return fail(ErrorCode::damaged, std::move(why), "", {Remedy::Kind::rescue_card, {}});
  return {};
}

Result<void> BlockCard::put(const CardSave& save) {
  if (save.kind != kind() || save.entry.size() != format_.entry_bytes || !format_.is_save(save))
    return fail(ErrorCode::bad_usage, fmt::format("{} is no save of a {} card", save.name, to_text(kind())),
                "a save of another platform has no place there");
  const std::string name = named_save(kind(), save.entry, save.payload, save.files).name;
  if (names().contains(name))
    return fail(ErrorCode::unsafe, fmt::format("{} is on the card already", name), "drop it first",
                {Remedy::Kind::replace, {}});
  BAYSWAP_CHECK(may_change());
  const std::size_t wanted = blocks_for(save);
  const std::size_t free = free_blocks();
  if (wanted > free)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} takes {} {}s, and {} are free: {} are missing", name, wanted, unit(), free,
                            wanted - free),
                "drop another save, or use another card");
  auto placed = place(save);
  changed();
  if (placed) names_->insert(name);
  return placed;
}

std::vector<std::size_t> BlockCard::claims() const {
  std::vector<std::size_t> count(block_count());
  for (const Held& row : listing().rows)
    if (!row.slot.deleted)
      for (const std::size_t block : row.chain.blocks) ++count.at(block);
  return count;
}

Result<void> BlockCard::drop(const std::string& name) {
  BAYSWAP_TRY(const Held* row, find(name));
  BAYSWAP_CHECK(may_change());
  const auto claimed = claims();
  const Slot slot = row->slot;
  std::vector<std::size_t> own = row->chain.blocks;
  std::erase_if(own, [&](std::size_t block) { return claimed[block] > 1; });
  erase(slot, own);
  changed();
  names_.reset();
  return {};
}

std::size_t BlockCard::free_blocks() const {
  std::size_t count = 0;
  for (std::size_t block = 0; block < block_count(); ++block)
    count += use_of(block) == BlockUse::free ? 1 : 0;
  return count;
}

std::vector<CardProblem> BlockCard::check() const {
  Problems problems;
  check_medium(problems);
  std::vector<bool> reached(block_count());
  std::set<std::string> seen;
  for (const auto& [slot, chain, entry] : listing().rows) {
    if (slot.deleted) continue;
    if (!chain.problem.empty()) problems.add(slot.at, false, "{}: {}", entry.name, chain.problem);
    std::size_t shared = 0;
    std::size_t first_shared = 0;
    for (const std::size_t block : chain.blocks) {
      if (reached.at(block) && shared++ == 0) first_shared = block;
      reached[block] = true;
    }
    if (shared > 0)
      problems.add(slot.at, false, "{}: {} of its {}s belong to another save as well, the first is {}",
                   entry.name, shared, unit(), first_shared);
    if (!seen.insert(entry.name).second)
      problems.add(slot.at, false, "{}: that name is there twice", entry.name);
  }
  if (const std::size_t unread = listing().unread; unread > 0)
    problems.add(0, false, "the saves claim over {} times the {}s of the card: {} entries were not looked at",
                 max_claims, unit(), unread);
  const bool lost_for_sure = is_lost_for_sure();
  for (std::size_t block = 0; block < block_count(); ++block)
    if (use_of(block) == BlockUse::save && !reached[block])
      problems.add(mark_at(block), lost_for_sure, "{} {} is in use, but no save leads to it", unit(), block);
  return std::move(problems.list);
}

std::vector<std::size_t> BlockCard::orphans() const {
  std::vector<std::size_t> blocks;
  const auto claimed = claims();
  for (std::size_t block = 0; block < block_count(); ++block)
    if (use_of(block) == BlockUse::save && claimed[block] == 0) blocks.push_back(block);
  return blocks;
}

std::size_t BlockCard::repair() {
  const std::size_t before = check().size();
  if (before == 0) return 0;
  const bool sure = is_lost_for_sure() && listing().unread == 0;
  repair_medium();
  changed();
  if (sure)
    for (const std::size_t block : orphans()) release(block);
  seal();
  changed();
  names_.reset();
  const std::size_t after = check().size();
  return before > after ? before - after : 0;
}

std::vector<CardBlock> BlockCard::map() const {
  std::vector<CardBlock> blocks(block_count());
  for (std::size_t block = 0; block < blocks.size(); ++block) {
    const BlockUse use = use_of(block);
    blocks[block].use = use == BlockUse::save ? BlockUse::lost : use;
  }
  std::size_t entry = 0;
  for (const auto& [slot, chain, listed] : listing().rows) {
    if (slot.deleted) {
      entry += chain.problem.empty() ? 1 : 0;
      continue;
    }
    for (const std::size_t block : chain.blocks)
      if (block < blocks.size()) blocks[block] = {BlockUse::save, entry};
    ++entry;
  }
  return blocks;
}

BlockCard::Chain BlockCard::walk(std::size_t first, std::size_t count,
                                 const std::function<Link(std::size_t block)>& link) const {
  Chain way;
  std::vector<bool> seen(block_count());
  for (std::size_t block = first;;) {
    if (block >= block_count() || !can_hold(block))
      way.problem = way.blocks.empty() ? fmt::format("it begins at {} {}, where no save can", unit(), block)
                                       : fmt::format("{} {} leads to {} {}, where no save can be", unit(),
                                                     way.blocks.back(), unit(), block);
    else if (seen[block])
      way.problem = fmt::format("its {}s lead in a circle at {} {}", unit(), unit(), block);
    else if (way.blocks.size() == count)
      way.problem =
          fmt::format("its entry says {} {}s, and the links lead on to {} {}", count, unit(), unit(), block);
    if (!way.problem.empty()) return way;
    seen[block] = true;
    way.blocks.push_back(block);
    const Link next = link(block);
    if (next.last) break;
    if (!next.marked.empty()) {
      way.problem = fmt::format("{} {} is marked as {}", unit(), block, next.marked);
      return way;
    }
    block = next.next;
  }
  if (way.blocks.size() != count)
    way.problem = fmt::format("its entry says {} {}s, and {} can be told", count, unit(), way.blocks.size());
  return way;
}

// ---- Carving ------------------------------------------------------------------------------------

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
          fmt::format("{} of {} {}s lie behind the end of the file", missing, way.blocks.size(), unit()));
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
                  {fmt::format("no entry names it: whose it is is lost ({} {}{} from {} on)", way.size(),
                               unit(), way.size() == 1 ? "" : "s", head)}};
    if (!ends) one.notes.emplace_back("its end can't be told");
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
