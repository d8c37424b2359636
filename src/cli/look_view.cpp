#include "cli/look_view.hpp"

#include <chrono>
#include <cstdio>
#include <set>

#include "base/text.hpp"
#include "cli/output.hpp"
#include "cli/progress_line.hpp"

namespace bayswap::cli {
namespace {

std::string form_of(const PlatformRule& rule) {
  if (rule.keeping != Keeping::file) return std::string(to_text(rule.keeping));
  const std::string extensions = rule.extensions.empty() ? "" : " as " + joined(rule.extensions, ", ");
  return rule.layout + extensions;
}

std::string first_few(const std::vector<std::string>& paths) {
  constexpr std::size_t max_named = 3;
  std::vector<std::string> named(
      paths.begin(), paths.begin() + static_cast<std::ptrdiff_t>(std::min(max_named, paths.size())));
  const std::string more =
      paths.size() > max_named ? fmt::format(" and {} more", paths.size() - max_named) : "";
  return joined(named, ", ") + more;
}

void print_unsettled(const UnsettledFiles& files) {
  print_field("unclear", fmt::format("{}: {}", first_few(files.paths), files.reason), Tone::warn);
  std::vector<std::string> tags;
  for (const PlatformRule& rule : files.choices) tags.emplace_back(tag(rule.platform));
  if (tags.empty()) {
    print_field("", "`bayswap inspect FILE` says what is known of it");
    return;
  }
  print_field(
      "", fmt::format("name its console, one of {}: with `--platform TAG`, or these lines in the bay file:",
                      joined(tags, ", ")));
  Bay shown;
  shown.rules.push_back(files.choices.front());
  std::string text = to_toml(shown);
  text.erase(0, text.find('['));
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = text.find('\n', at);
    fmt::print("               {}\n", printable(text.substr(at, end - at)));
    at = end + 1;
  }
}

}  // namespace

DetectOptions look_options(const Globals& globals) {
  DetectOptions options;
  if (globals.quiet || globals.json || !has_terminal()) return options;
  options.on_progress = [last = std::chrono::steady_clock::time_point{}](std::size_t files,
                                                                         const std::string& folder) mutable {
    const auto now = std::chrono::steady_clock::now();
    if (now - last < std::chrono::milliseconds(100)) return true;
    last = now;
    draw_progress(fmt::format("Looking: {} files, {}", files, printable(folder.substr(0, 50))));
    return true;
  };
  return options;
}

void end_look(const Globals& globals) {
  if (globals.quiet || globals.json || !has_terminal()) return;
  draw_progress("");
}

Result<Detection> look_at(const Globals& globals, const Catalog& catalog, Store& store,
                          std::optional<Platform> unsettled_as) {
  DetectOptions options = look_options(globals);
  options.unsettled_as = unsettled_as;
  auto detection = detect_place(catalog, store, options);
  end_look(globals);
  return detection;
}

std::string platforms_in(const Detection& detection) {
  std::set<std::string> tags;
  for (const DetectedRule& rule : detection.rules)
    if (!rule.saves.empty()) tags.emplace(tag(rule.rule.platform));
  return joined(std::vector<std::string>(tags.begin(), tags.end()), ", ");
}

Result<Platform> platform_named(const std::string& tag) {
  if (const auto platform = platform_from_tag(tag)) return *platform;
  const std::vector<std::string> tags = platform_tag_list();
  const std::string near = did_you_mean(tag, tags);
  return fail(ErrorCode::bad_usage, fmt::format("unknown platform '{}'", printable(tag)),
              fmt::format("{}{}the tags are {}", near, near.empty() ? "" : " ", joined(tags, ", ")));
}

std::string shell_word(const std::string& text) {
  const bool is_plain = !text.empty() && text.find_first_not_of(
                                             "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
                                             "0123456789_-./:@%+,=") == std::string::npos;
  if (is_plain) return text;
  std::string word = "'";
  for (const char c : text) word += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return word + "'";
}

