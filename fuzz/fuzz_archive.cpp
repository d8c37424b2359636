// Archives of arbitrary bytes, and sound ones (zip, tar) with the input laid over them.
#include <array>
#include <cstdio>
#include <string>
#include <vector>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/path.hpp"
#include "fs/archive_store.hpp"
#include "fuzz.hpp"

using namespace bayswap;
using fuzz::require;

namespace {

void add(std::vector<Byte>& out, std::uint64_t number, std::size_t bytes) {
  for (std::size_t i = 0; i < bytes; ++i) out.push_back(static_cast<Byte>(i < 8 ? number >> (8 * i) : 0));
}
void add(std::vector<Byte>& out, std::string_view text) {
  out.insert(out.end(), text.begin(), text.end());
}

// Two files, stored as they are.
std::vector<Byte> sound_zip() {
  std::vector<Byte> out;
  std::vector<Byte> directory;
  for (const std::string name : {"a/save.sav", "b.txt"}) {
    const std::vector<Byte> data(40, static_cast<Byte>(name.size()));
    const std::size_t at = out.size();
    std::vector<Byte> common;
    add(common, 20, 2);
    add(common, 0, 8);  // flags, stored, time and date
    add(common, crc32(data), 4);
    add(common, data.size(), 4);
    add(common, data.size(), 4);
    add(common, name.size(), 2);
    add(common, 0, 2);
    add(out, "PK\x03\x04");
    out.insert(out.end(), common.begin(), common.end());
    add(out, name);
    out.insert(out.end(), data.begin(), data.end());
    add(directory, "PK\x01\x02");
    add(directory, 20, 2);
    directory.insert(directory.end(), common.begin(), common.end());
    add(directory, 0, 10);
    add(directory, at, 4);
    add(directory, name);
  }
  const std::size_t at = out.size();
  out.insert(out.end(), directory.begin(), directory.end());
  add(out, "PK\x05\x06");
  add(out, 0, 4);
  add(out, 2, 2);
  add(out, 2, 2);
  add(out, directory.size(), 4);
  add(out, at, 4);
  add(out, 0, 2);
  return out;
}

std::vector<Byte> sound_tar() {
  std::vector<Byte> out;
  for (const std::string name : {"a/save.sav", "b.txt"}) {
    std::array<char, 512> head{};
    std::snprintf(head.data(), head.size(), "%s", name.c_str());
    std::snprintf(head.data() + 100, 8, "0000644");
    std::snprintf(head.data() + 124, 12, "00000000050");
    std::snprintf(head.data() + 136, 12, "00000000000");
    head[156] = '0';
    std::snprintf(head.data() + 257, 6, "ustar");
    head[263] = head[264] = '0';
    std::fill_n(head.data() + 148, 8, ' ');
    unsigned sum = 0;
    for (const char c : head) sum += static_cast<unsigned char>(c);
    std::snprintf(head.data() + 148, 8, "%06o", sum);
    out.insert(out.end(), head.begin(), head.end());
    out.resize(out.size() + 512, 7);
  }
  out.resize(out.size() + 1024);
  return out;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const std::array<std::vector<Byte>, 2> sound{sound_zip(), sound_tar()};
  if (size == 0) return 0;
  std::vector<Byte> bytes(data + 1, data + size);
  if (data[0] % 4 != 0) {
    bytes = sound.at(data[0] % 2);
    for (std::size_t i = 1; i + 3 <= size; i += 3)
      bytes[(data[i] * std::size_t{256} + data[i + 1]) % bytes.size()] = data[i + 2];
  }
  ArchiveLimits limits;
  limits.max_bytes = std::uint64_t{8} << 20;
  const auto store = ArchiveStore::open(Blob::copy_of(bytes), "x", limits);
  require(store.has_value() || size > 1 || data[0] % 4 == 0);  // the sound ones are read
  if (!store) return 0;
  for (const auto& [path, file] : (*store)->files()) {
    require(is_safe_relative(path));
    require((*store)->read(path).has_value());
  }
  (void)(*store)->list(".");
  return 0;
}
