// Tables and the columns that text takes on a terminal.
#include <algorithm>

#include "base/text.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

struct Range {
  std::uint32_t first;
  std::uint32_t last;
};
// Two columns: East Asian wide and full-width characters, and pictures (Unicode's EastAsianWidth.txt, W and
// F).
constexpr std::array<Range, 14> wide{{{0x1100, 0x115f},
                                      {0x2e80, 0x303e},
                                      {0x3041, 0x33ff},
                                      {0x3400, 0x4dbf},
                                      {0x4e00, 0x9fff},
                                      {0xa000, 0xa4cf},
                                      {0xac00, 0xd7a3},
                                      {0xf900, 0xfaff},
                                      {0xfe30, 0xfe6f},
                                      {0xff00, 0xff60},
                                      {0xffe0, 0xffe6},
                                      {0x1f300, 0x1f64f},
                                      {0x1f900, 0x1f9ff},
                                      {0x20000, 0x3fffd}}};
// None: marks that are on the character before, joiners.
constexpr std::array<Range, 5> combining{
    {{0x0300, 0x036f}, {0x200b, 0x200f}, {0x20d0, 0x20ff}, {0xfe00, 0xfe0f}, {0xfe20, 0xfe2f}}};

template <std::size_t Count>
bool is_in(const std::array<Range, Count>& ranges, std::uint32_t character) {
  return std::any_of(ranges.begin(), ranges.end(),
                     [&](const Range& range) { return character >= range.first && character <= range.last; });
}

std::size_t columns_of(std::string_view text, std::size_t length) {
  const std::uint32_t character = utf8_character(text, length);
  return is_in(combining, character) ? 0 : is_in(wide, character) ? 2 : 1;
}

// The cell in lines of at most so many columns: at spaces, else after a '/', else anywhere.
std::vector<std::string> lines_of(const std::string& cell, std::size_t columns) {
  std::vector<std::string> lines;
  std::string line;
  std::size_t used = 0;
  std::size_t good = 0;  // bytes of the line after which it may be broken
  for (std::size_t at = 0; at < cell.size();) {
    const std::size_t length = std::max<std::size_t>(utf8_length(std::string_view(cell).substr(at)), 1);
    const std::size_t own = columns_of(std::string_view(cell).substr(at), length);
    if (used + own > columns && !line.empty()) {
      std::string rest = good > 0 ? line.substr(good) : "";
      if (good > 0) line.resize(good);
      while (line.ends_with(' ')) line.pop_back();
      lines.push_back(std::move(line));
      line = std::move(rest);
      used = width(line);
      good = 0;
    }
    line += cell.substr(at, length);
    used += own;
    if (cell[at] == ' ' || cell[at] == '/') good = line.size();
    at += length;
  }
  while (line.ends_with(' ')) line.pop_back();
  lines.push_back(std::move(line));
  return lines;
}

class Table {
 public:
  Table(const std::vector<std::string>& headings, const std::vector<std::vector<std::string>>& rows,
        const std::vector<std::size_t>& right)
      : headings_(headings), rows_(rows), right_(right), widths_(headings.size()) {
    for (const auto& row : rows)
      for (std::size_t i = 0; i < std::min(row.size(), widths_.size()); ++i)
        widths_[i] = std::max(widths_[i], width(printable(row[i])));
    // A column that nobody has anything to say in is left out.
    for (std::size_t i = 0; i < headings.size(); ++i) {
      if (widths_[i] == 0 && !rows.empty()) continue;
      widths_[i] = std::max(widths_[i], width(headings[i]));
      columns_.push_back(i);
    }
    fit(table_width());
  }

  std::string text() {
    line(headings_, Tone::bold);
    for (const auto& row : rows_) line(row, Tone::plain);
    return std::move(out_);
  }

 private:
  [[nodiscard]] bool goes_right(std::size_t i) const {
    return std::find(right_.begin(), right_.end(), i) != right_.end();
  }
  [[nodiscard]] std::size_t total() const {
    std::size_t sum = columns_.empty() ? 0 : 2 * (columns_.size() - 1);
    for (const std::size_t i : columns_) sum += widths_[i];
    return sum;
  }

  // Too wide for the terminal: the last column, most often a path or a reason, is folded where there is room
  // to read it, and gets a line of its own where there is not; then the widest columns are folded.
  void fit(std::size_t terminal) {
    if (terminal == 0 || total() <= terminal || columns_.empty()) return;
    if (columns_.size() > 1 && !goes_right(columns_.back())) {
      constexpr std::size_t readable = 32;
      const std::size_t last = columns_.back();
      const std::size_t others = total() - widths_[last];
      if (others + readable <= terminal) {
        widths_[last] = terminal - others;
        return;
      }
      hanging_ = columns_.back();
      columns_.pop_back();
    }
    constexpr std::size_t narrowest = 8;
    while (total() > terminal) {
      std::size_t* widest = nullptr;
      for (const std::size_t i : columns_)
        if (!goes_right(i) && (widest == nullptr || widths_[i] > *widest)) widest = &widths_[i];
      if (widest == nullptr || *widest <= narrowest) return;
      --*widest;
    }
  }

  void line(const std::vector<std::string>& cells, Tone tone) {
    std::vector<std::vector<std::string>> folded;
    std::size_t height = 1;
    for (const std::size_t i : columns_) {
      folded.push_back(lines_of(i < cells.size() ? printable(cells[i]) : "", widths_[i]));
      height = std::max(height, folded.back().size());
    }
    for (std::size_t k = 0; k < height; ++k) {
      std::string text;
      for (std::size_t c = 0; c < columns_.size(); ++c) {
        const std::size_t i = columns_[c];
        const bool is_last = c + 1 == columns_.size();
        const std::string part = k < folded[c].size() ? folded[c][k] : "";
        text += is_last && !goes_right(i) ? part
                                          : padded(part, widths_[i], goes_right(i)) + (is_last ? "" : "  ");
      }
      while (text.ends_with(' ')) text.pop_back();
      out_ += toned(tone, text) + '\n';
    }
    if (!hanging_ || *hanging_ >= cells.size() || cells[*hanging_].empty()) return;
    constexpr std::size_t indent = 6;
    for (const std::string& part : lines_of(printable(cells[*hanging_]), table_width() - indent))
      out_ += std::string(indent, ' ') + toned(Tone::dim, part) + '\n';
  }

  const std::vector<std::string>& headings_;
  const std::vector<std::vector<std::string>>& rows_;
  const std::vector<std::size_t>& right_;
  std::vector<std::size_t> widths_;
  std::vector<std::size_t> columns_;
  std::optional<std::size_t> hanging_;
  std::string out_;
};

}  // namespace

std::size_t width(std::string_view text) {
  std::size_t columns = 0;
  while (!text.empty()) {
    const std::size_t length = std::max<std::size_t>(utf8_length(text), 1);
    columns += columns_of(text, length);
    text.remove_prefix(length);
  }
  return columns;
}

std::string table_text(const std::vector<std::string>& headings,
                       const std::vector<std::vector<std::string>>& rows,
                       const std::vector<std::size_t>& right) {
  return Table(headings, rows, right).text();
}

void print_table(const std::vector<std::string>& headings, const std::vector<std::vector<std::string>>& rows,
                 const std::vector<std::size_t>& right) {
  fmt::print("{}", table_text(headings, rows, right));
}

}  // namespace bayswap::cli
