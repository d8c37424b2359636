// What is inside a save: shown, checked, compared.
#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/sheet_job.hpp"

namespace bayswap::cli {
namespace {

// ---- JSON

Json value_json(const SheetNode& node) {
  if (!node.problem.empty() && node.children.empty()) return nullptr;
  switch (node.kind) {
    case SheetNode::Kind::record: {
      Json json = {{"", nullptr}};
      json.erase("");
      for (const SheetNode& one : node.children) json[one.name] = value_json(one);
      return json;
    }
    case SheetNode::Kind::array: {
      Json json = Json::array();
      for (const SheetNode& one : node.children)
        json.push_back(one.is_unused || one.is_blank ? Json(nullptr) : value_json(one));
      return json;
    }
    case SheetNode::Kind::truth:
      return node.value == "yes";
    case SheetNode::Kind::number:
      // A number that is written as one; names and dates are texts.
      if (node.number && node.value == fmt::format("{}", *node.number)) return *node.number;
      return node.value;
    default:
      return node.value;
  }
}

void collect_fields(const SheetNode& node, Json& fields, Json& copies) {
  if (node.is_unused || node.is_blank) return;
  if (node.is_newest) copies.push_back({{"path", node.path}, {"newest", true}});
  for (const SheetNode& one : node.children) collect_fields(one, fields, copies);
  if (node.kind == SheetNode::Kind::record || node.kind == SheetNode::Kind::array) return;
  Json field = {{"path", node.path}, {"value", node.value}, {"shown", node.shown}};
  if (node.number) field["number"] = *node.number;
  if (node.is_derived) {
    field["derived"] = true;
  } else {
    field["file"] = node.file;
    field["offset"] = node.offset;
    field["bit"] = node.bit;
    field["bits"] = node.bits;
    field["plain"] = node.is_stored_plainly;
  }
  if (!node.problem.empty()) field["problem"] = node.problem;
  fields.push_back(std::move(field));
}

// ---- The tree for people

constexpr std::size_t label_width = 24;

std::string shown_value(const SheetNode& node) {
  if (!node.problem.empty()) return toned(Tone::bad, node.problem);
  return node.shown.empty() ? toned(Tone::dim, node.is_derived ? "unknown" : "(empty)")
                            : printable(node.shown);
}

void print_line(std::size_t depth, const std::string& label, const std::string& value) {
  const std::string indent(2 * depth, ' ');
  const std::size_t used = indent.size() + width(label);
  const std::string gap(used < label_width ? label_width - used : 2, ' ');
  fmt::print("{}{}{}{}\n", indent, toned(Tone::dim, printable(label)), gap, value);
}

// A record of an array in one line: texts first, then names, then a few numbers.
std::string in_one_line(const SheetNode& node) {
  if (node.kind != SheetNode::Kind::record) return shown_value(node);
  if (node.is_blank) return toned(Tone::dim, "blank: nothing was ever saved there");
  if (!node.problem.empty()) return toned(Tone::bad, node.problem);
  std::vector<std::string> words;
  constexpr std::size_t max_words = 5;
  const auto add = [&](bool (*wanted)(const SheetNode&), bool with_label) {
    for (const SheetNode& one : node.children)
      if (words.size() < max_words && !one.is_hidden && wanted(one) && one.problem.empty() &&
          !one.shown.empty())
        words.push_back(with_label ? one.label + " " + one.shown : one.shown);
  };
  const auto is_name = [](const SheetNode& one) {
    return one.kind == SheetNode::Kind::number && one.number && one.shown != one.value &&
           one.shown.ends_with(')');
  };
  add([](const SheetNode& one) { return one.kind == SheetNode::Kind::text && !one.is_derived; }, false);
  add(is_name, false);
  add(
      [](const SheetNode& one) {
        return one.kind == SheetNode::Kind::number && one.number && one.shown == one.value;
      },
      true);
  return printable(joined(words, ", "));
}

void print_tree(const SheetNode& node, std::size_t depth, bool all);

// Without those that nobody wants to see.
void print_children(const SheetNode& node, std::size_t depth, bool all) {
  for (const SheetNode& one : node.children)
    if (all || !one.is_hidden) print_tree(one, depth, all);
}

void print_array(const SheetNode& node, std::size_t depth, bool all) {
  std::size_t unused = 0;
  const bool are_values =
      std::ranges::none_of(node.children, [](const SheetNode& one) { return !one.children.empty(); });
  if (are_values && !all) {
    std::vector<std::string> values;
    for (const SheetNode& one : node.children)
      values.push_back(one.label == one.name ? one.shown : one.label + " " + one.shown);
    print_line(depth, node.label,
               values.empty() ? toned(Tone::dim, "none") : printable(joined(values, ", ")));
    return;
  }
  for (const SheetNode& one : node.children) unused += one.is_unused ? 1 : 0;
  const bool is_copies =
      std::ranges::any_of(node.children, [](const SheetNode& one) { return one.is_newest; });
  print_line(depth, node.label,
             is_copies    ? fmt::format("{} copies", node.children.size())
             : unused > 0 ? fmt::format("{} of {} used", node.children.size() - unused, node.children.size())
                          : fmt::format("{}", node.children.size()));
  if (!node.problem.empty()) print_line(depth + 1, "", toned(Tone::bad, node.problem));
  for (const SheetNode& one : node.children) {
    if (one.is_unused) continue;
    if (one.is_newest) {
      print_line(depth + 1, one.label, toned(Tone::good, "the newest"));
      print_children(one, depth + 2, all);
    } else if (all && !one.is_blank && !one.children.empty()) {
      print_line(depth + 1, one.label, "");
      print_children(one, depth + 2, all);
    } else {
      print_line(depth + 1, one.label, in_one_line(one));
    }
  }
}

void print_tree(const SheetNode& node, std::size_t depth, bool all) {
  switch (node.kind) {
    case SheetNode::Kind::array:
      print_array(node, depth, all);
      return;
    case SheetNode::Kind::record:
      if (!node.path.empty())
        print_line(depth, node.label, node.problem.empty() ? "" : toned(Tone::bad, node.problem));
      print_children(node, depth + (node.path.empty() ? 0 : 1), all);
      return;
    default:
      print_line(depth, node.label, shown_value(node));
      return;
  }
}

struct Verdict {
  std::size_t errors = 0;
  std::size_t warnings = 0;
  std::size_t checked = 0;
};

// Those that do not hold, and how many do.
Verdict print_findings(const std::vector<SheetFinding>& findings, bool quiet) {
  Verdict verdict;
  for (const SheetFinding& finding : findings) {
    ++verdict.checked;
    if (finding.holds.value_or(true)) continue;
    const bool is_error = finding.severity == SheetSeverity::error;
    (is_error ? verdict.errors : verdict.warnings) += finding.severity == SheetSeverity::note ? 0 : 1;
    if (quiet) continue;
    static constexpr std::array<std::string_view, 3> words{"checksum", "rule", "bytes"};
    const std::string word(words.at(static_cast<std::size_t>(finding.kind)));
    fmt::print(
        "{}{} {}\n", toned(is_error ? Tone::bad : Tone::warn, word), std::string(8 - word.size(), ' '),
        printable(finding.kind == SheetFinding::Kind::rule ? fmt::format("{} ({})", finding.text, finding.id)
                                                           : finding.text));
  }
  return verdict;
}

struct Look {
  const Globals& globals;
  const SheetOptions& options;
  SheetJob job{globals, options};

