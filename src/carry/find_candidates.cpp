// Saves from outside: found in folders and archives, told by their content, ranked by likeness to what is in
// place.
#include <fmt/format.h>
#include <bayswap/compression.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <map>
#include <set>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "carry/download.hpp"
#include "carry/planner.hpp"
#include "content/sketch.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_candidates = 200;
constexpr double for_structure = 0.25;
constexpr double for_content = 0.25;
constexpr double for_name = 0.15;
constexpr double for_likeness = 0.35;
constexpr double clear_likeness = 0.5;  // of trees; what only has the same sizes has less
constexpr double clear_name = 0.85;

class Finder {
 public:
  Finder(BayView& to, std::vector<TreeFile> files, std::string path, const std::string& game)
      : files_(std::move(files)), path_(std::move(path)), to_(to), game_(lower(game)) {
    const auto info = LocalStore().stat(path_);
    const bool folder = info && *info && (*info)->kind == FileInfo::Kind::folder;
    base_ = folder ? path_ : folder_of(path_);
    if (base_ == ".") base_.clear();
  }

  Result<std::vector<Candidate>> run() {
    BAYSWAP_TRY(there_, to_.saves());
    for (const PlatformRule& rule : to_.bay().rules) {
      BAYSWAP_TRY(roms_, to_.roms(rule));
      if (rule.keeping == Keeping::folder || rule.keeping == Keeping::package) {
        know(rule);
        folders(rule);
      }
      if (rule.keeping != Keeping::folder) single_files(rule);
    }
    sort_by_descending(found_, &Candidate::score);
    if (!game_.empty()) {
      std::erase_if(found_, [this](const Candidate& one) { return !is_meant(one); });
      for (Candidate& one : found_) one.told = true;
    }
    if (found_.empty())
      return fail(ErrorCode::not_recognised,
                  fmt::format("{}: nothing in it is a save for {}{}", path_, to_.bay().name,
                              game_.empty() ? "" : fmt::format(" of '{}'", game_)),
                  game_.empty() ? std::string("inspect it to see what is in it, or name the game")
                                : "check the title, the code or the id; scan the bay to see those it has");
    return std::move(found_);
  }

 private:
  [[nodiscard]] bool is_meant(const Candidate& one) const {
    const GameId& game = one.facts.game;
    for (const std::string& text : {lower(game.title), lower(game.code), lower(title_id_text(game)),
                                    one.facts.rom_path ? lower(stem_of(*one.facts.rom_path)) : std::string()})
      if (!text.empty() && (text.find(game_) != std::string::npos)) return true;
    return false;
  }

  void add(Candidate one) {
    if (found_.size() >= max_candidates) return;
    if (to_.options().titles != nullptr) to_.options().titles->complete(one.facts.game);
    one.facts.game.platform = one.rule->platform;
    if (one.facts.game.code.empty() && one.facts.game.title.empty() && one.facts.game.title_id == 0 &&
        !game_.empty())
      game_of_word(one);
    one.score = std::min(one.score, 1.0);
    found_.push_back(std::move(one));
  }

  // Nothing in the save says whose it is, but the user does.
  void game_of_word(Candidate& one) {
    const auto matches = [this](const GameId& game) {
      return lower(game.title).find(game_) != std::string::npos || lower(game.code) == game_ ||
             lower(title_id_text(game)) == game_;
    };
    for (const RomFile& rom : *roms_)
      if (matches(rom.facts.game) || lower(stem_of(rom.path)).find(game_) != std::string::npos) {
        one.facts.game = rom.facts.game;
        one.facts.rom_path = rom.path;
        return;
      }
    for (const HeldSave& save : *there_)
      if (save.rule == one.rule && matches(save.facts.game)) {
        one.facts.game = save.facts.game;
        return;
      }
    if (to_.options().titles == nullptr) return;
    for (const GameId& title : to_.options().titles->titles())
      if (title.platform == one.rule->platform && matches(title)) {
        one.facts.game = title;
        return;
      }
  }

