#include "fs/ftp_listing.hpp"

#include <algorithm>
#include <charconv>

#include "base/order.hpp"
#include "base/text.hpp"
#include "fs/bucket_listing.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_ftp_entries = 200000;

bool number_from(std::string_view text, std::uint64_t& value) {
  const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
  return read.ec == std::errc() && read.ptr == text.data() + text.size();
}

// Takes the next word off the front of `rest`.
std::string_view next_word(std::string_view& rest) {
  rest.remove_prefix(std::min(rest.find_first_not_of(' '), rest.size()));
  const std::string_view word = rest.substr(0, rest.find(' '));
  rest.remove_prefix(word.size());
  return word;
}

// One space goes before the name; more belong to it.
std::string name_behind(std::string_view rest) {
  if (rest.starts_with(' ')) rest.remove_prefix(1);
  return std::string(rest);
}

bool is_entry_name(std::string_view name) {
  return !name.empty() && name != "." && name != "..";
}

}  // namespace

std::optional<FileInfo> entry_of_facts(std::string_view line) {
  const auto end = line.find("; ");
  if (end == std::string_view::npos) return std::nullopt;
  FileInfo info;
  info.name = line.substr(end + 2);
  // MLST names it by its path.
  if (const auto slash = info.name.rfind('/'); slash != std::string::npos)
    info.name = info.name.substr(slash + 1);
  info.kind = FileInfo::Kind::other;
  std::string_view facts = line.substr(0, end + 1);
  facts.remove_prefix(std::min(facts.find_first_not_of(' '), facts.size()));
  while (!facts.empty()) {
    const auto semicolon = std::min(facts.find(';'), facts.size() - 1);
    const std::string_view fact = facts.substr(0, semicolon);
    facts.remove_prefix(semicolon + 1);
    const auto equals = fact.find('=');
    if (equals == std::string_view::npos) continue;
    const std::string key = lower(fact.substr(0, equals));
    const std::string_view value = fact.substr(equals + 1);
    if (key == "type") {
      const std::string type = lower(value);
      if (type == "cdir" || type == "pdir") return std::nullopt;
      if (type == "file") info.kind = FileInfo::Kind::file;
      if (type == "dir") info.kind = FileInfo::Kind::folder;
    }
    if (key == "size" && !number_from(value, info.size_bytes)) return std::nullopt;
    if (key == "modify") info.modified = seconds_of_timestamp(value);
  }
  if (!is_entry_name(info.name)) return std::nullopt;
  if (info.kind != FileInfo::Kind::file) info.size_bytes = 0;
  return info;
}

std::optional<FileInfo> entry_of_columns(std::string_view line) {
  std::string_view rest = line;
  const std::string_view first = next_word(rest);
  FileInfo info;
  if (!first.empty() && first.front() >= '0' && first.front() <= '9') {
    (void)next_word(rest);
    const std::string_view size = next_word(rest);
    rest.remove_prefix(std::min(rest.find_first_not_of(' '), rest.size()));
    info.name = rest;
    if (size == "<DIR>")
      info.kind = FileInfo::Kind::folder;
    else if (!number_from(size, info.size_bytes))
      return std::nullopt;
    return is_entry_name(info.name) ? std::optional(info) : std::nullopt;
  }
  constexpr std::size_t rights = 10;
  if (first.size() < rights) return std::nullopt;
  constexpr int columns_before_size = 3;
  for (int i = 0; i < columns_before_size; ++i) (void)next_word(rest);
  if (!number_from(next_word(rest), info.size_bytes)) return std::nullopt;
  constexpr int columns_of_time = 3;
  for (int i = 0; i < columns_of_time; ++i) (void)next_word(rest);
  info.name = name_behind(rest);
  info.kind = first.front() == '-'   ? FileInfo::Kind::file
              : first.front() == 'd' ? FileInfo::Kind::folder
                                     : FileInfo::Kind::other;
  if (first.front() == 'l')
    if (const auto arrow = info.name.find(" -> "); arrow != std::string::npos) info.name.resize(arrow);
  if (info.kind != FileInfo::Kind::file) info.size_bytes = 0;
  return is_entry_name(info.name) ? std::optional(info) : std::nullopt;
}

Result<std::vector<FileInfo>> listing_from(ByteView text, bool has_facts) {
  std::vector<FileInfo> all;
  std::string_view rest(reinterpret_cast<const char*>(text.data()), text.size());
  bool is_odd = false;
  while (!rest.empty()) {
    std::string_view line = rest.substr(0, rest.find('\n'));
    rest.remove_prefix(std::min(line.size() + 1, rest.size()));
    if (line.ends_with('\r')) line.remove_suffix(1);
    if (line.empty() || (!has_facts && line.starts_with("total "))) continue;
    auto entry = has_facts ? entry_of_facts(line) : entry_of_columns(line);
    if (entry)
      all.push_back(*std::move(entry));
    else
      is_odd = is_odd || (!line.ends_with(" .") && !line.ends_with(" ..") &&
                          line.find("dir;") == std::string_view::npos);
    if (all.size() > max_ftp_entries)
      return fail(ErrorCode::damaged, "the server's list of files is longer than any folder's");
  }
  if (is_odd && all.empty())
    return fail(ErrorCode::damaged, "the server's list of files can't be read",
                "another FTP server program for that device may help");
  sort_by(all, &FileInfo::name);
  return all;
}

}  // namespace bayswap
