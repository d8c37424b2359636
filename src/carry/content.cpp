#include "carry/content.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_bytes_searched = std::size_t{16} << 20;

bool holds_text(ByteView bytes, std::string_view text) {
  const auto found = std::search(bytes.begin(), bytes.end(), text.begin(), text.end(),
                                 [](Byte b, char c) { return b == static_cast<Byte>(c); });
  return found != bytes.end();
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

}  // namespace

bool Content::is_blank() const {
  if (card) return card->size_bytes() == 0;
  if (tree.empty()) return !whole || whole->empty();
  return std::ranges::all_of(tree, [](const TreeFile& file) {
    Byte fill = 0x55;
    return file.bytes.empty() || (is_uniform(file.bytes.view(), &fill) && (fill == 0x00 || fill == 0xff));
  });
}

Result<Content> read_content(Store& store, const BaySave& save) {
  Content content;
  content.game = save.facts.game;
  const auto named = [&](Error error) {
    error.message = fmt::format("{}: {}", store.display_path(save.path), error.message);
    return tl::unexpected(std::move(error));
  };
  BAYSWAP_TRY(const auto info, store.stat(save.path));
  if (!info)
    return fail(ErrorCode::not_found, fmt::format("{} is gone", store.display_path(save.path)), "scan again");
  if (info->kind == FileInfo::Kind::folder) {
    BAYSWAP_TRY(content.tree, read_tree(store, save.path));
    return content;
  }
  BAYSWAP_TRY(const Blob bytes, store.read(save.path));
  switch (save.rule->keeping) {
    case Keeping::card: {
      auto card = open_card(bytes);
      if (!card) return named(std::move(card.error()));
      auto entry = (*card)->read(save.entry);
      if (!entry) return named(std::move(entry.error()));
      content.card = *std::move(entry);
      break;
    }
    case Keeping::single: {
      auto entry = single_save_from(bytes);
      if (!entry) return named(std::move(entry.error()));
      content.card = *std::move(entry);
      break;
    }
    case Keeping::package: {
      auto package = BlockPackage::open(bytes);
      if (!package) return named(std::move(package.error()));
      auto files = files_of(*package);
      if (!files) return named(std::move(files.error()));
      content.tree = *std::move(files);
      content.whole = bytes;
      break;
    }
    default:
      content.whole = bytes;
      break;
  }
  return content;
}

Result<Content> content_of_files(const std::vector<TreeFile>& files, const PlatformRule& rule,
                                 const std::string& name) {
  Content content;
  content.game.platform = rule.platform;
  const TreeFile* only = files.size() == 1 ? &files.front() : nullptr;
  switch (rule.keeping) {
    case Keeping::card:
    case Keeping::single: {
      if (only != nullptr) {
        if (auto save = single_save_from(only->bytes)) {
          content.card = *std::move(save);
          break;
        }
      }
      if (rule.platform != Platform::ps2)
        return fail(ErrorCode::not_recognised, "no single save that we know",
                    "for a whole card image, use `bayswap card copy`");
      std::vector<FolderFile> inside;
      inside.reserve(files.size());
      for (const TreeFile& file : files) inside.push_back({file.path, file.bytes, file.modified});
      BAYSWAP_TRY(content.card, folder_save(name, inside));
      break;
    }
    case Keeping::package:
      if (only != nullptr && BlockPackage::is_one(only->bytes.view())) {
        BAYSWAP_TRY(const BlockPackage package, BlockPackage::open(only->bytes));
        BAYSWAP_TRY(content.tree, files_of(package));
        content.whole = only->bytes;
        content.game.title_id = package.title_id();
        break;
      }
      content.tree = files;
      break;
    case Keeping::opaque:
    case Keeping::file:
      if (only == nullptr)
        return fail(ErrorCode::not_recognised, fmt::format("{} files, where the bay keeps one", files.size()),
                    "name the one that is the save");
      content.whole = only->bytes;
      break;
    case Keeping::folder:
      content.tree = files;
      break;
  }
  if (content.card) {
    const CardEntry entry = describe(*content.card);
    content.game.code = entry.code;
    content.game.region = entry.region;
    content.game.title = entry.title;
  }
  return content;
}

Result<Content> restamped(const Content& content, const GameId& game, const std::string& folder_name,
                          std::vector<std::string>& notes, std::vector<std::string>& doubts) {
  Content out = content;
  out.game = game;
  if (content.card) {
    auto stamped = restamped(*content.card, game.region);
    if (!stamped) {
      Error error = std::move(stamped.error());
      error.code = ErrorCode::wrong_region;
      return tl::unexpected(std::move(error));
    }
    out.card = *std::move(stamped);
    notes.push_back(fmt::format("directory name and code stamped for {}", name(game.region)));
  }
  for (TreeFile& file : out.tree) {
    if (lower(file.path) == "param.sfo" && game.platform == Platform::psp) {
      BAYSWAP_TRY(ParameterFile parameters, ParameterFile::parse(file.bytes.view()));
      if (parameters.text("SAVEDATA_DIRECTORY")) {
        BAYSWAP_CHECK(parameters.set("SAVEDATA_DIRECTORY", folder_name));
        file.bytes = parameters.encode();
        notes.push_back(fmt::format("{}: SAVEDATA_DIRECTORY is {}", file.path, folder_name));
        doubts.emplace_back(
            "the parameter file also holds a hash made with the console's own key, which is now another's: a "
            "console may "
            "refuse the save, emulators mostly take it");
      }
    }
  }
  const std::string& old = content.game.code;
  const auto search = [&](const std::string& where, const Blob& bytes) {
    if (old.size() >= 4 && old != game.code && bytes.size() <= max_bytes_searched &&
        holds_text(bytes.view(), old))
      doubts.push_back(fmt::format("{} still has the old code {} in it", where, old));
  };
  for (const TreeFile& file : out.tree)
    if (lower(file.path) != "param.sfo") search(file.path, file.bytes);
  if (out.card) search("the save's data", out.card->payload);
  if (out.whole && out.tree.empty()) search("the file", *out.whole);
  return out;
}

std::vector<KnownTree> known_trees(const std::vector<BaySave>& saves, Store& store) {
  std::vector<KnownTree> known;
  for (const BaySave& save : saves)
    if (const auto content = read_content(store, save); content && !content->tree.empty())
      known.push_back({&save, sketch_of(content->tree)});
  return known;
}

std::vector<Ranked> rank_by_likeness(const std::vector<TreeFile>& tree, const std::vector<KnownTree>& known) {
  std::vector<Ranked> ranked;
  ranked.reserve(known.size());
  const TreeSketch sketch = sketch_of(tree);
  for (const KnownTree& one : known) ranked.push_back({one.save, likeness(sketch, one.sketch)});
  std::ranges::stable_sort(ranked, std::greater<>{}, [](const Ranked& one) { return one.likeness.score; });
  return ranked;
}

}  // namespace bayswap
