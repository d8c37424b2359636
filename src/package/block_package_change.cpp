// Files put into x360 packages and taken out of them, and every hash made right again.
#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "package/block_package_format.hpp"

namespace bayswap {

using namespace x360;

// ---- Changes ------------------------------------------------------------------------------------

Result<std::uint32_t> BlockPackage::free_block() {
  const std::uint32_t total = total_blocks();
  const std::uint32_t unallocated = be32(bytes_, unallocated_at);
  for (std::uint32_t block = search_from_; block < total; ++block) {
    if ((link(block).status & in_use) != 0 || !holds(block_at(block), block_bytes)) continue;
    search_from_ = block;
    if (unallocated > 0) put_be32(bytes_, unallocated_at, unallocated - 1);
    return block;
  }
  search_from_ = total;
  if (total == max_blocks)
    return fail(ErrorCode::does_not_fit, fmt::format("a package of over {} blocks", max_blocks),
                "take something out of it first");
  const int before = levels();
  const bool second = copies_ == 2 && (bytes_[separation_at] & 2) != 0;
  put_be32(bytes_, total_at, total + 1);
  const std::size_t old_size = bytes_.size();
  bytes_.resize(std::max(old_size, block_at(total) + block_bytes));
  put_be32(bytes_, content_size_at + 4,
           be32(bytes_, content_size_at + 4) + static_cast<std::uint32_t>(bytes_.size() - old_size));
  if (levels() > before) {
    // The tables so far get one above them: it says which copy of the old top one counts.
    const std::size_t top = table_at(0, before);
    std::fill_n(bytes_.begin() + static_cast<std::ptrdiff_t>(top),
                block_bytes * static_cast<std::size_t>(copies_), Byte{0});
    bytes_[top + 20] = second ? second_copy : 0;
    bytes_[separation_at] = static_cast<Byte>(bytes_[separation_at] & ~2);
  }
  if (total % per_table == 0) {
    const std::size_t table = table_at(total, 0);
    std::fill_n(bytes_.begin() + static_cast<std::ptrdiff_t>(table),
                block_bytes * static_cast<std::size_t>(copies_), Byte{0});
  }
  // Each table says how many blocks are under it, where it did so before.
  std::uint32_t span = per_table;
  for (int level = 0; level < levels(); ++level, span *= per_table) {
    const std::uint32_t before_it = total % span;
    const std::size_t count_at = active_table_at(total, level) + table_count_at;
    const bool is_new = before_it == 0 || (level >= before && levels() > before);
    if (holds(count_at, 4) && (is_new || be32(bytes_, count_at) == before_it))
      put_be32(bytes_, count_at, before_it + 1);
  }
  set_link(total, {0, no_block});
  return total;
}

Result<void> BlockPackage::resize_chain(std::vector<std::uint32_t>& blocks, std::size_t count) {
  while (blocks.size() > count) {
    set_link(blocks.back(), {freed, no_block});
    search_from_ = std::min(search_from_, blocks.back());
    put_be32(bytes_, unallocated_at, be32(bytes_, unallocated_at) + 1);
    blocks.pop_back();
  }
  while (blocks.size() < count) {
    BAYSWAP_TRY(const std::uint32_t block, free_block());
    set_link(block, {newly_used, no_block});
    blocks.push_back(block);
  }
  for (std::size_t i = 0; i < blocks.size(); ++i)
    set_link(blocks[i], {link(blocks[i]).status, i + 1 < blocks.size() ? blocks[i + 1] : no_block});
  return {};
}

// The index of the folder's record, made if need be; 0xFFFF for the root.
Result<std::size_t> BlockPackage::folder_record(const std::string& path, std::int64_t modified) {
  if (path.empty()) return std::size_t{0xFFFF};
  const auto found = file_at_.find(path);
  if (found != file_at_.end()) {
    if (!files_[found->second].folder)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is a file in the package, no folder", printable(path)));
    return record_of_[found->second];
  }
  const auto [above, name] = split(path);
  BAYSWAP_TRY(const std::size_t parent, folder_record(above, modified));
  return new_record(name, true, parent, modified);
}

Result<std::size_t> BlockPackage::new_record(const std::string& name, bool folder, std::size_t parent,
                                             std::int64_t modified) {
  if (name.empty() || name.size() > Record::name_most || !is_safe_name(name))
    return fail(ErrorCode::does_not_fit,
                fmt::format("'{}' is not a name for a file in a package", printable(name)),
                fmt::format("it has 1 to {} bytes", Record::name_most));
  std::size_t slot = 0;
  while (slot < records_.size() && records_[slot].name_size() > 0) ++slot;
  if (slot >= 0xFFFF) return fail(ErrorCode::does_not_fit, "the package's file table is full");
  if (slot == records_.size()) records_.emplace_back();
  records_[slot].make(name, folder, static_cast<std::uint16_t>(parent));
  records_[slot].place({}, 0);
  if (folder) records_[slot].raw[40] &= static_cast<Byte>(~Record::contiguous_flag);
  records_[slot].stamp(modified);
  BAYSWAP_CHECK(list_files());
  return slot;
}

Result<void> BlockPackage::put(const std::string& path, ByteView bytes, std::int64_t modified) {
  BlockPackage changed = *this;
  BAYSWAP_CHECK(changed.put_here(path, bytes, modified));
  *this = std::move(changed);
  return {};
}

Result<void> BlockPackage::put_here(const std::string& path, ByteView bytes, std::int64_t modified) {
  const auto found = file_at_.find(path);
  std::size_t slot = 0;
  if (found == file_at_.end()) {
    const auto [above, name] = split(path);
    BAYSWAP_TRY(const std::size_t parent, folder_record(above, modified));
    BAYSWAP_TRY(slot, new_record(name, false, parent, modified));
  } else if (files_[found->second].folder) {
    return fail(ErrorCode::bad_usage, fmt::format("{} is a folder in the package", printable(path)));
  } else {
    slot = record_of_[found->second];
  }
  const Record old = records_[slot];
  BAYSWAP_TRY(auto blocks, chain(old.first(), old.size() == 0 ? 0 : old.blocks()));
  BAYSWAP_CHECK(resize_chain(blocks, blocks_for(bytes.size())));
  for (std::size_t i = 0; i < blocks.size(); ++i) {
    const auto at = bytes_.begin() + static_cast<std::ptrdiff_t>(block_at(blocks[i]));
    const ByteView piece =
        bytes.subspan(i * block_bytes, std::min(block_bytes, bytes.size() - i * block_bytes));
    std::fill(std::ranges::copy(piece, at).out, at + block_bytes, Byte{0});
  }
  records_[slot].place(blocks, bytes.size());
  records_[slot].stamp(modified);
  BAYSWAP_CHECK(write_table());
  make_hashes_right();
  return {};
}

Result<void> BlockPackage::drop(const std::string& path) {
  const auto found = file_at_.find(path);
  if (found == file_at_.end() || files_[found->second].folder)
    return fail(ErrorCode::not_found, fmt::format("no file '{}' in the package", printable(path)));
  const std::size_t slot = record_of_[found->second];
  const Record old = records_[slot];
  BAYSWAP_TRY(auto blocks, chain(old.first(), old.size() == 0 ? 0 : old.blocks()));
  BAYSWAP_CHECK(resize_chain(blocks, 0));
  records_[slot].raw.fill(0);
  BAYSWAP_CHECK(write_table());
  make_hashes_right();
  return {};
}

void BlockPackage::set_profile_id(std::uint64_t id) {
  put_be32(bytes_, profile_id_at, static_cast<std::uint32_t>(id >> 32));
  put_be32(bytes_, profile_id_at + 4, static_cast<std::uint32_t>(id & 0xFFFFFFFF));
  make_hashes_right();
}

// ---- Hashes -------------------------------------------------------------------------------------

// Of what was touched, from the blocks up to the header: what was wrong elsewhere stays wrong and is shown.
void BlockPackage::make_hashes_right() {
  const auto hash_into = [this](std::size_t from, std::size_t to) {
    if (holds(from, block_bytes) && holds(to, 20))
      std::ranges::copy(sha1(ByteView(bytes_).subspan(from, block_bytes)),
                        bytes_.begin() + static_cast<std::ptrdiff_t>(to));
  };
  for (const std::uint32_t block : touched_)
    hash_into(block_at(block), active_table_at(block, 0) + block % per_table * hash_entry_bytes);
  for (int level = 0; level + 1 < levels(); ++level) {
    std::set<std::uint32_t> groups;
    const std::uint32_t span = level == 0 ? per_table : per_level1;
    for (const std::uint32_t block : touched_) groups.insert(block / span * span);
    // A table that came up above the others has to know the first one, too.
    groups.insert(0);
    for (const std::uint32_t block : groups)
      hash_into(active_table_at(block, level),
                active_table_at(block, level + 1) + block / span % per_table * hash_entry_bytes);
  }
  if (total_blocks() > 0 && !touched_.empty()) hash_into(active_table_at(0, levels() - 1), top_hash_at);
  touched_.clear();
  std::ranges::copy(sha1(ByteView(bytes_).subspan(content_type_at, base_ - content_type_at)),
                    bytes_.begin() + header_hash_at);
}

}  // namespace bayswap
