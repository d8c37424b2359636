// split_save COMBINED FOLDER: writes every chip that holds something into a file of its own.
#include <bayswap/fs.hpp>
#include <bayswap/layout.hpp>

#include <iostream>
#include <string>

int main(int argc, char** argv) {
  if (argc != 3) {
    std::cerr << "usage: split_save COMBINED FOLDER\n";
    return 2;
  }
  const bayswap::Catalog catalog;
  bayswap::LocalStore disk;
  const auto split =
      disk.read(argv[1])
          .and_then([&](const bayswap::Blob& file) {
            return bayswap::unpack(**catalog.find("n64.combined"), file);
          })
          .and_then([&](const bayswap::Save& save) {
            return bayswap::convert(catalog, {{save}, *catalog.find("n64.separate"), nullptr, {}, 0});
          });
  if (!split) {
    std::cerr << split.error().message << "\n" << split.error().hint << "\n";
    return 1;
  }
  for (const bayswap::ConvertedFile& file : split->files) {
    const std::string path = std::string(argv[2]) + "/save" + bayswap::set_suffix(*file.layout, file.role);
    if (const auto made = disk.create(path, file.bytes.view()); !made) {
      std::cerr << made.error().message << "\n";
      return 1;
    }
    std::cout << path << ": " << file.bytes.size() << " bytes\n";
  }
}
