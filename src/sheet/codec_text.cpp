#include <fmt/format.h>

#include <iconv.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/codec.hpp"

namespace bayswap::sheets {
namespace {

// From one encoding to another, a character at a time; opened when first needed.
class ShiftJis {
 public:
  ShiftJis() : in_(iconv_open("UTF-8", "SHIFT_JIS")), out_(iconv_open("SHIFT_JIS", "UTF-8")) {}
  ~ShiftJis() {
    for (const iconv_t handle : {in_, out_})
      if (handle != none()) iconv_close(handle);
  }
  ShiftJis(const ShiftJis&) = delete;
  ShiftJis& operator=(const ShiftJis&) = delete;

  std::string to_utf8(std::string bytes) const { return convert(in_, std::move(bytes)); }
  std::string from_utf8(std::string text) const { return convert(out_, std::move(text)); }

 private:
  static iconv_t none() { return reinterpret_cast<iconv_t>(-1); }
  // Empty where it is none.
  static std::string convert(iconv_t handle, std::string in) {
    if (handle == none()) return {};
    std::array<char, 16> out{};
    char* from = in.data();
    char* to = out.data();
    std::size_t in_left = in.size();
    std::size_t out_left = out.size();
    iconv(handle, nullptr, nullptr, nullptr, nullptr);
    if (iconv(handle, &from, &in_left, &to, &out_left) == static_cast<std::size_t>(-1) || in_left > 0)
      return {};
    return {out.data(), out.size() - out_left};
  }
  iconv_t in_;
  iconv_t out_;
};
const ShiftJis& shift_jis() {
  thread_local const ShiftJis converter;
  return converter;
}

void append_utf8(std::string& out, std::uint32_t c) {
  if (c < 0x80) {
    out += static_cast<char>(c);
  } else if (c < 0x800) {
    out += static_cast<char>(0xc0 | c >> 6);
    out += static_cast<char>(0x80 | (c & 0x3f));
  } else if (c < 0x10000) {
    out += static_cast<char>(0xe0 | c >> 12);
    out += static_cast<char>(0x80 | (c >> 6 & 0x3f));
    out += static_cast<char>(0x80 | (c & 0x3f));
  } else {
    out += static_cast<char>(0xf0 | c >> 18);
    out += static_cast<char>(0x80 | (c >> 12 & 0x3f));
    out += static_cast<char>(0x80 | (c >> 6 & 0x3f));
    out += static_cast<char>(0x80 | (c & 0x3f));
  }
}

std::uint32_t code_at(const TextForm& form, ByteView bytes) {
  if (form.unit_bytes == 1) return bytes[0];
  return form.unit_big_endian ? std::uint32_t{bytes[0]} << 8 | bytes[1]
                              : std::uint32_t{bytes[1]} << 8 | bytes[0];
}
void put_code(const TextForm& form, std::uint32_t code, std::vector<Byte>& out) {
  if (form.unit_bytes == 1) {
    out.push_back(static_cast<Byte>(code));
    return;
  }
  const auto low = static_cast<Byte>(code);
  const auto high = static_cast<Byte>(code >> 8);
  out.push_back(form.unit_big_endian ? high : low);
  out.push_back(form.unit_big_endian ? low : high);
}

struct Decoded {
  std::string text;        // empty: no character
  std::size_t length = 1;  // in bytes
};

// The character that the bytes, at least one unit, begin with.
Decoded decode_one(const TextForm& form, ByteView bytes) {
  const std::uint32_t code = code_at(form, bytes);
  Decoded out{{}, form.unit_bytes};
  switch (form.named) {
    case TextForm::Named::table: {
      const auto found = form.to_text.find(code);
      if (found != form.to_text.end()) out.text = found->second;
      return out;
    }
    case TextForm::Named::ascii:
      if (code < 0x80) append_utf8(out.text, code);
      return out;
    case TextForm::Named::latin1:
      append_utf8(out.text, code);
      return out;
    case TextForm::Named::utf8: {
      const std::string_view rest(reinterpret_cast<const char*>(bytes.data()), bytes.size());
      const std::size_t length = utf8_length(rest);
      if (length > 0) out = {std::string(rest.substr(0, length)), length};
      return out;
    }
    case TextForm::Named::utf16_little:
    case TextForm::Named::utf16_big:
      if (code >= 0xd800 && code < 0xdc00 && bytes.size() >= 4) {
        const std::uint32_t second = code_at(form, bytes.subspan(2));
        if (second >= 0xdc00 && second < 0xe000) {
          append_utf8(out.text, 0x10000 + ((code & 0x3ff) << 10) + (second & 0x3ff));
          out.length = 4;
        }
      } else if (code < 0xd800 || code >= 0xe000) {
        append_utf8(out.text, code);
      }
      return out;
    case TextForm::Named::shift_jis:
      break;
  }
  if (code < 0x80) {
    append_utf8(out.text, code);
    return out;
  }
  for (std::size_t length = 1; out.text.empty() && length <= std::min<std::size_t>(2, bytes.size());
       ++length) {
    out.text = shift_jis().to_utf8({reinterpret_cast<const char*>(bytes.data()), length});
    out.length = length;
  }
  if (out.text.empty()) out.length = 1;
  return out;
}

// The bytes of the character that `text` begins with; none where the encoding does not have it.
std::pair<std::vector<Byte>, std::size_t> encode_one(const TextForm& form, std::string_view text) {
  std::vector<Byte> out;
  const std::size_t length = utf8_length(text);
  if (form.named == TextForm::Named::table) {
    // The longest of the table's texts.
    for (std::size_t size = std::min(form.longest, text.size()); size > 0; --size) {
      const auto code = form.to_code.find(std::string(text.substr(0, size)));
      if (code == form.to_code.end()) continue;
      put_code(form, code->second, out);
      return {out, size};
    }
    return {out, length};
  }
  if (length == 0) return {out, 1};
  const std::uint32_t c = utf8_character(text, length);
  switch (form.named) {
    case TextForm::Named::ascii:
      if (c < 0x80) out.push_back(static_cast<Byte>(c));
      break;
    case TextForm::Named::latin1:
      if (c < 0x100) out.push_back(static_cast<Byte>(c));
      break;
    case TextForm::Named::utf8:
      out.assign(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(length));
      break;
    case TextForm::Named::utf16_little:
    case TextForm::Named::utf16_big:
      if (c >= 0x10000) {
        put_code(form, 0xd800 + ((c - 0x10000) >> 10), out);
        put_code(form, 0xdc00 + ((c - 0x10000) & 0x3ff), out);
      } else {
        put_code(form, c, out);
      }
      break;
    default: {
      if (c < 0x80) {
        out.push_back(static_cast<Byte>(c));
        break;
      }
      const std::string bytes = shift_jis().from_utf8(std::string(text.substr(0, length)));
      out.assign(bytes.begin(), bytes.end());
    }
  }
  return {out, length};
}

// What ends a text: the sheet's byte, or 00 of the encodings that everybody has.
std::optional<std::uint32_t> end_code(const TextForm& form, const FieldDef& field) {
  if (field.end) return *field.end;
  return form.named == TextForm::Named::table ? std::nullopt : std::optional<std::uint32_t>(0);
}

std::string escaped(const TextForm& form, std::uint32_t code) {
  return fmt::format("{{{:0{}X}}}", code, 2 * form.unit_bytes);
}

// {4F} at the beginning of the text.
std::optional<std::uint32_t> escape_at(const TextForm& form, std::string_view text) {
  const std::size_t digits = 2 * form.unit_bytes;
  if (text.size() < digits + 2 || text[0] != '{' || text[digits + 1] != '}') return std::nullopt;
  const auto bytes = bytes_from_hex(text.substr(1, digits));
  if (!bytes) return std::nullopt;
  return form.unit_bytes == 1 ? (*bytes)[0] : std::uint32_t{(*bytes)[0]} << 8 | (*bytes)[1];
}

}  // namespace

std::string read_text(const TextForm& form, const FieldDef& field, ByteView bytes) {
  std::string out;
  const auto end = end_code(form, field);
  std::size_t kept = 0;  // without fillers at the end
  while (bytes.size() >= form.unit_bytes) {
    const std::uint32_t code = code_at(form, bytes);
    if (end && code == *end) break;
    Decoded one = decode_one(form, bytes);
    const bool is_bad =
        one.text.empty() || (one.text.size() <= 2 && is_control(utf8_character(one.text, one.text.size())));
    if (is_bad) one = {escaped(form, code), form.unit_bytes};
    out += one.text;
    if (!field.fill || code != *field.fill) kept = out.size();
    bytes = bytes.subspan(one.length);
  }
  if (field.fill) out.resize(kept);
  return out;
}

Result<std::vector<Byte>> write_text(const TextForm& form, const FieldDef& field, std::string_view text,
                                     std::size_t size_bytes) {
  std::vector<Byte> out;
  for (std::string_view left = text; !left.empty();) {
    if (const auto code = escape_at(form, left)) {
      put_code(form, *code, out);
      left.remove_prefix(2 * form.unit_bytes + 2);
      continue;
    }
    const auto [bytes, taken] = encode_one(form, left);
    if (bytes.empty())
      return fail(ErrorCode::bad_usage,
                  fmt::format("'{}' can't be written in this game's characters",
                              printable(left.substr(0, std::max<std::size_t>(taken, 1)))),
                  "use other characters");
    out.insert(out.end(), bytes.begin(), bytes.end());
    left.remove_prefix(taken);
  }
  if (out.size() > size_bytes)
    return fail(ErrorCode::does_not_fit,
                fmt::format("'{}' takes {} bytes, and {} are there", printable(text), out.size(), size_bytes),
                "use a shorter text");
  const auto end = end_code(form, field);
  if (end && out.size() + form.unit_bytes <= size_bytes) put_code(form, *end, out);
  const Byte fill = field.fill.value_or(field.end.value_or(0));
  while (out.size() < size_bytes) {
    if (size_bytes - out.size() >= form.unit_bytes)
      put_code(form, fill, out);
    else
      out.push_back(fill);
  }
  if (read_text(form, field, out) != text)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' would be read as another text", printable(text)),
                "leave out what ends or fills a text in this game");
  return out;
}

}  // namespace bayswap::sheets
