// out_of_a_state STATE PLATFORM FILE: the battery save that is in a save state, by a map or by search.
#include <bayswap/state.hpp>

#include <bayswap/fs.hpp>

#include <iostream>

int main(int argc, char** argv) {
  const auto platform = argc == 4 ? bayswap::platform_from_tag(argv[2]) : std::nullopt;
  if (!platform) {
    std::cerr << "usage: out_of_a_state STATE PLATFORM FILE\n";
    return 2;
  }
  bayswap::LocalStore disk;
  auto bytes = disk.read(argv[1], bayswap::max_state_bytes);
  if (!bytes) {
    std::cerr << bytes.error().message << "\n";
    return 1;
  }
  const bayswap::Catalog catalog;
  const bayswap::StateMaps maps;
  bayswap::BatterySearch what;
  what.platform = platform;
  what.maps = &maps;
  const bayswap::StateFile state(*std::move(bytes));
  const auto look = bayswap::look_at_state(maps, state, platform, {});
  std::optional<bayswap::Save> save = look.save;
  if (!save) {
    const auto finds = bayswap::find_batteries(catalog, state, what);
    for (const auto& place : finds.candidates) {
      std::cout << static_cast<int>(place.score * 100) << " %: " << place.evidence.front() << "\n";
      if (place.certain) save = place.save;
    }
  }
  if (!save) {
    std::cerr << "no place is certain\n";
    return 1;
  }
  const auto done = disk.create(argv[3], save->parts.front().bytes.view());
  if (!done) std::cerr << done.error().message << "\n";
  return done ? 0 : 1;
}
