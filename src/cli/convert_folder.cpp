// A folder of saves, converted one by one.
#include <bayswap/detect.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <map>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/convert_job.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

// One save of a folder that is converted.
struct BatchSave {
  std::string path;  // below the folder
  std::string outcome;
  std::string text;
};

// Every save of a folder, each into a file of the same name with the layout's extension.
class FolderConversion {
 public:
  FolderConversion(const Globals& globals, const ConvertOptions& options)
      : globals_(globals), options_(options) {}

  Result<int> run() {
    if (options_.to.empty()) return fail(ErrorCode::bad_usage, "--to is missing", "name the layout to make");
    if (!options_.base.empty())
      return fail(ErrorCode::bad_usage, "--base is of one save, and this is a folder", "leave it out");
    BAYSWAP_TRY(catalog_, catalog_of(globals_));
    BAYSWAP_TRY(to_, layout_named(catalog_, options_.to));
    const std::string& folder = options_.inputs.front();
    if (normalized(disk_.absolute_path(options_.out)) == normalized(disk_.absolute_path(folder)))
      return fail(ErrorCode::bad_usage, "the saves would be written into their own folder",
                  "name another --out");
    BAYSWAP_TRY(const auto there, disk_.stat(options_.out));
    if (there && there->kind != FileInfo::Kind::folder)
      return fail(ErrorCode::bad_usage, fmt::format("{} is a file, and a folder is converted", options_.out),
                  "name a folder");
    LocalStore store(folder);
    if (!there && !options_.out.ends_with('/') && !extension_of(options_.out).empty())
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} is a folder, and --out {} looks like a file", folder, options_.out),
                  "name a folder with --out, or one save");
    if (const auto detection = detect_place(catalog_, store))
      for (const DetectedRule& rule : detection->rules)
        for (const DetectedSave& save : rule.saves)
          for (const std::string& file : save.files) platforms_[file] = saves_as(save.platform);
    // The chips of one save lie side by side under one stem.
    std::map<std::string, std::vector<std::string>> saves;
    BAYSWAP_CHECK(inspect_folder(
        catalog_, store, ".", {}, [&](const std::string& path, const Result<Finding>& finding) {
          if (!finding) return add(path, "failed", finding.error().message);
          const bool is_save =
              finding->kind == FileKind::battery_save || finding->kind == FileKind::controller_pak;
          if (!is_save) return;
          const std::string why = other_platform(path, *finding);
          if (!why.empty()) return add(path, "left", why);
          saves[stem_path(path)].push_back(path);
        }));
    if (saves.empty() && rows_.empty())
      return fail(ErrorCode::not_found, fmt::format("{} has no saves of {}", folder, tag(to_->platform)),
                  "`bayswap inspect` says what is in it");
    std::size_t done = 0;
    for (const auto& [stem, paths] : saves) {
      print_progress(globals_, done++, saves.size(), stem);
      convert_one(store, stem, paths);
    }
    print_progress(globals_, saves.size(), saves.size(), "");
    return print();
  }

 private:
  void add(const std::string& path, const std::string& outcome, const std::string& text) {
    rows_.push_back({path, outcome, text});
  }

  // Empty if it is of the layout's platform. Where its bytes leave that open, the folder tells: its ROMs, its
  // other saves, its name.
  [[nodiscard]] std::string other_platform(const std::string& path, const Finding& finding) const {
    if (const auto known = platforms_.find(path); known != platforms_.end())
      return known->second == to_->platform ? ""
                                            : fmt::format("it is taken for a save of {}", tag(known->second));
    if (!finding.platform && options_.from.empty())
      return "it could be of several consoles; convert it alone, or pass --from LAYOUT";
    const auto is_of_target = [&](const Layout* layout) { return layout->platform == to_->platform; };
    if (finding.layout != nullptr && finding.either.empty() && !is_of_target(finding.layout))
      return fmt::format("it is a save of {}", tag(finding.layout->platform));
    if (!finding.either.empty() && std::none_of(finding.either.begin(), finding.either.end(), is_of_target))
      return fmt::format("it is not a save of {}", tag(to_->platform));
    return {};
  }

  [[nodiscard]] static std::string stem_path(const std::string& path) {
    std::string stem = path.substr(0, path.size() - extension_of(path).size());
    if (pak_number_in_name(name_of(path)) > 0) stem.resize(stem.size() - 2);
    return stem;
  }

  void convert_one(Store& store, const std::string& stem, const std::vector<std::string>& paths) {
    const std::string& path = paths.front();
    ConversionRequest request;
    for (const std::string& input : paths) request.inputs.push_back(store.display_path(input));
    request.to = to_->id;
    request.from = options_.from;
    request.replace = options_.replace;
    request.may_cut =
        std::find(options_.accept.begin(), options_.accept.end(), "cut") != options_.accept.end();
    request.out = join_path(
        options_.out, to_->is_set() ? folder_of(path) == "." ? "" : folder_of(path) : stem + to_->extension);
    if (request.out.ends_with('/')) request.out.pop_back();
    request.named_after = path;
    auto hints = hints_for(globals_, request.inputs.front(), options_.rom, {});
    if (!hints) return add(path, "failed", hints.error().message);
    request.hints = *std::move(hints);
    request.hints.extension.clear();
    request.hints.platform = to_->platform;
    auto plan = plan_conversion(catalog_, disk_, request);
    if (!plan)
      return add(path, plan.error().code == ErrorCode::unsafe ? "refused" : "failed", plan.error().message);
    if (plan->plan.changes.empty())
      return add(path, "same", plan->outputs.empty() ? "" : plan->outputs.front().path);
    if (const auto written = write_conversion(globals_, plan->plan, plan->warnings); !written)
      return add(path, written.error().code == ErrorCode::unsafe ? "refused" : "failed",
                 written.error().message);
    add(path, "converted", plan->outputs.empty() ? "" : plan->outputs.front().path);
  }

  Result<int> print() const {
    std::map<std::string, std::size_t> counts{
        {"converted", 0}, {"same", 0}, {"left", 0}, {"refused", 0}, {"failed", 0}};
    for (const BatchSave& row : rows_) ++counts[row.outcome];
    if (globals_.json) {
      Json list = Json::array();
      for (const BatchSave& row : rows_)
        list.push_back({{"path", row.path}, {"outcome", row.outcome}, {"text", row.text}});
      Json json{{"to", to_->id}, {"out", options_.out}};
      for (const auto& [outcome, count] : counts) json[outcome] = count;
      json["saves"] = std::move(list);
      print_json(json);
    } else {
      std::vector<std::vector<std::string>> rows;
      for (const BatchSave& row : rows_) rows.push_back({row.path, row.outcome, row.text});
      if (!rows.empty() && !globals_.quiet) print_table({"save", "outcome", "where, or why not"}, rows);
      fmt::print("{}: {} converted, {} the same already, {} left, {} refused, {} failed.\n",
                 counted(rows_.size(), "save"), counts["converted"], counts["same"], counts["left"],
                 counts["refused"], counts["failed"]);
    }
    return counts["refused"] + counts["failed"] > 0 ? exit_problems : exit_done;
  }

  const Globals& globals_;
  const ConvertOptions& options_;
  Catalog catalog_;
  const Layout* to_ = nullptr;
  LocalStore disk_;
  std::map<std::string, Platform> platforms_;  // by path
  std::vector<BatchSave> rows_;
};

}  // namespace

Result<int> convert_folder(const Globals& globals, const ConvertOptions& options) {
  return FolderConversion(globals, options).run();
}

}  // namespace bayswap::cli
