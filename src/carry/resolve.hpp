// Whose save is it at the target, and where does it go there?
#pragma once

#include <bayswap/carry.hpp>

#include "bay/keeper.hpp"

namespace bayswap {

/// A save of the source, read.
struct SourceSave {
  const PlatformRule* rule = nullptr;  // of the source's bay; nullptr if it comes from outside
  NameFacts facts;                     // what its path told, its game among it
  std::string place;                   // the name of the further place, or empty
  std::string display_path;            // as the user knows it
  std::string path;                    // below the source's root
  std::optional<std::int64_t> modified;
  std::optional<RomFacts> rom;  // of its ROM, where that is known
  std::vector<std::string> files;
  std::string misplaced;
  Content content;
  IssueList issues;
};

/// "'Title' (CODE, Region)", as far as it is known.
[[nodiscard]] std::string game_in_words(const GameId& game);

/// Whether the path has one of the words for a save's slot.
[[nodiscard]] bool has_slots(const NameRule& rule);

/// Options of a carry that can have no effect.
enum class CarryOption { region, exact, companions, account, slot, rom, chip };
[[nodiscard]] std::string_view to_text(CarryOption option);

/// Works for one target; keeps what it has worked out of it for the next save.
class Resolver {
 public:
  /// `from` is nullptr for what comes from outside.
  Resolver(BayView* from, BayView& to, Store* outside, const CarryRequest& request);

  /// Says what becomes of the save at the target: game, region, account, slot, ROM, name, chips, spots. An
  /// arrival with a refusal, or without spots, goes nowhere.
  [[nodiscard]] Result<Arrival> resolve(SourceSave source);

  [[nodiscard]] const std::vector<RomPair>& pairs() const { return said_pairs_; }
  [[nodiscard]] const std::optional<AccountQuestion>& account_question() const { return account_question_; }
  void ask(AccountQuestion question) { account_question_ = std::move(question); }
  [[nodiscard]] const std::set<CarryOption>& used() const { return used_; }
  void use(CarryOption option) { used_.insert(option); }

 private:
  // By the folders of programs: each has the ROMs of its games somewhere below.
  struct Programs {
    std::map<std::string, std::vector<const HeldSave*>> saves;
    std::map<const PlatformRule*, std::set<std::string>> of_rule;  // those it has saves of
  };
  struct Named {
    const RomFile* rom = nullptr;
    std::string stem;         // as stem_of has it, in lower case
    std::string title;        // normalised
    std::string digest = {};  // of the cartridge's own bytes, where it had to be worked out
  };
  struct Counterpart {
    const RomFile* rom = nullptr;
    GameMatch match = GameMatch::unknown;
    bool said = false;
    std::vector<const RomFile*> rivals;  // others that could be meant as well, and have names of their own
    std::string why;                     // why this one, if there were others
  };

  /// Of several rules of the platform the one that takes such content, and that has a save or a ROM of the
  /// game already.
  [[nodiscard]] Result<const PlatformRule*> rule_for(const SourceSave& source);
  [[nodiscard]] Result<const std::vector<Named>*> named_roms(const PlatformRule& rule);
  [[nodiscard]] Result<Counterpart> counterpart(const SourceSave& source, const NameRule& path,
                                                const PlatformRule& rule, const std::optional<RomFile>& said);
  [[nodiscard]] Result<std::vector<const RomFile*>> of_same_bytes(const SourceSave& source,
                                                                  const PlatformRule& rule);
  [[nodiscard]] Result<Counterpart> one_of(const std::vector<const RomFile*>& best, GameMatch match,
                                           bool said, const NameRule& path);
  [[nodiscard]] Result<std::optional<RomFile>> said_rom(const PlatformRule& rule);
  [[nodiscard]] Result<std::optional<GameId>> played_there(const GameId& game, const Counterpart& rom);
  [[nodiscard]] Result<std::optional<GameId>> in_region(const GameId& game, const Counterpart& rom);
  [[nodiscard]] Result<bool> settle_game(const SourceSave& source, const Counterpart& rom, Arrival& arrival);
  void compare_roms(const SourceSave& source, const Counterpart& rom, Arrival& arrival);
  [[nodiscard]] Result<bool> settle_account(Arrival& arrival);
  [[nodiscard]] Result<void> complete_title_id(Arrival& arrival);
  /// Refuses, unless accepted, a folder that is named after the other console of the platform.
  void doubt_folder(const GameId& game, Arrival& arrival);
  /// The same where the ROM is in the folder of a program whose saves are kept otherwise than the rule says;
  /// warns where that program has no saves yet.
  void doubt_habit(const RomFile& rom, Arrival& arrival);
  [[nodiscard]] const Programs& programs_there();
  [[nodiscard]] Result<void> settle_name(const SourceSave& source, const Counterpart& rom, Arrival& arrival);
  void settle_chips(const SourceSave& source, const Counterpart& rom, Arrival& arrival);
  [[nodiscard]] Result<void> restamp(const SourceSave& source, Arrival& arrival);
  [[nodiscard]] const std::vector<std::string>& accounts_there(Platform platform);

  BayView* from_;
  BayView& to_;
  Store* outside_;
  const CarryRequest& request_;
  std::map<const PlatformRule*, std::vector<Named>> named_;
  std::map<Platform, std::vector<std::string>> accounts_;
  std::optional<Programs> programs_;
  std::optional<AccountQuestion> account_question_;
  std::set<CarryOption> used_;
  std::vector<RomPair> said_pairs_;
};

}  // namespace bayswap
