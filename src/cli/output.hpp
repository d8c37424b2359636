// Printing: tables for people, JSON for programs, errors for both.
#pragma once

#include <fmt/format.h>
#include <bayswap/carry.hpp>

#include "answer/answers.hpp"

namespace bayswap::cli {

enum ExitCode {
  exit_done = 0,  // docs/cli.md
  exit_problems = 1,
  exit_usage = 2,
  exit_refused = 3,
  exit_input = 4,
  exit_io = 5
};
[[nodiscard]] int exit_code(ErrorCode code);

/// Says that one JSON document is wanted on stdout, whatever happens.
void use_json();
/// Prints the JSON document if one is wanted: that of print_json, with the first error that was reported in
/// it as "error"; or one of the error alone. Returns `code`.
int end_output(int code);

/// Prints an error on stderr and gives the exit code it stands for.
int report(const Error& error);
/// Returns `text` with spaces after it, or before it if `right`, as wide as `columns` columns of a terminal
/// at least.
std::string padded(const std::string& text, std::size_t columns, bool right);
/// Returns the exit code of a command that came to an end; prints the error of one that did not.
int exit_code_of(const Result<int>& code);
/// Prints a refusal on stderr. Returns its exit code.
int report(const PlanIssue& issue);
/// What to do next, with the words of this program for a remedy.
/// The long names of the options of the command that runs: advice names no others.
void set_options_of_command(std::vector<std::string> names);
[[nodiscard]] std::string advice(const std::string& hint, const Remedy& remedy,
                                 std::optional<IssueCode> acceptable = std::nullopt);

/// A message on stderr, unless --quiet.
void say(bool quiet, const std::string& text);

enum class Tone { plain, bold, dim, good, warn, bad };
/// `text` in that tone where stdout is a terminal that wants colour; `text` itself elsewhere.
[[nodiscard]] std::string toned(Tone tone, const std::string& text);
/// How wide tables may be: the terminal on stdout; 0 where there is none, and any width will do.
[[nodiscard]] std::size_t table_width();
/// How wide help may be: the terminal on stdout, 100 where there is none.
[[nodiscard]] std::size_t help_width();

/// Columns that a text takes on a terminal.
[[nodiscard]] std::size_t width(std::string_view text);

/// Rows under headings, columns as wide as their widest cell; `right` lists the columns aligned to the right.
[[nodiscard]] std::string table_text(const std::vector<std::string>& headings,
                                     const std::vector<std::vector<std::string>>& rows,
                                     const std::vector<std::size_t>& right = {});
void print_table(const std::vector<std::string>& headings, const std::vector<std::vector<std::string>>& rows,
                 const std::vector<std::size_t>& right = {});

/// "label   value" with the label column of a fixed width; long values are folded at words and indented.
void print_field(std::string_view label, const std::string& value, Tone tone = Tone::plain);

[[nodiscard]] std::string json_text(const Json& json);
/// The command's document; end_output prints it. A second one becomes "followed_by" of the first.
void print_json(const Json& json);
/// Prints a document, or a piece of one, at once: nothing is added to it.
void print_document(std::string_view text);
/// Whether a JSON document has been printed, or begun. May be asked in a signal's handler.
[[nodiscard]] bool document_has_begun();

[[nodiscard]] Json to_json(const Error& error);
[[nodiscard]] Json to_json(const Plan& plan);

/// "2031-05-04 18:30" in local time.
[[nodiscard]] std::string local_time(std::int64_t seconds);

/// 'LANTERN SKIFF' (N99P, Europe).
[[nodiscard]] std::string in_words(const GameId& game);

/// One line a file that changes, then notes and warnings; `explain`: every step with its reason instead.
/// Refusals are not among it: see report.
void print_plan(const Plan& plan, bool explain = false);

}  // namespace bayswap::cli
