#include "cli/output.hpp"

#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <ctime>

#include "base/text.hpp"

namespace bayswap::cli {
namespace {

bool wants_colour() {
  static const bool wants = isatty(STDOUT_FILENO) == 1 && std::getenv("NO_COLOR") == nullptr;
  return wants;
}

std::size_t terminal_width() {
  winsize size{};
  if (isatty(STDOUT_FILENO) == 1 && ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40)
    return size.ws_col;
  return 100;
}

// Columns that UTF-8 text takes: one a character. Wide characters are rare in file names and only shift a
// table.
}  // namespace

std::size_t width(std::string_view text) {
  return static_cast<std::size_t>(
      std::ranges::count_if(text, [](char c) { return (static_cast<Byte>(c) & 0xc0) != 0x80; }));
}

namespace {

std::string padded(const std::string& text, std::size_t columns, bool right) {
  const std::string space(columns > width(text) ? columns - width(text) : 0, ' ');
  return right ? space + text : text + space;
}

std::string formatted_time(std::int64_t seconds, const char* format, bool local) {
  const auto time = static_cast<std::time_t>(seconds);
  std::tm parts{};
  if ((local ? localtime_r(&time, &parts) : gmtime_r(&time, &parts)) == nullptr) return "?";
  std::array<char, 64> text{};
  return {text.data(), std::strftime(text.data(), text.size(), format, &parts)};
}

Json strings(const std::vector<std::string>& texts) {
  return texts;
}

}  // namespace

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
      return exit_io;
  }
  return exit_io;
}

int report(const Error& error) {
  std::fflush(stdout);  // in the order things happened, also where both go to one file
  fmt::print(stderr, "bayswap: {}\n", printable(error.message));
  const std::string hint = advice(error.hint, error.remedy);
  if (!hint.empty()) fmt::print(stderr, "What to do: {}\n", printable(hint));
  return exit_code(error.code);
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
    fmt::print(stderr, "{}\n", printable(std::string_view(text).substr(at, end - at)));
    at = end + 1;
  }
}

std::string toned(Tone tone, const std::string& text) {
  if (!wants_colour()) return text;
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

std::size_t table_width() {
  return isatty(STDOUT_FILENO) == 1 ? terminal_width() : 0;
}

std::string table_text(const std::vector<std::string>& headings,
                       const std::vector<std::vector<std::string>>& rows,
                       const std::vector<std::size_t>& right) {
  std::vector<std::size_t> widths(headings.size());
  for (const auto& row : rows)
    for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], width(row[i]));
  // A column that nobody has anything to say in is left out.
  std::vector<std::size_t> columns;
  for (std::size_t i = 0; i < headings.size(); ++i) {
    if (widths[i] == 0 && !rows.empty()) continue;
    widths[i] = std::max(widths[i], width(headings[i]));
    columns.push_back(i);
  }
  const auto goes_right = [&](std::size_t i) { return std::ranges::find(right, i) != right.end(); };
  std::size_t total = columns.empty() ? 0 : 2 * (columns.size() - 1);
  for (const std::size_t i : columns) total += widths[i];
  // Too wide for the terminal: the last column, most often a path, gets a line of its own.
  constexpr std::string_view hanging_indent = "      ";
  const bool hangs =
      columns.size() > 1 && table_width() > 0 && total > table_width() && !goes_right(columns.back());
  std::string out;
  const auto line = [&](const std::vector<std::string>& cells, Tone tone) {
    std::string text;
    std::string hanging;
    for (const std::size_t i : columns) {
      if (i >= cells.size()) break;
      const std::string cell = printable(cells[i]);
      const bool last = i == columns.back();
      if (last && hangs) {
        hanging = cell;
        break;
      }
      text += last && !goes_right(i) ? cell : padded(cell, widths[i], goes_right(i));
      if (!last) text += "  ";
    }
    while (hangs && text.ends_with(' ')) text.pop_back();
    out += toned(tone, text) + '\n';
    if (!hanging.empty()) out += fmt::format("{}{}\n", hanging_indent, toned(Tone::dim, hanging));
  };
  line(headings, Tone::bold);
  for (const auto& row : rows) line(row, Tone::plain);
  return out;
}

