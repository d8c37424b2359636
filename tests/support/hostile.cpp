#include "support/hostile.hpp"

#include <fmt/format.h>
#include <bayswap/card.hpp>
#include <bayswap/compression.hpp>

#include <algorithm>
#include <cstring>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/toml_reader.hpp"

namespace bayswap::test {
namespace {

std::vector<Byte> fresh(CardKind kind, std::size_t image_bytes, const std::string& form = "plain") {
  NewCardOptions options;
  options.image_bytes = image_bytes;
  options.form = form;
  return bytes_of((*make_card(kind, options))->image());
}
void put_text(std::vector<Byte>& bytes, std::size_t at, const std::string& text) {
  std::ranges::copy(text, bytes.begin() + static_cast<std::ptrdiff_t>(at));
}

// ---- ps2: where things are on a fresh plain card --------------------------------------------------

constexpr std::size_t cluster = 1024;
constexpr std::size_t entry = 512;
struct Ps2 {
  std::vector<Byte> bytes;
  std::size_t first = 0;        // cluster that saves are counted from
  std::size_t allocatable = 0;  // how many
  std::size_t links_at = 0;

  explicit Ps2(std::size_t image_bytes) : bytes(fresh(CardKind::ps2, image_bytes)) {
    first = le32(bytes, 52);
    allocatable = le32(bytes, 56);
    links_at = std::size_t{le32(bytes, 8 * cluster)} * cluster;
  }
  void link(std::size_t from, std::uint32_t to) { put_le(bytes, links_at + 4 * from, 4, 0x80000000U | to); }
  void put_entry(std::size_t at, unsigned mode, std::size_t length, std::size_t start,
                 const std::string& name) {
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), entry, Byte{0});
    put_le(bytes, at, 2, mode);
    put_le(bytes, at + 4, 4, length);
    put_le(bytes, at + 16, 4, start);
    put_text(bytes, at + 64, name);
  }
  [[nodiscard]] std::size_t at(std::size_t index) const { return (first + index) * cluster; }
  // A row of clusters from `from` on, `count` long.
  void chain(std::size_t from, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i)
      link(from + i, i + 1 < count ? static_cast<std::uint32_t>(from + i + 1) : 0x7fffffffU);
  }
  // Folder `index` of the root, its own entries in the clusters from `from` on.
  void folder(std::size_t index, std::size_t from,
              const std::vector<std::pair<std::string, std::size_t>>& files, std::size_t start) {
    const std::size_t root_at = at(index / 2 == 0 ? 0 : 1 + index / 2 - 1) + index % 2 * entry;
    put_entry(root_at, 0x8427, files.size() + 2, from, fmt::format("BESLES-{:05}", index));
    put_entry(at(from), 0x8427, 0, 0, ".");
    put_entry(at(from) + entry, 0x8427, 0, 0, "..");
    for (std::size_t i = 0; i < files.size(); ++i)
      put_entry(at(from) + (i + 2) * entry, 0x8497, files[i].second, start, files[i].first);
  }
};

}  // namespace

Blob ps2_card_of_one_chain(std::size_t image_bytes, std::size_t saves, std::size_t files) {
  Ps2 card(image_bytes);
  const std::size_t root = (saves + 2 + 1) / 2;
  const std::size_t own = (files + 2 + 1) / 2;
  card.chain(0, root);
  put_le(card.bytes, card.at(0) + 4, 4, saves + 2);
  const std::size_t start = root + saves * own;
  card.chain(start, card.allocatable - start);
  std::vector<std::pair<std::string, std::size_t>> inside;
  for (std::size_t i = 0; i < files; ++i)
    inside.emplace_back(fmt::format("f{}", i), (card.allocatable - start) * cluster);
  for (std::size_t i = 0; i < saves; ++i) {
    card.chain(root + i * own, own);
    card.folder(i + 2, root + i * own, inside, start);
  }
  return Blob::copy_of(card.bytes);
}

Blob ps2_card_without_root() {
  Ps2 card(std::size_t{8} << 20);
  put_le(card.bytes, card.at(0) + 4, 4, 0);
  return Blob::copy_of(card.bytes);
}

