// Values of a save changed, and records moved between saves.
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/sheet_job.hpp"
#include "cli/sheet_record.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t max_record_file = std::size_t{16} << 20;

struct Change {
  const Globals& globals;
  const SheetOptions& options;
  SheetJob job{globals, options};

  std::set<std::string> accepted() const { return {options.accept.begin(), options.accept.end()}; }

  Result<void> check_target() const {
    if (options.out.empty() && !options.replace && !options.dry_run)
      return fail(ErrorCode::bad_usage, "where does the changed save go?",
                  "pass --replace to change it in its place (the logbook keeps the old one), or --out FILE");
    return {};
  }

  // Says what a change does, and does it.
  Result<int> done(const FoundSavePlace& found, const Sheet& sheet, const SheetEdit& edit,
                   const std::string& reason) {
    Json json;
    if (globals.json) {
      Json changes = Json::array();
      for (const SheetDifference& one : edit.changes) changes.push_back(to_json(one));
      Json rules = Json::array();
      for (const SheetFinding& one : edit.broken_rules) rules.push_back(to_json(one));
      json = {{"save", found.place.display_path}, {"sheet", to_json(sheet)}, {"changes", changes},
              {"recomputed", edit.recomputed},    {"broken_rules", rules},   {"notes", edit.notes}};
    } else if (!globals.quiet) {
      if (!edit.changes.empty()) print_differences(edit.changes, "before", "after");
      if (!edit.recomputed.empty()) fmt::print("Recomputed: {}.\n", printable(joined(edit.recomputed, ", ")));
      if (!edit.changes.empty() && options.out.empty())
        for (const std::string& note : found.place.notes)
          fmt::print("{}\n", toned(Tone::warn, printable(note)));
      for (const std::string& note : edit.notes) fmt::print("{}\n", toned(Tone::dim, printable(note)));
      for (const SheetFinding& rule : edit.broken_rules)
        fmt::print("{} {} ({})\n", toned(Tone::warn, "against the rules:"), printable(rule.text), rule.id);
    }
    if (options.dry_run) {
      if (globals.json) {
        json["entry"] = nullptr;
        json["dry_run"] = true;
        print_json(json);
      } else {
        say(globals.quiet, "A dry run: nothing was changed.");
      }
      return exit_done;
    }
    BAYSWAP_TRY(const auto id, job.write(found, edit.files, reason));
    if (globals.json) {
      json["out"] = options.out.empty() ? Json(nullptr) : Json(options.out);
      json["entry"] = id ? Json(*id) : Json(nullptr);
      print_json(json);
    } else if (!id) {
      say(globals.quiet, "Nothing to do: the save has these values already.");
    } else if (!globals.quiet) {
      fmt::print(
          "{}\n",
          toned(Tone::good,
                options.out.empty()
                    ? fmt::format(
                          "Done: logbook entry {} keeps the save as it was; `bayswap undo {}` puts it back.",
                          *id, *id)
                    : fmt::format("Done: {} was written.", printable(options.out))));
    }
    return exit_done;
  }

  Result<int> set() {
    std::vector<SheetChange> changes;
    for (const std::string& word : options.words) {
      const std::size_t equals = word.find('=');
      if (equals == std::string::npos || equals == 0)
        return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a PATH=VALUE", printable(word)),
                    "write coins=9999");
      changes.emplace_back(word.substr(0, equals), word.substr(equals + 1));
    }
    BAYSWAP_CHECK(check_target());
    BAYSWAP_CHECK(job.start());
    BAYSWAP_TRY(const auto found, job.find(options.save));
    BAYSWAP_TRY(const Sheet sheet, job.sheet_for(*found));
    BAYSWAP_CHECK(job.check_fit(sheet, *found));
    const SheetSave save(sheet, found->place.files);
    BAYSWAP_TRY(const SheetEdit edit, save.change(changes, accepted()));
    return done(*found, sheet, edit,
                fmt::format("set {} in {}", joined(options.words, ", "), found->place.display_path));
  }

  Result<int> export_record() {
    BAYSWAP_CHECK(job.start());
    BAYSWAP_TRY(const auto found, job.find(options.save));
    BAYSWAP_TRY(const Sheet sheet, job.sheet_for(*found));
    const SheetSave save(sheet, found->place.files);
    BAYSWAP_TRY(const SheetRecord record, save.take(options.words.front()));
    const std::string text = json_text(record_json(record));
    if (options.out.empty()) {
      print_document(text);
      return exit_done;
    }
    // The console's own form, where it has one and a JSON file is not asked for.
    const bool is_own = record.own_file && !options.out.ends_with(".json");
    const Blob bytes = is_own ? Blob::copy_of(record.bytes.front().second)
                              : Blob::copy_of({reinterpret_cast<const Byte*>(text.data()), text.size()});
    LocalStore disk;
    BAYSWAP_TRY(const auto exists, disk.stat(options.out));
    if (exists)
      return fail(ErrorCode::unsafe,
                  fmt::format("{} exists already; nothing was written", printable(options.out)),
                  "name another file");
    Plan plan;
    plan.kind = EntryKind::edit;
    plan.reason = fmt::format("export {} of {}", options.words.front(), found->place.display_path);
    plan.changes.push_back({options.out, std::nullopt, bytes});
    BAYSWAP_CHECK(run_here(globals, plan, disk));
    if (globals.json)
      print_json({{"save", found->place.display_path},
                  {"record", record.record},
                  {"path", options.words.front()},
                  {"out", options.out}});
    else
      say(globals.quiet, fmt::format("Wrote {}: a {}{}.", options.out, record.record,
                                     is_own ? ", in the console's own form" : ""));
    return exit_done;
  }

  Result<int> import_record() {
    BAYSWAP_CHECK(check_target());
    BAYSWAP_CHECK(job.start());
    BAYSWAP_TRY(const auto found, job.find(options.save));
    BAYSWAP_TRY(const Sheet sheet, job.sheet_for(*found));
    BAYSWAP_CHECK(job.check_fit(sheet, *found));
    const SheetSave save(sheet, found->place.files);
    const std::string& path = options.words[0];
    const std::string& file = options.words[1];
    LocalStore disk;
    BAYSWAP_TRY(const Blob bytes, disk.read(file, max_record_file));
    if (bytes.empty())
      return fail(ErrorCode::not_recognised, fmt::format("{} is empty", file), "export it again");
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    const bool is_json = text.find_first_not_of(" \n\r\t") != std::string_view::npos &&
                         text[text.find_first_not_of(" \n\r\t")] == '{' && file.ends_with(".json");
    auto record = is_json ? record_from_json(text, file) : save.record_of_file(path, bytes.view());
    if (!record && !is_json) {
      auto as_json = record_from_json(text, file);
      if (as_json) record = std::move(as_json);
    }
    if (!record) return tl::unexpected(record.error());
    BAYSWAP_TRY(const SheetEdit edit, save.put(path, *record, accepted()));
    return done(*found, sheet, edit,
                fmt::format("import {} as {} of {}", file, path, found->place.display_path));
  }
};

}  // namespace

int sheet_set_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Change{globals, options}.set());
}
int sheet_export_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Change{globals, options}.export_record());
}
int sheet_import_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Change{globals, options}.import_record());
}

}  // namespace bayswap::cli
