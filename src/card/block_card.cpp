#include "card/block_card.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <set>

#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {

namespace {

constexpr const char* what_settles_it =
    "nothing was changed; write the card to a file anew, as the console has it, and compare the two";

}  // namespace

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
  const std::size_t size = block_bytes();
  Buffer payload(blocks.size() * size);
  for (std::size_t i = 0; i < blocks.size(); ++i)
    std::memcpy(payload.bytes().subspan(i * size).data(), bytes(block_at(blocks[i]), size).data(), size);
  return std::move(payload).freeze();
}

Result<const BlockCard::Held*> BlockCard::find(const std::string& name) const {
  for (const Held& row : listing().rows)
    if (!row.slot.deleted && row.entry.name == name) return &row;
  for (const Held& row : listing().rows)
    if (row.slot.deleted && row.entry.name == name)
      return fail(ErrorCode::not_found, fmt::format("{} is deleted", printable(name)), "",
                  {Remedy::Kind::undelete, {}});
  const std::string hint = did_you_mean(name, names());
  return fail(ErrorCode::not_found, fmt::format("no save called '{}' is on the card", printable(name)), hint,
              {Remedy::Kind::list_card, {}});
}

Result<CardSave> BlockCard::read(const std::string& name) const {
  BAYSWAP_TRY(const Held* row, find(name));
  if (!row->chain.problem.empty())
    return fail(ErrorCode::damaged, fmt::format("{}: {}", printable(name), row->chain.problem),
                fmt::format("not all of its {}s are known", unit()), {Remedy::Kind::rescue_card, {}});
  return save_at(row->slot, row->chain.blocks);
}

Result<void> BlockCard::may_change() const {
  if (std::string why = misunderstood(); !why.empty())
    return fail(ErrorCode::damaged, std::move(why), what_settles_it);
  std::string why = untrusted();
  if (why.empty() && !names_ && listing().unread > 0)
    why = fmt::format("its saves claim over {} times the {}s of the card", max_claims, unit());
  if (!why.empty()) return fail(ErrorCode::damaged, std::move(why), "", {Remedy::Kind::rescue_card, {}});
  return {};
}

Result<void> BlockCard::put(const CardSave& save) {
  if (save.kind != kind() || save.entry.size() != format_.entry_bytes || !format_.is_save(save))
    return fail(ErrorCode::bad_usage,
                fmt::format("{} is not a save of a {} card", save.name, to_text(kind())),
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
                fmt::format("{} takes {}, and the card has {} free: {} missing", name,
                            counted(wanted, unit()), free, wanted - free),
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

Result<void> BlockCard::undelete(const std::string& name) {
  const auto gone = std::find_if(listing().rows.begin(), listing().rows.end(),
                                 [&](const Held& row) { return row.slot.deleted && row.entry.name == name; });
  if (gone == listing().rows.end()) {
    std::set<std::string> deleted;
    for (const Held& row : listing().rows)
      if (row.slot.deleted) deleted.insert(row.entry.name);
    return fail(ErrorCode::not_found,
                fmt::format("no deleted save called '{}' is on the card", printable(name)),
                did_you_mean(name, deleted), {Remedy::Kind::list_card, {}});
  }
  if (names().contains(name))
    return fail(ErrorCode::unsafe, fmt::format("the card has another save called {} now", printable(name)),
                "take that one off first, or drop it");
  BAYSWAP_CHECK(may_change());
  const auto claimed = claims();
  const bool shared = std::any_of(gone->chain.blocks.begin(), gone->chain.blocks.end(),
                                  [&](std::size_t block) { return claimed[block] > 0; });
  if (!gone->chain.problem.empty() || shared)
    return fail(ErrorCode::damaged,
                fmt::format("{}: {}", printable(name),
                            shared ? "another save has some of its blocks now" : gone->chain.problem),
                "it can't be brought back whole", {Remedy::Kind::rescue_card, {}});
  const Slot slot = gone->slot;
  const Chain chain = gone->chain;
  if (!revive(slot, chain)) {
    // Its bytes are in hand: they may be written over while it is put anew.
    const CardSave save = save_at(slot, chain.blocks);
    if (!format_.is_save(save))
      return fail(ErrorCode::damaged,
                  fmt::format("{}: its entry and its content do not agree", printable(name)),
                  "it can't be brought back whole", {Remedy::Kind::rescue_card, {}});
    if (const std::size_t wanted = blocks_for(save); wanted > free_blocks())
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} takes {}, and the card has {} free", printable(name),
                              counted(wanted, unit()), free_blocks()),
                  "drop another save first");
    BAYSWAP_CHECK(place(save));
  }
  update_checksums();
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
  if (const std::string why = misunderstood(); !why.empty()) {
    for (CardProblem& one : problems.list) one.repairable = false;
    problems.list.insert(problems.list.begin(), {0, false, why + ": nothing of it is repaired"});
  }
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
  if (before == 0 || !misunderstood().empty()) return 0;
  const bool sure = is_lost_for_sure() && listing().unread == 0;
  repair_medium();
  changed();
  if (sure)
    for (const std::size_t block : orphans()) release(block);
  update_checksums();
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
    way.problem = fmt::format("its entry says {} {}s, and {} are known", count, unit(), way.blocks.size());
  return way;
}

}  // namespace bayswap
