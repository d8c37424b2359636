#include "logbook/record.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::string_view records_folder = "records";
constexpr std::int64_t max_id = std::int64_t{1} << 53;
constexpr int first_kind = static_cast<int>(EntryKind::carry);
constexpr int last_kind = static_cast<int>(EntryKind::sync);

std::string record_path(std::int64_t id) {
  return fmt::format("{}/{:010}.toml", records_folder, id);
}

std::optional<EntryKind> kind_from_text(std::string_view text) {
  // What records were written with before; the bytes that they keep are as good as ever.
  if (text == "keep") return EntryKind::backup;
  if (text == "adopt") return EntryKind::carry_file;
  for (int i = first_kind; i <= last_kind; ++i)
    if (to_text(static_cast<EntryKind>(i)) == text) return static_cast<EntryKind>(i);
  return std::nullopt;
}

// May be empty, as a code or a bay's name is at times.
Result<std::string> plain_text(TableReader& reader, std::string_view key) {
  BAYSWAP_TRY(auto text, reader.text(key));
  return std::move(text).value_or("");
}

Result<std::optional<Digest>> digest_of(TableReader& reader, std::string_view key) {
  BAYSWAP_TRY(const auto text, reader.text(key));
  if (!text) return std::nullopt;
  return digest_from_hex(*text);
}

// Texts that older records do not have.
template <class AnEntry>
auto texts_of(AnEntry& entry) {
  return std::array{std::pair{std::string_view("machine"), &entry.machine},
                    std::pair{std::string_view("root"), &entry.root},
                    std::pair{std::string_view("account"), &entry.account},
                    std::pair{std::string_view("place"), &entry.place},
                    std::pair{std::string_view("content"), &entry.content}};
}

// A path that any system could have written down: whole, without detours. What it may lead to is asked when
// it is used.
bool is_plain_path(const std::string& path) {
  return path.find('\0') == std::string::npos && normalized(path) == path && path != ".." && path != "/" &&
         !path.starts_with("../");
}

}  // namespace

std::string record_text(const Entry& entry) {
  std::string out =
      fmt::format("id = {}\nkind = \"{}\"\nbegun = {}\ndevice = {}\nreason = {}\n", entry.id,
                  to_text(entry.kind), entry.begun, toml_quoted(entry.device), toml_quoted(entry.reason));
  if (entry.state == EntryState::cut_short) out += "cut_short = 1\n";
  out += fmt::format("from_bay = {}\nto_bay = {}\n", toml_quoted(entry.from_bay), toml_quoted(entry.to_bay));
  if (entry.undoes) out += fmt::format("undoes = {}\n", *entry.undoes);
  if (entry.batch) out += fmt::format("batch = {}\n", *entry.batch);
  if (entry.imported) out += "imported = 1\n";
  if (entry.slot != 0) out += fmt::format("slot = {}\n", entry.slot);
  for (const auto& [key, text] : texts_of(entry))
    if (!text->empty()) out += fmt::format("{} = {}\n", key, toml_quoted(*text));
  for (std::size_t i = 0; i < entry.from_paths.size(); ++i)
    out += (i == 0 ? "from = [" : ", ") + toml_quoted(entry.from_paths[i]);
  if (!entry.from_paths.empty()) out += "]\n";
  for (std::size_t i = 0; i < entry.made_folders.size(); ++i)
    out += (i == 0 ? "made_folders = [" : ", ") + toml_quoted(entry.made_folders[i]);
  if (!entry.made_folders.empty()) out += "]\n";
  if (entry.game)
    out += fmt::format("\n[game]\nplatform = {}\ncode = {}\ntitle = {}\nregion = {}\nrevision = {}\n",
                       toml_quoted(tag(entry.game->platform)), toml_quoted(entry.game->code),
                       toml_quoted(entry.game->title), toml_quoted(name(entry.game->region)),
                       entry.game->revision);
  if (entry.game && entry.game->title_id != 0)
    out += fmt::format("title_id = \"{:016X}\"\n", entry.game->title_id);
  if (entry.game && !entry.game->maker.empty())
    out += fmt::format("maker = {}\n", toml_quoted(entry.game->maker));
  for (const LoggedChange& change : entry.changes) {
    out += fmt::format("\n[[change]]\npath = {}\n", toml_quoted(change.path));
    if (change.before)
      out += fmt::format("before = \"{}\"\nbefore_bytes = {}\n", change.before->hex(), change.before_bytes);
    if (change.before_modified) out += fmt::format("before_modified = {}\n", *change.before_modified);
    if (change.after)
      out += fmt::format("after = \"{}\"\nafter_bytes = {}\n", change.after->hex(), change.after_bytes);
    if (change.after_modified) out += fmt::format("after_modified = {}\n", *change.after_modified);
  }
  return out;
}

