#include "c/request.hpp"

#include <fmt/format.h>

#include <cstring>

#include "base/text.hpp"

namespace bayswap::c {

Result<Request> Request::parse(const char* text) {
  Request request;
  if (text == nullptr || *text == '\0') return request;
  constexpr std::size_t max_bytes = std::size_t{1} << 20;
  if (strnlen(text, max_bytes + 1) > max_bytes)
    return fail(ErrorCode::bad_usage, "the request has more than 1 MiB", "pass bytes as bytes");
  request.object_ = nlohmann::json::parse(text, nullptr, false);
  if (!request.object_.is_object())
    return fail(ErrorCode::bad_usage, "the request is not a JSON object",
                "pass e.g. {\"what\": \"Brook\"}, or nothing");
  return request;
}

const nlohmann::json* Request::take(const std::string& key) {
  asked_.insert(key);
  const auto found = object_.find(key);
  return found == object_.end() || found->is_null() ? nullptr : &*found;
}

void Request::mistake(const std::string& key, std::string_view wanted) {
  if (mistake_.empty()) mistake_ = fmt::format("'{}' in the request is not {}", printable(key), wanted);
}

std::string Request::text(const std::string& key) {
  const nlohmann::json* value = take(key);
  if (value == nullptr) return {};
  const auto* text = value->get_ptr<const std::string*>();
  if (text != nullptr && text->find('\0') == std::string::npos) return name_from_document(*text);
  mistake(key, "a text");
  return {};
}

bool Request::flag(const std::string& key) {
  const nlohmann::json* value = take(key);
  if (value == nullptr) return false;
  if (value->is_boolean()) return value->get<bool>();
  mistake(key, "true or false");
  return false;
}

std::int64_t Request::number(const std::string& key, std::int64_t otherwise) {
  const nlohmann::json* value = take(key);
  if (value == nullptr) return otherwise;
  if (value->is_number_integer() &&
      (!value->is_number_unsigned() || value->get<std::uint64_t>() <= INT64_MAX))
    return value->get<std::int64_t>();
  mistake(key, "a whole number");
  return otherwise;
}

std::vector<std::string> Request::texts(const std::string& key) {
  const nlohmann::json* value = take(key);
  std::vector<std::string> list;
  if (value == nullptr) return list;
  if (value->is_array())
    for (const nlohmann::json& one : *value)
      if (const auto* text = one.get_ptr<const std::string*>();
          text != nullptr && text->find('\0') == std::string::npos)
        list.push_back(name_from_document(*text));
  if (!value->is_array() || list.size() != value->size()) mistake(key, "a list of texts");
  return list;
}

Result<void> Request::end() const {
  if (!mistake_.empty())
    return fail(ErrorCode::bad_usage, mistake_, "docs/schema/requests.json has what it can be");
  for (const auto& [key, value] : object_.items()) {
    if (asked_.contains(key)) continue;
    std::vector<std::string> known(asked_.begin(), asked_.end());
    return fail(ErrorCode::bad_usage, fmt::format("the request has an unknown key '{}'", printable(key)),
                fmt::format("its keys are {}", joined(known, ", ")));
  }
  return {};
}

}  // namespace bayswap::c
