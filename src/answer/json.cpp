#include "answer/json.hpp"

#include <fmt/format.h>
#include <bayswap/base.hpp>

#include <algorithm>
#include <cmath>

#include "base/text.hpp"

namespace bayswap {
namespace {

void write_text(std::string& out, std::string_view text) {
  out += '"';
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    const char c = text.front();
    if (length == 0) {  // U+10FF80 to U+10FFFF
      const auto byte = static_cast<Byte>(c);
      out += "\xf4\x8f";
      out += static_cast<char>(byte < 0xc0 ? 0xbe : 0xbf);
      out += static_cast<char>(0x80 | (byte & 0x3f));
    } else if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (c == '\n' || c == '\t' || c == '\r') {
      out += c == '\n' ? "\\n" : c == '\t' ? "\\t" : "\\r";
    } else if (const std::uint32_t character = utf8_character(text, length); is_control(character)) {
      out += fmt::format("\\u{:04x}", character);
    } else {
      out += text.substr(0, length);
    }
    text.remove_prefix(std::max<std::size_t>(length, 1));
  }
  out += '"';
}

}  // namespace

Json::Json(std::string value) : kind_(Kind::text), text_(std::move(value)) {}
Json::Json(std::string_view value) : kind_(Kind::text), text_(value) {}
Json::Json(const char* value) : kind_(Kind::text), text_(value) {}
Json::Json(const std::vector<std::string>& values) : kind_(Kind::array) {
  for (const std::string& value : values) elements_.emplace_back(value);
}

Json::Json(const std::vector<std::size_t>& values) : kind_(Kind::array) {
  for (const std::size_t value : values) elements_.emplace_back(value);
}

bool Json::is_pair() const {
  return kind_ == Kind::array && elements_.size() == 2 && elements_.front().kind_ == Kind::text;
}

Json::Json(std::initializer_list<Json> values) : kind_(Kind::array) {
  if (values.size() == 0 ||
      !std::all_of(values.begin(), values.end(), [](const Json& one) { return one.is_pair(); })) {
    elements_.assign(values);
    return;
  }
  kind_ = Kind::object;
  keys_.reserve(values.size());
  elements_.reserve(values.size());
  for (const Json& pair : values) (*this)[pair.elements_[0].text_] = pair.elements_[1];
}

Json Json::array() {
  Json made;
  made.kind_ = Kind::array;
  return made;
}

void Json::push_back(Json value) {
  kind_ = Kind::array;
  elements_.push_back(std::move(value));
}

Json& Json::operator[](std::string_view key) {
  kind_ = Kind::object;
  const auto found = std::find(keys_.begin(), keys_.end(), key);
  if (found != keys_.end()) return elements_[static_cast<std::size_t>(found - keys_.begin())];
  keys_.emplace_back(key);
  return elements_.emplace_back();
}

void Json::update(const Json& other) {
  for (std::size_t i = 0; i < other.keys_.size(); ++i) (*this)[other.keys_[i]] = other.elements_[i];
}

void Json::erase(std::string_view key) {
  const auto found = std::find(keys_.begin(), keys_.end(), key);
  if (found == keys_.end()) return;
  elements_.erase(elements_.begin() + (found - keys_.begin()));
  keys_.erase(found);
}

void Json::write(std::string& out, std::size_t depth) const {
  switch (kind_) {
    case Kind::null:
      out += "null";
      return;
    case Kind::boolean:
      out += number_ != 0 ? "true" : "false";
      return;
    case Kind::number:
      out += std::to_string(number_);
      return;
    case Kind::unsigned_number:
      out += std::to_string(static_cast<std::uint64_t>(number_));
      return;
    case Kind::real: {
      const std::string number = std::isfinite(real_) ? fmt::format("{}", real_) : "null";
      out += number;
      if (number.find_first_of(".en") == std::string::npos) out += ".0";
      return;
    }
    case Kind::text:
      write_text(out, text_);
      return;
    case Kind::array:
    case Kind::object:
      break;
  }
  const bool is_object = kind_ == Kind::object;
  if (elements_.empty()) {
    out += is_object ? "{}" : "[]";
    return;
  }
  out += is_object ? '{' : '[';
  for (std::size_t i = 0; i < elements_.size(); ++i) {
    out += i == 0 ? "\n" : ",\n";
    out.append(2 * (depth + 1), ' ');
    if (is_object) {
      write_text(out, keys_[i]);
      out += ": ";
    }
    elements_[i].write(out, depth + 1);
  }
  out += '\n';
  out.append(2 * depth, ' ');
  out += is_object ? '}' : ']';
}

std::string Json::line() const {
  // Line ends within texts are escaped: those that are there only indent.
  std::string out;
  bool indents = false;
  for (const char c : text()) {
    indents = c == '\n' || (indents && c == ' ');
    if (!indents) out += c;
  }
  return out;
}

std::string Json::text() const {
  std::string out;
  write(out, 0);
  return out;
}

}  // namespace bayswap
