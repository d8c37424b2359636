// which_save FILE...: what is each of these files, and how do we know?
#include <bayswap/inspect.hpp>

#include <iostream>

int main(int argc, char** argv) {
  const bayswap::Catalog catalog;
  bayswap::LocalStore disk;
  for (int i = 1; i < argc; ++i) {
    const auto finding = bayswap::inspect_file(catalog, disk, argv[i]);
    if (!finding) {
      std::cerr << finding.error().message << "\n";
      return 1;
    }
    std::cout << argv[i] << ": " << bayswap::to_text(finding->kind);
    if (finding->layout != nullptr) std::cout << ", " << finding->layout->id;
    if (finding->game) std::cout << ", '" << finding->game->title << "'";
    std::cout << "\n";
    for (const std::string& sentence : finding->evidence) std::cout << "  " << sentence << "\n";
  }
}
