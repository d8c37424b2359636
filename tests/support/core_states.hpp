// States that live cores wrote, with the battery saves of those moments.
#pragma once

#include <bayswap/state.hpp>

#include <map>

#include "support/core_files.hpp"

namespace bayswap::test {

// The states of one core, with the battery saves that its programs had written (tests/data/cores.tar.xz).
struct CoreStates {
  std::vector<StatePair> pairs;
  std::vector<std::string> paths;
};
inline Save battery_of(const std::string& path) {
  const bool snes = path.starts_with("snes");
  const bool cells = path.find("mbc2") != std::string::npos;
  const unsigned seed = path.find("/A/") != std::string::npos ? 0x31 : 0x52;
  std::vector<Byte> bytes(snes ? 8192 : cells ? 512 : 32768);
  for (unsigned i = 0; i < bytes.size(); ++i) {
    bytes[i] = static_cast<Byte>(i * 7 + (i >> 8) * 13 + seed);
    if (cells) bytes[i] |= 0xf0;  // the upper half reads as an open bus
  }
  return {snes ? Platform::snes : Platform::gb, {{{PartKind::sram, 0}, Blob::copy_of(bytes), true}}};
}
inline std::map<std::string, CoreStates> core_states() {
  std::map<std::string, CoreStates> cores;
  for (const auto& [path, file] : core_files().files()) {
    const bool is_state = path.find(".state") != std::string::npos ||
                          path.find(".ss1") != std::string::npos || path.find(".mc0") != std::string::npos ||
                          path.find(".sgm") != std::string::npos;
    if (!is_state || path.find("/N/") != std::string::npos) continue;
    CoreStates& core = cores[component(path, 2)];
    core.pairs.push_back({file.bytes, battery_of(path)});
    core.paths.push_back(path);
  }
  return cores;
}

}  // namespace bayswap::test
