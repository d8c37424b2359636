// JSON documents as commands and calls answer with. Only made and printed, never parsed; no templates, so
// that a command that prints one compiles in a moment.
#pragma once

#include <concepts>
#include <cstdint>
#include <initializer_list>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace bayswap {

/// A value: nothing, a truth, a number, a text, an array, or an object whose keys keep their order.
class Json {
 public:
  Json(std::nullptr_t = nullptr) {}
  Json(bool value) : kind_(Kind::boolean), number_(value ? 1 : 0) {}
  Json(std::signed_integral auto value) : kind_(Kind::number), number_(value) {}
  Json(std::unsigned_integral auto value)
      : kind_(Kind::unsigned_number), number_(static_cast<std::int64_t>(value)) {}
  Json(double value) : kind_(Kind::real), real_(value) {}
  Json(std::string value);
  Json(std::string_view value);
  Json(const char* value);
  Json(const std::vector<std::string>& values);
  Json(const std::vector<std::size_t>& values);
  /// An object if every value is a pair that begins with a text, otherwise an array.
  Json(std::initializer_list<Json> values);
  [[nodiscard]] static Json array();

  void push_back(Json value);
  /// Adds the key if it is missing.
  Json& operator[](std::string_view key);
  Json& operator[](std::size_t index) { return elements_[index]; }
  /// Takes over every key of `other`.
  void update(const Json& other);
  void erase(std::string_view key);
  [[nodiscard]] bool is_object() const { return kind_ == Kind::object; }

  /// Returns the document, indented by two, without a line end. Names of files can have any bytes, JSON only
  /// UTF-8: a byte that is none is written as U+10FF00 plus itself, as in our TOML files. Characters that a
  /// terminal obeys (see is_control) are escaped.
  [[nodiscard]] std::string text() const;
  /// The same as one line.
  [[nodiscard]] std::string line() const;

 private:
  enum class Kind { null, boolean, number, unsigned_number, real, text, array, object };
  void write(std::string& out, std::size_t depth) const;
  [[nodiscard]] bool is_pair() const;

  Kind kind_ = Kind::null;
  std::int64_t number_ = 0;
  double real_ = 0;
  std::string text_;
  std::vector<Json> elements_;  // of an object: the values of `keys_`
  std::vector<std::string> keys_;
};

}  // namespace bayswap
