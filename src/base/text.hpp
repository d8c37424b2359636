// Text as ROMs and media hold it, to UTF-8.
#pragma once

#include <bayswap/base.hpp>

#include <span>
#include <string>
#include <vector>

namespace bayswap {

enum class TextEncoding {
  shift_jis,  // JIS X 0201/0208; plain ASCII is a subset
  western     // the western Windows code page; plain ASCII is a subset
};

/// UTF-8 of `bytes` up to the first NUL, padding spaces cut off at the end. Bytes that are no text in the
/// encoding, and control characters, become U+FFFD, so that the result is always printable.
[[nodiscard]] std::string to_utf8(ByteView bytes, TextEncoding encoding);

/// UTF-8 of UTF-16 with the high byte first, up to the first 0000; printable as above.
[[nodiscard]] std::string utf16_to_utf8(ByteView bytes);

/// How many bytes the character that `text` begins with has in UTF-8; 0 where that is no UTF-8.
[[nodiscard]] std::size_t utf8_length(std::string_view text);

/// Returns whether a character is an ASCII digit.
[[nodiscard]] constexpr bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

/// Lower case of ASCII letters; other bytes as they are.
[[nodiscard]] std::string lower(std::string_view text);

/// Returns whether a character moves the cursor, turns the direction of the text round or hides: controls of
/// ASCII and of Latin-1, marks of direction, ends of lines and of paragraphs.
[[nodiscard]] bool is_control(std::uint32_t character);
/// Returns the character that the first `length` bytes of `text` are in UTF-8, where utf8_length gave the
/// length.
[[nodiscard]] std::uint32_t utf8_character(std::string_view text, std::size_t length);

/// Returns `text` made safe for a terminal and a file name: each control character (see is_control) becomes
/// '?', and so do bytes 80 to 9F that are not UTF-8.
[[nodiscard]] std::string printable(std::string_view text);

/// Returns what two spellings of one name have in common: without case, accents of Latin letters, width and
/// composition. For text that is not UTF-8, the same as lower().
[[nodiscard]] std::string folded(std::string_view text);

/// Returns what two names of one game have in common: lower case, without accents, without what is in
/// brackets, with "and" for "&", without articles and punctuation, single spaces.
[[nodiscard]] std::string normalized_title(std::string_view name);

/// Whether `text` can be the name of one file anywhere: valid UTF-8 of 1 to 255 bytes, printable, not "." or
/// "..", without '/' and '\\'. Every name that is read from a file has to pass before it becomes a path.
[[nodiscard]] bool is_safe_name(std::string_view text);

/// Returns the text as a file's name: '_' for separators and all that FAT or a desktop refuses, no spaces or
/// dots at its ends.
[[nodiscard]] std::string as_file_name(std::string_view text);

/// Returns "1 byte", "2 bytes".
[[nodiscard]] std::string counted(std::size_t count, std::string_view one);

/// All bytes up to the first 00 are plain ASCII, from space on, and there is one.
[[nodiscard]] bool is_plain_text(ByteView bytes);

/// The distance between two words in single-character edits, for "did you mean".
[[nodiscard]] std::size_t edit_distance(std::string_view a, std::string_view b);

/// Returns the texts, or numbers, with `between` between each two. As fmt::join does, but compiled once.
[[nodiscard]] std::string joined(std::span<const std::string> texts, std::string_view between);
[[nodiscard]] std::string joined(std::span<const std::string_view> texts, std::string_view between);
[[nodiscard]] std::string joined(std::span<const std::size_t> numbers, std::string_view between);

/// The candidate nearest to `word`, as ", did you mean 'x'?", or nothing where none is near.
template <class Words>
[[nodiscard]] std::string did_you_mean(std::string_view word, const Words& candidates) {
  std::string best;
  std::size_t best_distance = word.size() / 3 + 2;
  for (const auto& candidate : candidates) {
    const std::size_t distance = edit_distance(word, candidate);
    if (distance < best_distance) {
      best_distance = distance;
      best = candidate;
    }
  }
  return best.empty() ? std::string{} : "did you mean '" + best + "'?";
}

/// Names of files can have any bytes, TOML and JSON only UTF-8: a byte that is none is in our documents as
/// U+10FF00 plus itself, the last of the characters that nobody may ever define. (Where a name really has one
/// of these, its four bytes are written so.) Returns whether `text` begins with one of them.
[[nodiscard]] bool is_stand_in(std::string_view text);
/// Returns a text out of a document with the bytes that it stands for.
[[nodiscard]] std::string name_from_document(std::string_view text);

}  // namespace bayswap
