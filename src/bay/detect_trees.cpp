// Trees of ids: title ids, product codes, accounts, packages.
#include <bayswap/package.hpp>

#include <algorithm>

#include "base/built_in.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/detect_rules.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

bool is_tree(Keeping keeping) {
  return keeping == Keeping::folder || keeping == Keeping::package || keeping == Keeping::encrypted ||
         keeping == Keeping::single;
}

std::vector<std::string> components_of(const std::string& text) {
  std::vector<std::string> components{""};
  for (const char c : text) {
    if (c == '/')
      components.emplace_back();
    else
      components.back() += c;
  }
  return components;
}

std::string joined_from(const std::vector<std::string>& components, std::size_t first) {
  std::string text;
  for (std::size_t i = first; i < components.size(); ++i) text += (i == first ? "" : "/") + components[i];
  return text;
}

// Games have parameter files too, of another category.
bool is_save_parameters(ByteView bytes) {
  const auto parameters = ParameterFile::parse(bytes);
  return parameters && parameters->text("CATEGORY").value_or("MS") == "MS";
}

// Accounts of a wiiu are numbered from 80000001 on.
bool is_wiiu_account(const std::string& name) {
  constexpr std::size_t digits = 8;
  return name.size() == digits && name.front() == '8' && std::ranges::all_of(name, [](char c) {
           return is_digit(c) || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F');
         });
}
constexpr std::string_view account_common = "common";

class TreeFinder {
 public:
  TreeFinder(Store& store, const Survey& survey, const std::string& root) : store_(store), survey_(survey) {
    for (const std::string& folder : survey.folders) by_lower_.insert(lower(folder));
    root_names_ = components_of(root);
  }

  std::vector<PlatformRule> run() {
    for (const PlatformRule& rule : shipped_trees()) {
      for (const std::string& folder : survey_.folders) at(rule, folder);
      inside(rule);
    }
    return std::move(found_);
  }

 private:
  // The whole tree begins in this folder.
  void at(const PlatformRule& rule, const std::string& folder) {
    const auto literal = rule.path.literal(0);
    if (literal && !by_lower_.contains(lower(folder == "." ? *literal : folder + "/" + *literal))) return;
    if (!literal && rule.path.components() < 3) return;  // could be anything
    if (const auto prefix = rule_prefix(folder)) take(rule, *prefix, 0);
  }

  // The place itself is in the middle of the tree: what is above it is named as the tree's beginning.
  void inside(const PlatformRule& rule) {
    const auto components = components_of(rule.path.text());
    for (std::size_t above = 1; above < components.size(); ++above) {
      if (above > root_names_.size()) return;
      bool is_same = true;
      for (std::size_t i = 0; i < above; ++i) {
        const auto literal = rule.path.literal(i);
        is_same = is_same && literal && lower(*literal) == lower(root_names_[root_names_.size() - above + i]);
      }
      if (is_same) take(rule, "", above);
    }
  }

  void take(const PlatformRule& shipped, const std::string& prefix, std::size_t first) {
    const auto at_place = [&](const NameRule& rule) {
      const auto components = components_of(rule.text());
      return NameRule::parse(prefix + joined_from(components, std::min(first, components.size() - 1)));
    };
    auto path = at_place(shipped.path);
    if (!path) return;
    PlatformRule rule = shipped;
    rule.path = *std::move(path);
    rule.extra_places.clear();
    for (const auto& [what, place] : shipped.extra_places)
      if (auto own = at_place(place)) rule.extra_places.emplace_back(what, *std::move(own));
    const auto places = find_places(store_, rule.path, rule.platform);
    if (!places || places->empty()) return;
    bool is_any = false;
    for (const Place& place : *places) {
      if (!is_save(rule, place) || is_taken(place.path)) continue;
      is_any = true;
      taken_.insert(place.path);
    }
    if (!is_any) return;
    add_accounts(rule, *places);
    found_.push_back(std::move(rule));
  }

  // A folder for each account in each of the saves: what goes is an account's, never all of them as one.
  void add_accounts(PlatformRule& rule, const std::vector<Place>& places) const {
    if (rule.platform != Platform::wiiu || rule.keeping != Keeping::folder || rule.path.uses("account"))
      return;
    bool has_common = false;
    for (const Place& place : places) {
      const auto names = top_names(place.path);
      if (!holds_accounts(names)) return;
      has_common = has_common || names.contains(std::string(account_common));
    }
    auto path = NameRule::parse(rule.path.text() + "/{account}");
    auto common = NameRule::parse(rule.path.text() + "/" + std::string(account_common));
    if (!path || !common) return;
    rule.path = *std::move(path);
    if (has_common) rule.extra_places.emplace_back("common", *std::move(common));
  }
  [[nodiscard]] std::set<std::string> top_names(const std::string& folder) const {
    std::set<std::string> names;
    const auto entries = store_.list(folder);
    for (const FileInfo& entry : entries ? *entries : std::vector<FileInfo>{})
      if (!is_os_metadata(entry.name)) names.insert(entry.name);
    return names;
  }

  [[nodiscard]] bool is_taken(const std::string& path) const {
    for (std::string folder = path; folder != "." && folder != "/"; folder = folder_of(folder))
      if (taken_.contains(folder)) return true;
    return false;
  }

