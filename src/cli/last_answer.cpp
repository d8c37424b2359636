#include "cli/last_answer.hpp"

#include <bayswap/bay.hpp>

#include <utility>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/path.hpp"
#include "bay/tracing_store.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t check_digits = 8;
constexpr std::size_t size_bytes = 8;  // before each text

void put(std::string& out, std::string_view text) {
  for (std::size_t i = 0; i < size_bytes; ++i) out += static_cast<char>(text.size() >> (8 * i));
  out += text;
}
std::string_view take(std::string_view& rest) {
  if (rest.size() < size_bytes) return std::exchange(rest, {});
  const std::size_t size = le64({reinterpret_cast<const Byte*>(rest.data()), size_bytes}, 0);
  const std::string_view text = rest.substr(size_bytes, size);
  rest.remove_prefix(size_bytes + text.size());
  return text;
}
// Against bytes that went bad; a stronger digest would take as long as all the rest.
std::string check_of(std::string_view text) {
  return fmt::format("{:08x}", crc32({reinterpret_cast<const Byte*>(text.data()), text.size()}));
}

}  // namespace

LastAnswer::LastAnswer(const Globals& globals, const Home& home, const Bay& bay, std::string_view command,
                       const std::string& more)
    : path_(normalized(join_path(
          home.data, fmt::format("../scans/{}.{}.{}", bay.name, command, globals.json ? "json" : "table")))) {
  key_ = fmt::format("{}\n{}\n{}\n{}\n{}\n{}\n", version(), local_time(0), toned(Tone::bold, "x"),
                     table_width(), bay.root, more);
  key_ += to_toml(bay);
  // What was learned about chips decides what is read as a save.
  if (const auto chips = disk_.stat(home.chips); chips && *chips)
    key_ += fmt::format("{}.{} {}\n", (*chips)->modified, (*chips)->modified_ns, (*chips)->size_bytes);
  for (const std::string& folder : {home.layouts, home.bays, home.states})
    if (const auto files = disk_.list(folder))
      for (const FileInfo& file : *files)
        key_ += fmt::format("{} {}.{} {}\n", file.name, file.modified, file.modified_ns, file.size_bytes);
}

std::optional<std::string> LastAnswer::still_right() {
  const auto file = disk_.read(path_);
  if (!file || file->size() < check_digits) return std::nullopt;
  std::string_view rest(reinterpret_cast<const char*>(file->data()), file->size());
  const std::string_view check = rest.substr(0, check_digits);
  rest.remove_prefix(check_digits);
  if (check_of(rest) != check || take(rest) != key_) return std::nullopt;
  std::string text(take(rest));
  while (!rest.empty()) {
    LocalStore store{std::string(take(rest))};
    if (!TracingStore::is_as_then(store, take(rest))) return std::nullopt;
  }
  return text;
}

void LastAnswer::keep(const std::string& text, const std::vector<Watched>& watched) {
  std::string rest;
  put(rest, key_);
  put(rest, text);
  for (const Watched& one : watched) {
    put(rest, one.root);
    put(rest, one.trace);
  }
  const std::string all = check_of(rest) + rest;
  (void)disk_.replace(path_, {reinterpret_cast<const Byte*>(all.data()), all.size()});
}

}  // namespace bayswap::cli