  // Adds what the most alike save in place has to say: how alike, and whose it is where nothing else tells.
  void compare_to_place(Candidate& one) {
    const TreeSketch own = sketch_of(one.files);
    const HeldSave* best = nullptr;
    Likeness likest;
    for (const HeldSave* save : same_) {
      Likeness how = likeness(own, sketch_in(to_, *save));
      if (how.score <= likest.score) continue;
      best = save;
      likest = std::move(how);
    }
    if (best == nullptr || likest.score < 0.2) return;
    one.score += for_likeness * likest.score;
    one.told = one.told || likest.score >= clear_likeness;
    one.reasons.push_back(
        fmt::format("{:.0f} % like {}: {}", likest.score * 100, best->path, joined(likest.reasons, ", ")));
    const NameFacts& theirs = best->facts;
    GameId& game = one.facts.game;
    if (game.code.empty() && game.title_id == 0) game = theirs.game;
    const bool same_game = compare(game, theirs.game) == GameMatch::same;
    if (!same_game) return;
    if (one.facts.account.empty()) one.facts.account = theirs.account;
    if (one.facts.folder.empty()) one.facts.folder = theirs.folder;
    if (one.facts.save_name.empty()) one.facts.save_name = theirs.save_name;
    if (one.facts.suffix.empty()) one.facts.suffix = theirs.suffix;
    one.facts.slot = theirs.slot;
  }

  // ---- Folders ------------------------------------------------------------------------------------

  // What the bay has by that rule, read once for all candidates.
  void know(const PlatformRule& rule) {
    same_.clear();
    for (const HeldSave& save : *there_)
      if (save.rule == &rule && save.place.empty() && save.kind != SaveKind::battery) same_.push_back(&save);
  }

  void folders(const PlatformRule& rule) {
    // One that has only folders in it is not a save: one of those is meant.
    std::set<std::string> names;
    for (const TreeFile& file : files_) {
      const std::string folder = folder_of(file.path);
      names.insert(folder == "." ? "" : folder);
    }
    for (const std::string& name : names)
      if (found_.size() < max_candidates) folder(rule, name);
  }

  void folder(const PlatformRule& rule, const std::string& name) {
    Candidate one;
    one.rule = &rule;
    one.where = name.empty() ? path_ : join_path(base_, name);
    const std::string prefix = name.empty() ? "" : name + "/";
    bool direct = false;
    auto first = std::ranges::lower_bound(files_, prefix, {}, &TreeFile::path);
    for (; first != files_.end() && first->path.starts_with(prefix); ++first) {
      TreeFile inside = *first;
      inside.path.erase(0, prefix.size());
      direct = direct || inside.path.find('/') == std::string::npos;
      one.files.push_back(std::move(inside));
    }
    if (!direct) return;  // one of the folders below is meant
    one.facts.game.platform = rule.platform;
    words_of_path(one, name);
    const FolderLabel label = label_of_folder(rule.platform, one.files);
    if (label.health == Health::empty) return;
    if (rule.platform == Platform::psp) {
      const auto sfo =
          std::ranges::find(one.files, "param.sfo", [](const TreeFile& f) { return lower(f.path); });
      if (sfo == one.files.end()) return;
      const auto parameters = ParameterFile::parse(sfo->bytes.view());
      if (!parameters) return;
      const std::string directory =
          parameters->text("SAVEDATA_DIRECTORY").value_or(std::string(name_of(name)));
      if (directory.size() < 9) return;
      one.facts.game.code = directory.substr(0, 9);
      one.facts.game.region = region_of_code(Platform::psp, one.facts.game.code);
      one.facts.suffix = directory.substr(9);
      one.told = true;
      one.score += for_structure + for_content;
      one.reasons.push_back(fmt::format("its parameter file says {}", directory));
    } else if (!label.title.empty()) {
      one.score += for_structure;
      one.told = true;
      one.reasons.push_back(fmt::format("its banner says {}", label.title));
      if (one.facts.game.title.empty()) one.facts.game.title = label.title;
    }
    compare_to_place(one);
    if (one.score > 0) add(std::move(one));
  }

