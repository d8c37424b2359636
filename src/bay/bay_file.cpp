#include <bayswap/bay.hpp>
#include <bayswap/cart_store.hpp>
#include <bayswap/remote_store.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <functional>

#include "base/built_in.hpp"
#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_bay_files = 4096;
constexpr std::size_t max_rules = 256;
constexpr std::array<std::string_view, 6> keeping_words{"file",   "folder",  "card",
                                                        "single", "package", "encrypted"};

std::string text_of(const Blob& blob) {
  return {blob.view().begin(), blob.view().end()};
}

Result<PlatformRule> read_rule(TableReader reader, Platform platform) {
  PlatformRule rule;
  rule.platform = platform;
  BAYSWAP_TRY(const std::string path, reader.needed_text("path"));
  auto parsed = NameRule::parse(path);
  if (!parsed) return reader.error("path", parsed.error().message, parsed.error().hint);
  rule.path = *std::move(parsed);
  BAYSWAP_TRY(const auto keeps, reader.text("keeps"));
  if (keeps) {
    const auto keeping = keeping_from_text(*keeps);
    if (!keeping)
      return reader.error("keeps", fmt::format("'{}' is no way to keep saves", printable(*keeps)),
                          fmt::format("known are {}", joined(keeping_words, ", ")));
    rule.keeping = *keeping;
  }
  if (rule.keeping == Keeping::file) {
    BAYSWAP_TRY(const auto layouts, reader.texts("layout"));
    if (!layouts || layouts->empty())
      return reader.error("layout", "layout is missing", "name one of the layouts there are");
    rule.layout = layouts->front();
    rule.other_layouts.assign(layouts->begin() + 1, layouts->end());
  }
  BAYSWAP_TRY(auto extensions, reader.texts("extensions"));
  if (extensions) {
    if (rule.keeping != Keeping::file || !rule.path.uses("ext"))
      return reader.error("extensions", "extensions are only for files whose path ends with {ext}",
                          "remove it, or end the path with {ext}");
    for (const std::string& extension : *extensions)
      if (extension.size() < 2 || !extension.starts_with('.') || !is_safe_relative(extension) ||
          extension.find('/') != std::string::npos)
        return reader.error("extensions", fmt::format("'{}' is not an extension", printable(extension)),
                            "write it with its dot, e.g. \".sav\"");
    rule.extensions = *std::move(extensions);
  }
  BAYSWAP_TRY(auto also, reader.table("also"));
  if (also) {
    if (rule.keeping != Keeping::folder && rule.keeping != Keeping::package)
      return reader.error("also", "only saves that are folders or packages have further places",
                          "remove it, or correct keeps");
    BAYSWAP_TRY(const auto names, also->keys());
    for (const std::string& name : names) {
      BAYSWAP_TRY(const std::string text, also->needed_text(name));
      auto place = NameRule::parse(text);
      if (!place) return also->error(name, place.error().message, place.error().hint);
      rule.extra_places.emplace_back(name, *std::move(place));
    }
  }
  BAYSWAP_TRY(const auto states, reader.texts("states"));
  for (const std::string& text : states.value_or(std::vector<std::string>{})) {
    auto name = NameRule::parse(text);
    if (!name) return reader.error("states", name.error().message, name.error().hint);
    rule.states.push_back(*std::move(name));
  }
  BAYSWAP_TRY(const auto roms, reader.text("roms"));
  rule.roms = roms.value_or("");
  while (rule.roms.size() > 1 && rule.roms.ends_with('/')) rule.roms.pop_back();
  if (!rule.roms.empty() && rule.roms != "." && !is_safe_relative(rule.roms))
    return reader.error("roms",
                        fmt::format("'{}' is not a folder below the bay's root", printable(rule.roms)),
                        "it must be relative, e.g. \"roms\", or \".\" for the root");
  if (rule.path.uses_rom() && rule.roms.empty())
    return reader.error("path", fmt::format("'{}' needs a ROM, but the bay has no 'roms'", path),
                        "add roms = \"FOLDER\"");
  BAYSWAP_CHECK(reader.no_other_keys());
  return rule;
}

}  // namespace