Blob ps2_card_of_one_table() {
  Ps2 card(std::size_t{8} << 20);
  put_le(card.bytes, 8 * cluster + 4, 4, le32(card.bytes, 8 * cluster));
  return Blob::copy_of(card.bytes);
}

Blob ps2_card_with_a_file_called(const std::string& name) {
  Ps2 card(std::size_t{8} << 20);
  card.chain(0, 2);
  put_le(card.bytes, card.at(0) + 4, 4, 3);
  card.chain(2, 2);
  card.chain(4, 1);
  card.folder(2, 2, {{name, 100}}, 4);
  return Blob::copy_of(card.bytes);
}

Blob gc_card_of_one_chain() {
  constexpr std::size_t block = 8192;
  std::vector<Byte> card = fresh(CardKind::gc, std::size_t{2048} * block);
  for (std::size_t i = 0; i < 127; ++i) {
    const std::size_t at = block + i * 64;
    std::fill_n(card.begin() + static_cast<std::ptrdiff_t>(at), 64, Byte{0});
    put_text(card, at, "GA9P01");
    put_text(card, at + 8, fmt::format("save-{}", i));
    put_be16(card, at + 54, 5);
    put_be16(card, at + 56, 2043);
  }
  for (std::size_t i = 5; i < 2048; ++i)
    put_be16(card, 3 * block + 10 + 2 * (i - 5), static_cast<std::uint16_t>(i + 1 < 2048 ? i + 1 : 0xffff));
  const auto checksum = [&](std::size_t from, std::size_t size, std::size_t at) {
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < size; i += 2) sum += be16(card, from + i);
    const auto low = static_cast<std::uint16_t>(sum);
    const auto other = static_cast<std::uint16_t>(size / 2 * 0xffff - sum);
    put_be16(card, at, low == 0xffff ? std::uint16_t{0} : low);
    put_be16(card, at + 2, other == 0xffff ? std::uint16_t{0} : other);
  };
  for (const std::size_t at : {block, 3 * block}) put_be16(card, at + (at == block ? 8186 : 4), 9);
  checksum(block, 8188, block + 8188);
  checksum(3 * block + 4, block - 4, 3 * block);
  return Blob::copy_of(card);
}

Blob sat_memory_of_shared_lists(std::size_t saves) {
  constexpr std::size_t block = 1024;
  std::vector<Byte> memory = fresh(CardKind::sat, std::size_t{4} << 20, "packed");
  const std::size_t blocks = memory.size() / block;
  // What all of them share: blocks full of further numbers.
  std::size_t next = saves + 2;
  for (std::size_t i = saves + 2; i < blocks; ++i)
    for (std::size_t at = i * block + 4; at < (i + 1) * block; at += 2)
      put_be16(memory, at, static_cast<std::uint16_t>(next + 1 < blocks ? ++next : 0));
  for (std::size_t i = 0; i < saves; ++i) {
    const std::size_t at = (i + 2) * block;
    put_be32(memory, at, 0x80000000U);
    put_text(memory, at + 4, fmt::format("SAVE{:05}", i));
    put_be32(memory, at + 30, 1U << 21U);
    for (std::size_t k = 34; k + 1 < block; k += 2)
      put_be16(memory, at + k, static_cast<std::uint16_t>(saves + 2 + (k - 34) / 2));
  }
  return Blob::copy_of(memory);
}

Blob looping_package(const Blob& package) {
  std::vector<Byte> bytes = bytes_of(package);
  // Its file table is one block of records of 64 bytes: found by the first file's name length and folder
  // FFFF.
  for (std::size_t at = 0xB000; at + 0x1000 <= bytes.size(); at += 0x1000) {
    if (be16(bytes, at + 50) != 0xFFFF || (bytes[at + 40] & 0x3F) == 0) continue;
    for (std::size_t record = at; record < at + 0x1000; record += 64)
      if ((bytes[record + 40] & 0x3F) != 0 && (bytes[record + 40] & 0x80) == 0)
        put_be32(bytes, record + 52, 0xFFFFFFFFU);
    break;
  }
  for (std::size_t at = 0xA000; at + 24 <= 0xB000; at += 24) {  // the first hash table: each leads to block 0
    bytes[at + 21] = bytes[at + 22] = bytes[at + 23] = 0;
  }
  return Blob::copy_of(bytes);
}