  // What the folder's path tells, by the last names of the rule's own path.
  void words_of_path(Candidate& one, const std::string& name) {
    std::vector<std::string> parts;
    for (std::string_view left = name; !left.empty();) {
      const auto slash = left.find('/');
      parts.emplace_back(left.substr(0, slash));
      left = slash == std::string_view::npos ? std::string_view{} : left.substr(slash + 1);
    }
    const NameRule& rule = one.rule->path;
    NameRule::Words words;
    std::size_t matched = 0;
    for (std::size_t back = 1; back <= std::min(rule.components(), parts.size()); ++back) {
      const std::size_t component = rule.components() - back;
      const auto found = rule.match(component, parts[parts.size() - back], one.rule->platform);
      if (!found) break;
      words.insert(found->begin(), found->end());
      ++matched;
    }
    const bool tells = words.contains("title.low") || words.contains("code.hex") ||
                       words.contains("game.code") || words.contains("title.id");
    if (!tells) return;
    one.facts = facts_of_words(words, one.rule->platform);
    one.told = true;
    one.score += for_name;
    one.reasons.push_back(fmt::format("its path is as the bay has them ({})", counted(matched, "name")));
  }

  // ---- Files --------------------------------------------------------------------------------------

  void single_files(const PlatformRule& rule) {
    for (const TreeFile& file : files_) {
      Candidate one;
      one.rule = &rule;
      one.where = join_path(base_, file.path);
      one.files = {{std::string(name_of(file.path)), file.bytes, file.modified}};
      one.facts.game.platform = rule.platform;
      switch (rule.keeping) {
        case Keeping::card:
        case Keeping::single:
          card_saves(one);
          break;
        case Keeping::package:
          package(one);
          break;
        case Keeping::encrypted:
          if (lower(name_of(file.path)) == lower(name_of(rule.path.text()))) {
            words_of_path(one, file.path);
            one.score += for_structure;
            one.reasons.emplace_back("it has the name of such saves");
            add(std::move(one));
          }
          break;
        default:
          battery_save(one);
          break;
      }
    }
  }

  void card_saves(const Candidate& like) {
    const Blob& bytes = like.files.front().bytes;
    const auto one_of = [&](const CardSave& save, const std::string& entry, double score,
                            const std::string& reason) {
      if (to_text(save.kind) != tag(like.rule->platform)) return;
      Candidate one = like;
      const CardEntry described = describe(save);
      one.facts.game.code = described.code;
      one.facts.game.title = described.title;
      one.facts.game.region = described.region;
      one.entry = entry;
      one.told = true;
      if (!entry.empty()) one.where += ", " + entry;
      one.score = score;
      one.reasons.push_back(reason);
      for (const HeldSave& save_there : *there_)
        if (save_there.rule == one.rule && save_there.entry == described.name) {
          one.score += for_likeness;
          one.reasons.push_back(fmt::format("{} has a save of that name", save_there.path));
          break;
        }
      add(std::move(one));
    };
    if (const auto save = single_save_from(bytes)) {
      one_of(*save, "", for_structure + for_content, "a single save with its directory entry");
      return;
    }
    const auto guess = guess_card(bytes.view());
    if (!guess || guess->confidence < 0.5) {
      // In a form that nobody has told us: taken out of it.
      for (const EmbeddedSave& inside : find_embedded_saves(bytes)) {
        if (inside.nameless) continue;
        const std::size_t before = found_.size();
        one_of(inside.save, "", for_structure, inside.evidence);
        if (found_.size() > before) found_.back().files.front().bytes = to_parcel(inside.save);
      }
      return;
    }
    const auto card = open_card(bytes);
    if (!card) return;
    for (const CardEntry& entry : (*card)->entries()) {
      if (entry.state != CardEntry::State::good) continue;
      if (const auto save = (*card)->read(entry.name))
        one_of(*save, entry.name, for_structure, "on a memory card in it");
    }
  }

