#include "inspect/disc_sheet.hpp"

#include <bayswap/fs.hpp>

#include <charconv>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_sheet_bytes = 65536;
constexpr std::size_t max_files = 256;
constexpr std::uint64_t frames_a_second = 75;

// Words, and texts in quotes.
std::vector<std::string> words_of(std::string_view line) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at < line.size();) {
    if (line[at] == ' ' || line[at] == '\t' || line[at] == '\r') {
      ++at;
      continue;
    }
    const bool quoted = line[at] == '"';
    if (quoted) ++at;
    const std::size_t end =
        std::min(line.size(), quoted ? line.find('"', at) : line.find_first_of(" \t\r", at));
    words.emplace_back(line.substr(at, end - at));
    at = end + (quoted ? 1 : 0);
  }
  return words;
}

std::optional<std::uint64_t> number(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc{} || end != text.data() + text.size() || value > 1000000000) return std::nullopt;
  return value;
}

// "MODE1/2352": bytes a sector; nothing for sound.
std::optional<std::uint64_t> sector_bytes(std::string_view mode) {
  if (!mode.starts_with("MODE") && !mode.starts_with("CDI")) return std::nullopt;
  const auto slash = mode.find('/');
  return slash == std::string_view::npos ? std::nullopt : number(mode.substr(slash + 1));
}

// "00:02:00": minutes, seconds, frames.
std::optional<std::uint64_t> frames(std::string_view time) {
  std::uint64_t all = 0;
  constexpr std::uint64_t seconds_a_minute = 60;
  for (const std::uint64_t unit : {seconds_a_minute, frames_a_second, std::uint64_t{1}}) {
    const auto colon = time.find(':');
    const auto part = number(time.substr(0, colon));
    if (!part) return std::nullopt;
    all = (all + *part) * unit;
    time = colon == std::string_view::npos ? std::string_view{} : time.substr(colon + 1);
  }
  return all;
}

class SheetReader {
 public:
  SheetReader(Store& store, std::string folder) : store_(store), folder_(std::move(folder)) {}

  void cue(const std::vector<std::string>& words) {
    if (words.size() >= 2 && words[0] == "FILE") {
      add(words[1]);
      track_bytes_.reset();
    } else if (words.size() >= 3 && words[0] == "TRACK") {
      track_bytes_ = sector_bytes(words[2]);
    } else if (words.size() >= 3 && words[0] == "INDEX" && words[1] == "01" && track_bytes_ && has_file_ &&
               sheet_.data_file.empty()) {
      if (const auto at = frames(words[2])) {
        sheet_.data_file = sheet_.files.back();
        sheet_.data_at = *at * *track_bytes_;
      }
    }
  }

  // Number, first sector, kind, bytes a sector, file, offset. The game is in the area from 45000 on.
  void numbered(const std::vector<std::string>& words) {
    constexpr std::uint64_t second_area = 45000;
    if (words.size() < 6 || !add(words[4]) || words[2] != "4") return;
    const bool is_game = number(words[1]).value_or(0) >= second_area;
    if (!sheet_.data_file.empty() && (!is_game || in_second_area_)) return;
    in_second_area_ = is_game;
    sheet_.data_file = sheet_.files.back();
    sheet_.data_at = number(words[5]).value_or(0);
  }

  void disc(std::string_view line) {
    while (line.ends_with('\r') || line.ends_with(' ')) line.remove_suffix(1);
    if (line.empty() || line.front() == '#' || !add(line)) return;
    if (sheet_.data_file.empty()) sheet_.data_file = sheet_.files.back();
  }

  [[nodiscard]] std::optional<DiscSheet> take() {
    if (sheet_.data_file.empty()) return std::nullopt;
    return std::move(sheet_);
  }

 private:
  bool add(std::string_view name) {
    has_file_ = false;
    std::string below(name);
    for (char& c : below)
      if (c == '\\') c = '/';
    if (!is_safe_relative(below) || sheet_.files.size() >= max_files) return false;
    sheet_.files.push_back(on_disk(folder_ == "." ? below : join_path(folder_, below)));
    has_file_ = true;
    return true;
  }
  // Sheets are often made where letter case does not count.
  [[nodiscard]] std::string on_disk(const std::string& path) const {
    const auto info = store_.stat(path);
    if (!info || *info) return path;
    const auto entries = store_.list(folder_of(path));
    if (!entries) return path;
    for (const FileInfo& entry : *entries)
      if (lower(entry.name) == lower(name_of(path)))
        return folder_of(path) == "." ? entry.name : join_path(folder_of(path), entry.name);
    return path;
  }

  Store& store_;
  std::string folder_;
  DiscSheet sheet_;
  std::optional<std::uint64_t> track_bytes_;  // of a data track
  bool has_file_ = false;
  bool in_second_area_ = false;
};

}  // namespace

Result<std::optional<DiscSheet>> read_disc_sheet(Store& store, const std::string& path) {
  const std::string extension = lower(extension_of(path));
  if (extension != ".cue" && extension != ".gdi" && extension != ".m3u") return std::nullopt;
  BAYSWAP_TRY(const Blob bytes, store.read_head(path, max_sheet_bytes));
  const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  SheetReader reader(store, folder_of(path));
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.size(), text.find('\n', at));
    const std::string_view line = text.substr(at, end - at);
    if (extension == ".cue")
      reader.cue(words_of(line));
    else if (extension == ".gdi")
      reader.numbered(words_of(line));
    else
      reader.disc(line);
    at = end + 1;
  }
  return reader.take();
}

}  // namespace bayswap
