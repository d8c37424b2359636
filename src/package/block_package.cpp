// x360 packages: blocks of 4 KiB under a tree of hash tables. docs/formats/x360.md has every field.
#include <bayswap/package.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checksum.hpp"
#include "base/clock.hpp"
#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t block_bytes = 0x1000;
constexpr std::uint32_t per_table = 0xAA;      // entries of a hash table
constexpr std::uint32_t per_level1 = 0x70E4;   // 0xAA squared
constexpr std::uint32_t most_blocks = 0x4000;  // 64 MiB: saves are far smaller
constexpr std::uint32_t no_block = 0xFFFFFF;
constexpr std::size_t hash_entry_bytes = 24;
constexpr std::size_t table_count_at = 0xFF0;

constexpr std::size_t header_hash_at = 0x32C;
constexpr std::size_t header_size_at = 0x340;
constexpr std::size_t content_type_at = 0x344;  // from here on the header is hashed
constexpr std::size_t content_size_at = 0x34C;
constexpr std::size_t title_id_at = 0x360;
constexpr std::size_t profile_id_at = 0x371;
constexpr std::size_t separation_at = 0x37B;
constexpr std::size_t table_blocks_at = 0x37C;
constexpr std::size_t table_first_at = 0x37E;
constexpr std::size_t top_hash_at = 0x381;
constexpr std::size_t total_at = 0x395;
constexpr std::size_t unallocated_at = 0x399;
constexpr std::size_t volume_kind_at = 0x3A9;  // 0: blocks under hash tables
constexpr std::size_t display_name_at = 0x411;
constexpr std::size_t title_name_at = 0x1691;
constexpr std::size_t name_bytes = 128;
constexpr std::size_t thumbnail_size_at = 0x1712;
constexpr std::size_t thumbnail_at = 0x171A;
constexpr std::size_t thumbnail_most = 0x4000;
constexpr std::size_t least_header = 0x971A;

constexpr Byte in_use = 0x80;
constexpr Byte newly_used = 0xC0;
constexpr Byte freed = 0x40;
constexpr Byte second_copy = 0x40;

std::uint32_t be24(ByteView bytes, std::size_t at) {
  return (std::uint32_t{bytes[at]} << 16) | be16(bytes, at + 1);
}
std::uint32_t le24(ByteView bytes, std::size_t at) {
  return le16(bytes, at) | (std::uint32_t{bytes[at + 2]} << 16);
}
void put_be24(std::span<Byte> bytes, std::size_t at, std::uint32_t value) {
  bytes[at] = static_cast<Byte>(value >> 16);
  put_be16(bytes, at + 1, static_cast<std::uint16_t>(value & 0xffff));
}

// The calendar of FAT: two-second steps since 1980, date in the upper half.
std::optional<std::int64_t> from_fat_time(std::uint32_t value) {
  const auto part = [value](unsigned shift, unsigned bits) {
    return static_cast<int>((value >> shift) & ((1U << bits) - 1));
  };
  return seconds_of({1980 + part(25, 7), part(21, 4), part(16, 5), part(11, 5), part(5, 6), part(0, 5) * 2});
}
std::uint32_t to_fat_time(std::int64_t seconds) {
  const ClockTime time = clock_time(seconds);
  const auto year = static_cast<unsigned>(std::clamp(time.year - 1980, 0, 127));
  return (year << 25) | (static_cast<unsigned>(time.month) << 21) | (static_cast<unsigned>(time.day) << 16) |
         (static_cast<unsigned>(time.hour) << 11) | (static_cast<unsigned>(time.minute) << 5) |
         static_cast<unsigned>(time.second / 2);
}

std::size_t blocks_for(std::size_t size) {
  return (size + block_bytes - 1) / block_bytes;
}

std::pair<std::string, std::string> split(const std::string& path) {
  const auto slash = path.rfind('/');
  if (slash == std::string::npos) return {"", path};
  return {path.substr(0, slash), path.substr(slash + 1)};
}

}  // namespace

// An entry of the file table, as it stands there.
struct BlockPackage::Record {
  static constexpr std::size_t size_bytes = 64;
  static constexpr std::size_t name_most = 40;
  static constexpr Byte folder_flag = 0x80;
  static constexpr Byte contiguous_flag = 0x40;

