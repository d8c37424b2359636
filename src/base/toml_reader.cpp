#include "base/toml_reader.hpp"
#include "base/order.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/toml_library.hpp"
#include "base/try.hpp"

namespace bayswap {

namespace {

constexpr std::size_t max_depth = 32;
constexpr std::size_t min_bytes_a_key = 16;  // in a large file

// What the text would make of the parser: how deep names and brackets go, how many keys there are. Texts and
// comments are passed over.
struct TomlShape {
  std::size_t depth = 0;
  std::size_t keys = 0;
};
TomlShape shape_of(std::string_view text) {
  TomlShape shape;
  std::size_t brackets = 0;
  std::size_t dots = 0;
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char c = text[at];
    if (c == '"' || c == '\'') {
      const std::string_view rest = text.substr(at);
      const bool long_one = rest.starts_with("\"\"\"") || rest.starts_with("'''");
      const std::string_view mark = rest.substr(0, long_one ? 3 : 1);
      for (at += mark.size(); at < text.size(); ++at) {
        if (c == '"' && text[at] == '\\') {
          ++at;
        } else if (text.substr(at, mark.size()) == mark || (!long_one && text[at] == '\n')) {
          at += mark.size() - 1;
          break;
        }
      }
    } else if (c == '#') {
      at = std::min(text.find('\n', at), text.size()) - 1;
    } else if (c == '[' || c == '{') {
      ++brackets;
      dots = 0;
    } else if (c == ']' || c == '}') {
      brackets -= brackets > 0 ? 1 : 0;
    } else if (c == '.') {
      ++dots;
    } else if (c == '\n' || c == ',' || c == '=') {
      dots = 0;
      shape.keys += c == '=' || c == ',' ? 1 : 0;
    }
    shape.depth = std::max(shape.depth, brackets + dots);
  }
  return shape;
}

}  // namespace

Result<TomlFile> parse_toml(std::string_view text, const std::string& origin, std::size_t limit) {
  if (text.size() > limit)
    return fail(ErrorCode::bad_usage, fmt::format("{}: {} bytes, over the {} that such a file may have",
                                                  origin, text.size(), limit));
  const TomlShape shape = shape_of(text);
  if (shape.depth > max_depth)
    return fail(ErrorCode::bad_usage,
                fmt::format("{}: names or brackets {} deep, over the {} that such a file may have", origin,
                            shape.depth, max_depth),
                "the file is damaged, or not meant for Bay Swap");
  if (shape.keys > 1000 + text.size() / min_bytes_a_key)
    return fail(ErrorCode::bad_usage,
                fmt::format("{}: {} values in {} bytes", origin, shape.keys, text.size()),
                "the file is damaged, or not meant for Bay Swap");
  toml::parse_result parsed = toml::parse(text);
  if (!parsed)
    return fail(ErrorCode::bad_usage,
                fmt::format("{}, line {}: {}", origin, parsed.error().source().begin.line,
                            std::string(parsed.error().description())),
                "the file is not valid TOML there; texts go in double quotes, tables in [brackets]");
  return TomlFile(std::make_shared<const toml::table>(std::move(parsed).table()));
}

struct TableReader::Access {
  static const toml::table& table(const TableReader& reader) {
    return *static_cast<const toml::table*>(reader.table_);
  }
  // The value of a key that counts as asked for; null if it is missing.
  static const toml::node* node(TableReader& reader, std::string_view key) {
    reader.asked_.emplace_back(key);
    return table(reader).get(key);
  }
  static std::string place(const TableReader& reader, const toml::source_region& source) {
    return source.begin.line == 0 ? reader.origin_
                                  : fmt::format("{}, line {}", reader.origin_, source.begin.line);
  }
  static TableReader below(const toml::table& table, const std::string& origin) { return {&table, origin}; }
};

tl::unexpected<Error> TableReader::error(std::string_view key, const std::string& what,
                                         std::string hint) const {
  const toml::table& table = Access::table(*this);
  const toml::node* at = table.get(key);
  return fail(
      ErrorCode::bad_usage,
      fmt::format("{}: {}", Access::place(*this, at != nullptr ? at->source() : table.source()), what),
      std::move(hint));
}

Result<std::optional<std::string>> TableReader::text(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  if (const auto* value = at->as_string()) return name_from_document(value->get());
  return error(key, fmt::format("{} must be a text in quotes", key));
}

Result<std::string> TableReader::needed_text(std::string_view key) {
  BAYSWAP_TRY(const auto value, text(key));
  if (!value || value->empty())
    return error(key, fmt::format("{} is missing", key), fmt::format("add {} = \"...\" there", key));
  return *value;
}

Result<std::optional<std::int64_t>> TableReader::integer(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  if (const auto* value = at->as_integer()) return value->get();
  return error(key, fmt::format("{} must be a whole number", key));
}

Result<std::optional<std::vector<std::int64_t>>> TableReader::integers(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  std::vector<std::int64_t> values;
  if (const auto* list = at->as_array())
    for (const toml::node& element : *list)
      if (const auto* value = element.as_integer()) values.push_back(value->get());
  if (at->as_array() == nullptr || values.size() != at->as_array()->size() || values.empty())
    return error(key, fmt::format("{} must be a list of whole numbers", key));
  return values;
}

Result<std::optional<bool>> TableReader::truth(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  if (const auto* value = at->as_boolean()) return value->get();
  return error(key, fmt::format("{} must be true or false", key));
}

