// Looking through folders: many files, on all processors, handed over in order.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <thread>

#include "base/order.hpp"
#include "base/parallel.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "inspect/look.hpp"

namespace bayswap {
namespace {

constexpr int max_depth = 32;
constexpr std::size_t groups_at_once = 256;
constexpr std::size_t max_rom_bytes_for_tags = std::size_t{4} << 20;

// Files of one folder that share a stem: a ROM, and what was saved in it.
struct Group {
  std::vector<std::string> paths;
  std::vector<Result<Finding>> findings;
};

class Scanner {
 public:
  Scanner(const Catalog& catalog, Store& store, const Hints& hints, const ScanReport& report)
      : catalog_(catalog), store_(store), hints_(hints), report_(report) {
    (void)catalog.all();  // read once, before several threads ask
  }

  Result<void> folder(const std::string& folder, int depth) {
    BAYSWAP_TRY(auto entries, store_.list(folder));
    std::erase_if(entries, [](const FileInfo& entry) { return entry.kind == FileInfo::Kind::other; });
    const auto path_of = [&](const FileInfo& entry) {
      return folder == "." ? entry.name : join_path(folder, entry.name);
    };
    std::vector<std::size_t> files;
    for (std::size_t i = 0; i < entries.size(); ++i)
      if (entries[i].kind == FileInfo::Kind::file) files.push_back(i);
    sort_by(files, [&](std::size_t i) { return stem_of(entries[i].name); });
    for (std::size_t i = 0; i < files.size();) {
      Group group;
      const std::string_view stem = stem_of(entries[files[i]].name);
      for (; i < files.size() && stem_of(entries[files[i]].name) == stem; ++i)
        group.paths.push_back(path_of(entries[files[i]]));
      waiting_.push_back(std::move(group));
      if (waiting_.size() >= groups_at_once) work();
    }
    work();
    for (const FileInfo& entry : entries) {
      if (entry.kind != FileInfo::Kind::folder || entry.link) continue;  // what it leads to has its own place
      const std::string path = path_of(entry);
      if (depth >= max_depth) {
        report_(path, fail(ErrorCode::unsupported,
                           fmt::format("{}: over {} folders deep", store_.display_path(path), max_depth),
                           "look at it on its own"));
        continue;
      }
      if (auto below = this->folder(path, depth + 1); !below) report_(path, tl::unexpected(below.error()));
    }
    return {};
  }

 private:
  void work() {
    std::atomic<std::size_t> next{0};
    const auto run = [&] {
      for (std::size_t i = next++; i < waiting_.size(); i = next++) look(waiting_[i]);
    };
    const std::size_t processors =
        store_.traits().one_thread ? 1 : std::clamp(std::thread::hardware_concurrency(), 1U, 8U);
    in_parallel(std::min(processors, waiting_.size()) - (waiting_.empty() ? 0 : 1), run);
    for (const Group& group : waiting_)
      for (std::size_t i = 0; i < group.paths.size(); ++i) report_(group.paths[i], group.findings[i]);
    waiting_.clear();
  }

  void look(Group& group) const {
    std::vector<Result<LookedAt>> files;
    Hints hints = hints_;
    for (const std::string& path : group.paths) {
      files.push_back(read_as_rom(store_, path));
      if (!files.back() || !files.back()->facts) continue;
      LookedAt& rom = *files.back();
      if (rom.source.size_bytes <= max_rom_bytes_for_tags || group.paths.size() > 1)
        (void)find_chip_tags(rom.source, *rom.facts);
      if (hints_.game || hints.game) continue;
      hints.game = rom.facts->game;
      hints.chips = rom.facts->chips;
    }
    for (std::size_t i = 0; i < files.size(); ++i)
      group.findings.push_back(finding_of(group.paths[i], files[i], hints));
  }

  Result<Finding> finding_of(const std::string& path, Result<LookedAt>& file, Hints hints) const {
    if (!file) return tl::unexpected(file.error());
    if (file->facts)
      return rom_finding(*std::move(file->facts), static_cast<std::size_t>(file->source.size_bytes));
    hints.extension = lower(extension_of(path));
    BAYSWAP_TRY(const Blob bytes, file->whole ? Result<Blob>(*file->whole) : store_.read(path));
    return inspect_save(catalog_, bytes, hints);
  }

  const Catalog& catalog_;
  Store& store_;
  const Hints& hints_;
  const ScanReport& report_;
  std::vector<Group> waiting_;
};

}  // namespace

Result<void> inspect_folder(const Catalog& catalog, Store& store, const std::string& folder,
                            const Hints& hints, const ScanReport& report) {
  return Scanner(catalog, store, hints, report).folder(folder, 1);
}

}  // namespace bayswap
