// copy_card FROM TO: a fresh card with all that a card has, whatever state it is in.
#include <bayswap/card.hpp>
#include <bayswap/fs.hpp>

#include <iostream>

int main(int argc, char** argv) {
  if (argc != 3) {
    std::cerr << "copy_card FROM TO\n";
    return 2;
  }
  bayswap::LocalStore disk;
  const auto file = disk.read(argv[1], std::size_t{80} << 20);
  if (!file) {
    std::cerr << file.error().message << "\n";
    return 1;
  }
  const auto rescue = bayswap::rescue_card(*file);
  if (!rescue) {
    std::cerr << rescue.error().message << "\n" << rescue.error().hint << "\n";
    return 1;
  }
  for (std::size_t i = 0; i < rescue->saves.size(); ++i) {
    const bayswap::FoundSave& found = rescue->saves[i];
    std::cout << (rescue->on_card[i] ? "copied  " : "left    ") << found.save.name << " ("
              << to_text(found.confidence) << (found.deleted ? ", deleted" : "") << ")\n";
    for (const std::string& note : found.notes) std::cout << "          " << note << "\n";
  }
  if (const auto made = disk.create(argv[2], rescue->card->image().view()); !made) {
    std::cerr << made.error().message << "\n" << made.error().hint << "\n";
    return 1;
  }
}