  // What is there holds what such a save does.
  [[nodiscard]] bool is_save(const PlatformRule& rule, const Place& place) const {
    const bool is_folder = place.info.kind == FileInfo::Kind::folder;
    if (is_folder && !survey_.has_file_below(place.path)) return false;
    switch (rule.keeping) {
      case Keeping::folder:
        if (!is_folder) return false;
        return rule.platform != Platform::psp || is_parameter_folder(store_, place.path);
      case Keeping::package: {
        if (is_folder) return true;
        const auto head = store_.read_head(place.path, 4096);
        return head && BlockPackage::is_one(head->view());
      }
      case Keeping::encrypted:
        return !is_folder && place.info.size_bytes > 0;
      case Keeping::single: {
        if (is_folder) return false;
        const auto bytes = store_.read(place.path);
        return bytes && single_save_from(*bytes);
      }
      default:
        return false;
    }
  }

  Store& store_;
  const Survey& survey_;
  std::set<std::string> by_lower_;
  std::vector<std::string> root_names_;
  std::set<std::string> taken_;
  std::vector<PlatformRule> found_;
};

// Folders of psp saves under other names than usual: their parameter files tell.
void find_parameter_folders(Store& store, const Survey& survey, std::vector<PlatformRule>& rules) {
  std::set<std::string> parents;
  for (const PlatformRule& rule : rules)
    if (rule.platform == Platform::psp)
      if (const auto places = find_places(store, rule.path, rule.platform))
        for (const Place& place : *places) parents.insert(folder_of(place.path));
  for (const auto& [path, info] : survey.files) {
    if (lower(name_of(path)) != "param.sfo" || folder_of(path) == ".") continue;
    const std::string folder = folder_of(path);
    const auto prefix = rule_prefix(folder_of(folder));
    if (!prefix || parents.contains(folder_of(folder))) continue;
    auto rule = NameRule::parse(*prefix + "{game.code}{suffix}");
    const auto head = store.read(path, std::size_t{1} << 20);
    if (!rule || !head || !is_save_parameters(head->view()) ||
        !rule->match(rule->components() - 1, name_of(folder), Platform::psp))
      continue;
    parents.insert(folder_of(folder));
    PlatformRule made;
    made.platform = Platform::psp;
    made.path = *std::move(rule);
    made.keeping = Keeping::folder;
    rules.push_back(std::move(made));
  }
}

}  // namespace

// chance.
const std::vector<PlatformRule>& shipped_trees() {
  static const std::vector<PlatformRule> trees = [] {
    std::vector<PlatformRule> shipped;
    for (const auto& [id, about] : bay_templates())
      if (const auto bay = bay_like(id, "x", "."))
        for (const PlatformRule& rule : bay->rules)
          if (is_tree(rule.keeping)) shipped.push_back(rule);
    std::stable_sort(shipped.begin(), shipped.end(), [](const PlatformRule& a, const PlatformRule& b) {
      return a.path.components() > b.path.components();
    });
    return shipped;
  }();
  return trees;
}

bool is_parameter_folder(Store& store, const std::string& folder) {
  const std::string path = in_case_of_disk(store, join_path(folder, "PARAM.SFO"));
  const auto head = store.read_if_there(path, std::size_t{1} << 20);
  return head && *head && is_save_parameters((*head)->view());
}

bool holds_accounts(const std::set<std::string>& names) {
  const bool has_account = std::ranges::any_of(names, is_wiiu_account);
  return has_account && std::ranges::all_of(names, [](const std::string& name) {
           return is_wiiu_account(name) || name == account_common;
         });
}

std::optional<NameRule> in_tree_of(const PlatformRule& rule, const NameRule& path) {
  const auto own = components_of(rule.path.text());
  for (const PlatformRule& shipped : shipped_trees()) {
    if (shipped.platform != rule.platform || shipped.keeping != rule.keeping) continue;
    const auto usual = components_of(shipped.path.text());
    const std::size_t same = std::min(own.size(), usual.size());
    if (!std::equal(own.end() - static_cast<std::ptrdiff_t>(same), own.end(),
                    usual.end() - static_cast<std::ptrdiff_t>(same)))
      continue;
    const auto components = components_of(path.text());
    if (own.size() >= usual.size()) {
      std::string prefix;
      for (std::size_t i = 0; i < own.size() - usual.size(); ++i) prefix += own[i] + "/";
      auto moved = NameRule::parse(prefix + path.text());
      return moved ? std::optional(*std::move(moved)) : std::nullopt;
    }
    const std::size_t above = usual.size() - own.size();
    if (components.size() <= above ||
        !std::equal(usual.begin(), usual.begin() + static_cast<std::ptrdiff_t>(above), components.begin()))
      return std::nullopt;
    auto moved = NameRule::parse(joined_from(components, above));
    return moved ? std::optional(*std::move(moved)) : std::nullopt;
  }
  return path;
}

std::vector<PlatformRule> find_tree_rules(Store& store, const Survey& survey, const std::string& root) {
  std::vector<PlatformRule> rules = TreeFinder(store, survey, root).run();
  find_parameter_folders(store, survey, rules);
  return rules;
}

}  // namespace bayswap
