// Files out of packages, and into them.
#include <fmt/format.h>
#include <bayswap/conversion.hpp>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
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

class PackagePlanner {
 public:
  PackagePlanner(Store& disk, const PackageRequest& request) : disk_(disk), request_(request) {}

  Result<PackageConversion> take_out(const BlockPackage& package) {
    for (const PackagedFile& file : package.files()) {
      if (file.folder) continue;
      if (!is_safe_relative(file.path) || printable(file.path) != file.path)
        return fail(ErrorCode::unsafe,
                    fmt::format("the package has a file called '{}'", printable(file.path)),
                    "such a name can't be written");
      BAYSWAP_TRY(Blob bytes, package.read(file.path));
      BAYSWAP_CHECK(add(join_path(request_.out, file.path), std::move(bytes)));
    }
    out_.taken_out = true;
    return finished();
  }

  Result<PackageConversion> put_in(BlockPackage package) {
    const auto broken = package.check();
    for (const std::string& problem : broken)
      out_.warnings.push_back(
          fmt::format("{}: {}", request_.base.empty() ? request_.inputs.front() : request_.base, problem));
    for (const std::string& input : request_.inputs) {
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
            BAYSWAP_CHECK(package.put(file.path, bytes.view(), file.modified.value_or(request_.now)));
        }
        continue;
      }
      BAYSWAP_TRY(const Blob bytes, disk_.read(input, max_package_bytes));
      BAYSWAP_CHECK(package.put(std::string(name_of(input)), bytes.view(), info->modified));
    }
    if (request_.profile_id) package.set_profile_id(*request_.profile_id);
    if (package.check().size() > broken.size())
      return fail(ErrorCode::damaged, "the package would not be sound", "nothing was written");
    BAYSWAP_CHECK(add(request_.out, package.image()));
    return finished();
  }

 private:
  Result<void> add(const std::string& path, Blob bytes) {
    BAYSWAP_TRY(const auto info, disk_.stat(path));
    FileChange change{path, std::nullopt, std::move(bytes), std::nullopt};
    if (info) {
      if (!request_.replace)
        return fail(ErrorCode::unsafe, fmt::format("{} exists already", path), "choose another name",
                    {Remedy::Kind::replace, {}});
      BAYSWAP_TRY(change.before, disk_.read(path, max_package_bytes));
    }
    if (change.before != change.after) out_.plan.changes.push_back(std::move(change));
    return {};
  }

  PackageConversion finished() {
    out_.plan.kind = EntryKind::convert;
    out_.plan.reason = fmt::format("convert {} to {}", joined(request_.inputs, ", "), request_.out);
    note_hard_links(out_.plan, disk_);
    return std::move(out_);
  }

  Store& disk_;
  const PackageRequest& request_;
  PackageConversion out_;
};

}  // namespace

Result<std::optional<PackageConversion>> plan_package(Store& disk, const PackageRequest& request) {
  if (!request.base.empty()) {
    BAYSWAP_TRY(auto base, package_at(disk, request.base));
    if (!base) return std::nullopt;
    BAYSWAP_TRY(PackageConversion done, PackagePlanner(disk, request).put_in(*std::move(base)));
    return std::optional(std::move(done));
  }
  if (request.inputs.size() != 1) return std::nullopt;
  auto package = package_at(disk, request.inputs.front());
  if (!package || !*package) return std::nullopt;  // the usual way says what is wrong
  PackagePlanner planner(disk, request);
  // Itself, for another profile.
  BAYSWAP_TRY(PackageConversion done,
              request.profile_id ? planner.put_in(**std::move(package)) : planner.take_out(**package));
  return std::optional(std::move(done));
}

}  // namespace bayswap
