#include "cli/output.hpp"

#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <ctime>

#include "base/text.hpp"

namespace bayswap::cli {
namespace {

// What goes to stdout as JSON.
struct JsonOutput {
  bool is_wanted = false;
  bool is_printed = false;  // in pieces, or as it was the last time
  std::optional<Json> document;
  std::optional<Error> error;
};
volatile std::sig_atomic_t is_document_begun = 0;

JsonOutput& json_output() {
  static JsonOutput output;
  return output;
}

bool is_dumb() {
  const char* const term = std::getenv("TERM");
  return term != nullptr && std::string_view(term) == "dumb";
}

bool wants_colour() {
  static const bool wants = isatty(STDOUT_FILENO) == 1 && std::getenv("NO_COLOR") == nullptr && !is_dumb();
  return wants;
}

std::size_t width_of(int handle) {
  winsize size{};
  if (isatty(handle) == 1 && ioctl(handle, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40) return size.ws_col;
  return 0;
}

std::size_t terminal_width() {
  const std::size_t columns = width_of(STDOUT_FILENO);
  return columns == 0 ? 100 : columns;
}

// Lines of at most so many columns, folded at spaces; those after the first are indented. 0: as it is.
std::string folded(std::string_view text, std::size_t columns, std::string_view indent) {
  if (columns == 0 || width(text) <= columns) return std::string(text);
  std::string out;
  std::size_t used = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t space = std::min(text.find(' ', at), text.size());
    const std::string_view word = text.substr(at, space - at);
    if (used > 0 && used + 1 + width(word) > columns) {
      out += '\n';
      out += indent;
      used = indent.size();
    } else if (at > 0) {
      out += ' ';
      ++used;
    }
    out += word;
    used += width(word);
    at = space + 1;
  }
  return out;
}

std::string in_tone(Tone tone, const std::string& text) {
  switch (tone) {
    case Tone::plain:
      return text;
    case Tone::bold:
      return "\x1b[1m" + text + "\x1b[0m";
    case Tone::dim:
      return "\x1b[2m" + text + "\x1b[0m";
    case Tone::good:
      return "\x1b[32m" + text + "\x1b[0m";
    case Tone::warn:
      return "\x1b[33m" + text + "\x1b[0m";
    case Tone::bad:
      return "\x1b[1;31m" + text + "\x1b[0m";
  }
  return text;
}

// Text for people on stderr.
void print_message(std::string_view text, Tone tone = Tone::plain) {
  static const bool has_colour =
      isatty(STDERR_FILENO) == 1 && std::getenv("NO_COLOR") == nullptr && !is_dumb();
  const std::string lines = folded(text, width_of(STDERR_FILENO), "  ");
  fmt::print(stderr, "{}\n", has_colour ? in_tone(tone, lines) : lines);
}

}  // namespace

std::string padded(const std::string& text, std::size_t columns, bool right) {
  const std::string space(columns > width(text) ? columns - width(text) : 0, ' ');
  return right ? space + text : text + space;
}

int exit_code(ErrorCode code) {
  switch (code) {
    case ErrorCode::bad_usage:
      return exit_usage;
    case ErrorCode::wrong_region:
    case ErrorCode::unsafe:
    case ErrorCode::busy:
      return exit_refused;
    case ErrorCode::not_recognised:
    case ErrorCode::damaged:
    case ErrorCode::does_not_fit:
    case ErrorCode::unsupported:
    case ErrorCode::not_found:
      return exit_input;
    case ErrorCode::io:
    case ErrorCode::cancelled:
      return exit_io;
  }
  return exit_io;
}

int report(const Error& error) {
  std::fflush(stdout);  // in the order things happened, also where both go to one file
  if (!json_output().error) json_output().error = error;
  const bool is_refusal = exit_code(error.code) == exit_refused;
  print_message("bayswap: " + printable(error.message), is_refusal ? Tone::warn : Tone::bad);
  const std::string hint = advice(error.hint, error.remedy);
  if (!hint.empty()) print_message("What to do: " + printable(hint));
  return exit_code(error.code);
}

int exit_code_of(const Result<int>& code) {
  return code ? *code : report(code.error());
}

int report(const PlanIssue& issue) {
  const bool acceptable = issue.level == PlanIssue::Level::refusal && is_acceptable(issue.code);
  return report({ErrorCode::unsafe, issue.text,
                 advice(issue.hint, issue.remedy, acceptable ? std::optional(issue.code) : std::nullopt)});
}

void say(bool quiet, const std::string& text) {
  if (quiet) return;
  std::fflush(stdout);
  for (std::size_t at = 0; at <= text.size();) {  // lines of ours; what files are called is made printable
    const std::size_t end = std::min(text.find('\n', at), text.size());
    print_message(printable(std::string_view(text).substr(at, end - at)));
    at = end + 1;
  }
}

std::string toned(Tone tone, const std::string& text) {
  return wants_colour() ? in_tone(tone, text) : text;
}

std::size_t help_width() {
  return terminal_width();
}

std::size_t table_width() {
  return isatty(STDOUT_FILENO) == 1 ? terminal_width() : 0;
}

bool document_has_begun() {
  return is_document_begun != 0;
}

void use_json() {
  json_output().is_wanted = true;
}

int end_output(int code) {
  JsonOutput& output = json_output();
  if (!output.is_wanted || output.is_printed) return code;
  Json document = output.document.value_or(Json(nullptr));
  if (!output.document && !output.error) document = {{"done", code == exit_done}};
  if (output.error && !output.document) document = {{"error", to_json(*output.error)}};
  if (output.error && document.is_object() && code != exit_done) document["error"] = to_json(*output.error);
  output.is_printed = true;
  const std::string text = json_text(document);
  is_document_begun = 1;
  fmt::print("{}", text);
  return code;
}

void print_field(std::string_view label, const std::string& text, Tone tone) {
  const std::string value = printable(text);
  constexpr std::size_t indent = 13;
  const std::size_t room = std::max<std::size_t>(30, terminal_width() - indent - 1);
  std::string line;
  bool first = true;
  const auto flush = [&] {
    fmt::print("  {}{}\n", toned(Tone::dim, padded(first ? std::string(label) : "", indent - 2, false)),
               toned(tone, line));
    first = false;
    line.clear();
  };
  std::size_t at = 0;
  while (at < value.size()) {
    const std::size_t space = std::min(value.find(' ', at), value.size());
    const std::string word = value.substr(at, space - at);
    if (!line.empty() && width(line) + 1 + width(word) > room) flush();
    line += (line.empty() ? "" : " ") + word;
    at = space + 1;
  }
  flush();
}

std::string json_text(const Json& json) {
  return json.text() + '\n';
}

void print_json(const Json& json) {
  JsonOutput& output = json_output();
  if (!output.document)
    output.document = json;
  else if (output.document->is_object())
    (*output.document)["followed_by"] = json;
}

void print_document(std::string_view text) {
  json_output().is_printed = true;
  is_document_begun = 1;
  std::fwrite(text.data(), 1, text.size(), stdout);
}

Json to_json(const Error& error) {
  return {{"code", to_text(error.code)},
          {"message", error.message},
          {"remedy", advice(error.hint, error.remedy)}};
}

Json to_json(const Plan& plan) {
  return plan_json(plan, advice);
}

std::string local_time(std::int64_t seconds) {
  const auto time = static_cast<std::time_t>(seconds);
  std::tm parts{};
  if (localtime_r(&time, &parts) == nullptr) return "?";
  std::array<char, 64> text{};
  return {text.data(), std::strftime(text.data(), text.size(), "%Y-%m-%d %H:%M", &parts)};
}

std::string in_words(const GameId& game) {
  std::string inside = game.code;
  if (inside.empty()) inside = game.title_id == 0 ? "no code" : title_id_text(game);
  if (game.region != Region::unknown) inside += fmt::format(", {}", name(game.region));
  if (game.revision > 0) inside += fmt::format(", revision {}", game.revision);
  return fmt::format("{} ({})", game.title.empty() ? "untitled" : game.title, inside);
}

}  // namespace bayswap::cli
