#include "bay/places.hpp"

#include <fmt/format.h>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_survey.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_names = 200000;

class PlaceFinder {
 public:
  PlaceFinder(Store& store, const NameRule& rule, Platform platform,
              const std::function<void(const std::string&, const Error&)>& on_error, const std::string& roms)
      : store_(store), rule_(rule), platform_(platform), on_error_(on_error), roms_(roms) {}

  Result<std::vector<Place>> run() {
    BAYSWAP_CHECK(walk(0, ".", {}));
    return std::move(found_);
  }

 private:
  static std::string join(const std::string& folder, const std::string& name) {
    return folder == "." ? name : join_path(folder, name);
  }
  [[nodiscard]] bool is_last(std::size_t component) const { return component + 1 == rule_.components(); }

  Result<std::vector<FileInfo>> list(const std::string& folder) {
    auto entries = store_.list(folder);
    if (!entries && entries.error().code != ErrorCode::not_found) {
      if (!on_error_) return tl::unexpected(std::move(entries.error()));
      on_error_(folder, entries.error());
    }
    if (!entries) return std::vector<FileInfo>{};
    seen_ += entries->size();
    if (seen_ > max_names)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} holds over {} names", store_.display_path(""), max_names),
                  "point the bay's root at the saves' own folder");
    return entries;
  }

  Result<void> take(std::size_t component, const std::string& folder, const FileInfo& entry,
                    NameRule::Words words) {
    const std::string path = join(folder, entry.name);
    if (is_last(component)) {
      if (entry.kind != FileInfo::Kind::other && !(entry.link && entry.kind == FileInfo::Kind::folder))
        found_.push_back({path, std::move(words), entry});
      return {};
    }
    if (entry.kind != FileInfo::Kind::folder || entry.link) return {};
    return walk(component + 1, path, std::move(words));
  }

  Result<void> walk(std::size_t component, const std::string& folder, NameRule::Words words) {
    const auto literal = rule_.literal(component);
    if (literal && !literal->empty()) {
      if (auto info = store_.stat(join(folder, *literal)); info && *info)
        return take(component, folder, **info, std::move(words));
    }
    if (is_rom_folder(component)) return rom_folders(component, roms_, 0, words);
    BAYSWAP_TRY(const auto entries, list(folder));
    for (const FileInfo& entry : entries) {
      if (is_own_temporary(entry.name) || is_os_metadata(entry.name)) continue;
      auto more = rule_.match(component, entry.name, platform_);
      if (!more) continue;
      bool agree = true;
      for (const auto& [word, value] : words)
        if (const auto other = more->find(word); other != more->end())
          agree = agree && lower(other->second) == lower(value);
      if (!agree) continue;
      more->insert(words.begin(), words.end());
      BAYSWAP_CHECK(take(component, folder, entry, *std::move(more)));
    }
    return {};
  }

  [[nodiscard]] bool is_rom_folder(std::size_t component) const {
    return rule_.text().starts_with("{rom.folder}/") && component == 0;
  }
  // That word alone stands for any number of names: ROMs lie in folders up to max_rom_depth deep.
  Result<void> rom_folders(std::size_t component, const std::string& folder, int depth,
                           const NameRule::Words& words) {
    BAYSWAP_CHECK(walk(component + 1, folder, words));
    if (depth == max_rom_depth) return {};
    BAYSWAP_TRY(const auto entries, list(folder));
    for (const FileInfo& entry : entries)
      if (entry.kind == FileInfo::Kind::folder && !entry.link && !is_os_metadata(entry.name) &&
          !is_left_out(entry.name)) {
        BAYSWAP_CHECK(rom_folders(component, join(folder, entry.name), depth + 1, words));
      }
    return {};
  }

  Store& store_;
  const NameRule& rule_;
  Platform platform_;
  const std::function<void(const std::string&, const Error&)>& on_error_;
  const std::string& roms_;
  std::size_t seen_ = 0;
  std::vector<Place> found_;
};

}  // namespace

bool takes_extension(const Layout& layout) {
  if (layout.slots.size() != 1) return true;
  const PartKind kind = layout.slots.front().role.kind;
  return kind != PartKind::rtc && kind != PartKind::pak;
}

Result<std::vector<Place>> find_places(Store& store, const NameRule& rule, Platform platform,
                                       const std::function<void(const std::string&, const Error&)>& on_error,
                                       const std::string& roms) {
  return PlaceFinder(store, rule, platform, on_error, roms).run();
}

std::string in_case_of_disk(Store& store, const std::string& path) {
  const auto whole = store.stat(path);
  if (whole && *whole) return path;
  const std::string parent = folder_of(path);
  const std::string own(name_of(path));
  const std::string folder = parent == "." ? parent : in_case_of_disk(store, parent);
  const auto join = [&](const std::string& name) { return folder == "." ? name : join_path(folder, name); };
  const auto there = store.stat(join(own));
  if (there && *there) return join(own);
  const auto entries = store.list(folder);
  if (!entries) return join(own);
  const FileInfo* found = nullptr;
  for (const FileInfo& entry : *entries) {
    if (lower(entry.name) != lower(own)) continue;
    if (found != nullptr) return join(own);  // two names that differ in case alone: neither is meant for sure
    found = &entry;
  }
  return join(found != nullptr ? found->name : own);
}

}  // namespace bayswap
