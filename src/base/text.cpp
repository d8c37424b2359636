#include "base/text.hpp"

#include <fmt/format.h>

#include <iconv.h>
#include <utf8proc.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <memory>
#include <numeric>
#include <vector>

#include "base/endian.hpp"

namespace bayswap {
namespace {

constexpr std::string_view replacement = "\xEF\xBF\xBD";  // U+FFFD

bool is_plain(Byte b) {
  return b >= 0x20 && b < 0x7f;
}

class Converter {
 public:
  explicit Converter(const char* from) : handle_(iconv_open("UTF-8", from)) {}
  ~Converter() {
    if (usable()) iconv_close(handle_);
  }
  Converter(const Converter&) = delete;
  Converter& operator=(const Converter&) = delete;
  [[nodiscard]] bool usable() const { return handle_ != reinterpret_cast<iconv_t>(-1); }

  /// Converts one character at the beginning of `bytes`; gives how many bytes it took, 0 if it is none.
  std::size_t one(ByteView bytes, std::string& out) const {
    for (std::size_t length = 1; length <= std::min<std::size_t>(2, bytes.size()); ++length) {
      std::array<char, 2> in{static_cast<char>(bytes[0]), length > 1 ? static_cast<char>(bytes[1]) : '\0'};
      std::array<char, 8> text{};
      char* from = in.data();
      char* to = text.data();
      std::size_t in_left = length;
      std::size_t out_left = text.size();
      iconv(handle_, nullptr, nullptr, nullptr, nullptr);
      if (iconv(handle_, &from, &in_left, &to, &out_left) != static_cast<std::size_t>(-1) && in_left == 0) {
        out.append(text.data(), text.size() - out_left);
        return length;
      }
    }
    return 0;
  }

 private:
  iconv_t handle_;
};

}  // namespace

std::string to_utf8(ByteView bytes, TextEncoding encoding) {
  bytes = bytes.first(static_cast<std::size_t>(std::ranges::find(bytes, Byte{0}) - bytes.begin()));
  while (!bytes.empty() && bytes.back() == ' ') bytes = bytes.first(bytes.size() - 1);
  std::string text;
  if (std::ranges::all_of(bytes, is_plain)) {  // no need to wake the converter
    text.assign(bytes.begin(), bytes.end());
    return text;
  }
  // One of each a thread: to make one loads a library.
  thread_local const Converter western("CP1252");
  thread_local const Converter shift_jis("SHIFT_JIS");
  const Converter& converter = encoding == TextEncoding::western ? western : shift_jis;
  while (!bytes.empty()) {
    std::size_t taken = 1;
    if (is_plain(bytes[0])) {
      text += static_cast<char>(bytes[0]);
    } else if (bytes[0] < 0x80 || !converter.usable() || (taken = converter.one(bytes, text)) == 0) {
      text += replacement;
      taken = 1;
    }
    bytes = bytes.subspan(taken);
  }
  return text;
}

std::size_t utf8_length(std::string_view text) {
  if (text.empty()) return 0;
  const auto at = [&](std::size_t i) { return i < text.size() ? static_cast<Byte>(text[i]) : Byte{0}; };
  const Byte first = at(0);
  if (first < 0x80) return 1;
  const std::size_t length = first >= 0xf0 ? 4 : first >= 0xe0 ? 3 : 2;
  if (first < 0xc2 || first > 0xf4) return 0;
  for (std::size_t i = 1; i < length; ++i)
    if ((at(i) & 0xc0) != 0x80) return 0;
  // Longer than need be, halves of pairs, and what is after U+10FFFF.
  const Byte second = at(1);
  if ((first == 0xe0 && second < 0xa0) || (first == 0xed && second > 0x9f) ||
      (first == 0xf0 && second < 0x90) || (first == 0xf4 && second > 0x8f))
    return 0;
  return length;
}

bool is_plain_text(ByteView bytes) {
  const auto end = std::ranges::find(bytes, Byte{0});
  return end != bytes.begin() && std::all_of(bytes.begin(), end, is_plain);
}

std::string utf16_to_utf8(ByteView field) {
  std::string out;
  for (std::size_t at = 0; at + 2 <= field.size(); at += 2) {
    std::uint32_t c = be16(field, at);
    if (c == 0) break;
    if (c >= 0xD800 && c < 0xDC00 && at + 4 <= field.size() && (be16(field, at + 2) & 0xFC00) == 0xDC00) {
      c = 0x10000 + ((c & 0x3FF) << 10) + (be16(field, at + 2) & 0x3FFU);
      at += 2;
    } else if (c >= 0xD800 && c < 0xE000) {
      c = 0xFFFD;
    }
    if (c < 0x80) {
      out += static_cast<char>(c);
    } else if (c < 0x800) {
      out += static_cast<char>(0xC0 | (c >> 6));
      out += static_cast<char>(0x80 | (c & 0x3F));
    } else {
      if (c < 0x10000) {
        out += static_cast<char>(0xE0 | (c >> 12));
      } else {
        out += static_cast<char>(0xF0 | (c >> 18));
        out += static_cast<char>(0x80 | ((c >> 12) & 0x3F));
      }
      out += static_cast<char>(0x80 | ((c >> 6) & 0x3F));
      out += static_cast<char>(0x80 | (c & 0x3F));
    }
  }
  return printable(out);
}

std::string lower(std::string_view text) {
  std::string out(text);
  for (char& c : out)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return out;
}

bool is_control(std::uint32_t c) {
  return c < 0x20 || (c >= 0x7f && c < 0xa0) || c == 0x061c || c == 0x200e || c == 0x200f ||
         (c >= 0x2028 && c <= 0x202e) || (c >= 0x2066 && c <= 0x2069) || c == 0xfeff;
}

std::uint32_t utf8_character(std::string_view text, std::size_t length) {
  const auto at = [&](std::size_t i) { return static_cast<std::uint32_t>(static_cast<Byte>(text[i])); };
  if (length == 1) return at(0);
  std::uint32_t c = at(0) & (0x7fU >> length);
  for (std::size_t i = 1; i < length; ++i) c = c << 6U | (at(i) & 0x3fU);
  return c;
}

std::string printable(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    if (length == 0) {  // no UTF-8; some terminals obey 80 to 9F even so
      out += static_cast<Byte>(text.front()) < 0xa0 ? '?' : text.front();
      text.remove_prefix(1);
      continue;
    }
    if (is_control(utf8_character(text, length)))
      out += '?';
    else
      out += text.substr(0, length);
    text.remove_prefix(length);
  }
  return out;
}

