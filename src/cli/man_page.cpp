#include "cli/man_page.hpp"

#include <fmt/format.h>
#include <bayswap/base.hpp>

#include "cli/help.hpp"

namespace bayswap::cli {
namespace {

// Text that troff takes for nothing else.
std::string escaped(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-')
      out += "\\-";
    else if (c == '\'')
      out += "\\(aq";
    else
      out += c;
  }
  if (out.starts_with('.')) out.insert(0, "\\&");
  return out;
}

std::string sentence(std::string_view text) {
  std::string out = escaped(text);
  if (!out.empty() && out.back() != '.') out += '.';
  return out;
}

// "-n, --dry-run", "--from PLACE", "WHAT".
std::string heading(const CLI::Option& option) {
  std::string names;
  for (const std::string& name : option.get_snames()) names += "\\fB\\-" + escaped(name) + "\\fR, ";
  for (const std::string& name : option.get_lnames()) names += "\\fB\\-\\-" + escaped(name) + "\\fR, ";
  if (names.empty()) return "\\fI" + escaped(option.get_name()) + "\\fR";
  names.resize(names.size() - 2);
  if (option.get_items_expected_max() > 0) names += " \\fI" + escaped(option.get_type_name()) + "\\fR";
  return names;
}

bool is_general(const CLI::Option& option) {
  for (const char* name : {"help", "json", "quiet", "home"})
    if (option.check_lname(name)) return true;
  return option.check_lname("version") && option.check_sname("V");
}

void write_options(const CLI::App& app, bool general, std::string& out) {
  for (const CLI::Option* option : app.get_options())
    if (is_general(*option) == general)
      out += fmt::format(".TP\n{}\n{}\n", heading(*option), sentence(option->get_description()));
}

void write_command(const CLI::App& app, const std::string& path, std::string& out) {
  const auto below = app.get_subcommands([](const CLI::App*) { return true; });
  std::string usage = "bayswap " + path;
  for (const CLI::Option* option : app.get_options())
    if (option->get_positional()) usage += " " + option->get_name();
  const bool is_group = !below.empty() && app.get_require_subcommand_min() > 0;
  if (!is_group && path != "help") {
    out += fmt::format(".SS \"{}\"\n{}\n", escaped(usage), sentence(app.get_description()));
    write_options(app, false, out);
    if (const std::string examples = examples_of(path); !examples.empty()) {
      out += ".PP\n.EX\n";
      std::string_view lines = std::string_view(examples).substr(examples.find('\n') + 1);
      for (std::size_t at = 0; at < lines.size();) {
        const std::size_t end = lines.find('\n', at);
        out += escaped(lines.substr(at, end - at)) + "\n";
        at = end + 1;
      }
      out += ".EE\n";
    }
  }
  for (const CLI::App* sub : below) write_command(*sub, path + " " + sub->get_name(), out);
}

void write_topic(std::string_view heading, std::string_view topic, std::string& out) {
  out += fmt::format(".SH {}\n.EX\n", heading);
  const std::string text = help_topic(topic);
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = text.find('\n', at);
    out += escaped(std::string_view(text).substr(at, end - at)) + "\n";
    at = end + 1;
  }
  out += ".EE\n";
}

}  // namespace

std::string man_page(const CLI::App& app) {
  std::string out = fmt::format(
      ".\\\" Made by scripts/man from the commands' own help; not to be edited.\n"
      ".TH BAYSWAP 1 \"\" \"Bay Swap {}\" \"User Commands\"\n"
      ".SH NAME\nbayswap \\- carry saves between emulators, consoles and cartridges\n"
      ".SH SYNOPSIS\n.B bayswap\n.I COMMAND\n.RI [ OPTION ...]\n"
      ".SH DESCRIPTION\n"
      "Bay Swap moves the saves of games from one place to another: it finds the save, keeps what is in the "
      "way, converts, "
      "names, places and verifies it, and takes everything back if it was wrong. Nothing is overwritten "
      "before its old bytes "
      "are kept, and a file is replaced whole or not at all.\n",
      version());
  out += ".SH OPTIONS OF EVERY COMMAND\n";
  write_options(app, true, out);
  out += ".SH COMMANDS\n";
  for (const CLI::App* sub : app.get_subcommands([](const CLI::App*) { return true; }))
    write_command(*sub, sub->get_name(), out);
  write_topic("PLACES", "places", out);
  write_topic("SAVES", "saves", out);
  write_topic("ISSUES", "accept", out);
  write_topic("REGIONS", "regions", out);
  write_topic("EXIT STATUS", "exit-codes", out);
  write_topic("JSON", "json", out);
  write_topic("ENVIRONMENT", "environment", out);
  out +=
      ".SH FILES\n.TP\n.I ~/.config/bayswap/\nBay files (bays/), layouts, state maps, sheets.\n"
      ".TP\n.I ~/.local/share/bayswap/\nThe logbook.\n"
      ".SH SEE ALSO\nThe guide, the cookbook and the formats of all files are in /usr/share/doc/bayswap and "
      "in the source tree.\n";
  return out;
}

}  // namespace bayswap::cli
