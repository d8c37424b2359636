#include <bayswap/infer.hpp>

#include "fuzz.hpp"

// A save, and a file that is more or less the same: what is learned from them brings the file back. The same
// pair then asks for the form of a base.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  if (size < 40) return 0;
  const std::size_t chip_size = std::size_t{8} << (data[0] % 10);
  const std::size_t given = std::min(chip_size, (size - 4) / 2);
  Buffer chip(chip_size);
  for (std::size_t i = 0; i < chip_size; ++i) chip.bytes()[i] = data[4 + i % given];
  const Blob part = std::move(chip).freeze();
  // The file: the part in some order somewhere, or just the rest of the input.
  const ByteView rest(data + 4 + given, size - 4 - given);
  std::vector<Byte> file(rest.begin(), rest.end());
  if (data[1] % 4 != 0) {
    const std::size_t mask = std::size_t{1} << (data[1] % 4) >> 1;
    const std::size_t at = rest.empty() ? 0 : data[2] % rest.size();
    std::vector<Byte> turned(chip_size);
    for (std::size_t i = 0; i < chip_size; ++i) turned[i] = part.view()[i ^ (mask == 0 ? 0 : 2 * mask - 1)];
    file.insert(file.begin() + static_cast<std::ptrdiff_t>(at), turned.begin(), turned.end());
  }
  Blob made = Blob::copy_of(file);
  if (data[3] % 5 == 1) made = wrap(Compression::zlib, made);
  if (data[3] % 5 == 2) made = wrap(Compression::gzip, made);
  const Save save{Platform::snes, {{{PartKind::sram, 0}, part, true}}};
  const auto learned = infer({{save, made}}, "snes.fuzz");
  if (learned) {
    const auto again = parse_layout(to_toml(learned->layout), "again");
    fuzz::require(again.has_value());
    fuzz::require(open_save(*again, made).has_value());
  } else {
    fuzz::require(!learned.error().message.empty() && !learned.error().hint.empty());
  }
  static const Catalog catalog;
  if (const auto form = detect_layout(catalog, {save}, made)) {
    ConvertRequest request;
    request.inputs = {save};
    request.to = &form->layout;
    request.base = &made;
    (void)convert(catalog, request);
  }
  return 0;
}
