// The program as a function, so that a test can call it in a process of its own.
#pragma once

namespace bayswap::cli {

/// Runs the command line from its first to its last word: sets up signals, runs the command, flushes the
/// output. Returns the exit code. Once a process, and from its main thread.
int run_program(int argc, char** argv);

}  // namespace bayswap::cli
