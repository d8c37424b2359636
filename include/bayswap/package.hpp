// Packages: containers with files inside, and the small databases that saves need. Belongs to bayswap::core.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>

#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A psp parameter file (PARAM.SFO; docs/formats/psp.md): keys with values, each with a fixed amount of room.
class ParameterFile {
 public:
  /// A text, which ends with 00 in the file; a number; or bytes without an end mark.
  using Value = std::variant<std::string, std::uint32_t, Blob>;
  struct Entry {
    std::string key;
    Value value;
    std::size_t room_bytes = 0;  // the largest size of the value
  };

  /// Parses a file. Fails with `not_recognised` if it is not a parameter file, `damaged` if a table or a
  /// value leads out of it.
  [[nodiscard]] static Result<ParameterFile> parse(ByteView file);
  [[nodiscard]] static bool is_one(ByteView file);
  /// Returns the file as the console writes it: keys in byte order, values at multiples of four.
  [[nodiscard]] Blob encode() const;

  [[nodiscard]] const std::vector<Entry>& entries() const { return entries_; }
  /// Returns the text of a key; nothing if it does not exist or is not a text.
  [[nodiscard]] std::optional<std::string> text(std::string_view key) const;
  [[nodiscard]] std::optional<std::uint32_t> number(std::string_view key) const;
  /// Sets a value, or adds it with `room_bytes` of room. Fails with `does_not_fit` if the key's room is too
  /// small, `bad_usage` if the key has a value of another kind, is empty, or contains 00.
  [[nodiscard]] Result<void> set(const std::string& key, Value value, std::size_t room_bytes = 0);

 private:
  std::uint32_t version_ = 0x101;
  std::vector<Entry> entries_;
};

/// Returns whether a file is an avatar database of a wii (docs/formats/wii.md).
[[nodiscard]] bool is_avatar_database(ByteView file);
/// Returns what is wrong with an avatar database; nothing if its checksum is right.
[[nodiscard]] std::optional<std::string> avatar_database_problem(ByteView file);
/// Returns how many avatars of the console's owner it contains, 0 to 100.
[[nodiscard]] std::size_t avatars_in(ByteView file);

/// A file in a package.
struct PackagedFile {
  std::string path;  // with '/' between folders
  bool folder = false;
  std::size_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970, UTC
};

/// An x360 package: a header, hash tables over its blocks of 4 KiB, a table of files. docs/formats/x360.md.
/// Changes apply in memory and correct every hash; the signature can only be made by a console and stays
/// unchanged. Not for several threads at once while one changes it.
class BlockPackage {
 public:
  /// Opens a package. Fails with `not_recognised` if it is not one, `damaged` if its header or file table
  /// lead out of the file, its files claim more blocks than it has, or it contains a name that files cannot
  /// have.
  [[nodiscard]] static Result<BlockPackage> open(const Blob& image);
  [[nodiscard]] static bool is_one(ByteView head);

  /// Returns who signed it: "CON ", "LIVE" or "PIRS".
  [[nodiscard]] std::string signer() const;
  [[nodiscard]] std::uint32_t content_type() const;  // 1 for a save
  [[nodiscard]] std::uint32_t title_id() const;
  [[nodiscard]] std::uint64_t profile_id() const;
  [[nodiscard]] std::string display_name() const;
  [[nodiscard]] std::string title_name() const;
  /// Returns a PNG file; empty if there is none.
  [[nodiscard]] Blob thumbnail() const;
  /// Returns how many copies of each hash table it has, 1 or 2.
  [[nodiscard]] int table_copies() const { return copies_; }

  [[nodiscard]] const std::vector<PackagedFile>& files() const { return files_; }
  /// Returns a file's bytes. Fails with `not_found` if it does not exist, `damaged` if its blocks form a loop
  /// or lead out of the package.
  [[nodiscard]] Result<Blob> read(const std::string& path) const;
  /// Replaces or adds a file, and makes its folders. `modified`: seconds since 1970. Fails with
  /// `does_not_fit` if the package can't grow so far.
  [[nodiscard]] Result<void> put(const std::string& path, ByteView bytes, std::int64_t modified);
  [[nodiscard]] Result<void> drop(const std::string& path);
  void set_profile_id(std::uint64_t id);
  /// Returns every wrong hash, a sentence each; none for a sound package. Does not check the signature.
  [[nodiscard]] std::vector<std::string> check() const;
  [[nodiscard]] Blob image() const;

 private:
  struct Record;  // of the file table
  struct Link {
    Byte status = 0;
    std::uint32_t next = 0;
  };
  [[nodiscard]] std::uint32_t total_blocks() const;
  [[nodiscard]] int levels() const;
  [[nodiscard]] std::size_t block_at(std::uint32_t block) const;
  [[nodiscard]] std::size_t table_at(std::uint32_t block, int level) const;
  [[nodiscard]] std::size_t active_table_at(std::uint32_t block, int level) const;
  [[nodiscard]] bool holds(std::size_t at, std::size_t count) const;
  [[nodiscard]] Link link(std::uint32_t block) const;
  void set_link(std::uint32_t block, Link link);
  [[nodiscard]] Result<std::vector<std::uint32_t>> chain(std::uint32_t first, std::uint32_t count) const;
  [[nodiscard]] Result<std::uint32_t> free_block();
  [[nodiscard]] Result<void> resize_chain(std::vector<std::uint32_t>& blocks, std::size_t count);
  [[nodiscard]] Result<void> read_table();
  [[nodiscard]] Result<void> write_table();
  [[nodiscard]] Result<std::size_t> folder_record(const std::string& path, std::int64_t modified);
  [[nodiscard]] Result<std::size_t> new_record(const std::string& name, bool folder, std::size_t parent,
                                               std::int64_t modified);
  [[nodiscard]] Result<void> put_here(const std::string& path, ByteView bytes, std::int64_t modified);
  void make_hashes_right();
  [[nodiscard]] Result<void> list_files();

  std::vector<Byte> bytes_;
  std::size_t base_ = 0;  // where the first hash table is
  int copies_ = 1;
  std::vector<Record> records_;
  std::vector<PackagedFile> files_;
  std::vector<std::size_t> record_of_;          // of each of files_
  std::map<std::string, std::size_t> file_at_;  // by path: which of files_, the first of that name
  std::size_t lost_records_ = 0;                // whose folder does not exist
  std::set<std::uint32_t> touched_;             // blocks whose hashes are not right yet
  std::uint32_t search_from_ = 0;               // no block before it is free

 public:
  BlockPackage();
  BlockPackage(const BlockPackage&);
  BlockPackage& operator=(const BlockPackage&);
  BlockPackage(BlockPackage&&) noexcept;
  BlockPackage& operator=(BlockPackage&&) noexcept;
  ~BlockPackage();
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
