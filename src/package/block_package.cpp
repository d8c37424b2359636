// x360 packages: blocks of 4 KiB under a tree of hash tables. docs/formats/x360.md has every field.
#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "package/block_package_format.hpp"

namespace bayswap {

using namespace x360;

BlockPackage::BlockPackage() = default;
BlockPackage::BlockPackage(const BlockPackage&) = default;
BlockPackage& BlockPackage::operator=(const BlockPackage&) = default;
BlockPackage::BlockPackage(BlockPackage&&) noexcept = default;
BlockPackage& BlockPackage::operator=(BlockPackage&&) noexcept = default;
BlockPackage::~BlockPackage() = default;

bool BlockPackage::is_one(ByteView head) {
  if (head.size() < least_header) return false;
  const std::string_view word(reinterpret_cast<const char*>(head.data()), 4);
  return word == "CON " || word == "LIVE" || word == "PIRS";
}

Result<BlockPackage> BlockPackage::open(const Blob& image) {
  if (!is_one(image.view()))
    return fail(ErrorCode::not_recognised, "no package: it does not begin with CON, LIVE or PIRS");
  BlockPackage package;
  package.bytes_.assign(image.view().begin(), image.view().end());
  const ByteView bytes = package.bytes_;
  package.base_ = (std::size_t{be32(bytes, header_size_at)} + block_bytes - 1) / block_bytes * block_bytes;
  if (be32(bytes, volume_kind_at) != 0)
    return fail(ErrorCode::unsupported,
                fmt::format("a package whose volume is of kind {}, not of blocks under hash tables",
                            be32(bytes, volume_kind_at)),
                "saves are never of that kind; it can only be carried whole");
  package.copies_ = (bytes[separation_at] & 1) != 0 ? 1 : 2;
  const std::uint32_t total = package.total_blocks();
  if (package.base_ < least_header || package.base_ > bytes.size() || total > max_blocks ||
      (total > 0 && !package.holds(package.active_table_at(0, package.levels() - 1), block_bytes)))
    return fail(
        ErrorCode::damaged,
        fmt::format("the package's header says {} blocks after offset {:X}, and the package has {} bytes",
                    total, package.base_, bytes.size()),
        "it was cut short, or its header is damaged; copy it again");
  BAYSWAP_CHECK(package.read_table());
  return package;
}

std::string BlockPackage::signer() const {
  return {bytes_.begin(), bytes_.begin() + 4};
}
std::uint32_t BlockPackage::content_type() const {
  return be32(bytes_, content_type_at);
}
std::uint32_t BlockPackage::title_id() const {
  return be32(bytes_, title_id_at);
}
std::uint64_t BlockPackage::profile_id() const {
  return be64(bytes_, profile_id_at);
}
std::string BlockPackage::display_name() const {
  return utf16_to_utf8(ByteView(bytes_).subspan(display_name_at, display_name_bytes));
}
std::string BlockPackage::title_name() const {
  return utf16_to_utf8(ByteView(bytes_).subspan(title_name_at, title_name_bytes));
}
Blob BlockPackage::thumbnail() const {
  const std::size_t size = std::min<std::size_t>(be32(bytes_, thumbnail_size_at), thumbnail_most);
  return Blob::copy_of(ByteView(bytes_).subspan(thumbnail_at, size));
}
Blob BlockPackage::image() const {
  return Blob::copy_of(bytes_);
}

// ---- Where things are ---------------------------------------------------------------------------

std::uint32_t BlockPackage::total_blocks() const {
  return be32(bytes_, total_at);
}
int BlockPackage::levels() const {
  const std::uint32_t total = total_blocks();
  return total <= per_table ? 1 : total <= per_level1 ? 2 : 3;
}

// Each group of 170 blocks has its table in front, each group of 170 groups another one after its first
// group.
std::size_t BlockPackage::block_at(std::uint32_t block) const {
  const auto copies = static_cast<std::size_t>(copies_);
  std::size_t place = block + (block / per_table + 1) * copies;
  if (block >= per_table) place += (block / per_level1 + 1) * copies;
  if (block >= per_level1) place += copies;
  return base_ + place * block_bytes;
}

std::size_t BlockPackage::table_at(std::uint32_t block, int level) const {
  const auto copies = static_cast<std::size_t>(copies_);
  const std::size_t step0 = per_table + copies;
  const std::size_t step1 = per_level1 + copies * (per_table + 1);
  std::size_t place = 0;
  if (level == 0 && block >= per_table) {
    place = block / per_table * step0 + (block / per_level1 + 1) * copies;
    if (block >= per_level1) place += copies;
  } else if (level == 1) {
    place = block < per_level1 ? step0 : block / per_level1 * step1 + copies;
  } else if (level == 2) {
    place = step1;
  }
  return base_ + place * block_bytes;
}

// With two copies of each table, a sign in the table above says which one counts.
std::size_t BlockPackage::active_table_at(std::uint32_t block, int level) const {
  const std::size_t at = table_at(block, level);
  if (copies_ == 1) return at;
  bool second = (bytes_[separation_at] & 2) != 0;
  if (level + 1 < levels()) {
    const std::size_t parent = active_table_at(block, level + 1);
    const std::size_t index = level == 0 ? block / per_table % per_table : block / per_level1;
    const std::size_t sign = parent + index * hash_entry_bytes + 20;
    second = holds(sign, 1) && (bytes_[sign] & second_copy) != 0;
  }
  return at + (second ? block_bytes : 0);
}

bool BlockPackage::holds(std::size_t at, std::size_t count) const {
  return at <= bytes_.size() && bytes_.size() - at >= count;
}

BlockPackage::Link BlockPackage::link(std::uint32_t block) const {
  const std::size_t at = active_table_at(block, 0) + block % per_table * hash_entry_bytes;
  if (!holds(at, hash_entry_bytes)) return {0, no_block};
  return {bytes_[at + 20], be24(bytes_, at + 21)};
}

void BlockPackage::set_link(std::uint32_t block, Link link) {
  const std::size_t at = active_table_at(block, 0) + block % per_table * hash_entry_bytes;
  if (!holds(at, hash_entry_bytes)) return;
  bytes_[at + 20] = link.status;
  put_be24(bytes_, at + 21, link.next);
  touched_.insert(block);
}

Result<std::vector<std::uint32_t>> BlockPackage::chain(std::uint32_t first, std::uint32_t count) const {
  std::vector<std::uint32_t> blocks;
  const std::uint32_t total = total_blocks();
  std::uint32_t block = first;
  std::set<std::uint32_t> seen;
  for (std::uint32_t i = 0; i < count; ++i) {
    if (block >= total || !holds(block_at(block), block_bytes) || !seen.insert(block).second)
      return fail(ErrorCode::damaged,
                  fmt::format("a chain of {} blocks from block {} on leads to block {} of {}", count, first,
                              block, total),
                  "the package was cut short, or its tables are damaged");
    blocks.push_back(block);
    block = link(block).next;
  }
  return blocks;
}

// ---- The file table -----------------------------------------------------------------------------

Result<void> BlockPackage::read_table() {
  BAYSWAP_TRY(const auto blocks, chain(le24(bytes_, table_first_at), le16(bytes_, table_blocks_at)));
  records_.clear();
  for (const std::uint32_t block : blocks) {
    for (std::size_t at = 0; at < block_bytes; at += Record::size_bytes) {
      Record record;
      std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(block_at(block) + at), Record::size_bytes,
                  record.raw.begin());
      records_.push_back(record);
    }
  }
  return list_files();
}

