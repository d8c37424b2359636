// JSON Schema (draft 2020-12) as far as docs/schema uses it: type, enum, const, required, properties,
// additionalProperties, items, oneOf, $ref to another file or to $defs of this one.
#pragma once

#include <gtest/gtest.h>

#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

namespace bayswap::test {

class Schemas {
 public:
  explicit Schemas(std::string folder) : folder_(std::move(folder)) {}

  /// What is wrong with the document; empty if nothing is.
  std::string check(const nlohmann::json& document, const std::string& name) {
    return check(document, {{"$ref", name}}, name, "$");
  }
  const nlohmann::json& file(const std::string& name) {
    const auto known = files_.find(name);
    if (known != files_.end()) return known->second;
    std::ifstream stream(folder_ + "/" + name);
    EXPECT_TRUE(stream) << folder_ << "/" << name;
    return files_.emplace(name, nlohmann::json::parse(stream)).first->second;
  }

 private:
  static bool is_type(const nlohmann::json& value, const std::string& type) {
    if (type == "object") return value.is_object();
    if (type == "array") return value.is_array();
    if (type == "string") return value.is_string();
    if (type == "integer") return value.is_number_integer();
    if (type == "number") return value.is_number();
    if (type == "boolean") return value.is_boolean();
    return type == "null" && value.is_null();
  }

  std::string check(const nlohmann::json& value, const nlohmann::json& schema, const std::string& from,
                    const std::string& at) {
    if (schema.is_boolean()) return schema.get<bool>() ? "" : at + ": not allowed";
    if (schema.contains("$ref")) {
      const std::string ref = schema["$ref"];
      const auto hash = ref.find('#');
      const std::string name = hash == 0 ? from : ref.substr(0, hash);
      const nlohmann::json& whole = file(name);
      return check(
          value,
          hash == std::string::npos ? whole : whole.at(nlohmann::json::json_pointer(ref.substr(hash + 1))),
          name, at);
    }
    if (schema.contains("oneOf")) {
      std::string why;
      for (const auto& one : schema["oneOf"]) {
        const std::string wrong = check(value, one, from, at);
        if (wrong.empty()) return "";
        why += "\n  or " + wrong;
      }
      return at + ": none of the forms:" + why;
    }
    if (schema.contains("const") && value != schema["const"])
      return at + ": is not " + schema["const"].dump();
    if (schema.contains("enum") &&
        std::find(schema["enum"].begin(), schema["enum"].end(), value) == schema["enum"].end())
      return at + ": " + value.dump() + " is none of " + schema["enum"].dump();
    if (schema.contains("type")) {
      const auto& types = schema["type"];
      const bool fits = types.is_array() ? std::any_of(types.begin(), types.end(),
                                                       [&](const auto& type) { return is_type(value, type); })
                                         : is_type(value, types);
      if (!fits) return at + ": " + value.dump().substr(0, 60) + " is not of type " + types.dump();
    }
    if (value.is_object()) return check_object(value, schema, from, at);
    if (value.is_array() && schema.contains("items"))
      for (std::size_t i = 0; i < value.size(); ++i)
        if (const std::string wrong =
                check(value[i], schema["items"], from, at + "[" + std::to_string(i) + "]");
            !wrong.empty())
          return wrong;
    return "";
  }

  std::string check_object(const nlohmann::json& value, const nlohmann::json& schema, const std::string& from,
                           const std::string& at) {
    for (const auto& key : schema.value("required", nlohmann::json::array()))
      if (!value.contains(key.get<std::string>())) return at + ": lacks " + key.get<std::string>();
    const nlohmann::json properties = schema.value("properties", nlohmann::json::object());
    for (const auto& [key, member] : value.items()) {
      const std::string below = at + "." + key;
      if (properties.contains(key)) {
        if (const std::string wrong = check(member, properties[key], from, below); !wrong.empty())
          return wrong;
      } else if (schema.contains("additionalProperties")) {
        if (const std::string wrong = check(member, schema["additionalProperties"], from, below);
            !wrong.empty())
          return wrong == below + ": not allowed" ? at + ": " + key + " is not in the schema" : wrong;
      }
    }
    return "";
  }

  std::string folder_;
  std::map<std::string, nlohmann::json> files_;
};

}  // namespace bayswap::test