std::string_view to_text(Keeping keeping) {
  return keeping_words.at(static_cast<std::size_t>(keeping));
}
std::optional<Keeping> keeping_from_text(std::string_view text) {
  if (text == "opaque") return Keeping::encrypted;  // its word in older bay files
  const auto* found = std::ranges::find(keeping_words, text);
  if (found == keeping_words.end()) return std::nullopt;
  return static_cast<Keeping>(found - keeping_words.begin());
}

const PlatformRule* Bay::rule(Platform platform) const {
  const auto all = rules_of(platform);
  return all.empty() ? nullptr : all.front();
}

std::vector<const PlatformRule*> Bay::rules_of(Platform platform) const {
  std::vector<const PlatformRule*> found;
  for (const PlatformRule& rule : rules)
    if (rule.platform == platform) found.push_back(&rule);
  // gb and gbc cartridges lie side by side: a rule for one does for both.
  for (const PlatformRule& rule : rules)
    if (rule.platform != platform && saves_as(rule.platform) == saves_as(platform)) found.push_back(&rule);
  return found;
}

bool is_bay_name(std::string_view name) {
  return !name.empty() && name.size() <= 64 && std::ranges::all_of(name, [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-' || c == '_';
  });
}

namespace {

Result<BaySync> read_sync(TableReader table) {
  BaySync sync;
  BAYSWAP_TRY(const auto takes_part, table.truth("takes_part"));
  sync.takes_part = takes_part.value_or(true);
  BAYSWAP_TRY(auto kinds, table.texts("kinds"));
  if (kinds) {
    const std::vector<std::string> known = sync_kinds();
    for (const std::string& kind : *kinds)
      if (std::ranges::find(known, kind) == known.end())
        return table.error("kinds", fmt::format("'{}' is not a kind of save", printable(kind)),
                           fmt::format("there are {}", joined(known, ", ")));
    sync.kinds = *std::move(kinds);
  }
  BAYSWAP_TRY(auto config, table.texts("config"));
  if (config) sync.config = *std::move(config);
  BAYSWAP_TRY(auto form, table.text("form"));
  if (form) sync.form = *std::move(form);
  BAYSWAP_TRY(auto states_of, table.text("states_of"));
  if (states_of) sync.states_of = *std::move(states_of);
  const bool wants_config = std::ranges::find(sync.kinds, "config") != sync.kinds.end();
  if (wants_config && (sync.config.empty() || sync.form.empty()))
    return table.error("kinds",
                       "config is to be kept in step, and nothing says which files are meant, or of what",
                       "add config = [\"config/*.cfg\"] and form = \"NAME\": bays of one form exchange it");
  BAYSWAP_TRY(auto leave, table.texts("leave"));
  if (leave) sync.leave = *std::move(leave);
  BAYSWAP_TRY(const auto older, table.integer("most_bytes"));  // its name in older bay files
  BAYSWAP_TRY(auto limit, table.integer("max_bytes"));
  if (!limit) limit = older;
  if (limit && *limit < 0) return table.error("max_bytes", "a size can't be negative");
  if (limit) sync.max_bytes = static_cast<std::uint64_t>(*limit);
  BAYSWAP_TRY(auto programs, table.texts("programs"));
  if (programs) sync.programs = *std::move(programs);
  BAYSWAP_CHECK(table.no_other_keys());
  return sync;
}

std::string list_of(const std::vector<std::string>& texts) {
  std::vector<std::string> quoted;
  quoted.reserve(texts.size());
  for (const std::string& text : texts) quoted.push_back(toml_quoted(text));
  return fmt::format("[{}]", joined(quoted, ", "));
}

std::string to_toml(const BaySync& sync) {
  const BaySync usual;
  std::string out;
  if (!sync.takes_part) out += "takes_part = false\n";
  if (sync.kinds != usual.kinds) out += fmt::format("kinds = {}\n", list_of(sync.kinds));
  if (!sync.config.empty()) out += fmt::format("config = {}\n", list_of(sync.config));
  if (!sync.form.empty()) out += fmt::format("form = {}\n", toml_quoted(sync.form));
  if (!sync.states_of.empty()) out += fmt::format("states_of = {}\n", toml_quoted(sync.states_of));
  if (!sync.leave.empty()) out += fmt::format("leave = {}\n", list_of(sync.leave));
  if (sync.max_bytes != usual.max_bytes) out += fmt::format("max_bytes = {}\n", sync.max_bytes);
  if (!sync.programs.empty()) out += fmt::format("programs = {}\n", list_of(sync.programs));
  return out.empty() ? out : "\n[sync]\n" + out;
}

}  // namespace

