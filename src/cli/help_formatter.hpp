// How help looks: two columns, folded to the terminal, without the parser's own words.
#pragma once

#include <CLI/CLI.hpp>

namespace bayswap::cli {

/// An option shows its names and what it takes, as we call that; whether it is needed is in the line of use.
class HelpFormatter final : public CLI::Formatter {
 public:
  [[nodiscard]] std::string make_option(const CLI::Option* option, bool is_positional) const override;
  [[nodiscard]] std::string make_option_opts(const CLI::Option* option) const override;
  [[nodiscard]] std::string make_subcommand(const CLI::App* command) const override;
  /// In their groups, the one called "More" last.
  [[nodiscard]] std::string make_subcommands(const CLI::App* app, CLI::AppFormatMode mode) const override;
};

}  // namespace bayswap::cli
