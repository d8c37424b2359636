// Which platform a file's save is of, where its bytes alone do not tell.
#pragma once

#include <map>
#include <set>

#include "bay/detect_survey.hpp"

namespace bayswap {

[[nodiscard]] bool is_battery(const Finding& finding);
/// The platforms that the finding allows.
[[nodiscard]] std::vector<Platform> platforms_of(const Finding& finding);
/// Whether the platform's games have product codes of four characters.
[[nodiscard]] bool has_codes(Platform platform);

/// Goes by folders named after platforms, product codes, the saves beside a file, and the ROMs of the place.
class PlatformSettler {
 public:
  PlatformSettler(const Catalog& catalog, Store& store, const Survey& survey, const DetectOptions& options);

  /// Every file is noted before the first one is settled.
  void note(const SurveyedFile& file);
  /// Nothing where several remain; the finding is then as it was.
  [[nodiscard]] std::optional<Platform> settle(SurveyedFile& file) const;

 private:
  // Looks at the file again as one of that platform.
  [[nodiscard]] bool take(SurveyedFile& file, Platform platform) const;

  const Catalog& catalog_;
  Store& store_;
  const DetectOptions& options_;
  std::set<Platform> with_roms_;
  std::set<std::string> rom_folders_;
  std::set<std::string> program_folders_;  // with what programs for the PC bring along
  std::map<std::string, std::set<Platform>> beside_;
};

}  // namespace bayswap
