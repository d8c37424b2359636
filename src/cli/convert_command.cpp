#include <bayswap/conversion.hpp>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/convert_job.hpp"
#include "cli/output.hpp"
#include "cli/pipes.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

void show(const Globals& globals_, const ConvertOptions& options_, const Conversion& done,
          const std::optional<std::int64_t>& entry) {
  for (const std::string& warning : done.warnings) say(globals_.quiet, "bayswap: warning: " + warning);
  if (globals_.json) {
    Json files = Json::array();
    for (const Conversion::Output& output : done.outputs)
      files.push_back({{"path", output.path}, {"layout", output.layout}, {"size_bytes", output.size_bytes}});
    Json inputs = Json::array();
    for (std::size_t i = 0; i < done.sources.size(); ++i)
      inputs.push_back({{"path", options_.inputs[i]}, {"layout", done.sources[i]->id}});
    print_json({{"inputs", inputs},
                {"outputs", files},
                {"read", done.read_notes},
                {"base", done.base_evidence},
                {"notes", done.notes},
                {"warnings", done.warnings},
                {"entry", entry ? Json(*entry) : Json(nullptr)}});
    return;
  }
  if (globals_.quiet) return;
  for (std::size_t i = 0; i < done.sources.size(); ++i)
    print_field(i == 0 ? "read" : "", fmt::format("{} as {}", options_.inputs[i], done.sources[i]->id));
  for (const std::string& note : done.read_notes) print_field("", note);
  for (std::size_t i = 0; i < done.base_evidence.size(); ++i)
    print_field(i == 0 ? "base" : "", done.base_evidence[i]);
  for (std::size_t i = 0; i < done.notes.size(); ++i) print_field(i == 0 ? "done" : "", done.notes[i]);
  for (std::size_t i = 0; i < done.outputs.size(); ++i)
    print_field(i == 0 ? "wrote" : "", fmt::format("{} ({}, {} bytes)", done.outputs[i].path,
                                                   done.outputs[i].layout, done.outputs[i].size_bytes));
  if (entry)
    print_field(
        "kept",
        fmt::format("what was there before, in logbook entry {}; `bayswap undo` brings it back", *entry));
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

// Nothing where no package is involved.
Result<std::optional<int>> convert_package(const Globals& globals, const ConvertOptions& options) {
  LocalStore disk;
  PackageRequest request;
  request.inputs = options.inputs;
  request.base = options.base;
  request.out = options.out;
  request.replace = options.replace;
  request.now = clock_of_process()();
  if (!options.account.empty()) {
    BAYSWAP_TRY(request.profile_id, profile_from(options.account));
  }
  std::optional<PackageConversion> done;
  if (!options.base.empty() || options.to.empty()) {
    BAYSWAP_TRY(done, plan_package(disk, request));
  }
  if (!done && !options.account.empty())
    return fail(ErrorCode::bad_usage, "--account is for packages", "name one with --base");
  if (!done) return std::optional<int>{};
  for (const std::string& warning : done->warnings)
    say(globals.quiet, fmt::format("bayswap: warning: {}", warning));
  if (!done->taken_out)
    say(globals.quiet, "Every hash was made right; the signature is as it was, only a console can make one.");
  const Plan& plan = done->plan;
  for (const PlanIssue& issue : plan.issues) say(globals.quiet, "bayswap: warning: " + issue.text);
  BAYSWAP_TRY(const auto entry, run_here(globals, plan, disk));
  Json files = Json::array();
  for (const FileChange& change : plan.changes) {
    files.push_back({{"path", change.path}, {"size_bytes", change.after->size()}});
    if (!globals.json && !globals.quiet)
      print_field(done->taken_out ? "took out" : "wrote",
                  fmt::format("{} ({} bytes)", change.path, change.after->size()));
  }
  if (globals.json)
    print_json({{"outputs", std::move(files)}, {"entry", entry ? Json(*entry) : Json(nullptr)}});
  if (plan.changes.empty()) say(globals.quiet, "Nothing to do: the files are already as they should be.");
  return std::optional<int>{exit_done};
}

// Layouts by their ids, or by their files.
Result<ConvertOptions> with_layouts(Catalog& catalog, ConvertOptions options) {
  if (!options.to.empty()) {
    BAYSWAP_TRY(const Layout* to, layout_named(catalog, options.to));
    options.to = to->id;
  }
  for (std::string& word : options.from) {
    BAYSWAP_TRY(const Layout* from, layout_named(catalog, word));
    word = from->id;
  }
  return options;
}

// What PLACE:GAME stands for, in the place of it.
Result<ConvertOptions> with_files(const Globals& globals, ConvertOptions options) {
  LocalStore disk;
  const auto is_there = [&](const std::string& path) {
    const auto info = disk.stat(path);
    return info && *info;
  };
  if (std::ranges::all_of(options.inputs, is_there)) return options;
  BAYSWAP_TRY(const auto books, Books::load(globals));
  std::vector<std::string> files;
  for (const std::string& input : options.inputs) {
    BAYSWAP_TRY(const auto own, files_of(*books, input));
    files.insert(files.end(), own.begin(), own.end());
  }
  options.inputs = std::move(files);
  return options;
}

Result<int> convert_files(const Globals& globals, const ConvertOptions& typed) {
  BAYSWAP_TRY(const ConvertOptions said_options, with_files(globals, typed));
  BAYSWAP_TRY(const auto package, convert_package(globals, said_options));
  if (package) return *package;
  BAYSWAP_TRY(Catalog catalog, catalog_of(globals));
  BAYSWAP_TRY(const ConvertOptions options, with_layouts(catalog, said_options));
  LocalStore disk;
  ConversionRequest request;
  request.inputs = options.inputs;
  request.to = options.to;
  request.from = options.from;
  request.base = options.base;
  request.out = options.out;
  request.named_after = options.rom;
  request.slot = options.slot;
  request.replace = options.replace;
  request.may_cut = std::ranges::find(options.accept, "cut") != options.accept.end();
  BAYSWAP_TRY(const auto said, chips_from_words(options.chips));
  BAYSWAP_TRY(request.hints, hints_for(globals, options.inputs.front(), options.rom, said));
  request.hints.extension.clear();
  if (request.hints.game) request.hints.platform = request.hints.game->platform;
  BAYSWAP_TRY(Conversion done, plan_conversion(catalog, disk, request));
  BAYSWAP_TRY(const auto entry, write_conversion(globals, done.plan, done.warnings));
  show(globals, options, done, entry);
  if (request.hints.game) remember(globals, *request.hints.game, said);
  return exit_done;
}

Result<int> convert_any(const Globals& globals, ConvertOptions options) {
  const auto info = LocalStore().stat(options.inputs.front());
  const bool is_folder = info && *info && (*info)->kind == FileInfo::Kind::folder;
  if (is_folder && options.inputs.size() == 1 && !options.to.empty() && options.base.empty())
    return convert_folder(globals, options);
  Pipes pipes;
  for (std::string& input : options.inputs) {
    BAYSWAP_TRY(input, pipes.input(input));
  }
  BAYSWAP_TRY(options.out, pipes.output(options.out));
  if (pipes.is_to_stdout() && globals.json)
    return fail(ErrorCode::bad_usage, "the save and its JSON document can't both go to stdout",
                "name a file with --out");
  Globals own = globals;
  own.quiet = own.quiet || pipes.is_to_stdout();
  BAYSWAP_TRY(const int code, convert_files(own, options));
  BAYSWAP_CHECK(pipes.flush());
  return code;
}

}  // namespace

// A new file is simply made. Several, or one that takes another's place, go through the logbook.
Result<std::optional<std::int64_t>> write_conversion(const Globals& globals, const Plan& plan,
                                                     std::vector<std::string>& warnings) {
  LocalStore disk;
  if (plan.changes.empty()) return std::nullopt;
  for (const PlanIssue& issue : plan.issues) warnings.push_back(issue.text);
  if (plan.changes.size() == 1 && !plan.changes.front().before) {
    BAYSWAP_CHECK(disk.create(plan.changes.front().path, plan.changes.front().after->view()));
    return std::nullopt;
  }
  return run_here(globals, plan, disk);
}

int convert_command(const Globals& globals, const ConvertOptions& options) {
  return exit_code_of(convert_any(globals, options));
}

}  // namespace bayswap::cli
