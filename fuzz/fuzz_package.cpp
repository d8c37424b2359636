// Packages and parameter files of arbitrary bytes: read, checked, changed.
#include <bayswap/package.hpp>

#include "fuzz.hpp"
#include "package/fresh_package.hpp"

using namespace bayswap;
using fuzz::require;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const ByteView bytes(data, size);
  if (auto parameters = ParameterFile::parse(bytes)) {
    (void)parameters->set("TITLE", std::string("x"));
    require(ParameterFile::parse(parameters->encode().view()).has_value());
  }
  (void)avatar_database_problem(bytes);
  (void)avatars_in(bytes);
  // A sound package with the input written over its header and tables, so that there is something to get
  // wrong.
  static const Blob sound = [] {
    BlockPackage package = fresh_package({0x5A5A0993, 1, "x", "y", 2});
    (void)package.put("a/b", Blob::filled(9000, 7).view(), 0);
    return package.image();
  }();
  std::vector<Byte> image(sound.view().begin(), sound.view().end());
  for (std::size_t i = 0; i + 3 <= size && i < 300; i += 3) {
    const std::size_t at =
        (data[i] & 1) != 0 ? 0x330 + data[i] / 2 : 0xA000 + (data[i + 1] * 37U) % (image.size() - 0xA000);
    image[at] = data[i + 2];
  }
  for (const Blob& whole : {Blob::copy_of(image), Blob::copy_of(bytes)}) {
    auto package = BlockPackage::open(whole);
    if (!package) continue;
    for (const PackagedFile& file : package->files()) (void)package->read(file.path);
    (void)package->check();
    if (package->put("new/file", bytes.first(std::min<std::size_t>(size, 5000)), 0))
      require(package->read("new/file").has_value());
    (void)package->drop("a/b");
  }
  return 0;
}
