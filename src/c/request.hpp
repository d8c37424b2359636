// A request over the C interface: a JSON object whose keys are all known.
#pragma once

#include <bayswap/base.hpp>

#include <nlohmann/json.hpp>

#include <set>
#include <string>
#include <vector>

namespace bayswap::c {

/// Each value is asked for by its key, with its type; end() then fails for what nobody asked for. The first
/// mistake is kept, and end() fails with it: `bad_usage`, naming the key.
class Request {
 public:
  /// Fails with `bad_usage` if `text` is no JSON object, or too large. nullptr and "" are an empty one.
  [[nodiscard]] static Result<Request> parse(const char* text);

  [[nodiscard]] std::string text(const std::string& key);
  [[nodiscard]] bool flag(const std::string& key);
  [[nodiscard]] std::int64_t number(const std::string& key, std::int64_t otherwise = 0);
  [[nodiscard]] std::vector<std::string> texts(const std::string& key);
  [[nodiscard]] bool has(const std::string& key) const { return object_.contains(key); }
  [[nodiscard]] Result<void> end() const;

 private:
  [[nodiscard]] const nlohmann::json* take(const std::string& key);
  void mistake(const std::string& key, std::string_view wanted);

  nlohmann::json object_ = nlohmann::json::object();
  std::set<std::string> asked_;
  std::string mistake_;
};

}  // namespace bayswap::c
