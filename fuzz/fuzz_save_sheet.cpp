// Sheets from arbitrary text, over arbitrary saves: refused with a message, or everything in the save is
// shown, checked, set to what it is (which changes nothing) and encrypted, within the save's own size.
#include <bayswap/sheet.hpp>

#include <algorithm>

#include "fuzz.hpp"

namespace {

void collect(const bayswap::SheetNode& node, std::vector<bayswap::SheetChange>& out) {
  for (const bayswap::SheetNode& one : node.children) collect(one, out);
  const bool is_value =
      node.kind != bayswap::SheetNode::Kind::record && node.kind != bayswap::SheetNode::Kind::array;
  if (is_value && node.problem.empty() && !node.is_derived && out.size() < 8)
    out.emplace_back(node.path, node.value);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  // The sheet, a zero, the save.
  const auto* middle = std::find(data, data + size, std::uint8_t{0});
  const std::string_view text(reinterpret_cast<const char*>(data), static_cast<std::size_t>(middle - data));
  const auto sheet = Sheet::parse(text, "input");
  if (!sheet) {
    fuzz::require(!sheet.error().message.empty());
    return 0;
  }
  std::vector<Byte> bytes(middle, data + size);
  bytes.resize(std::min<std::size_t>(bytes.size() + 1, 4096));
  const SheetSave save(*sheet, {{"sram", Blob::copy_of(bytes)}});
  (void)sheet->fit(std::nullopt, save.files());
  (void)save.findings("de");
  const auto node = save.show();
  fuzz::require(node.has_value());
  std::vector<SheetChange> same;
  collect(*node, same);
  const auto edit = save.change(same);
  if (edit && edit->changes.empty() && edit->recomputed.empty() && edit->notes.empty())
    fuzz::require(edit->files.front().bytes == save.files().front().bytes);
  for (const SheetChange& one : same) (void)save.change({{one.first, "1"}}, {"a"});
  const auto encrypted = save.recompute();
  if (encrypted) fuzz::require(encrypted->files.front().bytes.size() == bytes.size());
  for (const SheetNode& one : node->children)
    if (const auto record = save.take(one.path)) (void)save.put(one.path, *record);
  (void)differences(save, save);
  return 0;
}