Result<void> BlockPackage::write_table() {
  BAYSWAP_TRY(auto blocks, chain(le24(bytes_, table_first_at), le16(bytes_, table_blocks_at)));
  const std::size_t per_block = block_bytes / Record::size_bytes;
  BAYSWAP_CHECK(resize_chain(blocks, (records_.size() + per_block - 1) / per_block));
  put_le(bytes_, table_blocks_at, 2, blocks.size());
  put_le(bytes_, table_first_at, 3, blocks.front());
  records_.resize(blocks.size() * per_block);
  for (std::size_t i = 0; i < records_.size(); ++i) {
    const std::uint32_t block = blocks[i / per_block];
    const std::size_t at = block_at(block) + i % per_block * Record::size_bytes;
    std::ranges::copy(records_[i].raw, bytes_.begin() + static_cast<std::ptrdiff_t>(at));
    touched_.insert(block);
  }
  return list_files();
}

Result<void> BlockPackage::list_files() {
  files_.clear();
  record_of_.clear();
  file_at_.clear();
  lost_records_ = 0;
  std::uint64_t claimed = 0;
  for (std::size_t i = 0; i < records_.size(); ++i) {
    const Record& record = records_[i];
    if (record.name_size() == 0) continue;
    std::string path = record.name();
    if (!is_safe_name(path))
      return fail(ErrorCode::damaged, fmt::format("'{}' in the package is not a file name", printable(path)),
                  "its file table is damaged, or made to mislead; copy it again");
    if (!record.is_folder()) claimed += blocks_for(record.size());
    std::uint16_t parent = record.parent();
    bool sound = true;
    for (int depth = 0; parent != 0xFFFF && sound; ++depth) {
      sound = depth < 32 && parent < records_.size() && records_[parent].name_size() > 0;
      if (!sound) break;
      path.insert(0, records_[parent].name() + "/");
      parent = records_[parent].parent();
    }
    if (!sound) {
      ++lost_records_;
      continue;
    }
    file_at_.emplace(path, files_.size());
    files_.push_back(
        {path, record.is_folder(), record.is_folder() ? 0 : record.size(), from_fat_time(record.updated())});
    record_of_.push_back(i);
  }
  if (claimed > total_blocks())
    return fail(ErrorCode::damaged,
                fmt::format("the package's files claim {} blocks, and it has {}", claimed, total_blocks()),
                "its file table is damaged, or made to mislead; copy it again");
  return {};
}

