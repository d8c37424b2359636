// What people call a save whose folder has a number for a name: its own files tell.
#include <bayswap/bay_saves.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/endian.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

const TreeFile* file_called(const std::vector<TreeFile>& files, std::string_view name) {
  const auto found = std::ranges::find(files, name, [](const TreeFile& file) { return lower(file.path); });
  return found == files.end() ? nullptr : &*found;
}

// A wii save's banner: magic, then at 20 the title and at 60 a second line, 64 bytes of UTF-16 each.
std::string title_of_banner(ByteView banner) {
  constexpr std::uint32_t magic = 0x5749424E;
  constexpr std::size_t title_at = 0x20;
  constexpr std::size_t title_bytes = 0x40;
  if (banner.size() < title_at + title_bytes || be32(banner, 0) != magic) return {};
  return utf16_to_utf8(banner.subspan(title_at, title_bytes));
}

// The text of <name ...>text</name> in a small XML file.
std::string element(std::string_view xml, std::string_view name) {
  const auto open = xml.find("<" + std::string(name));
  if (open == std::string_view::npos) return {};
  const auto from = xml.find('>', open);
  const auto to = xml.find('<', from);
  if (from == std::string_view::npos || to == std::string_view::npos) return {};
  std::string lines(xml.substr(from + 1, to - from - 1));
  for (char& c : lines)
    if (c == '\n' || c == '\r' || c == '\t') c = ' ';
  std::string text = printable(lines);
  while (!text.empty() && text.back() == ' ') text.pop_back();
  return text;
}

// Of the languages that a wiiu title has a name in; the long name can have two lines.
std::string title_of_meta(std::string_view xml) {
  for (const char* kind : {"longname_", "shortname_"})
    for (const char* language : {"en", "fr", "de", "es", "it", "nl", "pt", "ja", "ko", "zhs", "zht", "ru"})
      if (std::string title = element(xml, std::string(kind) + language); !title.empty()) return title;
  return {};
}

}  // namespace

FolderLabel label_of_folder(Platform platform, const std::vector<TreeFile>& files) {
  FolderLabel label;
  const bool empty = std::ranges::all_of(files, [](const TreeFile& file) {
    return file.bytes.empty() || (is_uniform(file.bytes.view()) && file.bytes.size() > 1);
  });
  if (empty) {
    label.health = Health::empty;
    label.note = files.empty() ? "no files" : "no file holds anything";
  }
  if (platform == Platform::psp) {
    label.thumbnail = file_called(files, "icon0.png") != nullptr;
    const TreeFile* parameters = file_called(files, "param.sfo");
    if (parameters == nullptr) {
      if (label.health == Health::good) label.health = Health::suspicious;
      label.note = "no PARAM.SFO: the console will not show it";
    } else if (const auto read = ParameterFile::parse(parameters->bytes.view())) {
      const std::string game = read->text("TITLE").value_or("");
      const std::string save = read->text("SAVEDATA_TITLE").value_or("");
      label.title = printable(game + (game.empty() || save.empty() ? "" : " / ") + save);
    } else {
      label.health = Health::damaged;
      label.note = "PARAM.SFO: " + read.error().message;
    }
  }
  if (const TreeFile* banner = file_called(files, "banner.bin");
      platform == Platform::wii && banner != nullptr) {
    label.title = title_of_banner(banner->bytes.view());
    label.thumbnail = !label.title.empty();
  }
  if (const TreeFile* meta = file_called(files, "meta.xml")) {
    const std::string_view text(reinterpret_cast<const char*>(meta->bytes.data()), meta->bytes.size());
    label.title = title_of_meta(text);
    const std::string code = element(text, "product_code");
    const auto dash = code.rfind('-');
    label.code = dash == std::string::npos ? code : code.substr(dash + 1);
  }
  return label;
}

}  // namespace bayswap
