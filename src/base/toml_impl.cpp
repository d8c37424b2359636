// The one place where the TOML library itself is compiled.
#define TOML_IMPLEMENTATION
#include "base/toml_reader.hpp"