  std::array<Byte, size_bytes> raw{};

  [[nodiscard]] std::size_t name_size() const { return std::min<std::size_t>(raw[40] & 0x3F, name_most); }
  [[nodiscard]] std::string name() const {
    return {raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(name_size())};
  }
  [[nodiscard]] bool is_folder() const { return (raw[40] & folder_flag) != 0; }
  [[nodiscard]] std::uint32_t blocks() const { return le24(raw, 41); }
  [[nodiscard]] std::uint32_t first() const { return le24(raw, 47); }
  [[nodiscard]] std::uint16_t parent() const { return be16(raw, 50); }
  [[nodiscard]] std::uint32_t size() const { return be32(raw, 52); }
  [[nodiscard]] std::uint32_t updated() const { return be32(raw, 56); }

  void make(const std::string& name, bool folder, std::uint16_t parent) {
    raw.fill(0);
    std::ranges::copy(name, raw.begin());
    raw[40] = static_cast<Byte>(name.size() | (folder ? folder_flag : 0));
    put_be16(raw, 50, parent);
  }
  void place(const std::vector<std::uint32_t>& chain, std::size_t size) {
    put_le(raw, 41, 3, chain.size());
    put_le(raw, 44, 3, chain.size());
    put_le(raw, 47, 3, chain.empty() ? 0 : chain.front());
    put_be32(raw, 52, static_cast<std::uint32_t>(size));
    bool in_a_row = true;
    for (std::size_t i = 1; i < chain.size(); ++i) in_a_row = in_a_row && chain[i] == chain[i - 1] + 1;
    raw[40] = static_cast<Byte>((raw[40] & ~contiguous_flag) | (in_a_row ? contiguous_flag : 0));
  }
  void stamp(std::int64_t modified) {
    put_be32(raw, 56, to_fat_time(modified));
    put_be32(raw, 60, to_fat_time(modified));
  }
};

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
  if (package.base_ < least_header || package.base_ > bytes.size() || total > most_blocks ||
      (total > 0 && !package.holds(package.active_table_at(0, package.levels() - 1), block_bytes)))
    return fail(ErrorCode::damaged,
                fmt::format("the package speaks of {} blocks behind offset {:X}, and has {} bytes", total,
                            package.base_, bytes.size()),
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
  return utf16_to_utf8(ByteView(bytes_).subspan(display_name_at, name_bytes));
}
std::string BlockPackage::title_name() const {
  return utf16_to_utf8(ByteView(bytes_).subspan(title_name_at, name_bytes));
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

// Each group of 170 blocks has its table in front, each group of 170 groups another one behind its first
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
  for (std::uint32_t i = 0; i < count; ++i) {
    if (block >= total || i >= total || !holds(block_at(block), block_bytes))
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
  list_files();
  return {};
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
  list_files();
  return {};
}

void BlockPackage::list_files() {
  files_.clear();
  record_of_.clear();
  for (std::size_t i = 0; i < records_.size(); ++i) {
    const Record& record = records_[i];
    if (record.name_size() == 0) continue;
    std::string path = record.name();
    std::uint16_t parent = record.parent();
    bool sound = true;
    for (int depth = 0; parent != 0xFFFF && sound; ++depth) {
      sound = depth < 32 && parent < records_.size() && records_[parent].name_size() > 0;
      if (!sound) break;
      path.insert(0, records_[parent].name() + "/");
      parent = records_[parent].parent();
    }
    if (!sound) continue;
    files_.push_back(
        {path, record.is_folder(), record.is_folder() ? 0 : record.size(), from_fat_time(record.updated())});
    record_of_.push_back(i);
  }
}

Result<Blob> BlockPackage::read(const std::string& path) const {
  const auto found = std::ranges::find(files_, path, &PackagedFile::path);
  if (found == files_.end() || found->folder) {
    std::vector<std::string> names;
    for (const PackagedFile& file : files_)
      if (!file.folder) names.push_back(file.path);
    return fail(ErrorCode::not_found, fmt::format("no file '{}' in the package", printable(path)),
                did_you_mean(path, names));
  }
  const Record& record = records_[record_of_[static_cast<std::size_t>(found - files_.begin())]];
  const std::size_t count = blocks_for(record.size());
  BAYSWAP_TRY(const auto blocks, chain(record.first(), static_cast<std::uint32_t>(count)));
  Buffer out(record.size());
  for (std::size_t i = 0; i < blocks.size(); ++i)
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(block_at(blocks[i])),
                std::min(block_bytes, record.size() - i * block_bytes),
                out.bytes().begin() + static_cast<std::ptrdiff_t>(i * block_bytes));
  return std::move(out).freeze();
}

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
  if (total == most_blocks)
    return fail(ErrorCode::does_not_fit, fmt::format("a package of over {} blocks", most_blocks),
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
  const std::size_t count_at = active_table_at(total, levels() - 1) + table_count_at;
  if (levels() > before || be32(bytes_, count_at) == total) put_be32(bytes_, count_at, total + 1);
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
  const auto found = std::ranges::find(files_, path, &PackagedFile::path);
  if (found != files_.end()) {
    if (!found->folder)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is a file in the package, no folder", printable(path)));
    return record_of_[static_cast<std::size_t>(found - files_.begin())];
  }
  const auto [above, name] = split(path);
  BAYSWAP_TRY(const std::size_t parent, folder_record(above, modified));
  return new_record(name, true, parent, modified);
}