Result<Bay> parse_bay(std::string_view toml, const std::string& name, const std::string& origin,
                      const std::string& folder) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin));
  TableReader reader(root, origin);
  Bay bay;
  bay.name = name;
  bay.origin = origin;
  BAYSWAP_TRY(const auto about, reader.text("about"));
  bay.about = about.value_or("");
  BAYSWAP_TRY(auto formerly, reader.texts("formerly"));
  for (const std::string& former : formerly.value_or(std::vector<std::string>{})) {
    if (!is_bay_name(former))
      return reader.error("formerly", fmt::format("'{}' is not a name for a bay", printable(former)),
                          "use lower-case letters, digits and dashes");
    bay.formerly.push_back(former);
  }
  BAYSWAP_TRY(const std::string where, reader.needed_text("root"));
  bay.root =
      is_cart_path(where) || !is_local_url(where) ? where : normalized(join_path(folder, with_home(where)));
  BAYSWAP_TRY(auto platforms, reader.table("platform"));
  if (!platforms)
    return reader.error("platform", "no platform is described", "add a table like [platform.n64]");
  BAYSWAP_TRY(const auto tags, platforms->keys());
  for (const std::string& tag_text : tags) {
    const auto platform = platform_from_tag(tag_text);
    if (!platform)
      return platforms->error(tag_text, fmt::format("unknown platform '{}'", printable(tag_text)),
                              "platforms go by their tags, e.g. n64 or gba");
    // [platform.TAG], or several [[platform.TAG]].
    std::vector<TableReader> tables;
    if (platforms->is_table(tag_text)) {
      BAYSWAP_TRY(auto table, platforms->table(tag_text));
      tables.push_back(*std::move(table));
    } else {
      BAYSWAP_TRY(tables, platforms->tables(tag_text));
    }
    for (TableReader& table : tables) {
      BAYSWAP_TRY(auto rule, read_rule(std::move(table), *platform));
      bay.rules.push_back(std::move(rule));
      if (bay.rules.size() > max_rules)
        return platforms->error(tag_text, fmt::format("over {} rules", max_rules), "describe two bays");
    }
  }
  if (bay.rules.empty())
    return reader.error("platform", "no platform is described", "add a table like [platform.n64]");
  BAYSWAP_TRY(auto sync, reader.table("sync"));
  if (sync) {
    BAYSWAP_TRY(bay.sync, read_sync(*std::move(sync)));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return bay;
}