namespace {

// The letter that is below the accent, for U+00C0 to U+017F; '?' where there is none.
char base_letter(std::uint32_t c) {
  constexpr std::string_view letters =
      "aaaaaaaceeeeiiiidnooooo?ouuuuytsaaaaaaaceeeeiiiidnooooo?ouuuuyty"
      "aaaaaaccccccccddddeeeeeeeeeegggggggghhhhiiiiiiiiiiiijjkkkllllllllllnnnnnnnnnoooooooorrrrrrsssssssstttt"
      "ttuuuuuuuuuuuuw"
      "wyyyzzzzzzs";
  return c >= 0xc0 && c - 0xc0 < letters.size() ? letters[c - 0xc0] : '?';
}

}  // namespace

std::string folded(std::string_view text) {
  if (std::ranges::all_of(text, [](char c) { return static_cast<unsigned char>(c) < 0x80; }))
    return lower(text);
  utf8proc_uint8_t* mapped = nullptr;
  const auto length =
      utf8proc_map(reinterpret_cast<const utf8proc_uint8_t*>(text.data()),
                   static_cast<utf8proc_ssize_t>(text.size()), &mapped,
                   static_cast<utf8proc_option_t>(UTF8PROC_STABLE | UTF8PROC_COMPOSE | UTF8PROC_COMPAT |
                                                  UTF8PROC_CASEFOLD | UTF8PROC_IGNORE));
  const std::unique_ptr<utf8proc_uint8_t, decltype(&std::free)> owned(mapped, &std::free);
  if (length < 0) return lower(text);  // no UTF-8
  std::string plain;
  for (std::string_view rest(reinterpret_cast<const char*>(mapped), static_cast<std::size_t>(length));
       !rest.empty();) {
    const std::size_t size = std::max<std::size_t>(utf8_length(rest), 1);
    const char letter = size > 1 ? base_letter(utf8_character(rest, size)) : '?';
    if (letter == '?')
      plain += rest.substr(0, size);
    else
      plain += letter;
    rest.remove_prefix(size);
  }
  return plain;
}

