// What saves lean on: rules as data.
#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include "base/built_in.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

Result<void> read_rules(std::string_view toml, const std::string& origin, std::vector<CompanionRule>& rules) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin));
  TableReader reader(root, origin);
  BAYSWAP_TRY(auto tables, reader.tables("companion"));
  for (TableReader& table : tables) {
    CompanionRule rule;
    BAYSWAP_TRY(const std::string platform, table.needed_text("platform"));
    const auto known = platform_from_tag(platform);
    if (!known) return table.error("platform", fmt::format("unknown platform '{}'", printable(platform)));
    rule.platform = *known;
    BAYSWAP_TRY(auto codes, table.texts("codes"));
    if (codes) rule.codes = *std::move(codes);
    BAYSWAP_TRY(rule.what, table.needed_text("what"));
    BAYSWAP_TRY(const std::string path, table.needed_text("path"));
    auto parsed = NameRule::parse(path);
    if (!parsed) return table.error("path", parsed.error().message, parsed.error().hint);
    rule.path = *std::move(parsed);
    BAYSWAP_TRY(const auto check, table.text("check"));
    rule.check = check.value_or("");
    if (!rule.check.empty() && rule.check != "avatar-database")
      return table.error("check", fmt::format("'{}' is not a check", printable(rule.check)),
                         "there is avatar-database");
    BAYSWAP_TRY(rule.without, table.needed_text("without"));
    BAYSWAP_CHECK(table.no_other_keys());
    rules.push_back(std::move(rule));
  }
  return reader.no_other_keys();
}

// Read once a process: every plan asks for them.
const Result<std::vector<CompanionRule>>& built_in_rules() {
  static const auto rules = []() -> Result<std::vector<CompanionRule>> {
    std::vector<CompanionRule> read;
    for (const BuiltInText& text : built_in_companions())
      BAYSWAP_CHECK(read_rules(text.toml, fmt::format("{}.toml (built in)", text.id), read));
    return read;
  }();
  return rules;
}

}  // namespace

Result<std::vector<CompanionRule>> companion_rules(std::string_view more_toml, const std::string& origin) {
  auto rules = built_in_rules();
  if (rules && !more_toml.empty()) BAYSWAP_CHECK(read_rules(more_toml, origin, *rules));
  return rules;
}

}  // namespace bayswap
