// The n64 controller pak: 128 pages of 256 bytes; an index table with its backup, and 16 notes
// (docs/formats/n64.md).
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "card/kinds.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

constexpr std::size_t page_bytes = 256;
constexpr std::size_t page_count = 128;
constexpr std::size_t first_data_page = 5;
constexpr std::size_t index_at = 0x100;
constexpr std::size_t backup_at = 0x200;
constexpr std::size_t notes_at = 0x300;
constexpr std::size_t note_count = 16;
constexpr std::uint16_t page_free = 3;
constexpr std::uint16_t page_last = 1;

// ---- A note: 32 bytes -------------------------------------------------------------------------------
constexpr std::size_t note_bytes = 32;
constexpr std::size_t code_at = 0;   // 4 bytes, as in the ROM's header
constexpr std::size_t maker_at = 4;  // 2 bytes
constexpr std::size_t start_at = 6;  // 16 bits: its first page
constexpr std::size_t status_at = 8;
constexpr Byte status_occupied = 0x02;
constexpr std::size_t extension_at = 12;  // 4 characters of the pak's own set
constexpr std::size_t extension_bytes = 4;
constexpr std::size_t name_at = 16;  // 16 characters
constexpr std::size_t name_bytes = 16;

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

Region region_of(char letter) {
  switch (letter) {
    case 'J':
      return Region::japan;
    case 'E':
      return Region::north_america;
    case 'P':
      return Region::europe;
    default:
      return Region::unknown;
  }
}

bool is_blank_note(ByteView note) {
  return be32(note, code_at) == 0 && be16(note, maker_at) == 0;
}

class PakCard final : public Card {
 public:
  explicit PakCard(std::vector<Byte> image) : image_(std::move(image)) {}

  CardKind kind() const override { return CardKind::n64; }
  std::size_t block_bytes() const override { return page_bytes; }
  std::size_t capacity_blocks() const override { return page_count - first_data_page; }
  std::size_t free_blocks() const override {
    std::size_t count = 0;
    for (std::size_t page = first_data_page; page < page_count; ++page)
      count += next(page) == page_free ? 1 : 0;
    return count;
  }

  std::vector<CardEntry> entries() const override {
    std::vector<CardEntry> list;
    for (std::size_t i = 0; i < note_count; ++i) {
      if (is_blank_note(note(i))) continue;
      std::string problem;
      const auto pages = chain(i, problem);
      CardEntry entry;
      entry.name = name_of_note(note(i));
      entry.title = title_of(note(i));
      entry.code = code_of(note(i));
      entry.region = region_of(entry.code.back());
      entry.blocks = pages.size();
      entry.size_bytes = pages.size() * page_bytes;
      entry.state = problem.empty() ? CardEntry::State::good : CardEntry::State::damaged;
      list.push_back(std::move(entry));
    }
    return list;
  }

  Result<CardSave> read(const std::string& name) const override {
    BAYSWAP_TRY(const std::size_t index, find(name));
    std::string problem;
    const auto pages = chain(index, problem);
    if (!problem.empty())
      return fail(ErrorCode::damaged, fmt::format("{}: {}", name, problem),
                  "not all of its pages can be told; `bayswap card check` shows what is wrong with the pak");
    CardSave save;
    save.kind = CardKind::n64;
    save.name = name;
    save.title = title_of(note(index));
    save.entry = Blob::copy_of(note(index));
    std::vector<Byte> payload;
    for (const std::size_t page : pages) {
      const ByteView bytes = ByteView(image_).subspan(page * page_bytes, page_bytes);
      payload.insert(payload.end(), bytes.begin(), bytes.end());
    }
    save.payload = Blob::copy_of(payload);
    return save;
  }