  void package(Candidate& one) {
    const auto package = BlockPackage::open(one.files.front().bytes);
    if (!package) return;
    one.facts.game.title_id = package->title_id();
    one.told = true;
    one.facts.game.title = package->title_name();
    one.facts.save_name = one.files.front().path;
    one.facts.account = fmt::format("{:016X}", package->profile_id());
    one.score = for_structure + for_content;
    one.reasons.push_back(fmt::format(
        "a package of {}", package->title_name().empty() ? "that console" : package->title_name()));
    std::vector<const HeldSave*> same;
    for (const HeldSave& save : *there_)
      if (save.rule == one.rule && compare(save.facts.game, one.facts.game) == GameMatch::same)
        same.push_back(&save);
    if (!same.empty()) {
      one.score += for_likeness;
      one.reasons.push_back(fmt::format("{} is of the same game", same.front()->path));
      // A download can have any name; the game knows only its own.
      if (same.size() == 1) one.facts.save_name = same.front()->facts.save_name;
    }
    add(std::move(one));
  }

  // Whether a game with these chips can have saved such a file.
  static bool can_hold(const RomFacts& rom, const std::vector<LayoutMatch>& matches) {
    if (!rom.tells_chips) return true;
    return std::ranges::any_of(matches, [&](const LayoutMatch& match) {
      return std::ranges::any_of(match.layout->slots, [&](const Slot& slot) {
        return std::ranges::any_of(rom.chips, [&](const ChipFact& chip) {
          return chip.kind == slot.role.kind &&
                 (chip.size_bytes == 0 ||
                  std::ranges::find(slot.chip_sizes, chip.size_bytes) != slot.chip_sizes.end());
        });
      });
    });
  }

  void battery_save(Candidate& one) {
    const TreeFile& file = one.files.front();
    if (identify_rom(file.bytes.view())) return;
    Hints hints;
    hints.platform = one.rule->platform;
    hints.extension = lower(extension_of(file.path));
    const auto plain = unwrap(file.bytes);
    if (!plain) return;
    const Recognition told = recognise(to_.catalog(), plain->plain, hints);
    if (told.matches.empty() || told.matches.front().fit == Fit::trimmed) return;
    one.score = for_structure * told.matches.front().confidence;
    one.reasons.push_back(fmt::format("its size is that of {}", told.matches.front().layout->id));
    const RomFile* best = nullptr;
    double nearest = 0.6;
    const std::string own = normalized_title(stem_of(file.path));
    for (const RomFile& rom : *roms_) {
      if (!can_hold(to_.facts_of(rom), told.matches)) continue;
      for (const std::string& theirs : {normalized_title(stem_of(rom.path)),
                                        normalized_title(rom.facts.game.title), lower(rom.facts.game.code)}) {
        if (theirs.size() < 3 || own.empty()) continue;
        const double distance = static_cast<double>(edit_distance(own, theirs)) /
                                static_cast<double>(std::max(own.size(), theirs.size()));
        const bool inside = own.find(theirs) != std::string::npos;
        const double how = own == theirs ? 1.0 : std::max(inside ? 0.9 : 0.0, 1 - distance);
        if (how <= nearest) continue;
        nearest = how;
        best = &rom;
      }
    }
    if (best != nullptr) {
      one.score += for_name * nearest + (nearest > clear_name ? for_content : 0);
      one.told = nearest > clear_name;
      one.reasons.push_back(fmt::format("the name is like {}", name_of(best->path)));
    } else if (roms_->size() == 1 && can_hold(to_.facts_of(roms_->front()), told.matches)) {
      best = &roms_->front();
      one.reasons.push_back(fmt::format("the bay has no other ROM for it than {}", name_of(best->path)));
    }
    const auto [alike, share] = most_alike(*one.rule, plain->plain);
    const bool is_clear = alike != nullptr && share >= clear_share;
    if (is_clear && (!one.told || alike->facts.rom_path == (best != nullptr ? best->path : ""))) {
      // What it holds says more than the only ROM, or a name that is a little like.
      one.facts.game = alike->facts.game;
      one.facts.rom_path = alike->facts.rom_path;
      one.facts.slot = alike->facts.slot;
      one.score += for_likeness * std::min(1.0, share * 2);
      one.told = true;
      if (best != nullptr && alike->facts.rom_path != best->path) one.reasons.pop_back();
      one.reasons.push_back(fmt::format("{:.0f} % of what both hold is as in {}", share * 100, alike->path));
      add(std::move(one));
      return;
    }
    if (is_clear) {
      one.told = false;  // the name says one game, the bytes another
      one.reasons.push_back(
          fmt::format("but {:.0f} % of what both hold is as in {}", share * 100, alike->path));
    }
    if (best != nullptr) {
      one.facts.game = best->facts.game;
      one.facts.rom_path = best->path;
      for (const HeldSave& save : *there_) {
        if (save.rule != one.rule || save.facts.rom_path != best->path) continue;
        one.reasons.push_back(fmt::format("{:.0f} % of what both hold is as in {}",
                                          share_with(save, plain->plain) * 100, save.path));
        break;
      }
    }
    if (best != nullptr || !game_.empty()) add(std::move(one));
  }