Result<Blob> BlockPackage::read(const std::string& path) const {
  const auto found = file_at_.find(path);
  if (found == file_at_.end() || files_[found->second].folder) {
    std::vector<std::string> names;
    for (const PackagedFile& file : files_)
      if (!file.folder) names.push_back(file.path);
    return fail(ErrorCode::not_found, fmt::format("no file '{}' in the package", printable(path)),
                did_you_mean(path, names));
  }
  const Record& record = records_[record_of_[found->second]];
  const std::size_t count = blocks_for(record.size());
  BAYSWAP_TRY(const auto blocks, chain(record.first(), static_cast<std::uint32_t>(count)));
  Buffer out(record.size());
  for (std::size_t i = 0; i < blocks.size(); ++i)
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(block_at(blocks[i])),
                std::min(block_bytes, record.size() - i * block_bytes),
                out.bytes().begin() + static_cast<std::ptrdiff_t>(i * block_bytes));
  return std::move(out).freeze();
}

std::vector<std::string> BlockPackage::check() const {
  std::vector<std::string> problems;
  const auto differs = [this](std::size_t from, std::size_t size, std::size_t at) {
    return !holds(from, size) || !holds(at, 20) ||
           !std::ranges::equal(sha1(ByteView(bytes_).subspan(from, size)), ByteView(bytes_).subspan(at, 20));
  };
  if (differs(content_type_at, base_ - content_type_at, header_hash_at))
    problems.emplace_back("the header's hash is wrong");
  if (lost_records_ > 0)
    problems.push_back(
        fmt::format("{} files are in a folder that does not exist: they can't be read", lost_records_));
  const std::size_t room = (bytes_.size() - std::min(bytes_.size(), base_)) / block_bytes;
  if (total_blocks() > room)
    problems.push_back(
        fmt::format("the header speaks of {} blocks, and the file has room for {}", total_blocks(), room));
  const auto total = static_cast<std::uint32_t>(std::min<std::size_t>(total_blocks(), room));
  if (total == 0) return problems;
  if (differs(active_table_at(0, levels() - 1), block_bytes, top_hash_at))
    problems.emplace_back("the hash of the top hash table is wrong");
  for (int level = levels() - 2; level >= 0; --level) {
    const std::uint32_t span = level == 0 ? per_table : per_level1;
    for (std::uint32_t block = 0; block < total; block += span)
      if (differs(active_table_at(block, level), block_bytes,
                  active_table_at(block, level + 1) + block / span % per_table * hash_entry_bytes))
        problems.push_back(fmt::format("the hash of the table over blocks {} and up is wrong", block));
  }
  for (std::uint32_t block = 0; block < total; ++block)
    if ((link(block).status & in_use) != 0 &&
        differs(block_at(block), block_bytes,
                active_table_at(block, 0) + block % per_table * hash_entry_bytes))
      problems.push_back(fmt::format("the hash of block {} is wrong", block));
  return problems;
}

}  // namespace bayswap
