// The one place where the TOML library itself is compiled.

// Some of its assertions can be reached from a malformed file; an ordinary check follows each that
// reports an error. So they must neither stop the process nor, under NDEBUG, become promises to the compiler.
#undef NDEBUG
#define TOML_IMPLEMENTATION
#include "base/toml_library.hpp"