Result<std::size_t> BlockPackage::new_record(const std::string& name, bool folder, std::size_t parent,
                                             std::int64_t modified) {
  if (name.empty() || name.size() > Record::name_most || name == "." || name == "..")
    return fail(ErrorCode::does_not_fit,
                fmt::format("'{}' is no name for a file in a package", printable(name)),
                fmt::format("it has 1 to {} bytes", Record::name_most));
  std::size_t slot = 0;
  while (slot < records_.size() && records_[slot].name_size() > 0) ++slot;
  if (slot >= 0xFFFF) return fail(ErrorCode::does_not_fit, "the package's file table is full");
  if (slot == records_.size()) records_.emplace_back();
  records_[slot].make(name, folder, static_cast<std::uint16_t>(parent));
  records_[slot].place({}, 0);
  if (folder) records_[slot].raw[40] &= static_cast<Byte>(~Record::contiguous_flag);
  records_[slot].stamp(modified);
  list_files();
  return slot;
}

Result<void> BlockPackage::put(const std::string& path, ByteView bytes, std::int64_t modified) {
  BlockPackage changed = *this;
  BAYSWAP_CHECK(changed.put_here(path, bytes, modified));
  *this = std::move(changed);
  return {};
}

Result<void> BlockPackage::put_here(const std::string& path, ByteView bytes, std::int64_t modified) {
  const auto found = std::ranges::find(files_, path, &PackagedFile::path);
  std::size_t slot = 0;
  if (found == files_.end()) {
    const auto [above, name] = split(path);
    BAYSWAP_TRY(const std::size_t parent, folder_record(above, modified));
    BAYSWAP_TRY(slot, new_record(name, false, parent, modified));
  } else if (found->folder) {
    return fail(ErrorCode::bad_usage, fmt::format("{} is a folder in the package", printable(path)));
  } else {
    slot = record_of_[static_cast<std::size_t>(found - files_.begin())];
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
  const auto found = std::ranges::find(files_, path, &PackagedFile::path);
  if (found == files_.end() || found->folder)
    return fail(ErrorCode::not_found, fmt::format("no file '{}' in the package", printable(path)));
  const std::size_t slot = record_of_[static_cast<std::size_t>(found - files_.begin())];
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

std::vector<std::string> BlockPackage::check() const {
  std::vector<std::string> problems;
  const auto differs = [this](std::size_t from, std::size_t size, std::size_t at) {
    return !holds(from, size) || !holds(at, 20) ||
           !std::ranges::equal(sha1(ByteView(bytes_).subspan(from, size)), ByteView(bytes_).subspan(at, 20));
  };
  if (differs(content_type_at, base_ - content_type_at, header_hash_at))
    problems.emplace_back("the header's hash is wrong");
  const std::uint32_t total = total_blocks();
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