Result<Entry> entry_from_record(std::string_view text, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(text, origin, max_record_size_bytes));
  TableReader reader(root, origin);
  Entry entry;
  BAYSWAP_TRY(const auto id, reader.integer("id"));
  BAYSWAP_TRY(const auto begun, reader.integer("begun"));
  BAYSWAP_TRY(const auto kind_text, reader.needed_text("kind"));
  const auto kind = kind_from_text(kind_text);
  if (!id || *id <= 0 || *id >= max_id || !begun || !kind)
    return reader.error("id", "id, kind or begun make no sense");
  entry.id = *id;
  entry.kind = *kind;
  entry.begun = *begun;
  BAYSWAP_TRY(const auto cut_short, reader.integer("cut_short"));
  entry.state = cut_short ? EntryState::cut_short : EntryState::done;
  BAYSWAP_TRY(entry.device, plain_text(reader, "device"));
  BAYSWAP_TRY(entry.reason, plain_text(reader, "reason"));
  BAYSWAP_TRY(entry.from_bay, plain_text(reader, "from_bay"));
  BAYSWAP_TRY(entry.to_bay, plain_text(reader, "to_bay"));
  BAYSWAP_TRY(entry.undoes, reader.integer("undoes"));
  BAYSWAP_TRY(entry.batch, reader.integer("batch"));
  BAYSWAP_TRY(const auto imported, reader.integer("imported"));
  entry.imported = imported.value_or(0) != 0;
  BAYSWAP_TRY(const auto slot, reader.integer("slot"));
  entry.slot = static_cast<int>(std::clamp<std::int64_t>(slot.value_or(0), 0, 9999));
  for (const auto& [key, to] : texts_of(entry)) {
    BAYSWAP_TRY(*to, plain_text(reader, key));
  }
  BAYSWAP_TRY(auto from, reader.texts("from"));
  if (from) entry.from_paths = *std::move(from);
  BAYSWAP_TRY(auto made, reader.texts("made_folders"));
  for (const std::string& path : made.value_or(std::vector<std::string>{}))
    if (path.starts_with('/') && is_plain_path(path)) entry.made_folders.push_back(path);
  BAYSWAP_TRY(auto game, reader.table("game"));
  if (game) {
    BAYSWAP_TRY(const auto platform, game->needed_text("platform"));
    const auto known = platform_from_tag(platform);
    if (!known) return game->error("platform", "unknown platform");
    entry.game.emplace();
    entry.game->platform = *known;
    BAYSWAP_TRY(entry.game->code, plain_text(*game, "code"));
    BAYSWAP_TRY(entry.game->title, plain_text(*game, "title"));
    BAYSWAP_TRY(const auto region, game->needed_text("region"));
    entry.game->region = region_from_text(region).value_or(Region::unknown);
    BAYSWAP_TRY(const auto revision, game->integer("revision"));
    entry.game->revision = static_cast<int>(std::clamp<std::int64_t>(revision.value_or(0), 0, 255));
    BAYSWAP_TRY(const std::string title_id, plain_text(*game, "title_id"));
    std::from_chars(title_id.data(), title_id.data() + title_id.size(), entry.game->title_id, 16);
    BAYSWAP_TRY(entry.game->maker, plain_text(*game, "maker"));
    BAYSWAP_CHECK(game->no_other_keys());
  }
  BAYSWAP_TRY(auto changes, reader.tables("change"));
  for (TableReader& table : changes) {
    LoggedChange change;
    BAYSWAP_TRY(change.path, table.needed_text("path"));
    if (!is_plain_path(change.path)) return table.error("path", "the path has detours in it");
    BAYSWAP_TRY(change.before, digest_of(table, "before"));
    BAYSWAP_TRY(change.after, digest_of(table, "after"));
    BAYSWAP_TRY(const auto before_bytes, table.integer("before_bytes"));
    BAYSWAP_TRY(const auto after_bytes, table.integer("after_bytes"));
    BAYSWAP_TRY(change.before_modified, table.integer("before_modified"));
    BAYSWAP_TRY(change.after_modified, table.integer("after_modified"));
    change.before_bytes = static_cast<std::uint64_t>(before_bytes.value_or(0));
    change.after_bytes = static_cast<std::uint64_t>(after_bytes.value_or(0));
    BAYSWAP_CHECK(table.no_other_keys());
    entry.changes.push_back(std::move(change));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return entry;
}