std::string to_toml(const Bay& bay) {
  std::string out;
  if (!bay.about.empty()) out += fmt::format("about = {}\n", toml_quoted(bay.about));
  if (!bay.formerly.empty()) out += fmt::format("formerly = {}\n", list_of(bay.formerly));
  out += fmt::format("root = {}\n", toml_quoted(bay.root));
  for (const PlatformRule& rule : bay.rules) {
    const bool is_only = std::ranges::count(bay.rules, rule.platform, &PlatformRule::platform) == 1;
    const std::string name = fmt::format("platform.{}", tag(rule.platform));
    out += fmt::format("\n{}\npath = {}\n", is_only ? "[" + name + "]" : "[[" + name + "]]",
                       toml_quoted(rule.path.text()));
    if (rule.keeping != Keeping::file) out += fmt::format("keeps = {}\n", toml_quoted(to_text(rule.keeping)));
    if (!rule.layout.empty() && rule.other_layouts.empty())
      out += fmt::format("layout = {}\n", toml_quoted(rule.layout));
    if (!rule.other_layouts.empty()) {
      out += fmt::format("layout = [{}", toml_quoted(rule.layout));
      for (const std::string& id : rule.other_layouts) out += ", " + toml_quoted(id);
      out += "]\n";
    }
    if (!rule.extensions.empty()) out += fmt::format("extensions = {}\n", list_of(rule.extensions));
    if (!rule.roms.empty()) out += fmt::format("roms = {}\n", toml_quoted(rule.roms));
    for (std::size_t i = 0; i < rule.states.size(); ++i)
      out += fmt::format("{}{}{}", i == 0 ? "states = [" : ", ", toml_quoted(rule.states[i].text()),
                         i + 1 == rule.states.size() ? "]\n" : "");
    if (!rule.extra_places.empty()) out += fmt::format("\n[platform.{}.also]\n", tag(rule.platform));
    for (const auto& [what, place] : rule.extra_places)
      out += fmt::format("{} = {}\n", what, toml_quoted(place.text()));
  }
  return out + to_toml(bay.sync);
}

std::vector<std::string> sync_kinds() {
  std::vector<std::string> known = BaySync().kinds;
  known.insert(known.end(), {"states", "config"});
  return known;
}

std::string with_sync(const std::string& toml, const BaySync& sync) {
  std::string out;
  bool is_sync = false;
  for (std::size_t at = 0; at < toml.size();) {
    const std::size_t end = std::min(toml.find('\n', at), toml.size() - 1) + 1;
    const std::string line = toml.substr(at, end - at);
    // A table begins at its bracket; a value in several lines has quotes or a comma there.
    const std::size_t first = line.find_first_not_of(" \t");
    if (first != std::string::npos && line[first] == '[')
      is_sync = std::string_view(line).substr(first).starts_with("[sync]");
    if (!is_sync) out += line;
    at = end;
  }
  while (out.ends_with("\n\n")) out.pop_back();
  if (!out.empty() && !out.ends_with('\n')) out += '\n';
  return out + to_toml(sync);
}

std::vector<std::pair<std::string, std::string>> bay_templates() {
  std::vector<std::pair<std::string, std::string>> list;
  for (const BuiltInText& text : built_in_bays()) {
    const auto bay = bay_like(std::string(text.id), std::string(text.id), ".");
    list.emplace_back(text.id, bay ? bay->about : bay.error().message);
  }
  return list;
}

Result<Bay> bay_like(const std::string& template_id, const std::string& name, const std::string& root) {
  const auto rows = built_in_bays();
  const auto row = std::ranges::find(rows, std::string_view(template_id), &BuiltInText::id);
  if (row == rows.end()) {
    std::vector<std::string> ids;
    for (const BuiltInText& text : rows) ids.emplace_back(text.id);
    const std::string near = did_you_mean(template_id, ids);
    return fail(ErrorCode::bad_usage, fmt::format("no form of bay is called '{}'", printable(template_id)),
                near.empty() ? fmt::format("there are {}", joined(ids, ", ")) : near);
  }
  const std::string text = fmt::format("root = {}\n", toml_quoted(root)) + std::string(row->toml);
  return parse_bay(text, name, fmt::format("{} (built in)", row->id), ".");
}

bool has_bay_file(const Home& home, const std::string& name) {
  if (!is_bay_name(name)) return false;
  const auto info = LocalStore().stat(join_path(home.bays, name + ".toml"));
  return !info || *info;
}

