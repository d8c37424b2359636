// Single saves inside files whose own form nobody has told us: the console's directory entry with the content
// after it, or content that shows itself, wherever it begins.
#include <fmt/format.h>

#include <algorithm>

#include "base/endian.hpp"
#include "base/order.hpp"
#include "base/text.hpp"
#include "card/dc.hpp"
#include "card/disc_name.hpp"
#include "card/gc.hpp"
#include "card/kinds.hpp"
#include "card/n64.hpp"
#include "card/ps1.hpp"
#include "card/ps2.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_begin = 65536;  // a save begins before
constexpr std::size_t max_found = 16;
constexpr std::size_t max_size = std::size_t{16} << 20;

class Finder {
 public:
  explicit Finder(const Blob& file) : file_(file), bytes_(file.view()) {}

  std::vector<EmbeddedSave> run() {
    if (bytes_.size() < 64 || bytes_.size() > max_size) return {};
    const std::size_t end = std::min(max_begin, bytes_.size());
    for (std::size_t at = 0; at < end && found_.size() < max_found; ++at) {
      ps1_entry(at);
      gc_entry(at);
      dc_entry(at);
      ps2_entry(at);
      n64_entry(at);
    }
    // Content alone, where no entry was found for it.
    for (std::size_t at = 0; at < end && found_.size() < max_found; ++at) {
      ps1_content(at);
      dc_content(at);
    }
    std::vector<EmbeddedSave> list;
    sort_by_descending(found_, [](const Scored& one) { return one.score; });
    for (Scored& one : found_) list.push_back(std::move(one.save));
    return list;
  }

 private:
  struct Scored {
    EmbeddedSave save;
    int score = 0;
    std::size_t content_at = 0;
  };

  [[nodiscard]] ByteView at(std::size_t from, std::size_t count) const {
    return from <= bytes_.size() && bytes_.size() - from >= count ? bytes_.subspan(from, count) : ByteView{};
  }
  [[nodiscard]] std::size_t left(std::size_t from) const {
    return from < bytes_.size() ? bytes_.size() - from : 0;
  }
  [[nodiscard]] bool is_filler_after(std::size_t end) const {
    Byte filler = 0;
    return end == bytes_.size() ||
           (is_uniform(bytes_.subspan(end), &filler) && (filler == 0x00 || filler == 0xff));
  }
  // 2 more if the content ends with the file, or nothing but a filler comes after it.
  void add(CardSave save, std::size_t entry_at, std::size_t content_at, std::size_t content, int score,
           std::string evidence) {
    if (!card_format(save.kind).save.is_save(save)) return;
    if (std::any_of(found_.begin(), found_.end(), [&](const Scored& one) {
          return one.save.save.kind == save.kind && one.content_at == content_at;
        }))
      return;
    const bool ends = is_filler_after(content_at + content);
    found_.push_back(
        {{std::move(save), entry_at, false, std::move(evidence)}, score + (ends ? 2 : 0), content_at});
  }

  void ps1_entry(std::size_t from) {
    using namespace ps1;
    if (bytes_[from] != state_first) return;
    const ByteView entry = at(from, frame_bytes);
    if (entry.empty() || le32(entry, state_at) != state_first || !has_right_checksum(entry) ||
        !ps1_save().plausible(entry))
      return;
    const std::size_t size = le32(entry, size_at);
    const std::size_t content = from + frame_bytes;
    if (size == 0 || size % block_size != 0 || size > left(content)) return;
    const bool titled = blocks_by_title(bytes_.subspan(content, frame_bytes)) == size / block_size;
    add(named_save(CardKind::ps1, file_.slice(from, frame_bytes), file_.slice(content, size)), from, content,
        size, titled ? 9 : 5, fmt::format("a ps1 directory frame at {}, followed by its content", from));
  }