Result<void> write_record(Store& store, const Entry& entry) {
  const std::string text = record_text(entry);
  return store.replace(record_path(entry.id), {reinterpret_cast<const Byte*>(text.data()), text.size()});
}

Result<void> create_records(Store& store, const std::vector<Entry>& entries) {
  std::vector<FileChange> files;
  files.reserve(entries.size());
  for (const Entry& entry : entries) {
    const std::string text = record_text(entry);
    files.push_back({record_path(entry.id), std::nullopt,
                     Blob::copy_of({reinterpret_cast<const Byte*>(text.data()), text.size()})});
  }
  if (files.size() == 1) return store.create(files.front().path, files.front().after->view());
  std::vector<bool> placed;
  auto created = store.apply(files, placed);
  if (created) return {};
  for (std::size_t i = 0; i < files.size(); ++i)
    if (i < placed.size() && placed[i]) (void)store.remove(files[i].path);
  return created;
}

Result<std::int64_t> highest_record(Store& store) {
  std::int64_t highest = 0;
  BAYSWAP_TRY(const auto there, store.stat(std::string(records_folder)));
  if (!there) return highest;
  BAYSWAP_TRY(const auto files, store.list(std::string(records_folder)));
  for (const FileInfo& file : files) {
    std::int64_t id = 0;
    const std::string_view stem = stem_of(file.name);
    if (std::from_chars(stem.data(), stem.data() + stem.size(), id).ec == std::errc{} && id < max_id)
      highest = std::max(highest, id);
  }
  return highest;
}

Result<void> remove_record(Store& store, std::int64_t id) {
  BAYSWAP_TRY(const auto there, store.stat(record_path(id)));
  return there ? store.remove(record_path(id)) : Result<void>{};
}

Result<std::vector<Entry>> read_records(Store& store, std::vector<std::string>& problems) {
  std::vector<Entry> entries;
  const std::string records(records_folder);
  BAYSWAP_TRY(const auto there, store.stat(records));
  if (!there) return entries;
  BAYSWAP_TRY(const auto files, store.list(records));
  for (const FileInfo& file : files) {
    if (file.kind != FileInfo::Kind::file || extension_of(file.name) != ".toml") continue;
    const std::string path = join_path(records, file.name);
    BAYSWAP_TRY(const Blob text, store.read(path, max_record_size_bytes + 1));
    auto entry = entry_from_record({reinterpret_cast<const char*>(text.data()), text.size()},
                                   store.display_path(path));
    if (!entry) {
      problems.push_back(fmt::format("the record of an entry is damaged: {}", entry.error().message));
    } else if (record_path(entry->id) != path) {
      problems.push_back(fmt::format("{} is the record of entry {}", store.display_path(path), entry->id));
    } else {
      entries.push_back(*std::move(entry));
    }
  }
  sort_by(entries, &Entry::id);
  return entries;
}

}  // namespace bayswap
