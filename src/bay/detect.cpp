#include <bayswap/detect.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_rules.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

std::string list_with_counts(const std::map<std::string, std::size_t>& counts) {
  std::vector<std::pair<std::string, std::size_t>> rows(counts.begin(), counts.end());
  sort_by_descending(rows, [](const auto& row) { return row.second; });
  std::vector<std::string> words;
  words.reserve(rows.size());
  for (const auto& [what, count] : rows) words.push_back(fmt::format("{} ({})", what, count));
  return joined(words, ", ");
}

class Detector {
 public:
  Detector(const Catalog& catalog, Store& store, const DetectOptions& options)
      : catalog_(catalog), store_(store), options_(options) {}

  Result<Detection> run() {
    BAYSWAP_TRY(survey_, survey_place(store_, options_, found_));
    rules_ = find_tree_rules(store_, survey_, normalized(store_.absolute_path(".")));
    std::set<std::string> claimed;
    for (const PlatformRule& rule : rules_) claim(rule, claimed);
    files_ = survey_saves(catalog_, store_, survey_, claimed, options_, found_);
    append(find_card_rules(survey_, files_));
    append(find_file_rules(catalog_, store_, survey_, files_, options_, found_));
    add_likely_rules(survey_, files_, rules_);
    add_state_rules(store_, survey_, files_, rules_);
    BAYSWAP_CHECK(list_saves());
    list_roms();
    return std::move(found_);
  }

 private:
  void append(std::vector<PlatformRule> more) {
    for (PlatformRule& rule : more) rules_.push_back(std::move(rule));
  }

  // What is below a save of a tree is that save's own.
  void claim(const PlatformRule& rule, std::set<std::string>& claimed) const {
    std::vector<const NameRule*> paths{&rule.path};
    for (const auto& [what, path] : rule.extra_places) paths.push_back(&path);
    for (const NameRule* path : paths)
      if (const auto places = find_places(store_, *path, rule.platform))
        for (const Place& place : *places) claimed.insert(place.path);
  }

  // Through the bay that the rules make: what it finds is what a scan will find.
  Result<void> list_saves() {
    Bay bay;
    bay.name = "detected";
    bay.root = store_.absolute_path(".");
    bay.rules = rules_;
    ViewOptions how;
    how.on_error = [this](const std::string&, const Error& error) { found_.errors.push_back(error); };
    BayView view(catalog_, bay, store_, how);
    BAYSWAP_TRY(const auto saves, view.saves());
    for (const SurveyedFile& file : files_) by_path_.emplace(file.path, &file);
    std::vector<DetectedRule> rules(bay.rules.size());
    for (std::size_t i = 0; i < rules.size(); ++i) rules[i].rule = bay.rules[i];
    std::set<std::string> listed;
    for (const HeldSave& save : *saves) {
      // A copy, in a folder where no program looks; or what a rule takes that was made without an example.
      const auto file = by_path_.find(save.path);
      if ((!save.misplaced.empty() || save.rule->like) && file == by_path_.end()) {
        found_.aside.push_back(save.path);
        continue;
      }
      // In a folder without ROMs, by the rule for what is beside them: it was asked about already.
      if (save.kind == SaveKind::battery && !save.has_rom && file != by_path_.end() &&
          !file->second->is_claimed)
        continue;
      DetectedRule& own = rules[static_cast<std::size_t>(save.rule - bay.rules.data())];
      own.saves.push_back(detected(save));
      listed.insert(save.path);
      for (const HeldFile& held : save.held) listed.insert(held.path);
    }
    for (DetectedRule& rule : rules) {
      if (rule.saves.empty() && rule.rule.keeping != Keeping::card && !rule.rule.like) continue;
      explain(rule);
      found_.rules.push_back(std::move(rule));
    }
    sort_by(found_.rules, [](const DetectedRule& rule) {
      return std::tuple(tag(rule.rule.platform), -static_cast<std::ptrdiff_t>(rule.saves.size()));
    });
    UnsettledFiles lost;
    lost.reason = "no rule finds it under this name";
    for (const SurveyedFile& file : files_)
      if (file.is_claimed && !listed.contains(file.path) && file.finding.kind != FileKind::memory_card)
        lost.paths.push_back(file.path);
    lost.folder = common_folder(lost.paths);
    if (!lost.paths.empty()) found_.unsettled.push_back(std::move(lost));
    return {};
  }

  [[nodiscard]] DetectedSave detected(const HeldSave& save) const {
    DetectedSave one;
    one.path = save.path;
    for (const HeldFile& file : save.held) one.files.push_back(file.path);
    one.entry = save.entry;
    one.platform = save.rule->platform;
    one.kind = save.kind;
    if (save.has_rom) one.rom = save.facts.rom_path.value_or("");
    one.size_bytes = save.size_bytes;
    one.health = save.health;
    const auto file = by_path_.find(save.path);
    if (save.kind == SaveKind::battery && file != by_path_.end() && file->second->finding.layout != nullptr)
      one.layout = file->second->finding.layout->id;
    return one;
  }