  void gc_entry(std::size_t from) {
    using namespace gc;
    const ByteView entry = at(from, entry_bytes);
    if (entry.empty() || !is_plain_code(entry.first(6)) || entry[6] != 0xff || !gc_save().plausible(entry))
      return;
    const std::size_t size = be16(entry, blocks_at) * block_size;
    const std::size_t content = from + entry_bytes;
    if (size == 0 || size > left(content)) return;
    add(named_save(CardKind::gc, file_.slice(from, entry_bytes), file_.slice(content, size)), from, content,
        size, 6,
        fmt::format("a gc directory entry at {}, followed by its {} blocks", from, size / block_size));
  }

  void n64_entry(std::size_t from) {
    using namespace n64;
    const ByteView note = at(from, note_bytes);
    if (note.empty() || !is_plain_code(note.first(start_at)) || !n64_save().plausible(note) ||
        note[status_at] != status_occupied || be16(note, start_at) >= max_banks * bank_pages)
      return;
    // In a text all letters are there: what a console leaves blank tells a note from it.
    const ByteView unused = note.subspan(status_at + 1, extension_at - status_at - 1);
    if (std::ranges::any_of(unused, [](Byte b) { return b != 0; }) || !ends_in_blanks(note)) return;
    const std::size_t content = from + note_bytes;
    const std::size_t size = left(content);
    // Nothing says how long it is: it has to end with the file.
    if (size == 0 || size % page_bytes != 0 || size > bank_bytes) return;
    add(named_save(CardKind::n64, file_.slice(from, note_bytes), file_.slice(content, size)), from, content,
        size, 3, fmt::format("an n64 note at {}, followed by whole pages", from));
  }

  // Characters, and after the first 00 nothing else.
  [[nodiscard]] static bool ends_in_blanks(ByteView note) {
    using namespace n64;
    const ByteView name = note.subspan(name_at, name_bytes);
    const auto end = std::ranges::find(name, Byte{0});
    return std::all_of(end, name.end(), [](Byte b) { return b == 0; });
  }

  void dc_entry(std::size_t from) {
    using namespace dc;
    if (bytes_[from] != type_data && bytes_[from] != type_game) return;
    const ByteView entry = at(from, entry_bytes);
    if (entry.empty() || !dc_save().plausible(entry) || !is_moment(entry.subspan(time_at, time_bytes)))
      return;
    // Somewhere in a file a name of any bytes would be there by chance.
    const ByteView name = entry.subspan(name_at, name_bytes);
    if (std::any_of(name.begin(), name.end(), [](Byte b) { return b != 0 && (b < ' ' || b > '~'); })) return;
    const std::size_t size = le16(entry, blocks_at) * block_size;
    const std::size_t content = from + entry_bytes;
    if (size == 0 || size > left(content)) return;
    const CardSave save =
        single_save(CardKind::dc, file_.slice(from, entry_bytes), file_.slice(content, size));
    // Within a file of anything 32 bytes come to look like an entry: the content has to speak for it.
    const ByteView data = save.payload.view();
    const std::size_t covered = covered_bytes(data);
    const bool is_proven = covered > 0 && le16(data, content_crc_at) == content_crc(data.first(covered));
    if (from != 0 && !is_proven && !is_filler_after(content + size)) return;
    add(save, from, content, size, describe(save).title.empty() ? 3 : 6,
        fmt::format("a dc directory entry at {}, followed by its {} blocks", from, size / block_size));
  }
  // A moment of the console's clock: century, year, month, day, hour, minute, second, day of the week, two
  // digits each. Letters are digits to a rule that only asks for digits.
  static bool is_moment(ByteView field) {
    const auto within = [&](std::size_t at, unsigned least, unsigned most) {
      const unsigned b = field[at];
      const unsigned value = (b >> 4U) * 10 + (b & 15U);
      return (b & 15U) <= 9 && b >> 4U <= 9 && value >= least && value <= most;
    };
    return within(0, 19, 20) && within(1, 0, 99) && within(2, 1, 12) && within(3, 1, 31) &&
           within(4, 0, 23) && within(5, 0, 59) && within(6, 0, 59) && within(7, 0, 6);
  }

