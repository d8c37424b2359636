// From files to the rules that find them: the second step of detection.
#pragma once

#include "bay/detect_survey.hpp"

namespace bayswap {

/// Rules for trees of ids and packages, as the forms that ship have them, wherever in the place they begin.
/// `root`: where the place is, as names outside of it may be the beginning of such a tree.
[[nodiscard]] std::vector<PlatformRule> find_tree_rules(Store& store, const Survey& survey,
                                                        const std::string& root);
/// Rules for card images, single saves and packages; claims the files.
[[nodiscard]] std::vector<PlatformRule> find_card_rules(const Survey& survey,
                                                        std::vector<SurveyedFile>& files);
/// Rules for battery saves; claims the files. What no one platform can be said of goes to `unsettled`.
[[nodiscard]] std::vector<PlatformRule> find_file_rules(const Catalog& catalog, Store& store,
                                                        const Survey& survey,
                                                        std::vector<SurveyedFile>& files,
                                                        const DetectOptions& options, Detection& detection);
/// Adds to each rule how its platform's save states are called.
void add_state_rules(Store& store, const Survey& survey, const std::vector<SurveyedFile>& files,
                     std::vector<PlatformRule>& rules);

/// Adds rules for the consoles whose ROMs are there and whose saves are not, by the example of the others;
/// none where the others differ, or the console's saves have several forms.
void add_likely_rules(const Survey& survey, const std::vector<SurveyedFile>& files,
                      std::vector<PlatformRule>& rules);

/// What a path rule names before the game's own name; "." for nothing.
[[nodiscard]] std::string named_folder(const std::string& rule_text);
/// The platform whose tag is the name of that folder.
[[nodiscard]] std::optional<Platform> console_named(const std::string& rule_text);

/// `folder` as the beginning of a path rule; nothing if a rule can't have such a name.
[[nodiscard]] std::optional<std::string> rule_prefix(const std::string& folder);
/// Where the ROMs of a platform are; nothing if there are none.
[[nodiscard]] std::optional<std::string> rom_folder(const Survey& survey, Platform platform);

/// Returns the rules of the templates whose paths are a console's own. The longer ones first: the longer a
/// path is, the less can it fit by chance.
[[nodiscard]] const std::vector<PlatformRule>& shipped_trees();
/// Returns whether the folder is a psp save by its parameter file.
[[nodiscard]] bool is_parameter_folder(Store& store, const std::string& folder);
/// Returns the names of an absolute path.
[[nodiscard]] std::vector<std::string> components_of_path(const std::string& path);

/// Once a look is stopped, whoever asks is told so, and `is_stopped` says it. Both must outlive what is
/// returned.
[[nodiscard]] DetectOptions with_lasting_stop(const DetectOptions& options, bool& is_stopped);
[[nodiscard]] tl::unexpected<Error> cancelled_look();

}  // namespace bayswap
