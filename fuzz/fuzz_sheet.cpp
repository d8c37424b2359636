// Sheets of discs' track files: whatever they say, nothing outside of their folder is named.
#include <bayswap/fs.hpp>

#include "base/path.hpp"
#include "fuzz.hpp"
#include "inspect/disc_sheet.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  MemoryStore store;
  for (const char* path : {"d/a.cue", "d/a.gdi", "d/a.m3u"}) {
    (void)store.replace(path, {data, size});
    const auto sheet = read_disc_sheet(store, path);
    fuzz::require(sheet.has_value());
    if (!*sheet) continue;
    fuzz::require(!(*sheet)->files.empty() && (*sheet)->files.size() <= 256);
    for (const std::string& file : (*sheet)->files)
      fuzz::require(is_safe_relative(file) && file.starts_with("d/"));
  }
  return 0;
}