  // A folder's entry, and after it those of its files: each with its bytes, or all entries first.
  void ps2_entry(std::size_t from) {
    using namespace ps2;
    const ByteView folder = at(from, entry_bytes);
    if (folder.empty() || !is_folder(folder) || !ps2_save().plausible(folder)) return;
    const std::size_t count = le32(folder, length_at);
    constexpr std::size_t most = 2048;
    if (count < 2 || count > most) return;
    for (const bool together : {false, true})
      for (const std::size_t unit : {std::size_t{1024}, std::size_t{512}, std::size_t{1}}) {
        std::vector<CardFile> files;
        const auto end =
            together ? files_together(from, count, unit, files) : files_one_by_one(from, count, unit, files);
        if (!end || files.size() + 2 < count) continue;
        const bool shown = std::any_of(files.begin(), files.end(), [](const CardFile& one) {
          return one.name == "icon.sys" && one.bytes.size() > 4 && one.bytes.view()[0] == 'P' &&
                 one.bytes.view()[1] == 'S' && one.bytes.view()[2] == '2' && one.bytes.view()[3] == 'D';
        });
        if (!shown) continue;
        add(named_save(CardKind::ps2, file_.slice(from, entry_bytes), Blob{}, std::move(files)), from,
            from + entry_bytes, *end - from - entry_bytes, 8,
            fmt::format("a ps2 folder's entry at {}, followed by its files", from));
        return;
      }
  }
  static bool is_folder(ByteView entry) {
    const unsigned mode = le16(entry, ps2::mode_at);
    return (mode & ps2::mode_folder) != 0 && (mode & ps2::mode_file) == 0 && (mode & ps2::mode_exists) != 0;
  }
  [[nodiscard]] static bool is_dots_entry(ByteView entry) {
    using ps2::name_at;
    return is_folder(entry) && entry[name_at] == '.' &&
           (entry[name_at + 1] == 0 || (entry[name_at + 1] == '.' && entry[name_at + 2] == 0));
  }
  // The entry at `from` as a file of at most `room` bytes; nothing if it is none.
  [[nodiscard]] std::optional<std::pair<std::string, std::size_t>> file_entry(std::size_t from) const {
    using namespace ps2;
    const ByteView entry = at(from, entry_bytes);
    if (entry.empty()) return std::nullopt;
    const unsigned mode = le16(entry, mode_at);
    if ((mode & mode_file) == 0 || (mode & mode_folder) != 0 || !ps2_save().plausible(entry))
      return std::nullopt;
    return std::pair{to_utf8(entry.subspan(name_at, name_bytes), TextEncoding::shift_jis),
                     std::size_t{le32(entry, length_at)}};
  }
  [[nodiscard]] std::optional<std::size_t> files_one_by_one(std::size_t from, std::size_t count,
                                                            std::size_t unit,
                                                            std::vector<CardFile>& files) const {
    using namespace ps2;
    std::size_t next = from + entry_bytes;
    for (std::size_t dots = 0;
         dots < 2 && !at(next, entry_bytes).empty() && is_dots_entry(at(next, entry_bytes)); ++dots)
      next += entry_bytes;
    while (files.size() + 2 < count) {
      const auto one = file_entry(next);
      if (!one || one->second > left(next + entry_bytes)) return std::nullopt;
      const std::size_t padded = (one->second + unit - 1) / unit * unit;
      files.push_back(
          {one->first, file_.slice(next, entry_bytes), file_.slice(next + entry_bytes, one->second)});
      next += entry_bytes + std::min(padded, left(next + entry_bytes));
    }
    return next;
  }
  [[nodiscard]] std::optional<std::size_t> files_together(std::size_t from, std::size_t count,
                                                          std::size_t unit,
                                                          std::vector<CardFile>& files) const {
    using namespace ps2;
    std::vector<std::size_t> entries;
    std::size_t next = from + entry_bytes;
    for (std::size_t dots = 0;
         dots < 2 && !at(next, entry_bytes).empty() && is_dots_entry(at(next, entry_bytes)); ++dots)
      next += entry_bytes;
    for (; entries.size() + 2 < count; next += entry_bytes) {
      if (!file_entry(next)) return std::nullopt;
      entries.push_back(next);
    }
    for (const std::size_t entry : entries) {
      const auto one = file_entry(entry);
      if (one->second > left(next)) return std::nullopt;
      files.push_back({one->first, file_.slice(entry, entry_bytes), file_.slice(next, one->second)});
      next += std::min((one->second + unit - 1) / unit * unit, left(next));
    }
    return next;
  }

