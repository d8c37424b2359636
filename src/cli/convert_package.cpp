// convert for packages: files out of one, and files into one.
#include "cli/convert_package.hpp"

#include <bayswap/carry.hpp>

#include <charconv>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t max_package_bytes = std::size_t{80} << 20;

Result<std::optional<BlockPackage>> package_at(Store& disk, const std::string& path) {
  BAYSWAP_TRY(const auto info, disk.stat(path));
  if (!info || info->kind != FileInfo::Kind::file) return std::nullopt;
  BAYSWAP_TRY(const Blob head, disk.read_head(path, std::size_t{64} << 10));
  if (!BlockPackage::is_one(head.view())) return std::nullopt;
  BAYSWAP_TRY(const Blob bytes, disk.read(path, max_package_bytes));
  auto package = BlockPackage::open(bytes);
  if (!package)
    return fail(package.error().code, fmt::format("{}: {}", path, package.error().message),
                package.error().hint);
  return *std::move(package);
}

Result<std::uint64_t> profile_from(const std::string& text) {
  std::uint64_t id = 0;
  const char* end = text.data() + text.size();
  if (text.size() != 16 ||
      std::from_chars(text.data(), end, id, 16) != std::from_chars_result{end, std::errc{}})
    return fail(ErrorCode::bad_usage, fmt::format("--account {} is no profile id", printable(text)),
                "it has 16 hex digits");
  return id;
}

class PackageJob {
 public:
  PackageJob(const Globals& globals, const ConvertOptions& options) : globals_(globals), options_(options) {}

  Result<int> take_out(const BlockPackage& package) {
    for (const PackagedFile& file : package.files()) {
      if (file.folder) continue;
      if (!is_safe_relative(file.path) || printable(file.path) != file.path)
        return fail(ErrorCode::unsafe,
                    fmt::format("the package has a file called '{}'", printable(file.path)),
                    "such a name can't be written");
      BAYSWAP_TRY(Blob bytes, package.read(file.path));
      BAYSWAP_CHECK(add(join_path(options_.out, file.path), std::move(bytes)));
    }
    return write("took out");
  }

  Result<int> put_in(BlockPackage package) {
    const auto broken = package.check();
    for (const std::string& problem : broken)
      say(globals_.quiet, fmt::format("bayswap: warning: {}: {}", options_.base, problem));
    const std::int64_t now = clock_of_process()();
    for (const std::string& input : options_.inputs) {
      BAYSWAP_TRY(const auto info, disk_.stat(input));
      if (!info) return fail(ErrorCode::not_found, fmt::format("{} does not exist", input), "check the path");
      if (info->kind == FileInfo::Kind::folder) {
        BAYSWAP_TRY(const auto files, read_tree(disk_, input));
        for (const TreeFile& file : files)
          BAYSWAP_CHECK(package.put(file.path, file.bytes.view(), file.modified));
        continue;
      }
      BAYSWAP_TRY(const auto other, package_at(disk_, input));
      if (other) {  // the package itself, for its profile
        for (const PackagedFile& file : other->files()) {
          if (file.folder) continue;
          BAYSWAP_TRY(const Blob bytes, other->read(file.path));
          const auto own = package.read(file.path);
          if (!own || *own != bytes)
            BAYSWAP_CHECK(package.put(file.path, bytes.view(), file.modified.value_or(now)));
        }
        continue;
      }
      BAYSWAP_TRY(const Blob bytes, disk_.read(input, max_package_bytes));
      BAYSWAP_CHECK(package.put(std::string(name_of(input)), bytes.view(), info->modified));
    }
    if (!options_.account.empty()) {
      BAYSWAP_TRY(const std::uint64_t id, profile_from(options_.account));
      package.set_profile_id(id);
    }
    if (package.check().size() > broken.size())
      return fail(ErrorCode::damaged, "the package would not be sound", "nothing was written");
    BAYSWAP_CHECK(add(options_.out, package.image()));
    say(globals_.quiet,
        "Every hash was made right; the signature is as it was, only a console can make one.");
    return write("wrote");
  }

 private:
  Result<void> add(const std::string& path, Blob bytes) {
    BAYSWAP_TRY(const auto info, disk_.stat(path));
    FileChange change{path, std::nullopt, std::move(bytes)};
    if (info) {
      if (!options_.replace)
        return fail(ErrorCode::unsafe, fmt::format("{} exists already", path),
                    "choose another name, or say --replace");
      BAYSWAP_TRY(change.before, disk_.read(path, max_package_bytes));
    }
    if (change.before != change.after) plan_.changes.push_back(std::move(change));
    return {};
  }

  Result<int> write(const std::string& word) {
    std::optional<std::int64_t> entry;
    plan_.kind = EntryKind::convert;
    plan_.reason = fmt::format("convert {} to {}", joined(options_.inputs, ", "), options_.out);
    if (!plan_.changes.empty()) {
      BAYSWAP_TRY(const auto logbook, LockedLogbook::open(globals_));
      BAYSWAP_CHECK(wait_until_idle(globals_, plan_, disk_, logbook->book(), false, Recent::does_not_count));
      note_hard_links(plan_, disk_);
      for (const PlanIssue& issue : plan_.issues) say(globals_.quiet, "bayswap: warning: " + issue.text);
      BAYSWAP_TRY(entry, run_whole(plan_, disk_, *logbook));
    }
    Json files = Json::array();
    for (const FileChange& change : plan_.changes) {
      files.push_back({{"path", change.path}, {"size_bytes", change.after->size()}});
      if (!globals_.json && !globals_.quiet)
        print_field(word, fmt::format("{} ({} bytes)", change.path, change.after->size()));
    }
    if (globals_.json)
      print_json({{"outputs", std::move(files)}, {"entry", entry ? Json(*entry) : Json(nullptr)}});
    if (plan_.changes.empty()) say(globals_.quiet, "Nothing to do: the files are already as they should be.");
    return exit_done;
  }

  const Globals& globals_;
  const ConvertOptions& options_;
  LocalStore disk_;
  Plan plan_;
};

}  // namespace

std::optional<Result<int>> convert_package(const Globals& globals, const ConvertOptions& options) {
  LocalStore disk;
  if (!options.base.empty()) {
    auto base = package_at(disk, options.base);
    if (!base) return tl::unexpected(base.error());
    if (*base) return PackageJob(globals, options).put_in(**std::move(base));
  } else if (options.inputs.size() == 1 && options.to.empty()) {
    auto package = package_at(disk, options.inputs.front());
    if (!package) return std::nullopt;  // the usual way says what is wrong
    if (*package && options.account.empty()) return PackageJob(globals, options).take_out(**package);
    if (*package)
      return PackageJob(globals, options).put_in(**std::move(package));  // itself, for another profile
  }
  if (!options.account.empty())
    return fail(ErrorCode::bad_usage, "--account is for packages", "name one with --base");
  return std::nullopt;
}

}  // namespace bayswap::cli
