// The file that spares a second scan the reading: rows of texts, each after its length, and a digest over
// all.
#include "bay/scan_memory.hpp"

#include <set>

#include "base/endian.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::string_view memory_magic = "bayscan3";
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

ScanMemory::ScanMemory() : rows_(std::make_unique<Rows>()) {}
ScanMemory::ScanMemory(ScanMemory&& other) noexcept = default;
ScanMemory& ScanMemory::operator=(ScanMemory&& other) noexcept = default;
ScanMemory::~ScanMemory() = default;

bool ScanMemory::changed() const {
  return rows_->changed;
}

// Whatever is wrong with the file: it only spares work, so one that can't be read is an empty one.
ScanMemory ScanMemory::load(Store& store, const std::string& path) {
  ScanMemory memory;
  const auto file = store.read(path, max_bytes);
  if (!file || file->size() < memory_magic.size() + digest_bytes) return memory;
  ByteView bytes = file->view();
  const ByteView digest = bytes.last(digest_bytes);
  bytes = bytes.first(bytes.size() - digest_bytes);
  if (!std::ranges::equal(sha256(bytes).bytes, digest) ||
      !std::equal(memory_magic.begin(), memory_magic.end(), bytes.begin(),
                  [](char a, Byte b) { return a == static_cast<char>(b); }))
    return memory;
  bytes = bytes.subspan(memory_magic.size());
  while (!bytes.empty()) {
    std::string key;
    ScanRow row;
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
    memory.rows_->known.emplace(std::move(key), std::move(row));
  }
  return memory;
}

Result<void> ScanMemory::save(Store& store, const std::string& path) const {
  std::vector<Byte> out(memory_magic.begin(), memory_magic.end());
  for (const auto& [key, row] : rows_->seen) {
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

const ScanRow* ScanMemory::Rows::find(const std::string& key) const {
  const auto row = known.find(key);
  return row == known.end() ? nullptr : &row->second;
}

std::vector<std::string> ScanMemory::Rows::labels() const {
  std::set<std::string> labels;
  for (const auto& [key, row] : known)
    if (!row.label.empty()) labels.insert(row.label);
  return {labels.begin(), labels.end()};
}

void ScanMemory::Rows::add(const std::string& key, ScanRow row) {
  changed = changed || !known.contains(key);
  seen.emplace(key, std::move(row));
}

}  // namespace bayswap
