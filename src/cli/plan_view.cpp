// Plans and remedies in words.
#include <algorithm>

#include "base/text.hpp"
#include "cli/look_view.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

// As a shell takes it for one word.
std::string shell_quoted(const std::string& text) {
  std::string quoted = "'";
  for (const char c : text) quoted += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return quoted + "'";
}

std::vector<std::string>& options_of_command() {
  static std::vector<std::string> names;
  return names;
}

// Whether the command has the options in the text; those of commands in quotes are those commands' own.
bool can_be_passed(std::string_view text) {
  const auto& known = options_of_command();
  if (known.empty()) return true;
  bool is_quoted = false;
  for (std::size_t at = 0; at < text.size(); ++at) {
    if (text[at] == '`') is_quoted = !is_quoted;
    if (is_quoted || !text.substr(at).starts_with("--")) continue;
    std::size_t end = at + 2;
    while (end < text.size() && ((text[end] >= 'a' && text[end] <= 'z') || text[end] == '-')) ++end;
    if (std::ranges::find(known, text.substr(at + 2, end - at - 2)) == known.end()) return false;
    at = end;
  }
  return true;
}

}  // namespace

void set_options_of_command(std::vector<std::string> names) {
  options_of_command() = std::move(names);
}

std::string advice(const std::string& hint, const Remedy& remedy, std::optional<IssueCode> acceptable) {
  std::string words = hint;
  const auto add = [&](const std::string& more) {
    if (!can_be_passed(more)) return;
    words += (words.empty() ? "" : words.ends_with('?') ? " " : "; ") + more;
  };
  const std::vector<std::string>& values = remedy.values;
  const std::string first = values.empty() ? "" : values.front();
  switch (remedy.kind) {
    case Remedy::Kind::none:
      break;
    case Remedy::Kind::accept:
      add("--accept " + first + " goes on all the same");
      break;
    case Remedy::Kind::region:
      add("--region " + first + " restamps it");
      break;
    case Remedy::Kind::account: {
      const std::string theirs = values.size() > 1 ? values[1] : "NAME";
      add(first.empty() ? fmt::format("--account {}", theirs)
                        : fmt::format("--account {}={}", first, theirs));
      break;
    }
    case Remedy::Kind::save: {
      std::vector<std::string> quoted;
      quoted.reserve(values.size());
      for (const std::string& value : values) quoted.push_back(shell_quoted(value));
      if (quoted.size() > 12) quoted.resize(12);
      add("type one of " + joined(quoted, ", "));
      break;
    }
    case Remedy::Kind::rom:
      if (values.empty()) {
        add("name it with --rom");
        break;
      }
      for (std::size_t i = 0; i < std::min<std::size_t>(values.size(), 12); ++i)
        add((i == 0 ? "--rom " : "or --rom ") + shell_quoted(values[i]));
      break;
    case Remedy::Kind::companions:
      add("--companions replaces it with the source's");
      break;
    case Remedy::Kind::leave_out:
      add(fmt::format("leave out --{}", first));
      break;
    case Remedy::Kind::replace:
      add("or pass --replace");
      break;
    case Remedy::Kind::chip:
      add("--chip KIND=BYTES says it");
      break;
    case Remedy::Kind::source_layout:
      add("--from LAYOUT names it");
      break;
    case Remedy::Kind::target_layout:
      add("--to LAYOUT names it, --base FILE shows it, `bayswap infer A B` learns it");
      break;
    case Remedy::Kind::slot:
      add(fmt::format("e.g. --slot {}", remedy.values.empty() ? "1" : remedy.values.front()));
      break;
    case Remedy::Kind::kind:
      add("--kind KIND says it");
      break;
    case Remedy::Kind::home:
      add("--home DIR names one");
      break;
    case Remedy::Kind::inspect:
      add("`bayswap inspect FILE` shows what it is");
      break;
    case Remedy::Kind::undelete:
      add("`bayswap card undelete` brings it back");
      break;
    case Remedy::Kind::code:
      add("--code CODE says it, or --rom FILE shows it");
      break;
    case Remedy::Kind::rescue_card:
      add("`bayswap card rescue` puts what is left on a fresh card");
      break;
    case Remedy::Kind::resume_cart:
      add(fmt::format("`bayswap cart write --resume` goes on, `bayswap undo {}` puts the old bytes back",
                      joined(remedy.values, " ")));
      break;
    case Remedy::Kind::from_state:
      add("`bayswap carry GAME --from-state` does, `bayswap state export` puts it into a file");
      break;
    case Remedy::Kind::join_sync_folder:
      add(fmt::format("`bayswap sync join {}` does", remedy.values.empty() ? "URL" : remedy.values.front()));
      break;
    case Remedy::Kind::enter_passphrase:
      add("`bayswap sync key enter` asks for it");
      break;
    case Remedy::Kind::list_card:
      add("`bayswap card list` shows what there is");
      break;
    case Remedy::Kind::list_layouts:
      add("`bayswap layouts` lists them all");
      break;
    case Remedy::Kind::list_bays:
      add("`bayswap bay list` shows them, `bayswap bay add` makes one");
      break;
    case Remedy::Kind::scan_bay:
      add(fmt::format("`bayswap list {}` shows the saves there are", shell_word(first)));
      break;
    case Remedy::Kind::show_logbook:
      add("`bayswap logbook` shows them all");
      break;
    case Remedy::Kind::check_logbook:
      add("`bayswap logbook check` looks what is wrong");
      break;
    case Remedy::Kind::import_logbook:
      add("`bayswap logbook import DIR` brings it back from there");
      break;
    case Remedy::Kind::undo:
      add(fmt::format("`bayswap undo {}` puts them back", first));
      break;
    case Remedy::Kind::repair_card:
      add(fmt::format("`bayswap card check {} --repair` repairs it", shell_word(first)));
      break;
  }
  if (acceptable) add(fmt::format("or pass --accept {}", to_text(*acceptable)));
  return words;
}