  // A title frame; the name may be before it, whoever put it there.
  void ps1_content(std::size_t from) {
    using namespace ps1;
    if (bytes_[from] != 'S') return;
    const ByteView frame = at(from, frame_bytes);
    const std::size_t count = frame.empty() ? 0 : blocks_by_title(frame);
    const std::size_t size = count * block_size;
    if (count == 0 || size > left(from)) return;
    const std::string title = to_utf8(frame.subspan(title_at, title_bytes), TextEncoding::shift_jis);
    if (title.empty() || title.find("\uFFFD") != std::string::npos) return;
    const std::string name = disc_name_before(from);
    // In noise such a frame is there once in a thousand files.
    if (name.empty() && !is_filler_after(from + size)) return;
    auto entry = ps1_save().fresh_entry(name.empty() ? "UNNAMED" : name, 0);
    if (!entry) return;
    ps1_save().set_size(*entry, size);
    const std::size_t before = found_.size();
    add(named_save(CardKind::ps1, Blob::copy_of(*entry), file_.slice(from, size)), from, from, size, 4,
        name.empty() ? fmt::format("a ps1 title frame at {}; the save's name is unknown", from)
                     : fmt::format("a ps1 title frame at {}, and the name {} before it", from, name));
    if (found_.size() > before) found_.back().save.nameless = name.empty();
  }
  // "BESLES-99001SAVE": the last such text before `end`.
  [[nodiscard]] std::string disc_name_before(std::size_t end) const {
    const std::string_view text(reinterpret_cast<const char*>(bytes_.data()), end);
    for (std::size_t start = text.size() < disc_code_end ? 0 : text.size() - disc_code_end + 1;
         start-- > 0;) {
      const std::string_view head = text.substr(start, disc_code_end);
      if (region_of_disc_name(head) == Region::unknown || disc_code(head.substr(2)) != head.substr(2))
        continue;
      std::string name;
      for (const char c : text.substr(start, ps1::name_bytes - 1)) {
        if (c < 0x20 || c > 0x7e) break;
        name += c;
      }
      return name;
    }
    return {};
  }

  void dc_content(std::size_t from) {
    const ByteView rest = bytes_.subspan(from);
    const std::size_t size = dc::covered_bytes(rest);
    // A header has icons, and a title in letters.
    if (size == 0 || crcs_left_ == 0 || le16(rest, 64) == 0 || !is_plain_text(rest.first(16))) return;
    --crcs_left_;
    if (le16(rest, dc::content_crc_at) != dc::content_crc(rest.first(size))) return;
    const std::size_t whole = (size + dc::block_size - 1) / dc::block_size * dc::block_size;
    // 16 bits at so many places: it has to be all that is left of the file as well.
    if (whole > left(from) || !is_filler_after(from + whole)) return;
    auto entry = dc_save().fresh_entry("UNNAMED", 0);
    if (!entry) return;
    dc_save().set_size(*entry, whole);
    const std::size_t before = found_.size();
    add(named_save(CardKind::dc, Blob::copy_of(*entry), file_.slice(from, whole)), from, from, whole, 4,
        fmt::format("a dc header with the right checksum at {}; the save's name is unknown", from));
    if (found_.size() > before) found_.back().save.nameless = true;
  }

  static bool is_plain_code(ByteView field) {
    return std::all_of(field.begin(), field.end(),
                       [](Byte b) { return (b >= 'A' && b <= 'Z') || (b >= '0' && b <= '9'); });
  }

  const Blob& file_;
  ByteView bytes_;
  std::vector<Scored> found_;
  int crcs_left_ = 16;
};

}  // namespace

std::vector<EmbeddedSave> find_embedded_saves(const Blob& file) {
  return Finder(file).run();
}

}  // namespace bayswap
