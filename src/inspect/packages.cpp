// Packages, parameter files and avatar databases, as findings.
#include <fmt/format.h>
#include <bayswap/package.hpp>

#include "inspect/look.hpp"

namespace bayswap {
namespace {

std::string in_words(const ParameterFile::Entry& entry) {
  if (const auto* text = std::get_if<std::string>(&entry.value))
    return fmt::format("{} is '{}'", entry.key, *text);
  if (const auto* number = std::get_if<std::uint32_t>(&entry.value))
    return fmt::format("{} is {}", entry.key, *number);
  return fmt::format("{} is {} raw bytes", entry.key, std::get<Blob>(entry.value).size());
}

void describe(const BlockPackage& package, Finding& finding) {
  finding.kind = FileKind::package;
  finding.platform = Platform::x360;
  finding.confidence = 0.98;
  finding.game.emplace();
  finding.game->platform = Platform::x360;
  finding.game->title = package.title_name();
  finding.game->title_id = package.title_id();
  const auto say = [&](std::string text) { finding.evidence.push_back(std::move(text)); };
  say(fmt::format("a package signed as '{}', content of type {}", package.signer(), package.content_type()));
  say(fmt::format("'{}' of '{}', title {:08X}, profile {:016X}, {}", package.display_name(),
                  package.title_name(), package.title_id(), package.profile_id(),
                  package.thumbnail().empty() ? "no thumbnail" : "with a thumbnail"));
  for (const PackagedFile& file : package.files())
    if (!file.folder) say(fmt::format("in it: {} ({} bytes)", file.path, file.size_bytes));
  const auto problems = package.check();
  if (problems.empty())
    say(fmt::format("every hash is right, in tables of {} cop{}", package.table_copies(),
                    package.table_copies() == 1 ? "y" : "ies"));
  for (const std::string& problem : problems) say(problem);
  finding.evidence.emplace_back("its signature can only be made, or looked at, by a console");
}

}  // namespace

bool find_package(const Blob& bytes, Finding& finding) {
  if (BlockPackage::is_one(bytes.view())) {
    const auto package = BlockPackage::open(bytes);
    if (package) {
      describe(*package, finding);
    } else {
      finding.kind = FileKind::package;
      finding.platform = Platform::x360;
      finding.confidence = 0.6;
      finding.evidence.push_back(package.error().message);
    }
    return true;
  }
  if (ParameterFile::is_one(bytes.view())) {
    const auto parameters = ParameterFile::parse(bytes.view());
    finding.kind = FileKind::parameter_file;
    finding.platform = Platform::psp;
    finding.confidence = parameters ? 0.98 : 0.6;
    if (!parameters) {
      finding.evidence.push_back(parameters.error().message);
      return true;
    }
    finding.evidence.push_back(fmt::format("{} entries", parameters->entries().size()));
    for (const ParameterFile::Entry& entry : parameters->entries())
      finding.evidence.push_back(in_words(entry));
    return true;
  }
  if (is_avatar_database(bytes.view())) {
    finding.kind = FileKind::avatar_database;
    finding.platform = Platform::wii;
    finding.confidence = 0.95;
    const auto problem = avatar_database_problem(bytes.view());
    finding.evidence.push_back(
        fmt::format("{} avatars; saves of that console lean on it", avatars_in(bytes.view())));
    finding.evidence.push_back(problem ? *problem : "its checksum is right");
    return true;
  }
  return false;
}

}  // namespace bayswap
