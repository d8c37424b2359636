// One note off a controller pak (docs/formats/n64.md).
#include <algorithm>
#include <array>

#include "card/kinds.hpp"
#include "card/letter_region.hpp"
#include "card/n64.hpp"

namespace bayswap {
namespace {

using namespace n64;

// The pak's own character set, from 0F on.
constexpr std::array<std::string_view, 0x86> characters{
    " ",  "0",  "1",  "2",  "3",  "4",  "5",  "6",  "7",  "8",  "9",  "A",  "B",  "C",  "D",  "E",  "F",
    "G",  "H",  "I",  "J",  "K",  "L",  "M",  "N",  "O",  "P",  "Q",  "R",  "S",  "T",  "U",  "V",  "W",
    "X",  "Y",  "Z",  "!",  "\"", "#",  "'",  "*",  "+",  ",",  "-",  ".",  "/",  ":",  "=",  "?",  "@",
    "。", "゛", "゜", "ァ", "ィ", "ゥ", "ェ", "ォ", "ッ", "ャ", "ュ", "ョ", "ヲ", "ン", "ア", "イ", "ウ",
    "エ", "オ", "カ", "キ", "ク", "ケ", "コ", "サ", "シ", "ス", "セ", "ソ", "タ", "チ", "ツ", "テ", "ト",
    "ナ", "ニ", "ヌ", "ネ", "ノ", "ハ", "ヒ", "フ", "ヘ", "ホ", "マ", "ミ", "ム", "メ", "モ", "ヤ", "ユ",
    "ヨ", "ラ", "リ", "ル", "レ", "ロ", "ワ", "ガ", "ギ", "グ", "ゲ", "ゴ", "ザ", "ジ", "ズ", "ゼ", "ゾ",
    "ダ", "ヂ", "ヅ", "デ", "ド", "バ", "ビ", "ブ", "ベ", "ボ", "パ", "ピ", "プ", "ペ", "ポ"};

std::string text_of(ByteView field) {
  constexpr Byte first = 0x0f;
  std::string text;
  for (const Byte b : field) {
    if (b == 0) break;
    text +=
        b >= first && b - first < static_cast<int>(characters.size()) ? characters.at(b - first) : "\uFFFD";
  }
  while (text.ends_with(' ')) text.pop_back();
  return text;
}

std::string code_of(ByteView note) {
  std::string code;
  for (const Byte b : note.subspan(code_at, 4)) code += b >= 0x20 && b < 0x7f ? static_cast<char>(b) : '_';
  return code;
}

std::string title_of(ByteView note) {
  const std::string name = text_of(note.subspan(name_at, name_bytes));
  const std::string extension = text_of(note.subspan(extension_at, extension_bytes));
  return extension.empty() ? name : name + "." + extension;
}

std::string name_of_note(ByteView note) {
  return code_of(note) + "." + title_of(note);
}

CardEntry describe_n64(const CardSave& save) {
  const ByteView note = save.entry.view();
  CardEntry entry;
  entry.name = name_of_note(note);
  entry.title = title_of(note);
  entry.code = code_of(note);
  entry.region = region_of_letter(Platform::n64, static_cast<char>(note[code_at + region_letter_at]));
  entry.size_bytes = save.payload.size();
  return entry;
}

bool plausible_n64(ByteView note) {
  const ByteView title = note.subspan(name_at, name_bytes);
  return std::ranges::none_of(note.subspan(code_at, 6), [](Byte b) { return b == 0; }) &&
         text_of(title).find("\uFFFD") == std::string::npos && title[0] != 0;
}

bool is_n64_save(const CardSave& save) {
  return save.files.empty() && !save.payload.empty() && save.payload.size() % page_bytes == 0 &&
         save.payload.size() / page_bytes <= max_banks * bank_pages && !is_blank_note(save.entry.view());
}

// Writes upper-case text in the pak's own set. False where a character is not in it, or there is no room.
bool put_text(std::span<Byte> field, std::string_view text) {
  constexpr Byte first = 0x0f;
  if (text.size() > field.size()) return false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto known = std::ranges::find(characters, text.substr(i, 1));
    if (known == characters.end()) return false;
    field[i] = static_cast<Byte>(first + (known - characters.begin()));
  }
  return true;
}

std::optional<std::vector<Byte>> fresh_note(std::string_view name, std::int64_t /*modified*/) {
  constexpr std::size_t prefix = 6;  // code and maker
  if (name.size() < prefix + 2 || name[prefix] != '.') return std::nullopt;
  std::vector<Byte> note(note_bytes);
  const std::span<Byte> all(note);
  std::string_view title = name.substr(prefix + 1);
  std::string_view extension;
  if (const auto dot = title.rfind('.'); dot != std::string_view::npos && dot > 0) {
    extension = title.substr(dot + 1);
    title = title.substr(0, dot);
  }
  if (!put_name(all.subspan(code_at, prefix), name.substr(0, prefix)) || title.empty() ||
      !put_text(all.subspan(name_at, name_bytes), title) ||
      !put_text(all.subspan(extension_at, extension_bytes), extension))
    return std::nullopt;
  note[status_at] = status_occupied;
  return note;
}

}  // namespace

const SaveFormat& n64_save() {
  static const SaveFormat format{
      CardKind::n64,
      note_bytes,
      false,
      plausible_n64,
      is_n64_save,
      describe_n64,
      nullptr,
      with_region_letter,
      false,
      page_bytes,
      fresh_note,
      "the game's code and maker, a dot and a name in upper case, e.g. NZ9PZZ.GAME.A",
      [](std::span<Byte>, std::size_t) {}};
  return format;
}

}  // namespace bayswap