  // How much of what both hold is at the same places: of one game's saves much, of two games' only blanks.
  double share_with(const HeldSave& save, const Blob& own) {
    auto [known, is_new] = bytes_of_.try_emplace(save.path);
    if (is_new) {
      const auto bytes = to_.store().read(save.path);
      auto theirs = bytes ? unwrap(*bytes) : tl::unexpected(bytes.error());
      if (theirs) known->second = std::move(theirs->plain);
    }
    return known->second.empty() ? 0 : equal_share(own.view(), known->second.view());
  }

  // The save in place, by that rule, which has the most in common with it; nullptr if two have as much.
  std::pair<const HeldSave*, double> most_alike(const PlatformRule& rule, const Blob& own) {
    constexpr double lead = 2;  // times what the next one has
    const HeldSave* best = nullptr;
    double most = 0;
    double next = 0;
    for (const HeldSave& save : *there_) {
      if (save.rule != &rule || save.kind != SaveKind::battery) continue;
      const double share = share_with(save, own);
      if (share > most) {
        next = most;
        most = share;
        best = &save;
      } else {
        next = std::max(next, share);
      }
    }
    if (most < next * lead) best = nullptr;
    return {best, most};
  }

  std::vector<TreeFile> files_;
  std::string path_;
  std::string base_;  // what the files' paths are below
  BayView& to_;
  std::string game_;
  const std::vector<HeldSave>* there_ = nullptr;
  std::vector<const HeldSave*> same_;           // those by the rule in hand
  const std::vector<RomFile>* roms_ = nullptr;  // and its ROMs
  std::map<std::string, Blob> bytes_of_;        // of saves in place, unwrapped
  std::vector<Candidate> found_;
};

}  // namespace

std::optional<std::size_t> clearly_likeliest(std::span<const Candidate> found) {
  constexpr double lead = 0.1;
  if (found.size() == 1 || (found.size() > 1 && found[0].score - found[1].score >= lead)) return 0;
  return std::nullopt;
}

Result<std::vector<Candidate>> find_candidates(BayView& to, const std::string& path,
                                               const std::string& game) {
  BAYSWAP_CHECK(check_root(to.bay(), to.store()));
  BAYSWAP_TRY(auto files, files_of_download(path));
  auto found = Finder(to, std::move(files), path, game).run();
  BAYSWAP_CHECK(to.check());
  return found;
}

}  // namespace bayswap
