// The file that spares a second scan the reading: rows of texts, each behind its length, and a digest over
// all.
#include <bayswap/bay_saves.hpp>
#include <set>

#include "base/endian.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::string_view magic = "bayscan3";
constexpr std::size_t digest_bytes = 32;
constexpr std::size_t max_bytes = std::size_t{64} << 20;

void put(std::vector<Byte>& out, const std::string& text) {
  const std::size_t at = out.size();
  out.resize(at + 4 + text.size());
  put_le(out, at, 4, text.size());
  std::ranges::copy(text, out.begin() + static_cast<std::ptrdiff_t>(at + 4));
}

bool take(ByteView& bytes, std::string& text) {
  if (bytes.size() < 4) return false;
  const std::size_t size = le32(bytes, 0);
  if (bytes.size() - 4 < size) return false;
  text.assign(reinterpret_cast<const char*>(bytes.data()) + 4, size);
  bytes = bytes.subspan(4 + size);
  return true;
}

}  // namespace

// Whatever is wrong with the file: it only spares work, so one that can't be read is an empty one.
ScanMemory ScanMemory::load(Store& store, const std::string& path) {
  ScanMemory memory;
  const auto file = store.read(path, max_bytes);
  if (!file || file->size() < magic.size() + digest_bytes) return memory;
  ByteView bytes = file->view();
  const ByteView digest = bytes.last(digest_bytes);
  bytes = bytes.first(bytes.size() - digest_bytes);
  if (!std::ranges::equal(sha256(bytes).bytes, digest) ||
      !std::equal(magic.begin(), magic.end(), bytes.begin(),
                  [](char a, Byte b) { return a == static_cast<char>(b); }))
    return memory;
  bytes = bytes.subspan(magic.size());
  while (!bytes.empty()) {
    std::string key;
    Row row;
    std::string health;
    if (!take(bytes, key) || !take(bytes, row.label) || !take(bytes, health) ||
        !take(bytes, row.health_note) || !take(bytes, row.code) || !take(bytes, row.platform) ||
        bytes.empty())
      return {};
    const auto known = health_from_text(health);
    if (!known) return {};
    row.health = *known;
    row.thumbnail = bytes[0] != 0;
    bytes = bytes.subspan(1);
    memory.rows_.emplace(std::move(key), std::move(row));
  }
  return memory;
}

Result<void> ScanMemory::save(Store& store, const std::string& path) const {
  std::vector<Byte> out(magic.begin(), magic.end());
  for (const auto& [key, row] : seen_) {
    put(out, key);
    const std::string health(to_text(row.health));
    for (const std::string* text : {&row.label, &health, &row.health_note, &row.code, &row.platform})
      put(out, *text);
    out.push_back(row.thumbnail ? 1 : 0);
  }
  const Digest digest = sha256(out);
  out.insert(out.end(), digest.bytes.begin(), digest.bytes.end());
  return store.replace(path, out);
}

const ScanMemory::Row* ScanMemory::find(const std::string& key) const {
  const auto row = rows_.find(key);
  return row == rows_.end() ? nullptr : &row->second;
}

std::vector<std::string> ScanMemory::labels() const {
  std::set<std::string> labels;
  for (const auto& [key, row] : rows_)
    if (!row.label.empty()) labels.insert(row.label);
  return {labels.begin(), labels.end()};
}

void ScanMemory::add(const std::string& key, Row row) {
  changed_ = changed_ || !rows_.contains(key);
  seen_.emplace(key, std::move(row));
}

}  // namespace bayswap