Blob parcel_with_names(const std::string& save_name, const std::vector<std::string>& names) {
  std::vector<FolderFile> files;
  for (std::size_t i = 0; i < names.size(); ++i)
    files.push_back({fmt::format("file{}", i), text_blob("evil"), 1935655200});
  CardSave save = *folder_save("BESLES-99031", files);
  for (std::size_t i = 0; i < names.size(); ++i) save.files[i].name = names[i];
  save.name = save_name;
  return to_parcel(save);
}

Blob zip_of(const std::string& name, const Blob& bytes, bool utf8) {
  const Blob stream = wrap(Compression::zlib, bytes);
  const Blob deflated = stream.slice(2, stream.size() - 6);
  const std::uint32_t crc = crc32(bytes.view());
  std::vector<Byte> zip;
  const auto number = [&](std::uint64_t value, std::size_t size) {
    for (std::size_t i = 0; i < size; ++i) zip.push_back(static_cast<Byte>(value >> (8 * i)));
  };
  const auto fields = [&] {
    number(utf8 ? 0x800 : 0, 2);
    number(8, 2);
    number(0, 4);
    number(crc, 4);
    number(deflated.size(), 4);
    number(bytes.size(), 4);
    number(name.size(), 2);
  };
  number(0x04034b50, 4);
  number(20, 2);
  fields();
  number(0, 2);
  zip.insert(zip.end(), name.begin(), name.end());
  zip.insert(zip.end(), deflated.view().begin(), deflated.view().end());
  const std::size_t directory = zip.size();
  number(0x02014b50, 4);
  number(0x0314, 2);
  number(20, 2);
  fields();
  number(0, 2);
  number(0, 2);
  number(0, 2);
  number(0, 2);
  number(0100644U << 16U, 4);
  number(0, 4);
  zip.insert(zip.end(), name.begin(), name.end());
  const std::size_t size = zip.size() - directory;
  number(0x06054b50, 4);
  number(0, 4);
  number(1, 2);
  number(1, 2);
  number(size, 4);
  number(directory, 4);
  number(0, 2);
  return Blob::copy_of(zip);
}

Blob tar_of_long_names(std::size_t count, std::size_t length) {
  std::vector<Byte> tar;
  const auto member = [&](char type, const std::string& name, const std::string& content) {
    std::vector<Byte> header(512);
    put_text(header, 0, name.substr(0, 99));
    put_text(header, 100, "0000644");
    put_text(header, 108, "0000000");
    put_text(header, 116, "0000000");
    put_text(header, 124, fmt::format("{:011o}", content.size()));
    put_text(header, 136, "00000000000");
    put_text(header, 148, "        ");
    header[156] = static_cast<Byte>(type);
    put_text(header, 257,
             std::string("ustar\0"
                         "00",
                         8));
    unsigned sum = 0;
    for (const Byte b : header) sum += b;
    put_text(header, 148, fmt::format("{:06o}", sum));
    header[154] = 0;
    tar.insert(tar.end(), header.begin(), header.end());
    tar.insert(tar.end(), content.begin(), content.end());
    tar.resize((tar.size() + 511) / 512 * 512);
  };
  for (std::size_t i = 0; i < count; ++i) {
    const std::string name = fmt::format("{}-", i) + std::string(length, 'n');
    std::string record = " path=" + name + "\n";
    record = std::to_string(record.size() + 7) + record;
    while (std::stoul(record) != record.size())
      record = std::to_string(record.size()) + record.substr(record.find(' '));
    member('x', "x", record);
    member('0', "f", "");
  }
  tar.resize(tar.size() + 1024);
  return wrap(Compression::gzip, Blob::copy_of(tar));
}

std::string dotted_toml(std::size_t depth) {
  std::string text;
  for (std::size_t i = 0; i < depth; ++i) text += "a.";
  return text + "a = 1\n";
}

}  // namespace bayswap::test
