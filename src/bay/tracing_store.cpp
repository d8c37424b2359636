// What a scan looked at, and whether it is still the same.
#include "bay/tracing_store.hpp"

#include <algorithm>
#include <atomic>
#include <thread>

#include "base/endian.hpp"
#include "base/parallel.hpp"

namespace bayswap {
namespace {

// A note: what was asked, the path's length in 4 bytes, the path, the answer's hash in 8.
constexpr std::size_t note_bytes = 13;
constexpr std::uint64_t start =
    0xcbf29ce484222325U;  // FNV-1a: tells what is the same, guards against nothing

std::uint64_t mixed(std::uint64_t hash, std::uint64_t value) {
  return (hash ^ value) * 0x100000001b3U;
}
std::uint64_t mixed(std::uint64_t hash, std::string_view text) {
  for (const char c : text) hash = mixed(hash, std::uint64_t{static_cast<Byte>(c)});
  return mixed(hash, text.size());
}
std::uint64_t mixed(std::uint64_t hash, const FileInfo& info) {
  hash = mixed(hash, info.name);
  hash = mixed(hash, static_cast<std::uint64_t>(info.kind) * 2 + (info.link ? 1 : 0));
  if (info.kind == FileInfo::Kind::folder) return hash;  // what is in it is looked at on its own
  hash = mixed(hash, info.size_bytes);
  return mixed(mixed(hash, static_cast<std::uint64_t>(info.modified)), std::uint64_t{info.modified_ns});
}
std::uint64_t hash_of(const Result<std::vector<FileInfo>>& entries) {
  if (!entries) return mixed(start, static_cast<std::uint64_t>(entries.error().code) + 1);
  std::uint64_t hash = start;
  for (const FileInfo& entry : *entries) hash = mixed(hash, entry);
  return hash;
}
std::uint64_t hash_of(const Result<std::optional<FileInfo>>& info) {
  if (!info) return mixed(start, static_cast<std::uint64_t>(info.error().code) + 1);
  return *info ? mixed(start, **info) : start;
}

void put(std::string& out, std::uint64_t value, std::size_t bytes) {
  for (std::size_t i = 0; i < bytes; ++i) out += static_cast<char>(value >> (8 * i));
}

}  // namespace

Result<std::optional<FileInfo>> TracingStore::stat(const std::string& path) {
  auto info = below_.stat(path);
  note('s', path, hash_of(info));
  return info;
}
Result<std::vector<FileInfo>> TracingStore::list(const std::string& folder) {
  auto entries = below_.list(folder);
  note('l', folder, hash_of(entries));
  return entries;
}

void TracingStore::note(char what, const std::string& path, std::uint64_t hash) {
  std::string question;
  question += what;
  put(question, path.size(), 4);
  question += path;
  put(question, hash, 8);
  // Asked again, with the same answer.
  if (noted_.insert(question).second) trace_ += question;
}

namespace {

bool is_as_then_here(Store& store, std::string_view piece, const std::atomic<bool>& changed) {
  while (!piece.empty() && !changed.load(std::memory_order_relaxed)) {
    const ByteView bytes(reinterpret_cast<const Byte*>(piece.data()), piece.size());
    const std::size_t size = le32(bytes, 1);
    const std::string path(piece.substr(5, size));
    const std::uint64_t then = le64(bytes, 5 + size);
    const std::uint64_t now = piece.front() == 'l' ? hash_of(store.list(path)) : hash_of(store.stat(path));
    if (now != then) return false;
    piece.remove_prefix(note_bytes + size);
  }
  return true;
}

}  // namespace

// Most of the time goes by in the kernel, looking names up: all processors take a share.
bool TracingStore::is_as_then(Store& store, std::string_view trace) {
  constexpr std::size_t worth_a_thread = std::size_t{64} << 10;
  const std::size_t processors =
      store.traits().one_thread ? 1 : std::max(1U, std::thread::hardware_concurrency());
  const std::size_t shares = std::clamp<std::size_t>(trace.size() / worth_a_thread, 1, processors);
  std::vector<std::string_view> pieces;
  std::size_t begin = 0;
  for (std::size_t at = 0; at < trace.size();) {
    if (trace.size() - at < note_bytes) return false;
    const std::size_t size = le32({reinterpret_cast<const Byte*>(trace.data()) + at, trace.size() - at}, 1);
    if (trace.size() - at - note_bytes < size) return false;
    at += note_bytes + size;
    if (at - begin < trace.size() / shares && at < trace.size()) continue;
    pieces.push_back(trace.substr(begin, at - begin));
    begin = at;
  }
  std::atomic<bool> changed = false;
  std::atomic<std::size_t> next{0};
  in_parallel(pieces.empty() ? 0 : pieces.size() - 1, [&] {
    for (std::size_t i = next++; i < pieces.size(); i = next++)
      if (!is_as_then_here(store, pieces[i], changed)) changed = true;
  });
  return !changed;
}

}  // namespace bayswap
