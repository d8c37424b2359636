#include "cli/program.hpp"

int main(int argc, char** argv) {
  return bayswap::cli::run_program(argc, argv);
}