Result<std::optional<std::string>> TableReader::text_or_integer(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  if (const auto* number = at->as_integer()) return fmt::format("{}", number->get());
  if (const auto* value = at->as_string()) return name_from_document(value->get());
  return error(key, fmt::format("{} must be a text in quotes or a whole number", key));
}

Result<std::optional<std::vector<std::string>>> TableReader::texts_or_integers(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  std::vector<std::string> values;
  const auto add = [&](const toml::node& one) {
    if (const auto* number = one.as_integer()) values.push_back(fmt::format("{}", number->get()));
    if (const auto* value = one.as_string()) values.push_back(name_from_document(value->get()));
  };
  const auto* list = at->as_array();
  if (list == nullptr)
    add(*at);
  else
    for (const toml::node& element : *list) add(element);
  if (values.empty() || (list != nullptr && values.size() != list->size()))
    return error(key, fmt::format("{} must be a list of texts in quotes or of whole numbers", key));
  return values;
}

Result<std::vector<std::vector<TableReader::Cell>>> TableReader::rows(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  std::vector<std::vector<Cell>> rows;
  if (at == nullptr) return rows;
  const auto wrong = [&] {
    return error(key, fmt::format("{} must be a list of lists of texts and whole numbers", key));
  };
  const auto* list = at->as_array();
  if (list == nullptr) return wrong();
  for (const toml::node& element : *list) {
    const auto* row = element.as_array();
    if (row == nullptr) return wrong();
    std::vector<Cell>& cells = rows.emplace_back();
    for (const toml::node& cell : *row) {
      if (const auto* number = cell.as_integer())
        cells.emplace_back(number->get());
      else if (const auto* value = cell.as_string())
        cells.emplace_back(name_from_document(value->get()));
      else
        return wrong();
    }
  }
  return rows;
}

bool TableReader::is_table(std::string_view key) const {
  const toml::node* at = Access::table(*this).get(key);
  return at != nullptr && at->as_table() != nullptr;
}

Result<std::optional<std::vector<std::string>>> TableReader::texts(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  std::vector<std::string> values;
  if (const auto* one = at->as_string()) {
    values.push_back(name_from_document(one->get()));
    return values;
  }
  if (const auto* list = at->as_array())
    for (const toml::node& element : *list)
      if (const auto* value = element.as_string()) values.push_back(name_from_document(value->get()));
  if (at->as_array() == nullptr || values.size() != at->as_array()->size() || values.empty())
    return error(key, fmt::format("{} must be a list of texts in quotes", key));
  return values;
}

Result<std::vector<TableReader>> TableReader::tables(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  std::vector<TableReader> readers;
  if (at == nullptr) return readers;
  const auto* list = at->as_array();
  if (list == nullptr) return error(key, fmt::format("{0} must be written as [[{0}]]", key));
  for (const toml::node& element : *list) {
    const auto* table = element.as_table();
    if (table == nullptr) return error(key, fmt::format("{0} must be written as [[{0}]]", key));
    readers.push_back(Access::below(*table, origin_));
  }
  return readers;
}

Result<std::optional<TableReader>> TableReader::table(std::string_view key) {
  const toml::node* at = Access::node(*this, key);
  if (at == nullptr) return std::nullopt;
  const auto* table = at->as_table();
  if (table == nullptr) return error(key, fmt::format("{0} must be a table, written as [{0}]", key));
  return Access::below(*table, origin_);
}

Result<std::vector<std::string>> TableReader::table_names() {
  std::vector<std::pair<std::size_t, std::string>> names;
  for (const auto& [key, value] : Access::table(*this)) {
    if (value.as_table() == nullptr) return error(key.str(), fmt::format("{} must be a table", key.str()));
    names.emplace_back(value.source().begin.line, key.str());
  }
  sort_by(names, std::identity{});
  std::vector<std::string> out;
  out.reserve(names.size());
  for (auto& [line, key] : names) out.push_back(std::move(key));
  return out;
}

Result<std::vector<std::string>> TableReader::keys() {
  std::vector<std::pair<std::size_t, std::string>> names;
  for (const auto& [key, value] : Access::table(*this))
    names.emplace_back(key.source().begin.line, key.str());
  sort_by(names, std::identity{});
  std::vector<std::string> out;
  out.reserve(names.size());
  for (auto& [line, key] : names) out.push_back(std::move(key));
  return out;
}

Result<void> TableReader::no_other_keys() const {
  for (const auto& [key, value] : Access::table(*this)) {
    const std::string word(key.str());
    if (std::ranges::find(asked_, word) == asked_.end())
      return fail(ErrorCode::bad_usage,
                  fmt::format("{}: unknown word '{}'", Access::place(*this, key.source()), printable(word)),
                  did_you_mean(word, asked_));
  }
  return {};
}

std::string toml_quoted(std::string_view text) {
  std::string out = "\"";
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    const char c = text.front();
    if (length == 0 || is_stand_in(text)) {
      out += fmt::format("\\U0010FF{:02X}", static_cast<Byte>(c));
    } else if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (static_cast<Byte>(c) < 0x20 || c == 0x7f) {
      out += fmt::format("\\u{:04X}", static_cast<Byte>(c));
    } else {
      out += text.substr(0, length);
    }
    text.remove_prefix(length == 0 || is_stand_in(text) ? 1 : length);
  }
  return out + "\"";
}

}  // namespace bayswap
