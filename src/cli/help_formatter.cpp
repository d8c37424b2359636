#include "cli/help_formatter.hpp"

#include <algorithm>
#include <string>
#include <vector>

#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t left_column = 28;
constexpr std::size_t max_width = 100;

std::string two_columns(const std::string& left, const std::string& right) {
  const std::size_t columns = std::min(help_width(), max_width);
  std::string out = "  " + left;
  if (out.size() + 2 > left_column) out += "\n";
  std::string line = out.ends_with('\n') ? "" : out;
  if (!line.empty()) out.clear();
  line += std::string(left_column - line.size(), ' ');
  bool is_first = true;
  for (std::size_t at = 0; at < right.size();) {
    const std::size_t space = std::min(right.find(' ', at), right.size());
    const std::string word = right.substr(at, space - at);
    if (!is_first && width(line) + 1 + width(word) > columns) {
      out += line + "\n";
      line = std::string(left_column, ' ');
      is_first = true;
    }
    line += (is_first ? "" : " ") + word;
    is_first = false;
    at = space + 1;
  }
  return out + line + "\n";
}

}  // namespace

std::string HelpFormatter::make_option(const CLI::Option* option, bool is_positional) const {
  return two_columns(make_option_name(option, is_positional) + make_option_opts(option),
                     option->get_description());
}

std::string HelpFormatter::make_option_opts(const CLI::Option* option) const {
  if (option->get_type_size() == 0) return {};
  // A check adds a text of its own after a colon.
  const std::string type = option->get_type_name().substr(0, option->get_type_name().find(':'));
  const bool is_ours = !option->get_positional() && type != "TEXT" && type != "INT" && type != "UINT";
  const bool is_list =
      option->get_positional() && option->get_expected_max() >= CLI::detail::expected_max_vector_size;
  return (is_ours && !type.empty() ? " " + type : "") + (is_list ? " ..." : "");
}

std::string HelpFormatter::make_subcommand(const CLI::App* command) const {
  return two_columns(command->get_name(), command->get_description());
}

std::string HelpFormatter::make_subcommands(const CLI::App* app, CLI::AppFormatMode /*mode*/) const {
  const std::vector<const CLI::App*> commands = app->get_subcommands({});
  std::vector<std::string> groups;
  for (const CLI::App* command : commands)
    if (std::ranges::find(groups, command->get_group()) == groups.end())
      groups.push_back(command->get_group());
  std::stable_partition(groups.begin(), groups.end(),
                        [](const std::string& group) { return group != "More"; });
  std::string out;
  for (const std::string& group : groups) {
    out += "\n" + group + ":\n";
    for (const CLI::App* command : commands)
      if (command->get_group() == group) out += make_subcommand(command);
  }
  return out;
}

}  // namespace bayswap::cli