  Result<int> show() {
    BAYSWAP_CHECK(job.start());
    BAYSWAP_TRY(const auto found, job.find(options.save));
    BAYSWAP_TRY(const Sheet sheet, job.sheet_for(*found));
    const SheetSave save(sheet, found->place.files);
    const std::string path = options.words.empty() ? std::string{} : options.words.front();
    const SheetDepth depth = options.all || globals.json ? SheetDepth::whole : SheetDepth::look;
    BAYSWAP_TRY(const SheetNode node, save.show(path, job.language(), depth));
    if (globals.json) {
      const auto findings = save.findings(job.language());
      Json fields = Json::array();
      Json copies = Json::array();
      collect_fields(node, fields, copies);
      Json broken = Json::array();
      for (const SheetFinding& finding : findings) broken.push_back(to_json(finding));
      print_json({{"save", found->place.display_path},
                  {"kind", to_text(found->place.kind)},
                  {"sheet", to_json(sheet)},
                  {"path", path},
                  {"values", value_json(node)},
                  {"copies", copies},
                  {"fields", fields},
                  {"findings", broken}});
      return exit_done;
    }
    fmt::print(
        "{}  {}\n", toned(Tone::bold, printable(sheet.name(job.language()))),
        toned(Tone::dim, fmt::format("{}, {}, sheet {} revision {}", printable(found->place.display_path),
                                     to_text(found->place.kind), sheet.id(), sheet.revision())));
    for (const std::string& note : found->place.notes) print_line(0, "", toned(Tone::dim, printable(note)));
    if (const auto why = sheet.misfit(found->place.game, found->place.files))
      print_line(0, "does not fit", toned(Tone::warn, printable(*why)));
    print_tree(node, 0, options.all);
    const SheetVerdict told = save.verdict(job.language());
    const Verdict verdict = print_findings(told.findings, false);
    if (told.checked > 0 && verdict.errors + verdict.warnings == 0)
      fmt::print("{}\n", toned(Tone::good, fmt::format("All {} checksums and rules hold.", told.checked)));
    return exit_done;
  }