void print_table(const std::vector<std::string>& headings, const std::vector<std::vector<std::string>>& rows,
                 const std::vector<std::size_t>& right) {
  fmt::print("{}", table_text(headings, rows, right));
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
  fmt::print("{}", json_text(json));
}

Json to_json(const GameId& game) {
  return {{"code", game.code},
          {"title", game.title},
          {"region", name(game.region)},
          {"revision", game.revision},
          {"title_id", title_id_text(game)}};
}

Json to_json(const Error& error) {
  return {
      {"code", to_text(error.code)}, {"message", error.message}, {"hint", advice(error.hint, error.remedy)}};
}

Json to_json(const Entry& entry) {
  Json changes = Json::array();
  for (const LoggedChange& change : entry.changes) {
    const auto side = [](const std::optional<Digest>& digest, std::uint64_t bytes) {
      return digest ? Json{{"size_bytes", bytes}, {"sha256", digest->hex()}} : Json(nullptr);
    };
    changes.push_back({{"path", change.path},
                       {"before", side(change.before, change.before_bytes)},
                       {"after", side(change.after, change.after_bytes)}});
  }
  return {{"id", entry.id},
          {"kind", to_text(entry.kind)},
          {"state", to_text(entry.state)},
          {"when", utc_time(entry.begun)},
          {"device", entry.device},
          {"imported", entry.imported},
          {"reason", entry.reason},
          {"account", entry.account},
          {"place", entry.place},
          {"slot", entry.slot == 0 ? Json(nullptr) : Json(entry.slot)},
          {"content", entry.content.empty() ? Json(nullptr) : Json(entry.content)},
          {"batch", entry.batch ? Json(*entry.batch) : Json(nullptr)},
          {"game", entry.game ? to_json(*entry.game) : Json(nullptr)},
          {"from", {{"bay", entry.from_bay}, {"files", strings(entry.from_paths)}}},
          {"to", {{"bay", entry.to_bay}}},
          {"undoes", entry.undoes ? Json(*entry.undoes) : Json(nullptr)},
          {"changes", std::move(changes)}};
}

Json to_json(const Plan& plan) {
  Json steps = Json::array();
  for (const Step& step : plan.steps)
    steps.push_back({{"action", step.action}, {"text", step.text}, {"why", step.why}});
  Json issues = Json::array();
  for (const PlanIssue& issue : plan.issues) {
    const bool refused = issue.level == PlanIssue::Level::refusal && is_acceptable(issue.code);
    issues.push_back(
        {{"level", to_text(issue.level)},
         {"code", to_text(issue.code)},
         {"text", issue.text},
         {"hint", advice(issue.hint, issue.remedy, refused ? std::optional(issue.code) : std::nullopt)},
         {"choices", strings(issue.remedy.values)}});
  }
  Json files = Json::array();
  for (const FileChange& change : plan.changes)
    files.push_back({{"path", change.path},
                     {"old_size_bytes", change.before ? Json(change.before->size()) : Json(nullptr)},
                     {"new_size_bytes", change.after ? Json(change.after->size()) : Json(nullptr)}});
  return {{"kind", to_text(plan.kind)},
          {"game", plan.game ? to_json(*plan.game) : Json(nullptr)},
          {"from", {{"bay", plan.from_bay}, {"files", strings(plan.from_files)}}},
          {"to", {{"bay", plan.to_bay}, {"files", std::move(files)}}},
          {"steps", std::move(steps)},
          {"issues", std::move(issues)},
          {"refused", plan.refusal() != nullptr}};
}

std::string local_time(std::int64_t seconds) {
  return formatted_time(seconds, "%Y-%m-%d %H:%M", true);
}
std::string utc_time(std::int64_t seconds) {
  return formatted_time(seconds, "%Y-%m-%dT%H:%M:%SZ", false);
}

std::string in_words(const GameId& game) {
  std::string inside = game.code;
  if (inside.empty()) inside = game.title_id == 0 ? "no code" : title_id_text(game);
  if (game.region != Region::unknown) inside += fmt::format(", {}", name(game.region));
  if (game.revision > 0) inside += fmt::format(", revision {}", game.revision);
  return fmt::format("{} ({})", game.title.empty() ? "untitled" : game.title, inside);
}

}  // namespace bayswap::cli
