#include "cli/completion.hpp"

#include <bayswap/card.hpp>
#include <bayswap/carry.hpp>

#include <charconv>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/places.hpp"
#include "bay/scan_memory.hpp"
#include "cli/help.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

constexpr std::string_view files = ":files";
constexpr std::string_view folders = ":folders";

class Completer {
 public:
  Completer(const CLI::App& app, std::vector<std::string> words, std::size_t cursor)
      : words_(std::move(words)) {
    words_.resize(cursor + 1);
    level_ = &app;
  }

  void run() {
    read_line();
    const std::string& word = words_.back();
    if (pending_ != nullptr) {
      values_of(pending_->get_type_name(), *pending_);
    } else if (word.starts_with('-')) {
      for (const CLI::Option* option : level_->get_options())
        for (const std::string& name : option->get_lnames()) offer("--" + name);
    } else {
      for (const CLI::App* sub : level_->get_subcommands([](const CLI::App*) { return true; }))
        offer(sub->get_name());
      if (level_->get_name() == "help" || is_help_)
        for (const std::string& topic : help_topics()) offer(topic);
      const CLI::Option* positional = positional_at(given_.size());
      if (positional != nullptr) values_of(positional->get_name(), *positional);
    }
    for (const std::string& candidate : offered_)
      if (candidate.starts_with(word)) fmt::print("{}\n", candidate);
    if (!kind_.empty()) fmt::print("{}\n", kind_);
  }

 private:
  void read_line() {
    for (std::size_t i = 1; i + 1 < words_.size(); ++i) {
      const std::string& word = words_[i];
      if (pending_ != nullptr) {
        said_[pending_->get_lnames().empty() ? "" : pending_->get_lnames().front()] = word;
        pending_ = nullptr;
        continue;
      }
      if (word.starts_with('-')) {
        const CLI::Option* option = level_->get_option_no_throw(word);
        if (option != nullptr && option->get_items_expected_max() > 0) pending_ = option;
        continue;
      }
      if (word == "help" && i == 1) is_help_ = true;
      const CLI::App* next = nullptr;
      for (const CLI::App* sub : level_->get_subcommands([](const CLI::App*) { return true; }))
        if (sub->get_name() == word) next = sub;
      if (next != nullptr && given_.empty() && word != "help")
        level_ = next;
      else if (next == nullptr)
        given_.push_back(word);
    }
  }

  [[nodiscard]] const CLI::Option* positional_at(std::size_t index) const {
    const CLI::Option* last = nullptr;
    std::size_t i = 0;
    for (const CLI::Option* option : level_->get_options()) {
      if (!option->get_positional()) continue;
      last = option;
      if (i++ == index) return option;
    }
    return last != nullptr && last->get_items_expected_max() > 1 ? last : nullptr;  // takes the rest
  }

  void offer(const std::string& candidate) { offered_.insert(candidate); }

  // By what the help calls the value.
  void values_of(const std::string& type, const CLI::Option& option) {
    const std::string name = option.get_lnames().empty() ? "" : option.get_lnames().front();
    if (type == "BAY" || type == "PLACE") bays();
    if (type == "PLACE" || type == "DIR") kind_ = folders;
    if (type == "LAYOUT" || (type == "ID" && level_->get_name() == "layouts")) layouts();
    if (type == "FORM") forms();
    if (type == "TAG")
      for (const std::string& tag : platform_tag_list()) offer(tag);
    if (type == "REGION")
      for (const char* region : {"japan", "north-america", "europe", "korea", "china", "australia"})
        offer(region);
    if (type == "ISSUE")
      for (const std::string& issue : acceptable_issues()) offer(issue);
    if (type == "KIND")
      for (const char* kind : {"ps1", "ps2", "gc", "n64", "dc", "sat", "pce", "scd"}) offer(kind);
    if (type == "WHAT" || type == "GAME") {
      games();
      kind_ = files;
    }
    if (type.starts_with("NAME") && level_->get_parent() != nullptr &&
        level_->get_parent()->get_name() == "card")
      entries();
    static const std::set<std::string> of_files{"FILE", "IN",  "A B",   "IMAGE",   "SAVE", "STATE", "STATES",
                                                "ROM",  "OUT", "PAIRS", "BATTERY", "PNG",  "SAVES"};
    if (of_files.contains(type)) kind_ = files;
  }

