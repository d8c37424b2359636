#include <bayswap/base.hpp>

#include <unistd.h>

#include <csignal>
#include <cstdio>
#include <exception>
#include <new>
#include <string_view>
#include <system_error>

#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/program.hpp"

namespace {

volatile std::sig_atomic_t wants_json = 0;

// Files are replaced whole, so stopping at any point leaves each the old or the new one.
extern "C" void on_interrupt(int number) {
  constexpr std::string_view text =
      "\nbayswap: interrupted. Every file is either the old or the new one, whole.\n"
      "What to do: `bayswap logbook` shows what was done; run the same command again to go on.\n";
  [[maybe_unused]] auto written = write(STDERR_FILENO, text.data(), text.size());
  if (wants_json != 0 && !bayswap::cli::document_has_begun()) {
    constexpr std::string_view document =
        "{\n  \"error\": {\n    \"code\": \"interrupted\",\n    \"message\": \"interrupted\",\n    "
        "\"remedy\": "
        "\"run the same command again to go on\"\n  }\n}\n";
    written = write(STDOUT_FILENO, document.data(), document.size());
  }
  _exit(128 + number);
}

int failed(const char* what, const char* remedy) {
  std::fprintf(stderr, "bayswap: %s\nWhat to do: %s.\n", what, remedy);
  if (wants_json != 0 && !bayswap::cli::document_has_begun())
    std::printf(
        "{\n  \"error\": {\n    \"code\": \"io\",\n    \"message\": \"%s\",\n    \"remedy\": \"%s\"\n  "
        "}\n}\n",
        what, remedy);
  return 5;
}

}  // namespace

namespace bayswap::cli {

int run_program(int argc, char** argv) {
  if (argc == 2 && (std::string_view(argv[1]) == "--version" ||
                    std::string_view(argv[1]) == "-V")) {  // before anything is set up
    const std::string_view version = bayswap::version();
    std::printf("bayswap %.*s\n", static_cast<int>(version.size()), version.data());
    return std::fflush(stdout) == 0 ? 0 : 5;
  }
  for (int i = 1; i < argc; ++i)
    if (std::string_view(argv[i]) == "--json") wants_json = 1;
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
  std::signal(SIGXFSZ, SIG_IGN);  // a full quota is an error of write(2), not the end
  int code = 0;
  try {
    code = run_command_line(argc, argv);
  } catch (const std::bad_alloc&) {
    return failed("out of memory", "nothing was half-written; try again with less at once");
  } catch (const std::system_error&) {  // how the printing library tells of a failed write
    std::fprintf(stderr, "bayswap: the output could not be written\nWhat to do: check where it goes.\n");
    return 5;
  } catch (const std::exception& error) {
    std::fprintf(stderr, "bayswap: %s\n", error.what());
    return failed("an unexpected error", "nothing was half-written; try again with less at once");
  }
  if ((std::fflush(stdout) != 0 || std::ferror(stdout) != 0) && code == 0) {
    std::fprintf(stderr, "bayswap: the output could not be written\nWhat to do: check where it goes.\n");
    return 5;
  }
  return code;
}

}  // namespace bayswap::cli
