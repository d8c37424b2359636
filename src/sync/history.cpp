// Which version came from which, and which are of one save.
#include <fmt/format.h>
#include <bayswap/history.hpp>

#include <algorithm>
#include <numeric>
#include <span>
#include <unordered_map>

#include "base/path.hpp"
#include "base/text.hpp"

namespace bayswap {
namespace {

// What two identities of one save have in common in any case.
std::string place_of(const SaveIdentity& save) {
  return fmt::format("{}\n{}\n{}\n{}\n{}", tag(saves_as(save.facts.game.platform)), lower(save.facts.account),
                     save.name, save.place, save.slot <= 1 ? 0 : save.slot);
}

// All that tells identities apart: versions of one save mostly have the very same.
std::string spelled(const SaveIdentity& save) {
  const GameId& game = save.facts.game;
  return fmt::format("{}\n{}\n{}\n{}\n{}\n{}\n{}\n{}", place_of(save), tag(game.platform), game.code,
                     game.title, static_cast<int>(game.region), game.title_id, game.revision,
                     save.facts.rom_path.value_or(""));
}

class Groups {
 public:
  explicit Groups(std::size_t count) : parent_(count) { std::iota(parent_.begin(), parent_.end(), 0U); }
  std::size_t find(std::size_t i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  void join(std::size_t a, std::size_t b) {
    a = find(a);
    b = find(b);
    parent_[std::max(a, b)] = std::min(a, b);
  }

 private:
  std::vector<std::size_t> parent_;
};

bool names_itself(const SaveIdentity& save) {
  return compare(save.facts.game, save.facts.game) != GameMatch::unknown;
}

// What the identities of one save share at least one of: they need not be compared with all others.
std::vector<std::string> tokens_of(const SaveIdentity& save) {
  std::vector<std::string> tokens;
  const std::string place = place_of(save) + '\n';
  const GameId& game = save.facts.game;
  if (!game.code.empty()) tokens.push_back(place + "code " + game.code);
  if (!game.title.empty()) tokens.push_back(place + "title " + lower(game.title));
  if (game.title_id != 0) tokens.push_back(fmt::format("{}id {:08x}", place, game.title_id & 0xFFFFFFFF));
  if (save.facts.rom_path)
    tokens.push_back(place + "name " + normalized_title(stem_of(*save.facts.rom_path)));
  return tokens;
}

using Index = std::unordered_map<std::string, std::vector<std::size_t>>;
// So many identities that share a title or a name are compared with each other; nobody has more.
constexpr std::size_t max_alike = 1000;

// Joins the identities that are one save. One that says nothing of its game but the name of its file joins
// the others of that name if these are one save; where they are two games, nothing tells which.
void join_same(const std::vector<const SaveIdentity*>& all, const Index& by_token, Groups& groups) {
  for (const auto& [token, members] : by_token)
    for (std::size_t i = 1; i < std::min(members.size(), max_alike); ++i)
      for (std::size_t j = 0; j < i; ++j) {
        const std::size_t a = members[i];
        const std::size_t b = members[j];
        if (groups.find(a) != groups.find(b) && names_itself(*all[a]) == names_itself(*all[b]) &&
            is_same_save(*all[a], *all[b]))
          groups.join(a, b);
      }
  for (std::size_t nameless = 0; nameless < all.size(); ++nameless) {
    if (names_itself(*all[nameless])) continue;
    std::set<std::size_t> meant;
    for (const std::string& token : tokens_of(*all[nameless]))
      for (const std::size_t other :
           std::span(by_token.at(token)).first(std::min(by_token.at(token).size(), max_alike)))
        if (names_itself(*all[other]) && is_same_save(*all[nameless], *all[other]))
          meant.insert(groups.find(other));
    if (meant.size() == 1) groups.join(nameless, *meant.begin());
  }
}

}  // namespace

bool History::add(Version version) {
  if (pruned_.contains(version.id)) return false;
  const VersionId id = version.id;
  const bool is_new = versions_.emplace(id, std::move(version)).second;
  if (is_new) grouped_ = false;
  return is_new;
}

bool History::prune(const VersionId& id, const VersionId& later) {
  const auto [at, is_new] = pruned_.try_emplace(id, later);
  const bool is_nearer = !is_new && later != VersionId{} && (at->second == VersionId{} || later < at->second);
  if (is_nearer) at->second = later;
  if (versions_.erase(id) > 0 || is_nearer) grouped_ = false;
  return is_new || is_nearer;
}

const Version* History::known(const VersionId& id) const {
  VersionId at = id;
  // What two devices told of one another's pruned versions could go round in a circle.
  constexpr std::size_t max_steps = 4096;
  for (std::size_t steps = 0; steps < max_steps; ++steps) {
    if (const Version* version = find(at)) return version;
    const auto next = pruned_.find(at);
    if (next == pruned_.end() || next->second == VersionId{}) return nullptr;
    at = next->second;
  }
  return nullptr;
}

const Version* History::find(const VersionId& id) const {
  const auto found = versions_.find(id);
  return found == versions_.end() ? nullptr : &found->second;
}

void History::group() const {
  if (grouped_) return;
  std::vector<const SaveIdentity*> identities;
  std::unordered_map<std::string, std::size_t> by_text;
  std::map<VersionId, std::size_t> identity_of;
  for (const auto& [id, version] : versions_) {
    const auto [at, is_new] = by_text.try_emplace(spelled(version.save), identities.size());
    if (is_new) identities.push_back(&version.save);
    identity_of.emplace(id, at->second);
  }
  Index by_token;
  for (std::size_t i = 0; i < identities.size(); ++i)
    for (std::string& token : tokens_of(*identities[i])) by_token[std::move(token)].push_back(i);
  Groups groups(identities.size());
  join_same(identities, by_token, groups);
  // A version is of the save that it came from, whatever it is called by now.
  for (const auto& [id, version] : versions_)
    for (const VersionId& parent : version.parents)
      if (const Version* from = known(parent)) groups.join(identity_of.at(id), identity_of.at(from->id));

  lineages_.clear();
  lineage_of_.clear();
  by_token_.clear();
  std::vector<std::size_t> lineage_at(identities.size(), identities.size());
  std::set<VersionId> with_children;
  for (const auto& [id, version] : versions_) {
    with_children.insert(version.parents.begin(), version.parents.end());
    std::size_t& at = lineage_at[groups.find(identity_of.at(id))];
    if (at == identities.size()) {
      at = lineages_.size();
      lineages_.emplace_back();
    }
    lineages_[at].versions.push_back(&version);
    lineage_of_.emplace(id, at);
  }
  for (const auto& [token, members] : by_token)
    for (const std::size_t member : members) by_token_[token].insert(lineage_at[groups.find(member)]);
  for (Lineage& lineage : lineages_)
    for (const Version* version : lineage.versions)
      if (!with_children.contains(version->id)) lineage.heads.push_back(version);
  grouped_ = true;
}

const std::vector<Lineage>& History::lineages() const {
  group();
  return lineages_;
}

const Lineage* History::lineage_of(const VersionId& id) const {
  group();
  const auto found = lineage_of_.find(id);
  return found == lineage_of_.end() ? nullptr : &lineages_[found->second];
}

std::vector<const Lineage*> History::lineages_for(const SaveIdentity& save) const {
  group();
  std::set<std::size_t> candidates;
  for (const std::string& token : tokens_of(save))
    if (const auto at = by_token_.find(token); at != by_token_.end())
      candidates.insert(at->second.begin(), at->second.end());
  std::vector<const Lineage*> sure;
  std::vector<const Lineage*> by_name;
  for (const std::size_t candidate : candidates) {
    const Lineage& lineage = lineages_[candidate];
    bool is_sure = false;
    bool is_named = false;
    for (const Version* version : lineage.versions) {
      if (!is_same_save(version->save, save)) continue;
      if (compare(version->save.facts.game, save.facts.game) == GameMatch::unknown)
        is_named = true;
      else
        is_sure = true;
    }
    if (is_sure) sure.push_back(&lineage);
    if (is_named && !is_sure) by_name.push_back(&lineage);
  }
  return sure.empty() ? by_name : sure;
}

bool History::descends(const VersionId& later, const VersionId& earlier) const {
  std::set<VersionId> seen;
  std::vector<VersionId> open{later};
  while (!open.empty()) {
    const VersionId id = open.back();
    open.pop_back();
    if (id == earlier) return true;
    if (!seen.insert(id).second) continue;
    if (const Version* version = find(id))
      open.insert(open.end(), version->parents.begin(), version->parents.end());
  }
  // Of a pruned one, what is known is that something came from it.
  const Version* instead = find(earlier) == nullptr ? known(earlier) : nullptr;
  return instead != nullptr && descends(later, instead->id);
}

const Version& History::origin_of(const Version& version) const {
  const Version* at = &version;
  // Each step goes to an earlier version, and no id is its own ancestor's; a bound all the same.
  for (std::size_t steps = 0; at->parents.size() > 1 && steps <= versions().size(); ++steps) {
    const Version* chosen = nullptr;
    for (const VersionId& id : at->parents) {
      const Version* parent = find(id);
      if (parent != nullptr && parent->content == at->content) chosen = parent;
    }
    if (chosen == nullptr) break;
    at = chosen;
  }
  return *at;
}

const Version* History::common_ancestor(const std::vector<const Version*>& versions) const {
  std::map<VersionId, std::size_t> reached;
  for (const Version* version : versions) {
    std::set<VersionId> seen;
    std::vector<VersionId> open{version->id};
    while (!open.empty()) {
      const VersionId id = open.back();
      open.pop_back();
      if (!seen.insert(id).second) continue;
      if (const Version* one = find(id)) open.insert(open.end(), one->parents.begin(), one->parents.end());
    }
    for (const VersionId& id : seen) ++reached[id];
  }
  // Of those, one that no other one came from: the last when each is put after what it came from.
  std::map<VersionId, std::size_t> depths;
  std::vector<VersionId> open;
  const Version* best = nullptr;
  std::size_t deepest = 0;
  for (const auto& [id, count] : reached) {
    const Version* candidate = count == versions.size() ? find(id) : nullptr;
    if (candidate == nullptr) continue;
    open.push_back(id);
    while (!open.empty()) {
      const VersionId at = open.back();
      const Version* version = find(at);
      std::size_t depth = 1;
      bool is_ready = true;
      for (const VersionId& parent : version->parents) {
        if (find(parent) == nullptr) continue;
        const auto known = depths.find(parent);
        if (known == depths.end()) {
          open.push_back(parent);
          is_ready = false;
        } else {
          depth = std::max(depth, known->second + 1);
        }
      }
      if (!is_ready) continue;
      depths[at] = depth;
      open.pop_back();
    }
    if (depths.at(id) > deepest) {
      deepest = depths.at(id);
      best = candidate;
    }
  }
  return best;
}

std::vector<const Version*> differing_heads(const Lineage& lineage) {
  std::vector<const Version*> heads;
  std::set<std::string_view> contents;
  for (const Version* head : lineage.heads)
    if (contents.insert(head->content).second) heads.push_back(head);
  if (heads.size() < 2) return heads;
  // Two devices that had the same save when they met: who plays on has played on from both.
  std::map<VersionId, const Version*> by_id;
  for (const Version* version : lineage.versions) by_id.emplace(version->id, version);
  std::set<std::string_view> earlier;  // what any head came from
  std::set<VersionId> seen;
  std::vector<const Version*> open = heads;
  while (!open.empty()) {
    const Version* version = open.back();
    open.pop_back();
    for (const VersionId& parent : version->parents) {
      const auto found = by_id.find(parent);
      if (found == by_id.end() || !seen.insert(parent).second) continue;
      earlier.insert(found->second->content);
      open.push_back(found->second);
    }
  }
  std::erase_if(
      heads, [&](const Version* head) { return head->parents.empty() && earlier.contains(head->content); });
  return heads;
}

}  // namespace bayswap