  Result<int> check() {
    BAYSWAP_CHECK(job.start());
    BAYSWAP_TRY(const auto found, job.find(options.save));
    BAYSWAP_TRY(const Sheet sheet, job.sheet_for(*found));
    const SheetSave save(sheet, found->place.files);
    if (options.recompute) {
      BAYSWAP_CHECK(job.check_fit(sheet, *found));
      return recompute(*found, save);
    }
    if (const auto why = sheet.misfit(found->place.game, found->place.files))
      return fail(ErrorCode::not_recognised,
                  fmt::format("the sheet {} does not fit {}: {}", sheet.id(),
                              printable(found->place.display_path), *why),
                  "name another sheet");
    const auto findings = save.findings(job.language());
    if (globals.json) {
      Json list = Json::array();
      std::size_t errors = 0;
      for (const SheetFinding& finding : findings) {
        list.push_back(to_json(finding));
        errors += finding.holds == false && finding.severity != SheetSeverity::note ? 1 : 0;
      }
      print_json({{"save", found->place.display_path},
                  {"sheet", to_json(sheet)},
                  {"sound", errors == 0},
                  {"findings", list}});
      return errors == 0 ? exit_done : exit_problems;
    }
    const Verdict verdict = print_findings(findings, globals.quiet);
    if (verdict.checked == 0) {
      say(globals.quiet,
          fmt::format("{}: the sheet has no checksums and rules for this save: nothing was checked.",
                      found->place.display_path));
      return exit_done;
    }
    if (verdict.errors + verdict.warnings == 0) {
      say(globals.quiet,
          fmt::format("{}: all {} checksums and rules hold.", found->place.display_path, verdict.checked));
      return exit_done;
    }
    say(globals.quiet, fmt::format("{} of {} checksums and rules do not hold. `bayswap sheet check "
                                   "--recompute` makes checksums right, where "
                                   "you know that the values are.",
                                   verdict.errors + verdict.warnings, verdict.checked));
    return exit_problems;
  }