  Result<void> put(const CardSave& save) override {
    if (save.kind != CardKind::n64 || save.entry.size() != note_bytes || save.payload.empty() ||
        save.payload.size() % page_bytes != 0 || is_blank_note(save.entry.view()))
      return fail(ErrorCode::bad_usage, fmt::format("{} is no note of a controller pak", save.name),
                  "a save of another platform has no place there");
    const std::string name = name_of_note(save.entry.view());
    if (find(name))
      return fail(ErrorCode::unsafe, fmt::format("{} is on the pak already", name),
                  "say --replace to have it replaced, or drop it first");
    const std::size_t wanted = save.payload.size() / page_bytes;
    std::size_t index = 0;
    while (index < note_count && !is_blank_note(note(index))) ++index;
    if (index == note_count)
      return fail(ErrorCode::does_not_fit, "all 16 notes of the pak are taken",
                  "drop one, or use another pak");
    std::vector<std::size_t> pages;
    for (std::size_t page = first_data_page; page < page_count && pages.size() < wanted; ++page)
      if (next(page) == page_free) pages.push_back(page);
    if (pages.size() < wanted)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} takes {} pages, and {} are free: {} are missing", name, wanted,
                              pages.size(), wanted - pages.size()),
                  "drop another note, or use another pak");
    for (std::size_t i = 0; i < wanted; ++i) {
      set_next(pages[i], i + 1 < wanted ? static_cast<std::uint16_t>(pages[i + 1]) : page_last);
      std::ranges::copy(save.payload.view().subspan(i * page_bytes, page_bytes),
                        image_.begin() + static_cast<std::ptrdiff_t>(pages[i] * page_bytes));
    }
    const std::span<Byte> out = note(index);
    std::ranges::copy(save.entry.view(), out.begin());
    put_be16(out, start_at, static_cast<std::uint16_t>(pages.front()));
    out[status_at] |= status_occupied;
    seal_tables();
    return {};
  }

  Result<void> drop(const std::string& name) override {
    BAYSWAP_TRY(const std::size_t index, find(name));
    std::string problem;
    for (const std::size_t page : chain(index, problem)) set_next(page, page_free);
    std::ranges::fill(note(index), Byte{0});
    seal_tables();
    return {};
  }

  std::vector<CardProblem> check() const override {
    std::vector<CardProblem> problems;
    const auto report = [&](std::size_t at, bool mendable, std::string text) {
      problems.push_back({at, mendable, std::move(text)});
    };
    const int ids = sound_pak_ids(image_);
    if (ids < 4) report(0x20, ids > 0, fmt::format("{} of 4 ID sectors are sound", ids));
    for (const auto& [at, what] : {std::pair{index_at, "index table"}, std::pair{backup_at, "its backup"}})
      if (image_[at + 1] != table_sum(at))
        report(at + 1, true,
               fmt::format("{}: checksum {:02X}, should be {:02X}", what, image_[at + 1], table_sum(at)));
    if (!std::equal(image_.begin() + index_at, image_.begin() + index_at + page_bytes,
                    image_.begin() + backup_at))
      report(backup_at, true, "the index table and its backup differ");
    std::set<std::size_t> reached;
    std::set<std::string> names;
    for (std::size_t i = 0; i < note_count; ++i) {
      if (is_blank_note(note(i))) continue;
      const std::size_t at = notes_at + i * note_bytes;
      std::string problem;
      const std::string name = name_of_note(note(i));
      const auto pages = chain(i, problem);
      if (!problem.empty()) report(at, false, fmt::format("note {} ({}): {}", i, name, problem));
      for (const std::size_t page : pages)
        if (!reached.insert(page).second)
          report(at, false,
                 fmt::format("note {} ({}): page {} belongs to another note as well", i, name, page));
      if ((note(i)[status_at] & status_occupied) == 0)
        report(at + status_at, true, fmt::format("note {} ({}): not marked as occupied", i, name));
      if (!names.insert(name).second) report(at, false, fmt::format("note {}: {} is there twice", i, name));
    }
    for (std::size_t page = first_data_page; page < page_count; ++page)
      if (next(page) != page_free && !reached.contains(page))
        report(index_at + 2 * page, true, fmt::format("page {} is in use, but no note leads to it", page));
    return problems;
  }

  std::size_t repair() override {
    const std::size_t before = check().size();
    mend_tables();
    mend_ids();
    std::set<std::size_t> reached;
    for (std::size_t i = 0; i < note_count; ++i) {
      if (is_blank_note(note(i))) continue;
      std::string problem;
      const auto pages = chain(i, problem);
      reached.insert(pages.begin(), pages.end());
      note(i)[status_at] |= status_occupied;
    }
    for (std::size_t page = first_data_page; page < page_count; ++page)
      if (next(page) != page_free && !reached.contains(page)) set_next(page, page_free);
    seal_tables();
    return before - check().size();
  }

  Blob image() const override { return Blob::copy_of(image_); }

 private:
  [[nodiscard]] ByteView note(std::size_t index) const {
    return ByteView(image_).subspan(notes_at + index * note_bytes, note_bytes);
  }
  [[nodiscard]] std::span<Byte> note(std::size_t index) {
    return std::span(image_).subspan(notes_at + index * note_bytes, note_bytes);
  }
  // The backup where only that one is sound.
  [[nodiscard]] std::size_t table() const {
    return image_[index_at + 1] != table_sum(index_at) && image_[backup_at + 1] == table_sum(backup_at)
               ? backup_at
               : index_at;
  }
  [[nodiscard]] std::uint16_t next(std::size_t page) const { return be16(image_, table() + 2 * page); }
  void set_next(std::size_t page, std::uint16_t value) {
    mend_tables();
    for (const std::size_t at : {index_at, backup_at}) put_be16(image_, at + 2 * page, value);
    seal_tables();
  }
  // Both tables as the sound one has it.
  void mend_tables() {
    const std::size_t from = table();
    const std::vector<Byte> sound(image_.begin() + static_cast<std::ptrdiff_t>(from),
                                  image_.begin() + static_cast<std::ptrdiff_t>(from + page_bytes));
    for (const std::size_t at : {index_at, backup_at})
      std::ranges::copy(sound, image_.begin() + static_cast<std::ptrdiff_t>(at));
  }
  void seal_tables() {
    for (const std::size_t at : {index_at, backup_at}) image_[at + 1] = table_sum(at);
  }
  // Each bad ID sector from a sound one.
  void mend_ids() {
    constexpr std::array<std::size_t, 4> places{0x20, 0x60, 0x80, 0xc0};
    constexpr std::size_t id_bytes = 32;
    const int before = sound_pak_ids(image_);
    if (before == 0 || before == 4) return;
    for (const std::size_t good : places) {
      std::vector<Byte> tried = image_;
      for (const std::size_t at : places)
        std::copy_n(image_.begin() + static_cast<std::ptrdiff_t>(good), id_bytes,
                    tried.begin() + static_cast<std::ptrdiff_t>(at));
      if (sound_pak_ids(tried) != 4) continue;
      image_ = std::move(tried);
      return;
    }
  }
  [[nodiscard]] Byte table_sum(std::size_t at) const {
    unsigned sum = 0;
    for (std::size_t i = 2 * first_data_page; i < page_bytes; ++i) sum += image_[at + i];
    return static_cast<Byte>(sum);
  }

  // The pages of a note. What is wrong with it goes into `problem`.
  [[nodiscard]] std::vector<std::size_t> chain(std::size_t index, std::string& problem) const {
    std::vector<std::size_t> pages;
    std::size_t page = be16(note(index), start_at);
    for (;;) {
      if (page < first_data_page || page >= page_count) {
        problem = pages.empty()
                      ? fmt::format("it begins at page {}, where no note can", page)
                      : fmt::format("page {} leads to page {}, where no note can be", pages.back(), page);
        return pages;
      }
      if (std::ranges::find(pages, page) != pages.end()) {
        problem = fmt::format("its pages lead in a circle at page {}", page);
        return pages;
      }
      pages.push_back(page);
      const std::uint16_t following = next(page);
      if (following == page_last) return pages;
      if (following == page_free) {
        problem = fmt::format("page {} is marked as free", page);
        return pages;
      }
      page = following;
    }
  }

  [[nodiscard]] Result<std::size_t> find(const std::string& name) const {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < note_count; ++i) {
      if (is_blank_note(note(i))) continue;
      names.push_back(name_of_note(note(i)));
      if (names.back() == name) return i;
    }
    const std::string hint = did_you_mean(name, names);
    return fail(ErrorCode::bad_usage, fmt::format("no note called '{}' is on the pak", printable(name)),
                hint.empty() ? "`bayswap card list` shows what there is" : hint);
  }

  std::vector<Byte> image_;
};

double weigh_pak(ByteView image, std::string& evidence) {
  const int ids = sound_pak_ids(image);
  evidence = fmt::format("{} of 4 controller pak ID sectors are sound", ids);
  return ids == 0 ? 0 : 0.6 + 0.095 * ids;
}

std::optional<CardSave> no_entry(ByteView /*entry*/, const Blob& /*payload*/) {
  return std::nullopt;
}

}  // namespace

const CardFormat& n64_format() {
  static const CardFormat format{CardKind::n64,
                                 "n64",
                                 pak_size_bytes,
                                 weigh_pak,
                                 [](std::vector<Byte> image) -> std::unique_ptr<Card> {
                                   return std::make_unique<PakCard>(std::move(image));
                                 },
                                 [] {
                                   const Blob fresh = fresh_pak(1);
                                   return std::vector<Byte>(fresh.view().begin(), fresh.view().end());
                                 },
                                 0,
                                 no_entry};
  return format;
}

}  // namespace bayswap
