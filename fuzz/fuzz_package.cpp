// Packages and parameter files of arbitrary bytes: read, checked, changed.
#include <bayswap/package.hpp>

#include <array>

#include "fuzz.hpp"
#include "package/fresh_package.hpp"

using namespace bayswap;
using fuzz::require;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  // The first byte chooses: the input alone, or a sound package with the input laid over its header and
  // tables, so that there is something to get wrong.
  const ByteView bytes(data + 1, size - 1);
  if (data[0] % 4 == 0) {
    if (auto parameters = ParameterFile::parse(bytes)) {
      (void)parameters->set("TITLE", std::string("x"));
      require(ParameterFile::parse(parameters->encode().view()).has_value());
    }
    (void)avatar_database_problem(bytes);
    (void)avatars_in(bytes);
    if (const auto package = BlockPackage::open(Blob::copy_of(bytes))) (void)package->check();
    return 0;
  }
  static const std::array<Blob, 2> sound = [] {
    std::array<Blob, 2> made;
    for (int copies = 1; copies <= 2; ++copies) {
      BlockPackage package = fresh_package({0x5A5A0993, 1, "x", "y", copies});
      (void)package.put("a/b", Blob::filled(9000, 7).view(), 0);
      made.at(static_cast<std::size_t>(copies - 1)) = package.image();
    }
    return made;
  }();
  const ByteView whole = sound[data[0] % 2].view();
  std::vector<Byte> image(whole.begin(), whole.end());
  for (std::size_t i = 0; i + 3 <= bytes.size() && i < 300; i += 3) {
    const std::size_t at = (bytes[i] & 1) != 0
                               ? 0x330 + bytes[i] / 2U
                               : 0xA000 + (bytes[i] * 256U + bytes[i + 1]) % (image.size() - 0xA000);
    image[at] = bytes[i + 2];
  }
  auto package = BlockPackage::open(Blob::copy_of(image));
  if (!package) return 0;
  for (const PackagedFile& file : package->files()) (void)package->read(file.path);
  if (data[0] % 4 == 1) {
    (void)package->check();
    return 0;
  }
  if (package->put("new/file", bytes.first(std::min<std::size_t>(bytes.size(), 5000)), 0))
    require(package->read("new/file").has_value());
  (void)package->drop("a/b");
  return 0;
}