Result<Bay> find_bay(const Home& home, const std::string& name_or_path) {
  LocalStore disk;
  const bool is_path = name_or_path.find('/') != std::string::npos || name_or_path.ends_with(".toml");
  if (is_path) {
    BAYSWAP_TRY(const Blob file, disk.read(name_or_path, max_toml_size_bytes));
    return parse_bay(text_of(file), std::string(stem_of(name_or_path)), name_or_path,
                     folder_of(name_or_path));
  }
  const std::string path = join_path(home.bays, name_or_path + ".toml");
  BAYSWAP_TRY(const auto info, disk.stat(is_bay_name(name_or_path) ? path : std::string{}));
  if (!info) {
    std::vector<std::string> names;
    if (const auto bays = list_bays(home))
      for (const auto& [name, bay] : *bays) {
        if (bay && std::ranges::find(bay->formerly, name_or_path) != bay->formerly.end()) return *bay;
        names.push_back(name);
      }
    const std::string near = did_you_mean(name_or_path, names);
    return fail(ErrorCode::bad_usage, fmt::format("no bay is called '{}'", printable(name_or_path)), near,
                {Remedy::Kind::list_bays, {}});
  }
  BAYSWAP_TRY(const Blob file, disk.read(path, max_toml_size_bytes));
  return parse_bay(text_of(file), name_or_path, path, home.bays);
}

Result<std::vector<std::pair<std::string, Result<Bay>>>> list_bays(const Home& home) {
  std::vector<std::pair<std::string, Result<Bay>>> bays;
  LocalStore disk;
  BAYSWAP_TRY(const auto folder, disk.stat(home.bays));
  if (!folder) return bays;
  BAYSWAP_TRY(const auto entries, disk.list(home.bays));
  for (const FileInfo& entry : entries) {
    if (entry.kind != FileInfo::Kind::file || extension_of(entry.name) != ".toml" ||
        bays.size() == max_bay_files)
      continue;
    const std::string name(stem_of(entry.name));
    const std::string path = join_path(home.bays, entry.name);
    if (!is_bay_name(name)) {
      bays.emplace_back(name, fail(ErrorCode::bad_usage,
                                   fmt::format("{}: '{}' is not a name for a bay", path, printable(name)),
                                   "rename the file to lower-case letters, digits and dashes"));
      continue;
    }
    bays.emplace_back(name, find_bay(home, name));
  }
  sort_by(bays, [](const auto& bay) { return std::string_view(bay.first); });
  return bays;
}

namespace {

// Every TOML file of a folder; one that is bad does not take the others away.
Result<void> read_each(const std::string& folder, std::vector<Error>* skipped,
                       const std::function<Result<void>(std::string_view text, const std::string& path)>& add,
                       std::size_t limit = max_toml_size_bytes) {
  LocalStore disk;
  BAYSWAP_TRY(const auto info, disk.stat(folder));
  if (!info) return {};
  BAYSWAP_TRY(const auto entries, disk.list(folder));
  for (const FileInfo& entry : entries) {
    if (entry.kind != FileInfo::Kind::file || extension_of(entry.name) != ".toml") continue;
    const std::string path = join_path(folder, entry.name);
    const auto file = disk.read(path, limit);
    const auto added = file ? add(text_of(*file), path) : tl::unexpected(file.error());
    if (!added && skipped != nullptr) skipped->push_back(added.error());
  }
  return {};
}

}  // namespace

Result<Catalog> load_catalog(const Home& home, std::vector<Error>* skipped) {
  Catalog catalog;
  BAYSWAP_CHECK(
      read_each(home.layouts, skipped, [&](std::string_view text, const std::string& path) -> Result<void> {
        BAYSWAP_TRY(Layout layout, parse_layout(text, path));
        return catalog.add(std::move(layout));
      }));
  return catalog;
}

Result<void> load_state_maps(const Home& home, StateMaps& maps, std::vector<Error>* skipped) {
  return read_each(home.states, skipped, [&](std::string_view text, const std::string& path) -> Result<void> {
    BAYSWAP_TRY(StateMap map, parse_state_map(text, path));
    return maps.add(std::move(map));
  });
}

Result<void> load_sheets(const Home& home, SheetShelf& sheets, std::vector<Error>* skipped) {
  return read_each(
      home.sheets, skipped,
      [&](std::string_view text, const std::string& path) { return sheets.add(text, path); },
      max_sheet_size_bytes);
}

}  // namespace bayswap
