#include <bayswap/content.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_bytes_searched = std::size_t{16} << 20;

bool holds_text(ByteView bytes, std::string_view text) {
  const auto found = std::search(bytes.begin(), bytes.end(), text.begin(), text.end(),
                                 [](Byte b, char c) { return b == static_cast<Byte>(c); });
  return found != bytes.end();
}

bool is_filler(Byte byte) {
  return byte == 0x00 || byte == 0xff;
}

ByteView without_blank_tail(ByteView bytes) {
  while (!bytes.empty() && is_filler(bytes.back())) bytes = bytes.first(bytes.size() - 1);
  return bytes;
}

// Fields one after the other, each with its length, so that no two saves run together.
class Digester {
 public:
  void add(std::string_view text) { add(ByteView(reinterpret_cast<const Byte*>(text.data()), text.size())); }
  void add(ByteView bytes) {
    for (int i = 0; i < 8; ++i) all_.push_back(static_cast<Byte>(std::uint64_t{bytes.size()} >> (8 * i)));
    const Digest digest = sha256(bytes);
    all_.insert(all_.end(), digest.bytes.begin(), digest.bytes.end());
  }
  [[nodiscard]] Digest digest() const { return sha256(all_); }

 private:
  std::vector<Byte> all_;
};

void add_chips(const Save& save, Digester& digester) {
  std::vector<const Part*> parts;
  for (const Part& part : save.parts)
    if (part.role.kind != PartKind::rtc && !is_blank(part)) parts.push_back(&part);
  const auto number = [](const Part& part) {
    return part.role.kind == PartKind::pak ? std::max(part.role.number, 1) : part.role.number;
  };
  sort_by(parts, [&](const Part* part) { return std::pair(part->role.kind, number(*part)); });
  for (const Part* part : parts) {
    digester.add(to_text(Role{part->role.kind, number(*part)}));
    digester.add(without_blank_tail(part->bytes.view()));
  }
}

struct NamedBytes {
  std::string name;
  ByteView bytes;
};

void add_files(std::vector<NamedBytes> files, Digester& digester) {
  sort_by(files, &NamedBytes::name);
  for (const NamedBytes& file : files) {
    digester.add(file.name);
    digester.add(file.bytes);
  }
}

}  // namespace

bool Content::is_blank() const {
  switch (kind) {
    case Kind::chips:
      return chips.is_blank();
    case Kind::item:
      return !item || item->size_bytes() == 0;
    case Kind::encrypted:
      return !whole || whole->empty();
    case Kind::tree:
      return std::all_of(tree.begin(), tree.end(), [](const TreeFile& file) {
        Byte fill = 0x55;
        return file.bytes.empty() || (is_uniform(file.bytes.view(), &fill) && is_filler(fill));
      });
  }
  return true;
}

Digest digest_of(const Content& content) {
  Digester digester;
  switch (content.kind) {
    case Content::Kind::chips:
      add_chips(content.chips, digester);
      break;
    case Content::Kind::encrypted:
      if (content.whole) digester.add(content.whole->view());
      break;
    case Content::Kind::tree: {
      std::vector<NamedBytes> files;
      for (const TreeFile& file : content.tree) files.push_back({lower(file.path), file.bytes.view()});
      add_files(std::move(files), digester);
      break;
    }
    case Content::Kind::item: {
      if (!content.item) break;
      // A ps2 save is a folder, on its card as well as off it.
      std::vector<NamedBytes> files;
      for (const CardFile& file : content.item->files) files.push_back({lower(file.name), file.bytes.view()});
      if (files.empty()) {
        digester.add(content.item->name);
        digester.add(content.item->payload.view());
      }
      add_files(std::move(files), digester);
      break;
    }
  }
  return digester.digest();
}

Result<std::vector<TreeFile>> files_of(const BlockPackage& package) {
  std::vector<TreeFile> files;
  for (const PackagedFile& file : package.files()) {
    if (file.folder) continue;
    if (!is_safe_relative(file.path))
      return fail(ErrorCode::unsafe, fmt::format("the package has a file called '{}'", printable(file.path)),
                  "such a name can't be written; take what you need out of it by hand");
    BAYSWAP_TRY(Blob bytes, package.read(file.path));
    files.push_back({file.path, std::move(bytes), file.modified.value_or(0)});
  }
  return files;
}

Result<Content> restamped(const Content& content, const GameId& game, const std::string& folder_name,
                          std::vector<std::string>& notes, std::vector<std::string>& doubts) {
  Content out = content;
  out.game = game;
  if (content.item) {
    auto stamped = restamped(*content.item, game.region, game.code);
    if (!stamped) {
      Error error = std::move(stamped.error());
      error.code = ErrorCode::wrong_region;
      return tl::unexpected(std::move(error));
    }
    const std::string before = content.item->name;
    out.item = *std::move(stamped);
    notes.push_back(fmt::format("{} becomes {}", before, out.item->name));
    constexpr std::size_t code_bytes = 4;
    const CardKind kind = content.item->kind;
    if ((kind == CardKind::gc || kind == CardKind::n64) && game.code.size() == code_bytes)
      doubts.push_back(fmt::format(
          "the maker's code stays as it is ({}): a console compares it as well, and the "
          "game may have another one there",
          printable(to_utf8(out.item->entry.view().subspan(code_bytes, 2), TextEncoding::western))));
  }
  for (TreeFile& file : out.tree) {
    if (lower(file.path) != "param.sfo" || game.platform != Platform::psp) continue;
    BAYSWAP_TRY(ParameterFile parameters, ParameterFile::parse(file.bytes.view()));
    if (!parameters.text("SAVEDATA_DIRECTORY")) continue;
    BAYSWAP_CHECK(parameters.set("SAVEDATA_DIRECTORY", folder_name));
    file.bytes = parameters.encode();
    notes.push_back(fmt::format("{}: SAVEDATA_DIRECTORY is {}", file.path, folder_name));
    doubts.emplace_back(
        "the parameter file also holds a hash over itself that only a console can make, and that no longer "
        "fits: a "
        "console may refuse the save, emulators mostly take it");
  }
  const std::string& old = content.game.code;
  const auto search = [&](const std::string& where, const Blob& bytes) {
    if (old.size() >= 4 && old != game.code && bytes.size() <= max_bytes_searched &&
        holds_text(bytes.view(), old))
      doubts.push_back(fmt::format("{} still has the old code {} in it", where, old));
  };
  for (const TreeFile& file : out.tree)
    if (lower(file.path) != "param.sfo") search(file.path, file.bytes);
  if (out.item) search("the save's data", out.item->payload);
  if (out.kind == Content::Kind::encrypted && out.whole) search("the file", *out.whole);
  return out;
}

}  // namespace bayswap