namespace {

void print_steps(const Plan& plan) {
  std::string last;
  for (const Step& step : plan.steps) {
    const std::string why = step.why.empty() ? "" : fmt::format(" -- {}", step.why);
    print_field(step.action == last ? "" : step.action, step.text + why);
    last = step.action;
  }
}

// One line a file: old, new, how.
void print_changes(const Plan& plan) {
  std::vector<std::string> how;
  const auto also = [&how](const std::string& text) {
    if (std::ranges::find(how, text) == how.end()) how.push_back(text);
  };
  for (const Step& step : plan.steps) {
    if (step.action == "convert" && step.text.find(" to ") != std::string::npos && !step.why.empty())
      also(step.text);
    if (step.action == "restamp" || step.action == "account" || step.action == "found") also(step.text);
    if (step.action == "add" || step.action == "replace") print_field(step.action, step.text);
  }
  for (const FileChange& change : plan.changes) {
    const std::string size =
        !change.after   ? fmt::format("{} bytes go", change.before->size())
        : change.before ? fmt::format("{} bytes, were {}", change.after->size(), change.before->size())
                        : fmt::format("{} bytes", change.after->size());
    const std::string conversion =
        plan.changes.size() == 1 && !how.empty() ? fmt::format(", {}", joined(how, "; ")) : "";
    print_field(!change.after   ? "remove"
                : change.before ? "replace"
                                : "new",
                fmt::format("{} ({}{})", change.path, size, conversion));
  }
  if (plan.changes.size() > 1 && !how.empty()) print_field("how", joined(how, "; "));
}

}  // namespace

void print_plan(const Plan& plan, bool explain) {
  // A file from outside is carried, too.
  std::string heading =
      std::string(to_text(plan.kind == EntryKind::carry_file ? EntryKind::carry : plan.kind));
  if (plan.game) heading += fmt::format(" {}", in_words(*plan.game));
  if (plan.kind == EntryKind::undo || plan.kind == EntryKind::restore) heading = plan.reason;
  if (plan.kind == EntryKind::carry && plan.from_bay == plan.to_bay)
    heading = plan.reason;
  else if (plan.kind == EntryKind::carry)
    heading += fmt::format(" from {} to {}", plan.from_bay, plan.to_bay);
  fmt::print("{}\n", toned(Tone::bold, printable(heading)));
  explain ? print_steps(plan) : print_changes(plan);
  for (const auto level : {PlanIssue::Level::note, PlanIssue::Level::warning})
    for (const PlanIssue& issue : plan.issues)
      if (issue.level == level) {
        const std::string hint = advice(issue.hint, issue.remedy);
        print_field(to_text(level), issue.text + (hint.empty() ? "" : "; " + hint),
                    level == PlanIssue::Level::warning ? Tone::warn : Tone::dim);
      }
}

}  // namespace bayswap::cli
