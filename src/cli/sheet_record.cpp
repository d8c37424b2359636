#include "cli/sheet_record.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "sheet/codec.hpp"

namespace bayswap::cli {

Json record_json(const SheetRecord& record) {
  Json values = {{"", nullptr}};
  values.erase("");
  for (const auto& [path, value] : record.values) values[path] = value;
  Json bytes = {{"", nullptr}};
  bytes.erase("");
  // "." stands for the record itself.
  for (const auto& [path, run] : record.bytes) bytes[path.empty() ? "." : path] = sheets::hex_text(run);
  return {{"record", record.record},     {"version", record.version}, {"sheet", record.sheet},
          {"revision", record.revision}, {"values", values},          {"bytes", bytes}};
}

Result<SheetRecord> record_from_json(std::string_view text, const std::string& origin) {
  const auto wrong = [&](const std::string& what) {
    return fail(ErrorCode::not_recognised, fmt::format("{}: {}", origin, what),
                "use a file that `bayswap sheet export` wrote");
  };
  const nlohmann::json json = nlohmann::json::parse(text, nullptr, false);
  if (!json.is_object()) return wrong("it is no JSON object");
  SheetRecord record;
  const auto text_at = [&](const char* key, std::string& out) {
    const auto at = json.find(key);
    if (at == json.end() || !at->is_string()) return false;
    out = at->get<std::string>();
    return true;
  };
  const auto number_at = [&](const char* key, std::int64_t& out) {
    const auto at = json.find(key);
    if (at == json.end() || !at->is_number_integer()) return false;
    out = at->get<std::int64_t>();
    return true;
  };
  if (!text_at("record", record.record) || !text_at("sheet", record.sheet))
    return wrong("\"record\" or \"sheet\" is missing");
  if (!number_at("version", record.version) || !number_at("revision", record.revision))
    return wrong("\"version\" or \"revision\" is missing");
  const auto values = json.find("values");
  if (values == json.end() || !values->is_object()) return wrong("\"values\" is missing");
  for (const auto& [path, value] : values->items()) {
    if (!value.is_string()) return wrong(fmt::format("the value of {} is not a text", path));
    record.values.emplace_back(path, value.get<std::string>());
  }
  const auto bytes = json.find("bytes");
  if (bytes == json.end()) return record;
  if (!bytes->is_object()) return wrong("\"bytes\" is no object");
  for (const auto& [path, value] : bytes->items()) {
    const auto run = value.is_string() ? sheets::bytes_from_hex(value.get<std::string>()) : std::nullopt;
    if (!run) return wrong(fmt::format("the bytes of {} are not in hex", path));
    record.bytes.emplace_back(path == "." ? std::string{} : path, *run);
  }
  // Outer bytes first: those of what is in them are written over.
  std::ranges::stable_sort(record.bytes, {}, [](const auto& one) {
    return one.first.empty() ? 0 : 1 + std::ranges::count(one.first, '.');
  });
  return record;
}

}  // namespace bayswap::cli
