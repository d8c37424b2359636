// count_coins SHEET.toml SAVE VALUE...: what the values of a save are, and whether its checksums hold.
#include <bayswap/fs.hpp>
#include <bayswap/sheet.hpp>

#include <iostream>

int main(int argc, char** argv) {
  using namespace bayswap;
  if (argc < 4) {
    std::cerr << "count_coins SHEET.toml SAVE VALUE...\n";
    return 2;
  }
  LocalStore disk;
  const auto text = disk.read(argv[1]);
  const auto bytes = disk.read(argv[2]);
  if (!text || !bytes) {
    std::cerr << (text ? bytes.error().message : text.error().message) << '\n';
    return 1;
  }
  const auto sheet = Sheet::parse({reinterpret_cast<const char*>(text->data()), text->size()}, argv[1]);
  if (!sheet) {
    std::cerr << sheet.error().message << '\n';
    return 1;
  }
  const SheetSave save(*sheet, {{"sram", *bytes}});
  for (int i = 3; i < argc; ++i) {
    const auto node = save.show(argv[i]);
    std::cout << argv[i] << ": " << (node ? node->shown : node.error().message) << '\n';
  }
  const SheetVerdict verdict = save.verdict();
  for (const SheetFinding& finding : verdict.findings) std::cout << finding.text << '\n';
  return verdict.findings.empty() ? 0 : 1;
}