  void bays() {
    const auto home = home_of(globals());
    const auto all = home ? list_bays(*home) : tl::unexpected(home.error());
    if (!all) return;
    for (const auto& [name, bay] : *all) offer(name);
  }
  void layouts() {
    const auto catalog = catalog_of(globals());
    if (!catalog) return;
    for (const Layout* layout : catalog->all()) offer(layout->id);
  }
  void forms() {
    for (const auto& [id, about] : bay_templates()) offer(id);
  }

  // The games of the bay that --from or --in names, or of all bays: by their names on the disk and what the
  // last scan called them. Nothing is opened but cards.
  void games() {
    const auto home = home_of(globals());
    const auto all = home ? list_bays(*home) : tl::unexpected(home.error());
    if (!all) return;
    std::string wanted = said_.contains("from") ? said_["from"] : said_.contains("in") ? said_["in"] : "";
    if (wanted.empty() && level_->get_name() == "keep" && !given_.empty()) wanted = given_.front();
    for (const auto& [name, bay] : *all)
      if (bay && is_on_disk(bay->root) && (wanted.empty() || wanted == name)) games_of(*bay, *home);
  }
  void games_of(const Bay& bay, const Home& home) {
    LocalStore store(bay.root);
    std::set<std::string> walked;
    for (const PlatformRule& rule : bay.rules) {
      // Many consoles share one folder and one rule; what the console decides is how its codes look.
      const bool by_console = rule.path.text().find("{code") != std::string::npos ||
                              rule.path.text().find("{title") != std::string::npos ||
                              rule.path.text().find("{game.code") != std::string::npos;
      const auto console = by_console ? tag(rule.platform) : std::string_view{};
      if (!walked.insert(fmt::format("{}\n{}", rule.path.text(), console)).second) continue;
      const auto places = find_places(store, rule.path, rule.platform);
      if (!places) continue;
      for (const Place& place : *places)
        for (const char* word : {"rom.stem", "game.code", "game.title", "save.name"})
          if (const auto found = place.words.find(word); found != place.words.end() && !found->second.empty())
            offer(found->second);
    }
    LocalStore disk;
    ScanMemory memory =
        ScanMemory::load(disk, normalized(join_path(home.data, fmt::format("../scans/{}.scan", bay.name))));
    for (const std::string& label : memory.rows().labels())
      if (label == printable(label)) offer(label);
  }

  void entries() {
    if (given_.empty()) return;
    LocalStore disk;
    const auto bytes = disk.read(given_.front());
    const auto card = bytes ? open_card(*bytes) : tl::unexpected(bytes.error());
    if (!card) return;
    for (const CardEntry& entry : (*card)->entries())
      if (entry.name == printable(entry.name)) offer(entry.name);
  }

  [[nodiscard]] Globals globals() {
    Globals globals;
    globals.home = said_["home"];
    globals.quiet = true;
    return globals;
  }

  std::vector<std::string> words_;
  const CLI::App* level_ = nullptr;
  const CLI::Option* pending_ = nullptr;  // whose value comes next
  std::map<std::string, std::string> said_;
  std::vector<std::string> given_;
  std::set<std::string> offered_;
  std::string_view kind_;
  bool is_help_ = false;
};

}  // namespace

int complete_command(const CLI::App& app, const std::vector<std::string>& words) {
  std::size_t cursor = 0;
  if (words.empty()) return exit_done;
  const std::string& number = words.front();
  const auto [end, problem] = std::from_chars(number.data(), number.data() + number.size(), cursor);
  if (problem != std::errc{} || end != number.data() + number.size() || cursor == 0 ||
      cursor > words.size() - 1 + 1 || words.size() < 2)
    return exit_done;
  Completer(app, {words.begin() + 1, words.end()}, cursor).run();
  return exit_done;
}

}  // namespace bayswap::cli