  Result<int> recompute(const FoundSavePlace& found, const SheetSave& save) {
    BAYSWAP_TRY(const SheetEdit edit, save.recompute());
    std::optional<std::int64_t> id;
    if (!options.dry_run) {
      BAYSWAP_TRY(id, job.write(found, edit.files,
                                fmt::format("make the checksums of {} right", found.place.display_path)));
    }
    // What was not made right is no success.
    const int code = edit.not_recomputed.empty() ? exit_done : exit_problems;
    if (globals.json) {
      print_json({{"save", found.place.display_path},
                  {"recomputed", edit.recomputed},
                  {"not_recomputed", edit.not_recomputed},
                  {"notes", edit.notes},
                  {"dry_run", options.dry_run},
                  {"entry", id ? Json(*id) : Json(nullptr)}});
      return code;
    }
    if (globals.quiet) return code;
    if (!edit.recomputed.empty())
      fmt::print("{}: {}.\n", options.dry_run ? "Would be made right" : "Made right",
                 printable(joined(edit.recomputed, ", ")));
    for (const std::string& checksum : edit.not_recomputed)
      fmt::print("{} {}\n", toned(Tone::bad, "can't be made right:"), printable(checksum));
    for (const std::string& note : edit.notes) fmt::print("{}\n", toned(Tone::warn, printable(note)));
    if (id)
      fmt::print("{}\n", toned(Tone::good,
                               fmt::format("Done: logbook entry {}. `bayswap undo` takes it back.", *id)));
    else if (edit.recomputed.empty() && edit.not_recomputed.empty())
      say(globals.quiet, "Nothing to do: every checksum is right.");
    return code;
  }

  Result<int> diff() {
    BAYSWAP_CHECK(job.start());
    BAYSWAP_TRY(const auto before, job.find(options.saves[0]));
    BAYSWAP_TRY(const auto after, job.find(options.saves[1]));
    BAYSWAP_TRY(const Sheet sheet, job.sheet_for(*before));
    if (const auto why = sheet.misfit(after->place.game, after->place.files); why && options.sheet.empty())
      return fail(ErrorCode::not_recognised,
                  fmt::format("{} is a save of another game than {}: the sheet {} does not fit, {}",
                              printable(after->place.display_path), printable(before->place.display_path),
                              sheet.id(), *why),
                  "compare two saves of one game");
    const SheetSave first(sheet, before->place.files);
    const SheetSave second(sheet, after->place.files);
    const auto list = differences(first, second, job.language());
    if (globals.json) {
      Json rows = Json::array();
      for (const SheetDifference& one : list) rows.push_back(to_json(one));
      print_json({{"before", before->place.display_path},
                  {"after", after->place.display_path},
                  {"sheet", to_json(sheet)},
                  {"differences", rows}});
      return exit_done;
    }
    if (list.empty()) {
      fmt::print("No value differs.\n");
      return exit_done;
    }
    print_differences(list, printable(before->place.display_path), printable(after->place.display_path));
    return exit_done;
  }

  Result<int> list() {
    BAYSWAP_CHECK(job.start());
    if (globals.json) {
      Json rows = Json::array();
      for (const Sheet& sheet : job.shelf().all()) {
        Json row = to_json(sheet);
        row["codes"] = Json(sheet.codes());
        rows.push_back(std::move(row));
      }
      print_json({{"sheets", rows}});
      return exit_done;
    }
    std::vector<std::vector<std::string>> rows;
    for (const Sheet& sheet : job.shelf().all())
      rows.push_back({sheet.id(), std::string(tag(sheet.platform())), joined(sheet.codes(), ", "),
                      printable(sheet.name(job.language())), fmt::format("{}", sheet.revision())});
    print_table({"sheet", "platform", "codes", "what it describes", "revision"}, rows, {4});
    return exit_done;
  }
};

}  // namespace

int sheet_show_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Look{globals, options}.show());
}
int sheet_check_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Look{globals, options}.check());
}
int sheet_diff_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Look{globals, options}.diff());
}
int sheet_list_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Look{globals, options}.list());
}

}  // namespace bayswap::cli