void print_detection(const Detection& detection, const std::string& root) {
  fmt::print("{}: {} in {}\n", toned(Tone::bold, printable(root)), counted(detection.saves(), "save"),
             counted(detection.files, "file"));
  std::vector<std::string> roms;
  for (const DetectedRoms& one : detection.roms)
    roms.push_back(
        fmt::format("{} {}{}", one.count, tag(one.platform), one.folder == "." ? "" : " in " + one.folder));
  if (!roms.empty()) print_field("ROMs", joined(roms, ", "));
  std::vector<std::vector<std::string>> rows;
  for (const DetectedRule& rule : detection.rules)
    rows.push_back({std::string(tag(rule.rule.platform)), std::to_string(rule.saves.size()),
                    rule.rule.path.text(), form_of(rule.rule), joined(rule.evidence, "; ")});
  if (!rows.empty()) {
    fmt::print("\n");
    print_table({"platform", "saves", "where they are", "kept as", "why"}, rows, {1});
  }
  if (!detection.unsettled.empty() || !detection.aside.empty() || !detection.empty.empty() ||
      !detection.errors.empty() || detection.incomplete)
    fmt::print("\n");
  for (const UnsettledFiles& files : detection.unsettled) print_unsettled(files);
  if (!detection.aside.empty())
    print_field("left aside",
                fmt::format("{} in folders of backups, or where no program looks: {}",
                            counted(detection.aside.size(), "copy"), first_few(detection.aside)));
  if (!detection.empty.empty())
    print_field(
        "empty",
        fmt::format("{} of 0 bytes: {}", counted(detection.empty.size(), "file"), first_few(detection.empty)),
        Tone::warn);
  for (const Error& error : detection.errors) print_field("not read", error.message, Tone::warn);
  if (detection.incomplete) print_field("incomplete", detection.incomplete_why, Tone::warn);
}

namespace {

Json rule_json(const PlatformRule& rule) {
  Json layouts = Json::array();
  if (!rule.layout.empty()) layouts.push_back(rule.layout);
  for (const std::string& id : rule.other_layouts) layouts.push_back(id);
  Json states = Json::array();
  for (const NameRule& name : rule.states) states.push_back(name.text());
  Json extra = Json::array();
  for (const auto& [what, place] : rule.extra_places)
    extra.push_back({{"name", what}, {"path", place.text()}});
  return {{"platform", tag(rule.platform)}, {"path", rule.path.text()},      {"keeps", to_text(rule.keeping)},
          {"layouts", std::move(layouts)},  {"extensions", rule.extensions}, {"roms", rule.roms},
          {"states", std::move(states)},    {"also", std::move(extra)}};
}

}  // namespace

Json to_json(const Detection& detection, const std::string& root) {
  Json roms = Json::array();
  for (const DetectedRoms& one : detection.roms)
    roms.push_back({{"platform", tag(one.platform)}, {"folder", one.folder}, {"count", one.count}});
  Json rules = Json::array();
  for (const DetectedRule& rule : detection.rules) {
    Json saves = Json::array();
    for (const DetectedSave& save : rule.saves)
      saves.push_back({{"path", save.path},
                       {"files", save.files},
                       {"entry", save.entry},
                       {"platform", tag(save.platform)},
                       {"kind", to_text(save.kind)},
                       {"layout", save.layout},
                       {"rom", save.rom},
                       {"size_bytes", save.size_bytes},
                       {"health", to_text(save.health)}});
    Json one = rule_json(rule.rule);
    one["evidence"] = rule.evidence;
    one["saves"] = std::move(saves);
    rules.push_back(std::move(one));
  }
  Json unsettled = Json::array();
  for (const UnsettledFiles& files : detection.unsettled) {
    Json choices = Json::array();
    for (const PlatformRule& rule : files.choices) choices.push_back(rule_json(rule));
    unsettled.push_back({{"folder", files.folder},
                         {"paths", files.paths},
                         {"reason", files.reason},
                         {"choices", std::move(choices)}});
  }
  Json errors = Json::array();
  for (const Error& error : detection.errors) errors.push_back(to_json(error));
  return {{"root", root},
          {"files", detection.files},
          {"saves", detection.saves()},
          {"incomplete", detection.incomplete},
          {"incomplete_why", detection.incomplete_why},
          {"roms", std::move(roms)},
          {"rules", std::move(rules)},
          {"unsettled", std::move(unsettled)},
          {"aside", detection.aside},
          {"empty", detection.empty},
          {"errors", std::move(errors)}};
}

}  // namespace bayswap::cli