std::string normalized_title(std::string_view original) {
  const std::string text = folded(original);
  std::string_view name = text;
  std::string plain;
  int depth = 0;
  while (!name.empty()) {
    const std::size_t length = std::max<std::size_t>(utf8_length(name), 1);
    const char c = name.front();
    if (c == '(' || c == '[') ++depth;
    const bool outside = depth == 0;
    if ((c == ')' || c == ']') && depth > 0) --depth;
    if (outside && length > 1) {
      plain += name.substr(0, length);  // other scripts as they are
    } else if (outside && c == '&') {
      plain += " and ";
    } else if (outside && c != '\'') {
      const bool word = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
      plain += word ? c : ' ';
    }
    name.remove_prefix(length);
  }
  std::string out;
  for (std::size_t at = 0; at < plain.size();) {
    const std::size_t end = std::min(plain.find(' ', at), plain.size());
    const std::string word = plain.substr(at, end - at);
    if (!word.empty() && word != "the" && word != "a" && word != "an") out += (out.empty() ? "" : " ") + word;
    at = end + 1;
  }
  return out;
}

bool is_safe_name(std::string_view text) {
  constexpr std::size_t max_name_bytes = 255;
  if (text.empty() || text.size() > max_name_bytes || text == "." || text == ".." ||
      text.find_first_of("/\\") != std::string_view::npos || printable(text) != text)
    return false;
  for (std::size_t length = 0; !text.empty(); text.remove_prefix(length))
    if ((length = utf8_length(text)) == 0) return false;
  return true;
}

namespace {

template <class Texts>
std::string joined_texts(Texts texts, std::string_view between) {
  std::string out;
  for (const auto& text : texts) {
    if (&text != texts.data()) out += between;
    out += text;
  }
  return out;
}

}  // namespace

std::string joined(std::span<const std::string> texts, std::string_view between) {
  return joined_texts(texts, between);
}
std::string joined(std::span<const std::string_view> texts, std::string_view between) {
  return joined_texts(texts, between);
}
std::string joined(std::span<const std::size_t> numbers, std::string_view between) {
  std::string out;
  for (const std::size_t& number : numbers) {
    if (&number != numbers.data()) out += between;
    out += std::to_string(number);
  }
  return out;
}

std::size_t edit_distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), std::size_t{0});
  for (std::size_t i = 0; i < a.size(); ++i) {
    std::size_t diagonal = row[0];
    row[0] = i + 1;
    for (std::size_t j = 0; j < b.size(); ++j) {
      const std::size_t substituted = diagonal + (a[i] == b[j] ? 0 : 1);
      diagonal = row[j + 1];
      row[j + 1] = std::min({substituted, row[j] + 1, row[j + 1] + 1});
    }
  }
  return row.back();
}

std::string as_file_name(std::string_view text) {
  std::string out;
  for (const char c : text) {
    const bool refused = static_cast<Byte>(c) < 0x20 || c == 0x7f ||
                         std::string_view("/\\:*?\"<>|").find(c) != std::string_view::npos;
    out += refused ? '_' : c;
  }
  while (!out.empty() && (out.back() == ' ' || out.back() == '.')) out.pop_back();
  while (!out.empty() && out.front() == ' ') out.erase(out.begin());
  return out;
}

std::string counted(std::size_t count, std::string_view one) {
  return fmt::format("{} {}{}", count, one, count == 1 ? "" : "s");
}

bool is_stand_in(std::string_view text) {  // U+10FF80 to U+10FFFF
  return text.size() >= 4 && text[0] == '\xf4' && text[1] == '\x8f' &&
         (text[2] == '\xbe' || text[2] == '\xbf');
}

std::string name_from_document(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  while (!text.empty()) {
    if (is_stand_in(text)) {
      out += static_cast<char>((text[2] == '\xbe' ? 0x80 : 0xc0) | (static_cast<Byte>(text[3]) & 0x3f));
      text.remove_prefix(4);
    } else {
      out += text.front();
      text.remove_prefix(1);
    }
  }
  return out;
}

}  // namespace bayswap