  // ---- Why -------------------------------------------------------------------------------------------

  void explain(DetectedRule& rule) const {
    switch (rule.rule.keeping) {
      case Keeping::file:
        return explain_files(rule);
      case Keeping::card:
        return explain_cards(rule);
      case Keeping::single:
        rule.evidence.push_back(counted(rule.saves.size(), "file") +
                                (rule.saves.size() == 1 ? " begins" : " begin") +
                                " with a card's directory entry");
        return;
      case Keeping::folder:
      case Keeping::package:
        rule.evidence.push_back(fmt::format(
            "{} at {}",
            counted(rule.saves.size(), rule.rule.keeping == Keeping::folder ? "folder" : "package"),
            rule.rule.path.text()));
        return;
      case Keeping::encrypted:
        rule.evidence.push_back(counted(rule.saves.size(), "save") + " that only the console can read");
        return;
    }
  }

  void explain_files(DetectedRule& rule) const {
    if (rule.rule.like && rule.saves.empty()) {
      rule.evidence.push_back(
          fmt::format("no save of its games is there yet; as those of {} are kept", tag(*rule.rule.like)));
      return;
    }
    std::size_t with_rom = 0;
    std::map<std::string, std::size_t> layouts;
    std::map<std::string, std::size_t> extensions;
    for (const DetectedSave& save : rule.saves) {
      with_rom += save.rom.empty() ? 0 : 1;
      if (!save.layout.empty()) ++layouts[save.layout];
      ++extensions[lower(extension_of(save.path))];
    }
    if (with_rom > 0)
      rule.evidence.push_back(
          with_rom == rule.saves.size()
              ? fmt::format("{} named after {}", with_rom == 1 ? "the save is" : "all are",
                            with_rom == 1 ? "its ROM" : "their ROMs")
              : fmt::format("{} of {} are named after a ROM", with_rom, rule.saves.size()));
    else
      rule.evidence.emplace_back("no ROM has their names; their bytes and the extension tell");
    if (!layouts.empty()) rule.evidence.push_back("by their bytes: " + list_with_counts(layouts));
    if (extensions.size() > 1) rule.evidence.push_back("extensions: " + list_with_counts(extensions));
  }

  void explain_cards(DetectedRule& rule) const {
    std::set<std::string> cards;
    for (const DetectedSave& save : rule.saves) cards.insert(save.path);
    if (const auto places = find_places(store_, rule.rule.path, rule.rule.platform))
      for (const Place& place : *places) cards.insert(place.path);
    rule.evidence.push_back(
        fmt::format("{} with {}", counted(cards.size(), "card image"), counted(rule.saves.size(), "save")));
  }

  void list_roms() {
    std::map<Platform, std::vector<std::string>> paths;
    for (const RomFile& rom : survey_.roms) paths[rom.facts.game.platform].push_back(rom.path);
    for (const auto& [platform, own] : paths)
      found_.roms.push_back({platform, common_folder(own), own.size()});
    sort_by(found_.roms, [](const DetectedRoms& roms) { return tag(roms.platform); });
  }

  const Catalog& catalog_;
  Store& store_;
  const DetectOptions& options_;
  Detection found_;
  Survey survey_;
  std::vector<PlatformRule> rules_;
  std::vector<SurveyedFile> files_;
  std::map<std::string, const SurveyedFile*> by_path_;
};

}  // namespace

std::size_t Detection::saves() const {
  std::size_t count = 0;
  for (const DetectedRule& rule : rules) count += rule.saves.size();
  return count;
}

tl::unexpected<Error> cancelled_look() {
  return fail(ErrorCode::cancelled, "the look was stopped", "start it again");
}

DetectOptions with_lasting_stop(const DetectOptions& options, bool& is_stopped) {
  DetectOptions own = options;
  if (options.on_progress)
    own.on_progress = [&is_stopped, ask = options.on_progress](std::size_t files, const std::string& folder) {
      is_stopped = is_stopped || !ask(files, folder);
      return !is_stopped;
    };
  return own;
}

Result<Detection> detect_place(const Catalog& catalog, Store& store, const DetectOptions& options) {
  bool is_stopped = false;
  const DetectOptions own = with_lasting_stop(options, is_stopped);
  auto detection = Detector(catalog, store, own).run();
  if (is_stopped) return cancelled_look();
  return detection;
}

Bay bay_of(const Detection& detection, const std::string& name, const std::string& root) {
  Bay bay;
  bay.name = name;
  bay.root = root;
  for (const DetectedRule& rule : detection.rules) bay.rules.push_back(rule.rule);
  return bay;
}

}  // namespace bayswap
