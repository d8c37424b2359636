#include "cli/desk_place.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/select.hpp"

namespace bayswap::cli {
namespace {

// The forms that saves of the platform have in one file, that of the source first.
Result<void> set_layouts(PlatformRule& rule, const HeldSave& save) {
  BAYSWAP_TRY(const Bay usual, bay_like("beside-rom", "x", "."));
  std::vector<std::string> ids;
  if (save.held.size() == 1 && save.held.front().layout != nullptr)
    ids.push_back(save.held.front().layout->id);
  if (const PlatformRule* own = usual.rule(saves_as(rule.platform)); own != nullptr) {
    ids.push_back(own->layout);
    ids.insert(ids.end(), own->other_layouts.begin(), own->other_layouts.end());
  }
  if (ids.empty())
    return fail(ErrorCode::unsupported,
                fmt::format("saves of {} have no form of one file", tag(rule.platform)),
                "name a folder instead");
  rule.layout = ids.front();
  for (std::size_t i = 1; i < ids.size(); ++i)
    if (std::ranges::find(ids.begin(), ids.begin() + static_cast<std::ptrdiff_t>(i), ids[i]) ==
        ids.begin() + static_cast<std::ptrdiff_t>(i))
      rule.other_layouts.push_back(ids[i]);
  return {};
}

}  // namespace

bool names_a_new_file(const Books& books, const std::string& name) {
  if (name.find("://") != std::string::npos || name.starts_with("cart:") || name.ends_with(".toml"))
    return false;
  LocalStore disk;
  const auto info = disk.stat(name);
  if (!info) return false;
  // An empty folder shows no rules: the save gets its own name in it.
  if (*info && (*info)->kind == FileInfo::Kind::folder && !find_bay(books.home, name)) {
    const auto inside = disk.list(name);
    return inside && inside->empty();
  }
  if (*info) return false;
  if (has_bay_file(books.home, name) || find_bay(books.home, name)) return false;
  return name.find('/') != std::string::npos || !extension_of(name).empty();
}

Result<std::unique_ptr<OpenedBay>> place_for_one(const Books& books, BayView& from, const std::string& what,
                                                 const std::string& said) {
  LocalStore disk;
  std::string file = said;
  BAYSWAP_TRY(auto saves, find_saves(from, disk, what));
  std::erase_if(saves, [](const HeldSave* save) { return !save->place.empty(); });
  if (saves.empty()) return tl::unexpected(no_such_save(from, what));
  if (saves.size() > 1) {
    std::vector<std::string> each;
    for (const HeldSave* save : saves) each.push_back(designator(*save));
    return fail(ErrorCode::bad_usage,
                fmt::format("'{}' means {} saves, and {} is one file", printable(what), saves.size(),
                            printable(file)),
                "name one of them", {Remedy::Kind::save, std::move(each)});
  }
  const HeldSave& save = *saves.front();
  BAYSWAP_TRY(const auto there, disk.stat(said));
  if (there && there->kind == FileInfo::Kind::folder) {
    if (save.kind == SaveKind::card_entry)
      return fail(ErrorCode::bad_usage, fmt::format("{} is an empty folder", printable(said)),
                  fmt::format("name the file as well: {}", join_path(said, "NAME")));
    file = join_path(said, std::string(name_of(save.path)));
  }
  const std::string whole = normalized(disk.absolute_path(file));
  const std::string folder = folder_of(whole);
  BAYSWAP_TRY(const auto above, disk.stat(folder));
  if (!above || above->kind != FileInfo::Kind::folder)
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", printable(folder)),
                "make the folder first");
  PlatformRule rule;
  rule.platform = save.rule->platform;
  const std::string name(name_of(whole));
  if (name.find_first_of("{}") != std::string::npos)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' has braces in its name", printable(name)),
                "choose another name");
  BAYSWAP_TRY(rule.path, NameRule::parse(name));
  switch (save.kind) {
    case SaveKind::battery:
      rule.keeping = Keeping::file;
      BAYSWAP_CHECK(set_layouts(rule, save));
      break;
    case SaveKind::card_entry:
    case SaveKind::single:
      rule.keeping = Keeping::single;
      break;
    default:
      rule.keeping = save.rule->keeping;
      break;
  }
  auto opened = std::make_unique<OpenedBay>();
  opened->is_place = true;
  opened->bay.name = file;
  opened->bay.origin = whole;
  opened->bay.root = folder;
  opened->bay.rules.push_back(std::move(rule));
  BAYSWAP_TRY(opened->store, open_place(opened->bay));
  opened->view = std::make_unique<BayView>(books.catalog, opened->bay, *opened->store, books.view_options());
  return opened;
}

}  // namespace bayswap::cli
